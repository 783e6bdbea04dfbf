"""Compression as a layer: streams in, streams out, nothing held whole."""

from __future__ import annotations

import bz2
import lzma
import zlib
from collections.abc import Callable, Iterator
from typing import Any

from clever_ferry.errors import DamagedError
from clever_ferry.layers.found import Found
from clever_ferry.layers.spec import CompressedSpec
from clever_ferry.payload import CHUNK, Payload, StreamPayload

__all__ = ["Compressed"]

_WINDOW = {"deflate": -15, "zlib": 15, "gzip": 31}
_ERRORS = (zlib.error, lzma.LZMAError, OSError, EOFError)


def _inflate(method: str, source: Payload) -> Iterator[bytes]:
    reader: Any = zlib.decompressobj(_WINDOW[method])
    for chunk in source.chunks():
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
    for chunk in source.chunks():
        if reader.eof:
            raise _left_over(method)
        yield reader.decompress(chunk, CHUNK)
        while not reader.eof and not reader.needs_input:
            yield reader.decompress(b"", CHUNK)
    if reader.eof and reader.unused_data:
        raise _left_over(method)
    if not reader.eof:
        raise _cut_short(method)


def _cut_short(method: str) -> DamagedError:
    return DamagedError(f"The {method} data ends before it is complete: the file was cut short.")


def _left_over(method: str) -> DamagedError:
    return DamagedError(f"Bytes are left over after the end of the {method} data.")


class Compressed:
    """One compression method."""

    def __init__(self, spec: CompressedSpec) -> None:
        self.bound: frozenset[str] = frozenset()
        self.method = spec.kind
        self.level = 6 if spec.level is None else spec.level

    def peel(self, source: Payload, found: Found) -> tuple[Payload, Any]:
        """Return the unpacked payload; reading it raises DamagedError where it is damaged."""
        return StreamPayload(lambda: self._unpacked(source)), None

    def dress(
        self, inside: Payload, whole: Payload, residue: Any, fields: object
    ) -> Payload:  # fmt: skip
        """Return the packed payload."""
        return StreamPayload(lambda: self._packed(inside))

    def _unpacked(self, source: Payload) -> Iterator[bytes]:
        readers: dict[str, Callable[[], Iterator[bytes]]] = {
            "xz": lambda: _unpack("xz", lzma.LZMADecompressor(lzma.FORMAT_XZ), source),
            "bzip2": lambda: _unpack("bzip2", bz2.BZ2Decompressor(), source),
        }
        reading = readers.get(self.method, lambda: _inflate(self.method, source))
        try:
            yield from filter(None, reading())
        except _ERRORS as error:
            if isinstance(error, OSError) and error.errno is not None:
                raise
            reason = str(error).rpartition(": ")[2]
            raise DamagedError(f"The {self.method} data is damaged: {reason}.") from None

    def _packed(self, inside: Payload) -> Iterator[bytes]:
        writer: Any
        match self.method:
            case "xz":
                writer = lzma.LZMACompressor(lzma.FORMAT_XZ, preset=self.level)
            case "bzip2":
                writer = bz2.BZ2Compressor(max(1, self.level))
            case method:
                writer = zlib.compressobj(self.level, zlib.DEFLATED, _WINDOW[method])
        for chunk in inside.chunks():
            if packed := writer.compress(chunk):
                yield packed
        yield writer.flush()
