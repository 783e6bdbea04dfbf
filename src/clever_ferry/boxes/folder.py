"""A plain folder as a box: its files are its entries.

What SQLite has left beside a database belongs to that: it is kept with it, is read as settled, and
goes when the database is replaced, as it would otherwise be applied to the new one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from msgspec.structs import replace

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.forms.databases import COMPANIONS, companions, is_database, settled
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
        if any(entry.name.endswith(COMPANIONS) for entry in entries):
            entries = _with_companions(entries)
        return Contents(tuple(entries), passed=tuple(passed))

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the files themselves; what stands beside a database that goes, goes before it."""
        known = {entry.name: entry for entry in contents.entries}
        for put in puts:
            for path in _beside(put, known):
                yield Output(path, None, making.now)
            yield Output(put.name, put.payload, put.stamp)
        for name in removes:
            for path in (*known[name].files[1:], name) if name in known else (name,):
                yield Output(path, None, making.now, tidy=True)


def _with_companions(entries: list[Entry]) -> list[Entry]:
    """Return the entries with what stands beside databases as part of these."""
    known = {entry.name: entry for entry in entries}
    for name, names in companions(known.keys()).items():
        own, beside = known[name], {one[len(name) :]: known[one] for one in names}
        payloads = {ending: one.payload for ending, one in beside.items()}
        if not is_database(own.payload, payloads.values()):
            continue
        known[name] = replace(
            own,
            stamp=max(one.stamp or 0 for one in (own, *beside.values())),
            payload=settled(own.payload, payloads),
            files=(name, *names),
        )
        for one in names:
            del known[one]
    return list(known.values())


def _beside(put: Put, known: Mapping[str, Entry]) -> list[str]:
    """Return what stands beside the place of a new file and would be taken for its own."""
    if put.name in known and len(known[put.name].files) > 1:
        return list(known[put.name].files[1:])
    names = [put.name + ending for ending in COMPANIONS if put.name + ending in known]
    return names if names and is_database(put.payload) else []
