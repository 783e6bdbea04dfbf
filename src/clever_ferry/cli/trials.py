"""What a recipe made of real saves, and of copies of them that went there and back."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from clever_ferry.cli.described import save_data
from clever_ferry.cli.screen import console, counted, escape, indented, save_line, table

if TYPE_CHECKING:
    from clever_ferry.proving.trying import Tried, TriedPiece
    from clever_ferry.rehearsing import Rehearsed
    from clever_ferry.results import RecipeTried

__all__ = ["print_trials", "trials_data"]

_MOST_SHOWN = 40
"""Pieces that are as they should be; of what is not so all are shown."""


def trials_data(tried: RecipeTried) -> dict[str, Any]:
    """Return all of it as plain data."""
    return {
        "tried": [_tried_data(one) for one in tried.tried],
        "rehearsed": [_rehearsed_data(one) for one in tried.rehearsed],
    }


def print_trials(tried: RecipeTried) -> None:
    """Print what each edition reads, and what came back from the others."""
    out = console()
    read = {one.edition.id for one in tried.tried if one.saves}
    for one in tried.tried:
        if one.saves or one.edition.id not in read:  # else its saves are in another folder
            _print_tried(one)
    if not any(one.saves for one in tried.tried):
        out.print("[care]No edition of it reads a save there.[/]")
    if tried.rehearsed:
        _print_rehearsed(tried.rehearsed)
    elif any(one.saves for one in tried.tried):
        out.print("Name a folder with another edition's saves, too, by one more --try, and a "
                  "crossing between them is tried on copies.")  # fmt: skip


def _tried_data(one: Tried) -> dict[str, Any]:
    return {
        "edition": one.edition.id,
        "saves": [save_data(save) for save in one.saves],
        "pieces": [
            {
                "entry": p.entry,
                "role": p.role,
                "established": p.level,
                "by": p.by,
                "suspicions": list(p.suspicions),
                "outcome": p.outcome,
            }
            for p in one.pieces
        ],
        "left": one.left,
        "unread": list(one.unread),
        "problems": list(one.problems),
    }


def _rehearsed_data(one: Rehearsed) -> dict[str, Any]:
    return {
        "from": one.source.id, "to": one.target.id, "save": one.save.title,
        "stopped": one.stopped or None, "changed": list(one.changed),
    }  # fmt: skip


def _print_rehearsed(all_of_them: Sequence[Rehearsed]) -> None:
    out = console()
    out.print("\nOne save of each carried to the others and back, on copies of the folders:")
    shown = table("From", "To", "Save", "There and back")
    for one in all_of_them:
        if one.stopped:
            came = f"[bad]{escape(one.stopped)}[/]"
        elif one.changed:
            came = f"[care]{escape('; '.join(one.changed))}[/]"
        else:
            came = "[good]the same, pieces and facts[/]"
        shown.add_row(escape(one.source.id), escape(one.target.id), escape(one.save.title), came)
    out.print(shown)


def _is_good(piece: TriedPiece) -> bool:
    return piece.outcome.startswith(("same", "shared"))


def _print_tried(one: Tried) -> None:
    out = console()
    if not one.saves:
        for problem in one.problems:
            out.print(indented(f"[dim]{escape(one.edition.id)}: {escape(problem)}[/]", 2))
        return
    out.print(f"\nAs [save]{escape(one.edition.title)}[/]:")
    sound = [save for save in one.saves if not save.problems and not save.notes]
    hidden = {id(save) for save in sound[_MOST_SHOWN:]}
    for save in one.saves:
        if id(save) in hidden:
            continue
        out.print(f"  {save_line(save, one.edition)}")
        for problem in save.problems:
            out.print(indented(f"[bad]{escape(problem)}[/]", 6))
        for note in save.notes:
            out.print(indented(f"[care]{escape(note)}[/]", 6))
    if hidden:
        out.print(f"  And {counted(len(hidden), 'save')} more, of which nothing is to be said.")
    if one.left:
        out.print(f"  [care]{counted(one.left, 'older save')} not looked at.[/]")
    shown = table("Piece", "Role", "As it was read", "Written again")
    wrong = [piece for piece in one.pieces if not _is_good(piece)]
    right = [piece for piece in one.pieces if _is_good(piece)]
    for piece in [*wrong, *right[:_MOST_SHOWN]]:
        good = _is_good(piece)
        style = "good" if good else "bad"
        read = f"{piece.level or '–'}{f' ({piece.by})' if piece.by else ''}"
        shown.add_row(
            escape(piece.entry), escape(piece.role), escape(read),
            f"[{style}]{escape(piece.outcome)}[/]",
        )  # fmt: skip
    out.print(shown)
    if (more := len(right) - _MOST_SHOWN) > 0:
        out.print(f"  And {counted(more, 'piece')} more, each written again the same.")
    for piece in one.pieces:
        for suspicion in piece.suspicions:
            out.print(indented(f"[care]{escape(piece.entry)}: {escape(suspicion)}[/]", 2))
    for problem in one.problems:
        out.print(indented(f"[bad]{escape(problem)}[/]", 2))
    if one.unread:
        out.print(f"  Left unread: {escape(', '.join(one.unread[:20]))}")
