"""Files on their way to and from a server: gone on with where the link breaks."""

from __future__ import annotations

import errno
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import PurePath
from typing import Protocol

from clever_ferry.links.pool import FAULTS, TRIES, Pool
from clever_ferry.links.server import LinkPath
from clever_ferry.links.wire import Abilities, Entry, Sink, Source, Wire
from clever_ferry.moving.shore import Closing, Node
from clever_ferry.moving.system import Attributes, Unkept

__all__ = ["Reading", "Writing", "node_of"]

_WINDOW = 16 << 20
"""Bytes of what was sent that are kept until they are known to be there."""
_AT_ONCE = 1 << 18
"""Bytes that are handed on at once: a slow line must take them within the time limit."""
_SLOW, _SLOWEST = 60.0, 256
"""Seconds after which a file must have come with so many bytes a second."""


class Host(Protocol):
    """What such a file asks of its server."""

    pool: Pool

    @property
    def abilities(self) -> Abilities:
        """What the server can."""

    def real(self, path: PurePath | str) -> str:
        """Return a path as the server itself knows it."""

    def entry(self, path: PurePath, *, fresh: bool = False) -> Entry | None:
        """Return what stands at a path."""

    def there(self, path: PurePath, *, fresh: bool = False) -> Entry:
        """Return what stands at a path; raises FileNotFoundError."""

    def changed(self, path: PurePath, *, gone: bool = False) -> None:
        """Note that what stands at a path is no longer what was listed."""

    def unlink(self, path: PurePath) -> None:
        """Remove a file."""

    def set_times(self, path: PurePath, stamp: int) -> None:
        """Set the time of the last change."""

    def give_attributes(self, path: PurePath, attributes: Attributes) -> list[Unkept]:
        """Give a file its permissions."""


def node_of(entry: Entry) -> Node:
    """Return what a server says of a path as shores have it."""
    return Node(entry.kind, entry.size, entry.stamp, entry.mode & 0o777)


class TrickleError(ConnectionError):
    """A server sends so little that it is as if it sent nothing."""


class Reading(Closing):
    """A file that is being read; where the link breaks, it is read on from there."""

    def __init__(self, shore: Host, path: LinkPath, count: int | None = None) -> None:
        self._shore, self._path, self._at = shore, path, 0
        entry = shore.there(path)
        if entry.kind != "file":
            raise OSError(errno.EINVAL, "it is no plain file", str(path))
        self._entry, self._asked = entry, False
        self._end = entry.size if count is None else min(count, entry.size)
        self._wire: Wire | None = None
        self._source: Source | None = None
        self._waited, self._start = 0.0, 0

    def read(self, count: int) -> bytes:
        """Return the next bytes; no more than the file was listed with."""
        wanted = min(count, self._end - self._at)
        if wanted <= 0:
            return b""
        for attempt in range(TRIES):
            try:
                found = self._next(wanted)
                if not found:
                    raise EOFError("the file ends before its size")
                self._at += len(found)
                self._refuse_trickle()
                return found
            except FAULTS as error:
                self._let_go(broken=True)
                if attempt == TRIES - 1 or isinstance(error, TrickleError):
                    raise self._shore.pool.broken(error) from error
                now = self._shore.there(self._path, fresh=True)
                if (now.size, now.stamp) != (self._entry.size, self._entry.stamp):
                    self._entry, self._asked = now, True  # which whoever reads will see
                    return b""
        raise AssertionError

    def _refuse_trickle(self) -> None:
        """Raise TrickleError where it comes so slowly that it would never end."""
        if self._waited > _SLOW and self._at - self._start < self._waited * _SLOWEST:
            raise TrickleError("it sends next to nothing")

    def _next(self, wanted: int) -> bytes:
        if self._source is None or self._wire is None:
            self._wire = self._shore.pool.take()
            real = self._shore.real(self._path)
            self._source = self._wire.reader(real, self._at, self._end - self._at)
        began = time.monotonic()
        found = self._source.read(wanted)
        self._waited += time.monotonic() - began
        self._shore.pool.goes_on(self._wire)
        return found

    def seek(self, offset: int) -> None:
        """Go on reading from another place."""
        self._let_go()
        self._at, self._end = offset, self._entry.size
        self._waited, self._start = 0.0, offset

    def node(self) -> Node:
        """Return what was listed; once something was read, what the server says then."""
        if self._at and not self._asked:
            self._entry = self._shore.there(self._path, fresh=True)
        return node_of(self._entry)

    def _let_go(self, *, broken: bool = False) -> None:
        wire, source = self._wire, self._source
        self._wire = self._source = None
        if wire is None:
            return
        try:
            if broken or source is None:
                self._shore.pool.drop(wire)
            else:
                source.close()
                self._shore.pool.give(wire)
        except (OSError, EOFError):
            self._shore.pool.drop(wire)

    def close(self) -> None:
        """Let go of the file."""
        self._let_go()


class Writing(Closing):
    """A new file on its way; where the link breaks, it goes on behind what has arrived."""

    def __init__(self, shore: Host, path: PurePath) -> None:
        self._shore, self._path, self._real = shore, path, shore.real(path)
        self._sent = 0
        self._kept: deque[bytes] = deque()
        self._size_kept = 0
        self._wire: Wire | None = None
        self._sink: Sink | None = None
        self._try(self._begin)

    def write(self, data: bytes | memoryview) -> None:
        """Send all of it."""
        for at in range(0, len(data), _AT_ONCE):
            block = bytes(data[at : at + _AT_ONCE])
            self._kept.append(block)
            self._sent += len(block)
            self._size_kept += len(block)
            while self._size_kept - len(self._kept[0]) > _WINDOW:
                self._size_kept -= len(self._kept.popleft())
            self._try(partial(self._send, block))

    def finish(self, stamp: int, attributes: Attributes | None = None) -> list[Unkept]:
        """Have all of it arrive, and give the file its time and permissions."""
        self._try(self._arrive)
        unkept: list[Unkept] = []
        if attributes is not None:
            unkept = self._shore.give_attributes(self._path, attributes)
        self._shore.set_times(self._path, stamp)
        return unkept

    def close(self) -> None:
        """Let go of the file, however far it came."""
        wire, sink = self._wire, self._sink
        self._wire = self._sink = None
        if wire is not None:
            if sink is not None:
                with suppress(OSError, EOFError):
                    sink.drop()
            self._shore.pool.drop(wire)

    def _try(self, step: Callable[[], None]) -> None:
        """Do a step; where the link breaks in it, send what has not arrived once more."""
        try:
            return step()
        except FAULTS as error:
            broken: BaseException = error
        for _ in range(TRIES):
            self.close()
            try:
                self._go_on()
                if step == self._arrive:
                    self._arrive()
                return None
            except FAULTS as error:
                broken = error
        self.close()
        raise self._shore.pool.broken(broken) from broken

    def _begin(self, offset: int = 0) -> None:
        self._wire = self._shore.pool.take()
        self._sink = self._wire.writer(self._real, offset)
        self._shore.changed(self._path)

    def _send(self, block: bytes) -> None:
        assert self._sink is not None
        assert self._wire is not None
        self._sink.write(block)
        self._shore.pool.goes_on(self._wire)

    def _go_on(self) -> None:
        entry = self._shore.entry(self._path, fresh=True)
        have = entry.size if entry is not None else 0
        first = self._sent - self._size_kept
        if not self._shore.abilities.resumes or not first <= have <= self._sent:
            if first:
                raise OSError(errno.EIO, "the link broke, and what was sent can't be gone on with")
            have = 0
        if entry is not None and not have:
            self._shore.unlink(self._path)
        self._begin(have)
        skip = have - first
        for block in list(self._kept):
            if skip < len(block):
                self._send(block[max(0, skip) :])
            skip -= len(block)

    def _arrive(self) -> None:
        if self._sink is not None and self._wire is not None:
            self._sink.close()
            self._shore.pool.give(self._wire)
            self._wire = self._sink = None
        self._shore.changed(self._path)
        size = self._shore.there(self._path, fresh=True).size
        if size != self._sent:
            raise OSError(
                errno.EIO, f"{size:,} of {self._sent:,} bytes have arrived", str(self._path)
            )
