"""`cferry explain`: a recipe in plain words."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, escape, heading, indented, steps, table

if TYPE_CHECKING:
    from clever_ferry.recipes import Game
    from clever_ferry.recipes.telling import EditionTold, RouteTold

__all__ = ["command"]


@click.command("explain")
@click.argument("what", metavar="GAME[/EDITION]")
@json_option
@click.pass_obj
def command(computer: Path | None, what: str, as_json: bool) -> None:
    """Tell in plain words where a game's saves are, how they are kept, and what crossings do.

    With an edition (saltglass/depot), also what a crossing to and from each other one will do.
    """
    ferry = ferry_here(computer)
    game, told, routes = ferry.explain(what)
    if as_json:
        echo_json({"game": game.title, "editions": [_edition_data(one) for one in told],
                   "routes": [_route_data(one) for one in routes]})  # fmt: skip
        return
    for one in told:
        _print_edition(game, one)
    for route in routes:
        _print_route(game, route)
    out = console()
    if "/" not in what:
        out.print(f"What crossings do: cferry explain {game.id}/{told[0].edition.id}")
    else:
        out.print(f"What is here: cferry look {game.id}")


def _print_edition(game: Game, told: EditionTold) -> None:
    out = console()
    address = f"{game.id}/{told.edition.id}"
    out.print(f"{heading(f'{game.title}, {told.edition.title}')}  [place]{escape(address)}[/]")
    for line in told.places:
        out.print(indented(escape(line), 2))
    for line in told.kept:
        out.print(indented(escape(line), 2))
    shown = table("Piece", "Named", "")
    for what, name, wrapped in told.pieces:
        shown.add_row(escape(what), escape(name), f"[dim]{escape(wrapped)}[/]")
    out.print(shown)
    for line in told.rules:
        out.print(indented(escape(line), 2))
    if told.edition.start:
        out.print(indented(f"[dim]{escape(told.edition.start)}[/]", 2))
    out.print()


def _print_route(game: Game, route: RouteTold) -> None:
    out = console()
    source, target = (
        f"{game.id}/{one.id}:{'SLOT' if one.numbered else 'NAME'}"
        for one in (route.source, route.target)
    )
    out.print(f"[save]From {escape(route.source.title)} to {escape(route.target.title)}[/]  "
              f"[place]cferry cross {escape(source)} {escape(target)}[/]")  # fmt: skip
    for line in route.does:
        out.print(indented(escape(line), 2))
    for line in route.needs:
        out.print(indented(f"[care]needs[/] {escape(line)}", 2))
    if route.after:
        out.print(indented("afterwards, in the game:", 2))
        out.print(indented(steps(route.after), 2))
    out.print()


def _edition_data(told: EditionTold) -> dict[str, object]:
    return {
        "edition": told.edition.id, "title": told.edition.title, "places": told.places,
        "kept": told.kept, "rules": told.rules, "start": told.edition.start,
        "pieces": [{"what": a, "named": b, "wrapped": c} for a, b, c in told.pieces],
    }  # fmt: skip


def _route_data(route: RouteTold) -> dict[str, object]:
    return {
        "from": route.source.id, "to": route.target.id, "does": route.does,
        "needs": route.needs, "afterwards": route.after,
    }  # fmt: skip
