"""A database as a document, to read from: `/table/[column=value]/column`, `/table/#`.

Names of tables and columns are looked for among those that there are, and never run as SQL.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing

from clever_ferry.documents.form import Splice
from clever_ferry.documents.nodes import Node, Single
from clever_ferry.documents.places import COUNT, EVERY, Choice, Step, text_of
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.forms.databases import Settled, check
from clever_ferry.payload import Payload

__all__ = ["Rows"]

_MOST = 1 << 20
"""Values that are read for one place at the most."""


class Rows:
    """An SQLite database: tables by name, rows by number or a value in them, columns by name."""

    title = "SQLite"
    several = False
    checks = ("SQLite's own check",)

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return what stands at each place; without any, have SQLite check all of it."""
        copy = source if isinstance(source, Settled) else Settled(source, {})
        if not places:
            check(copy)
            return []
        try:
            with closing(copy.opened()) as book:
                asked = "SELECT name, upper(substr(sql, 1, 20)) FROM sqlite_schema "
                tables = dict(book.execute(f"{asked}WHERE type = 'table'").fetchall())
                return [list(_found(book, tables, steps)) for steps in places]
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise DamagedError(f"SQLite can't read it: {error}.") from None
        except DamagedError as error:
            raise DamagedError(error.what[:1].upper() + error.what[1:]) from None

    def blank(self, node: Node) -> Single:
        """Return nothing: a database is only read."""
        return None

    def rewrite(self, source: Payload, values: Sequence[tuple[Node, Single]]) -> Payload:
        """Raise RefusedError: a database is only read."""
        raise RefusedError("Values in a database are only read.")

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Raise RefusedError, likewise."""
        raise RefusedError("Values in a database are only read.")

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Raise RefusedError, likewise."""
        raise RefusedError("Values in a database are only read.")

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Raise RefusedError, likewise."""
        raise RefusedError("Values in a database are only read.")


def _found(
    book: sqlite3.Connection, tables: dict[str, str], steps: Sequence[Step]
) -> Iterator[Node]:
    if not steps or steps[0] not in tables or not 2 <= len(steps) <= 3:
        return
    table = str(steps[0])
    if "VIRTUAL" in tables[table]:
        raise DamagedError(f"the table {table} is not kept in the file, but computed.")
    quoted = _quoted(table)
    if steps[1] is COUNT:
        if len(steps) == 2:
            (number,) = book.execute(f"SELECT count(*) FROM {quoted}").fetchone()
            yield Node(-1, -1, number, path=(table, "#"))
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
    for number, row in enumerate(book.execute(f"SELECT {told}, {asked} FROM {quoted}")):
        if number >= _MOST:
            raise DamagedError(f"the table {table} has more than {_MOST:,} rows.")
        if choice is not None and text_of(_single(row[0])) != choice.value:
            continue
        if isinstance(steps[1], str) and str(number) != steps[1]:
            continue
        for name, value in zip(wanted, row[1:], strict=False):
            yield Node(-1, -1, _single(value), path=(table, number, name))


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _single(value: object) -> Single:
    """Return a value as documents have it: bytes as hex digits."""
    if isinstance(value, bytes):
        return value[:_MOST].hex()
    return value if isinstance(value, str | int | float) else None
