"""`cferry log`: what was carried, when, and what became of it."""

from __future__ import annotations

from pathlib import Path

import click

from clever_ferry.cli.described import record_data, told_state
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, echo_json, escape, table, told_facts, when_cell

__all__ = ["command"]

_STYLES = {"proved": "good", "undone": "dim", "put back": "care"}


@click.command("log")
@json_option
@click.pass_obj
def command(computer: Path | None, as_json: bool) -> None:
    """List what was carried, when, and what became of it. The newest comes first."""
    ferry = ferry_here(computer)
    records = ferry.log()
    if as_json:
        echo_json({"crossings": [record_data(record) for record in records]})
        return
    out = console()
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


def _some(facts: dict[str, str]) -> list[tuple[str, str]]:
    return list(facts.items())[:2]


def _slots(story: dict[str, list[dict[str, int | None]]], key: str) -> str:
    numbers = [str(move[key]) for move in story["moves"] if move[key]]
    return ":" + ",".join(numbers) if numbers else ""
