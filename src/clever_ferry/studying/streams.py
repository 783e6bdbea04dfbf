"""Packed streams within bytes: where one begins, where it ends, what is in it.

A stream is only told where it was unpacked to its own end. Most carry a checksum of what is in
them; raw deflate and LZ4 blocks do not, and are only looked for near the front.
"""

from __future__ import annotations

import bz2
import lzma
import zlib
from collections.abc import Callable, Iterator
from typing import Any

from msgspec import Struct

from clever_ferry.studying.budget import MOST_HELD, Budget

__all__ = ["CHECKED", "Stream", "opened_at", "raw_near_front", "streams_in"]

_MAGICS: tuple[tuple[bytes, str], ...] = (
    (b"\x1f\x8b\x08", "gzip"), (b"\xfd7zXZ\x00", "xz"), (b"BZh", "bzip2"),
    (b"\x28\xb5\x2f\xfd", "zstd"), (b"\x04\x22\x4d\x18", "lz4"), (b"\x5d\x00\x00", "lzma"),
    (b"\x78\x01", "zlib"), (b"\x78\x5e", "zlib"), (b"\x78\x9c", "zlib"), (b"\x78\xda", "zlib"),
)  # fmt: skip
CHECKED = {"gzip": "gzip's checksum", "xz": "xz's checksum", "bzip2": "bzip2's checksum",
           "zlib": "zlib's checksum"}  # fmt: skip
"""What agrees where such a stream was unpacked to its end; others need not have a checksum."""
_FIRST, _STEP = 512, 1 << 18
_FRONT, _LEAST = 256, 24
_MOST_TRIES = 20_000


class Stream(Struct, frozen=True):
    """A packed stream, from `start` up to `end`, that was unpacked to its end."""

    kind: str
    """As layers of recipes call it."""
    start: int
    end: int
    size: int
    """Of what is in it, in bytes."""
    inside: bytes
    """What is in it, as far as it is held."""

    @property
    def is_checked(self) -> bool:
        """Whether a checksum of its own agrees."""
        return self.kind in CHECKED


def _zstd() -> Any:
    import zstandard

    return zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()


def _lz4() -> Any:
    import lz4.frame

    return lz4.frame.LZ4FrameDecompressor()


_READERS: dict[str, Callable[[], Any]] = {
    "gzip": lambda: zlib.decompressobj(31), "zlib": lambda: zlib.decompressobj(15),
    "deflate": lambda: zlib.decompressobj(-15), "bzip2": bz2.BZ2Decompressor,
    "xz": lambda: lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=1 << 28),
    "lzma": lambda: lzma.LZMADecompressor(lzma.FORMAT_ALONE, memlimit=1 << 28),
    "zstd": _zstd, "lz4": _lz4,
}  # fmt: skip


def opened_at(data: bytes | memoryview, at: int, kind: str) -> Stream | None:
    """Return the stream of a kind that begins at a byte, None where there is none that ends."""
    reader = _READERS[kind]()
    view = memoryview(data)
    held: list[bytes] = []
    size, fed, step = 0, at, _FIRST
    try:
        while not reader.eof:
            if fed >= len(view):
                return None
            for piece in _unpacked(kind, reader, view[fed : fed + step]):
                if size < MOST_HELD:
                    held.append(piece[: MOST_HELD - size])
                size += len(piece)
                if size > 4 * MOST_HELD + 1024 * (fed - at):
                    return None  # it grows without end
            fed = min(len(view), fed + step)
            step = _STEP if kind != "zstd" else 4 * _FIRST
    except (zlib.error, OSError, ValueError, lzma.LZMAError, EOFError, RuntimeError):
        return None
    except Exception as error:
        if type(error).__module__.partition(".")[0] in ("zstandard", "zstd"):
            return None
        raise
    end = fed - len(reader.unused_data or b"")
    return Stream(kind, at, end, size, b"".join(held)) if end - at > 1 else None


def _unpacked(kind: str, reader: Any, data: memoryview) -> Iterator[bytes]:
    """Yield what some more bytes give, little by little."""
    if kind in ("gzip", "zlib", "deflate"):
        yield reader.decompress(data, 1 << 20)
        while reader.unconsumed_tail and not reader.eof:
            yield reader.decompress(reader.unconsumed_tail, 1 << 20)
        while not reader.eof and (piece := reader.decompress(b"", 1 << 20)):
            yield piece
    elif kind == "zstd":  # the library gives all that a step makes at once
        yield reader.decompress(bytes(data))
    else:
        yield reader.decompress(data, 1 << 20)
        while not reader.eof and not reader.needs_input:
            yield reader.decompress(b"", 1 << 20)


def streams_in(data: bytes | memoryview, budget: Budget) -> list[Stream]:
    """Return the packed streams that begin with their kind's own mark, in the order of the bytes.

    One that lies in another is not told.
    """
    raw = bytes(data) if isinstance(data, memoryview) else data
    found: list[Stream] = []
    tries = 0
    upto = 0
    for at, kind in _marks(raw):
        if at < upto:
            continue
        tries += 1
        if tries > _MOST_TRIES or (tries % 256 == 0 and budget.over):
            break
        stream = opened_at(raw, at, kind)
        if stream is not None and _is_likely(stream):
            found.append(stream)
            upto = stream.end
    return found


def _is_likely(stream: Stream) -> bool:
    """Tell whether a stream is one: a checksum agrees, or it is long enough not to be chance."""
    return stream.is_checked or stream.end - stream.start >= _LEAST


def _marks(data: bytes) -> Iterator[tuple[int, str]]:
    """Yield where streams may begin, in order."""
    waiting: dict[bytes, int] = {}
    kinds = dict(_MAGICS)
    for magic in kinds:
        if (at := data.find(magic)) >= 0:
            waiting[magic] = at
    while waiting:
        magic = min(waiting, key=lambda one: waiting[one])
        at = waiting[magic]
        yield at, kinds[magic]
        after = data.find(magic, at + 1)
        if after < 0:
            del waiting[magic]
        else:
            waiting[magic] = after


def raw_near_front(data: bytes | memoryview, *, ends_within: int = 64) -> Stream | None:
    """Return a stream without any mark (raw deflate, an LZ4 block) that fills nearly all bytes.

    It begins within the first 256 bytes and ends within the last few, and what is in it is
    longer than itself: else it would be chance.
    """
    view = memoryview(data)
    for at in range(min(_FRONT, max(0, len(view) - _LEAST))):
        if view[at] & 7 in (6, 7) or view[at] & 6 == 0:
            continue  # no such block, or one that is only stored
        stream = opened_at(view, at, "deflate")
        if (
            stream is not None
            and stream.end >= len(view) - ends_within
            and stream.size > stream.end - stream.start >= max(_LEAST, len(view) // 2)
        ):
            return stream
    return _lz4_block(view)


def _lz4_block(view: memoryview) -> Stream | None:
    """Find an LZ4 block by a number in front of it that is just its unpacked size."""
    import lz4.block

    for at in range(min(64, max(0, len(view) - _LEAST))):
        for start in range(max(0, at - 16), at - 3):
            for order in ("little", "big"):
                size = int.from_bytes(view[start : start + 4], order)
                if not len(view) - at <= size <= min(MOST_HELD, 260 * len(view)):
                    continue
                try:
                    inside = lz4.block.decompress(bytes(view[at:]), uncompressed_size=size)
                except lz4.block.LZ4BlockError:
                    continue
                if len(inside) == size:
                    return Stream("lz4-block", at, len(view), size, inside)
    return None
