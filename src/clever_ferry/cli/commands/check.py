"""`cferry check`: are these saves complete, and what tells whether their bytes are right?"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import zip_longest
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.console import Console

from clever_ferry.cli.again import command_again
from clever_ferry.cli.certain import established_data, print_established, told_sum
from clever_ferry.cli.described import berth_data, save_data
from clever_ferry.cli.exits import DAMAGED, NOT_LOADED, NOTHING, REFUSED, echo_json
from clever_ferry.cli.games import agree_to_start, print_verdict, verdict_data
from clever_ferry.cli.here import can_ask, choose, ferry_here
from clever_ferry.cli.options import account_option, give_option, json_option
from clever_ferry.cli.progress import one_by_one
from clever_ferry.cli.screen import (
    console,
    counted,
    escape,
    heading,
    indented,
    save_line,
)

if TYPE_CHECKING:
    from clever_ferry.certainty import SaveLevel
    from clever_ferry.checking import Checked
    from clever_ferry.judging.verdict import Verdict
    from clever_ferry.recipes.establishing import Examined

__all__ = ["command"]


@click.command("check")
@click.argument("where")
@click.option(
    "--with-game", is_flag=True,
    help="Also have the game itself load each on a copy; it is started once you have allowed it.",
)  # fmt: skip
@account_option
@give_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, where: str, with_game: bool, account: str | None,
    given: dict[str, str], as_json: bool,
) -> None:  # fmt: skip
    """Read saves to the last byte, as their own edition does, and say what that establishes.

    WHERE is an edition (saltglass/depot) or some of its slots (saltglass/depot:2). Of each
    piece it says whether it is verified (a checksum or its own form agrees), opened (unpacked or
    parsed to its end, with nothing to verify by) or only read. Nothing is changed. The exit code
    is 5 where a save is damaged; what only looks suspicious is told, and is no damage. With
    --with-game it is 12 where the game does not load one, or nobody can tell.
    """
    ferry = ferry_here(computer)
    ask = can_ask() and not as_json
    verdicts: list[Verdict] = []
    if with_game:
        agree_to_start(ferry.asking, where, ask=ask)
        with one_by_one("Asking the game", as_json) as tell:
            checked, verdicts = choose(
                lambda answers: ferry.asking.check(
                    where, answers.get("--account", account), given, tell
                ),
                ask=ask,
            )
    else:
        checked = choose(
            lambda answers: ferry.check(where, answers.get("--account", account), given), ask=ask
        )
    if as_json:
        echo_json(
            {
                **berth_data(checked.berth),
                "saves": [
                    {
                        **save_data(one.save),
                        "established": established_data(one),
                        "level": _level(one, checked, verdict),
                        "game": verdict_data(verdict),
                    }
                    for one, verdict in zip_longest(checked.examined, verdicts)
                ],
                "problems": list(checked.problems),
                "refused": [
                    {"what": one.what, "details": list(one.details), "advice": one.advice}
                    for one in checked.refused
                ],
                "not_looked_at": list(checked.strays),
                "damaged": checked.damaged,
                "suspicious": checked.suspicious,
            }
        )
    else:
        out = console()
        told = f"{heading(checked.berth.title)}  [place]{escape(checked.berth.address)}[/]"
        out.print(told, soft_wrap=True)
        for number, one in enumerate(checked.examined):
            save = one.save
            mark = "[bad]✗[/]" if save.problems else "[good]✓[/]"
            if one.suspicions and not save.problems:
                mark = "[care]?[/]"
            out.print(
                f"  {mark} {save_line(save, checked.berth.edition)}  "
                f"{counted(len(save.pieces), 'piece')}"
            )
            for problem in save.problems:
                out.print(indented(f"[bad]{escape(problem)}[/]", 6))
            for note in save.notes:
                out.print(indented(f"[dim]{escape(note)}[/]", 6))
            print_established(out, one, 6)
            if with_game:
                print_verdict(out, verdicts[number], 6)
        for problem in checked.problems:
            out.print(indented(f"[bad]{escape(problem)}[/]", 2))
        if checked.strays:
            more = f" and {len(checked.strays) - 6:,} more" if len(checked.strays) > 6 else ""
            told = escape(", ".join(checked.strays[:6]) + more)
            out.print(
                indented(f"[care]not looked at, as the recipe does not know it:[/] {told}", 2)
            )
        for error in checked.refused:
            out.print(indented(f"[care]its game will refuse it:[/] {escape(error.what)}", 2))
            for line in filter(None, (*error.details, error.advice)):
                out.print(indented(escape(line), 4))
        bad = sum(bool(save.problems) for save in checked.saves)
        if checked.damaged and not bad:
            out.print(
                ("\nEach save by itself is complete" if checked.saves else "\nNo save can be read")
                + "; what stands above in red is wrong with what they are in. Nothing was changed."
            )
        elif checked.damaged:
            out.print(
                f"\n{bad} of {counted(len(checked.saves), 'save')} damaged or not whole. Nothing "
                "was changed. Look for older copies before you save over them."
            )
        elif checked.saves:
            told = "It is" if len(checked.saves) == 1 else f"All {len(checked.saves)} are"
            out.print(f"\n{told} complete: {told_sum(checked.examined)}")
            if checked.suspicious:
                out.print(
                    "What is suspicious may be as its game has made it. Load that save in the game "
                    "and look, before you rely on it."
                )
        else:
            out.print("  no saves")
        _print_level(out, checked, verdicts)
    if checked.damaged:
        raise click.exceptions.Exit(DAMAGED)
    if checked.refused:
        raise click.exceptions.Exit(REFUSED)
    if not checked.saves:
        raise click.exceptions.Exit(NOTHING)
    if not all(verdict.loads for verdict in verdicts):
        raise click.exceptions.Exit(NOT_LOADED)


def _level(one: Examined, checked: Checked, verdict: Verdict | None) -> SaveLevel | None:
    known = checked.level(one)
    return "loads" if known is not None and verdict is not None and verdict.loads else known


def _print_level(out: Console, checked: Checked, verdicts: Sequence[Verdict]) -> None:
    """Say how far it is established that they are right, and what would establish more."""
    if not checked.saves or checked.damaged:
        return
    loads = sum(verdict.loads for verdict in verdicts)
    if verdicts:
        every = loads == len(verdicts)
        told = f"has loaded {'it' if loads == 1 else f'all {loads}'}"
        if not every:
            told = f"has loaded {loads} of {counted(len(verdicts), 'save')}"
        more = "" if every else " Start it yourself and look at the others."
        out.print(f"The game itself {told}.{more}")
    elif checked.berth.edition.loader is not None and not checked.refused:
        out.print(
            f"Whether its game loads it: {escape(command_again(add=['--with-game']))}",
            soft_wrap=True,
        )
