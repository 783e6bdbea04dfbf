"""Restoring a backup where it was, as a change like any other; or into another folder."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from clever_ferry.cargo import digest_of
from clever_ferry.crossing.changing import Aim, Changed, change, new_token
from clever_ferry.crossing.guarding import await_quiet, left_by_us, refuse_changed
from clever_ferry.crossing.progress import Progress, Tally, silent
from clever_ferry.crossing.putting_back import refuse_astray, return_folders, returning
from clever_ferry.crossing.recording import recorded, save_story
from clever_ferry.crossing.undoing import attributes_at, unlike
from clever_ferry.errors import DamagedError, NotFoundError, NotProvenError
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Locker, Reason
from clever_ferry.keeping.snapshots import KeptSave, Snapshot, kept_save
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.outputs import new_folder
from clever_ferry.moving.replacing import Replacement
from clever_ferry.tree import FileInfo, Output

__all__ = ["Restored", "Restoring", "extract", "plan_restore", "refuse_damaged", "restore"]


@dataclass(frozen=True)
class Restoring:
    """What restoring a backup where it was will do."""

    snapshot: Snapshot
    root: Path
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
    refuse_astray(snapshot)
    refuse_damaged(keeps.locker, snapshot)
    root = Path(snapshot.root)
    files = FolderFiles(root)
    own = snapshot.by_path()
    comes = tuple(
        kept.path
        for kept in snapshot.files
        if (info := files.info(kept.path)) is None
        or (info.size, info.stamp) != (kept.size, kept.stamp)
        or digest_of(files.payload(kept.path)) != kept.digest
        or attributes_at(files, kept.path) != kept.attributes
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
    return Restoring(snapshot, root, comes, tuple(goes), tuple(replaced), seen)


def _in_the_way(snapshot: Snapshot, now: OpenBerth, own: set[str]) -> list[str]:
    if snapshot.kind != "backup":
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
    *,
    progress: Progress = silent,
    clock: Callable[[], int] = time.time_ns,
) -> Restored:
    """Bring a folder back as a backup has it; what stands there now is kept first.

    Raises PutBackError and NotProvenError as a crossing does; the folder is then as it was.
    """
    snapshot, made = plan.snapshot, clock()
    files = FolderFiles(plan.root)
    token = new_token(made)
    with keeps.lock(plan.root, f"restoring {snapshot.about.address}"):
        keeps.journal.refuse_open(plan.root)
        await_quiet(files, plan.comes + plan.goes, left_by_us(keeps, plan.root))
        refuse_changed(changed={path: files.info(path) for path in plan.seen} != plan.seen)
        story = _story(plan, keeps)
        with recorded(keeps, token, made, story, clock) as number:
            aim = Aim(
                files, f"restore {number}", number, "proved", "put back",
                Reason(token, "restore", made, f"before restoring {snapshot.id}", snapshot.about,
                       plan.replaced),
                likely=plan.comes + plan.goes, adding=snapshot.size, story=story, exact=True,
                extra=tuple(one.path for one in snapshot.folders),
            )  # fmt: skip

            def settle(done: Changed) -> Restored:
                return_folders(snapshot, done.anchor, done.anchor_stamp)
                if faults := unlike(snapshot, files, done.excused):
                    raise NotProvenError(
                        "The folder does not read back as it should, so it was put back.",
                        details=tuple(f"  {path}" for path in faults),
                        advice="Close the game and its store's program, then try again.",
                    )
                return Restored(number, done.before, done.unkept)

            def outputs() -> Iterator[Output]:
                yield from returning(keeps.locker, snapshot, files)
                for path in plan.goes:
                    yield Output(path, None, made, tidy=True)

            return change(aim, keeps, outputs, settle, progress, clock)


def _story(plan: Restoring, keeps: Keeps) -> dict[str, Any]:
    snapshot = plan.snapshot
    standing = {save.slot: save for save in plan.replaced}
    return {
        "kind": "restore",
        "game": snapshot.about.title.partition(":")[0],
        "from": {
            "address": f"backup {snapshot.id}",
            "title": f"backup {snapshot.id}",
            "root": str(keeps.locker.folder),
        },
        "to": {
            "address": snapshot.about.address,
            "title": snapshot.about.title.partition(": ")[2],
            "root": snapshot.root,
        },
        "moves": [
            {
                "from_slot": save.slot,
                "to_slot": save.slot,
                "save": save_story(save),
                "replaced": save_story(standing[save.slot]) if save.slot in standing else None,
            }
            for save in snapshot.saves
        ],
    }


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
            change_.settle()
            if change_.failing:
                raise OSError(None, "; ".join(change_.unkept))
            change_.commit()
        if not change_.clean:
            raise OSError(None, "what was staged there can't be removed")
    return [kept.path for kept in chosen], change_.unkept
