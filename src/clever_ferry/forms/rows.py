"""A database as a document: `/table/[column=value]/column`, `/table/#`.

Names of tables and columns are looked for among those that there are, and never run as SQL; values
go in as parameters. A database in which values are changed is built anew by SQLite, table by table,
so that the same rows always give the same bytes.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import closing
from typing import Any

from clever_ferry.documents.form import Splice
from clever_ferry.documents.nodes import Node, Single, nowhere
from clever_ferry.documents.places import COUNT, EVERY, Choice, Step, steps_of, text_of
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.forms.databases import IS_KEPT, Settled, check, opened, row_name
from clever_ferry.payload import Payload, StreamPayload

__all__ = ["Rows", "found_in", "set_value"]

_MOST = 1 << 20
"""Values that are read for one place at the most."""


class Rows:
    """An SQLite database: tables by name, rows by number or a value in them, columns by name."""

    title = "SQLite"
    several = False
    checks = ("SQLite's own check",)
    rebuilds = True
    """Whether a change makes the whole file anew, so that only what it says is as before."""

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return what stands at each place; without any, have SQLite check all of it."""
        copy = source if isinstance(source, Settled) else Settled(source, {})
        if not places:
            check(copy)
            return []
        try:
            with closing(copy.opened()) as book:
                return [found_in(book, steps) for steps in places]
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise DamagedError(f"SQLite can't read it: {error}.") from None
        except DamagedError as error:
            raise DamagedError(
                error.what[:1].upper() + error.what[1:]
            ) from None  # free: how it is said

    def blank(self, node: Node) -> Single:
        """Return zero, no text, or as many bytes of zeros."""
        if isinstance(node.value, str):
            return "0" * len(node.value) if node.bare else ""
        return None if node.value is None else 0

    def rewrite(self, source: Payload, values: Sequence[tuple[Node, Single]]) -> Payload:
        """Return the database with other values; raises RefusedError where it does not take one."""

        def change(book: sqlite3.Connection) -> None:
            for node, value in values:
                set_value(book, node, value)

        return StreamPayload(lambda: _rewritten(source, change))

    def take(
        self, source: Payload, rows: str, wanted: Sequence[int],
        edits: Mapping[int, Mapping[str, Single]],
    ) -> list[dict[str, Any]]:  # fmt: skip
        """Return rows as what is in their columns, by name."""
        copy = source if isinstance(source, Settled) else Settled(source, {})
        try:
            with closing(copy.opened()) as book:
                table = _table_of(book, rows)
                book.row_factory = sqlite3.Row
                every = book.execute(f"SELECT * FROM {table} {_order(book, table)}").fetchall()
                return [{**dict(every[at]), **_by_column(edits.get(at, {}))} for at in wanted]
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise DamagedError(f"SQLite can't read it: {error}.") from None

    def grow(
        self, source: Payload, rows: str, gone: Collection[int],
        edits: Mapping[int, Mapping[str, Single]], added: Sequence[Mapping[str, Any]],
    ) -> Payload:  # fmt: skip
        """Return the database with fewer and with more rows in a table."""

        def change(book: sqlite3.Connection) -> None:
            table = _table_of(book, rows)
            rowid = row_name(book, table)
            if not rowid:
                raise RefusedError(f"The rows of the table {table} have no numbers.")
            numbers = [one for (one,) in book.execute(
                f"SELECT {rowid} FROM {table} ORDER BY {rowid}")]  # fmt: skip
            book.executemany(f"DELETE FROM {table} WHERE {rowid} = ?",
                             [(numbers[at],) for at in gone])  # fmt: skip
            for at, own in edits.items():
                new = _by_column(own)
                told = ", ".join(f"{_quoted(name)} = ?" for name in new)
                book.execute(f"UPDATE {table} SET {told} WHERE {rowid} = ?",
                             (*new.values(), numbers[at]))  # fmt: skip
            for row in added:
                names, marks = ", ".join(map(_quoted, row)), ", ".join("?" * len(row))
                book.execute(f"INSERT INTO {table} ({names}) VALUES ({marks})", (*row.values(),))

        return StreamPayload(lambda: _rewritten(source, change))

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Raise RefusedError: a value has no spelling of its own."""
        raise RefusedError("A database is written anew as a whole.")

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Raise RefusedError: which rows there are is the game's business."""
        raise RefusedError("Nothing can be taken out of a database.")

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Raise RefusedError, likewise."""
        raise RefusedError("Nothing can be added to a database.")


def found_in(book: sqlite3.Connection, steps: Sequence[Step]) -> list[Node]:
    """Return what stands at a place in an open database; raises DamagedError, sqlite3.Error."""
    asked = f"SELECT name, {IS_KEPT} FROM sqlite_schema WHERE type = 'table'"
    tables = dict(book.execute(asked).fetchall())
    return list(_found(book, tables, steps))


def _found(
    book: sqlite3.Connection, tables: dict[str, int], steps: Sequence[Step]
) -> Iterator[Node]:
    if not steps or steps[0] not in tables or not 2 <= len(steps) <= 3:
        return
    table = str(steps[0])
    if not tables[table]:
        raise DamagedError(f"the table {table} is not kept in the file, but computed.")
    quoted = _quoted(table)
    if steps[1] is COUNT:
        if len(steps) == 2:
            (number,) = book.execute(f"SELECT count(*) FROM {quoted}").fetchone()
            yield nowhere(number, (table, "#"))
        return
    columns = [str(row[1]) for row in book.execute(f"PRAGMA table_xinfo({quoted})")]
    wanted = [name for name in columns if len(steps) == 3 and (steps[2] is EVERY
                                                               or name == steps[2])]  # fmt: skip
    asked = ", ".join(map(_quoted, wanted)) or "NULL"
    choice = steps[1] if isinstance(steps[1], Choice) else None
    told = "NULL"
    if choice is not None:
        if len(choice.steps) != 1 or choice.steps[0] not in columns:
            return
        told = _quoted(str(choice.steps[0]))
    rowid = row_name(book, quoted)
    order = f" ORDER BY {rowid}" if rowid else ""
    for number, row in enumerate(book.execute(f"SELECT {told}, {asked} FROM {quoted}{order}")):
        if number >= _MOST:
            raise DamagedError(f"the table {table} has more than {_MOST:,} rows.")
        if choice is not None and text_of(_single(row[0])) != choice.value:
            continue
        if isinstance(steps[1], str) and str(number) != steps[1]:
            continue
        for name, value in zip(wanted, row[1:], strict=False):
            bare = isinstance(value, bytes)
            yield nowhere(_single(value), (table, number, name), bare=bare)


def _table_of(book: sqlite3.Connection, rows: str) -> str:
    """Return a table's name, quoted, of the place of its rows."""
    steps = steps_of(rows)
    told = "SELECT name FROM sqlite_schema WHERE type = 'table'"
    if len(steps) != 2 or steps[1] is not EVERY or (steps[0],) not in book.execute(told).fetchall():
        raise RefusedError(f"{rows} are no rows of a table that is there.")
    return _quoted(str(steps[0]))


def _order(book: sqlite3.Connection, table: str) -> str:
    rowid = row_name(book, table)
    return f"ORDER BY {rowid}" if rowid else ""


def _by_column(edits: Mapping[str, Single]) -> dict[str, Single]:
    """Return new values by their columns' names; raises RefusedError."""
    found = {}
    for place, value in edits.items():
        steps = steps_of(place)
        if len(steps) != 1 or not isinstance(steps[0], str):
            raise RefusedError(f"{place!r} is no column of a table.")
        found[steps[0]] = value
    return found


def _rewritten(source: Payload, change: Callable[[sqlite3.Connection], None]) -> Iterator[bytes]:
    copy = (source if isinstance(source, Settled) else Settled(source, {})).again()
    try:
        with closing(opened(copy.path)) as book:
            (cookie,) = book.execute("PRAGMA schema_version").fetchone()
            book.execute("PRAGMA journal_mode = DELETE")
            change(book)
            book.commit()
            book.execute("VACUUM")
    except (sqlite3.Error, UnicodeDecodeError, OverflowError) as error:
        raise RefusedError(f"The database does not take it: {error}.") from None
    with copy.path.open("r+b") as file:  # SQLite's file format, section 1.3
        for at, number in ((24, 1), (40, cookie), (92, 1)):
            file.seek(at)
            file.write(number.to_bytes(4, "big"))
    yield from copy.chunks()


def set_value(book: sqlite3.Connection, node: Node, value: Single) -> None:
    """Set a value in the place of one that was found, in the kind that stood there.

    Raises RefusedError where its row has no number.
    """
    table, number, column = node.path
    quoted = _quoted(str(table))
    rowid = row_name(book, quoted)
    if not rowid:
        raise RefusedError(f"The rows of the table {table} have no numbers: they stay as they are.")
    asked = f"SELECT {rowid} FROM {quoted} ORDER BY {rowid} LIMIT 1 OFFSET ?"
    (row,) = book.execute(asked, (number,)).fetchone()
    stored: Single | bytes = value
    if node.bare:
        stored = bytes.fromhex(str(value))
    elif isinstance(node.value, int) and isinstance(value, str) and value.isdecimal():
        stored = int(value)
    elif isinstance(node.value, str) and isinstance(value, int | float):
        stored = str(value)
    name = _quoted(str(column))
    book.execute(f"UPDATE {quoted} SET {name} = ? WHERE {rowid} = ?", (stored, row))


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _single(value: object) -> Single:
    """Return a value as documents have it: bytes as hex digits."""
    if isinstance(value, bytes):
        return value[:_MOST].hex()
    return value if isinstance(value, str | int | float) else None
