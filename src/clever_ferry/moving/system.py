"""What differs between operating systems when files are touched. All of it is here."""

from __future__ import annotations

import contextlib
import os
import sys
import time
from pathlib import Path
from types import TracebackType

from clever_ferry.errors import RefusedError

__all__ = ["WriteLock", "copy_attributes", "replace_file", "sync_folder"]

_PATIENCE = 2.0


def sync_folder(folder: Path) -> None:
    """Make renames in a folder last; where the system has no such call, there is nothing to do."""
    if os.name == "nt":
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def replace_file(new: Path, old: Path) -> None:
    """Put `new` in the place of `old` in one step.

    On Windows, a virus scanner or indexer may hold a file open for a moment; this waits
    for it up to two seconds.
    """
    deadline = time.monotonic() + _PATIENCE
    while True:
        try:
            new.replace(old)
            return
        except PermissionError:
            if os.name != "nt" or time.monotonic() > deadline:
                raise
            time.sleep(0.05)


def copy_attributes(mode: int, path: Path) -> None:
    """Give a file the permission bits of another."""
    with contextlib.suppress(NotImplementedError):
        path.chmod(mode & 0o7777)


class WriteLock:
    """Held while a target is written; the system frees it when its holder ends, however that is."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._file: int | None = None

    def held_elsewhere(self) -> bool:
        """Take the lock if nobody has it; return True where another process has."""
        self._path.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o600)
        try:
            _lock(handle)
        except OSError:
            os.close(handle)
            return True
        self._file = handle
        return False

    def __enter__(self) -> WriteLock:
        if self._file is None and self.held_elsewhere():
            raise RefusedError(
                "Another cferry is writing just now.",
                advice="Wait until it has finished, then run the same command again.",
            )
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.release()

    def release(self) -> None:
        """Let go of the lock, if it is held."""
        if self._file is not None:
            os.close(self._file)  # closing frees the lock on every system
            self._file = None


if sys.platform == "win32":
    import msvcrt

    def _lock(handle: int) -> None:
        msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)

else:
    import fcntl

    def _lock(handle: int) -> None:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
