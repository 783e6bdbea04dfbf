"""Mappings: tables beside a recipe that say what becomes of what."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct

from clever_ferry.bequeathing.conditions import Condition, all_fit, conditions_of, covers
from clever_ferry.bequeathing.rows import number
from clever_ferry.errors import DamagedError
from clever_ferry.recipes.bequest_models import RulesInfo, SharesInfo

__all__ = ["MappingLine", "MappingRule", "MappingRules", "Shares", "lines_of", "spread"]

_CLOSE = 1e-6
"""By so much the shares of one thing may miss 1, as they are written with few digits."""
_FINE = 10**9
"""Shares are reckoned in whole parts of so many, so that nothing is lost on the way."""
_MOST_LINES = 200_000


class MappingLine(Struct, frozen=True):
    """One line of a mapping's file."""

    file: str
    number: int
    """Counted from 1, as an editor shows it."""
    cells: Mapping[str, str]

    @property
    def at(self) -> str:
        """Where it stands, in words."""
        return f"{self.file}, line {self.number}"


def lines_of(raw: bytes, file: str) -> tuple[list[str], list[MappingLine]]:
    """Read a CSV file: the columns, and its lines; those that are empty or begin with # go.

    Raises DamagedError where it is none, or a line has another number of cells than the first.
    """
    try:
        written = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise DamagedError(f"{file} is no UTF-8 text: {error.reason}") from None
    reader = csv.reader(io.StringIO(written, newline=""), strict=True)
    columns: list[str] = []
    found: list[MappingLine] = []
    try:
        for cells in reader:
            if not any(map(str.strip, cells)) or cells[0].lstrip().startswith("#"):
                continue
            if not columns:
                columns = [cell.strip() for cell in cells]
                continue
            if len(cells) != len(columns):
                raise DamagedError(
                    f"{file}, line {reader.line_num}: it has {len(cells)} cells, and the first "
                    f"line names {len(columns)} columns"
                )
            own = dict(zip(columns, map(str.strip, cells), strict=True))
            found.append(MappingLine(file, reader.line_num, own))
            if len(found) > _MOST_LINES:
                raise DamagedError(f"{file} has over {_MOST_LINES:,} lines")
    except csv.Error as error:
        raise DamagedError(f"{file}, line {reader.line_num}: {error}") from None
    if not columns or len(set(columns)) != len(columns) or not all(columns):
        raise DamagedError(f"{file}: its first line names the columns, each once")
    return columns, found


class Shares(Struct, frozen=True):
    """Which share of each thing goes where."""

    info: SharesInfo
    of: Mapping[str, Mapping[str, float]]
    """By what goes: the share for each of what it goes to."""
    lines: Mapping[tuple[str, str], MappingLine]

    @classmethod
    def read(cls, info: SharesInfo, files: Sequence[tuple[str, bytes]]) -> Shares:
        """Read a mapping's files; what a later one says of a thing takes the earlier's place.

        Raises DamagedError with all that is wrong: each line, and what the way out is.
        """
        every: dict[str, dict[str, float]] = {}
        at: dict[tuple[str, str], MappingLine] = {}
        faults: list[str] = []
        for file, raw in files:
            columns, lines = lines_of(raw, file)
            if not {"from", "to"} <= set(columns) <= {"from", "to", "share"}:
                raise DamagedError(f"{file} has the columns from, to, and share if any")
            own: dict[str, dict[str, float]] = {}
            equal: set[str] = set()
            for line in lines:
                one, other = line.cells["from"], line.cells["to"]
                written = line.cells.get("share", "")
                share = _share(written)
                if not one or not other:
                    faults.append(f"{line.at}: both `from` and `to` say something")
                elif share is None:
                    faults.append(f"{line.at}: {written!r} is no share from 0 to 1")
                elif other in own.get(one, {}):
                    faults.append(f"{line.at}: {one} to {other} stands twice")
                else:
                    own.setdefault(one, {})[other] = share
                    at[one, other] = line
                    equal |= set() if written else {one}
            for one, shares in own.items():
                mixed = one in equal and any(
                    at[one, other].cells.get("share", "") for other in shares
                )
                if mixed:
                    faults.append(f"{file}: some lines of {one} have a share, and some have none")
                elif one in equal:
                    own[one] = dict.fromkeys(shares, 1 / len(shares))
                elif abs(sum(shares.values()) - 1) > _CLOSE:
                    first = at[one, next(iter(shares))]
                    faults.append(
                        f"{first.at}: the shares of {one} add up to {sum(shares.values()):g}, "
                        "and not to 1"
                    )
            every |= own
        if faults:
            raise DamagedError("A mapping can't be so.", details=tuple(faults))
        return cls(info, every, at)

    def of_one(self, one: str) -> Mapping[str, float]:
        """Return the shares of one thing; all of one without a line goes to the `rest`."""
        return self.of.get(one) or ({self.info.rest: 1.0} if self.info.rest is not None else {})


def _share(written: str) -> float | None:
    if not written:
        return 0.0
    try:
        found = float(written)
    except ValueError:
        return None
    return found if 0 <= found <= 1 else None


def spread(amount: Any, shares: Mapping[str, float]) -> dict[str, int | float]:
    """Return what each gets of an amount: of whole numbers, whole ones that add up to it.

    The largest remainders are rounded up, the first of equal ones first; a fraction's last gets
    what is left.

    >>> spread(10, {"a": 1 / 3, "b": 1 / 3, "c": 1 / 3})
    {'a': 4, 'b': 3, 'c': 3}
    """
    found = number(amount)
    if found is None:
        return {}
    weights = {to: round(share * _FINE) for to, share in shares.items()}
    whole = sum(weights.values())
    if isinstance(found, float):
        *first, last = weights
        exact: dict[str, int | float] = {to: found * (weights[to] / whole) for to in first}
        return {**exact, last: found - sum(exact.values())}
    parts: dict[str, int | float] = {to: found * one // whole for to, one in weights.items()}
    order = sorted(weights, key=lambda to: -(found * weights[to] % whole))
    for to in order[: int(found - sum(parts.values()))]:
        parts[to] += 1
    return parts


class MappingRule(Struct, frozen=True):
    """One line: what a thing must be, and what is given then."""

    line: MappingLine
    conditions: Mapping[str, Condition]
    gives: Mapping[str, str]


class MappingRules(Struct, frozen=True):
    """MappingRules in their order."""

    info: RulesInfo
    columns: tuple[str, ...]
    """Those that its conditions are about."""
    rules: tuple[MappingRule, ...]

    @classmethod
    def read(cls, info: RulesInfo, files: Sequence[tuple[str, bytes]]) -> MappingRules:
        """Read a mapping's files: the rules of a later one come first.

        Raises DamagedError with all that is wrong.
        """
        rules: list[MappingRule] = []
        every: dict[str, None] = {}
        faults: list[str] = []
        for file, raw in files:
            columns, lines = lines_of(raw, file)
            if lacking := [one for one in info.gives if one not in columns]:
                raise DamagedError(f"{file} has no column {lacking[0]!r}, which it is to give")
            asked = [one for one in columns if one not in info.gives]
            every |= dict.fromkeys(asked)
            own: list[MappingRule] = []
            for line in lines:
                try:
                    found = conditions_of({one: line.cells[one] for one in asked})
                except DamagedError as error:
                    faults.append(f"{line.at}: {error.what}")
                    continue
                gives = {one: line.cells[one] for one in info.gives}
                faults += [f"{line.at}: it gives no {one}" for one in gives if not gives[one]]
                own.append(MappingRule(line, found, gives))
            rules = own + rules
        if faults:
            raise DamagedError("A mapping can't be so.", details=tuple(faults))
        return cls(info, tuple(every), tuple(rules))

    def unreachable(self) -> Iterator[tuple[MappingRule, MappingRule]]:
        """Yield each rule that never counts, with the earlier one that takes all of its."""
        for number_, rule in enumerate(self.rules):
            for first in self.rules[:number_]:
                if covers(first.conditions, rule.conditions):
                    yield rule, first
                    break

    def first(self, row: Mapping[str, object]) -> MappingRule | None:
        """Return the first rule that a row fits; None where it fits none."""
        return next((one for one in self.rules if all_fit(one.conditions, row)), None)
