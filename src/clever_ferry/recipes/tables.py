"""Tables of a save: what its recipe says of like things in it, read as rows and columns."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, Any, Protocol

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.cargo import Piece, Save
from clever_ferry.documents.form import Form
from clever_ferry.documents.nodes import Single
from clever_ferry.documents.tabling import MOST_ROWS, columns_in
from clever_ferry.errors import DamagedError, NotFoundError, RefusedError, UnsupportedError
from clever_ferry.layers import UNKNOWN, Known
from clever_ferry.payload import BytesPayload, Payload
from clever_ferry.recipes.table_models import WHOSE, ColumnInfo, TableFact, TableInfo

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Column", "Opening", "Table", "fact_of", "number_in", "read_tables", "with_referred"]

_HELD = 48 << 20
"""So much of what several tables are in is held, so that it is unwrapped once."""
_TOLD = 5
"""So many of what is wrong alike are named one by one."""


class Opening(Protocol):
    """What gives a piece's inside, and the form of it."""

    def inside(self, piece: Piece, known: Known) -> tuple[Payload, Any]:
        """Return a piece without the layers that it `opens` by, and what that establishes."""

    def form_of(self, role: str, payload: Payload) -> Form | str:
        """Return the form of a piece's inside; raises UnsupportedError where none shows."""


class Column(Struct, frozen=True):
    """One column, with a value for each row; None where the row has none."""

    name: str
    label: str
    unit: str | None
    refers: str | None
    """The table whose rows its values name."""
    values: list[Any]
    adds: bool = True
    """Whether its numbers count something, so that they can be added up."""


class Table(Struct, frozen=True):
    """Like things of one save, row by row."""

    name: str
    label: str
    columns: tuple[Column, ...]
    count: int
    """How many rows there are, also those beyond the last that was read."""
    id: str | None = None
    owner: str | None = None
    troubles: tuple[str, ...] = ()
    """What is odd about it, or why it could not be read."""
    read: bool = True
    """Whether all of its pieces could be read."""
    named: str | None = None
    """The column that says what a row is called."""
    pieces: tuple[tuple[str, int], ...] = ()
    """The entries of the pieces that have its rows, and how many each has."""

    @property
    def all_held(self) -> bool:
        """Whether no row is missing here that the save has."""
        return self.read and self.count == len(self.columns[0].values)

    def column(self, name: str) -> Column:
        """Return a column; raises KeyError where there is none."""
        return {one.name: one for one in self.columns}[name]

    @property
    def rows(self) -> Iterator[tuple[Any, ...]]:
        """The rows that were read."""
        return zip(*(one.values for one in self.columns), strict=True)

    def sums(self) -> dict[str, int | float]:
        """Return what each column of numbers adds up to."""
        found: dict[str, int | float] = {}
        for one in self.columns:
            numbers = [value for value in one.values if _is_number(value)] if one.adds else []
            if numbers and _is_number(total := sum(numbers)):
                found[one.name] = total
        return found

    def sums_by_owner(self) -> dict[str, dict[str, int | float]]:
        """Return the same for each owner's rows alone, by owner; nothing where rows have none."""
        if self.owner is None:
            return {}
        owners = [_text(value) for value in self.column(self.owner).values]
        found: dict[str, dict[str, int | float]] = {owner: {} for owner in owners}
        for one in self.columns:
            for owner, value in zip(owners, one.values if one.adds else (), strict=False):
                if _is_number(value):
                    own = found[owner]
                    own[one.name] = own.get(one.name, 0) + value
        return {
            owner: {name: total for name, total in sums.items() if _is_number(total)}
            for owner, sums in found.items()
        }

    def counts(self) -> dict[str, int]:
        """Return how many rows each owner has, by owner; nothing where rows have none."""
        if self.owner is None:
            return {}
        found: dict[str, int] = {}
        for value in self.column(self.owner).values:
            found[_text(value)] = found.get(_text(value), 0) + 1
        return found

    def frame(self) -> pd.DataFrame:
        """Return it as a pandas frame; raises ImportError where pandas is not installed."""
        import pandas as pd

        return pd.DataFrame({one.name: one.values for one in self.columns})


def read_tables(
    infos: Mapping[str, TableInfo], reader: Opening, save: Save, known: Known = UNKNOWN
) -> list[Table]:
    """Return tables of a save. One that can't be read says why, among its troubles.

    Raises KeyNeededError where a piece is encrypted and its key is not known.
    """
    opened = _Opened(reader, known, Counter(role for info in infos.values() for role in info.roles))
    tables = [_read(name, info, opened, save) for name, info in infos.items()]
    by_name = {table.name: table for table in tables}
    return [
        _with_references(_with_owners(table, infos, by_name), by_name) for table in tables
    ]  # fmt: skip


def with_referred(every: Mapping[str, TableInfo], names: Iterable[str]) -> dict[str, TableInfo]:
    """Return tables by name, and behind them those that their rows name, near or far."""
    found: dict[str, TableInfo] = {}
    waiting = list(names)
    while waiting:
        name = waiting.pop(0)
        if name in every and name not in found:
            found[name] = every[name]
            waiting += [one.refers for one in every[name].columns.values() if one.refers]
    return found


def _with_owners(
    table: Table, infos: Mapping[str, TableInfo], tables: Mapping[str, Table]
) -> Table:
    """Add a column that says whose each row is, where that stands in the rows that it names."""
    info = infos[table.name]
    if info.owner is None or not info.far(infos):
        return table
    at, values = info, [_text(value) for value in table.column(info.owner_path[0]).values]
    for column, further in zip(info.owner_path, (*info.owner_path[1:], None), strict=True):
        name = at.columns[column].refers or ""
        if further is not None and name not in tables:
            return replace(table, owner=None)  # nobody has asked whose its rows are
        if name not in tables or (wanted := further or infos[name].named) is None:
            break  # it is what it says, and is called nothing else
        at, other = infos[name], tables[name]
        if not other.all_held:
            return replace(table, owner=None)  # it may stand in rows that are not there
        ids = list(map(_text, other.column(other.id or "").values))
        words = list(map(_text, other.column(wanted).values))
        if further is None:
            alike = Counter(words)  # two houses of one name are two
            words = [f"{word} ({one})" if alike[word] > 1 else word
                     for word, one in zip(words, ids, strict=True)]  # fmt: skip
        known = dict(zip(ids, words, strict=True))
        values = [known.get(one, one if further is None else "") for one in values]
    whose = Column(WHOSE, "Whose", None, None, list[Any](values), False)
    return replace(table, columns=(*table.columns, whose), owner=WHOSE)


def fact_of(fact: TableFact, table: Table) -> int | float:
    """Return what a table tells: how many rows, or what a column adds up to."""
    if fact.sum is None:
        return table.counts().get(fact.of, 0) if fact.of is not None else table.count
    sums = table.sums() if fact.of is None else table.sums_by_owner().get(fact.of, {})
    return sums.get(fact.sum, 0)


class _Opened:
    """Pieces as they were opened, held for the next table as far as there is room."""

    def __init__(self, reader: Opening, known: Known, asked: Mapping[str, int]) -> None:
        self._reader, self._known, self._asked = reader, known, asked
        self._held: dict[tuple[str, str], Payload] = {}
        self._room = _HELD

    def inside(self, piece: Piece) -> tuple[Payload, Form | str]:
        """Return a piece's inside, and the form of it; raises what `Opening` does."""
        at = piece.role, piece.entry
        payload = self._held.get(at)
        if payload is None:
            payload, _ = self._reader.inside(piece, self._known)
            if self._asked[piece.role] > 1:
                payload = self._hold(at, payload)
        return payload, self._reader.form_of(piece.role, payload)

    def _hold(self, at: tuple[str, str], payload: Payload) -> Payload:
        parts, room = [], self._room
        for chunk in payload.chunks():
            room -= len(chunk)
            if room < 0:
                return payload
            parts.append(chunk)
        self._room = room
        return self._held.setdefault(at, BytesPayload(b"".join(parts)))


def _read(name: str, info: TableInfo, opened: _Opened, save: Save) -> Table:
    columns: dict[str, list[Any]] = {column: [] for column in info.columns}
    count, troubles, whole = 0, [], True
    pieces: list[tuple[str, int]] = []
    asked = {column: one.at for column, one in info.columns.items() if one.field is None}
    for piece in save.pieces:
        if piece.role not in info.roles:
            continue
        room = MOST_ROWS - len(next(iter(columns.values())))
        try:
            if piece.problem or piece.locked:
                raise DamagedError(piece.problem or piece.locked)
            payload, form = opened.inside(piece)
            found = columns_in(form, payload, info.rows, list(asked.values()), room)
        except (DamagedError, NotFoundError, RefusedError, UnsupportedError) as error:
            troubles.append(f"{piece.entry}: {error.what.rstrip('.')}")
            whole = False
            continue
        count += found.rows
        pieces.append((piece.entry, found.rows))
        rows = len(found.values[0]) if found.values else min(found.rows, room)
        for column, values in zip(asked, found.values, strict=True):
            columns[column] += values
        for column, one in info.columns.items():
            if one.field is not None:
                columns[column] += [piece.fields.get(one.field, save.fields.get(one.field))] * rows
        troubles += [f"{piece.entry}: in {doubled:,} rows more than one {column} stands"
                     for column, doubled in zip(asked, found.several, strict=True) if doubled
                     ]  # fmt: skip
    made = []
    for column, one in info.columns.items():
        values, odd = _as_kind(columns[column], one)
        troubles += [f"{column}: {told}" for told in odd]
        adds = info.adds_up(column)
        made.append(Column(column, one.label or column, one.unit, one.refers, values, adds))
    if count > len(made[0].values):
        read = len(made[0].values)
        troubles.append(f"it has {count:,} rows, of which the first {read:,} are read")
    table = Table(
        name, info.label or name, tuple(made), count, info.id,
        info.owner_path[0] if info.owner else None, tuple(troubles), whole, info.named,
        tuple(pieces),
    )  # fmt: skip
    return _with_ids(table)


def _as_kind(values: list[Single], info: ColumnInfo) -> tuple[list[Any], list[str]]:
    """Return a column's values as what they are said to be, and what is not so."""
    kind = info.what or ("number" if info.unit is not None else None)
    if kind is None:
        kinds = {type(value) for value in values if value is not None}
        mixed = len(kinds - {int, float}) + bool(kinds & {int, float}) > 1
        return values, ["its values are of several kinds"] if mixed else []
    if kind == "number" and set(map(type, values)) == {str}:
        with suppress(ValueError):
            return _all_whole(values), []
    odd: list[Single] = []
    found: list[Any] = []
    for value in values:
        made: Any = value
        if value is None:
            pass
        elif kind == "text":
            made = _text(value)
        elif kind == "yes-no":
            made = _YES_NO.get(_text(value).casefold())
        elif not _is_number(value):
            made = number_in(_text(value))
        if made is None and value is not None:
            odd.append(value)
            made = value
        found.append(made)
    what = "a number" if kind == "number" else "yes or no"
    return found, [f"{len(odd):,} values are not {what}, such as {odd[0]!s:.40}"] if odd else []


_YES_NO = {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}


def _is_number(value: object) -> bool:
    if isinstance(value, float):
        return math.isfinite(value)
    return isinstance(value, int) and not isinstance(value, bool)


def _all_whole(texts: Sequence[Any]) -> list[Any]:
    """Return whole numbers out of texts; raises ValueError where one says something else."""
    if "_" in "".join(texts):
        raise ValueError
    return list(map(int, texts))


def number_in(text: str) -> int | float | None:
    """Return the finite number that a text is; None where it is none."""
    for kind in (int, float):
        with suppress(ValueError):
            number: int | float = kind(text)
            return number if "_" not in text and _is_number(number) else None
    return None


def _text(value: object) -> str:
    return "" if value is None else str(value)


def _with_ids(table: Table) -> Table:
    """Tell ids that stand twice, and rows without one."""
    if table.id is None:
        return table
    seen: set[str] = set()
    doubled: dict[str, None] = {}
    lacking = 0
    for value in table.column(table.id).values:
        lacking += value is None
        if value is not None:
            text = str(value)
            if text in seen:
                doubled[text] = None
            seen.add(text)
    troubles = [*table.troubles]
    if doubled:
        troubles.append(f"{table.id}: stands more than once: {_some(list(doubled))}")
    if lacking:
        troubles.append(f"{table.id}: {lacking:,} rows have none")
    return replace(table, troubles=tuple(troubles))


def _with_references(table: Table, tables: Mapping[str, Table]) -> Table:
    """Tell references to rows that are not there."""
    troubles = [*table.troubles]
    for one in table.columns:
        other = tables.get(one.refers or "")
        if other is None or other.id is None or not other.all_held:
            continue
        ids = {str(value) for value in other.column(other.id).values if value is not None}
        lost = {str(value): None for value in one.values
                if value not in (None, "") and str(value) not in ids}  # fmt: skip
        if lost:
            troubles.append(f"{one.name}: no {other.label} has the {other.id} {_some(list(lost))}")
    return replace(table, troubles=tuple(troubles))


def _some(names: Sequence[str]) -> str:
    more = f" and {len(names) - _TOLD:,} more" if len(names) > _TOLD else ""
    return ", ".join(name[:40] for name in names[:_TOLD]) + more
