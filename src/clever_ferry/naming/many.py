"""Many patterns at once: a path is read by all of them, folder by folder.

Patterns that begin alike are one way until they part, and what a folder's name says is read once
for all that lies in it.

>>> from clever_ferry.naming import NumberField, compile_pattern
>>> slot = {"slot": NumberField()}
>>> names = Names([(compile_pattern(f"{{slot}}/{name}", slot), name) for name in ("map", "log")])
>>> names.leads("7"), names.leads("7/map")
(True, False)
>>> names.read("7/log")
[('log', {'slot': 7})]
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Generic, TypeVar

from msgspec import Struct, field

from clever_ferry.naming.fields import Value
from clever_ferry.naming.pattern import LONGEST_NAME, Ambiguous, Pattern

__all__ = ["Names"]

_REMEMBERED = 20_000

_T = TypeVar("_T")
_Read = dict[str, Value] | Ambiguous


class _Level(Struct):
    """What may stand in a folder: names that are fixed text, and names with fields."""

    folders: dict[str, _Level] = field(default_factory=dict)
    named: dict[object, tuple[Pattern, _Level]] = field(default_factory=dict)
    """Folders by what tells their patterns apart."""
    files: dict[str, list[int]] = field(default_factory=dict)
    """Which of all patterns end here in this name."""
    ends: list[tuple[Pattern, int]] = field(default_factory=list)
    known: dict[str, _Ends] = field(default_factory=dict)
    """What was read before of a name here: saves' folders have files of the same names."""


_Ends = tuple[tuple[int, _Read], ...]
"""The patterns that end in a name, and what the name says by each."""
_Here = tuple[tuple[_Level, _Read], ...]
"""The ways that lead to a folder, and what its path says by each."""


class Names(Generic[_T]):
    """Patterns, each with a mark; `fold` where upper and lower case are the same."""

    def __init__(self, patterns: Iterable[tuple[Pattern, _T]], *, fold: bool = False) -> None:
        self._fold = fold
        self._patterns = list(patterns)
        self.depths = frozenset(pattern.depth for pattern, _ in self._patterns)
        """How many folders stand in the paths that fit; for a quick look before `read`."""
        self._joins = any(pattern.joins for pattern, _ in self._patterns)
        top = _Level()
        for rank, (pattern, _) in enumerate(self._patterns):
            *above, last = pattern.segments
            level = top
            for segment in above:
                plain = self._plain(segment)
                if plain:
                    level = level.folders.setdefault(plain, _Level())
                else:
                    apart = (segment.tokens, *(one.tokens for one in segment.shorter))
                    level = level.named.setdefault(apart, (segment, _Level()))[1]
            plain = self._plain(last)
            if plain:
                level.files.setdefault(plain, []).append(rank)
            else:
                level.ends.append((last, rank))
        self._top: _Here = ((top, {}),)
        self._known: dict[str, _Here] = {"": self._top}

    def leads(self, folder: str) -> bool:
        """Tell whether a folder may hold files that a pattern fits, or folders that do."""
        return bool(self._here(folder))

    def read(self, path: str) -> list[tuple[_T, _Read]]:
        """Return what a path says by each pattern that it fits, in their order.

        The values are remembered, and must not be changed.
        """
        if len(path) > LONGEST_NAME:
            return []
        folder, slash, last = path.rpartition("/")
        here = self._known.get(folder)
        if here is None:
            here = self._here(folder)
        if not here or (slash and not folder):
            return []
        if len(here) == 1:
            level, above = here[0]
            ends = level.known.get(last)
            if ends is None:
                ends = self._ends(level, last)
            if len(ends) == 1:  # most are so
                rank, own = ends[0]
                values = _joined(above, own) if own else above
                if type(values) is dict and not self._joins:
                    return [(self._patterns[rank][1], values)]
            found = [(rank, _joined(above, own)) for rank, own in ends]
        else:
            found = [
                (rank, _joined(above, own))
                for level, above in here
                for rank, own in level.known.get(last) or self._ends(level, last)
            ]
            found.sort(key=_rank)
        read: list[tuple[_T, _Read]] = []
        for rank, values in found:
            pattern, mark = self._patterns[rank]
            if isinstance(values, Ambiguous):  # the whole may tell what a part does not
                values = pattern.match(path, fold=self._fold)
            elif values is not None and pattern.joins:
                values = pattern.joined(values)
            if values is not None:
                read.append((mark, values))
        return read

    def _ends(self, level: _Level, last: str) -> _Ends:
        """Return the patterns that end in a folder's file of this name."""
        plain = self._as_plain(last)
        found: list[tuple[int, _Read]] = [(rank, {}) for rank in level.files.get(plain, ())]
        for pattern, rank in level.ends:
            own = pattern.match(last, fold=self._fold)
            if own is not None:
                found.append((rank, own))
        found.sort(key=_rank)
        if len(level.known) >= _REMEMBERED:
            level.known.clear()
        ends = level.known[last] = tuple(found)
        return ends

    def _here(self, path: str) -> _Here:
        known = self._known.get(path)
        if known is not None:
            return known
        if len(self._known) >= _REMEMBERED:
            self._known = {"": self._top}
        parent, slash, part = path.rpartition("/")
        if parent in self._known and (parent or not slash):  # as in a walk from above
            here = self._known[path] = self._further(self._known[parent], part)
            return here
        here = self._top
        for part in path.split("/"):
            here = self._further(here, part)
            if not here:
                break
        self._known[path] = here
        return here

    def _further(self, here: _Here, part: str) -> _Here:
        """Return the ways into a folder of this name within another."""
        plain = self._as_plain(part)
        if len(here) == 1 and not here[0][0].named:
            inner = here[0][0].folders.get(plain)
            return ((inner, here[0][1]),) if inner is not None else ()
        found: list[tuple[_Level, _Read]] = []
        for level, above in here:
            if plain in level.folders:
                found.append((level.folders[plain], above))
            for pattern, inner in level.named.values():
                own = pattern.match(part, fold=self._fold)
                values = None if own is None else _joined(above, own)
                if values is not None:
                    found.append((inner, values))
        return tuple(found)

    def _plain(self, segment: Pattern) -> str:
        """Return a segment's fixed text, as names are compared with it; else ''."""
        return self._as_plain(segment.plain)

    def _as_plain(self, name: str) -> str:
        """Return a name as fixed texts are kept; '' where its cases have different lengths."""
        if not self._fold:
            return name
        folded = name.casefold()
        return folded if len(folded) == len(name) else ""


def _rank(found: tuple[int, object]) -> int:
    return found[0]


def _joined(above: _Read, own: _Read) -> _Read | None:
    """Return what a folder and a name in it say together; None where they disagree."""
    if isinstance(above, Ambiguous) or isinstance(own, Ambiguous):
        return own if isinstance(own, Ambiguous) else above
    if not above or not own:
        return own or above
    if above.keys().isdisjoint(own):
        return above | own
    for key, value in above.items():
        if own.get(key, value) != value:
            return None
    return {**above, **own}
