"""What was established of saves, in words: by level, with the pieces and what speaks for each."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Console

from clever_ferry.certainty import LEVELS, SAVE_LEVELS, Level, SaveLevel
from clever_ferry.cli.screen import counted, escape, indented

if TYPE_CHECKING:
    from clever_ferry.recipes.establishing import Established, Examined

__all__ = ["established_data", "print_established", "print_left_out", "print_reached", "told_sum"]

_SHOWN = 6


def print_established(out: Console, one: Examined, by: int) -> None:
    """Print what was established of a save's pieces, a line per level, indented."""
    for level in reversed(LEVELS):
        pieces = [piece for piece in one.pieces if piece.level == level and not piece.faults]
        if pieces:
            told = escape(", ".join(_told(pieces)))
            out.print(indented(f"[dim]{level:<9}  {told}[/]", by))
    for told in one.suspicions:
        out.print(indented(f"[care]suspicious: {escape(told)}[/]", by))


def established_lines(one: Examined) -> Iterator[str]:
    """Yield what was established of a save's pieces, a line per level."""
    for level in reversed(LEVELS):
        pieces = [piece for piece in one.pieces if piece.level == level and not piece.faults]
        if pieces:
            yield f"{level}: {', '.join(_told(pieces))}"
    yield from (f"suspicious: {told}" for told in one.suspicions)


def print_left_out(out: Console, names: Sequence[str]) -> None:
    """Print what lies in saves' own folders, and stays where it is."""
    if names:
        more = f" and {len(names) - _SHOWN:,} more" if len(names) > _SHOWN else ""
        told = f"{', '.join(names[:_SHOWN])}{more}"
        out.print(indented(f"[care]Not kept, as the recipe does not know it:[/] {escape(told)}", 2))


def _told(pieces: Sequence[Established]) -> Iterator[str]:
    """Yield pieces, those that the same speaks for together."""
    reasons: dict[str, list[str]] = {}
    for one in pieces:
        reasons.setdefault(one.by, []).append(one.piece.title)
    for reason, titles in reasons.items():
        more = [f"{len(titles) - _SHOWN:,} more"] if len(titles) > _SHOWN else []
        yield ", ".join(titles[:_SHOWN] + more) + (f" ({reason})" if reason else "")


def told_sum(every: Sequence[Examined]) -> str:
    """Return in a sentence or two what was established of all pieces, no more than that."""
    levels: list[Level] = [piece.level for one in every for piece in one.pieces]
    count = counted(len(levels), "piece")
    if all(level == "verified" for level in levels):
        return f"{count}, each read to its end and verified."
    told = {
        "verified": "{} verified", "opened": "{} opened, with nothing to verify by",
        "only read": "{} only read: nothing in them tells whether their bytes are right",
    }  # fmt: skip
    parts = [
        told[level].format(f"{levels.count(level):,}") for level in reversed(LEVELS)
        if level in levels
    ]  # fmt: skip
    return f"{count}, each read to its end: {'; '.join(parts)}."


def print_reached(
    out: Console, level: SaveLevel | None, watch: int | str | None, loads: str = ""
) -> None:
    """Say the highest level that a save has reached, and what would reach the next ones.

    `loads` is the command that asks its game, where that can be asked; `watch` what there is to
    watch: the crossing's number, or a place.
    """
    rest = SAVE_LEVELS if level is None else SAVE_LEVELS[SAVE_LEVELS.index(level) + 1 :]
    told = f"; not shown yet: {', '.join(rest)}" if rest else ""
    out.print(f"[bold]Level reached: {level or 'none'}[/][dim]{told}.[/]")
    if "loads" in rest and loads:
        out.print(f"  Whether its game loads it: {escape(loads)}", soft_wrap=True)
    if "goes on" in rest and watch:
        told = escape(f"cferry watch {watch}, and start the game beside it")
        out.print(f"  Whether its game goes on from it: {told}", soft_wrap=True)


def established_data(one: Examined) -> list[dict[str, Any]]:
    """Return what was established of each piece, as plain data."""
    return [
        {
            "piece": piece.piece.title,
            "entry": piece.piece.entry,
            "established": piece.level,
            "by": piece.by or None,
            "faults": list(piece.faults),
            "suspicions": list(piece.suspicions),
        }
        for piece in one.pieces
    ]
