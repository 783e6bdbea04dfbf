"""`cferry slots`: the saves of a game, with what a player knows them by."""

from __future__ import annotations

from pathlib import Path

import click

from clever_ferry.cli.described import berth_data, save_data
from clever_ferry.cli.exits import NOTHING
from clever_ferry.cli.here import can_ask, choose, ferry_here, give_option
from clever_ferry.cli.screen import (
    console,
    echo_json,
    escape,
    heading,
    indented,
    numbered,
    size,
    table,
    when_cell,
)
from clever_ferry.finding.berths import OpenBerth

__all__ = ["command"]


@click.command("slots")
@click.argument("where")
@click.option("--account", metavar="NAME", help="Whose saves, where several accounts have some.")
@give_option
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@click.pass_obj
def command(
    computer: Path | None, where: str, account: str | None, given: dict[str, str], as_json: bool
) -> None:
    """List saves with what you know them by: name, day, play time.

    WHERE is a game (saltglass), an edition (saltglass/depot), or some of its slots
    (saltglass/depot:2, :2,5, :1-3, :"Gull Rock"). For saves in another folder:
    openttd/server@/path/to/folder.
    """
    ferry = ferry_here(computer)
    opened = choose(
        lambda answers: ferry.slots(where, answers.get("--account", account), given),
        ask=can_ask() and not as_json,
    )
    if as_json:
        echo_json([_data(one) for one in opened])
        return
    out = console()
    for one in opened:
        out.print(heading(one.berth.title) + f"  [place]{escape(one.berth.address)}[/]")
        if not one.listing.saves:
            out.print("  no saves\n")
            continue
        _print_saves(one)
    start = next((one for one in opened if one.listing.saves), None)
    if start is not None:
        others = [name for name in start.berth.game.editions if name != start.berth.edition.id]
        address, first = start.berth.address, start.listing.saves[0]
        goal = f"{start.berth.game.id}/{others[0] if others else start.berth.edition.id}"
        out.print(f"To carry one: cferry cross {address}:{first.slot} {goal} --dry-run")
    else:
        raise click.exceptions.Exit(NOTHING)


def _data(one: OpenBerth) -> dict[str, object]:
    return {
        **berth_data(one.berth),
        "saves": [save_data(save) for save in one.listing.saves],
        "shared": [piece.entry for piece in one.listing.shared],
        "not_understood": list(one.listing.unread),
        "problems": list(one.listing.problems),
    }


def _print_saves(one: OpenBerth) -> None:
    out, saves = console(), one.listing.saves
    labels = one.berth.game.fact_labels
    keys = [key for key in labels if any(save.fact(key) for save in saves)]
    numbers = [labels[key] for key in keys if _is_number(one, key)]
    number = "Slot" if one.berth.edition.numbered else "No."
    shown = table(
        number, *(labels[key] for key in keys), "Last saved", "Size",
        right=(number, "Size", *numbers),
    )  # fmt: skip
    for save in saves:
        facts = [save.fact(key) for key in keys]
        cells = [
            f"[save]{escape(fact.text)}[/]"
            if fact and fact.key == "name"
            else escape(fact.text)
            if fact
            else "[dim]?[/]"
            for fact in facts
        ]
        style = "bad" if save.problems else None
        shown.add_row(str(save.slot), *cells, when_cell(save.stamp), size(save.size), style=style)
    out.print(shown)
    for save in saves:
        for problem in save.problems:
            told = numbered(save.slot, one.berth.edition).capitalize()
            out.print(indented(f"[bad]{told} is damaged or not whole:[/] {escape(problem)}", 2))
        for note in save.notes:
            out.print(indented(f"[dim]{escape(save.title)}: {escape(note)}[/]", 2))
    for problem in one.listing.problems:
        out.print(f"  [bad]Not in order:[/] {escape(problem)}")


def _is_number(one: OpenBerth, key: str) -> bool:
    facts = [save.fact(key) for save in one.listing.saves]
    return all(isinstance(fact.value, int | float) for fact in facts if fact)
