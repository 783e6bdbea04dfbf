"""Conditions as mappings' cells have them, and which of them leave nothing to others."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from clever_ferry.bequeathing.rows import number, text
from clever_ferry.errors import DamagedError

__all__ = ["Condition", "all_fit", "condition", "conditions_of", "covers"]

_BOUND = re.compile(r"(>=|<=|>|<)\s*(\S+)")
_ALTERNATIVE = re.compile(r'(\s*"[^"]*"\s*|[^|]*)\|')
_NUMBER = re.compile(r"-?[0-9]+(\.[0-9]+)*")


class Bound(Struct, frozen=True):
    """One end of a range: a number, or a version such as 1.10."""

    written: str
    own: bool
    """Whether it belongs to the range itself."""

    def above(self, value: object) -> bool | None:
        """Tell whether a value is above it, or is it; None where that can't be compared."""
        pair = _pair(value, self.written)
        return None if pair is None else pair[0] > pair[1] or (self.own and pair[0] == pair[1])

    def below(self, value: object) -> bool | None:
        """Tell whether a value is below it, or is it."""
        pair = _pair(value, self.written)
        return None if pair is None else pair[0] < pair[1] or (self.own and pair[0] == pair[1])


class Condition(Struct, frozen=True):
    """What a value must be: in a range, or one of some texts, or none of them."""

    texts: frozenset[str] | None = None
    """The texts that it is one of; None: any."""
    none: bool = False
    """Whether it must be none of these instead."""
    low: Bound | None = None
    high: Bound | None = None

    @property
    def any(self) -> bool:
        """Whether every value fits."""
        return self.texts is None and self.low is None and self.high is None

    def fits(self, value: object) -> bool:
        """Tell whether a value is so; only numbers and versions are in a range."""
        if self.texts is not None:
            return (text(value) in self.texts) is not self.none
        if self.low is not None and not self.low.above(value):
            return False
        return self.high is None or bool(self.high.below(value))

    def covers(self, other: Condition) -> bool:
        """Tell whether all that fits the other fits this one, too."""
        if self.any or self == other:
            return True
        if other.any:
            return False
        if other.texts is not None and not other.none:
            return all(map(self.fits, other.texts))
        if other.texts is not None:  # all but some
            return self.texts is not None and self.none and self.texts <= other.texts
        if self.texts is not None:  # a range, which has numbers without end
            return self.none and not any(map(other.fits, self.texts))
        return _within(other.low, self.low, 1) and _within(other.high, self.high, -1)


def _within(inner: Bound | None, outer: Bound | None, sign: int) -> bool:
    """Tell whether an end (the lower one, if `sign` is 1) lies within another."""
    if outer is None or inner is None:
        return outer is None
    pair = _pair(inner.written, outer.written)
    if pair is None:
        return False
    if pair[0] == pair[1]:
        return outer.own or not inner.own
    return (pair[0] > pair[1]) is (sign > 0)


def condition(cell: str) -> Condition:
    """Read a cell; raises DamagedError where it can't be one.

    >>> condition("3..7").fits(7), condition("!proud|patient").fits("proud"), condition("").any
    (True, False, True)
    >>> condition('"a|b"').fits("a|b"), condition('!""').fits("")
    (True, False)
    """
    cell = cell.strip()
    if cell in ("", "*"):
        return Condition()
    if found := _BOUND.fullmatch(cell):
        bound = Bound(_written(found[2], cell), "=" in found[1])
        return Condition(low=bound) if cell[0] == ">" else Condition(high=bound)
    if cell[0] in "<>":
        raise DamagedError(f"{cell!r} is no bound: a number stands behind the sign")
    low, dots, high = (part.strip() for part in cell.partition(".."))
    if dots and _NUMBER.fullmatch(low) and _NUMBER.fullmatch(high):
        if not Bound(low, True).above(high):
            raise DamagedError(f"{cell!r} is a range with nothing in it")
        return Condition(low=Bound(low, True), high=Bound(high, True))
    none = cell.startswith("!")
    texts = _ALTERNATIVE.findall(cell.removeprefix("!") + "|")
    if not all(texts) or "|".join(texts) != cell.removeprefix("!"):
        raise DamagedError(f"{cell!r} has nothing before or behind a sign")
    return Condition(frozenset(map(_unquoted, texts)), none)


def _unquoted(written: str) -> str:
    written = written.strip()
    quoted = written.startswith('"') and written.endswith('"') and len(written) > 1
    return written[1:-1] if quoted else written


def conditions_of(cells: Mapping[str, str]) -> dict[str, Condition]:
    """Read cells by column; those that let all through are left out."""
    found = {name: condition(cell) for name, cell in cells.items()}
    return {name: one for name, one in found.items() if not one.any}


def all_fit(conditions: Mapping[str, Condition], row: Mapping[str, object]) -> bool:
    """Tell whether a row is as all of some conditions say, by column."""
    return all(one.fits(row.get(column)) for column, one in conditions.items())


def covers(first: Mapping[str, Condition], later: Mapping[str, Condition]) -> bool:
    """Tell whether some conditions let all through that others do."""
    return all(
        column in later and one.covers(later[column]) for column, one in first.items()
    )  # fmt: skip


def _written(written: str, cell: str) -> str:
    if not _NUMBER.fullmatch(written):
        raise DamagedError(f"{cell!r}: {written!r} is no number")
    return written


def _pair(value: object, bound: str) -> tuple[Any, Any] | None:
    """Return a value and a bound as what can be compared; None where it can't.

    A text is compared as a version where it, or the bound, has two points: 1.10.0 is above 1.9.
    """
    found = number(value)
    written = text(value).strip()
    if found is None and not _NUMBER.fullmatch(written):
        return None
    if found is not None and bound.count(".") < 2:
        return found, float(bound)
    if "-" in written or "-" in bound or "." not in written + bound:
        whole = written.count(".") < 2 and bound.count(".") < 2
        return (float(written), float(bound)) if whole else None
    return tuple(map(int, written.split("."))), tuple(map(int, bound.split(".")))
