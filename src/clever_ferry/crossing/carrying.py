"""Carrying out: a plan becomes a journaled change, proved by reading back; or put back."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from msgspec.structs import replace

from clever_ferry.boxes import Making
from clever_ferry.crossing.changing import Change, Outcome, Request, make_change, new_token
from clever_ferry.crossing.configuring import stands
from clever_ferry.crossing.guarding import AtWork
from clever_ferry.crossing.notes import note_of, side_of
from clever_ferry.crossing.plan import Plan
from clever_ferry.crossing.progress import Progress, Tally, silent
from clever_ferry.errors import DamagedError, NotProvenError, RefusedError
from clever_ferry.finding.berths import open_berth
from clever_ferry.forms.database_files import COMPANIONS
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Reason
from clever_ferry.keeping.logbook import Arrived, Details, MoveNote
from clever_ferry.keeping.snapshots import kept_save
from clever_ferry.moving.names import refuse_forbidden
from clever_ferry.moving.vouched import Compared, vouch
from clever_ferry.payload import BytesPayload
from clever_ferry.proving.comparing import Proof, arrived, prove, untouched
from clever_ferry.recipes.encoding import Encoded, encode, encode_shared
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
    compared: Compared = "read"
    """By what it was compared with what was sent, the weakest of all its files."""
    unkept: tuple[str, ...] = ()
    """Attributes of replaced files that the new ones could not be given, in words."""


def carry_out(
    plan: Plan,
    keeps: Keeps,
    at_work: AtWork,
    *,
    progress: Progress = silent,
    clock: Callable[[], int] = time.time_ns,
    quick: bool = False,
) -> Crossed:
    """Carry out a plan; `at_work` looks whether the target's game runs.

    With `quick`, a target that is reached over a link is not read back where sizes agree.

    Raises PutBackError where it failed on the way and NotProvenError where the target did
    not read back as it should; in both cases the target is as it was. Raises other
    FerryErrors before anything was changed.
    """
    return make_change(
        _Crossing(plan, progress, clock(), quick=quick), keeps, at_work, progress, clock
    )


class _Crossing(Change[Crossed]):
    """What carrying out a plan does to its target."""

    def __init__(self, plan: Plan, progress: Progress, started: int, *, quick: bool) -> None:
        self._plan, self._progress, self._started = plan, progress, started
        self._quick = quick
        self._examined: tuple[Examined, ...] = ()
        self._moved: list[list[Encoded]] = []
        self._shared: list[Encoded] = []
        target, source = plan.target.berth, plan.source.berth
        self.request = Request(
            target.folder,
            f"carrying {source.address} to {target.address}",
            tuple(plan.target.contents.files),
            Reason(
                new_token(started), "crossing", started,
                f"before {source.address} to {target.address}",
                target.about, tuple(kept_save(save) for save in plan.replaced),
            ),
            _details(plan),
            likely=tuple(path for save in plan.replaced for path in save.files),
            adding=plan.size,
        )  # fmt: skip

    def refuse_changed(self) -> None:
        """Establish what can be of the source, and look at the target once more."""
        plan = self._plan
        self._examined = _examined(plan)
        now = open_berth(plan.target.berth, facts=False, given=plan.given).contents
        if (
            untouched(plan.target.contents, now, set())
            or len(now.entries) != len(plan.target.contents.entries)
            or not all(stands(plan.target, one, after=False) for one in plan.told)
        ):
            raise RefusedError(
                "The target changed after the plan was shown, so nothing was carried.",
                advice="Close the game and its store's program, then run the same command again.",
            )

    def outputs(self) -> Iterator[Output]:
        """Yield the target's new files; what is carried takes its own digest on the way."""
        plan, target = self._plan, self._plan.target
        edition = target.berth.edition
        self._moved = [encode(move.encoding, self._started) for move in plan.moves]
        self._shared = [
            one
            for item in plan.shared
            if (one := encode_shared(edition, item.piece, target.known, self._started))
        ]
        puts = [item.put for items in (*self._moved, self._shared) for item in items]
        removes = [*(name for move in plan.moves for name in move.removes), *plan.rebuilt]
        making = Making(self._started, os.urandom)
        for output in edition.box.write(target.contents, puts, removes, making):
            refuse_forbidden(output.path, target.berth.system, target.berth.above)
            if edition.barred(output.path):
                raise RefusedError(f"{output.path} is never to be touched, as the recipe says.")
            yield output
        for told in plan.told:
            yield Output(told.path, BytesPayload(told.after), self._started)

    def prove(self, outcome: Outcome) -> Crossed:
        """Hold what the target's edition reads back against what was carried."""
        plan, target = self._plan, self._plan.target.berth
        tally = Tally(self._progress, "proving", plan.size)
        files, compared = vouch(target.folder, outcome.staged, quick=self._quick)
        now = open_berth(target, given=plan.given, files=files)
        proofs = []
        for move, encoded in zip(plan.moves, self._moved, strict=True):
            found = next((save for save in now.listing.saves if save.fields == move.fields), None)
            if found is None:
                raise _not_proven([f"{move.save.title} is not in the target's list"])
            proofs.append(prove(
                target.game, target.edition, move.save, encoded, found, now.known, tally,
                target.folder.shore.capabilities.at_once,
            ))  # fmt: skip
        concerned = {item.put.name for item in plan.encoded} | set(plan.rebuilt)
        concerned |= {one.path for one in plan.told}
        concerned |= {name for move in plan.moves for name in move.removes}
        concerned |= {f"{name}{ending}" for name in concerned for ending in COMPANIONS}
        shared = {piece.key: piece for piece in now.listing.shared}
        faults = [
            f"the {item.piece.title} is not what was carried"
            for item in self._shared
            if not arrived(item, shared.get(item.piece.key))
        ]
        faults += [f"{one.path} does not say which save to load" for one in plan.told
                   if not stands(plan.target, one, after=True)]  # fmt: skip
        faults += [f"{p.save.title}: {fault}" for p in proofs for fault in p.faults]
        faults += [
            f"{name} changed, although it was not concerned"
            for name in untouched(plan.target.contents, now.contents, concerned)
        ]
        if faults:
            raise _not_proven(faults)
        before = outcome.before
        return Crossed(
            outcome.number, tuple(proofs), before.id, before.size, self._examined, compared,
            outcome.unkept,
        )  # fmt: skip

    def told(self, details: Details, result: Crossed) -> Details:
        """Return what the logbook tells, with each save as the target has read it back."""
        moves = tuple(
            replace(note, arrived=Arrived(
                proof.save.slot, dict(proof.save.fields), proof.save.facts, proof.content
            ))
            for note, proof in zip(details.moves, result.proofs, strict=True)
        )  # fmt: skip
        return replace(details, moves=moves, compared=result.compared)


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
    examiner = Examiner(
        source.berth.edition, source.contents, source.known, source.berth.files,
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


def _details(plan: Plan) -> Details:
    source, target = plan.source.berth, plan.target.berth
    return Details(
        target.game.title, side_of(source), side_of(target),
        tuple(
            MoveNote(move.save.slot, move.slot or None, note_of(move.save),
                     note_of(move.replaced) if move.replaced else None)
            for move in plan.moves
        ),
        shared=tuple(item.piece.title for item in plan.shared),
        rebuilt=plan.rebuilt, kind="bequest" if source.stands_for else "crossing",
    )  # fmt: skip
