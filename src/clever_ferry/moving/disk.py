"""Every operation by which the tool changes a disk, and the reading of files.

The rooms that promise that nothing is lost (`moving`, `keeping`, `crossing`) change files
through these functions alone, so that tests can let each of them fail, kill the program at
it, or forget what was never synced.
"""

from __future__ import annotations

import os
import shutil
import stat
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, BinaryIO, Self

from clever_ferry.moving import system
from clever_ferry.moving.presence import folder_stands
from clever_ferry.moving.system import Attributes, Unkept

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

__all__ = [
    "LARGE",
    "OWN",
    "Beside",
    "Reader",
    "Writer",
    "copy",
    "create",
    "device_of",
    "free_bytes",
    "give_attributes",
    "make_folder",
    "open_plain",
    "open_to_read",
    "read_front",
    "read_whole",
    "remove_folder",
    "rename",
    "set_times",
    "sync",
    "sync_folder",
    "unlink",
    "write_synced",
]


class _Open:
    """A file that is open until it is closed, or its `with` block is left."""

    def __init__(self, path: Path | str, flags: int, mode: int = 0o666) -> None:
        self._handle = os.open(path, flags | _BINARY, mode)

    def close(self) -> None:
        """Let go of the file."""
        if self._handle >= 0:  # free: none that is opened is 0, which is the program's input
            handle, self._handle = self._handle, -1
            os.close(handle)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()


class Writer(_Open):
    """A new file that is being written; `sync` makes its bytes last."""

    def __init__(self, path: Path, mode: int = 0o666) -> None:
        super().__init__(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
        self.path = path
        system.inherit_owner(path)

    def write(self, data: bytes | memoryview) -> None:
        """Write all of it."""
        view = memoryview(data)
        while view:
            view = view[os.write(self._handle, view) :]

    def sync(self) -> None:
        """Have what was written on the disk itself."""
        os.fsync(self._handle)

    def finish(self, stamp: int, attributes: Attributes | None = None) -> list[Unkept]:
        """Give the file its time and attributes, have all of it on the disk, and close it.

        Returns the attributes that it could not be given.
        """
        unkept: list[Unkept] = []
        if os.name == "nt":  # there, closing a file sets its time once more
            self.sync()
            self.close()
        set_times(self.path, stamp)
        if attributes is not None:
            unkept = give_attributes(self.path, attributes)
        if os.name != "nt":
            self.sync()
            self.close()
        return unkept


class Beside:
    """Steps over large files, begun in their order, two at a time, beside their caller's work.

    Nothing may rely on such a step before `wait` has returned, or the step's own future.
    """

    def __init__(self) -> None:
        self._pool: ThreadPoolExecutor | None = None
        self._waiting: list[Future[None]] = []

    def do(self, step: Callable[[], None], size: int) -> Future[None] | None:
        """Take a step: for a small file at once, for a large one in its turn."""
        if size < LARGE:
            step()
            return None
        if self._pool is None:
            from concurrent.futures import ThreadPoolExecutor

            self._pool = ThreadPoolExecutor(2)
        self._waiting.append(self._pool.submit(step))
        return self._waiting[-1]

    def wait(self) -> None:
        """Return once all steps are taken; raises what went wrong with one."""
        waiting, self._waiting = self._waiting, []
        pool, self._pool = self._pool, None
        if pool is not None:
            pool.shutdown()
        for one in waiting:
            one.result()


LARGE = 4 << 20
"""Bytes from which on a file is worth another thread."""


class Reader(_Open):
    """A file that is being read."""

    def __init__(self, path: Path | str) -> None:
        super().__init__(path, os.O_RDONLY | _AT_ONCE)
        self._refuse_unplain(path)

    def _refuse_unplain(self, path: Path | str) -> None:
        try:
            _refuse_unplain(self._handle, path)
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        """Let go of the file; what was read was read, whatever the system says of that."""
        with suppress(OSError):
            super().close()

    def read(self, count: int) -> bytes:
        """Return the next bytes, none at the end."""
        return os.read(self._handle, count)

    def seek(self, offset: int) -> None:
        """Go on reading from another place."""
        os.lseek(self._handle, offset, os.SEEK_SET)

    def stat(self) -> os.stat_result:
        """Return the open file's data."""
        return os.fstat(self._handle)


_BINARY = getattr(os, "O_BINARY", 0) | getattr(os, "O_NOINHERIT", 0)
_AT_ONCE = getattr(os, "O_NONBLOCK", 0)
"""So that a pipe is not waited for when it is opened; a plain file does not know the difference."""
_READ = os.O_RDONLY | _BINARY | _AT_ONCE


def _refuse_unplain(handle: int, path: Path | str) -> os.stat_result:
    data = os.fstat(handle)
    if not stat.S_ISREG(data.st_mode):
        raise OSError(None, "it is no plain file", str(path))
    return data


OWN = 0o600
"""What only this user may read: the tool's own files, which have what saves say."""


def create(path: Path, mode: int = 0o666) -> Writer:
    """Begin a file that is not there yet, with these permissions as far as the umask lets it."""
    return Writer(path, mode)


def open_to_read(path: Path | str) -> Reader:
    """Open a file; it is never locked nor changed."""
    return Reader(path)


def read_front(path: Path | str, count: int) -> tuple[bytes, os.stat_result]:
    """Return a file's first bytes, fewer where it is shorter, and its data after that."""
    handle = os.open(path, _READ)
    try:
        _refuse_unplain(handle, path)
        found = os.read(handle, count)
        while len(found) < count and (more := os.read(handle, count - len(found))):
            found += more
        return found, os.fstat(handle)
    finally:
        os.close(handle)


def open_plain(path: Path) -> BinaryIO:
    """Open a plain file for reading; raises OSError where it is another kind of thing."""
    handle = os.open(path, _READ)
    try:
        _refuse_unplain(handle, path)
        return os.fdopen(handle, "rb")
    except BaseException:
        os.close(handle)
        raise


def read_whole(path: Path | str, most: int) -> bytes:
    """Return all of a plain file of at most `most` bytes.

    Raises OSError where it is larger, or no plain file: a pipe would be waited for without end.
    """
    handle = os.open(path, _READ)
    try:
        data = _refuse_unplain(handle, path)
        if data.st_size > most:
            raise OSError(None, f"it has {data.st_size:,} bytes, over {most:,}", str(path))
        found = b""
        while chunk := os.read(handle, most + 1 - len(found)):
            found += chunk
            if len(found) > most:
                raise OSError(None, f"it has over {most:,} bytes", str(path))
        return found
    finally:
        os.close(handle)


def copy(source: Path, new: Path) -> None:
    """Copy a file's bytes to a file of the tool's own, by the system's quickest way."""
    create(new, OWN).close()
    shutil.copyfile(source, new)


def sync(path: Path) -> None:
    """Have a file's bytes on the disk itself."""
    handle = os.open(path, os.O_RDWR | _BINARY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def rename(old: Path, new: Path) -> None:
    """Give a file another name, in place of what has that name, in one step."""
    system.replace_file(old, new)


def unlink(path: Path) -> None:
    """Remove a file; one that is not there is fine."""
    with suppress(FileNotFoundError):
        system.remove_file(path)


def make_folder(path: Path) -> None:
    """Make a folder and those above it; those that are there are fine."""
    missing = []
    while not folder_stands(path):
        missing.append(path)
        path = path.parent
    for folder in reversed(missing):
        _make_one(folder)


def _make_one(path: Path) -> None:
    with suppress(FileExistsError):
        path.mkdir()
        system.inherit_owner(path)


def remove_folder(path: Path) -> None:
    """Remove an empty folder."""
    path.rmdir()


def set_times(path: Path, stamp: int) -> None:
    """Set the time of the last change, in ns since 1970."""
    os.utime(path, ns=(stamp, stamp))


def give_attributes(path: Path, attributes: Attributes) -> list[Unkept]:
    """Give a file permissions, owner and the system's own marks; return what it can't be given."""
    return system.give_attributes(path, attributes)


def sync_folder(path: Path) -> None:
    """Make renames, new and removed names in a folder last."""
    system.sync_folder(path)


def free_bytes(path: Path) -> int:
    """Return how many bytes the disk of a folder has room for."""
    return shutil.disk_usage(path).free


def device_of(path: Path) -> int:
    """Return a number that is the same for all folders of one file system."""
    return path.stat().st_dev


def write_synced(path: Path, data: bytes) -> None:
    """Write a small file whole: a reader sees the old one or the new one, also after a kill."""
    staged = path.with_name(f".{path.name}.part")
    unlink(staged)
    with create(staged, OWN) as out:
        out.write(data)
        out.sync()
    rename(staged, path)
    sync_folder(path.parent)
