"""`cferry log`: what was carried, when, and what became of it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.described import record_data, told_state
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import can_ask, ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, escape, table, told_facts, when_cell
from clever_ferry.errors import WrongUseError

if TYPE_CHECKING:
    from clever_ferry.api import Ferry

__all__ = ["command"]

_STYLES = {"proved": "good", "undone": "dim", "put back": "care"}


@click.command("log")
@click.option(
    "--give-up", "given_up", type=int, metavar="NUMBER",
    help="Give up a change that was cut short and can't be set right: its target stays as it is.",
)  # fmt: skip
@click.option("--yes", is_flag=True, help="With --give-up: do it without asking.")
@json_option
@click.pass_obj
def command(computer: Path | None, given_up: int | None, yes: bool, as_json: bool) -> None:
    """List what was carried, when, and what became of it. The newest comes first."""
    ferry = ferry_here(computer)
    if given_up is not None:
        _give_up(ferry, given_up, yes=yes, as_json=as_json)
        return
    if yes:
        raise WrongUseError("--yes goes with --give-up alone.")
    records = ferry.log()
    unread = ferry.keeps.logbook.unread
    if as_json:
        told = {"unread": unread} if unread else {}
        echo_json({"crossings": [record_data(record) for record in records], **told})
        return
    out = console()
    if unread:
        numbers = ", ".join(map(str, unread))
        out.print(f"[bad]Lines of the logbook that make no sense are left out: {numbers}[/]")
    if not records:
        out.print("Nothing was carried yet.")
        return
    shown = table("No.", "When", "What", "From", "To", "State", right=("No.",))
    for record in records:
        story = record.story
        what = "\n".join(
            f"[save]{escape(move['save']['name'])}[/] "
            f"[dim]{escape(told_facts(_some(move['save']['facts'])))}[/]"
            for move in story["moves"]
        )
        style = _STYLES.get(record.state, "bad")
        shown.add_row(
            str(record.number), when_cell(record.started), what,
            escape(story["from"]["address"]) + _slots(story, "from_slot"),
            escape(story["to"]["address"]) + _slots(story, "to_slot"),
            f"[{style}]{told_state(record.state)}[/]",
        )  # fmt: skip
    out.print(shown)
    for record in records:
        if reason := record.story.get("reason"):
            out.print(f"  {record.number}: {escape(reason)}")
    last = next((record for record in records if record.state == "proved"), None)
    if last:
        out.print(f"\nTo take one back: cferry undo {last.number}")


def _give_up(ferry: Ferry, number: int, *, yes: bool, as_json: bool) -> None:
    if not yes:
        if not can_ask() or as_json:
            raise WrongUseError(
                "Nothing was given up: there is nobody to ask here.", advice="Add --yes to do it."
            )
        click.echo(
            f"Change {number} stays half-way as it stands. What was there before stays in the "
            "locker (`cferry backup list`)."
        )
        if not click.confirm("Give it up?"):
            raise click.Abort
    root = ferry.give_up(number)
    if as_json:
        echo_json({"given_up": number, "folder": root})
    else:
        console().print(
            f"Change {number} is given up. Look whether the saves there load: {escape(root)}",
            soft_wrap=True,
        )


def _some(facts: dict[str, str]) -> list[tuple[str, str]]:
    return list(facts.items())[:2]


def _slots(story: dict[str, list[dict[str, int | None]]], key: str) -> str:
    numbers = [str(move[key]) for move in story["moves"] if move[key]]
    return ":" + ",".join(numbers) if numbers else ""
