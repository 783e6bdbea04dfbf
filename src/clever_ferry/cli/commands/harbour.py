"""`cferry harbour`: names for folders with saves: disks, prefixes, sticks."""

from __future__ import annotations

from pathlib import Path

import click

from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.screen import console, echo_json, escape, place, table
from clever_ferry.finding.harbours import Harbour

__all__ = ["command"]


@click.group("harbour")
def command() -> None:
    """Give names to places with saves: a mounted disk, a compatibility prefix, a stick.

    A name stands after @ in an address: saltglass/depot@old-disk. Any folder can stand there
    without a name, too: saltglass/depot@/path/to/folder.
    """


@command.command("add")
@click.argument("name")
@click.argument("path", type=click.Path(path_type=Path, exists=True, file_okay=False))
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@click.pass_obj
def add(computer: Path | None, name: str, path: Path, as_json: bool) -> None:
    """Name a folder, and say what it is recognised as."""
    harbour = ferry_here(computer).add_harbour(name, path.resolve())
    if as_json:
        echo_json(_data(harbour))
        return
    console().print(f"[good]✓[/] {escape(name)} is {escape(harbour.title)}.", soft_wrap=True)
    console().print("Next: cferry look")


@command.command("list")
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@click.pass_obj
def list_(computer: Path | None, as_json: bool) -> None:
    """List the places that have a name."""
    ferry = ferry_here(computer)
    harbours = ferry.harbours()
    if as_json:
        echo_json([_data(one) for one in harbours])
        return
    shown = table("Name", "What it is", "Where")
    shown.add_row(escape(ferry.computer.name), "this computer", "")
    for one in harbours:
        what = escape(one.title) if one.path.is_dir() else "[care]not there now[/]"
        shown.add_row(escape(one.name), what, escape(place(one.path)))
    console().print(shown)


@command.command("remove")
@click.argument("name")
@click.pass_obj
def remove(computer: Path | None, name: str) -> None:
    """Forget a name. The folder and what is in it stay as they are."""
    path = ferry_here(computer).remove_harbour(name)
    console().print(f"{escape(name)} is forgotten; {escape(str(path))} stays as it is.")


def _data(harbour: Harbour) -> dict[str, object]:
    return {
        "name": harbour.name,
        "folder": str(harbour.path),
        "there": harbour.path.is_dir(),
        "kind": harbour.kind,
        "system": harbour.computers[0].system if harbour.computers else None,
        "users": list(harbour.users),
    }
