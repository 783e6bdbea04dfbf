"""A plan on the terminal: so that a player sees at a glance what goes where."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from clever_ferry.cli.described import arrived_value
from clever_ferry.cli.screen import counted, escape, facts_line, place, size, steps, table, when
from clever_ferry.crossing.aftermath import steps_before
from clever_ferry.finding.addresses import address_of
from clever_ferry.recipes.agreeing import agreed_key

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import PurePath

    from clever_ferry.crossing.plan import Move, Plan
    from clever_ferry.recipes.encoding import Encoded

__all__ = ["print_kept", "print_plan", "print_signs"]


_CLEARLY = 2 * 10**9
"""By so many ns a save must be newer to be called so: some file systems keep no finer times."""


def print_plan(out: Console, plan: Plan, spelled: Callable[[PurePath], str] = place) -> None:
    """Print a plan so that a player sees at a glance what goes where.

    `spelled` says how the target's folder is called in what is to be done first.
    """
    source, target = plan.source.berth, plan.target.berth
    out.print(f"[bold]{escape(source.game.title)}[/]")
    out.print(f"  from  {escape(source.title)}  [place]{escape(source.address)}[/]", soft_wrap=True)
    out.print(f"  to    {escape(target.title)}  [place]{escape(target.address)}[/]", soft_wrap=True)
    shown = table(
        "Slot" if source.edition.numbered else "No.", "Save", "",
        "Slot" if target.edition.numbered else "No.", "Replaces",
    )  # fmt: skip
    for move in plan.moves:
        shown.add_row(
            source.edition.slot_text(move.save.slot),
            f"[save]{escape(move.save.title)}[/]\n[dim]{escape(facts_line(move.save))}[/]",
            "→",
            target.edition.slot_text(move.slot) if move.slot else "[good]new[/]",
            _replaced(move),
        )
    if plan.moves:
        out.print(shown)
    for move in plan.moves:
        _print_changes(out, plan, move)
    print_kept(out, plan, spelled)


def _replaced(move: Move) -> str:
    if move.replaced is None:
        return "[good]nothing: the slot is free[/]" if move.slot else "[good]nothing[/]"
    kind = "\n[dim]a throwaway[/]" if move.replaced.throwaway else ""
    return (
        f"[care]{escape(move.replaced.title)}[/]{kind}\n[dim]{escape(facts_line(move.replaced))}[/]"
    )


def _print_changes(out: Console, plan: Plan, move: Move) -> None:
    ways = {
        "adopted": "from the save it replaces", "usual": "as all the target's saves have it",
        "made": "a new one", "given": "as you say", "kept": "as it was",
    }  # fmt: skip
    bound = sorted(
        {
            name
            for item in move.encoded
            for name in plan.target.berth.edition.repeated_in(item.piece.role)
        }
    )
    said = any(item.arrived for item in move.encoded)
    same = not (move.renamed or move.changes or bound or said or move.left_behind or move.removes)
    if same and not plan.strays(move):
        out.print(f"[save]{escape(move.save.title)}[/] goes as it is, under its own name.")
        return
    out.print(f"[save]{escape(move.save.title)}[/]")
    if move.renamed:
        out.print(f"  renamed   {counted(len(move.renamed), 'piece')}")
        renamed = [(plan.source.berth.shown(before), after) for before, after in move.renamed]
        width = max(len(before) for before, _ in renamed)
        for before, after in renamed:
            out.print(f"    {escape(before.ljust(width))} → {escape(after)}", soft_wrap=True)
    for change in move.changes:
        out.print(f"  {change.how:<9} {escape(change.field)} {escape(str(change.value))}"
                  f" ({ways[change.how]})")  # fmt: skip
    for item in move.encoded:
        for one in item.arrived:
            out.print(f"  {one.how:<9} {escape(one.field)} {escape(str(arrived_value(one))[:80])} "
                      f"({ways[one.how]}), in the {escape(item.piece.title)}'s header")  # fmt: skip
    for piece in move.adopted:
        out.print(f"  adopted   the {escape(piece.title)} of the save it replaces, as this one "
                  "has none")  # fmt: skip
    if bound:
        places = [
            f"{counted(said['places'], 'place')} in the {item.piece.title}"
            for item in move.encoded
            for key, said in item.piece.headers.items()
            if key in {agreed_key(name) for name in bound}
        ]
        told = f" ({', '.join(places)})" if places else ""
        out.print(f"  stamped   with the target's {escape(', '.join(bound) + told)}")
    for item in move.encoded:
        if item.piece.describes:
            out.print(f"  made      {escape(item.put.name)}, the {escape(item.piece.role)} that "
                      f"describes the {escape(item.piece.describes)}")  # fmt: skip
    if strays := plan.strays(move):
        out.print(f"  [care]not known[/]   {escape(', '.join(strays[:4]))}"
                  f"{' …' if len(strays) > 4 else ''}: in its folder, and not carried")  # fmt: skip
    for piece in move.left_behind:
        out.print(f"  [care]left behind[/]  the {escape(piece.title)}: this edition has none")
    if move.removes:
        out.print(f"  removed   {escape(', '.join(move.removes[:3]))}"
                  f"{' …' if len(move.removes) > 3 else ''} (of the save it replaces)")  # fmt: skip


def print_kept(out: Console, plan: Plan, spelled: Callable[[PurePath], str]) -> None:
    """Print what is backed up, told, or left, and what to do first."""
    target = plan.target.berth
    for move in plan.moves:
        if move.replaced is None or move.replaced.throwaway:
            continue
        if move.replaced.title != move.save.title:
            out.print(
                f"[care]Careful: what stands there is {escape(move.replaced.title)}, another save "
                f"than {escape(move.save.title)}.[/]"
            )
        if (move.replaced.stamp or 0) >= (move.save.stamp or 0) + _CLEARLY:
            out.print(
                f"[care]Careful: what would be replaced ({escape(move.replaced.title)}) is newer "
                f"than what you carry[/] (saved {when(move.replaced.stamp)}, against "
                f"{when(move.save.stamp)})."
            )
    if plan.replaced:
        total = size(sum(save.size for save in plan.replaced))
        names = ", ".join(save.title for save in plan.replaced)
        out.print(f"[bold]Will be backed up first:[/] {escape(names)} ({total})")
    there = {piece.role for piece in plan.target.listing.shared}
    for item in plan.shared:
        why = "as you ask; the target's own is backed up" if item.piece.role in there else (
            "the target has none"
        )  # fmt: skip
        out.print(f"[bold]Goes too:[/] the {escape(item.piece.title)}, {why}")
    for item in plan.encoded:
        _print_paths(out, item)
    if plan.rebuilt:
        out.print(f"[bold]Removed:[/] {escape(', '.join(plan.rebuilt[:4]))}"
                  f"{' …' if len(plan.rebuilt) > 4 else ''}; the game makes it anew")  # fmt: skip
    for one in plan.told:
        out.print(f"[bold]Told of it:[/] {escape(one.path)}", soft_wrap=True)
        for sign, line in one.lines:
            out.print(f"    [{'care' if sign == '-' else 'good'}]{sign}[/] {escape(line)}",
                      soft_wrap=True)  # fmt: skip
    for note in plan.notes:
        out.print(f"[care]Note:[/] {escape(note)}")
    for save, own in plan.already:
        where = escape(address_of(target.address, own))
        out.print(f"[bold]Stays:[/] {escape(save.title)}, as {where} is the same progress already")
    for save in plan.left:
        out.print(f"[care]Stays behind:[/] {escape(save.title)}: {escape(save.problems[0])}")
    alone = {piece.role for piece in plan.target.listing.shared}
    alone -= {item.piece.role for item in plan.shared}
    if alone:
        names = ", ".join(sorted(alone))
        out.print(f"[bold]Left alone:[/] the target's {escape(names)}, and all its other saves")
    print_signs(out, plan)
    if first := steps_before(plan, spelled):
        out.print("[care]First, if you have not:[/]")
        out.print(steps(first), soft_wrap=True)
    out.print()


def _print_paths(out: Console, item: Encoded) -> None:
    """Say which paths inside a piece are written as the target spells them, and which are not."""
    said = item.piece.headers.get("paths")
    if said is None:
        return
    what = escape(item.piece.title)
    if said["places"]:
        out.print(f"  [dim]{counted(said['places'], 'folder')} named in the {what}: written as the "
                  "target has them[/]")  # fmt: skip
    for path in said["left"]:
        out.print(f"[care]Note:[/] {escape(path)}, named in the {what}, is in no folder that is "
                  "known; set it anew in the game.")  # fmt: skip


def print_signs(out: Console, plan: Plan) -> None:
    """Print who else may write the target, and what to do about it."""
    for one in plan.signs.running:
        out.print(f"[care]The target's game seems to run:[/] {escape(one)}. Close it first.")
    if plan.signs.running and plan.signs.stop:
        out.print("To stop it:")
        out.print(steps(plan.signs.stop), soft_wrap=True)
    for one in plan.signs.opened[:3]:
        out.print(f"[care]A program has a file of the target open:[/] {escape(one)}")
    for cloud in plan.signs.clouds:
        seen = f" ({escape(cloud.seen)} says so)" if cloud.seen else ""
        out.print(
            f"[care]Careful: {escape(cloud.title)} is on{seen}, and may put the old save back.[/] "
            "So, afterwards:"
        )
        out.print(steps(cloud.answer), soft_wrap=True)
