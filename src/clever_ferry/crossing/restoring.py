"""Restoring a backup where it was, as a change like any other; or into another folder."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from clever_ferry.crossing.changing import Change, Outcome, Request, make_change, new_token
from clever_ferry.crossing.guarding import AtWork, refuse_changed
from clever_ferry.crossing.notes import note_of
from clever_ferry.crossing.progress import Progress, Tally, silent
from clever_ferry.crossing.putting_back import refuse_astray, return_folders, returning
from clever_ferry.crossing.undoing import unlike
from clever_ferry.errors import DamagedError, NotFoundError, NotProvenError
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Locker, Reason
from clever_ferry.keeping.logbook import Details, MoveNote, Side
from clever_ferry.keeping.snapshots import KeptSave, Snapshot, kept_save
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.outputs import new_folder
from clever_ferry.moving.replacing import Replacement
from clever_ferry.moving.vouched import holds_just
from clever_ferry.tree import FileInfo, Output

__all__ = ["Restored", "Restoring", "extract", "plan_restore", "refuse_damaged", "restore"]


@dataclass(frozen=True)
class Restoring:
    """What restoring a backup where it was will do."""

    snapshot: Snapshot
    files: FolderFiles
    comes: tuple[str, ...]
    """Files that are not there now, or not as they were."""
    goes: tuple[str, ...]
    """Files of today that contradict the backup: of the same box, or of a save in the same slot."""
    replaced: tuple[KeptSave, ...]
    """The saves of today that change or go."""
    seen: Mapping[str, FileInfo | None]
    """The files of the backup and of today, as they stood when this was planned."""


@dataclass(frozen=True)
class Restored:
    """A backup that was restored and read back."""

    number: int
    before: Snapshot
    """How the folder stood before."""
    unkept: tuple[str, ...] = ()
    """Attributes that files could not be given here, in words."""


def plan_restore(keeps: Keeps, snapshot: Snapshot, now: OpenBerth | None) -> Restoring:
    """Say what restoring a backup where it was will do; `now` is its berth of today, if known.

    Raises DamagedError where an object of it is damaged, and NotFoundError where all stands
    as it did.
    """
    files = keeps.shores.folder(snapshot.root)
    refuse_astray(snapshot, files)
    refuse_damaged(keeps.locker, snapshot)
    own = snapshot.by_path()
    comes = tuple(
        kept.path
        for kept in snapshot.files
        if (info := files.info(kept.path)) is None
        or (info.size, info.stamp) != (kept.size, kept.stamp)
        or not holds_just(files, kept.path, kept.digest, keeps.locker.payload(kept))
        or files.attributes(kept.path) != kept.attributes
    )
    goes = [path for path in snapshot.absent if files.find(path) is not None]
    replaced: list[KeptSave] = []
    if now is not None:
        goes += _in_the_way(snapshot, now, set(own))
        concerned = {*comes, *goes}
        replaced = [
            kept_save(save) for save in now.listing.saves if concerned.intersection(save.files)
        ]
    goes = list(dict.fromkeys(goes))
    if not comes and not goes:
        raise NotFoundError("Everything stands as in that backup: there is nothing to restore.")
    paths = [*own, *goes, *(now.contents.files if now is not None else ())]
    seen = {path: files.info(path) for path in paths}
    return Restoring(snapshot, files, comes, tuple(goes), tuple(replaced), seen)


def _in_the_way(snapshot: Snapshot, now: OpenBerth, own: set[str]) -> list[str]:
    if snapshot.kind not in ("backup", "watched"):
        return []
    if snapshot.about.boxed:
        return [path for path in now.contents.files if path not in own]
    edition = now.berth.edition
    slots = {save.slot for save in snapshot.saves} if edition.numbered else set()
    keys = {save.key for save in snapshot.saves}
    return [
        path
        for save in now.listing.saves
        if save.slot in slots or kept_save(save).key in keys
        for path in save.files
        if path not in own
    ]


def refuse_damaged(locker: Locker, snapshot: Snapshot, paths: Sequence[str] | None = None) -> None:
    """Raise DamagedError, with the saves it concerns, where a content can't be read whole."""
    wanted = None if paths is None else set(paths)
    bad = [
        kept.path
        for kept in snapshot.files
        if (wanted is None or kept.path in wanted) and locker.objects.fault(kept.digest)
    ]
    if bad:
        saves = ", ".join(save.title for save in snapshot.saves_of(bad)) or "no save"
        raise DamagedError(
            f"The backup {snapshot.id} is damaged, so nothing of it was restored.",
            details=(f"Concerned: {saves}", *(f"  {path}" for path in bad[:10])),
            advice="Another backup may have it whole: `cferry backup list`. With --slot, saves "
            "that are not concerned can still be restored.",
        )


def restore(
    plan: Restoring,
    keeps: Keeps,
    at_work: AtWork,
    *,
    progress: Progress = silent,
    clock: Callable[[], int] = time.time_ns,
) -> Restored:
    """Bring a folder back as a backup has it; what stands there now is kept first.

    `at_work` looks whether its game runs. Raises PutBackError and NotProvenError as a crossing
    does; the folder is then as it was.
    """
    return make_change(_Restore(plan, keeps.locker, clock()), keeps, at_work, progress, clock)


class _Restore(Change[Restored]):
    """What restoring a whole backup does to its folder."""

    def __init__(self, plan: Restoring, locker: Locker, started: int) -> None:
        self._plan, self._locker, self._started = plan, locker, started
        snapshot = plan.snapshot
        self.request = Request(
            plan.files, f"restoring {snapshot.about.address}", plan.comes + plan.goes,
            Reason(new_token(started), "restore", started, f"before restoring {snapshot.id}",
                   snapshot.about, plan.replaced),
            _details(plan, locker),
            likely=plan.comes + plan.goes, adding=snapshot.size, exact=True,
            extra=tuple(one.path for one in snapshot.folders),
        )  # fmt: skip

    def refuse_changed(self) -> None:
        """Look whether all files stand as they were shown."""
        files, seen = self.request.files, self._plan.seen
        refuse_changed(changed={path: files.info(path) for path in seen} != seen)

    def outputs(self) -> Iterator[Output]:
        """Yield what brings the backup's paths back, and what contradicts it."""
        yield from returning(self._locker, self._plan.snapshot, self.request.files)
        for path in self._plan.goes:
            yield Output(path, None, self._started, tidy=True)

    def prove(self, outcome: Outcome) -> Restored:
        """Hold the folder against the backup, its folders' times included."""
        snapshot, files = self._plan.snapshot, self.request.files
        return_folders(snapshot, files, outcome.anchor, outcome.anchor_stamp)
        if faults := unlike(snapshot, files, self._locker, outcome.excused):
            raise NotProvenError(
                "The folder does not read back as it should, so it was put back.",
                details=tuple(f"  {path}" for path in faults),
                advice="Close the game and its store's program, then try again.",
            )
        return Restored(outcome.number, outcome.before, outcome.unkept)


def _details(plan: Restoring, locker: Locker) -> Details:
    snapshot = plan.snapshot
    standing = {save.slot: save for save in plan.replaced}
    named = f"backup {snapshot.id}"
    return Details(
        snapshot.about.title.partition(":")[0],
        Side(named, named, str(locker.folder)),
        Side(snapshot.about.address, snapshot.about.title.partition(": ")[2], snapshot.root),
        tuple(
            MoveNote(save.slot, save.slot, note_of(save),
                     note_of(standing[save.slot]) if save.slot in standing else None)
            for save in snapshot.saves
        ),
        kind="restore",
    )  # fmt: skip


def extract(
    locker: Locker,
    snapshot: Snapshot,
    folder: Path,
    paths: Sequence[str] | None = None,
    progress: Progress = silent,
) -> tuple[list[str], list[str]]:
    """Write a backup's files (or some) into a folder that is new or empty.

    Returns their paths, and in words which attributes could not be given there.

    Raises RefusedError where the folder holds something, DamagedError where a content does.
    """
    wanted = None if paths is None else set(paths)
    chosen = [kept for kept in snapshot.files if wanted is None or kept.path in wanted]
    refuse_damaged(locker, snapshot, [kept.path for kept in chosen])
    tally = Tally(progress, "putting back", sum(kept.size for kept in chosen))
    with new_folder(folder) as part:
        change_ = Replacement(FolderFiles(part), snapshot.id)
        with change_:
            for kept in chosen:
                payload, own = locker.payload(kept), kept.attributes
                change_.stage(Output(kept.path, payload, kept.stamp, attributes=own), tally)
            change_.flush()
            if change_.failing:
                raise OSError(None, "; ".join(change_.unkept))
            change_.commit()
        if not change_.clean:
            raise OSError(None, "what was staged there can't be removed")
    return [kept.path for kept in chosen], change_.unkept
