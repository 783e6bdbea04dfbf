"""Contents kept once each: a file per content, named by its digest, packed, and verified.

An object's bytes are one zstd frame (with zstd's own checksum) of a file's bytes; its name
is their BLAKE2b digest of 256 bits, the first two hex digits being its folder's.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Callable, Iterator
from itertools import zip_longest
from pathlib import Path
from typing import NamedTuple

import zstandard

from clever_ferry.cargo import DIGEST_SIZE, DigestedPayload
from clever_ferry.errors import DamagedError
from clever_ferry.moving import disk
from clever_ferry.payload import CHUNK, Payload, StreamPayload, pieces_of

__all__ = ["Objects", "Stored"]

_FAST = 1
_BARELY = -50
"""zstd's levels: the first for what shrinks, the second for what the first hardly makes smaller."""
_HARDLY = 0.98
_NEW = ".new-"


class Stored(NamedTuple):
    """An object as it lies on the disk: its digest and its packed size in bytes."""

    digest: str
    size: int


class Objects:
    """The objects below one folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._unsynced: dict[Path, None] = {}

    def place(self, digest: str) -> Path:
        """Return where an object is, or would be."""
        return self.folder / digest[:2] / digest[2:]

    def __contains__(self, digest: object) -> bool:
        return isinstance(digest, str) and self.place(digest).is_file()

    def put(self, payload: Payload, progress: Callable[[int], None] = lambda _: None) -> str:
        """Keep a content; return its digest.

        What is kept is read back and compared with the source byte by byte, also where it was
        there already; a damaged object is replaced. It lasts once `sync` was called. Raises
        DamagedError where it does not read back.
        """
        disk.make_folder(self.folder)
        source = DigestedPayload(payload)
        new = self.folder / f"{_NEW}{secrets.token_hex(4)}"
        try:
            with disk.create(new) as out:
                for packed in _packed(source, progress):
                    out.write(packed)
                out.sync()
            digest = source.digest or ""
            place = self.place(digest)
            if place.is_file() and _same(payload, self._unpacked(place)):
                disk.unlink(new)
                return digest
            if not _same(payload, self._unpacked(new)):
                raise DamagedError(
                    "A backup did not read back as what was put in, so nothing is changed.",
                    details=(f"Locker: {self.folder.parent}",),
                    advice="The locker's disk may be failing; name another place for it with "
                    "CFERRY_LOCKER.",
                )
            disk.make_folder(place.parent)
            disk.rename(new, place)
        except BaseException:
            disk.unlink(new)
            raise
        self._unsynced[place.parent] = None
        self._unsynced[self.folder] = None
        return digest

    def sync(self) -> None:
        """Make the names of all that was put last."""
        for folder in self._unsynced:
            disk.sync_folder(folder)
        self._unsynced = {}

    def payload(self, digest: str, size: int | None = None) -> Payload:
        """Return a content; reading it to the end checks its digest."""
        return StreamPayload(lambda: self.read(digest), size)

    def read(self, digest: str) -> Iterator[bytes]:
        """Yield a content; raises DamagedError at the end where it is not what was kept."""
        payload = DigestedPayload(StreamPayload(lambda: self._unpacked(self.place(digest))))
        yield from payload.chunks()
        if payload.digest != digest:
            raise DamagedError(f"The backup's object {digest} is damaged.")

    def fault(self, digest: str) -> str:
        """Read an object to its end and return what is wrong with it, '' where nothing is."""
        try:
            for _ in self.read(digest):
                pass
        except DamagedError as error:
            return error.what
        except OSError as error:
            return f"The backup's object {digest} can't be read: {error.strerror}."
        return ""

    def _unpacked(self, place: Path) -> Iterator[bytes]:
        name = f"{place.parent.name}{place.name}"
        unpacker = zstandard.ZstdDecompressor().decompressobj()
        try:
            with disk.open_to_read(place) as file:
                while packed := file.read(CHUNK):
                    if plain := unpacker.decompress(packed):
                        yield plain
        except (zstandard.ZstdError, FileNotFoundError) as error:
            raise DamagedError(f"The backup's object {name} can't be read: {error}.") from None
        if not unpacker.eof or unpacker.unused_data:
            raise DamagedError(f"The backup's object {name} is damaged: it ends in the middle.")

    def stored(self) -> Iterator[Stored]:
        """Yield every object on the disk, in no order."""
        for folder in _folders(self.folder):
            for entry in os.scandir(folder):
                digest = f"{folder.name}{entry.name}"
                if len(digest) == 2 * DIGEST_SIZE:
                    yield Stored(digest, entry.stat().st_size)

    def size(self, digest: str) -> int:
        """Return an object's packed size in bytes, 0 where it is missing."""
        try:
            return self.place(digest).stat().st_size
        except OSError:
            return 0

    def remove(self, digest: str) -> None:
        """Remove an object that no snapshot needs."""
        disk.unlink(self.place(digest))

    def leftovers(self) -> list[Path]:
        """Return what killed runs had begun to keep."""
        if not self.folder.is_dir():
            return []
        return sorted(path for path in self.folder.iterdir() if path.name.startswith(_NEW))


def _folders(folder: Path) -> list[Path]:
    if not folder.is_dir():
        return []
    return sorted(path for path in folder.iterdir() if len(path.name) == 2 and path.is_dir())


def _packed(source: Payload, progress: Callable[[int], None]) -> Iterator[bytes]:
    packer = None
    for chunk in source.chunks():
        if packer is None:
            packer = _packer(chunk)
        yield packer.compress(chunk)
        progress(len(chunk))
    yield (packer or _packer(b"")).flush()


def _packer(first: bytes) -> zstandard.ZstdCompressionObj:
    """Return a packer that spends no time on what does not shrink, such as packed pictures."""
    level = _FAST
    if len(first) >= CHUNK:
        tried = zstandard.ZstdCompressor(level=_FAST).compress(first)
        level = _BARELY if len(tried) > _HARDLY * len(first) else _FAST
    return zstandard.ZstdCompressor(level=level, write_checksum=True).compressobj()


def _same(source: Payload, kept: Iterator[bytes]) -> bool:
    pairs = zip_longest(pieces_of(source, CHUNK), pieces_of(StreamPayload(lambda: kept), CHUNK))
    try:
        return all(ours == theirs for ours, theirs in pairs)
    except DamagedError:
        return False
