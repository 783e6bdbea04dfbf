"""`cferry harbour`: names for places with saves: disks, prefixes, exports, sticks."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, escape, place, table

if TYPE_CHECKING:
    from clever_ferry.finding.harbours import Harbour

__all__ = ["command"]


@click.group("harbour")
def command() -> None:
    """Give names to places with saves: a mounted disk, a compatibility prefix, an export, a stick.

    A name stands after @ in an address: saltglass/depot@old-disk. Any folder can stand there
    without a name, too: saltglass/depot@/path/to/folder.
    """


@command.command("add")
@click.argument("name")
@click.argument(
    "paths",
    metavar="PATH...",
    nargs=-1,
    required=True,
    type=click.Path(path_type=Path, exists=True),
)
@json_option
@click.pass_obj
def add(computer: Path | None, name: str, paths: tuple[Path, ...], as_json: bool) -> None:
    """Name a folder, and say what it is recognised as.

    An export in zip files can be the folder that they are in, or the files themselves.
    """
    harbour = ferry_here(computer).harbours.add(name, [path.resolve() for path in paths])
    if as_json:
        echo_json(_data(harbour))
        return
    console().print(f"[good]✓[/] {escape(name)} is {escape(harbour.title)}.", soft_wrap=True)
    _print_problems([harbour])
    console().print("Next: cferry look")


@command.command("list")
@json_option
@click.pass_obj
def list_(computer: Path | None, as_json: bool) -> None:
    """List the places with saves: those that you have named, and those recognised by themselves."""
    ferry = ferry_here(computer)
    harbours = ferry.harbours.all()
    if as_json:
        echo_json({"harbours": [_data(one) for one in harbours]})
        return
    shown = table("Name", "What it is", "Where")
    shown.add_row(escape(ferry.computer.name), "this computer", "")
    for one in harbours:
        what = escape(one.title) if one.there else "[care]not there now[/]"
        if not one.named:
            what += "\n[dim]recognised by itself[/]"
        shown.add_row(escape(one.name), what, "\n".join(escape(place(p)) for p in one.paths))
    console().print(shown)
    _print_problems(harbours)


def _print_problems(harbours: Sequence[Harbour]) -> None:
    for one in harbours:
        for problem in one.problems:
            console().print(f"[care]{escape(one.name)}:[/] {escape(problem)}", soft_wrap=True)


@command.command("remove")
@click.argument("name")
@click.pass_obj
def remove(computer: Path | None, name: str) -> None:
    """Forget a name. The folder and what is in it stay as they are."""
    path = ferry_here(computer).harbours.remove(name)
    console().print(f"{escape(name)} is forgotten; {escape(str(path))} stays as it is.")


def _data(harbour: Harbour) -> dict[str, object]:
    return {
        "name": harbour.name,
        "folder": str(harbour.path),
        "paths": [str(path) for path in harbour.paths],
        "named": harbour.named,
        "there": harbour.there,
        "kind": harbour.kind,
        "system": _system(harbour),
        "users": list(harbour.users),
        "problems": list(harbour.problems),
    }


def _system(harbour: Harbour) -> str | None:
    known = harbour.computers and not harbour.export
    return harbour.computers[0].system if known else None
