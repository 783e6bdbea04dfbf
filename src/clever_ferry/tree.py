"""What a folder offers to be read, and what is to change in it. Paths are relative, with `/`."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, NamedTuple, Protocol

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.payload import Payload

__all__ = ["Beneath", "FileInfo", "Files", "Listed", "OneFile", "Output"]


class FileInfo(Struct, frozen=True, gc=False, array_like=True):
    """A file as a folder lists it: its path, size in bytes, time stamp in ns since 1970."""

    path: str
    size: int
    stamp: int
    change: int = 0
    """When the system itself says that it changed, ns since 1970; 0 where it does not say."""
    number: int = 0
    """The system's number of the file; 0 where it has none."""
    checked: str = ""
    """By what its bytes are checked whenever they are read to their end, if they are."""


class Files(Protocol):
    """The files below one folder, read-only."""

    @property
    def fold(self) -> bool:
        """Whether upper and lower case are the same here."""

    def walk(self, enter: Callable[[str], bool]) -> Iterable[FileInfo]:
        """Yield the files, sorted by path; `enter` says which folders to go into."""

    def info(self, path: str) -> FileInfo | None:
        """Return one file's data, or None where there is no such file."""

    def payload(self, path: str) -> Payload:
        """Return a file's bytes as a stream."""

    def listed(self, info: FileInfo) -> Payload:
        """Return the bytes of a file that `walk` has just listed, without asking for it again."""


class OneFile(NamedTuple):
    """One file of a folder, as if it were alone there."""

    files: Files
    path: str

    @property
    def fold(self) -> bool:
        """As the folder's."""
        return self.files.fold

    def walk(self, enter: Callable[[str], bool]) -> Iterable[FileInfo]:
        """Yield the one file."""
        info = self.info(self.path)
        return [info] if info else []

    def info(self, path: str) -> FileInfo | None:
        """Return its data."""
        return self.files.info(path) if path == self.path else None

    def payload(self, path: str) -> Payload:
        """Return its bytes."""
        return self.files.payload(path)

    def listed(self, info: FileInfo) -> Payload:
        """Return its bytes."""
        return self.files.payload(info.path)


class Beneath(NamedTuple):
    """The files of a folder as if it lay in folders that are not there: `above` is their path."""

    files: Files
    above: str

    @property
    def fold(self) -> bool:
        """As the folder's."""
        return self.files.fold

    def _own(self, path: str) -> str | None:
        inside = f"{self.above}/"
        return path[len(inside) :] if path.startswith(inside) else None

    def walk(self, enter: Callable[[str], bool]) -> Iterable[FileInfo]:
        """Yield the files, by their longer paths."""
        steps = self.above.split("/")
        if not all(enter("/".join(steps[: count + 1])) for count in range(len(steps))):
            return
        for info in self.files.walk(lambda folder: enter(f"{self.above}/{folder}")):
            yield replace(info, path=f"{self.above}/{info.path}")

    def info(self, path: str) -> FileInfo | None:
        """Return one file's data."""
        own = self._own(path)
        found = self.files.info(own) if own is not None else None
        return replace(found, path=path) if found is not None else None

    def payload(self, path: str) -> Payload:
        """Return its bytes."""
        own = self._own(path)
        return self.files.payload(path if own is None else own)

    def listed(self, info: FileInfo) -> Payload:
        """Return its bytes."""
        return self.files.listed(replace(info, path=self._own(info.path) or info.path))


class Listed(NamedTuple):
    """The files of a folder that was walked through already."""

    files: Files
    infos: tuple[FileInfo, ...]

    @property
    def fold(self) -> bool:
        """As the folder's."""
        return self.files.fold

    def walk(self, enter: Callable[[str], bool]) -> Iterable[FileInfo]:
        """Return the files as they were found."""
        return self.infos

    def info(self, path: str) -> FileInfo | None:
        """Return one file's data, as it is now."""
        return self.files.info(path)

    def payload(self, path: str) -> Payload:
        """Return its bytes."""
        return self.files.payload(path)

    def listed(self, info: FileInfo) -> Payload:
        """Return its bytes."""
        return self.files.listed(info)


class Output(NamedTuple):
    """A file to write, or to remove where the payload is None; the stamp is in ns."""

    path: str
    payload: Payload | None
    stamp: int
    tidy: bool = False
    """Whether folders that its removal leaves empty go too."""
    attributes: Any = None
    """What the file is to have beyond bytes and time; None where the one it replaces decides."""
