"""SQLite databases as boxes: a table whose rows are named blobs."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.spec import TableSpec
from clever_ferry.certainty import Evidence
from clever_ferry.errors import DamagedError
from clever_ferry.forms.database_files import COMPANIONS, counting
from clever_ferry.forms.databases import FileCopy, Settled, check, opened, row_name
from clever_ferry.layouts.times import from_ns, to_ns
from clever_ferry.payload import CHUNK, Payload, StreamPayload
from clever_ferry.tree import Files, Output

__all__ = ["TableBox"]

_NO_NUMBER = 64 << 20
"""Bytes of the largest blob in a table without row numbers, where SQLite yields it whole only."""
_LARGEST = (1 << 30) - 1
"""Bytes of the largest value that SQLite takes (its own limit, in its usual build)."""


class TableBox:
    """A database: read and changed as a copy, blob by blob, so that none need fit in memory."""

    def __init__(self, spec: TableSpec) -> None:
        self.spec = spec
        # These names are letters, digits and underscores only (see the spec), and quoted.
        self.table, self.name, self.data = (f'"{n}"' for n in (spec.table, spec.name, spec.data))

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return one entry per row."""
        spec = self.spec
        if files.info(spec.file) is None:
            raise DamagedError(f"The database {spec.file} is missing.")
        beside = {
            ending: files.payload(spec.file + ending)
            for ending in COMPANIONS
            if files.info(spec.file + ending) is not None
        }
        own = (spec.file, *(spec.file + ending for ending in beside))
        copy = Settled(files.payload(spec.file), counting(beside))
        stamp = f'"{spec.stamp}"' if spec.stamp else "NULL"
        try:
            with closing(copy.opened()) as book:
                self._refuse_no_table(book)
                number = row_name(book, self.table) or "NULL"
                rows = book.execute(
                    f"SELECT {self.name}, typeof({self.data}), length({self.data}), {stamp}, "
                    f"{number} FROM {self.table}"
                ).fetchall()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise DamagedError(f"The database {spec.file} can't be read: {error}.") from None
        except DamagedError as error:
            raise DamagedError(f"The database {spec.file} can't be read: {error.what}") from None
        entries = []
        for name, kind, length, stamped, row in rows:
            if kind not in ("blob", "text", "null"):
                raise DamagedError(f"{name!s:.100} in the table {spec.table} holds no bytes.")
            size = None if kind == "text" else length or 0
            at = to_ns(int(stamped), spec.unit) if isinstance(stamped, int) else None
            payload = self._payload(copy, name, row, size)
            entries.append(Entry(str(name), size, at, payload, (spec.file,)))
        if len({entry.name for entry in entries}) != len(entries):
            raise DamagedError(f"The table {spec.table} names an entry twice.")
        return Contents(
            tuple(entries), {}, copy, own, inspect=lambda: _inspected(copy, spec.file)
        )  # fmt: skip

    def _payload(self, copy: Settled, name: str, row: int | None, size: int | None) -> Payload:
        """Return a row's blob as a stream."""

        def chunks() -> Iterator[bytes]:
            try:
                with closing(copy.opened()) as book:
                    if row is None:
                        yield self._whole(book, name)
                        return
                    spec = self.spec
                    with book.blobopen(spec.table, spec.data, row, readonly=True) as blob:
                        while chunk := blob.read(CHUNK):
                            yield chunk
            except (sqlite3.Error, UnicodeDecodeError) as error:
                raise DamagedError(f"{name} can't be read: {error}.") from None

        return StreamPayload((lambda: iter(())) if size == 0 else chunks, size)

    def _whole(self, book: sqlite3.Connection, name: str) -> bytes:
        data, length = f"CAST({self.data} AS BLOB)", f"length({self.data})"
        line = f"SELECT {data} FROM {self.table} WHERE {self.name} = ? AND {length} <= ?"
        found = book.execute(line, (name, _NO_NUMBER)).fetchone()
        if found is None:
            raise DamagedError(f"{name} is too large in a table whose rows have no numbers.")
        return bytes(found[0] or b"")

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
        made: FileCopy = contents.state.again()
        try:
            with closing(opened(made.path)) as book:
                number = row_name(book, self.table)
                for name in removes:
                    book.execute(f"DELETE FROM {self.table} WHERE {self.name} = ?", (name,))
                for item in puts:
                    self._put(book, item, number, new=item.name not in known)
                book.commit()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise DamagedError(f"The database {spec.file} can't be written: {error}.") from None
        for path in contents.own[1:]:  # it is settled, and would be applied to the new file
            yield Output(path, None, making.now)
        yield Output(spec.file, made, making.now)

    def _put(self, book: sqlite3.Connection, item: Put, number: str, *, new: bool) -> None:
        """Write one row: its place first, then its bytes as they come."""
        spec, spooled = self.spec, FileCopy()
        with spooled.path.open("wb") as file:
            file.writelines(item.payload.chunks())
        size = spooled.size
        if size > (_LARGEST if number else _NO_NUMBER):
            raise DamagedError(f"{item.name} is too large for a table: it has {size:,} bytes.")
        data = "zeroblob(?)" if number else "?"
        if new:
            line = f"INSERT INTO {self.table} ({self.data}, {self.name}) VALUES ({data}, ?)"
        else:
            line = f"UPDATE {self.table} SET {self.data} = {data} WHERE {self.name} = ?"
        book.execute(line, (size if number else spooled.front(size), item.name))
        if spec.stamp is not None:
            book.execute(
                f'UPDATE {self.table} SET "{spec.stamp}" = ? WHERE {self.name} = ?',
                (from_ns(item.stamp, spec.unit), item.name),
            )
        if number and size:
            line = f"SELECT {number} FROM {self.table} WHERE {self.name} = ?"
            (row,) = book.execute(line, (item.name,)).fetchone()
            with book.blobopen(spec.table, spec.data, row) as blob:
                for chunk in spooled.chunks():
                    blob.write(chunk)


def _inspected(copy: Settled, file: str) -> Evidence:
    try:
        check(copy)
    except DamagedError as error:
        raise DamagedError(f"The database {file}: {error.what}") from None
    return Evidence("verified", "SQLite's own check")
