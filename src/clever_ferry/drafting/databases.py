"""A database as a box: which table has the saves' bytes, and what columns say of them."""

from __future__ import annotations

import re
import sqlite3
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from itertools import islice
from typing import Any, NamedTuple

from clever_ferry.drafting.boxed import Boxed, Folder
from clever_ferry.errors import FerryError
from clever_ferry.forms.database_files import COMPANIONS, counting
from clever_ferry.forms.databases import IS_KEPT, Settled
from clever_ferry.forms.recognising import recognise
from clever_ferry.layouts.digests import DIGEST_DIGITS
from clever_ferry.layouts.times import StampUnit, from_ns, to_ns
from clever_ferry.studying.budget import MOST_HELD
from clever_ferry.studying.checksums import digest
from clever_ferry.studying.names import NameKind

__all__ = ["databases"]

_SAMPLES, _MOST_ROWS, _MOST_TABLES, _MOST_WAYS = 8, 5_000, 40, 6
_MOST_PIECES, _MOST_SAVED, _HIGHEST_SLOT, _MOST_NEW = 40, 400, 9_999, 64
_NAME = re.compile("[A-Za-z_][A-Za-z0-9_]{0,62}")
_SUMS = ("size", "crc32", "adler32", "md5", "sha1", "sha256")
_UNITS: tuple[StampUnit, ...] = ("s", "ms", "ns", "ticks-1601", "ticks-1")
_COUNTING = re.compile("count|number|total|entries|rows|size")
_FROM = 946_684_800 * 10**9
"""The year 2000: what lies before it is no time at which a save was written."""
_DAY = 86_400 * 10**9
_KINDS = {"INT": "integer", "CHAR": "text", "TEXT": "text", "CLOB": "text", "BLOB": "blob",
          "REAL": "real", "FLOA": "real", "DOUB": "real"}  # fmt: skip


@dataclass
class _Table:
    """A table that all samples have: its columns' kinds, and what stands in them, row by row."""

    name: str
    kinds: dict[str, str]
    columns: dict[str, list[Any]] = field(default_factory=dict)
    books: list[str] = field(default_factory=list)
    """Of each row the database that it is in."""

    def names(self, column: str) -> list[tuple[str, str]]:
        """Return what a column calls its rows, and in which database."""
        return [
            (book, str(one)) for book, one in zip(self.books, self.columns[column], strict=True)
        ]

    def could_name(self, column: str) -> bool:
        """Tell whether a column tells the rows of a database apart."""
        values = self.columns[column]
        plain = all(isinstance(one, int | str) and one != "" for one in values)
        return plain and len(set(self.names(column))) == len(values)

    def alike(self, column: str) -> bool:
        """Tell whether each database has much the same few rows, called by words."""
        by_book: dict[str, set[str]] = {}
        for book, name in self.names(column):
            by_book.setdefault(book, set()).add(name)
        every, common = set[str]().union(*by_book.values()), set.intersection(*by_book.values())
        words = all(isinstance(one, str) for one in self.columns[column])
        return words and len(every) <= _MOST_PIECES and 2 * len(common) >= len(every)

    def of_saves(self, column: str) -> bool:
        """Tell whether rows are called as files of saves may be, or by numbers as slots have."""
        values = self.columns[column]
        return len(values) <= _MOST_SAVED and all(
            isinstance(one, str) or 0 <= one <= _HIGHEST_SLOT for one in values
        )


class _Of(NamedTuple):
    """The bytes that rows are of."""

    data: Sequence[bytes]
    upto: int
    """The latest time at which they may have been written, in ns."""


def databases(folder: Folder) -> Iterator[Boxed]:
    """Yield what a folder's databases may be as boxes: one for each save, or one for all."""
    singly = all(not kind.fields for kind in folder.kinds)
    for kind in folder.kinds:
        own = [one for one in kind.paths if not one.endswith(COMPANIONS)]
        if (not kind.fields and not singly) or "/" in kind.pattern or not own:
            continue
        paths = [one for one in own if 0 < folder.infos[one].size < MOST_HELD][:_SAMPLES]
        if not paths or any(recognise(folder.raw(one)[:4096]) != "sqlite" for one in paths):
            continue
        try:
            tables, schema = _tables_of(folder, paths)
        except (FerryError, sqlite3.Error, UnicodeDecodeError):
            continue
        each = bool(kind.fields)
        upto = max(folder.infos[one].stamp for one in paths) + _DAY
        for own_table, name, data in islice(_candidates(tables, each), _MOST_WAYS):
            yield _boxed(kind, own_table, name, data, tables, schema, upto, each)


def _tables_of(folder: Folder, paths: Sequence[str]) -> tuple[dict[str, _Table], dict[str, Any]]:
    """Return the tables of some databases alike, and what else they are: raises where unlike."""
    tables: dict[str, _Table] = {}
    schemas: list[dict[str, Any]] = []
    for path in paths:
        beside = {
            ending: folder.files.payload(path + ending)
            for ending in COMPANIONS if folder.files.info(path + ending) is not None
        }  # fmt: skip
        copy = Settled(folder.files.payload(path), counting(beside))
        with closing(copy.opened()) as book:
            _read(book, path, tables)
            (application,) = book.execute("PRAGMA application_id").fetchone()
            (version,) = book.execute("PRAGMA user_version").fetchone()
            others = book.execute(
                "SELECT name FROM sqlite_schema WHERE type <> 'table' AND sql IS NOT NULL"
            ).fetchall()
        schemas.append({"application": application, "version": version,
                        "others": sorted(str(one) for one, in others)})  # fmt: skip
    if any(one != schemas[0] for one in schemas):
        raise sqlite3.DatabaseError("they are not alike")
    return tables, schemas[0]


def _read(book: sqlite3.Connection, path: str, tables: dict[str, _Table]) -> None:
    found = book.execute(
        f"SELECT name FROM sqlite_schema WHERE type = 'table' AND {IS_KEPT} "
        "AND name NOT LIKE 'sqlite%' ORDER BY rowid"
    ).fetchmany(_MOST_TABLES)
    names = [str(name) for (name,) in found if _NAME.fullmatch(str(name))]
    if tables and names != list(tables):
        raise sqlite3.DatabaseError("they have other tables")
    for name in names:
        columns = book.execute(f'PRAGMA table_xinfo("{name}")').fetchall()
        alone = sum(key > 0 for *_, key, _ in columns) == 1  # a key of two columns is none's own
        kinds = {
            str(column): _kind(str(declared), bool(key) and alone)
            for _, column, declared, _, _, key, hidden in columns
            if not hidden and _NAME.fullmatch(str(column))
        }  # fmt: skip
        table = tables.setdefault(name, _Table(name, kinds, {one: [] for one in kinds}))
        if table.kinds != kinds:
            raise sqlite3.DatabaseError("their tables are unlike")
        asked = ", ".join(f'"{column}"' for column in kinds)
        for row in book.execute(f'SELECT {asked} FROM "{name}"').fetchmany(_MOST_ROWS):
            table.books.append(path)
            for column, value in zip(kinds, row, strict=True):
                table.columns[column].append(value)


def _kind(declared: str, key: bool) -> str:
    """Return a column's kind as a recipe says it of a new table."""
    kind = next((own for sign, own in _KINDS.items() if sign in declared.upper()), "blob")
    return f"{kind} key" if key and kind in ("integer", "text") else kind


def _candidates(
    tables: Mapping[str, _Table], each: bool
) -> Iterator[tuple[_Table, str, str]]:  # fmt: skip
    """Yield tables with a column of names and one of bytes, those with the most bytes first.

    A game's own table, such as one of a land's squares, is none of them: there, a row is no file.
    """
    found = []
    for table in tables.values():
        if not table.books or len(table.kinds) < 2:
            continue
        for data, values in table.columns.items():
            held = [one for one in values if isinstance(one, bytes)]
            if len(held) < len(values) or len(set(held)) < 2:
                continue
            names = [one for one in table.kinds if one != data and table.could_name(one)
                     and (table.alike(one) if each else table.of_saves(one))]  # fmt: skip
            # What is the table's key names its rows, and a text does so rather than a number.
            names.sort(key=lambda one: (not table.kinds[one].endswith(" key"),
                                        not table.kinds[one].startswith("text")))  # fmt: skip
            found += [(-sum(map(len, held)), rank, table, name, data)
                      for rank, name in enumerate(names[:2])]  # fmt: skip
    for _, _, table, name, data in sorted(found, key=lambda one: one[:2]):
        yield table, name, data


def _boxed(
    kind: NameKind, own: _Table, name: str, data: str, tables: Mapping[str, _Table],
    schema: Mapping[str, Any], upto: int, each: bool,
) -> Boxed:  # fmt: skip
    of = _Of(own.columns[data], upto)
    found = Boxed({
        "kind": "sqlite", "file": re.sub(r"\{.*\}", "*", kind.pattern), "table": own.name,
        "name": name, "data": data, **({"each": True} if each else {}),
    })  # fmt: skip
    found.format |= _stamped(own, [name, data], of)
    stamp = found.format.get("stamp")
    known = [name, data, *([stamp] if stamp else [])]
    found.format |= _said(own, known, own.names(name), of, found)
    by_name = dict(zip(own.names(name), of.data, strict=True))
    beside = {}
    for table in tables.values():
        column = next((one for one in table.kinds if table is not own and table.could_name(one)
                       and set(table.names(one)) == by_name.keys()), None)  # fmt: skip
        if column is not None and not (len(by_name) == 1 or table.name in beside):
            names = table.names(column)
            inner = _Of([by_name[one] for one in names], upto)
            beside[table.name] = {"name": column, **_said(table, [column], names, inner, found)}
    if beside:
        found.format["beside"] = beside
    rest = [one for one in tables.values() if one is not own and one.name not in beside]
    totals, texts = _totals(own, stamp, of, rest, found)
    if totals:
        found.format["totals"] = totals
    if each and (new := _new(tables, rest, texts, schema, found)):
        found.format["new"] = new
    found.odd = 4.0 * len(found.doubts) + len(found.repeating)
    return found


def _stamped(own: _Table, known: Sequence[str], of: _Of) -> dict[str, Any]:
    """Return which column says when bytes were written, and how it counts."""
    for column, values in own.columns.items():
        if column in known or not all(isinstance(one, int) for one in values):
            continue
        if len(set(values)) == 1 < len(values):  # a time of the whole, or no time
            continue
        for unit in _UNITS:
            try:
                times = [to_ns(one, unit) for one in values]
            except (ValueError, OverflowError):
                continue
            if (
                all(_FROM < one <= of.upto for one in times)
                and from_ns(times[0], unit) == values[0]
            ):
                return {"stamp": column, **({"unit": unit} if unit != "s" else {})}
    return {}


def _said(
    table: _Table, known: Sequence[str], names: Sequence[tuple[str, str]], of: _Of, found: Boxed
) -> dict[str, Any]:  # fmt: skip
    """Return what a table's other columns say of bytes, or have in each row."""
    said: dict[str, dict[str, Any]] = {"sums": {}, "fills": {}}
    for column, values in table.columns.items():
        if column in known:
            continue
        if (told := _sum(values, of.data)) is not None:
            said["sums"][column] = told
        elif len(set(values)) == 1 and isinstance(values[0], int | str) and len(values) > 1:
            said["fills"][column] = values[0]
        elif len(set(values)) > 1 or values[0] is not None:
            each = "each" in found.format
            entries = [f"{book}/{name}" if each else name for book, name in names]
            found.repeating[table.name, column] = dict(zip(entries, values, strict=True))
    return {key: one for key, one in said.items() if one}


def _sum(values: Sequence[Any], data: Sequence[bytes]) -> dict[str, Any] | None:
    """Return what a column says of its row's bytes; None where it is nothing of the kind."""
    if len(set(values)) < 2:
        return None
    for what in _SUMS:
        told = [len(one) if what == "size" else digest(what, one) for one in data]
        if list(values) == told:
            return {"what": what}
        digits = DIGEST_DIGITS.get(what, 1)
        texts = [one.hex() if isinstance(one, bytes) else f"{one:0{digits}x}" for one in told]
        for spelled, those in (("hex", texts), ("HEX", [one.upper() for one in texts])):
            if list(values) == those:
                return {"what": what, "spelled": spelled}
    return None


def _totals(
    own: _Table, stamp: str | None, of: _Of, rest: Sequence[_Table], found: Boxed
) -> tuple[list[dict[str, Any]], set[tuple[str, str, str]]]:
    """Return values of other tables that speak of all rows, and where they stand."""
    books = sorted(set(own.books))
    right: dict[str, list[int]] = {"count": [], "size": [], "newest": []}
    for book in books:
        mine = [at for at, one in enumerate(own.books) if one == book]
        right["count"].append(len(mine))
        right["size"].append(sum(len(of.data[at]) for at in mine))
        right["newest"].append(max(own.columns[stamp][at] for at in mine) if stamp else -1)
    totals, places = [], set()
    for table in rest:
        key = next((one for one in table.kinds if table.could_name(one)), None)
        if key is None or len(table.kinds) < 2 or len(table.books) > _SAMPLES * 64:
            continue
        for row in dict.fromkeys(str(one) for one in table.columns[key]):
            at = [n for n, one in enumerate(table.columns[key]) if str(one) == row]
            if [table.books[n] for n in at] != books or not re.fullmatch("[A-Za-z0-9_ .-]+", row):
                continue
            for column in table.kinds:
                told = [str(table.columns[column][n]) for n in at]
                what = next((one for one, numbers in right.items()
                             if numbers[0] > 1 and told == [*map(str, numbers)]), None)  # fmt: skip
                if what is None or column == key:
                    continue
                place = f"/{table.name}/[{key}={row}]/{column}"
                if what != "count" or len(set(told)) > 1 or _counts(f"{row} {column}", own.name):
                    totals.append({"at": place, "what": what})
                    places.add((table.name, row, column))
                elif len(books) == 1:
                    found.doubts.append(
                        f"{place} may say how many rows the table {own.name} has: it stays as it is"
                    )
    return totals, places


def _counts(said: str, table: str) -> bool:
    """Tell whether a value is called as one that counts a table's rows."""
    return table.lower() in said.lower() or _COUNTING.search(said.lower()) is not None


def _new(
    tables: Mapping[str, _Table], rest: Sequence[_Table], totals: set[tuple[str, str, str]],
    schema: Mapping[str, Any], found: Boxed,
) -> dict[str, Any]:  # fmt: skip
    """Return of what a database for a new save is made, as those that were seen; {} of too much."""
    rows: dict[str, list[dict[str, Any]]] = {}
    for table in rest:
        key = next((one for one in table.kinds if table.could_name(one)), "")
        books = len(set(table.books))
        texts = [
            tuple(None if (table.name, str(values[key]), column) in totals else value
                  for column, value in values.items())
            for values in (dict(zip(table.columns, row, strict=True))
                           for row in zip(*table.columns.values(), strict=True))
            if key
        ]  # fmt: skip
        everywhere = [one for one, count in Counter(texts).items() if count == books]
        if len(everywhere) > _MOST_NEW:
            found.doubts.append(
                f"the table {table.name} has {len(everywhere):,} rows in each database: none is "
                "made for a new save, which goes over one that is there"
            )
            return {}
        if len(everywhere) * books != len(table.books):
            found.doubts.append(
                f"rows of the table {table.name} differ from save to save: what is new has none of "
                "those"
            )
        told = [
            {column: value for column, value in zip(table.columns, row, strict=True)
             if isinstance(value, int | str)}
            for row in everywhere
        ]  # fmt: skip
        if told:
            rows[table.name] = told
    if schema["others"]:
        names = ", ".join(schema["others"][:5])
        found.doubts.append(f"a database for a new save is made without {names}")
    return {
        "tables": {one.name: dict(one.kinds) for one in tables.values()},
        **({"rows": rows} if rows else {}),
        **{key: schema[key] for key in ("application", "version") if schema[key]},
    }
