"""Which permissions new files and folders get: those of their like beside them, not the process's.

A dedicated server's saves may be readable by its group, a game's by its user alone; what is added
follows that, as the game's next save would.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from clever_ferry.moving.system import Attributes, is_link

__all__ = ["mode_for_file", "mode_for_folder"]

_MOST_LIKES = 64
"""Files and folders beside a new one that are looked at."""


def mode_for_file(place: Path, root: Path) -> Attributes | None:
    """Return the permissions of a new file below `root`, as its like has them; None for none.

    Its like is the newest file of its ending in its folder, or in one that stands where its folder
    will.
    """
    for folder in _likes(place.parent, root):
        files = [one for one in _inside(folder) if stat.S_ISREG(one[1].st_mode)]
        same = [one for one in files if one[0].suffix == place.suffix] or files
        if same:
            return _mode(max(same, key=lambda one: one[1].st_mtime_ns)[1])
    return None


def mode_for_folder(place: Path, root: Path) -> Attributes | None:
    """Return the permissions of a new folder below `root`, as the folders beside it have them."""
    for folder in _likes(place, root):
        with suppress(OSError):
            return _mode(folder.stat())
    return None


def _mode(data: os.stat_result) -> Attributes:
    return Attributes(stat.S_IMODE(data.st_mode))


def _likes(folder: Path, root: Path) -> Iterator[Path]:
    """Yield a folder, where it is there, and others that stand to others as it would stand here.

    Nothing above `root` is looked at. Windows has no such permissions.
    """
    if os.name == "nt" or not folder.is_relative_to(root):
        return
    if folder.is_dir():
        yield folder
    missing: list[str] = []
    above = folder
    while above != root:
        missing.insert(0, above.name)
        above = above.parent
        if not above.is_dir():
            continue
        beside = [one for one in _inside(above) if stat.S_ISDIR(one[1].st_mode)]
        for other, _ in sorted(beside, key=lambda one: -one[1].st_mtime_ns):
            like = other.joinpath(*missing[1:])
            if other.name != missing[0] and like.is_dir():
                yield like


def _inside(folder: Path) -> list[tuple[Path, os.stat_result]]:
    found = []
    with suppress(OSError), os.scandir(folder) as listed:
        for entry in listed:
            data = entry.stat(follow_symlinks=False)
            if not entry.name.startswith(".") and not is_link(data):
                found.append((Path(entry.path), data))
            if len(found) == _MOST_LIKES:
                break
    return found
