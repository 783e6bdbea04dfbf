"""Sheets: what a player would write down of a save before a move, so that it can be compared."""

from __future__ import annotations

import json
import math
from collections.abc import Collection, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import msgspec
from msgspec import Struct, field

from clever_ferry.cargo import Comparison, Fact, Save
from clever_ferry.errors import DamagedError, UnsupportedError
from clever_ferry.recipes.tables import Table
from clever_ferry.wording import in_words

__all__ = [
    "VERSION", "Sheet", "SheetColumn", "SheetFact", "SheetTable", "embedded", "read_sheet",
    "sheet_of",
]  # fmt: skip

VERSION = 1
_LARGEST = 64 << 20
"""Bytes of the largest sheet that is read."""


class SheetFact(Struct, frozen=True):
    """A fact of a save."""

    key: str
    label: str
    value: int | float | str | bool
    unit: str | None = None
    compared: Comparison = Comparison()
    """How it may stand after a move to what it was."""

    @property
    def text(self) -> str:
        """The value in a player's words."""
        return in_words(self.value, self.unit)


class SheetColumn(Struct, frozen=True):
    """A column of a table; `values` where the sheet has the rows."""

    name: str
    label: str
    unit: str | None = None
    values: list[int | float | str | bool | None] = field(default_factory=list)


class SheetTable(Struct, frozen=True):
    """A table of a save: whole, or how many rows it has and what they add up to."""

    name: str
    label: str
    count: int
    columns: tuple[SheetColumn, ...]
    id: str | None = None
    owner: str | None = None
    whole: bool = False
    """Whether its rows are here."""
    sums: dict[str, int | float] = field(default_factory=dict)
    """What columns of numbers add up to, by column."""
    counts: dict[str, int] = field(default_factory=dict)
    """How many rows each owner has."""
    owned: dict[str, dict[str, int | float]] = field(default_factory=dict)
    """What columns add up to for each owner, by owner."""
    troubles: tuple[str, ...] = ()
    named: str | None = None
    """The column that says what a row is called."""

    def column(self, name: str) -> SheetColumn | None:
        """Return a column, if it has one of that name."""
        return next((one for one in self.columns if one.name == name), None)


class Sheet(Struct, frozen=True):
    """What there is to know of one save at one time."""

    title: str
    game: str
    """The game's id."""
    game_title: str
    edition: str
    """What the edition is called."""
    where: str
    """The save's address, or what it was read from."""
    saved: str | None
    """When it was written, in UTC."""
    made: str
    """When the sheet was, in UTC."""
    facts: tuple[SheetFact, ...]
    tables: tuple[SheetTable, ...]
    notes: tuple[str, ...] = ()
    """What could not be told."""

    def data(self) -> dict[str, Any]:
        """Return it as what JSON can hold."""
        told: dict[str, Any] = msgspec.to_builtins(self)
        return {"sheet": VERSION, **told}


def sheet_of(
    save: Save, tables: Sequence[Table], *, game: str, game_title: str, edition: str, where: str,
    now: int, compared: Mapping[str, Comparison], whole: Collection[str] | None = None,
) -> Sheet:  # fmt: skip
    """Return the sheet of a save, with the tables of these names `whole` (all, for None).

    `compared` says of facts, by key, how they may stand after a move.
    """
    told = tuple(
        _table(table, whole is None or table.name in whole) for table in tables
    )  # fmt: skip
    return Sheet(
        save.title, game, game_title, edition, where,
        _time(save.stamp) if save.stamp is not None else None, _time(now),
        tuple(_fact(fact, compared) for fact in save.facts if fact.shown), told,
        (*save.problems, *save.notes),
    )  # fmt: skip


def _fact(fact: Fact, compared: Mapping[str, Comparison]) -> SheetFact:
    value = _finite(fact.value)
    return SheetFact(fact.key, fact.label, value, fact.unit, compared[fact.key])


def _table(table: Table, whole: bool) -> SheetTable:
    counts = table.counts()
    columns = tuple(
        SheetColumn(one.name, one.label, one.unit, _values(one.values) if whole else [])
        for one in table.columns
    )
    return SheetTable(
        table.name, table.label, table.count, columns, table.id, table.owner, whole, table.sums(),
        counts, table.sums_by_owner(), table.troubles, table.named,
    )  # fmt: skip


def _values(values: list[Any]) -> list[Any]:
    return list(map(_finite, values)) if float in set(map(type, values)) else values


def _finite(value: Any) -> Any:
    """Return a value, and what is no number as text: JSON has no word for that."""
    return str(value) if isinstance(value, float) and not math.isfinite(value) else value


def _time(stamp: int) -> str:
    micros, whole = stamp // 1000 % 10**6, stamp // 10**9
    return f"{datetime.fromtimestamp(whole, UTC):%Y-%m-%dT%H:%M:%S}.{micros:06}Z"


def read_sheet(raw: bytes, what: str) -> Sheet:
    """Return a sheet out of the page that it was written into.

    Raises DamagedError where it is none, UnsupportedError where a newer program has written it.
    """
    if len(raw) > _LARGEST:
        raise DamagedError(f"{what} is larger than a sheet can be.")
    begin, end = raw.find(_BEGIN), raw.rfind(_END)
    if begin < 0 or end < begin:
        raise DamagedError(f"{what} is no sheet.", advice="`cferry sheet SAVE -o FILE` writes one.")
    try:
        data = json.loads(_unescaped(raw[begin + len(_BEGIN) : end].decode()))
        version = data.pop("sheet")
        if version != VERSION:
            if isinstance(version, int) and version > VERSION:
                raise UnsupportedError(f"A newer cferry has written {what}.")
            raise ValueError("its version is none")
        return msgspec.convert(data, Sheet, strict=True)
    except (ValueError, KeyError, AttributeError, RecursionError) as error:
        raise DamagedError(f"{what} is a damaged sheet: {error!s:.200}.") from None


_BEGIN, _END = b'<template id="cferry-sheet">', b"</template>"
_MARKS = {"&": "&amp;", "<": "&lt;", ">": "&gt;"}


def _unescaped(text: str) -> str:
    for plain, mark in reversed(_MARKS.items()):
        text = text.replace(mark, plain)
    return text


def embedded(sheet: Sheet) -> str:
    """Return what in a page keeps a sheet, so that it can be read back; nothing of it is shown."""
    text = json.dumps(sheet.data(), ensure_ascii=False, allow_nan=False)
    for plain, mark in _MARKS.items():
        text = text.replace(plain, mark)
    return f"{_BEGIN.decode()}{text}{_END.decode()}"
