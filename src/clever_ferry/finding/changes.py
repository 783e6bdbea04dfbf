"""Where a game saves: files that changed lately in a computer's usual places, by folder."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.finding.scanning import New, scan
from clever_ferry.moving.presence import is_folder

__all__ = ["Changed", "Changes", "Watch"]

_CACHES = (
    ("home", ".cache"),
    ("home", "Library/Caches"),
    ("local-data", "Temp"),
    ("local-data", "Microsoft/Windows"),
)
_VAST = ("shared-state",)
"""Known folders that hold all that a system keeps, and so are not searched."""
_PASSING = frozenset(
    ["cache", "caches", ".cache", "cachestorage", "codecache", "gpucache", "shadercache", "logs",
     "log", "crashpad", "crashes", "temp", "tmp", "thumbnails"]
)  # fmt: skip
_NO_NAME = frozenset(
    ["save", "saves", "saved", "savegame", "savegames", "saved games", "my games", "data", "user",
     "users", "profile", "profiles", "config", "local", "share", "appdata", "documents", "roaming",
     "locallow"]
)  # fmt: skip


class Changed(Struct, frozen=True):
    """A folder with files that changed, the newest first."""

    folder: Path
    files: tuple[New, ...]
    guess: str
    """Whose it seems to be, by the names of its folders."""

    @property
    def stamp(self) -> int:
        """The last change, ns since 1970."""
        return self.files[0].stamp


class Changes(Struct, frozen=True):
    """What has changed, the newest first."""

    folders: tuple[Changed, ...]
    troubles: tuple[str, ...]
    looked: tuple[Path, ...]
    passed: tuple[Path, ...] = ()
    """Known folders that were not looked into: all that a system keeps is below them."""


class Watch:
    """A search for files changed since a time (ns since 1970). Caches are passed by.

    It goes on, in processes of its own, beside whatever is done between `add` and `end`.
    """

    def __init__(self, since: int) -> None:
        self.since = since
        self._passed: set[str] = set()
        self._bases: dict[str, Path] = {}
        self._tops: list[Path] = []
        self._passed_by: set[Path] = set()
        self._found: list[Iterator[New]] = []

    def add(self, folders: Mapping[str, Path]) -> None:
        """Begin to search a computer's known folders, as far as that is not begun yet."""
        self._passed_by |= {folders[name] for name in _VAST if name in folders}
        folders = {name: folder for name, folder in folders.items() if name not in _VAST}
        for name, folder in folders.items():
            self._bases[str(folder)] = folder
            self._passed |= {str(folder / inner) for under, inner in _CACHES if under == name}
        tops = list(_outermost(folders.values(), self._tops))
        self._tops += tops
        if tops:
            words = [str(top) for top in tops]
            self._found.append(scan(words, self.since, frozenset(self._passed)))

    def end(self, aside: Iterable[Path] = ()) -> Changes:
        """Wait for what was begun, and return it all, but for what is below `aside`."""
        above = tuple(f"{path}{os.sep}" for path in aside)
        found = [
            one for each in self._found for one in each if not one.path.startswith(above or ("\0",))
        ]
        passed = tuple(sorted(path for path in self._passed_by if is_folder(path)))
        return replace(_changes(found, self._bases, self._tops), passed=passed)


def _changes(found: list[New], bases: Mapping[str, Path], tops: list[Path]) -> Changes:
    groups: dict[str, list[New]] = {}
    troubles = []
    for one in found:
        if one.size < 0:
            troubles.append(f"the folder {one.path} can't be read, so it is passed over")
        else:
            groups.setdefault(one.path.rpartition(os.sep)[0], []).append(one)
    changed = [
        Changed(Path(folder), tuple(sorted(files, key=_newest)), _guess(folder, bases))
        for folder, files in groups.items()
    ]
    changed.sort(key=lambda one: (_is_cache(one.folder, bases), -one.stamp))
    return Changes(tuple(changed), tuple(sorted(troubles)), tuple(tops))


def _is_cache(folder: Path, bases: Mapping[str, Path]) -> bool:
    """Tell by its name whether a folder holds what programs make anew: such come last."""
    names = folder.relative_to(_base_of(folder, bases)).parts
    return any(name.lower().replace(" ", "") in _PASSING for name in names)


def _base_of(path: Path, bases: Mapping[str, Path]) -> Path:
    """Return the nearest known folder above a path."""
    return max((b for b in bases.values() if path.is_relative_to(b)), key=lambda b: len(b.parts))


def _newest(one: New) -> tuple[int, str]:
    return -one.stamp, one.path


def _outermost(folders: Iterable[Path], others: Iterable[Path]) -> Iterator[Path]:
    """Yield the folders that are there and lie in no other of them, nor in `others`."""
    kept = list(others)
    for folder in sorted(folders, key=lambda one: len(one.parts)):
        if is_folder(folder) and not any(folder.is_relative_to(top) for top in kept):
            kept.append(folder)
            yield folder


def _guess(folder: str, bases: Mapping[str, Path]) -> str:
    """Return the first two names below the nearest known folder that could be a studio or game."""
    path = Path(folder)
    names = [
        name
        for name in path.relative_to(_base_of(path, bases)).parts
        if name.lower() not in _NO_NAME
    ]
    return " / ".join(names[:2])
