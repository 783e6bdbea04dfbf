"""Bytes that are read as a stream, as often as one likes, and never held whole without need.

A payload knows its size where that is cheap to know, and yields its bytes in chunks.
Each call of `chunks` starts anew; nothing is opened before the first chunk is asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Protocol

from msgspec import Struct

from clever_ferry.errors import DamagedError

__all__ = [
    "CHUNK",
    "UNPACKED_ALWAYS",
    "BytesPayload",
    "JoinedPayload",
    "Payload",
    "SlicedPayload",
    "StreamPayload",
    "head",
    "most_unpacked",
    "pieces_of",
    "read_all",
    "tail",
    "without_tail",
]

CHUNK = 1 << 20
"""Bytes per chunk that readers aim at: large enough to be quick, small enough to be light."""


UNPACKED_ALWAYS = 64 << 20
_RATIO = 256


def most_unpacked(packed: int) -> int:
    """Return how many bytes so many packed ones may become: a small file must not fill a disk."""
    return UNPACKED_ALWAYS + _RATIO * packed


class Payload(Protocol):
    """A re-readable stream of bytes."""

    @property
    def size(self) -> int | None:
        """Size in bytes, or None where only reading would tell."""

    def chunks(self) -> Iterator[bytes]:
        """Yield the bytes from the start."""


class BytesPayload(Struct, frozen=True, gc=False):
    """Bytes that are in memory already."""

    data: bytes

    @property
    def size(self) -> int:
        """Size in bytes."""
        return len(self.data)

    def chunks(self) -> Iterator[bytes]:
        """Yield all bytes at once."""
        if self.data:
            yield self.data


class StreamPayload(Struct, frozen=True, gc=False):
    """Bytes that a function makes anew at each reading."""

    start: Callable[[], Iterable[bytes]]
    size: int | None = None

    def chunks(self) -> Iterator[bytes]:
        """Yield what the function yields."""
        return iter(self.start())


class JoinedPayload(Struct, frozen=True, gc=False):
    """Several payloads one after the other."""

    parts: Sequence[Payload]

    @property
    def size(self) -> int | None:
        """The sum of the parts' sizes, or None where one is not known."""
        total = 0
        for part in self.parts:
            if part.size is None:
                return None
            total += part.size
        return total

    def chunks(self) -> Iterator[bytes]:
        """Yield each part's bytes in turn."""
        for part in self.parts:
            yield from part.chunks()


class SlicedPayload(Struct, frozen=True, gc=False):
    """Another payload without its first `skip` bytes."""

    inner: Payload
    skip: int

    @property
    def size(self) -> int | None:
        """Bytes that remain."""
        return None if self.inner.size is None else max(0, self.inner.size - self.skip)

    def chunks(self) -> Iterator[bytes]:
        """Yield what comes after the skipped bytes."""
        left = self.skip
        for chunk in self.inner.chunks():
            if left >= len(chunk):
                left -= len(chunk)
            elif left:
                yield chunk[left:]
                left = 0
            else:
                yield chunk


def read_all(payload: Payload, *, limit: int, what: str) -> bytes:
    """Return all bytes of a payload that has to fit in memory.

    Raises DamagedError when it is longer than `limit` bytes.
    """
    size, front = payload.size, getattr(payload, "front", None)
    if front is not None and size is not None and size <= limit:
        whole: bytes = front(size)
        return whole
    parts: list[bytes] = []
    total = 0
    for chunk in payload.chunks():
        total += len(chunk)
        if total > limit:
            raise DamagedError(
                f"{what} is larger than the {limit:,} bytes that it may have.",
                advice="It is probably not the file that its name says.",
            )
        parts.append(chunk)
    return b"".join(parts)


def head(payload: Payload, count: int) -> bytes:
    """Return the first `count` bytes, fewer where the payload is shorter.

    A payload that has a `front` of its own (as a file has) is read no further.
    """
    own = getattr(payload, "front", None)
    if own is not None:
        found: bytes = own(count)
        return found
    parts: list[bytes] = []
    total = 0
    for chunk in payload.chunks():
        parts.append(chunk)
        total += len(chunk)
        if total >= count:
            break
    return b"".join(parts)[:count]


def tail(payload: Payload, count: int) -> bytes:
    """Return the last `count` bytes, fewer where the payload is shorter.

    A payload that has a `tail` of its own (as a file has) is not read for it.
    """
    own = getattr(payload, "tail", None)
    if own is not None:
        found: bytes = own(count)
        return found
    held: list[bytes] = []
    for _ in without_tail(payload, count, held):
        pass
    return b"".join(held)


def without_tail(payload: Payload, count: int, held: list[bytes]) -> Iterator[bytes]:
    """Yield the bytes but for the last `count`, which are in `held` at the end."""
    last = b""
    for chunk in payload.chunks():
        last += chunk
        if len(last) > count:
            yield last[:-count]
            last = last[-count:]
    held.append(last)


def pieces_of(payload: Payload, size: int) -> Iterator[bytes]:
    """Yield the bytes regrouped to exactly `size` each; the last may be shorter.

    An empty payload yields one empty piece, so that it still leaves a trace.
    """
    held = bytearray()
    any_yet = False
    for chunk in payload.chunks():
        held += chunk
        while len(held) >= size:
            yield bytes(held[:size])
            del held[:size]
            any_yet = True
    if held or not any_yet:
        yield bytes(held)
