"""Containers by their names, and files beside them that are entries by themselves."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.tree import Files, Output

__all__ = ["Containers", "files_beside", "unreadable", "written_beside"]


class Containers:
    """Which files are a box's containers: by one name, in which `*` stands for what differs."""

    def __init__(self, file: str) -> None:
        self.file = file
        self._before, self._star, self._after = file.partition("*")

    def has(self, path: str) -> bool:
        """Tell whether a file is one."""
        if not self._star:
            return path == self.file
        enough = len(path) >= len(self._before) + len(self._after)
        return enough and path.startswith(self._before) and path.endswith(self._after)

    def of(self, name: str) -> str:
        """Return the one that an entry `container/name` is or would be in; empty for none."""
        parts = name.split("/")
        ways = ("/".join(parts[:depth]) for depth in range(1, len(parts)))
        return next((path for path in ways if self.has(path)), "")

    def refuse(self, contents: Contents, name: str) -> None:
        """Raise RefusedError where an entry's container is there and could not be read."""
        path = self.of(name)
        if path in contents.own and path not in contents.state:
            raise RefusedError(
                f"{path} is there and can't be read, so nothing is put into it.",
                advice="Name another slot; or keep a copy of that file, take it away, and try "
                "again.",
            )


def unreadable(path: str, error: DamagedError) -> str:
    """Return what is told of a container that can't be read, while the others can."""
    return f"{path}: {error.what.rstrip('.')}"


def files_beside(
    files: Files, enter: Callable[[str], bool], own: Callable[[str], bool]
) -> Iterator[Entry]:
    """Yield an entry for each file but the container's `own`."""
    for info in files.walk(enter):
        if not own(info.path):
            yield Entry(
                info.path, info.size, info.stamp, files.listed(info), (info.path,), "", info.checked
            )


def written_beside(
    puts: Sequence[Put], removes: Collection[str], within: Callable[[str], bool], making: Making
) -> Iterator[Output]:
    """Yield the files that change beside a container; `within` tells what is in that."""
    for put in puts:
        if not within(put.name):
            yield Output(put.name, put.payload, put.stamp)
    for name in removes:
        if not within(name):
            yield Output(name, None, making.now, tidy=True)
