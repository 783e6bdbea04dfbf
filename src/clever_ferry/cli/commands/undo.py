"""`cferry undo`: put a target back as it was before a crossing."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.again import after_dry_run
from clever_ferry.cli.described import record_data
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import agree, can_ask, ferry_here
from clever_ferry.cli.options import change_options, closed_option, json_option
from clever_ferry.cli.progress import telling
from clever_ferry.cli.screen import console, counted, escape, print_unkept, told_facts, when
from clever_ferry.errors import RefusedError

if TYPE_CHECKING:
    from clever_ferry.crossing.undoing import Undoing

__all__ = ["command"]


@click.command("undo")
@click.argument("number", type=int, required=False)
@change_options
@click.option(
    "--lose-later-play", is_flag=True,
    help="With --yes: do it although the saves were played since (they are backed up).",
)  # fmt: skip
@closed_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, number: int | None, dry_run: bool, yes: bool, lose_later_play: bool,
    game_closed: bool, as_json: bool,
) -> None:  # fmt: skip
    """Put a target back as it was before a crossing: bytes, names and time stamps.

    NUMBER is the crossing's in `cferry log`; without it, the newest one.
    """
    ferry = ferry_here(computer, remind=False)
    plan = ferry.plan_undo(number)
    out = console()
    if not as_json:
        _print_plan(plan)
    if dry_run:
        if as_json:
            echo_json({**record_data(plan.record), "undone": False, **_data(plan)})
        else:
            assent = ["--yes", "--lose-later-play"] if plan.changed else ["--yes"]
            out.print(escape(after_dry_run(*assent)), soft_wrap=True)
        return
    lost = RefusedError(
        "The carried saves were played or changed since, and undoing would lose that.",
        advice="Add --lose-later-play to do it all the same (what is there now is backed up "
        "first).",
    )
    agree(
        "Put it back?", "undone", yes=yes, ask=can_ask() and not as_json,
        refused=lost if plan.changed and not lose_later_play else None,
    )  # fmt: skip
    with telling(as_json) as tell:
        done = ferry.undo(plan, tell, game_closed=game_closed)
    if as_json:
        echo_json(
            {
                **record_data(plan.record),
                "state": "undone",
                "undone": True,
                **_data(plan),
                "kept_as": done.before.id,
                "not_kept": done.unkept,
            }
        )
        return
    back, gone = len(plan.snapshot.files), len(plan.snapshot.absent)
    changed = ", ".join(
        f"{counted(count, 'file')} {what}"
        for count, what in ((back, "put back"), (gone, "taken away"))
        if count
    )
    out.print(f"[good]✓[/] {plan.record.what.capitalize()} is undone: {changed}.")
    print_unkept(done.unkept)
    if plan.changed:
        names = ", ".join(
            f"{save.title} ({told_facts(save.facts[:2])})" for save in plan.later
        ) or counted(len(plan.changed), "file")
        out.print(f"What was played since is kept in the backup {done.before.id}: {escape(names)}")
        out.print(f"To bring that back instead: cferry restore {done.before.id}", soft_wrap=True)


def _data(plan: Undoing) -> dict[str, object]:
    later = [{"name": one.title, "slot": one.slot, "facts": dict(one.facts)} for one in plan.later]
    return {"changed": list(plan.changed), "played_since": later}


def _print_plan(plan: Undoing) -> None:
    out, details = console(), plan.record.details
    out.print(f"[bold]{plan.record.what.capitalize()}[/] of {when(plan.record.started)}")
    out.print(f"  {escape(details.game)}: {escape(details.source.title)} → "
              f"{escape(details.target.title)}")  # fmt: skip
    for move in details.moves:
        if back := move.replaced:
            facts = told_facts(list(back.facts.items())[:3])
            out.print(f"  [save]{escape(back.name)}[/] comes back  [dim]{escape(facts)}[/]")
        else:
            out.print(f"  [save]{escape(move.save.name)}[/] goes; nothing was there before")
    if plan.changed:
        out.print("[care]Played or changed since the crossing, and so goes, too:[/]")
        for save in plan.later:
            facts = escape(told_facts(save.facts[:3]))
            out.print(f"  [save]{escape(save.title)}[/]  [dim]{facts}[/]")
        for path in plan.changed[:5] if not plan.later else ():
            out.print(f"  {escape(path)}")
        out.print("It will be backed up first.")
