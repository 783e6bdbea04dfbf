"""Carrying out: stage, back up, write down, replace, prove; or put back."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from clever_ferry.boxes import Making
from clever_ferry.cargo import Save
from clever_ferry.crossing.planning import Move, Plan
from clever_ferry.crossing.progress import Progress, Tally, silent
from clever_ferry.crossing.putting_back import put_back
from clever_ferry.errors import DamagedError, FerryError, NotProvenError, PutBackError, RefusedError
from clever_ferry.finding.berths import open_berth
from clever_ferry.keeping import Locker, Logbook, Manifest
from clever_ferry.moving import Replacement, WriteLock, refuse_forbidden
from clever_ferry.proving.comparing import Proof, prove, untouched

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


def carry_out(
    plan: Plan,
    locker: Locker,
    logbook: Logbook,
    lock: WriteLock,
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
    token = f"{time.strftime('%Y%m%d-%H%M%S', time.gmtime(started / 1e9))}-{secrets.token_hex(3)}"
    with lock:
        _refuse_damaged_inside(plan)
        _refuse_changed(plan)
        try:
            change = Replacement(plan.target.berth.files, token)
            with change:
                return _within(change, plan, locker, logbook, token, started, progress, clock)
        except OSError as error:
            raise PutBackError(
                f"Nothing was carried: {_in_words(error)}.",
                details=(f"Target: {plan.target.berth.root}",),
                advice="The target is as it was. See that the folder may be written to and that "
                "its disk has room, then try again.",
            ) from error


def _within(
    change: Replacement, plan: Plan, locker: Locker, logbook: Logbook, token: str,
    started: int, progress: Progress, clock: Callable[[], int],
) -> Crossed:  # fmt: skip
    target = plan.target.berth
    story = _story(plan, change, token)
    number = logbook.begin(started=started, manifest=token, story=story)
    try:
        _stage(change, plan, Making(started, secrets.token_bytes), progress)
        manifest = locker.keep(
            token, target.files, [item.path for item in change.staged], change.folders(),
            made=started, note=f"before {plan.source.berth.address} to {target.address}",
            stamps={"": change.anchor_stamp} if change.anchor == target.root else None,
            progress=Tally(progress, "backing up", sum(save.size for save in plan.replaced)),
        )  # fmt: skip
    except BaseException as error:
        change.forget()
        _log_put_back(logbook, number, story, error, clock)
        raise
    story["left"] = [
        {"path": item.path, "digest": item.digest, "size": item.size} for item in change.staged
    ]
    logbook.turn(number, "replacing", story=story)
    try:
        progress("replacing", 0, None)
        change.commit()
        proofs = _prove(plan, progress)
        story["facts"] = [
            {pair.label: pair.after for pair in proof.facts if pair.after} for proof in proofs
        ]
        logbook.turn(number, "proved", ended=clock(), story=story)
    except BaseException as error:
        progress("putting back", 0, None)
        _put_back_now(change, locker, manifest, token, error)
        _log_put_back(logbook, number, story, error, clock)
        raise
    return Crossed(number, tuple(proofs), token, manifest.size)


def _put_back_now(
    change: Replacement, locker: Locker, manifest: Manifest, token: str, error: BaseException
) -> None:
    try:
        change.discard()
        put_back(locker, manifest, f"{token}-back", change.anchor, change.anchor_stamp)
    except (OSError, FerryError) as second:
        raise PutBackError(
            f"The crossing failed ({error}), and the target could not be put back yet: {second}.",
            details=(f"Target: {manifest.root}", f"Backup: {manifest.id} in {locker.folder}"),
            advice="Do not start the game. See that the disk is there and has room; the next "
            "cferry command puts the target back.",
        ) from error


def _log_put_back(
    logbook: Logbook, number: int, story: dict[str, Any], error: BaseException,
    clock: Callable[[], int],
) -> None:  # fmt: skip
    reason = error.what if isinstance(error, FerryError) else str(error) or "stopped"
    logbook.turn(number, "put back", ended=clock(), story={**story, "reason": reason})


def _stage(change: Replacement, plan: Plan, making: Making, progress: Progress) -> None:
    target = plan.target
    puts = [item.put for move in plan.moves for item in move.laid]
    removes = [name for move in plan.moves for name in move.removes]
    tally = Tally(progress, "reading", plan.size)
    for output in target.berth.edition.box.write(target.contents, puts, removes, making):
        refuse_forbidden(output.path, target.berth.system)
        change.stage(output, tally)


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
    concerned = {item.put.name for move in plan.moves for item in move.laid}
    concerned |= {name for move in plan.moves for name in move.removes}
    faults = [f"{p.save.title}: {fault}" for p in proofs for fault in p.faults]
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


def _refuse_damaged_inside(plan: Plan) -> None:
    """Stop before the first byte where a piece that can be checked through is damaged."""
    for move in plan.moves:
        for piece in move.save.pieces:
            if plan.source.berth.game.pieces[piece.role].opens:
                problem = plan.source.berth.edition.reader.check(piece)
                if problem:
                    raise DamagedError(
                        f"{move.save.title} is damaged, so nothing was carried.",
                        details=(f"  {piece.entry}: {problem}",),
                        advice="Look for an older copy of it, such as an autosave.",
                    )


def _refuse_changed(plan: Plan) -> None:
    now = open_berth(plan.target.berth, facts=False, given=plan.given).contents
    if untouched(plan.target.contents, now, set()) or len(now.entries) != len(
        plan.target.contents.entries
    ):
        raise RefusedError(
            "The target changed after the plan was shown, so nothing was carried.",
            advice="Close the game and its store's program, then run the same command again.",
        )


def _story(plan: Plan, change: Replacement, token: str) -> dict[str, Any]:
    source, target = plan.source.berth, plan.target.berth
    return {
        "game": target.game.title,
        "from": {"address": source.address, "title": source.title, "root": str(source.root)},
        "to": {"address": target.address, "title": target.title, "root": str(target.root)},
        "moves": [_move_story(move) for move in plan.moves],
        "anchor": str(change.anchor),
        "anchor_stamp": change.anchor_stamp,
        "token": token,
    }


def _move_story(move: Move) -> dict[str, Any]:
    return {
        "from_slot": move.save.slot,
        "to_slot": move.slot or None,
        "save": _save_story(move.save),
        "replaced": _save_story(move.replaced) if move.replaced else None,
    }


def _save_story(save: Save) -> dict[str, Any]:
    return {"name": save.title, "facts": {fact.label: fact.text for fact in save.facts}}


def _in_words(error: OSError) -> str:
    where = f" ({error.filename})" if error.filename else ""
    return f"{(error.strerror or str(error)).lower()}{where}"
