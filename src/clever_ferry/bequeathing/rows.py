"""Tables as bequests work on them: columns by name, with a value for each row."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct

from clever_ferry.recipes.tables import Table

__all__ = ["RowDicts", "RowTable", "number", "rows_of", "text"]


class RowTable(Struct, frozen=True):
    """One table. All columns have the same length."""

    label: str
    id: str | None
    named: str | None
    columns: Mapping[str, list[Any]]

    @property
    def count(self) -> int:
        """How many rows it has."""
        return len(next(iter(self.columns.values()), ()))

    def ids(self) -> list[str]:
        """Return what tells its rows apart, as text."""
        return [text(value) for value in self.columns[self.id or ""]]

    def by_id(self) -> dict[str, int]:
        """Return its rows' numbers (from 0) by their ids."""
        return {ident: number for number, ident in enumerate(self.ids())}

    def name(self, row: int) -> str:
        """Return what a row is called."""
        for column in (self.named, self.id):
            if column is not None and (value := self.columns[column][row]) is not None:
                return text(value)
        return str(row + 1)

    def dicts(self) -> Iterator[dict[str, Any]]:
        """Yield each row, by column."""
        names = list(self.columns)
        for values in zip(*self.columns.values(), strict=True):
            yield dict(zip(names, values, strict=True))

    def total(self, column: str) -> int | float:
        """Return what a column's numbers add up to."""
        return sum(value for one in self.columns[column] if (value := number(one)) is not None)


class RowDicts(Sequence[dict[str, Any]]):
    """A table's rows, each made when it is asked for: a template goes through many."""

    def __init__(self, rows: RowTable) -> None:
        self._rows = rows

    def __len__(self) -> int:
        return self._rows.count

    def __iter__(self) -> Iterator[dict[str, Any]]:
        return self._rows.dicts()

    def __getitem__(self, row: Any) -> Any:
        if isinstance(row, slice):
            return [self[one] for one in range(*row.indices(len(self)))]
        return {name: values[row] for name, values in self._rows.columns.items()}


def rows_of(table: Table) -> RowTable:
    """Return a save's table as rows."""
    return RowTable(
        table.label, table.id, table.named, {one.name: one.values for one in table.columns}
    )


def number(value: object) -> int | float | None:
    """Return a value as the number that it is; None where it is none."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return value
    return None


def text(value: object) -> str:
    """Return a value as ids and conditions have it: as players write it, nothing as ''.

    >>> text(7), text(7.0), text(True), text(None)
    ('7', '7', 'yes', '')
    """
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)
