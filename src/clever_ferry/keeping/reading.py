"""A snapshot as a folder to read from, so that a backup is a berth like any other."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from clever_ferry.errors import NotFoundError
from clever_ferry.keeping.locker import Locker
from clever_ferry.keeping.snapshots import KeptFile, Snapshot
from clever_ferry.payload import Payload, StreamPayload
from clever_ferry.tree import FileInfo

__all__ = ["SnapshotFiles"]


class SnapshotFiles:
    """The files that a snapshot names, read from the locker."""

    def __init__(self, locker: Locker, snapshot: Snapshot, *, fold: bool) -> None:
        self._locker = locker
        self._files = {self._key(kept.path, fold): kept for kept in snapshot.files}
        self.fold = fold

    @staticmethod
    def _key(path: str, fold: bool) -> str:
        return path.casefold() if fold else path

    def walk(self, enter: Callable[[str], bool]) -> Iterator[FileInfo]:
        """Yield the files in the folders that `enter` lets in, sorted by path."""
        for kept in sorted(self._files.values(), key=lambda one: one.path):
            parts = kept.path.split("/")[:-1]
            if all(enter("/".join(parts[:depth])) for depth in range(1, len(parts) + 1)):
                yield _info(kept)

    def info(self, path: str) -> FileInfo | None:
        """Return one file's data, or None where the snapshot does not have it."""
        kept = self._files.get(self._key(path, self.fold))
        return _info(kept) if kept is not None else None

    def listed(self, info: FileInfo) -> Payload:
        """Return the bytes of a file that was listed."""
        return self.payload(info.path)

    def payload(self, path: str) -> Payload:
        """Return a file's bytes; reading them to the end checks their digest."""
        kept = self._files.get(self._key(path, self.fold))
        return self._locker.payload(kept) if kept is not None else StreamPayload(_none(path))


def _none(path: str) -> Callable[[], Iterator[bytes]]:
    """An absent file fails when it is read, and not before."""

    def chunks() -> Iterator[bytes]:
        raise NotFoundError(f"The backup does not have {path}.")
        yield b""

    return chunks


def _info(kept: KeptFile) -> FileInfo:
    return FileInfo(kept.path, kept.size, kept.stamp)
