"""`cferry tidy`: bring what was carried to the front again, where the game wrote over it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.again import after_dry_run
from clever_ferry.cli.certain import print_reached
from clever_ferry.cli.described import save_data
from clever_ferry.cli.exits import NOTHING, echo_json
from clever_ferry.cli.here import agree, can_ask, choose, ferry_here
from clever_ferry.cli.options import (
    account_option,
    change_options,
    closed_option,
    give_option,
    json_option,
)
from clever_ferry.cli.progress import telling
from clever_ferry.cli.screen import console, escape, facts_line, size, when

if TYPE_CHECKING:
    from clever_ferry.certainty import SaveLevel
    from clever_ferry.crossing.tidying import Hidden

__all__ = ["command"]


@click.command("tidy")
@click.argument("where", metavar="GAME/EDITION[:SLOT]")
@account_option
@change_options
@give_option
@closed_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, where: str, account: str | None, dry_run: bool, yes: bool,
    given: dict[str, str], game_closed: bool, as_json: bool,
) -> None:  # fmt: skip
    """Find saves that a game wrote in front of what was carried, and take them away.

    Some games keep several generations of a save and load the newest. At their first start after
    a crossing they may write one of their own, and the old progress shows again. What goes is
    backed up first, and `cferry undo` brings it back. A save that goes on from what was carried is
    left alone.
    """
    ferry = ferry_here(computer)
    ask = can_ask() and not as_json and not yes
    opened, hidden = choose(
        lambda answers: ferry.hidden(where, answers.get("--account", account), given), ask=ask
    )
    wrong = [one for one in hidden if not one.goes_on]
    if not as_json:
        _print(hidden)
    carry = bool(wrong) and not dry_run
    if carry:
        agree("Take away what stands in front?", "tidied", yes=yes, ask=ask)
    number = None
    if carry:
        with telling(as_json) as tell:
            number = ferry.tidy(opened, wrong, tell, game_closed=game_closed).number
    if as_json:
        echo_json({"hidden": [_data(one) for one in hidden], "tidying": number})
    elif number is not None:
        console().print(f"[good]✓[/] What was carried is in front again. To take that back: "
                        f"cferry undo {number}")  # fmt: skip
        for one in wrong:
            print_reached(console(), _level(one), one.number)
    elif wrong:
        console().print(escape(after_dry_run("--yes")), soft_wrap=True)
    if not wrong:
        raise click.exceptions.Exit(NOTHING)


def _print(hidden: list[Hidden]) -> None:
    out = console()
    if not hidden:
        out.print("Nothing stands in front of what was carried: there is nothing to tidy.")
    for one in hidden:
        front = one.front
        where = f"Slot {front.slot}" if "slot" in front.fields else "Save"
        if one.goes_on:
            out.print(f"{where}: [save]{escape(front.title)}[/] was played on since it "
                      "was carried; it stays.")  # fmt: skip
            continue
        newest = one.before[-1]
        told, saved = escape(facts_line(newest)), when(newest.stamp)
        out.print(f"{where}: [care]the game would load[/] "
                  f"[save]{escape(newest.title)}[/] [dim]{told}[/], saved {saved}.")  # fmt: skip
        since = "" if front is one.carried else ", and what was played since"
        out.print(f"  Behind it is what crossing {one.number} carried{since}: "
                  f"[save]{escape(front.title)}[/] [dim]{escape(facts_line(front))}[/]."
                  )  # fmt: skip
        entries = ", ".join(piece.entry for save in one.before for piece in save.pieces)
        total = size(sum(save.size for save in one.before))
        out.print(f"  [bold]Backed up, then taken away:[/] {escape(entries)} ({total})")


def _level(one: Hidden) -> SaveLevel:
    """Return how far it is shown that what comes to the front is right."""
    return "same" if one.front is one.carried else "goes on"


def _data(one: Hidden) -> dict[str, object]:
    return {
        "slot": one.front.slot, "crossing": one.number, "goes_on": one.goes_on,
        "level": _level(one),
        "carried": save_data(one.carried), "front": save_data(one.front),
        "before": [save_data(save) for save in one.before],
    }  # fmt: skip
