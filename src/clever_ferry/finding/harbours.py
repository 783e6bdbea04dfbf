"""Harbours: whose disk, prefix, described computer or export a place is.

Recognised by what is in it, not by its name: a `computer.toml`; the users' folders of a Windows
disk, also in a compatibility prefix (`drive_c`); those of a Linux or a macOS disk; zip archives.
Nothing but the folders named here is looked into.
"""

from __future__ import annotations

import heapq
import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path, PurePath
from typing import TYPE_CHECKING, Literal

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.errors import NotFoundError
from clever_ferry.finding.computers import DESCRIPTION, Computer, described_computer
from clever_ferry.finding.known_folders import LAYOUTS, moved_documents
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.names import System, folded
from clever_ferry.moving.presence import is_folder, is_there
from clever_ferry.moving.shore import Shore

if TYPE_CHECKING:
    from clever_ferry.moving.archives import ArchiveFiles

__all__ = [
    "Harbour",
    "boarded",
    "exports_in",
    "harbour_at",
    "prefix_at",
    "server_at",
    "users_of",
    "zips_in",
]

Kind = Literal[
    "described computer", "compatibility prefix", "mounted disk", "account of this computer",
    "export archive", "folder", "server",
]  # fmt: skip

_DRIVE, _MOST_INNER = "drive_c", 40
_MOST_ENTRIES = 10_000
_NOBODY = frozenset(["public", "default", "default user", "all users", "shared", "lost+found"])


class Harbour(Struct, frozen=True):
    """What a place is, and the computers it stands for: one for each of its users."""

    name: str
    paths: tuple[Path, ...]
    """A folder, or the files of an export."""
    kind: Kind
    computers: tuple[Computer, ...] = ()
    users: tuple[str, ...] = ()
    problems: tuple[str, ...] = ()
    """What is missing of it or can't be read."""
    named: bool = True
    """Whether the user gave the name; else it was recognised by itself."""

    @property
    def path(self) -> Path:
        """Where it is: the folder, or the first file."""
        return self.paths[0]

    app: str | None = None
    """The game's number in the library that it is a prefix of."""
    link: FolderFiles | None = None
    """The folder on a server that it is."""

    @property
    def root(self) -> PurePath:
        """Its folder, or the first file."""
        return self.link.root if self.link is not None else self.path

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder, at this moment."""
        if self.link is not None:
            return self.link.shore.kind(self.root) == "folder"
        return is_folder(self.path)

    @property
    def places(self) -> tuple[str, ...]:
        """Where it is, in words."""
        return (str(self.root),) if self.link is not None else tuple(map(str, self.paths))

    def renamed(self, name: str) -> Harbour:
        """Return it by a name that the tool gives it."""
        computers = tuple(replace(one, name=name) for one in self.computers)
        return replace(self, name=name, computers=computers, named=False)

    @property
    def export(self) -> ArchiveFiles | None:
        """The archives, where it is an export."""
        return next((one.export for one in self.computers if one.export is not None), None)

    @property
    def there(self) -> bool:
        """Whether all of it is there at this moment."""
        return all(is_there(path) for path in self.paths)

    @property
    def title(self) -> str:
        """What it was recognised as, in words."""
        if self.kind == "folder":
            return "a folder"
        if self.kind == "server":
            return f"a server's folder, by {str(self.root).partition(':')[0].upper()}"
        if self.kind == "export archive":
            return "an export archive"
        system = {"windows": "Windows", "linux": "Linux", "macos": "macOS"}
        what = f"a {self.kind}" if self.kind[0] != "a" else f"an {self.kind}"
        if not self.computers:
            return f"{what} in which no user has folders yet"
        what = f"{what}, {system[self.computers[0].system]}"
        return f"{what}, of {', '.join(self.users)}" if self.users else what


def harbour_at(paths: Path | Sequence[Path], name: str) -> Harbour:
    """Tell whose disk, prefix, described computer or export a folder or some files are.

    Raises DamagedError where its `computer.toml` can't be used.
    """
    paths = (paths,) if isinstance(paths, Path) else tuple(paths)
    if len(paths) > 1 or not is_folder(paths[0]):
        return _export(paths, paths, name) or Harbour(name, paths, "folder")
    path = paths[0]
    if is_there(path / DESCRIPTION):
        own = (described_computer(path),)
        return Harbour(name, paths, "described computer", own)
    prefix = prefix_at(path, name)
    if prefix is not None:
        return prefix
    systems: tuple[System, ...] = ("windows", "macos", "linux")
    for system in systems:
        computers, users = users_of(path, system, name)
        if computers:
            return Harbour(name, paths, "mounted disk", computers, users)
    sets = exports_in(path)
    if len(sets) > 1:  # each for itself
        return Harbour(name, paths, "folder")
    return _export(paths, zips_in(path), name) or Harbour(name, paths, "folder")


def server_at(link: FolderFiles, name: str) -> Harbour:
    """Return a server's folder as a harbour; nobody is asked for it yet."""
    return Harbour(name, (), "server", link=link)


def boarded(harbour: Harbour) -> Harbour:
    """Return a server's folder with the computers that it may be: its users' home, or just a place.

    Raises NotFoundError where the folder is not there, or the server can't be reached.
    """
    link = harbour.link
    if link is None or harbour.computers:
        return harbour
    shore, root = link.shore, link.root
    if not harbour.is_folder:
        raise NotFoundError(
            f"There is no folder {root}.",
            advice="`cferry harbour add` names another one; /~/ before it begins where the server "
            "puts you.",
        )
    top = type(root)(*root.parts[:2])
    systems: tuple[System, ...] = ("linux", "windows", "macos")
    found = []
    for system in systems:
        folders = {
            key: place
            for key, ways in LAYOUTS[system].items()
            if (place := next((root / w for w in ways if _stands(shore, root, w)), None))
        }
        if folders or system == "linux":
            every = {"home": root, **folders}
            found.append(
                Computer(
                    harbour.name, system, every, running=(), top=top, foreign=True, shore=shore
                )
            )
    return replace(harbour, computers=tuple(found))


def _stands(shore: Shore, root: PurePath, way: str) -> bool:
    """Tell whether a folder is there; its first is looked for before the ones in it."""
    here = root
    for part in way.split("/"):
        here = here / part
        if shore.kind(here, follow=False) != "folder":
            return False
    return True


def exports_in(folder: Path) -> list[list[Path]]:
    """Return the zips that lie in a folder, those together that name themselves as one set."""
    files = zips_in(folder)
    if not files:
        return []
    from clever_ferry.moving.archives import archive_sets

    return archive_sets(files)


def _export(at: tuple[Path, ...], files: Sequence[Path], name: str) -> Harbour | None:
    """Return the harbour that zip files are, or None where there are none."""
    if not any(".zip" in path.name.lower() for path in files):
        return None
    from clever_ferry.moving.archives import archive_parts, open_archives

    parts, problems = archive_parts(files)
    if not parts and not problems:
        return None
    archive = open_archives(parts, problems)
    place = at[0] if is_folder(at[0]) else at[0].parent
    computer = Computer(name, "linux", running=(), export=archive, top=place)
    return Harbour(name, at, "export archive", (computer,), problems=tuple(archive.problems))


def zips_in(folder: Path) -> list[Path]:
    """Return the zips in a folder, and the pieces of cut ones, sorted."""
    return _entries(folder, lambda one: ".zip" in one.name.lower() and _is_plain(one))


def _is_plain(entry: os.DirEntry[str]) -> bool:
    return entry.is_file(follow_symlinks=False)


def prefix_at(path: Path, name: str, *, app: str | None = None) -> Harbour | None:
    """Return the compatibility prefix that a folder is: Windows' drive is in it, or one below."""
    for drive in (path / _DRIVE, *(inner / _DRIVE for inner in _folders(path)[:_MOST_INNER])):
        if is_folder(drive / "users"):
            computers, users = users_of(drive, "windows", name, follow=True)
            return Harbour(name, (path,), "compatibility prefix", computers, users, app=app)
    return None


def users_of(
    disk: Path, system: System, name: str, *, follow: bool = False
) -> tuple[tuple[Computer, ...], tuple[str, ...]]:
    """Return a computer for each user of a disk that has known folders, and the users' names.

    `follow`: links are followed, as in a prefix, whose folders may be links to the user's own.
    """
    computers, users = [], []
    for home in _homes(disk, system):
        folders = {
            key: place
            for key, ways in LAYOUTS[system].items()
            if (place := next(filter(None, (_below(home, way, follow) for way in ways)), None))
        }
        if system == "linux" and "xdg-config" in folders:
            moved = moved_documents(folders["xdg-config"], home, disk)
            folders |= {key: place for key, place in moved.items() if is_folder(place)}
        if folders:
            every = {"home": home, **folders}
            computers.append(
                Computer(name, system, every, running=(), top=disk, foreign=not follow)
            )
            users.append(home.name)
    return tuple(computers), tuple(users)


def _homes(disk: Path, system: System) -> Iterator[Path]:
    if system == "linux" and is_folder(disk / "root"):
        yield disk / "root"
    above = _below(disk, "home" if system == "linux" else "Users") or disk / "nowhere"
    signs = {"windows": ("AppData", "Application Data"), "macos": ("Library",), "linux": ()}
    for home in _folders(above):
        signed = not signs[system] or any(_below(home, sign) for sign in signs[system])
        if signed and folded(home.name) not in _NOBODY:
            yield home


def _below(folder: Path, path: str, follow: bool = False) -> Path | None:
    """Return a folder below another, in whatever case it is spelled."""
    for part in path.split("/"):
        exact = folder / part
        if is_folder(exact) and (follow or not exact.is_symlink()):
            folder = exact
            continue
        inner = [one for one in _folders(folder, follow) if folded(one.name) == folded(part)]
        if not inner:
            return None
        folder = inner[0]
    return folder


def _folders(folder: Path, follow: bool = False) -> list[Path]:
    """Return the folders in a folder, sorted; links to some only with `follow`."""
    return _entries(folder, lambda one: one.is_dir() and (follow or not one.is_symlink()))


def _entries(folder: Path, wanted: Callable[[os.DirEntry[str]], bool]) -> list[Path]:
    """Return what is wanted of a folder, sorted; the first of very many."""
    names = []
    with suppress(OSError), os.scandir(folder) as listed:
        for entry in listed:
            with suppress(OSError):
                if wanted(entry):
                    names.append(entry.name)
    return [folder / name for name in heapq.nsmallest(_MOST_ENTRIES, names)]
