"""Undoing a crossing, and setting right what a killed one has left."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from clever_ferry.cargo import digest_of
from clever_ferry.crossing.progress import Progress, silent
from clever_ferry.crossing.putting_back import put_back, sweep
from clever_ferry.errors import (
    DamagedError,
    FerryError,
    NotFoundError,
    PutBackError,
    RefusedError,
    UnknownNameError,
)
from clever_ferry.keeping import Locker, Logbook, Manifest, Record
from clever_ferry.moving import FolderFiles, WriteLock

__all__ = ["Recovered", "Undoing", "plan_undo", "recover", "undo"]


@dataclass(frozen=True)
class Undoing:
    """What undoing a crossing will do."""

    record: Record
    manifest: Manifest
    changed: tuple[str, ...]
    """Files that are no longer as the crossing left them: the player has played on."""


def plan_undo(locker: Locker, logbook: Logbook, number: int | None) -> Undoing:
    """Say what undoing a crossing (the newest that can be, if None) will do.

    Raises NotFoundError where there is none to undo, UnknownNameError for a number that
    is not in the logbook, RefusedError for a crossing that was undone already, and
    DamagedError where its backup can't be read.
    """
    records = logbook.records()
    if number is None:
        proved = [record for record in records if record.state == "proved"]
        if not proved:
            raise NotFoundError(
                "There is no crossing to undo.", advice="`cferry log` lists all crossings."
            )
        record = proved[0]
    else:
        found = [record for record in records if record.number == number]
        if not found:
            raise UnknownNameError(
                f"There is no crossing {number}.", advice="`cferry log` lists all crossings."
            )
        record = found[0]
    if record.state != "proved":
        raise RefusedError(f"Crossing {record.number} is {record.state} already.")
    _refuse_buried(records, record)
    manifest = locker.manifest(record.manifest)
    for kept in manifest.files:
        if not locker.holds(kept):
            raise DamagedError(
                f"The backup of {kept.path} is damaged, so crossing {record.number} can't be "
                "undone whole. Nothing was changed.",
                details=(f"Backup {manifest.id} in {locker.folder}",),
            )
    return Undoing(record, manifest, tuple(_changed(record, Path(manifest.root))))


def _refuse_buried(records: list[Record], record: Record) -> None:
    """A later crossing over the same files must be undone first."""
    own = {item["path"] for item in record.story.get("left", [])}
    for later in records:
        if (
            later.number > record.number
            and later.state == "proved"
            and later.story["to"]["root"] == record.story["to"]["root"]
            and own & {item["path"] for item in later.story.get("left", [])}
        ):
            raise RefusedError(
                f"Crossing {later.number} changed the same files after crossing {record.number}.",
                advice=f"Undo the later one first: cferry undo {later.number}",
            )


def _changed(record: Record, root: Path) -> list[str]:
    files = FolderFiles(root)
    changed = []
    for item in record.story.get("left", []):
        info = files.info(item["path"])
        if item["digest"] is None:
            same = info is None
        else:
            same = (
                info is not None
                and info.size == item["size"]
                and digest_of(files.payload(item["path"])) == item["digest"]
            )
        if not same:
            changed.append(item["path"])
    return changed


def undo(
    plan: Undoing,
    locker: Locker,
    logbook: Logbook,
    lock: WriteLock,
    *,
    progress: Progress = silent,
    clock: Callable[[], int] = time.time_ns,
) -> Manifest:
    """Bring the target back as it was before a crossing; what stands there now is kept first.

    Returns the manifest of what stood there. Raises PutBackError where it can't be done; it
    may then simply be tried again.
    """
    manifest, root = plan.manifest, Path(plan.manifest.root)
    token = f"{manifest.id}-undo-{secrets.token_hex(2)}"
    paths = [file.path for file in manifest.files] + list(manifest.absent)
    folders = [folder.path for folder in manifest.folders] + list(manifest.absent_folders)
    with lock:
        try:
            progress("backing up", 0, None)
            now = locker.keep(
                token, FolderFiles(root), paths, folders,
                made=clock(), note=f"before undoing crossing {plan.record.number}",
            )  # fmt: skip
            logbook.turn(plan.record.number, "undoing")
            progress("putting back", 0, None)
            put_back(locker, manifest, token, *_anchor(plan.record))
        except OSError as error:
            raise PutBackError(
                f"Crossing {plan.record.number} is not undone yet: {error}.",
                advice="See that the folder may be written to and that its disk has room; the "
                "next cferry command finishes it.",
            ) from error
        logbook.turn(plan.record.number, "undone", ended=clock())
    return now


@dataclass(frozen=True)
class Recovered:
    """A crossing that was killed half-way, and whether its target is now as it was before."""

    record: Record
    trouble: str = ""
    """Why it could not be put back yet."""


def recover(
    locker: Locker,
    logbook: Logbook,
    lock: WriteLock,
    *,
    clock: Callable[[], int] = time.time_ns,
) -> list[Recovered]:
    """Put back what killed crossings left half-way, and tell which those were.

    Does nothing while another process is at work.
    """
    if not logbook.left_over() or lock.held_elsewhere():
        return []
    try:
        done = []
        for record in logbook.left_over():
            try:
                _recover_one(record, locker)
            except (FerryError, OSError) as error:
                done.append(Recovered(record, str(error)))
                continue
            logbook.turn(
                record.number, "undone" if record.state == "undoing" else "put back", ended=clock()
            )
            done.append(Recovered(record))
        return done
    finally:
        lock.release()


def _recover_one(record: Record, locker: Locker) -> None:
    anchor, token = Path(record.story["anchor"]), record.story["token"]
    if record.state == "staging":
        sweep(anchor, token, record.story["anchor_stamp"])
        return
    sweep(anchor, token)
    put_back(
        locker,
        locker.manifest(record.manifest),
        f"{token}-back-{secrets.token_hex(2)}",
        *_anchor(record),
    )


def _anchor(record: Record) -> tuple[Path, int]:
    return Path(record.story["anchor"]), record.story["anchor_stamp"]
