"""`cferry demo`: a crossing there and back on a made-up computer."""

from __future__ import annotations

import importlib.util
import os
import shlex
import subprocess
import sys
import tempfile
from pathlib import Path

import click

from clever_ferry.errors import FerryError, WrongUseError

__all__ = ["command"]

_LOFT_PREFIX = "home/isa/.local/share/lamplight/prefixes/481516/inside/drive_c/users/player/"
_DEN: tuple[tuple[str, str], ...] = (
    ("What saves are on this computer?", "cferry look"),
    ("Which is which? Both sides have a Saltmarsh and a Heron Point.", "cferry slots saltglass"),
    (
        "Carry the Saltmarsh of day 31 from Tern Arcade to a free slot of Cobalt Depot.",
        "cferry cross saltglass/tern:2 saltglass/depot:5 --yes",
    ),
    ("Does the game itself load it, and play on?", "saltglass --store depot load --slot 5"),
    ("", "saltglass --store depot play --slot 5 --days 2"),
    ("Is what it has saved the carried progress, further on?", "cferry watch 1 --once"),
    (
        "Carry it back, over the older day 31. What is there is backed up.",
        "cferry cross saltglass/depot:5 saltglass/tern:2 --yes --replace",
    ),
    ("And does Tern Arcade's edition load it?", "saltglass --store tern load --slot 2"),
    ("Take the last crossing back, to the byte.", "cferry undo --yes"),
    ("", "saltglass --store tern list"),
    ("What was done?", "cferry log"),
)
_LOFT: tuple[tuple[str, str], ...] = (
    (
        "Another computer, with Linux: Windows games run in a library's prefixes, and the disk of "
        "an old computer is mounted.",
        "cferry look",
    ),
    (
        "Longshore has closed, and sent its players an export: zips in two parts, among downloads.",
        "cferry slots saltglass/longshore",
    ),
    (
        "Carry a world out of the export, where it lies, into the game in its prefix.",
        "cferry cross saltglass/longshore:2 saltglass/depot@lamplight-481516 --yes",
    ),
    (
        "Does the game load it?",
        f"saltglass --store depot --folder {_LOFT_PREFIX}AppData/LocalLow/NineKettles/Saltglass/"
        "300200100 load --slot 2",
    ),
)

_SERVED = "../bramble/saltglass"
_LINK: tuple[tuple[str, str], ...] = (
    (
        "Bramble Hosting rents out game servers. Its files are reached by SFTP, with a password; "
        "its key was told by letter.",
        "cferry harbour add bramble {address}/saltglass --trust {key}",
    ),
    ("What works there, before anything is at stake?", "cferry harbour check bramble"),
    (
        "Put the Saltmarsh of day 31 on the server, and tell it which isle to serve.",
        "cferry cross saltglass/tern:2 saltglass/server@bramble --yes",
    ),
    ("Does the server serve it?", f"saltglass --store server --folder {_SERVED} serve --check"),
    ("Friends play there.", f"saltglass --store server --folder {_SERVED} play --slot 2 --days 4"),
    ("Is that the carried progress, further on?", "cferry watch 1 --once"),
    (
        "Bring it home, over the older one. What is there is backed up.",
        "cferry cross saltglass/server@bramble:2 saltglass/tern:2 --yes --replace",
    ),
    ("And does Tern Arcade's edition load it?", "saltglass --store tern load --slot 2"),
    ("Keep a copy of what is on the server, too.", "cferry backup saltglass/server@bramble"),
)


@click.command("demo")
@click.option(
    "--at", "folder", type=click.Path(path_type=Path), metavar="FOLDER",
    help="Also lay fresh made-up computers into FOLDER, for you to play with.",
)  # fmt: skip
@click.option(
    "--over-a-link", is_flag=True,
    help="See a world go to a rented server and back, over SFTP on this computer.",
)  # fmt: skip
@click.pass_obj
def command(computer: Path | None, folder: Path | None, over_a_link: bool) -> None:
    """See crossings on made-up computers with a made-up game.

    Shows every command that it runs, so that you can repeat them. Nothing of yours is
    touched. With --at FOLDER you get made-up computers of your own to try things on.
    """
    from clever_ferry_demo.kingfisher_age.program import lay_kingfisher_age
    from clever_ferry_demo.kingfisher_crown.program import (
        demo_reigns,
        lay_kingfisher_crown,
        long_reign,
    )
    from clever_ferry_demo.kingfisher_dynamo.program import lay_kingfisher_dynamo
    from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
    from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
    from clever_ferry_demo.orrery_yard.yard import begin
    from clever_ferry_demo.world import lay_finch, lay_loft, lay_world

    _refuse_named(computer)
    if over_a_link and folder is not None:
        raise WrongUseError("--over-a-link only shows: it leaves nothing behind for --at.")
    if over_a_link:
        _over_a_link()
        return
    if folder is not None and folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise WrongUseError(
            f"{folder} is there already and not empty.", advice="Name a new or an empty folder."
        )
    with tempfile.TemporaryDirectory(prefix="cferry-demo-") as scratch:
        world = Path(scratch) / "world"
        for top, tour in ((lay_world(world), _DEN), (lay_loft(world), _LOFT)):
            for why, line in tour:
                _run(why, line, top)
    click.echo()
    if importlib.util.find_spec("matplotlib") is None:
        click.echo("`cferry slots GAME --picture FILE.png` draws saves over time, once you say")
        click.echo("  pip install 'clever-ferry[pictures]'")
    if folder is None:
        click.echo("The made-up computers are gone again. To have them to play with:")
        click.echo("  cferry demo --at demo-world")
        return
    top, loft = lay_world(folder).resolve(), lay_loft(folder).resolve()
    lay_finch(top)
    lay_moth_lantern(top)
    lay_orrery_yard(top, "wren", demo_yards())
    lay_kingfisher_crown(top, (long_reign(), *demo_reigns()))
    lay_kingfisher_age(top)
    lay_kingfisher_dynamo(top)
    lay_kingfisher_crown(loft, demo_reigns()[1:])
    lay_orrery_yard(loft, "isa", (begin("Isa's try", "Isa"),))
    click.secho(f"Two fresh made-up computers are in {folder}: den and loft.", bold=True)
    click.echo("Point cferry (and the game) at one, then try the commands above:")
    click.secho(f"  {_setting(top)}", fg="cyan")
    click.echo("  cferry")
    click.echo("The other one, with Linux, prefixes and an export:")
    click.secho(f"  {_setting(loft)}", fg="cyan")


def _over_a_link() -> None:
    from clever_ferry_demo.bramble import PASSWORD, bramble
    from clever_ferry_demo.saltglass.server import ServerStore
    from clever_ferry_demo.world import lay_world

    with tempfile.TemporaryDirectory(prefix="cferry-demo-") as scratch:
        top = lay_world(Path(scratch) / "world")
        rented = top.parent / "bramble"
        ServerStore(rented / "saltglass").set_up()
        with bramble(rented) as (address, key):
            click.secho("# The password is asked for at a terminal. Here it comes from a file:")
            click.secho("$ export CFERRY_PASSWORD_FD=0", fg="cyan", bold=True)
            for why, line in _LINK:
                _run(why, line.format(address=address, key=key), top, f"{address} {PASSWORD}\n")
    click.echo("\nThe made-up computer and the server are gone again.")


def _refuse_named(computer: Path | None) -> None:
    """Refuse a computer named on the command line; the one of the environment is passed over."""
    if computer is not None and os.environ.get("CFERRY_COMPUTER") != str(computer):
        raise WrongUseError(
            "The demo makes made-up computers of its own, and works on these alone.",
            advice="Leave out --computer; with --at FOLDER, you get such computers for yourself.",
        )


def _setting(top: Path) -> str:
    """Return the line that names the computer to the user's shell."""
    if os.name == "nt":
        return f'$env:CFERRY_COMPUTER = "{top}"     (in cmd: set CFERRY_COMPUTER={top})'
    return f"export CFERRY_COMPUTER={shlex.quote(str(top))}"


_MODULES = {"cferry": "clever_ferry", "saltglass": "clever_ferry_demo.saltglass.program"}


def _run(why: str, line: str, top: Path, passwords: str | None = None) -> None:
    if why:
        click.secho(f"\n# {why}", dim=True)
    click.secho(f"$ {line}", fg="cyan", bold=True)
    program, *arguments = line.split()
    sys.stdout.flush()
    environment = {**os.environ, "CFERRY_COMPUTER": str(top)}
    environment.pop("CFERRY_HOME", None)
    if passwords is not None:
        environment["CFERRY_PASSWORD_FD"] = "0"
    done = subprocess.run(
        [sys.executable, "-m", _MODULES[program], *arguments],
        cwd=top, env=environment, check=False, input=passwords, text=True,
    )  # fmt: skip
    if done.returncode:
        raise FerryError(f"The demo stopped: `{line}` ended with {done.returncode}.")
