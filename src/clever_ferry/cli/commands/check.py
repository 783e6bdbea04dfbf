"""`cferry check`: are these saves complete, and what tells whether their bytes are right?"""

from __future__ import annotations

from pathlib import Path

import click

from clever_ferry.cli.certain import established_data, print_established, told_sum
from clever_ferry.cli.described import berth_data, save_data
from clever_ferry.cli.exits import DAMAGED, NOTHING, REFUSED, echo_json
from clever_ferry.cli.here import can_ask, choose, ferry_here
from clever_ferry.cli.options import account_option, give_option, json_option
from clever_ferry.cli.screen import (
    console,
    counted,
    escape,
    heading,
    indented,
    save_line,
)

__all__ = ["command"]


@click.command("check")
@click.argument("where")
@account_option
@give_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, where: str, account: str | None, given: dict[str, str], as_json: bool
) -> None:
    """Read saves to the last byte, as their own edition does, and say what that establishes.

    WHERE is an edition (saltglass/depot) or some of its slots (saltglass/depot:2). Of each
    piece it says whether it is verified (a checksum or its own form agrees), opened (unpacked or
    parsed to its end, with nothing to verify by) or only read. Nothing is changed. The exit code
    is 5 where a save is damaged; what only looks suspicious is told, and is no damage.
    """
    ferry = ferry_here(computer)
    checked = choose(
        lambda answers: ferry.check(where, answers.get("--account", account), given),
        ask=can_ask() and not as_json,
    )
    if as_json:
        echo_json(
            {
                **berth_data(checked.berth),
                "saves": [
                    {**save_data(one.save), "established": established_data(one)}
                    for one in checked.examined
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
        for one in checked.examined:
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
    if checked.damaged:
        raise click.exceptions.Exit(DAMAGED)
    if checked.refused:
        raise click.exceptions.Exit(REFUSED)
    if not checked.saves:
        raise click.exceptions.Exit(NOTHING)
