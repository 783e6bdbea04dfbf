"""Where berths are looked for: a folder of a disk, or archives read as one."""

from __future__ import annotations

from pathlib import PurePath
from typing import TYPE_CHECKING, Protocol

from msgspec import Struct, field

from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.local import LOCAL
from clever_ferry.moving.names import folded
from clever_ferry.moving.shore import Shore
from clever_ferry.tree import Files

if TYPE_CHECKING:
    from clever_ferry.moving.archives import ArchiveFiles

__all__ = ["ArchiveGround", "DiskGround", "Ground"]


class Ground(Protocol):
    """Folders to search. Paths are relative to its base, with `/`; '' is the base itself."""

    @property
    def fold(self) -> bool:
        """Whether upper and lower case are the same in its names."""

    @property
    def troubles(self) -> list[str]:
        """What could not be looked into, in words."""

    def has(self, path: str) -> bool:
        """Tell whether a folder of just this spelling is there."""

    def folders(self, path: str) -> list[str]:
        """Return the names of a folder's folders, sorted."""

    def aside(self, path: str) -> bool:
        """Tell whether a search for anything should pass a folder by."""

    def place(self, path: str) -> PurePath:
        """Return where a folder is, for people and for writing."""

    def files(self, path: str) -> Files:
        """Return a folder's files."""


class DiskGround(Struct, frozen=True):
    """A folder of a disk. Links are followed: people move their saves and leave a link.

    On a disk of another computer they are not, as they lead into this one's folders.
    """

    base: PurePath
    fold: bool
    troubles: list[str] = field(default_factory=list)
    follow: bool = True
    shore: Shore = LOCAL

    def has(self, path: str) -> bool:
        """Ask the disk."""
        try:
            return self.shore.kind(self.place(path), follow=self.follow) == "folder"
        except PermissionError:
            self._closed(self.place(path))
        except ConnectionError:
            raise
        except (OSError, ValueError):
            pass
        return False

    def folders(self, path: str) -> list[str]:
        """List the disk's folder."""
        try:
            return self.shore.folders(self.place(path), follow=self.follow)
        except PermissionError:
            self._closed(self.place(path))
        except ConnectionError:
            raise
        except (OSError, ValueError):
            pass
        return []

    def aside(self, path: str) -> bool:
        """Pass links by, so that a search comes to an end."""
        try:
            return self.shore.kind(self.place(path), follow=False) in ("link", None)
        except ConnectionError:
            raise
        except (OSError, ValueError):
            return True

    def _closed(self, place: PurePath) -> None:
        told = f"the folder {place} can't be read: permission denied, so it is passed over"
        if told not in self.troubles:
            self.troubles.append(told)

    def place(self, path: str) -> PurePath:
        """Return the folder."""
        return self.base.joinpath(*path.split("/")) if path else self.base

    def files(self, path: str) -> Files:
        """Return the folder's files."""
        return FolderFiles(self.place(path), fold=self.fold, shore=self.shore)


class ArchiveGround(Struct, frozen=True):
    """Archives as a folder; `at` is where they are."""

    archive: ArchiveFiles
    at: PurePath
    fold: bool = True

    @property
    def troubles(self) -> list[str]:
        """Return what is wrong with the archives."""
        return self.archive.problems

    def has(self, path: str) -> bool:
        """Look into the archives' directories."""
        above, _, name = path.rpartition("/")
        return folded(name) in map(folded, self.archive.folders(above))

    def folders(self, path: str) -> list[str]:
        """List a folder of the archives."""
        return self.archive.folders(path)

    def aside(self, path: str) -> bool:
        """Pass by what would have to be unpacked at length first."""
        return self.archive.heavy(path)

    def place(self, path: str) -> PurePath:
        """Return where the folder would be if the archives were folders."""
        return self.at.joinpath(*path.split("/")) if path else self.at

    def files(self, path: str) -> Files:
        """Return the folder's files."""
        return self.archive.below(path) if path else self.archive
