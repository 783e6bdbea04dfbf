"""Crossings as pages: what was planned and read back, or what the logbook tells."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

from clever_ferry.cli.certain import established_lines
from clever_ferry.cli.described import PROVED, arrived_value, told_found, told_outcome, told_state
from clever_ferry.cli.screen import facts_line, numbered
from clever_ferry.crossing.aftermath import steps_after
from clever_ferry.errors import FerryError, WrongUseError
from clever_ferry.moving.outputs import new_file
from clever_ferry.sheets.pages import report_page
from clever_ferry.sheets.report import Event, MoveReport, Report

if TYPE_CHECKING:
    from clever_ferry.cargo import Save
    from clever_ferry.crossing.carrying import Crossed
    from clever_ferry.crossing.plan import Move, Plan
    from clever_ferry.ferry import Ferry
    from clever_ferry.finding.berths import OpenBerth
    from clever_ferry.judging.verdict import Verdict
    from clever_ferry.keeping.logbook import MoveNote, Record
    from clever_ferry.sheets.differing import Differences
    from clever_ferry.sheets.sheet import Sheet

__all__ = ["before_crossing", "refuse_no_page", "write_crossing", "write_record"]


def refuse_no_page(path: Path | None) -> None:
    """Raise WrongUseError where a page can't be written under that name."""
    if path is None:
        return
    if path.suffix.lower() not in (".html", ".htm"):
        raise WrongUseError(f"{path} is no .html file.")
    if path.exists():
        raise WrongUseError(f"{path} is there already.", advice="Name a new file.")
    if not path.absolute().parent.is_dir():
        raise WrongUseError(f"There is no folder {path.absolute().parent}.")


def before_crossing(ferry: Ferry, plan: Plan) -> list[Sheet | None]:
    """Write the saves down that a plan carries, for comparing them afterwards."""
    return [_sheet(ferry, plan.source, move.save) for move in plan.moves]


def _sheet(ferry: Ferry, opened: OpenBerth, save: Save) -> Sheet | None:
    try:
        return ferry.noting.sheet_of(opened, save)
    except FerryError:
        return None  # its tables need a key: what is compared is said by what is there


def write_crossing(
    ferry: Ferry, plan: Plan, crossed: Crossed, before: list[Sheet | None],
    verdicts: list[Verdict], path: Path,
) -> None:  # fmt: skip
    """Write what a crossing did as a page, with what the game itself has said, if it was asked."""
    source, target = plan.source.berth, plan.target.berth
    moves = []
    for move, proof, examined, sheet in zip(
        plan.moves, crossed.proofs, crossed.examined, before, strict=True
    ):
        known = crossed.compared != "size"  # else all that is known is what was sent
        after = _sheet(ferry, plan.target, proof.save) if known else None
        moves.append(MoveReport(
            move.save.title,
            f"{source.title}, {numbered(move.save.slot, source.edition)}",
            f"{target.title}, {numbered(proof.save.slot, target.edition)}",
            _replaced(move),
            tuple(
                (one.label, one.before or "?", (one.after or "?") if known else "")
                for one in proof.facts
            ),
            tuple((source.shown(one), other) for one, other in move.renamed),
            tuple(_done(plan, move)), tuple(established_lines(examined)),
            _compared(sheet, after),
        ))  # fmt: skip
    steps = steps_after(plan, [proof.save for proof in crossed.proofs], str)
    stamp = time.time_ns()
    said, _ = told_found(all(one.loads for one in verdicts) if verdicts else None, "")
    report = Report(
        f"Crossing {crossed.number}", target.game.title,
        "; ".join(filter(None, (PROVED[crossed.compared], said))), stamp,
        f"{source.title} ({source.address})", f"{target.title} ({target.address})", tuple(moves),
        crossed.backup,
        (*plan.notes, *(f"Told in {one.path}: that is the save to load next." for one in plan.told),
         *(f"Not kept: {one}" for one in crossed.unkept)),
        tuple(steps), f"cferry undo {crossed.number}", tuple(_events(plan, stamp)),
    )  # fmt: skip
    with new_file(path) as part:
        part.write_text(report_page(report), "utf-8", newline="\n")


def _compared(before: Sheet | None, after: Sheet | None) -> Differences | None:
    from clever_ferry.sheets.differing import compare

    return compare(before, after) if before is not None and after is not None else None


def _replaced(move: Move) -> str:
    if move.replaced is None:
        return ""
    told = facts_line(move.replaced)
    return f"{move.replaced.title} ({told})" if told else move.replaced.title


def _done(plan: Plan, move: Move) -> list[str]:
    """Return what was done to a save beside its names, in words."""
    ways = {"adopted": "from the save it replaced", "usual": "as all the target's saves have it",
            "made": "a new one", "given": "as stated", "kept": "as it was"}  # fmt: skip
    edition = plan.target.berth.edition
    done = [f"Its name says the {one.field} {one.value}: {ways[one.how]}." for one in move.changes]
    for item in move.encoded:
        done += [
            f"In the {item.piece.title}'s header, the {one.field} is {arrived_value(one)}: "
            f"{ways[one.how]}."
            for one in item.arrived
        ]
        if stamped := sorted(edition.repeated_in(item.piece.role)):
            done.append(f"The {item.piece.title} says the target's {', '.join(stamped)}.")
    done += [f"Adopted: the {piece.title} of the save it replaced." for piece in move.adopted]
    done += [f"Left behind: the {piece.title}, as this edition has none."
             for piece in move.left_behind]  # fmt: skip
    if strays := plan.strays(move):
        done.append(f"Left behind, as the recipe does not know it: {', '.join(strays)}")
    return done


def _events(plan: Plan, now: int) -> list[Event]:
    found = []
    for move in plan.moves[:4]:
        if move.save.stamp is not None:
            found.append(
                Event(move.save.stamp, f"{move.save.title} saved", plan.source.berth.title)
            )
        if move.replaced is not None and move.replaced.stamp is not None:
            label = f"{move.replaced.title}, which was replaced"
            found.append(Event(move.replaced.stamp, label, plan.target.berth.title))
    return [*found, Event(now, "carried over", plan.target.berth.title)]


def write_record(record: Record, path: Path) -> None:
    """Write what the logbook tells of a change as a page."""
    details = record.details
    report = Report(
        record.what.capitalize(), details.game, told_outcome(record), record.started,
        f"{details.source.title} ({details.source.address})",
        f"{details.target.title} ({details.target.address})",
        tuple(_move(one, details.source.title, details.target.title) for one in details.moves),
        record.backup, (details.reason,) if details.reason else (), (),
        f"cferry undo {record.number}" if record.state == "proved" else "",
        (Event(record.started, "begun", details.target.title),)
        + ((Event(record.ended, told_state(record), details.target.title),)
           if record.ended else ()),
    )  # fmt: skip
    with new_file(path) as part:
        part.write_text(report_page(report), "utf-8", newline="\n")


def _move(one: MoveNote, source: str, target: str) -> MoveReport:
    slots = [f", slot {slot}" if slot else "" for slot in (one.from_slot, one.to_slot)]
    replaced = one.replaced.name if one.replaced is not None else ""
    if one.replaced is not None and one.replaced.facts:
        told = " · ".join(f"{label} {value}" for label, value in one.replaced.facts.items())
        replaced += f" ({told})"
    facts = tuple((label, value, "") for label, value in one.save.facts.items())
    return MoveReport(one.save.name, source + slots[0], target + slots[1], replaced, facts)
