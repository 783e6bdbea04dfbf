"""`cferry look`: which games' saves are on this computer."""

from __future__ import annotations

from pathlib import Path

import click

from clever_ferry.cli.described import berth_data
from clever_ferry.cli.exits import NOTHING
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.screen import console, echo_json, escape, place, size, table, when_cell

__all__ = ["command"]


@click.command("look")
@click.argument("game", required=False)
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
@click.pass_obj
def command(computer: Path | None, game: str | None, as_json: bool) -> None:
    """Show which games' saves are on this computer, and where.

    With GAME, only that one's.
    """
    ferry = ferry_here(computer)
    sights, faults = ferry.look(game.lower() if game else None)
    if as_json:
        echo_json(
            {
                "computer": ferry.computer.name,
                "berths": [
                    {
                        **berth_data(sight.berth),
                        "saves": len(sight.saves),
                        "saved": max((s.stamp or 0 for s in sight.saves), default=None),
                        "size": sum(save.size for save in sight.saves),
                        "problems": list(sight.problems),
                    }
                    for sight in sights
                ],
                "recipe_faults": [error.what for error in faults],
            }
        )
        return
    out = console()
    if not sights:
        out.print(f"No saves were found on {escape(ferry.computer.name)}.")
        out.print(
            "`cferry recipe list` shows which games it knows; `cferry demo` shows it at work."
        )
        raise click.exceptions.Exit(NOTHING)
    shown = table(
        "Game", "Edition", "Saves", "Last saved", "Size", "Name it", right=("Saves", "Size")
    )
    for sight in sights:
        fields = ", ".join(f"{name} {value}" for name, value in sight.berth.fields.items())
        edition = escape(sight.berth.edition.title)
        shown.add_row(
            escape(sight.berth.game.title),
            f"{edition}\n[dim]{escape(fields)}[/]" if fields else edition,
            str(len(sight.saves)),
            when_cell(max((save.stamp or 0 for save in sight.saves), default=None)),
            size(sum(save.size for save in sight.saves)),
            f"[place]{escape(sight.berth.address)}[/]",
        )
    out.print(shown)
    for sight in sights:
        out.print(
            f"[place]{escape(sight.berth.address)}[/]  {escape(place(sight.berth.root))}",
            soft_wrap=True,
        )
        for problem in sight.problems:
            out.print(f"  [bad]Not in order:[/] {escape(problem)}")
    for fault in faults:
        out.print(f"[care]{escape(fault.what)}[/]")
    out.print(f"\nNext: cferry slots {escape(sights[0].berth.game.id)}")
