"""The locker: backups below one folder, which is all that is needed to list and restore them.

`objects/` holds contents, `snapshots/` says how folders stood; `writing.lock` keeps two that
write apart, and `list.sqlite` is a copy of the snapshots in short, made anew when it is gone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.keeping.listing import list_snapshots
from clever_ferry.keeping.objects import Objects
from clever_ferry.keeping.snapshots import (
    About,
    Kept,
    KeptFile,
    KeptFolder,
    KeptSave,
    Kind,
    Snapshot,
    Snapshots,
)
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.local import LOCAL, LocalShore
from clever_ferry.moving.shore import Node
from clever_ferry.moving.system import WriteLock

if TYPE_CHECKING:
    from clever_ferry.payload import Payload

__all__ = ["Locker", "Packing", "Reason"]

_PATIENCE = 60.0
_SETTLED = 3 * 10**9
"""A file that changed within 3 s before a snapshot may change again unseen: FAT's times are in
steps of 2 s."""


@dataclass(frozen=True)
class Reason:
    """What a snapshot is for."""

    id: str
    kind: Kind
    made: int
    note: str
    about: About
    saves: tuple[KeptSave, ...] = ()


class Locker:
    """Backups below one folder."""

    def __init__(self, folder: Path, shore: LocalShore = LOCAL) -> None:
        self.folder, self._shore = folder, shore
        self.objects = Objects(folder / "objects", shore)
        self.snapshots = Snapshots(folder / "snapshots", shore)

    @contextmanager
    def packing(self, what: str) -> Iterator[Packing]:
        """Hold the locker for writing; another that writes is waited for up to a minute."""
        with self.writing(what):
            for left in self.objects.leftovers():
                self._shore.unlink(left)
            try:
                yield Packing(self)
            finally:
                self.objects.abandon()

    @contextmanager
    def writing(self, what: str) -> Iterator[None]:
        """Hold the locker's lock."""
        lock = WriteLock(self.folder / "writing.lock", what)
        if not lock.take(_PATIENCE):
            raise RefusedError(
                "Another cferry is writing to the locker.",
                details=(f"It is {lock.holder()}.",),
                advice="Wait until it has finished, then run the same command again.",
            )
        try:
            yield
        finally:
            lock.release()

    def snapshot(self, ident: str) -> Snapshot:
        """Read a snapshot; raises DamagedError where it is missing or can't be read."""
        return self.snapshots.read(ident)

    def payload(self, file: KeptFile) -> Payload:
        """Return a kept file's bytes; reading them to the end checks their digest."""
        return self.objects.payload(file.digest, file.size)

    def listed(self, newest: int | None = None) -> tuple[list[Kept], int, list[str]]:
        """Return snapshots in short, the newest first; their number; what can't be read."""
        return list_snapshots(self.snapshots, self.folder / "list.sqlite", newest)

    def latest_of(self, root: str, kinds: tuple[Kind, ...] = ("backup",)) -> Snapshot | None:
        """Return the newest backup of a folder, of those that were asked for or of other kinds."""
        for one in self.listed()[0]:
            if one.kind in kinds and one.root == root:
                with suppress(DamagedError):  # an earlier one will do, or none
                    return self.snapshot(one.id)
        return None


@dataclass
class Packing:
    """One snapshot in the making, while the locker is held."""

    locker: Locker
    _taken: dict[tuple[str, int, int], str] = field(default_factory=dict)

    def take_in(
        self,
        files: FolderFiles,
        paths: Iterable[str],
        progress: Callable[[int], None] = lambda _: None,
    ) -> None:
        """Put files' contents into the locker, ahead of the snapshot that will name them."""
        for path in paths:
            info = files.info(path)
            if info is not None:
                payload = files.payload(path)
                self._taken[(info.path, info.size, info.stamp)] = self.locker.objects.put(
                    payload, progress
                )

    def keep(
        self,
        reason: Reason,
        files: FolderFiles,
        paths: Iterable[str],
        folders: Iterable[str],
        *,
        stamps: dict[str, int] | None = None,
        trust: Snapshot | None = None,
        progress: Callable[[int], None] = lambda _: None,
    ) -> Snapshot:
        """Keep how these paths and folders stand now, verified; `stamps` overrides folders' own.

        A file that `trust`, an earlier snapshot of the folder, has seen with the very same
        size, times and number is not read again. Raises DamagedError where a kept object
        does not read back as what was put in.
        """
        earlier = trust.by_path() if trust is not None else {}
        kept: list[KeptFile] = []
        absent: list[str] = []
        for path in dict.fromkeys(paths):
            real = files.find(path)
            node = files.shore.node(real) if real is not None else None
            if real is None or node is None or node.kind != "file":
                absent.append(path)
                continue
            digest = self._digest(files, path, node, earlier.get(path), trust, progress)
            own = files.shore.attributes(real)
            seen = (node.change, node.number)
            kept.append(KeptFile(path, node.size, node.stamp, digest, own, seen))
        there: list[KeptFolder] = []
        missing: list[str] = []
        for folder in dict.fromkeys(folders):
            place = files.root / folder
            now = files.shore.node(place)
            if now is not None and files.shore.kind(place) == "folder":
                there.append(KeptFolder(folder, (stamps or {}).get(folder, now.stamp)))
            else:
                missing.append(folder)
        self.locker.objects.sync()
        snapshot = Snapshot(
            reason.id, reason.kind, reason.made, reason.note, files.text, reason.about,
            reason.saves, tuple(kept), tuple(absent), tuple(there), tuple(missing),
        )  # fmt: skip
        self.locker.snapshots.write(snapshot)
        return snapshot

    def _digest(
        self, files: FolderFiles, path: str, node: Node, earlier: KeptFile | None,
        trust: Snapshot | None, progress: Callable[[int], None],
    ) -> str:  # fmt: skip
        """Return the digest of a file's content, which is in the locker then."""
        seen = (node.change, node.number)
        now = (path, node.size, node.stamp)
        if (
            earlier is not None
            and trust is not None
            and seen[0]  # where the system tells it
            and (earlier.path, earlier.size, earlier.stamp, earlier.seen) == (*now, seen)
            and max(node.stamp, seen[0]) < trust.made - _SETTLED
            and earlier.digest in self.locker.objects
        ):
            progress(node.size)
            return earlier.digest
        if now in self._taken:
            return self._taken[now]
        return self.locker.objects.put(files.payload(path), progress)
