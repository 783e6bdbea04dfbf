"""Where a game saves: files that changed lately in a computer's usual places, by folder."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from clever_ferry.finding.computers import Computer
from clever_ferry.finding.scanning import New, scan

__all__ = ["Changed", "Changes", "changes_since"]

_CACHES = (
    ("home", ".cache"),
    ("home", "Library/Caches"),
    ("local-data", "Temp"),
    ("local-data", "Microsoft/Windows"),
)
_NO_NAME = frozenset(
    ["save", "saves", "saved", "savegame", "savegames", "saved games", "my games", "data", "user",
     "users", "profile", "profiles", "config", "local", "share", "appdata", "documents", "roaming",
     "locallow"]
)  # fmt: skip


@dataclass(frozen=True)
class Changed:
    """A folder with files that changed, the newest first."""

    folder: Path
    files: tuple[New, ...]
    guess: str
    """Whose it seems to be, by the names of its folders."""

    @property
    def stamp(self) -> int:
        """The last change, ns since 1970."""
        return self.files[0].stamp


@dataclass(frozen=True)
class Changes:
    """What has changed, the newest first."""

    folders: tuple[Changed, ...]
    troubles: tuple[str, ...]
    looked: tuple[Path, ...]


def changes_since(computers: Iterable[Computer], since: int, aside: Iterable[Path] = ()) -> Changes:
    """Look through the known folders of computers for files changed since `since` (ns).

    Caches are passed by, and the folders `aside`.
    """
    bases: dict[str, Path] = {}
    passed = {str(path) for path in aside}
    for computer in computers:
        for name, folder in computer.folders.items():
            bases[str(folder)] = folder
            passed |= {str(folder / inner) for under, inner in _CACHES if under == name}
    tops = tuple(_outermost(bases.values()))
    groups: dict[str, list[New]] = {}
    troubles = []
    for one in scan([str(top) for top in tops], since, frozenset(passed)):
        if one.size < 0:
            troubles.append(f"the folder {one.path} can't be read, so it is passed over")
        else:
            groups.setdefault(one.path.rpartition(os.sep)[0], []).append(one)
    found = [
        Changed(Path(folder), tuple(sorted(files, key=_newest)), _guess(folder, bases))
        for folder, files in groups.items()
    ]
    return Changes(tuple(sorted(found, key=lambda one: -one.stamp)), tuple(sorted(troubles)), tops)


def _newest(one: New) -> tuple[int, str]:
    return -one.stamp, one.path


def _outermost(folders: Iterable[Path]) -> Iterator[Path]:
    """Yield the folders that are there and lie in no other of them."""
    kept: list[Path] = []
    for folder in sorted(folders, key=lambda one: len(one.parts)):
        if folder.is_dir() and not any(folder.is_relative_to(top) for top in kept):
            kept.append(folder)
            yield folder


def _guess(folder: str, bases: Mapping[str, Path]) -> str:
    """Return the first two names below the nearest known folder that could be a studio or game."""
    path = Path(folder)
    base = max((b for b in bases.values() if path.is_relative_to(b)), key=lambda b: len(b.parts))
    names = [name for name in path.relative_to(base).parts if name.lower() not in _NO_NAME]
    return " / ".join(names[:2])
