"""A plain folder as a box: its files are its entries."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.companions import going_with, with_companions
from clever_ferry.tree import Files, Output

__all__ = ["FolderBox"]


class FolderBox:
    """A folder; it needs no description."""

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return one entry per file."""
        listed = files.listed
        passed: list[str] = []

        def entered(folder: str) -> bool:
            inside = enter(folder)
            if not inside:
                passed.append(folder)
            return inside

        entries = [
            Entry(path, info.size, info.stamp, listed(info), (path,), "", info.checked)
            for info in files.walk(entered)
            for path in [info.path]
        ]
        return Contents(tuple(with_companions(entries)), passed=tuple(passed))

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the files themselves; what stands beside a database that goes, goes before it."""
        known = {entry.name: entry for entry in contents.entries}
        for put in puts:
            for path in going_with(put, known):
                yield Output(path, None, making.now)
            yield Output(put.name, put.payload, put.stamp)
        for name in removes:
            for path in (*known[name].beside, name) if name in known else (name,):
                yield Output(path, None, making.now, tidy=True)
