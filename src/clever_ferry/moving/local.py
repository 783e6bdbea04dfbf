"""This computer's disks as a shore."""

from __future__ import annotations

import errno
import os
import shutil
import time
from contextlib import suppress
from operator import attrgetter
from pathlib import Path, PurePath

from clever_ferry.moving import disk, presence, system
from clever_ferry.moving.shore import Capabilities, Kind, Node, Reader
from clever_ferry.moving.system import Attributes, Unkept, changed, is_link
from clever_ferry.tree import FileInfo

__all__ = ["LOCAL", "LocalShore"]


class LocalShore:
    """All that this computer's disks hold, under the paths that its system gives them.

    The rooms that promise that nothing is lost (`moving`, `keeping`, `crossing`) change files
    through a shore alone, so that tests can let each operation fail, kill the program at it, or
    forget what was never synced.
    """

    capabilities = Capabilities(host="127.0.0.1")

    def path(self, text: str) -> Path:
        """Return a whole path of this system."""
        if not Path(text).is_absolute():
            raise ValueError(f"{text!r} is no folder's whole path")
        return Path(text)

    def text(self, path: PurePath) -> str:
        """Return the whole path as the system spells it, wherever one works just now."""
        return str(Path(path).absolute())

    def local(self, path: PurePath | str) -> Path:
        """Return the path itself."""
        return Path(path)

    def identity(self, path: PurePath) -> str:
        """Return the disk's own numbers of a folder, or of the nearest above it that is there."""
        return presence.identity(Path(path))

    def volume_of(self, path: PurePath) -> int:
        """Return the number of the file system that a folder is on."""
        return os.stat(path).st_dev  # noqa: PTH116

    def kind(self, path: PurePath, *, follow: bool = True) -> Kind | None:
        """Ask the disk."""
        data = presence.stands(Path(path), follow=follow)
        return None if data is None else disk.kind_of(data)

    def node(self, path: PurePath) -> Node | None:
        """Ask the disk."""
        data = presence.stands(Path(path), follow=False)
        return None if data is None else disk.node_of(data, path)

    def names(self, folder: PurePath) -> list[str]:
        """List the disk's folder."""
        return sorted(os.listdir(folder))  # noqa: PTH208

    def folders(self, folder: PurePath, *, follow: bool = True) -> list[str]:
        """List the disk's folder."""
        with os.scandir(folder) as listed:
            return sorted(entry.name for entry in listed if _is_folder(entry, follow))

    def walker(self, top: PurePath) -> _Top:
        """Return what lists the folder by handles, where the system has them."""
        return _Top(top)

    def attributes(self, path: PurePath) -> Attributes:
        """Return a file's attributes."""
        return system.attributes_of(Path(path))

    def now(self) -> int:
        """Return this computer's time."""
        return time.time_ns()

    def free_bytes(self, folder: PurePath) -> int:
        """Ask the disk."""
        return shutil.disk_usage(folder).free

    def reckoned(self, path: PurePath) -> None:
        """Return None: a disk reckons nothing by itself."""

    def open(self, path: PurePath | str) -> Reader:
        """Open a plain file."""
        return disk.Reader(path if isinstance(path, str) else Path(path))

    front = staticmethod(disk.read_front)  # asked for as often as there are files

    def create(self, path: PurePath, mode: int = 0o666) -> disk.Writer:
        """Begin a file, with these permissions as far as the umask lets it."""
        return disk.Writer(Path(path), self, mode)

    def rename(self, old: PurePath, new: PurePath) -> None:
        """Rename in one step."""
        system.replace_file(Path(old), Path(new))

    def unlink(self, path: PurePath) -> None:
        """Remove a file."""
        with suppress(FileNotFoundError):
            system.remove_file(Path(path))

    def make_folder(self, path: PurePath, *, new: bool = False) -> None:
        """Make a folder and those above it."""
        if new:
            Path(path).mkdir()
        missing = []
        while self.kind(path) != "folder":
            missing.append(path)
            path = path.parent
        for folder in reversed(missing):
            self._make_one(Path(folder))

    def _make_one(self, path: Path) -> None:
        with suppress(FileExistsError):
            path.mkdir()
            system.inherit_owner(path)

    def remove_folder(self, path: PurePath) -> None:
        """Remove an empty folder."""
        Path(path).rmdir()

    def set_times(self, path: PurePath, stamp: int) -> None:
        """Set the time of the last change."""
        os.utime(path, ns=(stamp, stamp))

    def give_attributes(self, path: PurePath, attributes: Attributes) -> list[Unkept]:
        """Give a file or folder its attributes."""
        return system.give_attributes(Path(path), attributes)

    def learn_time(self, stamp: int) -> None:
        """Do nothing: the clock is this computer's own."""

    def sync_folder(self, path: PurePath) -> None:
        """Have the names in a folder on the disk itself."""
        system.sync_folder(Path(path))

    # What is the tool's own, and always here ----------------------------------------------

    def sync(self, path: Path) -> None:
        """Have a file's bytes on the disk itself."""
        handle = os.open(path, os.O_RDWR | _BINARY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)

    def copy(self, source: Path, new: Path) -> None:
        """Copy a file's bytes to a file of the tool's own, by the system's quickest way."""
        self.create(new, disk.OWN).close()
        shutil.copyfile(source, new)

    def write_synced(self, path: Path, data: bytes) -> None:
        """Write a small file whole: a reader sees the old one or the new one, also after a kill."""
        staged = path.with_name(f".{path.name}.part")
        self.unlink(staged)
        with self.create(staged, disk.OWN) as out:
            out.write(data)
            out.sync()
        self.rename(staged, path)
        self.sync_folder(path.parent)


LOCAL = LocalShore()

_BINARY = getattr(os, "O_BINARY", 0)
_WINDOWS = os.name == "nt"
_HANDLES = os.scandir in os.supports_fd and os.open in os.supports_dir_fd
_FOLDER = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0)
_NO_LINK = getattr(os, "O_NOFOLLOW", 0)


def _is_folder(entry: os.DirEntry[str], follow: bool) -> bool:
    try:
        return entry.is_dir(follow_symlinks=follow)
    except OSError:
        return False


class _Top:
    """A folder while it is walked through.

    Where the system can, what is in it is asked for by a handle of it, and not by whole paths:
    that is quicker, and a folder that becomes a link meanwhile is not followed.
    """

    def __init__(self, root: PurePath) -> None:
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
                    change = changed(data, entry.path) if _WINDOWS else data.st_ctime_ns
                    files.append(
                        FileInfo(
                            front + entry.name, data.st_size, data.st_mtime_ns, change, data.st_ino
                        )
                    )
                elif entry.is_dir(follow_symlinks=False):
                    inner.append(front + entry.name)
            except (FileNotFoundError, PermissionError):
                pass  # it has vanished, or is barred
    files.sort(key=attrgetter("path"))
    return files, inner
