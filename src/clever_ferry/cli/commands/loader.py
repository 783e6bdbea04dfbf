"""`cferry loader`: which games' own programs may be started to ask whether a save loads."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from clever_ferry.cli.exits import NOTHING, echo_json
from clever_ferry.cli.games import print_starter
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, escape, place, table

if TYPE_CHECKING:
    from clever_ferry.asking import Starter

__all__ = ["command"]


@click.group("loader")
def command() -> None:
    """Say which games may be started to ask them whether a save loads.

    `cferry check WHERE --with-game` starts the game itself, or its server, without a screen and
    on a copy of the save. Nothing is started before you have said so here, or when you are asked.
    """


@command.command("list")
@json_option
@click.pass_obj
def list_(computer: Path | None, as_json: bool) -> None:
    """List the editions whose recipe says how, and what would be started."""
    every = ferry_here(computer).asking.all()
    if as_json:
        echo_json({"loaders": [_data(one) for one in every]})
        return
    shown = table("Edition", "Program", "May be started")
    for one in every:
        where = place(one.program) if one.program else f"{one.names[0]} is not on this computer"
        word = "yes" if one.allowed else "no more: it is another now" if one.changed else "no"
        shown.add_row(
            f"[place]{escape(one.edition)}[/]", escape(where) if one.program else
            f"[dim]{escape(where)}[/]", f"[good]{word}[/]" if one.allowed else word,
        )  # fmt: skip
    console().print(shown)
    if new := [one for one in every if one.program and not one.allowed]:
        console().print(f"To allow one: cferry loader allow {new[0].edition}")


@command.command("allow")
@click.argument("where", metavar="GAME/EDITION")
@click.option(
    "--program", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
    help="The program itself, where it is not found by its name.",
)  # fmt: skip
@json_option
@click.pass_obj
def allow(computer: Path | None, where: str, program: Path | None, as_json: bool) -> None:
    """Let an edition's game be started; what that is, is shown.

    It holds until the recipe changes, or another program is found by that name.
    """
    one = ferry_here(computer).asking.allow(where, program)
    if as_json:
        echo_json(_data(one))
        return
    out = console()
    out.print(f"[good]✓[/] {escape(one.title)} may be started:", soft_wrap=True)
    print_starter(out, one)
    if one.program is None:
        out.print(
            f"[care]{escape(' or '.join(one.names))} is not on this computer.[/] Where it is: "
            f"cferry loader allow {one.edition} --program FILE", soft_wrap=True
        )  # fmt: skip
        return
    out.print(f"Next: cferry check {one.edition} --with-game")


@command.command("forget")
@click.argument("where", metavar="GAME/EDITION")
@json_option
@click.pass_obj
def forget(computer: Path | None, where: str, as_json: bool) -> None:
    """Take that back: it is not started any more."""
    there = ferry_here(computer).asking.forget(where)
    if as_json:
        echo_json({"edition": where, "forgotten": there})
    elif there:
        console().print(f"[good]✓[/] {escape(where)} is not started any more.")
    else:
        console().print(f"{escape(where)} was not allowed.")
    if not there:
        raise click.exceptions.Exit(NOTHING)


def _data(one: Starter) -> dict[str, Any]:
    return {
        "edition": one.edition, "title": one.title, "program": str(one.program or "") or None,
        "names": list(one.names), "arguments": list(one.arguments),
        "environment": one.environment, "allowed": one.allowed, "changed": one.changed,
        "named": one.named, "shut_in": one.shut_in,
    }  # fmt: skip
