"""Two sheets against each other: what is the same, more, less, missing or new."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import compress
from operator import and_, eq, itemgetter
from typing import Any, Literal, NamedTuple

from msgspec import Struct

from clever_ferry.cargo import same_value
from clever_ferry.sheets.sheet import Sheet, SheetFact, SheetTable

__all__ = ["Difference", "Differences", "TableDifferences", "compare", "summary"]

How = Literal["more", "less", "other", "missing", "new"]
Matched = Literal["id", "likeness", "sums"]
_MOST_NAMED = 10_000
"""So many differences of one table are named; the others are counted."""
_FEWEST_ALIKE = 0.5
"""Of their columns, two rows must have so many alike to be taken for one."""


class Difference(Struct, frozen=True):
    """One thing that is not the same on both sides."""

    what: str
    """The row or the fact, in words."""
    owner: str
    """Whose row it is; '' where rows have no owner."""
    how: How
    column: str
    """What of it differs; '' for the whole row."""
    first: Any
    second: Any
    sure: float = 1.0
    """How sure it is that both sides mean the same row, from 0 to 1."""


class TableDifferences(Struct, frozen=True):
    """What differs in one table, in the owners' order."""

    name: str
    label: str
    first: int
    second: int
    """How many rows each side has."""
    matched: Matched
    """By what rows were told: their ids, or how alike they are; or only sums were compared."""
    same: int
    """How many rows are the same."""
    differences: tuple[Difference, ...]
    more: int = 0
    """How many differences are not named."""


class Differences(Struct, frozen=True):
    """How two saves differ."""

    first: Sheet
    second: Sheet
    facts: tuple[Difference, ...]
    same_facts: tuple[str, ...]
    tables: tuple[TableDifferences, ...]
    alone: tuple[str, ...]
    """Tables and facts that only one side tells, and why nothing can be said of them."""
    allowed: tuple[Difference, ...] = ()
    """Facts that differ as they may after a move from the first to the second."""

    @property
    def same(self) -> bool:
        """Whether nothing differs, as far as both sides tell."""
        return not self.facts and not any(one.differences for one in self.tables)


def compare(first: Sheet, second: Sheet) -> Differences:
    """Set two sheets of one game against each other."""
    own, other = ({fact.key: fact for fact in sheet.facts} for sheet in (first, second))
    facts: list[Difference] = []
    allowed: list[Difference] = []
    same: list[str] = []
    alone: list[str] = []
    for key in dict.fromkeys((*own, *other)):
        if key not in own or key not in other:
            one = own.get(key) or other[key]
            side = "first" if key in own else "second"
            alone.append(f"{one.label}: only the {side} tells it ({one.text})")
        elif "free" in (own[key].compared.how, other[key].compared.how):
            continue  # such as the name that a player gave the file
        elif same_value(own[key], other[key]):
            same.append(f"{own[key].label} {own[key].text}")
        else:
            as_may_be = own[key].compared.allows(own[key], other[key])
            (allowed if as_may_be else facts).append(_fact_difference(own[key], other[key]))
    tables = []
    there = {table.name: table for table in second.tables}
    for table in first.tables:
        like = there.pop(table.name, None)
        if like is None:
            alone.append(f"{table.label}: only the first tells it")
        elif table.troubles or like.troubles:
            told = next(iter(table.troubles or like.troubles))
            alone.append(f"{table.label}: {told}")
            tables.append(_tables(table, like))
        else:
            tables.append(_tables(table, like))
    alone += [f"{table.label}: only the second tells it" for table in there.values()]
    return Differences(
        first, second, tuple(facts), tuple(same), tuple(tables), tuple(alone), tuple(allowed)
    )


def _fact_difference(one: SheetFact, other: SheetFact) -> Difference:
    texts = (one.text, other.text)
    if texts[0] == texts[1]:
        texts = (str(one.value), str(other.value))
    return Difference(one.label, "", _how(one.value, other.value) or "other", "", *texts)


def _how(one: Any, other: Any) -> How | None:
    """Return how the second value stands to the first; None where they are the same."""
    if one == other and isinstance(one, bool) == isinstance(other, bool):
        return None
    numbers = all(isinstance(x, int | float) and not isinstance(x, bool) for x in (one, other))
    if numbers:
        return "more" if other > one else "less"
    return "other"


def _tables(one: SheetTable, other: SheetTable) -> TableDifferences:
    if not (one.whole and other.whole):
        sums = tuple(_by_sums(one, other))
        return TableDifferences(
            one.name, one.label, one.count, other.count, "sums", 0, sums[:_MOST_NAMED],
            max(0, len(sums) - _MOST_NAMED),
        )  # fmt: skip
    columns = [column.name for column in one.columns if other.column(column.name) is not None]
    first, second = _Rows(one, columns), _Rows(other, columns)
    by_id = one.id in columns and one.id == other.id and first.told and second.told
    matches: Iterable[_Match]
    same, matches = _by_id(first, second) if by_id else (0, _by_likeness(first, second))
    named: list[Difference] = []
    more = 0
    for match in matches:
        found = match.differences(first, second)
        if not found:
            same += 1
        for difference in found:
            if len(named) < _MOST_NAMED:
                named.append(difference)
            else:
                more += 1
    named.sort(key=lambda one: one.owner)
    return TableDifferences(
        one.name, one.label, one.count, other.count, "id" if by_id else "likeness", same,
        tuple(named), more,
    )  # fmt: skip


def _by_sums(one: SheetTable, other: SheetTable) -> Iterator[Difference]:
    """Compare what is known where rows are not."""
    labels = {column.name: column.label for column in one.columns}
    if (how := _how(one.count, other.count)) is not None:
        yield Difference("all rows", "", how, "", one.count, other.count)
    for column in one.sums.keys() & other.sums.keys():
        if (how := _how(one.sums[column], other.sums[column])) is not None:
            yield Difference(f"all {labels.get(column, column)}", "", how, column,
                             one.sums[column], other.sums[column])  # fmt: skip
    for owner in dict.fromkeys((*one.counts, *other.counts)):
        mine, theirs = one.counts.get(owner, 0), other.counts.get(owner, 0)
        if (how := _how(mine, theirs)) is not None:
            yield Difference("rows", owner, how, "", mine, theirs)
        own, others = one.owned.get(owner, {}), other.owned.get(owner, {})
        for column in own.keys() & others.keys():
            if (how := _how(own[column], others[column])) is not None:
                yield Difference(
                    labels.get(column, column), owner, how, column, own[column], others[column]
                )


def summary(table: TableDifferences) -> str:
    """Return in a line how two tables stand to each other, and how rows were told."""
    rows = (
        f"{table.first:,}"
        if table.first == table.second
        else (f"{table.first:,} and {table.second:,}")
    )
    how = {
        "id": "told by their ids",
        "likeness": "told by how alike they are, as they have no ids of their own",
        "sums": "only how many they are and what they add up to, as not both sides have the rows",
    }[table.matched]
    more = f"; {table.more:,} further differences are not shown" if table.more else ""
    if table.matched == "sums":
        return f"{rows} rows: {how}{more}."
    return f"{rows} rows, {how}: {table.same:,} are the same{more}."


class _Rows:
    """A table's rows, in the columns that both sides have."""

    def __init__(self, table: SheetTable, columns: Sequence[str]) -> None:
        self.columns = list(columns)
        self.id, self.owner_column, self.named_column = table.id, table.owner, table.named
        self.labels = [one.label for one in table.columns if one.name in columns]
        values = {one.name: one.values for one in table.columns}
        self.values = [values[name] for name in columns]
        self.count = len(self.values[0]) if self.values else 0
        self.id_label = next((one.label for one in table.columns if one.name == table.id), "")
        self.ids: list[Any] = values[table.id or ""] if table.id in columns else []
        self.keys = self.ids if set(map(type, self.ids)) <= {int} else list(map(str, self.ids))
        """Ids as they are looked for: numbers, or texts."""
        self.told = len(set(self.keys)) == self.count and None not in self.ids
        """Whether each has an id of its own."""
        self.names: list[Any] = values[table.named or ""] if table.named in columns else []
        self.owners: list[Any] = values[table.owner or ""] if table.owner in columns else []

    @cached_property
    def rows(self) -> list[tuple[Any, ...]]:
        """The rows' values."""
        return list(zip(*self.values, strict=True))

    def owner(self, at: int) -> str:
        """Return whose a row is."""
        return "" if not self.owners or self.owners[at] is None else str(self.owners[at])

    def name(self, at: int) -> str:
        """Return a row in words."""
        called = self.names[at] if self.names else None
        if self.ids and self.ids[at] is not None:
            ident = self.ids[at]
            told = f"{self.id_label} {ident}" if isinstance(ident, int | float) else str(ident)
            return f"{called} ({told})" if called is not None and called != ident else told
        return self._told(at, self.owner_column)

    def rest(self, at: int) -> str | None:
        """Return in words what is not said by a row's name and its owner; None without an id."""
        if not self.ids or self.ids[at] is None:
            return None  # its name has all of it
        return self._told(at, self.owner_column, self.id, self.named_column)[:200] or None

    def _told(self, at: int, *without: str | None) -> str:
        every = zip(self.columns, self.labels, self.values, strict=True)
        return ", ".join(
            f"{label} {values[at]}" for column, label, values in every
            if column not in without and values[at] is not None
        )  # fmt: skip


class _Match(NamedTuple):
    """Two rows that are one, or a row without its like."""

    first: int | None
    second: int | None
    sure: float = 1.0

    def differences(self, one: _Rows, other: _Rows) -> list[Difference]:
        """Return what differs."""
        if self.first is None or self.second is None:
            rows, at = (one, self.first) if self.second is None else (other, self.second)
            assert at is not None
            how: How = "missing" if self.second is None else "new"
            told = rows.rest(at)
            first, second = (told, None) if how == "missing" else (None, told)
            return [Difference(rows.name(at), rows.owner(at), how, "", first, second)]
        found = []
        for label, own, others in zip(one.labels, one.values, other.values, strict=True):
            mine, theirs = own[self.first], others[self.second]
            if mine is theirs:
                continue
            if (step := _how(mine, theirs)) is not None:
                found.append(Difference(one.name(self.first), one.owner(self.first), step, label,
                                        mine, theirs, self.sure))  # fmt: skip
        return found


def _by_id(one: _Rows, other: _Rows) -> tuple[int, list[_Match]]:
    """Return how many rows are just the same, and all others; most rows are the former."""
    own, others = one.keys, other.keys
    if own and others and type(own[0]) is not type(others[0]):
        own, others = list(map(str, own)), list(map(str, others))
    there = dict(zip(others, range(len(others)), strict=True))
    places = list(map(there.get, own))
    found = [like is not None for like in places]
    both = list(compress(range(len(own)), found))
    likes = [like for like in places if like is not None]
    alike: list[bool] | None = None
    for mine, theirs in zip(one.values, other.values, strict=True):
        first = mine if len(both) == len(mine) else list(compress(mine, found))
        second = _picked(theirs, likes)
        kinds = set(map(type, first))
        typed = kinds == set(map(type, second)) and not {bool, int} <= kinds
        if typed and first == second:
            continue  # most columns are so
        equal = map(eq, first, second) if typed else map(_same, first, second)
        alike = list(equal if alike is None else map(and_, alike, equal))
    alike = [True] * len(both) if alike is None else alike
    matches = [_Match(at, like) for at, like, same in zip(both, likes, alike, strict=True)
               if not same]  # fmt: skip
    matches += [_Match(at, None) for at, there_too in enumerate(found) if not there_too]
    if len(likes) < len(others):
        gone = there.keys() - set(own)
        matches += [_Match(None, at) for at, key in enumerate(others) if key in gone]
    return sum(alike), matches


def _same(one: Any, other: Any) -> bool:
    return _how(one, other) is None


def _picked(values: Sequence[Any], places: Sequence[int]) -> list[Any]:
    """Return the values at places."""
    if len(places) < 2:
        return [values[at] for at in places]
    return list(itemgetter(*places)(values))


def _by_likeness(one: _Rows, other: _Rows) -> Iterator[_Match]:
    """Pair equal rows, then those in which ever fewer columns are alike, in their order.

    The work grows with the rows, and not with their square: rows are looked up by what is left of
    them without some columns.
    """
    left, right = list(range(one.count)), list(range(other.count))
    width = len(one.columns)
    for kept in _ways(width):
        if not left or not right:
            break
        waiting: dict[Any, list[int]] = {}
        for at in reversed(right):
            waiting.setdefault(tuple(other.rows[at][column] for column in kept), []).append(at)
        alone: list[int] = []
        taken: set[int] = set()
        for at in left:
            likes = waiting.get(tuple(one.rows[at][column] for column in kept))
            if likes:
                found = likes.pop()
                taken.add(found)
                yield _Match(at, found, len(kept) / width)
            else:
                alone.append(at)
        left, right = alone, [at for at in right if at not in taken]
    yield from (_Match(at, None) for at in left)
    yield from (_Match(None, at) for at in right)


def _ways(width: int) -> Iterator[tuple[int, ...]]:
    """Yield which columns must be alike: all, all but one, all but two next to each other."""
    every = tuple(range(width))
    yield every
    for gone in range(width):
        kept = tuple(column for column in every if column != gone)
        if kept and len(kept) / width >= _FEWEST_ALIKE:
            yield kept
    for first in range(width):
        for second in range(first + 1, width):
            kept = tuple(column for column in every if column not in (first, second))
            if kept and len(kept) / width >= _FEWEST_ALIKE and width <= 12:
                yield kept
