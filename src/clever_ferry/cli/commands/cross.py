"""`cferry cross`: carry saves from one edition to another."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import click
from rich.console import Console
from rich.progress import BarColumn, DownloadColumn, Progress, TaskID, TextColumn

from clever_ferry.cli.described import plan_data, proof_data
from clever_ferry.cli.here import can_ask, choose, ferry_here, give_option
from clever_ferry.cli.screen import (
    console,
    counted,
    echo_json,
    escape,
    facts_line,
    heading,
    numbered,
    size,
    steps,
    table,
    when,
)
from clever_ferry.crossing import Crossed, Move, Plan, Step, silent
from clever_ferry.crossing import Progress as Telling
from clever_ferry.errors import RefusedError, WrongUseError

__all__ = ["command"]


@click.command("cross")
@click.argument("source", metavar="FROM")
@click.argument("target", metavar="TO")
@click.option("--dry-run", is_flag=True, help="Show the plan and change nothing.")
@click.option("--yes", is_flag=True, help="Carry it out without asking.")
@click.option("--replace", is_flag=True, help="With --yes: saves in the target may be replaced.")
@click.option(
    "--from-account", metavar="NAME", help="Whose saves to take, where several have some."
)
@click.option("--to-account", metavar="NAME", help="Whose saves to write, where several have some.")
@give_option
@click.option("--json", "as_json", is_flag=True, help="Print plan and result as JSON.")
@click.pass_obj
def command(
    computer: Path | None, source: str, target: str, dry_run: bool, yes: bool, replace: bool,
    from_account: str | None, to_account: str | None, given: dict[str, str], as_json: bool,
) -> None:  # fmt: skip
    """Carry saves from one edition of a game to another.

    FROM and TO are editions (saltglass/tern), with slots if you want only some or others:
    `cferry cross saltglass/tern:2 saltglass/depot:5`. With no slot, all saves go, each to
    the slot of its own number.

    The plan is shown first. What the target holds is backed up, the saves are read back
    and compared afterwards, and `cferry undo` puts everything back.
    """
    ferry = ferry_here(computer)
    ask = can_ask() and not as_json and not yes
    plan = choose(
        lambda answers: ferry.plan(
            source, target, given=given,
            from_account=answers.get("--from-account", from_account),
            to_account=answers.get("--to-account", to_account),
        ),
        ask=ask,
    )  # fmt: skip
    out = console()
    if not as_json:
        print_plan(out, plan)
    if dry_run:
        if as_json:
            echo_json({"plan": plan_data(plan), "carried": False})
        else:
            out.print("This was a dry run: nothing was changed.")
        return
    _agree(plan, yes=yes, replace=replace, ask=ask)
    with _telling(as_json) as telling:
        crossed = ferry.carry_out(plan, telling)
    if as_json:
        proofs = [proof_data(proof) for proof in crossed.proofs]
        echo_json({
            "plan": plan_data(plan), "carried": True, "crossing": crossed.number,
            "backup": crossed.backup, "proofs": proofs,
        })  # fmt: skip
    else:
        _print_crossed(out, plan, crossed)


def _agree(plan: Plan, *, yes: bool, replace: bool, ask: bool) -> None:
    count = len(plan.replaced)
    if yes:
        if count and not replace:
            raise RefusedError(
                "The target already has a save in that slot."
                if count == 1
                else f"The target already has saves in {count} of those slots.",
                details=tuple(
                    f"  {save.slot}  {save.title}  ({facts_line(save)})" for save in plan.replaced
                ),
                advice="Add --replace to replace what is there (it is backed up first), or name "
                "another slot after the second address.",
            )
        return
    if not ask:
        raise WrongUseError(
            "Nothing was carried: there is nobody to ask here.",
            advice="Look at the plan, then add --yes to carry it out"
            + (" and --replace to replace what is there." if count else "."),
        )
    question = "Carry it over?"
    if count:
        what = "1 save" if count == 1 else f"{count} saves"
        question = f"Carry it over, and replace {what} of the target (backed up first)?"
    if not click.confirm(question):
        raise click.Abort


# The plan ------------------------------------------------------------------------------------


def print_plan(out: Console, plan: Plan) -> None:
    """Print a plan so that a player sees at a glance what goes where."""
    source, target = plan.source.berth, plan.target.berth
    out.print(f"[bold]{escape(source.game.title)}[/]")
    out.print(f"  from  {escape(source.title)}")
    out.print(f"  to    {escape(target.title)}")
    shown = table(
        "Slot" if source.edition.numbered else "No.", "Save", "",
        "Slot" if target.edition.numbered else "No.", "Replaces",
    )  # fmt: skip
    for move in plan.moves:
        shown.add_row(
            str(move.save.slot),
            f"[save]{escape(move.save.title)}[/]\n[dim]{escape(facts_line(move.save))}[/]",
            "→",
            str(move.slot) if move.slot else "[good]new[/]",
            _replaced(move),
        )
    out.print(shown)
    for move in plan.moves:
        _print_changes(out, plan, move)
    _print_kept(out, plan)


def _replaced(move: Move) -> str:
    if move.replaced is None:
        return "[good]nothing: the slot is free[/]" if move.slot else "[good]nothing[/]"
    return f"[care]{escape(move.replaced.title)}[/]\n[dim]{escape(facts_line(move.replaced))}[/]"


def _print_changes(out: Console, plan: Plan, move: Move) -> None:
    ways = {"adopted": "from the save it replaces", "made": "a new one", "given": "as you say"}
    bound = sorted({name for item in move.laid for name in _binds(plan, item.piece.role)})
    if not (move.renamed or move.changes or bound or move.left_behind or move.removes):
        out.print(f"[save]{escape(move.save.title)}[/] goes as it is, under its own name.")
        return
    out.print(f"[save]{escape(move.save.title)}[/]")
    if move.renamed:
        out.print(f"  renamed   {counted(len(move.renamed), 'piece')}")
        width = max(len(before) for before, _ in move.renamed)
        for before, after in move.renamed:
            out.print(f"    {escape(before.ljust(width))} → {escape(after)}", soft_wrap=True)
    for change in move.changes:
        out.print(f"  {change.how:<9} {escape(change.field)} {escape(str(change.value))}"
                  f" ({ways[change.how]})")  # fmt: skip
    if bound:
        out.print(f"  stamped   with the target's {escape(', '.join(bound))}")
    for piece in move.left_behind:
        out.print(f"  [care]left behind[/]  the {escape(piece.title)}: this edition has none")
    if move.removes:
        out.print(f"  removed   {escape(', '.join(move.removes[:3]))}"
                  f"{' …' if len(move.removes) > 3 else ''} (of the save it replaces)")  # fmt: skip


def _binds(plan: Plan, role: str) -> set[str]:
    """Return the name fields of the target that the wrapping of a role repeats."""
    file = plan.target.berth.edition.file_of(role)
    return file.chain.bound if file else set()


def _print_kept(out: Console, plan: Plan) -> None:
    for move in plan.moves:
        if move.replaced and move.replaced.title != move.save.title:
            out.print(
                f"[care]Careful: what stands there is {escape(move.replaced.title)}, another save "
                f"than {escape(move.save.title)}.[/]"
            )
        if move.replaced and (move.replaced.stamp or 0) > (move.save.stamp or 0):
            out.print(
                f"[care]Careful: the {escape(move.replaced.title)} that would be replaced is newer "
                f"than what you carry[/] (saved {when(move.replaced.stamp)}, against "
                f"{when(move.save.stamp)})."
            )
    if plan.replaced:
        total = size(sum(save.size for save in plan.replaced))
        names = ", ".join(save.title for save in plan.replaced)
        out.print(f"[bold]Backed up first:[/] {escape(names)} ({total})")
    if plan.target.listing.shared:
        names = ", ".join(sorted({piece.role for piece in plan.target.listing.shared}))
        out.print(f"[bold]Left alone:[/] the target's {escape(names)}, and all its other saves")
    out.print()


# Progress and outcome --------------------------------------------------------------------------


_WORDS: dict[Step, str] = {
    "reading": "Reading and staging",
    "backing up": "Backing up",
    "replacing": "Replacing",
    "proving": "Reading back",
    "putting back": "Putting back",
}


@contextmanager
def _telling(as_json: bool) -> Iterator[Telling]:
    if as_json or not sys.stderr.isatty():
        yield silent
        return
    columns = (TextColumn("{task.description:<20}"), BarColumn(), DownloadColumn())
    with Progress(*columns, console=console(err=True), transient=True) as bars:
        tasks: dict[Step, TaskID] = {}

        def tell(step: Step, done: int, total: int | None) -> None:
            if step not in tasks:
                tasks[step] = bars.add_task(_WORDS[step], total=total)
            bars.update(tasks[step], completed=done)

        yield tell


def _print_crossed(out: Console, plan: Plan, crossed: Crossed) -> None:
    pieces = sum(proof.pieces for proof in crossed.proofs)
    compared = sum(fact.compared for proof in crossed.proofs for fact in proof.facts)
    out.print(heading("Proved"))
    for proof in crossed.proofs:
        where = numbered(proof.save.slot, plan.target.berth.edition)
        out.print(
            f"  [good]✓[/] {where}  [save]{escape(proof.save.title)}[/]  "
            f"[dim]{escape(facts_line(proof.save))}[/]"
        )
    out.print(
        f"  Read back from {escape(plan.target.berth.edition.title)}: {counted(pieces, 'piece')} "
        f"byte for byte as carried, {counted(compared, 'fact')} the same."
    )
    after = plan.target.berth.edition.after
    if after:
        out.print("\n" + heading("Now in the game"))
        moved = crossed.proofs[0].save
        values = {**plan.target.berth.fields, **moved.fields, "slot": moved.slot}
        out.print(steps(_filled(line, values) for line in after), soft_wrap=True)
    out.print(f"\nTo put it all back: cferry undo {crossed.number}")


def _filled(line: str, values: dict[str, int | str]) -> str:
    for name, value in values.items():
        line = line.replace("{" + name + "}", str(value))
    return line
