"""Files of this computer's disks while they are read or written."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path, PurePath
from threading import BoundedSemaphore
from typing import TYPE_CHECKING, BinaryIO

from clever_ferry.moving import system
from clever_ferry.moving.shore import Closing, Kind, Node, Shore, State
from clever_ferry.moving.system import Attributes, Unkept, changed, is_link

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

__all__ = [
    "LARGE",
    "OWN",
    "Beside",
    "Reader",
    "Writer",
    "kind_of",
    "node_of",
    "open_plain",
    "read_front",
    "read_whole",
]


class _Open(Closing):
    """A file that is open until it is closed, or its `with` block is left."""

    def __init__(self, path: Path | str, flags: int, mode: int = 0o666) -> None:
        self._handle = os.open(path, flags | _BINARY, mode)

    def close(self) -> None:
        """Let go of the file."""
        if self._handle >= 0:  # free: none that is opened is 0, which is the program's input
            handle, self._handle = self._handle, -1
            os.close(handle)


class Writer(_Open):
    """A new file that is being written; `sync` makes its bytes last.

    `shore` is what gives it its time and attributes at the end.
    """

    def __init__(self, path: Path, shore: Shore, mode: int = 0o666) -> None:
        super().__init__(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode)
        self.path, self._shore = path, shore
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
        self._shore.set_times(self.path, stamp)
        if attributes is not None:
            unkept = self._shore.give_attributes(self.path, attributes)
        if os.name != "nt":
            self.sync()
            self.close()
        return unkept


class Beside:
    """Steps over files, begun in their order, some at a time, beside their caller's work.

    On a disk (`at_once` is 1) large files are worth it, two at a time; over a link, where each step
    waits for answers, all files. Nothing may rely on such a step before `wait` has returned, or the
    step's own future.
    """

    def __init__(self, at_once: int = 1) -> None:
        self._at_once = at_once
        self._pool: ThreadPoolExecutor | None = None
        self._waiting: list[Future[None]] = []
        self._room = BoundedSemaphore(max(2, at_once))

    def do(self, step: Callable[[], None], size: int) -> Future[None] | None:
        """Take a step: for a small file on a disk at once, for any other in its turn."""
        if size < LARGE and self._at_once == 1:
            step()
            return None
        if self._pool is None:
            from concurrent.futures import ThreadPoolExecutor

            self._pool = ThreadPoolExecutor(max(2, self._at_once))
        if self._at_once > 1:  # each that waits has a connection
            self._room.acquire()
        self._waiting.append(self._pool.submit(self._take, step))
        return self._waiting[-1]

    def _take(self, step: Callable[[], None]) -> None:
        try:
            step()
        finally:
            if self._at_once > 1:
                self._room.release()

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
        self.path = path
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

    def node(self) -> Node:
        """Return the open file's data."""
        return node_of(os.fstat(self._handle), self.path)


_BINARY = getattr(os, "O_BINARY", 0) | getattr(os, "O_NOINHERIT", 0)
_AT_ONCE = getattr(os, "O_NONBLOCK", 0)
"""So that a pipe is not waited for when it is opened; a plain file does not know the difference."""
_READ = os.O_RDONLY | _BINARY | _AT_ONCE


def _refuse_unplain(handle: int, path: PurePath | str) -> os.stat_result:
    data = os.fstat(handle)
    if not stat.S_ISREG(data.st_mode):
        raise OSError(None, "it is no plain file", str(path))
    return data


OWN = 0o600
"""What only this user may read: the tool's own files, which have what saves say."""


def kind_of(data: os.stat_result) -> Kind:
    """Return what it is that the system tells of."""
    if is_link(data):
        return "link"
    if stat.S_ISREG(data.st_mode):
        return "file"
    return "folder" if stat.S_ISDIR(data.st_mode) else "other"


def node_of(data: os.stat_result, path: PurePath | str) -> Node:
    """Return what the system tells of a path."""
    return _node(kind_of(data), data, path)


def _node(kind: Kind, data: os.stat_result, path: PurePath | str) -> Node:
    return Node(
        kind, data.st_size, data.st_mtime_ns, stat.S_IMODE(data.st_mode),
        changed(data, path), data.st_ino,
    )  # fmt: skip


def read_front(path: PurePath | str, count: int) -> tuple[bytes, State]:
    """Return a file's first bytes, fewer where it is shorter, and its state after that."""
    handle = os.open(path, _READ)
    try:
        try:
            found = os.read(handle, count)
            while len(found) < count and (more := os.read(handle, count - len(found))):
                found += more
        except OSError:
            _refuse_unplain(handle, path)
            raise
        data = _refuse_unplain(handle, path)
        return found, (data.st_size, data.st_mtime_ns, changed(data, path))
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
