"""`cferry demo`: a crossing there and back on a made-up computer."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
from pathlib import Path

import click

from clever_ferry.cli.here import ferry_here
from clever_ferry.errors import FerryError, WrongUseError

__all__ = ["command"]

_TOUR: tuple[tuple[str, str], ...] = (
    ("What saves are on this computer?", "cferry look"),
    ("Which is which? Both sides have a Saltmarsh and a Heron Point.", "cferry slots saltglass"),
    (
        "Carry the Saltmarsh of day 31 from Tern Arcade to a free slot of Cobalt Depot.",
        "cferry cross saltglass/tern:2 saltglass/depot:5 --yes",
    ),
    ("Does the game itself load it, and play on?", "saltglass --store depot load --slot 5"),
    ("", "saltglass --store depot play --slot 5 --days 2"),
    (
        "Carry it back, over the older day 31. What is there is backed up.",
        "cferry cross saltglass/depot:5 saltglass/tern:2 --yes --replace",
    ),
    ("And does Tern Arcade's edition load it?", "saltglass --store tern load --slot 2"),
    ("Take the last crossing back, to the byte.", "cferry undo --yes"),
    ("", "saltglass --store tern list"),
    ("What was done?", "cferry log"),
)


@click.command("demo")
@click.option(
    "--at", "folder", type=click.Path(path_type=Path), metavar="FOLDER",
    help="Also lay a fresh made-up computer into FOLDER, for you to play with.",
)  # fmt: skip
@click.pass_obj
def command(computer: Path | None, folder: Path | None) -> None:
    """See a crossing there and back on a made-up computer with made-up games.

    Shows every command that it runs, so that you can repeat them. Nothing of yours is
    touched. With --at FOLDER you get a made-up computer of your own to try things on.
    """
    from clever_ferry_demo.world import lay_world

    ferry_here(computer)
    if folder is not None and folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise WrongUseError(
            f"{folder} is there already and not empty.", advice="Name a new or an empty folder."
        )
    with tempfile.TemporaryDirectory(prefix="cferry-demo-") as scratch:
        top = lay_world(Path(scratch) / "world")
        for why, line in _TOUR:
            _run(why, line, top)
    click.echo()
    if folder is None:
        click.echo("That was on a made-up computer, which is gone again. To have one to play with:")
        click.echo("  cferry demo --at demo-world")
        return
    top = lay_world(folder).resolve()
    click.secho(f"A fresh made-up computer is in {folder}.", bold=True)
    click.echo("Point cferry (and the game) at it, then try the commands above:")
    click.secho(f"  {_setting(top)}", fg="cyan")
    click.echo("  cferry")


def _setting(top: Path) -> str:
    """Return the line that names the computer to the user's shell."""
    if os.name == "nt":
        return f'$env:CFERRY_COMPUTER = "{top}"     (in cmd: set CFERRY_COMPUTER={top})'
    return f"export CFERRY_COMPUTER={shlex.quote(str(top))}"


_MODULES = {"cferry": "clever_ferry", "saltglass": "clever_ferry_demo.saltglass.program"}


def _run(why: str, line: str, top: Path) -> None:
    if why:
        click.secho(f"\n# {why}", dim=True)
    click.secho(f"$ {line}", fg="cyan", bold=True)
    program, *arguments = line.split()
    sys.stdout.flush()
    environment = {**os.environ, "CFERRY_COMPUTER": str(top)}
    environment.pop("CFERRY_HOME", None)
    done = subprocess.run(
        [sys.executable, "-m", _MODULES[program], *arguments], env=environment, check=False
    )
    if done.returncode:
        raise FerryError(f"The demo stopped: `{line}` ended with {done.returncode}.")
