"""Undoing a crossing or a restore: the target as it was before, to the byte."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from msgspec.structs import replace

from clever_ferry.cargo import digest_of
from clever_ferry.crossing.changing import Change, Outcome, Request, make_change, new_token
from clever_ferry.crossing.guarding import AtWork, refuse_changed
from clever_ferry.crossing.progress import Progress, silent
from clever_ferry.crossing.putting_back import refuse_astray, return_folders, returning
from clever_ferry.errors import (
    DamagedError,
    NotFoundError,
    NotProvenError,
    RefusedError,
    UnknownNameError,
)
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Locker, Reason
from clever_ferry.keeping.logbook import Logbook, Record
from clever_ferry.keeping.snapshots import KeptSave, Snapshot, kept_save
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.vouched import holds_just
from clever_ferry.tree import Output

__all__ = ["Undoing", "Undone", "plan_undo", "undo", "unlike"]


@dataclass(frozen=True)
class Undoing:
    """What undoing a crossing will do."""

    record: Record
    snapshot: Snapshot
    changed: tuple[str, ...]
    """Files that are no longer as the crossing left them: the player has played on."""
    standing: tuple[KeptSave, ...] = ()
    """The saves of today that change or go, as far as they can be read."""

    @property
    def later(self) -> tuple[KeptSave, ...]:
        """Those of them that were played or changed since the crossing."""
        return tuple(one for one in self.standing if set(one.files).intersection(self.changed))


@dataclass(frozen=True)
class Undone:
    """A crossing that was undone, and read back."""

    before: Snapshot
    """What stood there before."""
    unkept: tuple[str, ...]
    """Attributes that files could not be given here, in words."""


def plan_undo(
    keeps: Keeps, number: int | None, now: Callable[[Snapshot], OpenBerth | None]
) -> Undoing:
    """Say what undoing a crossing (the newest that can be, if None) will do.

    `now` gives the snapshot's berth as it stands, where it is known and can be read.

    Raises NotFoundError where there is none to undo, UnknownNameError for a number that
    is not in the logbook, RefusedError for a crossing that was undone already, and
    DamagedError where its backup can't be read.
    """
    record = _record(keeps.logbook, number)
    if record.state != "proved":
        raise RefusedError(f"{record.what.capitalize()} is {record.state} already.")
    _refuse_buried(keeps.logbook.records(), record)
    snapshot = keeps.locker.snapshot(record.backup)
    if snapshot.root != record.details.target.root:
        raise DamagedError(
            f"The backup of {record.what} is of another folder, so nothing was undone.",
            details=(f"Backup {snapshot.id}: {snapshot.root}",),
            advice="See whether CFERRY_LOCKER names the locker that it was made with.",
        )
    files = keeps.shores.folder(snapshot.root)
    refuse_astray(snapshot, files)
    for kept in snapshot.files:
        if keeps.locker.objects.fault(kept.digest):
            raise DamagedError(
                f"The backup of {kept.path} is damaged, so {record.what} can't be "
                "undone whole. Nothing was changed.",
                details=(f"Backup {snapshot.id} in {keeps.locker.folder}",),
                advice="`cferry backup verify` says what else is damaged.",
            )
    changed = tuple(_changed(record, files))
    opened = now(snapshot)
    concerned = {item.path for item in record.details.left}
    concerned |= {one.path for one in snapshot.files}
    standing = tuple(
        kept_save(save)
        for save in (opened.listing.saves if opened is not None else ())
        if concerned.intersection(save.files)
    )
    return Undoing(record, snapshot, changed, standing)


def _record(logbook: Logbook, number: int | None) -> Record:
    records = logbook.records()
    if number is None:
        proved = [record for record in records if record.state == "proved"]
        if not proved:
            raise NotFoundError(
                "There is no crossing to undo.", advice="`cferry log` lists all crossings."
            )
        return proved[0]
    found = [record for record in records if record.number == number]
    if not found:
        raise UnknownNameError(
            f"There is no crossing {number}.", advice="`cferry log` lists all crossings."
        )
    return found[0]


def _refuse_buried(records: list[Record], record: Record) -> None:
    """A later crossing over the same files must be undone first."""
    own = {item.path for item in record.details.left}
    for later in records:
        if (
            later.number > record.number
            and later.state == "proved"
            and later.details.target.root == record.details.target.root
            and own & {item.path for item in later.details.left}
        ):
            raise RefusedError(
                f"{later.what.capitalize()} changed the same files after {record.what}.",
                advice=f"Undo the later one first: cferry undo {later.number}",
            )


def _changed(record: Record, files: FolderFiles) -> list[str]:
    changed = []
    rebuilt = set(record.details.rebuilt)
    for item in record.details.left:
        if item.path in rebuilt:
            continue  # that the game has made it anew is no play
        info = files.info(item.path)
        if item.digest is None:
            same = info is None
        else:
            same = (
                info is not None
                and info.size == item.size
                and digest_of(files.payload(item.path)) == item.digest
            )
        if not same:
            changed.append(item.path)
    return changed


def undo(
    plan: Undoing,
    keeps: Keeps,
    at_work: AtWork,
    *,
    progress: Progress = silent,
    clock: Callable[[], int] = time.time_ns,
) -> Undone:
    """Bring the target back as it was before a crossing; what stands there now is kept first.

    `at_work` looks whether its game runs. Raises PutBackError where it can't be done; the
    target is then as it was before this undoing, and it may simply be tried again.
    """
    return make_change(_Undo(plan, keeps, clock()), keeps, at_work, progress, clock)


class _Undo(Change[Undone]):
    """What undoing a crossing does to its target."""

    def __init__(self, plan: Undoing, keeps: Keeps, started: int) -> None:
        self._plan, self._locker = plan, keeps.locker
        record, files = plan.record, keeps.shores.folder(plan.snapshot.root)
        self._snapshot = snapshot = _without_remade(plan.snapshot, record, files)
        self.request = Request(
            files, f"undoing {record.what}", tuple(one.path for one in snapshot.files),
            Reason(new_token(started), "undo", started, f"before undoing {record.what}",
                   snapshot.about, plan.standing),
            None, record.number, "undone", "proved",
            likely=tuple(kept.path for kept in snapshot.files),
            adding=snapshot.size,
            extra=tuple(one.path for one in snapshot.folders) + snapshot.absent_folders,
            exact=True,
        )  # fmt: skip

    def refuse_changed(self) -> None:
        """Look whether just what was shown was changed since the crossing."""
        now = _changed(self._plan.record, self.request.files)
        refuse_changed(changed=tuple(now) != self._plan.changed)

    def outputs(self) -> Iterator[Output]:
        """Yield what brings the snapshot's paths back."""
        return returning(self._locker, self._snapshot, self.request.files)

    def prove(self, outcome: Outcome) -> Undone:
        """Hold the target against the snapshot, its folders' times included."""
        details, files = self._plan.record.details, self.request.files
        anchor = files.path_of(details.anchor)
        return_folders(self._snapshot, files, anchor, details.anchor_stamp)
        if faults := unlike(self._snapshot, files, self._locker, outcome.excused):
            raise NotProvenError(
                "The target does not read back as it should, so nothing was undone.",
                details=tuple(f"  {path}" for path in faults),
                advice="Close the game and its store's program, then try again.",
            )
        return Undone(outcome.before, outcome.unkept)


def _without_remade(snapshot: Snapshot, record: Record, files: FolderFiles) -> Snapshot:
    """Return the snapshot without files that the game has made anew since, which go instead.

    Such a file speaks of all saves, and as it was before it may not agree with what others are now;
    the game makes it once more.
    """
    remade = {path for path in record.details.rebuilt if files.find(path) is not None}
    kept = tuple(one for one in snapshot.files if one.path not in remade)
    return replace(snapshot, files=kept, absent=(*snapshot.absent, *sorted(remade)))


def unlike(
    snapshot: Snapshot,
    files: FolderFiles,
    locker: Locker,
    excused: frozenset[str] = frozenset(),
) -> list[str]:
    """Return the paths that do not read back as a snapshot says: bytes, times, attributes.

    Attributes of `excused` files are passed over: nobody could give them here.
    """
    faults = [
        kept.path
        for kept in snapshot.files
        if (info := files.info(kept.path)) is None
        or info.size != kept.size
        or not files.shore.capabilities.same_time(info.stamp, kept.stamp)
        or not holds_just(files, kept.path, kept.digest, locker.payload(kept))
        or (kept.path not in excused and files.attributes(kept.path) != kept.attributes)
    ]
    return faults + [path for path in snapshot.absent if files.find(path) is not None]
