"""SQLite databases as boxes: a table whose rows are named blobs."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing
from functools import partial

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.spec import SumModel, TableSpec
from clever_ferry.certainty import Evidence
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.forms.database_files import COMPANIONS, counting
from clever_ferry.forms.databases import FileCopy, Settled, check, opened, row_name
from clever_ferry.layouts import start_digest
from clever_ferry.layouts.digests import DIGEST_DIGITS
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
                more = "".join(f', "{column}"' for column in (*spec.sums, *spec.repeats))
                rows = book.execute(
                    f"SELECT {self.name}, typeof({self.data}), length({self.data}), {stamp}, "
                    f"{number}{more} FROM {self.table}"
                ).fetchall()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise DamagedError(f"The database {spec.file} can't be read: {error}.") from None
        except DamagedError as error:
            raise DamagedError(f"The database {spec.file} can't be read: {error.what}") from None
        entries = []
        checked = ", ".join(one.what for one in spec.sums.values() if one.what != "size")
        for name, kind, length, stamped, row, *more_of in rows:
            if kind not in ("blob", "text", "null"):
                raise DamagedError(f"{name!s:.100} in the table {spec.table} holds no bytes.")
            size = None if kind == "text" else length or 0
            at = to_ns(int(stamped), spec.unit) if isinstance(stamped, int) else None
            payload = self._payload(copy, name, row, size)
            told = dict(zip((*spec.sums, *spec.repeats), more_of, strict=True))
            if spec.sums:
                payload = StreamPayload(partial(self._summed, payload, str(name), told), size)
            says = {field: told[column] for column, field in spec.repeats.items()}
            entries.append(
                Entry(
                    str(name), size, at, payload, (spec.file,),
                    self._unsaid(name, says), f"the table's {checked}" if checked else "",
                    says=says,
                )
            )  # fmt: skip
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

    def _unsaid(self, name: str, says: Mapping[str, object]) -> str:
        """Return what is wrong with what a row repeats: nothing that a name or a fact could be."""
        wrong = [field for field, value in says.items() if not isinstance(value, int | str)]
        return f"the row {name} says nothing of the {wrong[0]}" if wrong else ""

    def _summed(self, payload: Payload, name: str, told: Mapping[str, object]) -> Iterator[bytes]:
        """Yield bytes, and hold what the table says of them against them at their end."""
        running = {column: start_digest(one.what) for column, one in self.spec.sums.items()}
        for chunk in payload.chunks():
            for digest in running.values():
                digest.update(chunk)
            yield chunk
        for column, digest in running.items():
            right = _spelled(self.spec.sums[column], digest.value)
            if told[column] != right:
                raise DamagedError(
                    f"{name} is damaged: the table says {told[column]!s:.80} as its {column}, and "
                    f"its bytes give {right!s:.80}."
                )

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
        # SQLite takes a name between quotes that is no column's for a text.
        there = {str(row[1]).lower() for row in book.execute(f"PRAGMA table_xinfo({self.table})")}
        spec = self.spec
        asked = (spec.name, spec.data, spec.stamp, *spec.sums, *spec.repeats, *spec.fills)
        missing = [one for one in asked if one is not None and one.lower() not in there]
        if missing:
            raise sqlite3.DatabaseError(f"the table {spec.table} has no column {missing[0]}")

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
        more = self._columns(item, spooled, new)
        values = (size if number else spooled.front(size), *more.values(), item.name)
        if new:
            names = "".join(f'"{column}", ' for column in more)
            marks = "?, " * len(more)
            line = f"({self.data}, {names}{self.name}) VALUES ({data}, {marks}?)"
            book.execute(f"INSERT INTO {self.table} {line}", values)
        else:
            names = "".join(f', "{column}" = ?' for column in more)
            line = f"UPDATE {self.table} SET {self.data} = {data}{names} WHERE {self.name} = ?"
            book.execute(line, values)
        if number and size:
            line = f"SELECT {number} FROM {self.table} WHERE {self.name} = ?"
            (row,) = book.execute(line, (item.name,)).fetchone()
            with book.blobopen(spec.table, spec.data, row) as blob:
                for chunk in spooled.chunks():
                    blob.write(chunk)

    def _columns(self, item: Put, spooled: FileCopy, new: bool) -> dict[str, int | str | bytes]:
        """Return what a row has beside its name and its bytes."""
        spec = self.spec
        found: dict[str, int | str | bytes] = dict(spec.fills) if new else {}
        if spec.stamp is not None:
            found[spec.stamp] = from_ns(item.stamp, spec.unit)
        for column, field in spec.repeats.items():
            if field in item.says:
                found[column] = item.says[field]
            elif new:
                raise RefusedError(
                    f"The table must say the {field} of {item.name}, which is not known."
                )
        running = {column: start_digest(one.what) for column, one in spec.sums.items()}
        for chunk in spooled.chunks() if running else ():
            for digest in running.values():
                digest.update(chunk)
        for column, digest in running.items():
            found[column] = _spelled(spec.sums[column], digest.value)
        return found


def _spelled(one: SumModel, value: int | bytes) -> int | str | bytes:
    """Return a size or a checksum as a column has it."""
    if one.spelled is None:  # SQLite's numbers have a sign
        return value - (1 << 64) if isinstance(value, int) and value >> 63 else value
    digits = DIGEST_DIGITS.get(one.what, 1)
    text = value.hex() if isinstance(value, bytes) else f"{value:x}".zfill(digits)
    return text.upper() if one.spelled == "HEX" else text


def _inspected(copy: Settled, file: str) -> Evidence:
    try:
        check(copy)
    except DamagedError as error:
        raise DamagedError(f"The database {file}: {error.what}") from None
    return Evidence("verified", "SQLite's own check")
