"""Compression as a layer: streams in, streams out, nothing held whole (but for LZ4 blocks)."""

from __future__ import annotations

import bz2
import lzma
import zlib
from collections.abc import Callable, Iterator
from typing import Any

from clever_ferry.certainty import Evidence
from clever_ferry.errors import DamagedError
from clever_ferry.layers.chain import Stages
from clever_ferry.layers.found import Found
from clever_ferry.layers.kept import Kept, dress_or_keep
from clever_ferry.layers.known import Known
from clever_ferry.layers.spec import LARGEST_BLOCK, CompressedSpec
from clever_ferry.payload import CHUNK, Payload, StreamPayload, head, most_unpacked, read_all

__all__ = ["Compressed"]

_WINDOW = {"deflate": -15, "zlib": 15, "gzip": 31}
_LZMA = {"xz": lzma.FORMAT_XZ, "lzma": lzma.FORMAT_ALONE}
_LARGEST_WINDOW = 1 << 27


class Compressed:
    """One compression method."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: CompressedSpec) -> None:
        self.method, self.level, self.at_most = spec.kind, spec.level, spec.most
        self.most = min(spec.most or LARGEST_BLOCK, LARGEST_BLOCK)

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, Kept]:
        """Return the unpacked payload; reading it raises DamagedError where it is damaged."""
        payload = StreamPayload(lambda: self._unpacked(source))
        found.evidence.append(lambda: self._evidence(source))
        return payload, Kept(source, payload)

    def _evidence(self, source: Payload) -> Evidence:
        """Return what having unpacked it establishes; some methods state a checksum or not.

        Zstandard: bit 2 of byte 4 (RFC 8878, 3.1.1.1). LZ4: bit 2 of byte 4 (frame format 1.6).
        XZ: the low half of byte 7, where 0 is none (file format 1.1, 2.1.1.2).
        """
        start = head(source, 8)
        stated = {
            "gzip": True, "zlib": True, "bzip2": True,
            "zstd": len(start) > 4 and bool(start[4] & 4),
            "lz4": len(start) > 4 and bool(start[4] & 4),
            "xz": len(start) > 7 and bool(start[7] & 15),
        }.get(self.method, False)  # fmt: skip
        if stated:
            return Evidence("verified", f"{self.method}'s checksum")
        return Evidence("opened", f"unpacked as {self.method}")

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the packed payload: the very same as before where the inside is the same."""
        return dress_or_keep(inside, residue, lambda: StreamPayload(lambda: self._packed(inside)))

    def _unpacked(self, source: Payload) -> Iterator[bytes]:
        readers: dict[str, Callable[[], Iterator[bytes]]] = {
            "bzip2": lambda: _unpack("bzip2", bz2.BZ2Decompressor(), source),
            "zstd": lambda: _unpack_zstd(source),
            "lz4": lambda: _unpack_lz4(source),
            "lz4-block": lambda: _unpack_block(source, self.most),
            "lzo": lambda: _unpack_lzo(source, self.most),
        }
        if self.method in _LZMA:
            limit = 512 << 20
            reading = _unpack(
                self.method, lzma.LZMADecompressor(_LZMA[self.method], memlimit=limit), source
            )
        elif self.method in _WINDOW:
            reading = _inflate(self.method, source)
        else:
            reading = readers[self.method]()
        try:
            yield from self._bounded(source, filter(None, reading))
        except (zlib.error, lzma.LZMAError, EOFError, RuntimeError, ValueError) as error:
            reason = str(error).rpartition(": ")[2]
            raise DamagedError(f"The {self.method} data is damaged: {reason}.") from None
        except OSError as error:
            if error.errno is not None:
                raise
            raise DamagedError(f"The {self.method} data is damaged: {error}.") from None

    def _bounded(self, source: Payload, reading: Iterator[bytes]) -> Iterator[bytes]:
        """A few bytes must not unpack to a full disk."""
        bound = self.at_most
        if bound is None and source.size is not None:
            bound = most_unpacked(source.size)
        total = 0
        for chunk in reading:
            total += len(chunk)
            if bound is not None and total > bound:
                raise DamagedError(
                    f"The {self.method} data unpacks to more than {bound:,} bytes.",
                    advice="If a save of this game can be so large, its recipe must say so, with "
                    "`most` in the layer.",
                )
            yield chunk

    def _packed(self, inside: Payload) -> Iterator[bytes]:
        writer: Any
        match self.method:
            case "xz" | "lzma":
                preset = 6 if self.level is None else min(9, self.level)
                writer = lzma.LZMACompressor(_LZMA[self.method], preset=preset)
            case "bzip2":
                writer = bz2.BZ2Compressor(max(1, min(9, self.level or 9)))
            case "zstd":
                import zstandard

                size = -1 if inside.size is None else inside.size
                writer = zstandard.ZstdCompressor(level=self.level or 3).compressobj(size)
            case "lz4":
                yield from _pack_lz4(inside, self.level or 0)
                return
            case "lz4-block":
                import lz4.block

                data = read_all(inside, limit=self.most, what="The data for an LZ4 block")
                yield lz4.block.compress(data, store_size=False)
                return
            case "lzo":
                import lzallright

                yield lzallright.LZOCompressor().compress(
                    read_all(inside, limit=self.most, what="The data for an LZO block")
                )
                return
            case method:
                level = 6 if self.level is None else min(9, self.level)
                writer = zlib.compressobj(level, zlib.DEFLATED, _WINDOW[method])
        for chunk in inside.chunks():
            if packed := writer.compress(chunk):
                yield packed
        yield writer.flush()


def _cut_short(method: str) -> DamagedError:
    return DamagedError(f"The {method} data ends before it is complete: the file was cut short.")


def _left_over(method: str) -> DamagedError:
    return DamagedError(f"Bytes are left over after the end of the {method} data.")


def _inflate(method: str, source: Payload) -> Iterator[bytes]:
    reader: Any = zlib.decompressobj(_WINDOW[method])
    for chunk in filter(None, source.chunks()):
        if reader.eof:
            raise _left_over(method)
        while chunk:
            yield reader.decompress(chunk, CHUNK)
            chunk = reader.unconsumed_tail
        while len(piece := reader.decompress(b"", CHUNK)):
            yield piece
    if reader.unused_data:
        raise _left_over(method)
    if not reader.eof:
        raise _cut_short(method)


def _unpack(method: str, reader: Any, source: Payload) -> Iterator[bytes]:
    for chunk in filter(None, source.chunks()):
        if reader.eof:
            raise _left_over(method)
        yield reader.decompress(chunk, CHUNK)
        while not reader.eof and not reader.needs_input:
            yield reader.decompress(b"", CHUNK)
    if reader.eof and reader.unused_data:
        raise _left_over(method)
    if not reader.eof:
        raise _cut_short(method)


def _unpack_zstd(source: Payload) -> Iterator[bytes]:
    """The library's stream bounds what one step gives; the frame's own end is ours to watch."""
    import zstandard

    reader = zstandard.ZstdDecompressor(max_window_size=_LARGEST_WINDOW)
    feed: Any = _Feed(_one_frame(source))
    try:
        yield from reader.read_to_iter(feed, read_size=CHUNK, write_size=CHUNK)
    except zstandard.ZstdError as error:
        raise DamagedError(f"The zstd data is damaged: {error}.") from None
    while feed.read(CHUNK):  # to the frame's end, which is watched
        pass


class _Feed:
    """Chunks as a file that is read forward."""

    def __init__(self, chunks: Iterator[bytes]) -> None:
        self._chunks, self._held = chunks, memoryview(b"")

    def read(self, size: int = 1) -> bytes:
        """Return up to `size` bytes; none at the end."""
        if not self._held:
            chunk = next(self._chunks, b"")
            if len(chunk) <= size:
                return chunk
            self._held = memoryview(chunk)
        data, self._held = self._held[:size], self._held[size:]
        return bytes(data)


def _one_frame(source: Payload) -> Iterator[bytes]:
    """Yield a zstd frame's bytes; it must be complete, and the only one (RFC 8878, 3.1.1)."""
    held, skip, stage = b"", 0, "head"
    checked = False
    for chunk in filter(None, source.chunks()):
        if stage == "end":
            raise _left_over("zstd")
        yield chunk
        held = held + chunk if held else chunk
        at = 0
        while True:
            step = min(skip, len(held) - at)
            skip, at = skip - step, at + step
            if skip or stage == "end":
                break
            if stage == "last":
                stage, skip = "end", 4 * checked
            elif stage == "head":
                if len(held) - at < 5:
                    break
                checked = bool(held[at + 4] & 4)
                stage, skip = "block", _frame_head(held[at + 4])
            else:
                if len(held) - at < 3:
                    break
                head = int.from_bytes(held[at : at + 3], "little")
                skip = 3 + (1 if head >> 1 & 3 == 1 else head >> 3)
                stage = "last" if head & 1 else "block"
        if stage == "end" and at < len(held):
            raise _left_over("zstd")
        held = held[at:]
    if stage != "end" or skip:
        raise _cut_short("zstd")


def _frame_head(descriptor: int) -> int:
    """Return the bytes of a frame's header, with its magic number, by its descriptor."""
    single = bool(descriptor & 0x20)
    content = (1 if single else 0, 2, 4, 8)[descriptor >> 6]
    return 5 + (0 if single else 1) + (0, 1, 2, 4)[descriptor & 3] + content


def _unpack_lz4(source: Payload) -> Iterator[bytes]:
    import lz4.frame

    yield from _unpack("lz4", lz4.frame.LZ4FrameDecompressor(), source)


def _pack_lz4(inside: Payload, level: int) -> Iterator[bytes]:
    import lz4.frame

    writer = lz4.frame.LZ4FrameCompressor(
        compression_level=level, content_checksum=True, block_linked=True
    )
    yield writer.begin()
    for chunk in inside.chunks():
        yield writer.compress(chunk)
    yield writer.flush()


def _unpack_block(source: Payload, most: int) -> Iterator[bytes]:
    """A bare block does not say its unpacked size; a larger room is tried until it fits."""
    import lz4.block

    data = read_all(source, limit=most, what="An LZ4 block")
    room = max(64, 4 * len(data))
    while True:
        try:
            unpacked: bytes = lz4.block.decompress(data, uncompressed_size=min(room, most))
        except lz4.block.LZ4BlockError as error:
            if room >= most or room > 260 * len(data) + 64:  # LZ4 packs 255 to 1 at best
                raise DamagedError(f"The LZ4 block is damaged: {error}.") from None
            room *= 4
            continue
        for start in range(0, len(unpacked), CHUNK):
            yield unpacked[start : start + CHUNK]
        return


def _unpack_lzo(source: Payload, most: int) -> Iterator[bytes]:
    import lzallright

    data = read_all(source, limit=most, what="An LZO block")
    room = min(most, 16 * len(data) + 64)  # a first guess; the library makes more if need be
    try:
        unpacked: bytes = lzallright.LZOCompressor.decompress(data, room)
    except (lzallright.LZOError, lzallright.InputNotConsumed) as error:
        raise DamagedError(f"The LZO block is damaged: {error}.") from None
    if len(unpacked) > most:
        raise DamagedError(f"The LZO block unpacks to more than {most:,} bytes.")
    for start in range(0, len(unpacked), CHUNK):
        yield unpacked[start : start + CHUNK]
