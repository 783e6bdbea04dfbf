"""`cferry` alone: what is here, and what one could do next."""

from __future__ import annotations

from itertools import groupby
from pathlib import Path
from typing import TYPE_CHECKING

from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.screen import console, escape
from clever_ferry.finding.addresses import address_of

if TYPE_CHECKING:
    from clever_ferry.looking import Sight

__all__ = ["overview"]


def overview(computer: Path | None) -> None:
    """Print it."""
    ferry = ferry_here(computer)
    seen = ferry.look()
    sights, faults = list(seen.sights), seen.faults
    out = console()
    out.print(
        f"[bold]Clever Ferry[/] carries save games. On [place]{escape(ferry.computer.name)}[/]:"
    )
    if not sights:
        out.print("  no saves of the games that it has recipes for.\n")
        out.print("Next:")
        out.print("  cferry demo            see it at work on a made-up computer")
        out.print("  cferry recipe list     which games it knows, and where it looks")
    else:
        for title, group in groupby(sights, key=lambda sight: sight.berth.game.title):
            places = [_told(sight) for sight in group]
            out.print(f"  [save]{escape(title)}[/]: {', '.join(places)}")
        out.print("\nNext:")
        found = _next_steps(sights)
        last = next((one for one in ferry.log() if one.state == "proved"), None)
        if last is not None:
            found.append(("cferry undo", f"take back crossing {last.number}"))
        width = max(len(command) for command, _ in found)
        for command, why in found:
            out.print(f"  {escape(command.ljust(width))}   [dim]{escape(why)}[/]")
    if faults:
        out.print(f"[care]{len(faults)} of your recipes can't be used:[/] see `cferry recipe list`")


def _told(sight: Sight) -> str:
    count = len(sight.saves)
    what = "can't be read" if sight.problems and not count else f"{count} save{'s' * (count != 1)}"
    return f"{escape(sight.berth.edition.title)} ({what})"


def _next_steps(sights: list[Sight]) -> list[tuple[str, str]]:
    first = next((sight for sight in sights if sight.saves), sights[0])
    game = first.berth.game
    found = [
        ("cferry look", "where they are, and when you last played"),
        (f"cferry slots {game.id}", "each save with what you know it by"),
        (f"cferry backup {game.id}", "keep a copy of them all"),
    ]
    others = [edition for edition in game.editions.values() if edition.id != first.berth.edition.id]
    here = {sight.berth.edition.id for sight in sights if sight.berth.game.id == game.id}
    target = next((one for one in others if one.id in here), None)
    if target is not None and first.saves:
        start = address_of(first.berth.address, first.saves[0])
        found.append(
            (f"cferry cross {start} {game.id}/{target.id} --dry-run", "what a crossing would do")
        )
    return found
