"""SQLite databases as boxes: a table whose rows are named blobs."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.spec import TableSpec
from clever_ferry.certainty import Evidence
from clever_ferry.errors import DamagedError
from clever_ferry.forms.databases import MAGIC, refuse_cut
from clever_ferry.layouts.times import from_ns, to_ns
from clever_ferry.payload import BytesPayload, Payload, read_all
from clever_ferry.tree import Files, Output

__all__ = ["TableBox"]

_STEPS = 100_000
_MOST_TURNS = 500
"""Fifty million steps of SQLite's machine: a trigger or generated column from a
stranger ends there."""

_LARGEST = 1 << 30


class TableBox:
    """A database in memory: read from its bytes, changed, and turned to bytes again."""

    def __init__(self, spec: TableSpec) -> None:
        self.spec = spec
        # These names are letters, digits and underscores only (see the spec), and quoted.
        self.table, self.name, self.data = (f'"{n}"' for n in (spec.table, spec.name, spec.data))

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return one entry per row."""
        spec = self.spec
        if files.info(spec.file) is None:
            raise DamagedError(f"The database {spec.file} is missing.")
        if files.info(f"{spec.file}-wal") is not None:
            raise DamagedError(
                f"The database {spec.file} is in use, or was not closed.",
                advice="Close the game, then try again.",
            )
        raw = read_all(files.payload(spec.file), limit=_LARGEST, what=spec.file)
        stamp = f'"{spec.stamp}"' if spec.stamp else "NULL"
        columns = f"{self.name}, {self.data}, {stamp}"
        try:
            with closing(_opened(raw)) as book:
                self._refuse_no_table(book)
                rows = book.execute(f"SELECT {columns} FROM {self.table}").fetchall()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise DamagedError(f"The database {spec.file} can't be read: {error}.") from None
        entries = []
        for name, data, stamped in rows:
            if not isinstance(data, str | bytes | None):
                raise DamagedError(f"{name!s:.100} in the table {spec.table} holds no bytes.")
            blob = data.encode() if isinstance(data, str) else data or b""
            at = to_ns(int(stamped), spec.unit) if isinstance(stamped, int) else None
            payload: Payload = BytesPayload(blob)
            entries.append(Entry(str(name), len(blob), at, payload, (spec.file,)))
        if len({entry.name for entry in entries}) != len(entries):
            raise DamagedError(f"The table {spec.table} names an entry twice.")
        return Contents(
            tuple(entries), {}, raw, (spec.file,), inspect=lambda: _inspected(raw, spec.file)
        )

    def _refuse_no_table(self, book: sqlite3.Connection) -> None:
        """A view or a virtual table can compute for ever, or elsewhere."""
        line = "SELECT type, sql FROM sqlite_schema WHERE name = ?"
        found = book.execute(line, (self.spec.table,)).fetchone()
        if found is None or found[0] != "table" or "VIRTUAL" in str(found[1]).upper()[:40]:
            raise sqlite3.DatabaseError(f"it has no plain table {self.spec.table}")

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the database anew; rows not concerned are not touched."""
        spec = self.spec
        known = {entry.name for entry in contents.entries}
        try:
            with closing(_opened(contents.state)) as book, book:
                for name in removes:
                    book.execute(f"DELETE FROM {self.table} WHERE {self.name} = ?", (name,))
                for item in puts:
                    data = read_all(item.payload, limit=_LARGEST, what=item.name)
                    if item.name in known:
                        line = f"UPDATE {self.table} SET {self.data} = ? WHERE {self.name} = ?"
                    else:
                        line = f"INSERT INTO {self.table} ({self.data}, {self.name}) VALUES (?, ?)"
                    book.execute(line, (data, item.name))
                    if spec.stamp is not None:
                        book.execute(
                            f'UPDATE {self.table} SET "{spec.stamp}" = ? WHERE {self.name} = ?',
                            (from_ns(item.stamp, spec.unit), item.name),
                        )
                book.commit()
                raw = book.serialize()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise DamagedError(f"The database {spec.file} can't be written: {error}.") from None
        yield Output(spec.file, BytesPayload(raw), making.now)


def _inspected(raw: bytes, file: str) -> Evidence:
    try:
        with closing(_opened(raw)) as book:
            found = [str(row[0]) for row in book.execute("PRAGMA integrity_check(3)")]
    except (sqlite3.Error, UnicodeDecodeError) as error:
        raise DamagedError(f"The database {file} can't be read: {error}.") from None
    if found != ["ok"]:
        raise DamagedError(f"SQLite finds {file} damaged: {'; '.join(found)[:300]}.")
    return Evidence("verified", "SQLite's own check")


def _opened(raw: bytes) -> sqlite3.Connection:
    if not raw.startswith(MAGIC):
        raise sqlite3.DatabaseError("it is no SQLite database")
    refuse_cut(raw[:100], len(raw))
    book = sqlite3.connect(":memory:")
    book.deserialize(raw)
    book.execute("PRAGMA trusted_schema = OFF")
    turns = iter(range(_MOST_TURNS))
    book.set_progress_handler(lambda: next(turns, None) is None, _STEPS)
    return book
