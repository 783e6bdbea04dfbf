"""Contents kept once each: a file per content, named by its digest, and verified.

An object's name is the BLAKE3 digest of its content (256 bits), the first two hex digits being its
folder's. With the ending `.zst` it is one zstd frame of the content, with zstd's own checksum;
without, it is the content itself: so is kept what does not shrink.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import zstandard

from clever_ferry.cargo import DIGEST_SIZE, DigestedPayload, digest_of
from clever_ferry.errors import DamagedError, FerryError
from clever_ferry.moving import disk
from clever_ferry.moving.local import LOCAL, LocalShore
from clever_ferry.moving.presence import file_stands
from clever_ferry.payload import CHUNK, Payload, StreamPayload, head

if TYPE_CHECKING:
    from concurrent.futures import Future

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

    def __init__(self, folder: Path, shore: LocalShore = LOCAL) -> None:
        self.folder, self._disk = folder, shore
        self._unsynced: dict[Path, None] = {}
        self._beside = disk.Beside()

    def place(self, digest: str) -> Path | None:
        """Return where an object is, None where it is missing."""
        plain = self.folder / digest[:2] / digest[2:]
        for place in (plain, plain.with_name(plain.name + _PACKED)):
            if file_stands(place):
                return place
        return None

    def __contains__(self, digest: object) -> bool:
        return isinstance(digest, str) and self.place(digest) is not None

    def put(self, payload: Payload, progress: Callable[[int], None] = lambda _: None) -> str:
        """Keep a content; return its digest.

        What is kept is read back and its digest taken again, also where it was there already;
        a damaged object is replaced. With a large one that goes on beside the caller's further
        work: it is there for sure, and lasts, once `sync` has returned. Either raises
        DamagedError where a content does not read back.
        """
        self._disk.make_folder(self.folder)
        source = DigestedPayload(payload)
        new = self.folder / f"{_NEW}{os.urandom(4).hex()}"
        path = getattr(payload, "path", None)
        size, copied = payload.size or 0, None
        try:
            if path is not None and size >= disk.LARGE and not _shrinks(head(payload, CHUNK)):
                copied = self._beside.do(partial(self._disk.copy, path, new), size)
                ending = ""
                for chunk in source.chunks():
                    progress(len(chunk))
            else:
                ending = self._write(source, new, progress)
        except BaseException:
            self.abandon()
            self._disk.unlink(new)
            raise
        digest = source.digest or ""
        self._beside.do(partial(self._admit, digest, ending, new, copied), size)
        return digest

    def _admit(self, digest: str, ending: str, new: Path, copied: Future[None] | None) -> None:
        """Sync a new object's file, read it back, and give it its name."""
        try:
            if copied is not None:
                copied.result()
            self._disk.sync(new)
            old = self.place(digest)
            if old is not None and self._digest(old) == digest:
                self._disk.unlink(new)
                self._disk.sync(old)  # whoever put it there may have been cut short before that
                self._unsynced[old.parent] = None
                return
            if self._digest(new, packed=ending == _PACKED) != digest:
                raise DamagedError(
                    "A backup did not read back as what was put in, so nothing is changed.",
                    details=(f"Locker: {self.folder.parent}",),
                    advice="Close the game and its store's program, then try again. If this comes "
                    "again, the locker's disk may be failing: name another place for it with "
                    "CFERRY_LOCKER.",
                )
            place = self.folder / digest[:2] / f"{digest[2:]}{ending}"
            self._disk.make_folder(place.parent)
            if old is not None and old != place:
                self._disk.unlink(old)
            self._disk.rename(new, place)
            self._unsynced[place.parent] = None
            self._unsynced[self.folder] = None
        except BaseException:
            self._disk.unlink(new)
            raise

    def sync(self) -> None:
        """Make all that was put last, the bytes and the names."""
        self._beside.wait()
        for folder in self._unsynced:
            self._disk.sync_folder(folder)
        self._unsynced = {}

    def abandon(self) -> None:
        """Give up what was put and not made last; nothing names it yet."""
        with suppress(OSError, FerryError):
            self._beside.wait()
        self._unsynced = {}

    def payload(self, digest: str, size: int | None = None) -> Payload:
        """Return a content; reading it to the end checks its digest."""
        return StreamPayload(lambda: self.read(digest), size)

    def read(self, digest: str) -> Iterator[bytes]:
        """Yield a content; raises DamagedError at the end where it is not what was kept."""
        place = self.place(digest)
        if place is None:
            raise DamagedError(f"The backup's object {digest} is missing.")
        payload = DigestedPayload(StreamPayload(lambda: self._content(place)))
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

    def _write(self, source: Payload, new: Path, progress: Callable[[int], None]) -> str:
        """Write a content, packed where that is worth it; return the ending that says which."""
        packer: zstandard.ZstdCompressionObj | None = None
        with self._disk.create(new, disk.OWN) as out:
            for number, chunk in enumerate(source.chunks()):
                if number == 0 and _shrinks(chunk):
                    packer = zstandard.ZstdCompressor(
                        level=_LEVEL, write_checksum=True
                    ).compressobj()
                out.write(chunk if packer is None else packer.compress(chunk))
                progress(len(chunk))
            if packer is None:
                return ""
            out.write(packer.flush())
        return _PACKED

    def _content(self, place: Path, *, packed: bool | None = None) -> Iterator[bytes]:
        """Yield what an object's file holds, a little at a time; its digest is not checked here.

        What is cut short ends early, which its digest tells.
        """
        name = f"{place.parent.name}{place.stem}"
        try:
            with self._disk.open(place) as file:
                source: Any = file  # a reader like any other, but for its type
                if place.suffix == _PACKED if packed is None else packed:
                    source = zstandard.ZstdDecompressor().stream_reader(
                        source, read_size=CHUNK, read_across_frames=True, closefd=False
                    )
                while chunk := source.read(CHUNK):
                    yield chunk
        except (zstandard.ZstdError, FileNotFoundError) as error:
            raise DamagedError(f"The backup's object {name} can't be read: {error}.") from None

    def _digest(self, place: Path, *, packed: bool | None = None) -> str:
        """Return the digest of what an object's file holds, '' where that can't be told."""
        try:
            return digest_of(StreamPayload(lambda: self._content(place, packed=packed)))
        except DamagedError:
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
            self._disk.unlink(place)

    def leftovers(self) -> list[Path]:
        """Return what killed runs had begun to keep."""
        if not self.folder.is_dir():
            return []
        return sorted(path for path in self.folder.iterdir() if path.name.startswith(_NEW))


def _folders(folder: Path) -> list[Path]:
    if not folder.is_dir():
        return []
    return sorted(path for path in folder.iterdir() if len(path.name) == 2 and path.is_dir())


def _shrinks(chunk: bytes) -> bool:
    return len(zstandard.ZstdCompressor(level=_LEVEL).compress(chunk)) < _HARDLY * len(chunk)
