"""`cferry slots`: the saves of a game, with what a player knows them by."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from msgspec.structs import replace

from clever_ferry.cli.described import berth_data, save_data
from clever_ferry.cli.exits import NOTHING, echo_json
from clever_ferry.cli.here import can_ask, choose, ferry_here
from clever_ferry.cli.knowing import lacking
from clever_ferry.cli.options import account_option, give_option, json_option
from clever_ferry.cli.screen import (
    columns,
    console,
    counted,
    escape,
    facts_line,
    heading,
    indented,
    numbered,
    size,
    table,
    when,
    when_cell,
)
from clever_ferry.cli.ways import way_between
from clever_ferry.errors import WrongUseError
from clever_ferry.finding.addresses import address_of
from clever_ferry.proving.relating import Related, relate

if TYPE_CHECKING:
    from clever_ferry.cargo import Fact, Save
    from clever_ferry.ferry import Ferry
    from clever_ferry.finding.berths import Berth, OpenBerth
    from clever_ferry.recipes import Game

__all__ = ["command"]


_MANY = 200
"""Saves from which on a berth's list is printed plainly."""
_ORDERS: dict[str, Callable[[Save], Any]] = {
    "newest": lambda save: -(save.stamp or 0),
    "slot": lambda save: save.slot,
    "name": lambda save: save.title.casefold(),
    "size": lambda save: -save.size,
}


@click.command("slots")
@click.argument("where", nargs=-1, required=True, metavar="WHERE [WHERE]")
@account_option
@click.option(
    "--sort",
    "order",
    type=click.Choice([*_ORDERS]),
    default="newest",
    show_default=True,
    help="What comes first.",
)
@click.option("--facts", "every_fact", is_flag=True, help="Show all that is known of each save.")
@click.option(
    "--picture", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.png",
    help="Also draw when each side was saved, and what was carried.",
)  # fmt: skip
@give_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, where: tuple[str, ...], account: str | None, order: str,
    every_fact: bool, picture: Path | None, given: dict[str, str], as_json: bool,
) -> None:  # fmt: skip
    """List saves with what you know them by: name, day, play time. The newest comes first.

    WHERE is a game (saltglass), an edition (saltglass/depot), or some of its slots
    (saltglass/depot:2, :2,5, :1-3, :"Gull Rock"). For saves in another folder:
    openttd/server@/path/to/folder. Two WHEREs are compared: which saves are the same
    progress, and which side is ahead. With --facts, each save's facts are listed, with how
    they may stand after a move, and which of them tell one world from another.
    """
    if len(where) > 2:
        raise WrongUseError("Two places can be compared, not more.")
    if picture is not None and (picture.suffix.lower() != ".png" or picture.exists()):
        raise WrongUseError(
            f"{picture} is there already." if picture.exists() else f"{picture} is no .png file.",
            advice="Name a new file, such as saves.png.",
        )
    if picture is not None and not picture.absolute().parent.is_dir():
        raise WrongUseError(f"There is no folder {picture.absolute().parent}.")
    ferry = ferry_here(computer)
    opened: list[OpenBerth] = []
    for place in where:
        opened += choose(
            partial(_saves, ferry, place, account, given, len(where) == 1),
            ask=can_ask() and not as_json,
        )
    related = _related(opened) if len(where) == 2 else None
    opened = [_sorted(one, order) for one in opened]
    if picture is not None:
        try:
            from clever_ferry.cli.timeline import draw_timeline
        except ImportError:
            raise lacking("Drawing", "pictures") from None
        drawn = draw_timeline(opened, ferry.log(), picture)
        told_drawn = f"[good]✓[/] {counted(drawn, 'save')} drawn in {escape(str(picture))}"
        console(err=as_json).print(told_drawn, soft_wrap=True)
    if as_json:
        data = [_data(one, every_fact) for one in opened]
        compared = [_related_data(one) for one in related or ()]
        echo_json({"berths": data} if related is None else {"berths": data, "compared": compared})
        if not any(one.listing.saves for one in opened):
            raise click.exceptions.Exit(NOTHING)
        return
    out = console()
    for one in opened:
        told = f"{heading(one.berth.title)}  [place]{escape(one.berth.address)}[/]"
        out.print(told, soft_wrap=True)
        if not one.listing.saves:
            _print_none(one)
            continue
        if every_fact:
            _print_facts(one)
        else:
            _print_saves(one)
    if related is not None:
        _print_related(opened, related)
        way = way_between(opened[0].berth, opened[1].berth, related)
        if way:
            out.print(escape(way), soft_wrap=True)
            return
    full = [one for one in opened if one.listing.saves]
    played = [one for one in full if not all(save.throwaway for save in one.listing.saves)]
    start = next(iter(played or full), None)
    if start is not None:
        saves = start.listing.saves
        address, first = start.berth.address, min(saves, key=_unfit)
        destination = ferry.places.destination_for(start.berth)
        if destination:
            way = f"To carry one: cferry cross {address_of(address, first)} {destination} --dry-run"
        else:
            way = f"To keep a copy: cferry backup {address}"
        out.print(escape(way), soft_wrap=True)
    else:
        way = f'To see what the folder holds: cferry look "{opened[0].berth.root}"'
        out.print(escape(way), soft_wrap=True)
        raise click.exceptions.Exit(NOTHING)


def _saves(
    ferry: Ferry, where: str, account: str | None, given: dict[str, str], alone: bool,
    answers: dict[str, str],
) -> list[OpenBerth]:  # fmt: skip
    # What is only shown may be what was read last time; what is compared is read.
    return ferry.slots(where, answers.get("--account", account), given, remembered=alone)


def _related(opened: list[OpenBerth]) -> list[Related]:
    if len(opened) != 2 or opened[0].berth.game.id != opened[1].berth.game.id:
        raise WrongUseError(
            "Only two editions of one game can be compared.",
            advice="Name them, such as: cferry slots saltglass/tern saltglass/depot",
        )
    first, second = opened
    return relate(first.listing.saves, second.listing.saves, first.berth.game)


def _related_data(one: Related) -> dict[str, object]:
    return {
        "first": one.first.slot if one.first else None,
        "second": one.second.slot if one.second else None,
        "first_is": one.relation,
        "near": one.near.slot if one.near else None,
        "is_to_near": one.is_to_near,
    }


_TOLD = {
    "the same": "[good]= the same progress[/]",
    "newer": "[care]← is ahead[/]",
    "older": "[care]is ahead →[/]",
    "different": "[bad]≠ the same facts, other contents[/]",
    "unsure": "[care]? of the same name[/]",
}


def _print_related(opened: list[OpenBerth], related: list[Related]) -> None:
    first, second = (one.berth for one in opened)
    shown = table(escape(first.edition.title), "", escape(second.edition.title))
    names = [{save.title.casefold() for save in side.listing.saves} for side in opened]
    for one in related:
        shown.add_row(
            _cell(one.first, first) if one.first else _none(one, one.second, first, names[0]),
            _TOLD[one.relation] if one.relation else "[dim]only here[/]",
            _cell(one.second, second) if one.second else _none(one, one.first, second, names[1]),
        )  # fmt: skip
    console().print(heading("Compared"), shown, sep="\n")


_NEAR = {
    "the same": "{} is the same progress",
    "newer": "{} is behind it",
    "older": "{} is ahead of it",
    "different": "{} has the same facts, other contents",
    "unsure": "{} may be of its story: I can't tell",
}


def _none(one: Related, other: Save | None, berth: Berth, names: set[str]) -> str:
    """Say what a side has instead of a save that only the other one has."""
    if one.near is not None and one.is_to_near is not None:
        where = numbered(one.near.slot, berth.edition)
        return f"[dim]{_NEAR[one.is_to_near].format(escape(where))}[/]"
    twin = other is not None and other.title.casefold() in names
    return "[dim]another one of that name[/]" if twin else "[dim]nothing like it[/]"


def _cell(save: Save, berth: Berth) -> str:
    where = numbered(save.slot, berth.edition)
    return f"[save]{escape(save.title)}[/] ({where})\n[dim]{escape(facts_line(save))}[/]"


def _sorted(one: OpenBerth, order: str) -> OpenBerth:
    saves = tuple(sorted(one.listing.saves, key=_ORDERS[order]))
    return replace(one, listing=replace(one.listing, saves=saves))


def _data(one: OpenBerth, every_fact: bool) -> dict[str, object]:
    return {
        **berth_data(one.berth),
        "saves": [
            {
                **save_data(save),
                "missing": one.berth.edition.missing(save.roles),
                **({"all_facts": _facts_data(save, one.berth.game)} if every_fact else {}),
            }
            for save in one.listing.saves
        ],
        "shared": [piece.entry for piece in one.listing.shared],
        "not_understood": list(one.listing.unread),
        "problems": list(one.listing.problems),
    }


def _print_none(one: OpenBerth) -> None:
    out, unread = console(), one.listing.unread
    out.print("  no saves that can be read" if one.listing.problems else "  no saves")
    if unread:
        told = f"{counted(len(unread), 'file')} that its recipe does not know, such as {unread[0]}"
        out.print(indented(f"[dim]{escape(told)}[/]", 2))
    _print_notes(one)
    out.print()


def _print_saves(one: OpenBerth) -> None:
    out, saves = console(), one.listing.saves
    labels = one.berth.game.fact_labels
    every = [fact for save in saves for fact in save.facts]
    there, worded = {fact.key for fact in every}, {fact.key for fact in every if _is_worded(fact)}
    keys = [key for key in labels if key in there - one.berth.game.unshown]
    numbers = [labels[key] for key in keys if key not in worded]
    number = "Slot" if one.berth.edition.numbered else "No."
    if len(saves) > _MANY:
        _print_long(number, numbers, keys, one)
        _print_notes(one)
        return
    titled = [] if "name" in keys else ["Save"]
    shown = table(
        number, *titled, *(labels[key] for key in keys), "Last saved", "Pieces", "Size",
        right=(number, "Pieces", "Size", *numbers),
    )  # fmt: skip
    for save in saves:
        facts = [save.fact(key) for key in keys]
        mark = "\n[dim]a throwaway[/]" if save.throwaway else ""
        mark += "\n[care]only its old copy is left[/]" if save.old else ""
        cells = [
            f"[save]{escape(fact.text)}[/]{mark}"
            if fact and fact.key == "name"
            else escape(fact.text)
            if fact
            else "[dim]?[/]"
            for fact in facts
        ]
        style = "bad" if save.problems else None
        shown.add_row(
            one.berth.edition.slot_text(save.slot),
            *(f"[save]{escape(save.title)}[/]{mark}" for _ in titled), *cells,
            when_cell(save.stamp), _pieces(one, save), size(save.size),
            style=style,
        )  # fmt: skip
    out.print(shown)
    _print_notes(one)


_STORIES = {"is": "is this world alone", "stays": "stays in one world", "grows": "only grows"}


def _print_facts(one: OpenBerth) -> None:
    """Print all that is known of each save, one save under the other."""
    out, game = console(), one.berth.game
    for save in one.listing.saves:
        where = numbered(save.slot, one.berth.edition)
        out.print(f"[save]{escape(save.title)}[/]  ({escape(where)}, {when(save.stamp)})",
                  soft_wrap=True)  # fmt: skip
        shown = table("Fact", "Value", "After a move", "In one world")
        for key, label in game.fact_labels.items():
            fact = save.fact(key)
            shown.add_row(
                escape(label), escape(fact.text) if fact else "[dim]?[/]",
                game.compared[key].in_words, _STORIES.get(game.stories.get(key, ""), ""),
            )  # fmt: skip
        out.print(shown)
    _print_notes(one)


def _facts_data(save: Save, game: Game) -> list[dict[str, object]]:
    found = ((key, save.fact(key)) for key in game.fact_labels)
    return [
        {
            "key": key,
            "label": game.fact_labels[key],
            "value": fact.value if fact else None,
            "text": fact.text if fact else None,
            "unit": fact.unit if fact else None,
            "after_a_move": game.compared[key].how,
            "within": game.compared[key].within,
            "in_one_world": game.stories.get(key),
        }
        for key, fact in found
    ]


def _unfit(save: Save) -> tuple[bool, bool]:
    """Order saves by how good an example of a crossing they are: whole ones that were played."""
    return bool(save.problems), save.throwaway


def _pieces(one: OpenBerth, save: Save) -> str:
    """Return how many pieces are there, and which are not."""
    missing = one.berth.edition.missing(save.roles)
    return str(len(save.pieces)) + "".join(f"\nno {escape(role)}" for role in missing)


def _print_long(number: str, numbers: list[str], keys: list[str], one: OpenBerth) -> None:
    """Print a line per save, without a table's looks: quick for thousands."""
    rows, labels, slot_text = [], one.berth.game.fact_labels, one.berth.edition.slot_text
    titled = "name" not in keys
    heads = [number, *(["Save"] if titled else []), *(labels[key] for key in keys)]
    for save in one.listing.saves:
        facts = {fact.key: fact.text for fact in save.facts}
        mark = "damaged" if save.problems else "throwaway" if save.throwaway else ""
        rows.append([
            slot_text(save.slot), *([save.title] if titled else []),
            *(facts.get(key, "?") for key in keys), when(save.stamp),
            str(len(save.pieces)), size(save.size), mark,
        ])  # fmt: skip
    columns(
        [*heads, "Last saved", "Pieces", "Size", ""], rows,
        right=(heads[0], "Pieces", "Size", *numbers),
    )  # fmt: skip


def _print_notes(one: OpenBerth) -> None:
    out = console()
    for save in one.listing.saves:
        for problem in save.problems:
            told = numbered(save.slot, one.berth.edition).capitalize()
            out.print(indented(f"[bad]{told} is damaged or not whole:[/] {escape(problem)}", 2))
        for note in save.notes:
            out.print(indented(f"[dim]{escape(save.title)}: {escape(note)}[/]", 2))
    for problem in one.listing.problems:
        out.print(f"  [bad]Not in order:[/] {escape(problem)}")


def _is_worded(fact: Fact) -> bool:
    return not isinstance(fact.value, int | float)
