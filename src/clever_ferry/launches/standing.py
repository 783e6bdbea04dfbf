"""How the files of a berth stand, and what has changed between two looks."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal, NamedTuple

from clever_ferry.moving.files import FolderFiles

__all__ = ["FileChange", "Standing"]

State = tuple[int, int, int, int]
"""A file's size, last change, the shore's own time of that, and its number."""


class FileChange(NamedTuple):
    """What has become of one file."""

    path: str
    how: Literal["new", "written", "replaced", "gone"]
    """`replaced`: another file has its name now."""
    stamp: int
    """When it was written, as it says itself (ns since 1970); 0 where it is gone."""


class Standing:
    """The files of a folder as they were last seen."""

    def __init__(self, files: FolderFiles) -> None:
        self._files = files.passing([])
        self._seen = self._walked()

    def _walked(self) -> dict[str, State]:
        return {
            one.path: (one.size, one.stamp, one.change, one.number)
            for one in self._files.walk(lambda folder: True)
        }

    def look(self) -> list[FileChange]:
        """Look at all files, and return what has changed since they were last seen."""
        before, self._seen = self._seen, self._walked()
        return list(_changes(before, self._seen))

    def look_at(self, paths: Iterable[str]) -> list[FileChange]:
        """Look at some files alone."""
        before: dict[str, State] = {}
        now: dict[str, State] = {}
        for path in paths:
            if path in self._seen:
                before[path] = self._seen.pop(path)
            info = self._files.info(path)
            if info is not None:
                now[path] = (info.size, info.stamp, info.change, info.number)
        self._seen |= now
        return list(_changes(before, now))


def _changes(before: dict[str, State], now: dict[str, State]) -> Iterable[FileChange]:
    for path, state in now.items():
        was = before.get(path)
        if was is None:
            yield FileChange(path, "new", state[1])
        elif was != state and (was[:2] != state[:2] or state[2]):
            yield FileChange(path, "replaced" if was[3] != state[3] else "written", state[1])
    yield from (FileChange(path, "gone", 0) for path in before if path not in now)
