"""Putting a folder back as a snapshot says it stood: bytes, names, attributes, time stamps."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

from clever_ferry.errors import NotFoundError
from clever_ferry.keeping.locker import Locker
from clever_ferry.keeping.snapshots import KeptFile, Snapshot
from clever_ferry.moving import disk
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.presence import folder_stands, stands
from clever_ferry.moving.replacing import Replacement
from clever_ferry.moving.system import changed
from clever_ferry.tree import Output

__all__ = ["put_back", "refuse_astray", "refuse_gone", "return_folders", "returning"]


def returning(locker: Locker, snapshot: Snapshot, files: FolderFiles) -> Iterator[Output]:
    """Yield what brings each path that a snapshot names back; what still stands is passed over."""
    for kept in snapshot.files:
        if not _stands(files, kept):
            yield Output(kept.path, locker.payload(kept), kept.stamp, attributes=kept.attributes)
    for path in snapshot.absent:
        if files.find(path) is not None:
            yield Output(path, None, 0)


def _stands(files: FolderFiles, kept: KeptFile) -> bool:
    """Tell whether a file was never replaced: the system's own number and change time are its."""
    real = files.find(kept.path)
    if real is None:
        return False
    data = real.stat()
    seen = (changed(data, real), data.st_ino)
    return seen[0] != 0 and (data.st_size, data.st_mtime_ns, seen) == (
        kept.size, kept.stamp, kept.seen
    )  # fmt: skip


def put_back(
    locker: Locker,
    snapshot: Snapshot,
    token: str,
    anchor: Path,
    anchor_stamp: int,
    announce: Callable[[Path, int], None] = lambda place, stamp: None,
) -> None:
    """Bring every path that the snapshot names to what it was. May be repeated after a kill.

    `anchor` is the folder that was there before, the snapshot's root or one above it, and
    `anchor_stamp` its time stamp then. Raises DamagedError, before anything changes, where a
    kept object can't be read.
    """
    refuse_gone(anchor)
    root = Path(snapshot.root)
    files = FolderFiles(root)
    if stands(root) or snapshot.files:
        with Replacement(files, token, announce=announce) as change:
            for output in returning(locker, snapshot, files):
                change.stage(output)
            change.settle()
            if change.failing:
                raise OSError(None, "; ".join(change.unkept))
            change.commit()
    return_folders(snapshot, anchor, anchor_stamp)


def refuse_gone(anchor: Path) -> None:
    """Raise NotFoundError where a folder that was there is not: it must not be made anew.

    What is made in the place of an unplugged drive is on another disk.
    """
    if not folder_stands(anchor):
        raise NotFoundError(
            f"The folder {anchor} is not there.",
            advice="If it is on a drive, plug that in, then run any cferry command. If it is gone "
            "for good: cferry log --give-up NUMBER, with the number of that change.",
        )


def refuse_astray(snapshot: Snapshot) -> None:
    """Raise RefusedError where a path that a snapshot names would lead out of its folder."""
    files = FolderFiles(Path(snapshot.root))
    folders = (*snapshot.absent_folders, *(there.path for there in snapshot.folders))
    for path in (*folders, *snapshot.absent, *(kept.path for kept in snapshot.files)):
        if path:
            files.inside(path)


def return_folders(snapshot: Snapshot, anchor: Path, anchor_stamp: int) -> None:
    """Bring the folders that a snapshot names to what they were, and their time stamps.

    Raises RefusedError, before anything changes, where one would lead elsewhere.
    """
    root = Path(snapshot.root)
    refuse_astray(snapshot)
    for folder in sorted(snapshot.absent_folders, key=len, reverse=True):
        _remove_empty(root / folder)
    if "" in snapshot.absent_folders:
        above = root.parent
        while above != anchor and anchor in above.parents:
            _remove_empty(above)
            above = above.parent
    for there in snapshot.folders:
        disk.make_folder(root / there.path)
    for there in sorted(snapshot.folders, key=lambda folder: len(folder.path), reverse=True):
        disk.set_times(root / there.path, there.stamp)
        disk.sync_folder(root / there.path)
    if not stands(root):
        disk.set_times(anchor, anchor_stamp)
        disk.sync_folder(anchor)


def _remove_empty(folder: Path) -> None:
    with suppress(FileNotFoundError):
        if folder_stands(folder) and not any(folder.iterdir()):
            disk.remove_folder(folder)
