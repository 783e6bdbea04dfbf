"""A folder's files, read-only and in confinement: no link is followed, no path leads out."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path, PurePath, PureWindowsPath

from msgspec import Struct

from clever_ferry.errors import DamagedError, NotFoundError, RefusedError
from clever_ferry.moving.local import LOCAL
from clever_ferry.moving.names import folded
from clever_ferry.moving.shore import Reader, Shore, State, Walker
from clever_ferry.moving.system import Attributes
from clever_ferry.payload import CHUNK, Payload
from clever_ferry.tree import FileInfo

__all__ = ["STAGING", "FilePayload", "FolderFiles"]

STAGING = ".cferry-"
"""What the names of the tool's own folders beside saves begin with; a change's token follows."""
_MOST_FILES = 1_000_000


class FilePayload(Struct, frozen=True, gc=False):
    """A file's bytes; reading fails where the file is no longer the one that was listed."""

    file: str
    """Its whole path. Many are made that are never read, so it is no `Path` yet."""
    size: int
    stamp: int
    change: int = 0
    """When the shore says that it changed last (ns), which no program can set; 0 if unknown."""
    shore: Shore = LOCAL

    @property
    def path(self) -> Path | None:
        """Where it is, if that is on a disk of this computer."""
        return self.shore.local(self.file)

    def chunks(self) -> Iterator[bytes]:
        """Yield the bytes in chunks of a mebibyte."""
        with self._open() as file:
            self._same(file.node().state)
            while chunk := file.read(CHUNK):
                yield chunk
            self._same(file.node().state)

    def front(self, count: int) -> bytes:
        """Return the first `count` bytes, fewer where the file is shorter."""
        try:
            found, now = self.shore.front(self.file, min(count, self.size))
        except FileNotFoundError:
            raise self._gone() from None
        self._same(now)
        return found

    def tail(self, count: int) -> bytes:
        """Return the last `count` bytes, fewer where the file is shorter."""
        with self._open() as file:
            self._same(file.node().state)
            file.seek(max(0, self.size - count))
            return file.read(count)

    def _open(self) -> Reader:
        try:
            return self.shore.open(self.file)
        except FileNotFoundError:
            raise self._gone() from None

    def _gone(self) -> NotFoundError:
        return NotFoundError(
            f"The file {self.file} was there a moment ago and is gone.",
            advice="Close the game and its store's program, then try again.",
        )

    def _same(self, now: State) -> None:
        was = (self.size, self.stamp, self.change)
        if now != was and (self.change or now[:2] != was[:2]):
            raise RefusedError(
                f"The file {self.file} changed while it was being read.",
                advice="Close the game and its store's program, then try again.",
            )


class FolderFiles:
    """The files below a folder; `fold` where its system does not tell upper from lower case.

    With a list `closed`, folders that can't be read are named in it and passed over; without
    one, they are an error.
    """

    def __init__(
        self,
        root: PurePath,
        *,
        fold: bool = False,
        closed: list[str] | None = None,
        shore: Shore = LOCAL,
    ) -> None:
        self.root = root
        self.shore = shore
        self._below = f"{root}/"
        self.fold = fold
        self.closed = closed

    @property
    def text(self) -> str:
        """The folder as records name it."""
        return self.shore.text(self.root)

    @property
    def identity(self) -> str:
        """What is the same for this folder, whatever name it is reached by, there or not."""
        return self.shore.identity(self.root)

    def path_of(self, text: str) -> PurePath:
        """Return another place that a record names; raises DamagedError where it can't be here."""
        try:
            return self.shore.path(text)
        except ValueError as error:
            raise DamagedError(f"A record names a place that can't be: {error}.") from None

    def passing(self, closed: list[str]) -> FolderFiles:
        """Return the same folder, with those that can't be read passed over and named."""
        return FolderFiles(self.root, fold=self.fold, closed=closed, shore=self.shore)

    def walk(self, enter: Callable[[str], bool]) -> Iterator[FileInfo]:
        """Yield the files in the folders that `enter` lets in, sorted by path."""
        seen = 0
        folders = [""]
        with self.shore.walker(self.root) as top:
            while folders:
                files, inner = self._listed(folders.pop(), top)
                yield from files
                seen += len(files)
                if seen > _MOST_FILES:
                    raise DamagedError(f"{self.root} holds more than {_MOST_FILES:,} files.")
                inner.sort(reverse=True)
                own = [one for one in inner if one.rpartition("/")[2].startswith(STAGING)]
                folders += [one for one in inner if one not in own and enter(one)]

    def _listed(self, folder: str, top: Walker) -> tuple[list[FileInfo], list[str]]:
        try:
            return top.listed(folder)
        except (FileNotFoundError, NotADirectoryError):
            return [], []
        except PermissionError:
            if self.closed is not None:
                self.closed.append(f"the folder {self.root / folder} can't be read")
                return [], []
            raise NotFoundError(
                f"The folder {self.root / folder} can't be read: permission denied.",
                advice="Run the tool as the user who plays, or correct the folder's permissions.",
            ) from None

    def info(self, path: str) -> FileInfo | None:
        """Return one file's data; None where it is missing, no plain file, or behind a link."""
        real = self.find(path)
        if real is None:
            return None
        node = self.shore.node(real)
        if node is None or node.kind != "file":
            return None
        return FileInfo(path, node.size, node.stamp, node.change, node.number)

    def attributes(self, path: str) -> Attributes | None:
        """Return a file's attributes, None where it is missing."""
        real = self.find(path)
        return self.shore.attributes(real) if real is not None else None

    def find(self, path: str) -> PurePath | None:
        """Return where a relative path really is, in another case if need be; None if nowhere."""
        here = self.root
        for part in path.split("/"):
            if part in ("", ".", "..") or "\\" in part or "\0" in part:
                return None
            inner = here / part
            kind = self.shore.kind(inner, follow=False)
            if kind is None:
                if not self.fold or self.shore.kind(here) != "folder":
                    return None
                names = [one for one in self.shore.names(here) if folded(one) == folded(part)]
                if not names:
                    return None
                inner = here / names[0]
                kind = self.shore.kind(inner, follow=False)
            if kind == "link":
                return None
            here = inner
        return here

    def inside(self, path: str) -> PurePath:
        """Return where a relative path is to be written.

        Raises RefusedError where it would leave the folder, or leads through a link.
        """
        parts = path.split("/")
        strange = any(part in ("", ".", "..") or "\0" in part for part in parts)
        if strange or (isinstance(self.root, PureWindowsPath) and {"\\", ":"} & set(path)):
            raise RefusedError(
                f"The path {path!r} would lead out of {self.root}, so nothing is written there."
            )
        self.refuse_links(path)
        return self.root.joinpath(*parts)

    def refuse_links(self, path: str) -> None:
        """Raise RefusedError where a link stands on the way to a path that is to be written."""
        here = self.root
        for part in path.split("/"):
            here = here / part
            if self.shore.kind(here, follow=False) == "link":
                raise RefusedError(
                    f"{here} is a link to somewhere else, and links are not written through.",
                    advice="Put the real folder in the link's place, then try again.",
                )

    def listed(self, info: FileInfo) -> Payload:
        """Return the bytes of a file that `walk` has listed; it must still be that one."""
        return FilePayload(self._below + info.path, info.size, info.stamp, info.change, self.shore)

    def payload(self, path: str) -> Payload:
        """Return a file's bytes as a stream; an absent file fails when it is read."""
        info = self.info(path)
        real = self.find(path) or self.root / path
        if info is None:
            return FilePayload(str(real), 0, 0, 0, self.shore)
        return FilePayload(str(real), info.size, info.stamp, info.change, self.shore)
