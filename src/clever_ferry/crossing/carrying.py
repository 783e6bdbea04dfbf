"""Carrying out: a plan becomes a journaled change, proved by reading back; or put back."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from clever_ferry.boxes import Making
from clever_ferry.crossing.changing import Aim, Changed, change, new_token
from clever_ferry.crossing.guarding import await_quiet, left_by_us
from clever_ferry.crossing.plan import Move, Plan
from clever_ferry.crossing.progress import Progress, Tally, silent
from clever_ferry.crossing.recording import recorded, save_story
from clever_ferry.errors import DamagedError, NotProvenError, RefusedError
from clever_ferry.finding.berths import open_berth
from clever_ferry.forms.databases import COMPANIONS
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Reason
from clever_ferry.keeping.snapshots import kept_save
from clever_ferry.moving.names import refuse_forbidden
from clever_ferry.proving.comparing import Proof, arrived, prove, untouched
from clever_ferry.recipes.establishing import Examined, Examiner
from clever_ferry.tree import Output

__all__ = ["Crossed", "carry_out"]


@dataclass(frozen=True)
class Crossed:
    """A crossing that was carried out and proved."""

    number: int
    proofs: tuple[Proof, ...]
    backup: str
    """The id of how the target stood before, in the locker."""
    kept_bytes: int
    """How many bytes of the target were backed up."""
    examined: tuple[Examined, ...]
    """What was established of the source's saves, in the order of the plan's moves."""
    unkept: tuple[str, ...] = ()
    """Attributes of replaced files that the new ones could not be given, in words."""


def carry_out(
    plan: Plan,
    keeps: Keeps,
    *,
    progress: Progress = silent,
    clock: Callable[[], int] = time.time_ns,
) -> Crossed:
    """Carry out a plan.

    Raises PutBackError where it failed on the way and NotProvenError where the target did
    not read back as it should; in both cases the target is as it was. Raises other
    FerryErrors before anything was changed.
    """
    started = clock()
    target = plan.target.berth
    told = f"carrying {plan.source.berth.address} to {target.address}"
    with keeps.lock(target.root, told):
        keeps.journal.refuse_open(target.root)
        await_quiet(target.files, plan.target.contents.files, left_by_us(keeps, target.root))
        examined = _examined(plan)
        _refuse_changed(plan)
        return _recorded(plan, keeps, examined, new_token(started), started, progress, clock)


def _recorded(
    plan: Plan, keeps: Keeps, examined: tuple[Examined, ...], token: str, started: int,
    progress: Progress, clock: Callable[[], int],
) -> Crossed:  # fmt: skip
    target = plan.target.berth
    making = Making(started, os.urandom)
    story = _story(plan)
    with recorded(keeps, token, started, story, clock) as number:
        aim = Aim(
            target.folder, f"crossing {number}", number, "proved", "put back",
            Reason(
                token, "crossing", started,
                f"before {plan.source.berth.address} to {target.address}",
                target.about, tuple(kept_save(save) for save in plan.replaced),
            ),
            likely=tuple(path for save in plan.replaced for path in save.files),
            adding=plan.size, story=story,
        )  # fmt: skip

        def settle(made: Changed) -> Crossed:
            proofs = _prove(plan, progress)
            return Crossed(number, tuple(proofs), token, made.before.size, examined, made.unkept)

        return change(aim, keeps, lambda: _outputs(plan, making), settle, progress, clock)


def _outputs(plan: Plan, making: Making) -> Iterator[Output]:
    target = plan.target
    edition = target.berth.edition
    puts = [item.put for item in plan.laid]
    removes = [*(name for move in plan.moves for name in move.removes), *plan.rebuilt]
    for output in edition.box.write(target.contents, puts, removes, making):
        refuse_forbidden(output.path, target.berth.system, target.berth.above)
        if edition.barred(output.path):
            raise RefusedError(f"{output.path} is never to be touched, as the recipe says.")
        yield output


def _prove(plan: Plan, progress: Progress) -> list[Proof]:
    tally = Tally(progress, "proving", plan.size)
    target = plan.target.berth
    now = open_berth(target, given=plan.given)
    proofs = []
    for move in plan.moves:
        found = next((save for save in now.listing.saves if save.fields == move.fields), None)
        if found is None:
            raise _not_proven([f"{move.save.title} is not in the target's list"])
        proofs.append(
            prove(target.game, target.edition, move.save, move.laid, found, target.fields, tally)
        )
    concerned = {item.put.name for item in plan.laid} | set(plan.rebuilt)
    concerned |= {name for move in plan.moves for name in move.removes}
    concerned |= {f"{name}{ending}" for name in concerned for ending in COMPANIONS}
    shared = {piece.key: piece for piece in now.listing.shared}
    faults = [
        f"the {item.piece.title} is not what was carried"
        for item in plan.shared
        if not arrived(item, shared.get(item.piece.key))
    ]
    faults += [f"{p.save.title}: {fault}" for p in proofs for fault in p.faults]
    faults += [
        f"{name} changed, although it was not concerned"
        for name in untouched(plan.target.contents, now.contents, concerned)
    ]
    if faults:
        raise _not_proven(faults)
    return proofs


def _not_proven(faults: list[str]) -> NotProvenError:
    return NotProvenError(
        "The target does not read back as it should, so it was put back as it was.",
        details=tuple(f"  {fault}" for fault in faults),
        advice="Close the game and its store's program (a cloud sync may write in between), "
        "then try again.",
    )


def _examined(plan: Plan) -> tuple[Examined, ...]:
    """Establish what can be of the source's pieces; raises DamagedError where one is damaged.

    Pieces of no form are read to their end when they are carried, and not before.
    """
    source = plan.source
    known = {**source.berth.places, **plan.given}
    examiner = Examiner(
        source.berth.edition, source.contents, source.berth.fields, source.berth.files, known,
        source.listing.saves,
    )  # fmt: skip
    found = tuple(examiner.examine(move.save, "none") for move in plan.moves)
    for one in found:
        if one.damage:
            raise DamagedError(
                f"{one.save.title} is damaged, so nothing was carried.",
                details=tuple(f"  {problem}" for problem in one.damage),
                advice="Look for an older copy of it, such as an autosave.",
            )
    return found


def _refuse_changed(plan: Plan) -> None:
    now = open_berth(plan.target.berth, facts=False, given=plan.given).contents
    if untouched(plan.target.contents, now, set()) or len(now.entries) != len(
        plan.target.contents.entries
    ):
        raise RefusedError(
            "The target changed after the plan was shown, so nothing was carried.",
            advice="Close the game and its store's program, then run the same command again.",
        )


def _story(plan: Plan) -> dict[str, Any]:
    source, target = plan.source.berth, plan.target.berth
    return {
        "game": target.game.title,
        "from": {"address": source.address, "title": source.title, "root": str(source.root)},
        "to": {"address": target.address, "title": target.title, "root": str(target.root)},
        "moves": [_move_story(move) for move in plan.moves],
        "shared": [item.piece.title for item in plan.shared],
        "rebuilt": list(plan.rebuilt),
    }


def _move_story(move: Move) -> dict[str, Any]:
    return {
        "from_slot": move.save.slot,
        "to_slot": move.slot or None,
        "save": save_story(move.save),
        "replaced": save_story(move.replaced) if move.replaced else None,
    }
