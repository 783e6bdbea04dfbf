"""Which permissions new files and folders get: those of their like beside them, not the process's.

A dedicated server's saves may be readable by its group, a game's by its user alone; what is added
follows that, as the game's next save would.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from pathlib import PurePath, PureWindowsPath

from clever_ferry.moving.shore import Node, Shore
from clever_ferry.moving.system import Attributes

__all__ = ["mode_for_file", "mode_for_folder"]

_MOST_LIKES = 64
"""Files and folders beside a new one that are looked at."""


def mode_for_file(shore: Shore, place: PurePath, root: PurePath) -> Attributes | None:
    """Return the permissions of a new file below `root`, as its like has them; None for none.

    Its like is the newest file of its ending in its folder, or in one that stands where its folder
    will.
    """
    for folder in _likes(shore, place.parent, root):
        files = [one for one in _inside(shore, folder) if one[1].kind == "file"]
        same = [one for one in files if one[0].suffix == place.suffix] or files
        if same:
            return Attributes(max(same, key=lambda one: one[1].stamp)[1].mode)
    return None


def mode_for_folder(shore: Shore, place: PurePath, root: PurePath) -> Attributes | None:
    """Return the permissions of a new folder below `root`, as the folders beside it have them."""
    for folder in _likes(shore, place, root):
        with suppress(OSError):
            node = shore.node(folder)
            return Attributes(node.mode) if node is not None else None
    return None


def _likes(shore: Shore, folder: PurePath, root: PurePath) -> Iterator[PurePath]:
    """Yield a folder, where it is there, and others that stand to others as it would stand here.

    Nothing above `root` is looked at. Windows has no such permissions.
    """
    if isinstance(root, PureWindowsPath) or not folder.is_relative_to(root):
        return
    if _is_folder(shore, folder):
        yield folder
    missing: list[str] = []
    above = folder
    while above != root:
        missing.insert(0, above.name)
        above = above.parent
        if not _is_folder(shore, above):
            continue
        beside = [one for one in _inside(shore, above) if one[1].kind == "folder"]
        for other, _ in sorted(beside, key=lambda one: -one[1].stamp):
            like = other.joinpath(*missing[1:])
            if other.name != missing[0] and _is_folder(shore, like):
                yield like


def _is_folder(shore: Shore, path: PurePath) -> bool:
    with suppress(OSError):
        return shore.kind(path) == "folder"
    return False


def _inside(shore: Shore, folder: PurePath) -> list[tuple[PurePath, Node]]:
    found: list[tuple[PurePath, Node]] = []
    with suppress(OSError):
        for name in shore.names(folder):
            node = shore.node(folder / name) if not name.startswith(".") else None
            if node is not None and node.kind != "link":
                found.append((folder / name, node))
            if len(found) == _MOST_LIKES:
                break
    return found
