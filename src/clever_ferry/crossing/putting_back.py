"""Putting a folder back as a snapshot says it stood: bytes, names, attributes, time stamps."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import PurePath

from clever_ferry.errors import NotFoundError
from clever_ferry.keeping.locker import Locker
from clever_ferry.keeping.snapshots import KeptFile, Snapshot
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.replacing import Replacement
from clever_ferry.moving.shore import Shore
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
    node = files.shore.node(real)
    return node is not None and node.change != 0 and (
        node.size, node.stamp, (node.change, node.number)
    ) == (kept.size, kept.stamp, kept.seen)  # fmt: skip


def put_back(
    locker: Locker,
    snapshot: Snapshot,
    files: FolderFiles,
    token: str,
    anchor: PurePath,
    anchor_stamp: int,
    announce: Callable[[PurePath, int], None] = lambda place, stamp: None,
) -> None:
    """Bring every path that the snapshot names to what it was. May be repeated after a kill.

    `files` is the snapshot's folder, `anchor` the one that was there before, that or one above
    it, and `anchor_stamp` its time stamp then. Raises DamagedError, before anything changes,
    where a kept object can't be read.
    """
    refuse_gone(files, anchor)
    if files.shore.kind(files.root) or snapshot.files:
        with Replacement(files, token, announce=announce) as change:
            for output in returning(locker, snapshot, files):
                change.stage(output)
            change.flush()
            if change.failing:
                raise OSError(None, "; ".join(change.unkept))
            change.commit()
    return_folders(snapshot, files, anchor, anchor_stamp)


def refuse_gone(files: FolderFiles, anchor: PurePath) -> None:
    """Raise NotFoundError where a folder that was there is not: it must not be made anew.

    What is made in the place of an unplugged drive is on another shore.
    """
    if files.shore.kind(anchor) != "folder":
        raise NotFoundError(
            f"The folder {anchor} is not there.",
            advice="If it is on a drive, plug that in, then run any cferry command. If it is gone "
            "for good: cferry log --give-up NUMBER, with the number of that change.",
        )


def refuse_astray(snapshot: Snapshot, files: FolderFiles) -> None:
    """Raise RefusedError where a path that a snapshot names would lead out of its folder."""
    folders = (*snapshot.absent_folders, *(there.path for there in snapshot.folders))
    for path in (*folders, *snapshot.absent, *(kept.path for kept in snapshot.files)):
        if path:
            files.inside(path)


def return_folders(
    snapshot: Snapshot, files: FolderFiles, anchor: PurePath, anchor_stamp: int
) -> None:
    """Bring the folders that a snapshot names to what they were, and their time stamps.

    Raises RefusedError, before anything changes, where one would lead elsewhere.
    """
    shore, root = files.shore, files.root
    refuse_astray(snapshot, files)
    for folder in sorted(snapshot.absent_folders, key=len, reverse=True):
        _remove_empty(shore, root / folder)
    if "" in snapshot.absent_folders:
        above = root.parent
        while above != anchor and anchor in above.parents:
            _remove_empty(shore, above)
            above = above.parent
    for there in snapshot.folders:
        shore.make_folder(root / there.path)
    for there in sorted(snapshot.folders, key=lambda folder: len(folder.path), reverse=True):
        shore.set_times(root / there.path, there.stamp)
        shore.sync_folder(root / there.path)
    if not shore.kind(root):
        shore.set_times(anchor, anchor_stamp)
        shore.sync_folder(anchor)


def _remove_empty(shore: Shore, folder: PurePath) -> None:
    with suppress(FileNotFoundError):
        if shore.kind(folder) == "folder" and not shore.names(folder):
            shore.remove_folder(folder)
