"""Many patterns at once: a path is read by all of them, folder by folder.

What a folder's name says is read once for all that lies in it, and remembered.

>>> from clever_ferry.naming import NumberField, compile_pattern
>>> slot = {"slot": NumberField(type="number")}
>>> names = Names([(compile_pattern(f"{{slot}}/{name}", slot), name) for name in ("map", "log")])
>>> names.leads("7"), names.leads("7/map")
(True, False)
>>> names.read("7/log")
[('log', {'slot': 7})]
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Generic, NamedTuple, TypeVar

from clever_ferry.naming.fields import Value
from clever_ferry.naming.pattern import LONGEST_NAME, Ambiguous, Pattern

__all__ = ["Names"]

_REMEMBERED = 20_000

_T = TypeVar("_T")
_Read = dict[str, Value] | Ambiguous
_Fit = tuple[Pattern, int, _Read]


class _Way(NamedTuple):
    """A pattern that a folder's path fits as far as it goes."""

    pattern: Pattern
    rank: int
    """Which of all patterns it is."""
    above: _Read
    """What the path says so far."""
    plain: str
    """The next name where that is fixed text, casefolded where case does not count."""


class _Folder(NamedTuple):
    """What may lie in a folder: further folders, and files."""

    folders: tuple[_Way, ...]
    files: tuple[_Way, ...]


_NOTHING = _Folder((), ())


class Names(Generic[_T]):
    """Patterns, each with a mark; `fold` where upper and lower case are the same."""

    def __init__(self, patterns: Iterable[tuple[Pattern, _T]], *, fold: bool = False) -> None:
        self._fold = fold
        listed = list(patterns)
        self._marks = [mark for _, mark in listed]
        ways: list[_Fit] = [(pattern, rank, {}) for rank, (pattern, _) in enumerate(listed)]
        self._top = self._sorted(ways, 0)
        self._known = {"": self._top}

    def leads(self, folder: str) -> bool:
        """Tell whether a folder may hold files that a pattern fits, or folders that do."""
        there = self._folder(folder)
        return bool(there.folders or there.files)

    def read(self, path: str) -> list[tuple[_T, _Read]]:
        """Return what a path says by each pattern that it fits, in their order.

        The values are remembered, and must not be changed.
        """
        if not self._marks:
            return []
        folder, slash, last = path.rpartition("/")
        ways = (self._known.get(folder) or self._folder(folder)).files
        if not ways or len(path) > LONGEST_NAME or (slash and not folder):
            return []
        folded = last.casefold() if self._fold else last
        found: list[tuple[_T, _Read]] = []
        for pattern, rank, above, plain in ways:
            if plain:
                if folded != plain or len(last) != len(plain):
                    continue
                own: _Read | None = {}
            else:
                own = pattern.segments[-1].match(last, fold=self._fold)
            values = _joined(above, own)
            if isinstance(values, Ambiguous):  # the whole may tell what a part does not
                values = pattern.match(path, fold=self._fold)
            if values is not None:
                found.append((self._marks[rank], values))
        return found

    def _folder(self, path: str) -> _Folder:
        known = self._known.get(path)
        if known is not None:
            return known
        if len(self._known) >= _REMEMBERED:
            self._known = {"": self._top}
        here, there = self._top, ""
        for depth, part in enumerate(path.split("/")):
            if not part or not here.folders:
                self._known[path] = _NOTHING
                return _NOTHING
            there = f"{there}/{part}" if depth else part
            further = self._known.get(there)
            if further is None:
                further = self._known[there] = self._inner(here, part, depth)
            here = further
        return here

    def _inner(self, here: _Folder, part: str, depth: int) -> _Folder:
        """Return what may lie in a folder of this name within another."""
        folded = part.casefold() if self._fold else part
        ways: list[_Fit] = []
        said: dict[tuple[object, ...], _Read | None] = {}
        for pattern, rank, above, plain in here.folders:
            own: _Read | None = None
            if not plain:
                segment = pattern.segments[depth]
                alike = (segment.tokens, *(one.tokens for one in segment.shorter))
                if alike not in said:
                    said[alike] = segment.match(part, fold=self._fold)
                own = said[alike]
            elif folded == plain and len(part) == len(plain):
                own = {}
            values = _joined(above, own)
            if values is not None:
                ways.append((pattern, rank, values))
        return self._sorted(ways, depth + 1)

    def _sorted(self, ways: Iterable[_Fit], depth: int) -> _Folder:
        folders: list[_Way] = []
        files: list[_Way] = []
        for pattern, rank, above in ways:
            last = depth == pattern.depth
            text = pattern.segments[depth].plain
            plain = text.casefold() if self._fold else text
            way = _Way(pattern, rank, above, plain if len(plain) == len(text) else "")
            (files if last else folders).append(way)
        return _Folder(tuple(folders), tuple(files)) if folders or files else _NOTHING


def _joined(above: _Read, own: _Read | None) -> _Read | None:
    """Return what a folder and a name in it say together; None where they disagree."""
    if own is None:
        return None
    if isinstance(above, Ambiguous) or isinstance(own, Ambiguous):
        return own if isinstance(own, Ambiguous) else above
    if not own:
        return above
    for key, value in above.items():
        if own.get(key, value) != value:
            return None
    return {**above, **own}
