"""Contents kept once each: a file per content, named by its digest, and verified.

An object's name is the BLAKE3 digest of its content (256 bits), the first two hex digits being its
folder's. With the ending `.zst` it is one zstd frame of the content, with zstd's own checksum;
without, it is the content itself: so is kept what does not shrink.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

import zstandard

from clever_ferry.cargo import DIGEST_SIZE, DigestedPayload
from clever_ferry.errors import DamagedError
from clever_ferry.moving import disk
from clever_ferry.payload import CHUNK, Payload, StreamPayload

__all__ = ["Objects", "Stored"]

_LEVEL = 1
_HARDLY = 0.98
"""A large content whose beginning does not shrink at least to this is kept as it is."""
_NEW = ".new-"
_PACKED = ".zst"


class Stored(NamedTuple):
    """An object as it lies on the disk: its digest and its packed size in bytes."""

    digest: str
    size: int


class Objects:
    """The objects below one folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._unsynced: dict[Path, None] = {}

    def place(self, digest: str) -> Path | None:
        """Return where an object is, None where it is missing."""
        plain = self.folder / digest[:2] / digest[2:]
        for place in (plain, plain.with_name(plain.name + _PACKED)):
            if place.is_file():
                return place
        return None

    def __contains__(self, digest: object) -> bool:
        return isinstance(digest, str) and self.place(digest) is not None

    def put(self, payload: Payload, progress: Callable[[int], None] = lambda _: None) -> str:
        """Keep a content; return its digest.

        What is kept is read back and compared with the source byte by byte, also where it was
        there already; a damaged object is replaced. It lasts once `sync` was called. Raises
        DamagedError where it does not read back.
        """
        disk.make_folder(self.folder)
        source = DigestedPayload(payload)
        new = self.folder / f"{_NEW}{os.urandom(4).hex()}"
        try:
            with disk.create(new) as out:
                ending = _write(source, out, progress)
                out.sync()
            digest = source.digest or ""
            old = self.place(digest)
            if old is not None and _same(payload, _content(old)):
                disk.unlink(new)
                return digest
            if not _same(payload, _content(new, packed=ending == _PACKED)):
                raise DamagedError(
                    "A backup did not read back as what was put in, so nothing is changed.",
                    details=(f"Locker: {self.folder.parent}",),
                    advice="The locker's disk may be failing; name another place for it with "
                    "CFERRY_LOCKER.",
                )
            place = self.folder / digest[:2] / f"{digest[2:]}{ending}"
            disk.make_folder(place.parent)
            if old is not None and old != place:
                disk.unlink(old)
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
        place = self.place(digest)
        if place is None:
            raise DamagedError(f"The backup's object {digest} is missing.")
        payload = DigestedPayload(StreamPayload(lambda: _content(place)))
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

    def stored(self) -> Iterator[Stored]:
        """Yield every object on the disk, in no order."""
        for folder in _folders(self.folder):
            for entry in os.scandir(folder):
                digest = f"{folder.name}{entry.name}".removesuffix(_PACKED)
                if len(digest) == 2 * DIGEST_SIZE:
                    yield Stored(digest, entry.stat().st_size)

    def size(self, digest: str) -> int:
        """Return an object's packed size in bytes, 0 where it is missing."""
        place = self.place(digest)
        return place.stat().st_size if place is not None else 0

    def remove(self, digest: str) -> None:
        """Remove an object that no snapshot needs."""
        place = self.place(digest)
        if place is not None:
            disk.unlink(place)

    def leftovers(self) -> list[Path]:
        """Return what killed runs had begun to keep."""
        if not self.folder.is_dir():
            return []
        return sorted(path for path in self.folder.iterdir() if path.name.startswith(_NEW))


def _folders(folder: Path) -> list[Path]:
    if not folder.is_dir():
        return []
    return sorted(path for path in folder.iterdir() if len(path.name) == 2 and path.is_dir())


def _write(source: Payload, out: disk.Writer, progress: Callable[[int], None]) -> str:
    """Write a content, packed where that is worth it; return the ending that says which."""
    packer: zstandard.ZstdCompressionObj | None = None
    for number, chunk in enumerate(source.chunks()):
        if number == 0 and _shrinks(chunk):
            packer = zstandard.ZstdCompressor(level=_LEVEL, write_checksum=True).compressobj()
        out.write(chunk if packer is None else packer.compress(chunk))
        progress(len(chunk))
    if packer is None:
        return ""
    out.write(packer.flush())
    return _PACKED


def _shrinks(chunk: bytes) -> bool:
    return len(zstandard.ZstdCompressor(level=_LEVEL).compress(chunk)) < _HARDLY * len(chunk)


def _content(place: Path, *, packed: bool | None = None) -> Iterator[bytes]:
    """Yield what an object's file holds; its digest is not checked here."""
    unpacker = None
    if place.suffix == _PACKED if packed is None else packed:
        unpacker = zstandard.ZstdDecompressor().decompressobj()
    name = f"{place.parent.name}{place.stem}"
    try:
        with disk.open_to_read(place) as file:
            while chunk := file.read(CHUNK):
                if plain := chunk if unpacker is None else unpacker.decompress(chunk):
                    yield plain
    except (zstandard.ZstdError, FileNotFoundError) as error:
        raise DamagedError(f"The backup's object {name} can't be read: {error}.") from None
    if unpacker is not None and (not unpacker.eof or unpacker.unused_data):
        raise DamagedError(f"The backup's object {name} is damaged: it ends in the middle.")


def _same(source: Payload, kept: Iterator[bytes]) -> bool:
    """Compare two contents that come in chunks of any sizes."""
    held = b""
    try:
        for ours in source.chunks():
            while ours:
                held = held or next(kept, b"")
                count = min(len(ours), len(held))
                if not count or ours[:count] != held[:count]:  # a whole slice is no copy
                    return False
                ours, held = ours[count:], held[count:]
        return not held and not next(kept, b"")
    except DamagedError:
        return False
