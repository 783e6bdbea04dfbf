"""Columns of what is made: where each value comes from, and what is done to it."""

from __future__ import annotations

import math
import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from clever_ferry.bequeathing.calendars import shifted
from clever_ferry.bequeathing.conditions import all_fit, conditions_of
from clever_ferry.bequeathing.mapping import MappingRules, Shares, spread
from clever_ferry.bequeathing.rows import RowTable, number, text
from clever_ferry.errors import DamagedError
from clever_ferry.recipes.bequest_models import BequestRecipe, DerivedInfo, MakeInfo

__all__ = ["NAMED", "MakeReport", "Work", "filled", "made"]

NAMED = re.compile(r"\{([a-z][a-z0-9_-]*)\}")
"""A column or a fact that stands in a text."""


@dataclass
class MakeReport:
    """What is to be said of a table that was made."""

    label: str = ""
    of: int = 0
    """How many rows there were of what it was made of."""
    count: int = 0
    """How many it has."""
    defaults: dict[str, list[str]] = field(default_factory=dict)
    """By column, the rows that had nothing there, and got what the recipe states."""
    left_out: list[str] = field(default_factory=list)
    """RowTable that are not as `where` says."""
    unmapped: list[str] = field(default_factory=list)
    """What the mapping has no line for, which went to its `rest`."""
    unreached: list[str] = field(default_factory=list)
    """RowTable to which nothing went."""
    split: list[str] = field(default_factory=list)
    """Things of which more than one place got something."""
    merged: list[str] = field(default_factory=list)
    """Places that got something of more than one thing."""
    sums: dict[str, tuple[int | float, int | float]] = field(default_factory=dict)
    """Of each column whose total stays: the sum before, and that of what was made."""
    rules: dict[str, dict[str, int]] = field(default_factory=dict)
    """By mapping: how many rows each rule counted for, by where it stands."""


@dataclass(frozen=True)
class Work:
    """What tables are made of."""

    recipe: BequestRecipe
    tables: dict[str, RowTable]
    """All that there are by now, by the names by which the recipe knows them."""
    mappings: Mapping[str, MappingRules | Shares]
    options: Mapping[str, Any]


def made(info: MakeInfo, work: Work) -> tuple[RowTable, MakeReport]:
    """Make a table, and say what was done; raises DamagedError where something does not fit."""
    told = MakeReport()
    base, shared = _base(info, work, told)
    columns: dict[str, list[Any]] = {}
    for name, column in info.columns.items():
        at = f"make {info.table}, column {name}"
        values = _values(name, column, base, columns, shared, work, told, at)
        values = _changed(column, values, work, at)
        if column.default is not None:
            lacking = [row for row, value in enumerate(values) if value is None]
            for row in lacking:
                values[row] = column.default
            if lacking:
                told.defaults[name] = [_called(base, row) for row in lacking]
        columns[name] = values
        if column.total is not None and shared is not None:
            told.sums[name] = shared.before(column.total), 0
    rows = RowTable(info.label or info.table, info.id, info.named, columns)
    keep = _kept(info, rows, work, told, base)
    if keep is not None:
        columns = {name: [values[row] for row in keep] for name, values in columns.items()}
        rows = RowTable(rows.label, rows.id, rows.named, columns)
    told.label, told.of, told.count = rows.label, _of(info, work), rows.count
    told.sums = {name: (before, rows.total(name)) for name, (before, _) in told.sums.items()}
    seen: set[str] = set()
    for ident in rows.ids():
        if ident in seen or not ident:
            what = f"the {info.id} {ident!r} stands twice" if ident else f"a row has no {info.id}"
            raise DamagedError(f"Of {rows.label} that would be made, {what}.")
        seen.add(ident)
    return rows, told


def _of(info: MakeInfo, work: Work) -> int:
    shares = work.mappings.get(info.through or "")
    name = shares.info.source if isinstance(shares, Shares) else info.source
    return work.tables[name or ""].count


def _called(base: RowTable, row: int) -> str:
    return base.name(row)


def _kept(
    info: MakeInfo, rows: RowTable, work: Work, told: MakeReport, base: RowTable
) -> list[int] | None:  # fmt: skip
    """Return the rows that stay; None where all do."""
    if info.when and not all_fit(conditions_of(info.when), work.options):
        return []
    where = conditions_of(info.where)
    if not where:
        return None
    keep = []
    for row, one in enumerate(rows.dicts()):
        if all_fit(where, one):
            keep.append(row)
        else:
            told.left_out.append(_called(base, row))
    return keep


class _Shared:
    """Things of the predecessor and what each place of the successor gets of them."""

    def __init__(self, shares: Shares, froms: RowTable, tos: RowTable, told: MakeReport) -> None:
        self._froms, self._tos = froms, tos
        ids = froms.ids()
        self._shares = [shares.of_one(one) for one in ids]
        there = set(tos.ids())
        self.parts: dict[str, list[tuple[int, float]]] = {to: [] for to in there}
        for row, own in enumerate(self._shares):
            for to, share in own.items():
                self.parts[to].append((row, share))
        told.unmapped = [froms.name(row) for row, one in enumerate(ids) if one not in shares.of]
        told.split = [froms.name(row) for row, one in enumerate(self._shares) if len(one) > 1]
        told.merged = [tos.name(row) for row, one in enumerate(tos.ids())
                       if len(self.parts[one]) > 1]  # fmt: skip
        told.unreached = [tos.name(row) for row, one in enumerate(tos.ids()) if not self.parts[one]]

    def before(self, column: str) -> int | float:
        """Return the sum of a column as it was."""
        return self._froms.total(column)

    def totals(self, column: str) -> list[Any]:
        """Return what each place gets of a column; None where nothing goes."""
        found: dict[str, Any] = {}
        for value, shares in zip(self._froms.columns[column], self._shares, strict=True):
            for to, part in spread(value, shares).items():
                found[to] = found.get(to, 0) + part
        return [found.get(to) for to in self._tos.ids()]

    def largest(self, column: str, by: str) -> list[Any]:
        """Return the value of a column that has the largest share of `by` in each place."""
        values, weights = self._froms.columns[column], self._froms.columns[by]
        found = []
        for to in self._tos.ids():
            heaps: dict[str, list[Any]] = {}
            for row, share in self.parts[to]:
                if values[row] is not None:
                    heap = heaps.setdefault(text(values[row]), [0.0, 0.0, values[row]])
                    heap[0] += share * (number(weights[row]) or 0)
                    heap[1] += share  # decides where there is nothing of `by`
            most = max(heaps.values(), key=lambda heap: (heap[0], heap[1]), default=None)
            found.append(None if most is None else most[2])
        return found


def _base(info: MakeInfo, work: Work, told: MakeReport) -> tuple[RowTable, _Shared | None]:
    if info.source is not None:
        return work.tables[info.source], None
    shares = work.mappings[info.through or ""]
    assert isinstance(shares, Shares), "a recipe that was checked"
    tos = work.tables[shares.info.target]
    return tos, _Shared(shares, work.tables[shares.info.source], tos, told)


def _values(
    name: str, column: DerivedInfo, base: RowTable, above: Mapping[str, list[Any]],
    shared: _Shared | None,
    work: Work, told: MakeReport, at: str,
) -> list[Any]:  # fmt: skip
    """Return a column's values, one for each row of what it is made of."""

    def own(name: str) -> list[Any]:
        return above[name] if name in above else base.columns[name]

    match column.source:
        case "of":
            return list(own(column.of or ""))
        case "value":
            return [column.value] * base.count
        case "option":
            return [work.options[column.option or ""]] * base.count
        case "number":
            return list(range(1, base.count + 1))
        case "text":
            return _texts(column.text or "", own, base.count)
        case "total":
            assert shared is not None, "a recipe that was checked"
            return shared.totals(column.total or "")
        case "largest":
            assert shared is not None, "a recipe that was checked"
            return shared.largest(column.largest or "", column.by or "")
        case "find":
            assert column.find is not None
            there = work.tables[column.find.table]
            rows, values = there.by_id(), there.columns[column.find.column]
            found = [rows.get(text(one)) for one in own(column.find.by)]
            return [None if row is None else values[row] for row in found]
        case "goes":
            assert column.goes is not None
            shares = work.mappings[column.goes.through]
            assert isinstance(shares, Shares), "a recipe that was checked"
            tos = work.tables[shares.info.target]
            known = dict(zip(tos.ids(), tos.columns[tos.id or ""], strict=True))
            parts = [shares.of_one(text(one)) for one in own(column.goes.by)]
            return [known[max(one, key=lambda to: one[to])] if one else None for one in parts]
        case "count" | "sum":
            return _gathered(column, base, work)
        case "rank":
            return _ranks(own(column.rank or ""), _groups(column, own, base.count), at)
        case "share":
            return _parts(own(column.share or ""), _groups(column, own, base.count))
        case _:
            return _ruled(name, column, base, above, work, told)


def _texts(pattern: str, own: Callable[[str], list[Any]], count: int) -> list[Any]:
    names = dict.fromkeys(NAMED.findall(pattern))
    columns = {name: own(name) for name in names}
    found: list[Any] = []
    for row in range(count):
        here = {name: values[row] for name, values in columns.items()}
        lacking = any(value is None for value in here.values())
        found.append(None if lacking else filled(pattern, here))
    return found


def filled(pattern: str, values: Mapping[str, Any]) -> str:
    """Return a text with values in the place of their names."""
    return NAMED.sub(lambda found: text(values[found[1]]), pattern)


def _gathered(column: DerivedInfo, base: RowTable, work: Work) -> list[Any]:
    """Return how many rows elsewhere name each row here, or what their numbers add up to."""
    name, _, summed = (column.sum or "").rpartition(".")
    there = work.tables[column.count or name]
    found: dict[str, Any] = defaultdict(int)
    amounts: Iterable[Any] = there.columns[summed] if column.sum else [1] * there.count
    for names, amount in zip(there.columns[column.by or ""], amounts, strict=True):
        found[text(names)] += number(amount) or 0
    return [found.get(one, 0) for one in base.ids()]


def _groups(
    column: DerivedInfo, own: Callable[[str], list[Any]], count: int
) -> Sequence[str]:  # fmt: skip
    return [""] * count if column.within is None else list(map(text, own(column.within)))


def _ranks(values: Sequence[Any], groups: Sequence[str], at: str) -> list[Any]:
    """Return places from 1, among those of one group: most first, then as they stand."""
    ranks: list[Any] = [None] * len(values)
    places: dict[str, int] = {}
    if any(number(value) is None for value in values):
        raise DamagedError(f"{at}: it ranks by numbers, and some rows have none.")
    for row in sorted(range(len(values)), key=lambda row: -values[row]):
        places[groups[row]] = ranks[row] = places.get(groups[row], 0) + 1
    return ranks


def _parts(values: Sequence[Any], groups: Sequence[str]) -> list[Any]:
    sums: dict[str, int | float] = {}
    for value, group in zip(values, groups, strict=True):
        sums[group] = sums.get(group, 0) + (number(value) or 0)
    return [
        None if number(value) is None else value / sums[group] if sums[group] else 0.0
        for value, group in zip(values, groups, strict=True)
    ]


def _ruled(
    at: str,
    column: DerivedInfo,
    base: RowTable,
    above: Mapping[str, list[Any]],
    work: Work,
    told: MakeReport,
) -> list[Any]:
    name = column.rules or ""
    rules = work.mappings[name]
    assert isinstance(rules, MappingRules), "a recipe that was checked"
    gives = column.gives or rules.info.gives[0]
    hits = {rule.line.at: 0 for rule in rules.rules}
    asked = {one: above[one] if one in above else base.columns[one] for one in rules.columns}
    found: list[Any] = []
    none: list[str] = []
    known: dict[tuple[str, ...], Any] = {}  # rows alike are many
    rows = zip(*asked.values(), strict=True) if asked else iter([()] * base.count)
    for row, values in enumerate(rows):
        alike = tuple(map(text, values))
        if alike not in known:
            known[alike] = rules.first(dict(zip(asked, values, strict=True)))
        rule = known[alike]
        if rule is None:
            none.append(_called(base, row))
            found.append(rules.info.default[gives])
        else:
            hits[rule.line.at] += 1
            found.append(_typed(rule.gives[gives]))
    told.rules[name] = hits
    if none:
        told.defaults[at] = none
    return found


def _typed(cell: str) -> Any:
    """Return what a rule gives: a whole number where it is written as one."""
    return int(cell) if re.fullmatch(r"-?(0|[1-9][0-9]{0,17})", cell) else cell


def _changed(column: DerivedInfo, values: list[Any], work: Work, at: str) -> list[Any]:
    """Return values after all that is done to them; nothing stays nothing."""
    for key in ("times", "plus", "digits", "least", "most"):
        amount = getattr(column, key)
        if amount is not None:
            amount = work.options[amount] if isinstance(amount, str) else amount
            try:
                values = [_reckoned(key, value, amount, at) for value in values]
            except OverflowError:
                raise DamagedError(f"{at}: a number grows beyond all bounds.") from None
    if column.bins:
        values = [_bin(column, value, at) for value in values]
    if (shift := column.shift) is not None:
        calendars = work.recipe.calendars
        source, target = calendars[shift.source], calendars[shift.target]
        years = work.options[shift.years] if isinstance(shift.years, str) else shift.years
        days = [None if value is None else shifted(value, source, target, int(years))
                for value in values]  # fmt: skip
        for value, day in zip(values, days, strict=True):
            if day is None and value is not None:
                raise DamagedError(f"{at}: {text(value)!r} is no day of {shift.source}.")
        values = days
    return values


def _reckoned(key: str, value: Any, amount: Any, at: str) -> Any:
    if value is None:
        return None
    if number(value) is None:
        raise DamagedError(f"{at}: {text(value)!r:.60} is no number, and `{key}` is about numbers.")
    match key:
        case "times":
            return _finite(value * _exact(amount), at)
        case "plus":
            return _finite(value + _exact(amount), at)
        case "digits":
            return _rounded(value, amount)
        case "least":
            return max(value, _exact(amount))
        case _:
            return min(value, _exact(amount))


def _exact(amount: float) -> int | float:
    """Return a number of a recipe as a whole one where it is such."""
    return int(amount) if float(amount).is_integer() else amount


def _finite(value: int | float, at: str) -> int | float:
    if isinstance(value, float) and not math.isfinite(value):
        raise DamagedError(f"{at}: a number grows beyond all bounds.")
    return value


def _rounded(value: int | float, digits: int) -> int | float:
    """Round half away from zero, as players do; without digits, to a whole number."""
    scale = 10**digits
    if isinstance(value, int):
        return value
    whole = math.floor(abs(value) * scale + 0.5) * (1 if value >= 0 else -1)
    return whole / scale if digits else int(whole)


def _bin(column: DerivedInfo, value: Any, at: str) -> Any:
    if value is None:
        return None
    found = number(value)
    if found is None:
        raise DamagedError(f"{at}: {text(value)!r:.60} is no number, and `bins` are of numbers.")
    names = [name for low, name in column.bins if found >= low]
    return names[-1] if names else None
