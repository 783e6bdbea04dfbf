"""A folder's files, read-only and in confinement: no link is followed, no path leads out."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable, Iterator
from operator import attrgetter
from pathlib import Path

from msgspec import Struct

from clever_ferry.errors import DamagedError, NotFoundError, RefusedError
from clever_ferry.moving import disk
from clever_ferry.moving.names import folded
from clever_ferry.moving.presence import folder_stands, stands
from clever_ferry.moving.system import changed, is_link
from clever_ferry.payload import CHUNK
from clever_ferry.tree import FileInfo

__all__ = ["FilePayload", "FolderFiles"]

_MOST_FILES = 1_000_000


class FilePayload(Struct, frozen=True, gc=False):
    """A file's bytes; reading fails where the file is no longer the one that was listed."""

    file: str
    """Its whole path. Many are made that are never read, so it is no `Path` yet."""
    size: int
    stamp: int
    change: int = 0
    """When the system says that it changed last (ns), which no program can set; 0 if unknown."""

    @property
    def path(self) -> Path:
        """Where it is."""
        return Path(self.file)

    def chunks(self) -> Iterator[bytes]:
        """Yield the bytes in chunks of a mebibyte."""
        with self._open() as file:
            self._same(file.stat())
            while chunk := file.read(CHUNK):
                yield chunk
            self._same(file.stat())

    def front(self, count: int) -> bytes:
        """Return the first `count` bytes, fewer where the file is shorter."""
        try:
            found, now = disk.read_front(self.file, min(count, self.size))
        except FileNotFoundError:
            raise self._gone() from None
        self._same(now)
        return found

    def tail(self, count: int) -> bytes:
        """Return the last `count` bytes, fewer where the file is shorter."""
        with self._open() as file:
            self._same(file.stat())
            file.seek(max(0, self.size - count))
            return file.read(count)

    def _open(self) -> disk.Reader:
        try:
            return disk.open_to_read(self.file)
        except FileNotFoundError:
            raise self._gone() from None

    def _gone(self) -> NotFoundError:
        return NotFoundError(
            f"The file {self.path} was there a moment ago and is gone.",
            advice="Close the game and its store's program, then try again.",
        )

    def _same(self, now: os.stat_result) -> None:
        change = changed(now, self.file) if self.change else 0
        if (now.st_size, now.st_mtime_ns, change) != (self.size, self.stamp, self.change):
            raise RefusedError(
                f"The file {self.path} changed while it was being read.",
                advice="Close the game and its store's program, then try again.",
            )


class FolderFiles:
    """The files below a folder; `fold` where its system does not tell upper from lower case.

    With a list `closed`, folders that can't be read are named in it and passed over; without
    one, they are an error.
    """

    def __init__(self, root: Path, *, fold: bool = False, closed: list[str] | None = None) -> None:
        self.root = root
        self._below = f"{root}/"
        self.fold = fold
        self.closed = closed

    def walk(self, enter: Callable[[str], bool]) -> Iterator[FileInfo]:
        """Yield the files in the folders that `enter` lets in, sorted by path."""
        seen = 0
        folders = [""]
        with _Top(self.root) as top:
            while folders:
                files, inner = self._listed(folders.pop(), top)
                yield from files
                seen += len(files)
                if seen > _MOST_FILES:
                    raise DamagedError(f"{self.root} holds more than {_MOST_FILES:,} files.")
                inner.sort(reverse=True)
                folders += [folder for folder in inner if enter(folder)]

    def _listed(self, folder: str, top: _Top) -> tuple[list[FileInfo], list[str]]:
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
        data = real.stat(follow_symlinks=False)
        if not stat.S_ISREG(data.st_mode):
            return None
        return FileInfo(path, data.st_size, data.st_mtime_ns, changed(data, real), data.st_ino)

    def find(self, path: str) -> Path | None:
        """Return where a relative path really is, in another case if need be; None if nowhere."""
        here = self.root
        for part in path.split("/"):
            if part in ("", ".", "..") or "\\" in part or "\0" in part:
                return None
            inner = here / part
            data = stands(inner, follow=False)
            if data is None:
                if not self.fold or not folder_stands(here):
                    return None
                names = [one.name for one in here.iterdir() if folded(one.name) == folded(part)]
                if not names:
                    return None
                inner = here / names[0]
                data = inner.lstat()
            if is_link(data):
                return None
            here = inner
        return here

    def inside(self, path: str) -> Path:
        """Return where a relative path is to be written.

        Raises RefusedError where it would leave the folder, or leads through a link.
        """
        parts = path.split("/")
        strange = any(part in ("", ".", "..") or "\0" in part for part in parts)
        if strange or (os.name == "nt" and {"\\", ":"} & set(path)):
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
            data = stands(here, follow=False)
            if data is not None and is_link(data):
                raise RefusedError(
                    f"{here} is a link to somewhere else, and links are not written through.",
                    advice="Put the real folder in the link's place, then try again.",
                )

    def listed(self, info: FileInfo) -> FilePayload:
        """Return the bytes of a file that `walk` has listed; it must still be that one."""
        return FilePayload(self._below + info.path, info.size, info.stamp, info.change)

    def payload(self, path: str) -> FilePayload:
        """Return a file's bytes as a stream; an absent file fails when it is read."""
        info = self.info(path)
        real = self.find(path) or self.root / path
        if info is None:
            return FilePayload(str(real), 0, 0)
        return FilePayload(str(real), info.size, info.stamp, info.change)


_WINDOWS = os.name == "nt"
_HANDLES = os.scandir in os.supports_fd and os.open in os.supports_dir_fd
_FOLDER = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0)
_NO_LINK = getattr(os, "O_NOFOLLOW", 0)


class _Top:
    """A folder while it is walked through.

    Where the system can, what is in it is asked for by a handle of it, and not by whole paths:
    that is quicker, and a folder that becomes a link meanwhile is not followed.
    """

    def __init__(self, root: Path) -> None:
        self._root = str(root)
        self._handle = -1

    def __enter__(self) -> _Top:
        return self

    def __exit__(self, *_: object) -> None:
        if self._handle >= 0:
            os.close(self._handle)

    def listed(self, folder: str) -> tuple[list[FileInfo], list[str]]:
        """Return a folder's files and the folders in it."""
        if not folder:
            return _listed(self._root, "")
        if not _HANDLES:
            return _listed(f"{self._root}/{folder}", f"{folder}/")
        if self._handle < 0:
            self._handle = os.open(self._root, _FOLDER)
        try:
            handle = os.open(folder, _FOLDER | _NO_LINK, dir_fd=self._handle)
        except OSError as error:
            if error.errno == errno.ELOOP:  # it has just become a link
                return [], []
            raise
        try:
            return _listed(handle, f"{folder}/")
        finally:
            os.close(handle)


def _listed(folder: str | int, front: str) -> tuple[list[FileInfo], list[str]]:
    """Return a folder's files, sorted, and the folders in it; no links.

    `front` is put in front of each name.
    """
    files: list[FileInfo] = []
    inner: list[str] = []
    with os.scandir(folder) as listed:
        for entry in listed:
            try:
                if _WINDOWS and is_link(os.lstat(entry.path)):
                    continue  # a junction, which is no link to `entry`
                if entry.is_file(follow_symlinks=False):
                    # On Windows, scandir's own times may lag behind; ask the file itself.
                    data = os.lstat(entry.path) if _WINDOWS else entry.stat(follow_symlinks=False)
                    files.append(
                        FileInfo(
                            front + entry.name, data.st_size, data.st_mtime_ns,
                            changed(data, entry.path), data.st_ino,
                        )
                    )  # fmt: skip
                elif entry.is_dir(follow_symlinks=False):
                    inner.append(front + entry.name)
            except (FileNotFoundError, PermissionError):
                pass  # it has vanished, or is barred
    files.sort(key=attrgetter("path"))
    return files, inner
