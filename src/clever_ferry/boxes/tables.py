"""SQLite databases as boxes: tables whose rows are named blobs, in one database or one each."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from functools import partial
from typing import NamedTuple

from clever_ferry.boxes.beside import Containers, files_beside, unreadable, written_beside
from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.companions import going_with, with_companions
from clever_ferry.boxes.table_spec import SumModel, TableSpec, TotalModel
from clever_ferry.certainty import Evidence
from clever_ferry.documents.places import steps_of
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.forms.database_files import COMPANIONS, counting
from clever_ferry.forms.databases import IS_KEPT, FileCopy, Settled, check, opened, row_name
from clever_ferry.forms.rows import found_in, set_value
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
_UNREADABLE = (sqlite3.Error, UnicodeDecodeError)


class _Side(NamedTuple):
    """What a table says of entries; names are letters, digits and underscores (see the spec)."""

    table: str
    name: str
    sums: Mapping[str, SumModel]
    repeats: Mapping[str, str]
    fills: Mapping[str, int | str]

    @property
    def columns(self) -> tuple[str, ...]:
        """Those that say something of an entry."""
        return (*self.sums, *self.repeats)


_Told = list[tuple[_Side, dict[str, object]]]
"""What each table says of one entry, by column."""


class TableBox:
    """Databases, read and changed as copies, blob by blob, so that none need fit in memory."""

    def __init__(self, spec: TableSpec) -> None:
        self.spec = spec
        self.databases = Containers(spec.file)
        self.own = _Side(spec.table, spec.name, spec.sums, spec.repeats, spec.fills)
        self.others = [
            _Side(table, one.name, one.sums, one.repeats, one.fills)
            for table, one in spec.beside.items()
        ]
        self.table, self.name, self.data = (f'"{n}"' for n in (spec.table, spec.name, spec.data))

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return one entry per row, and per file beside databases that are a save's each."""
        spec = self.spec
        if not spec.each:
            if files.info(spec.file) is None:
                raise DamagedError(f"The database {spec.file} is missing.")
            copy, own = self._copy(files, spec.file)
            entries = list(self._entries(copy, spec.file))
            return self._contents(entries, {spec.file: copy}, own, ())
        every = list(files_beside(files, enter, lambda _: False))
        paths = [entry.name for entry in every if self.databases.has(entry.name)]
        mine = {path + ending for path in paths for ending in ("", *COMPANIONS)}
        entries = with_companions([entry for entry in every if entry.name not in mine])
        copies: dict[str, Settled] = {}
        own, problems = [], []
        for path in paths:
            copy, there = self._copy(files, path)
            own += there
            try:
                entries += self._entries(copy, path)
                copies[path] = copy
            except DamagedError as error:
                problems.append(unreadable(path, error))
        return self._contents(entries, copies, own, problems)

    def _contents(
        self, entries: list[Entry], copies: dict[str, Settled], own: list[str],
        problems: Iterable[str],
    ) -> Contents:  # fmt: skip
        def inspect(path: str) -> Evidence:
            return self._inspected(copies[path], path)

        return Contents(
            tuple(entries), {}, copies, tuple(own), problems=tuple(problems), inspect=inspect
        )

    def _copy(self, files: Files, path: str) -> tuple[Settled, list[str]]:
        """Return a database as it is to be read, and the files that it consists of."""
        beside = {
            ending: files.payload(path + ending)
            for ending in COMPANIONS
            if files.info(path + ending) is not None
        }
        own = [path, *(path + ending for ending in beside)]
        return Settled(files.payload(path), counting(beside)), own

    def _entries(self, copy: Settled, path: str) -> list[Entry]:
        """Return one entry per row of a database."""
        spec = self.spec
        stamp = f'"{spec.stamp}"' if spec.stamp else "NULL"
        try:
            with closing(copy.opened()) as book:
                self._refuse_no_tables(book)
                number = row_name(book, self.table) or "NULL"
                more = "".join(f', "{column}"' for column in self.own.columns)
                rows = book.execute(
                    f"SELECT {self.name}, typeof({self.data}), length({self.data}), {stamp}, "
                    f"{number}{more} FROM {self.table}"
                ).fetchall()
                others = [(side, _rows_of(book, side)) for side in self.others]
        except _UNREADABLE as error:
            raise DamagedError(f"The database {path} can't be read: {error}.") from None
        except DamagedError as error:
            raise DamagedError(f"The database {path} can't be read: {error.what}") from None
        entries = []
        sides = (self.own, *self.others)
        checked = ", ".join(
            one.what for side in sides for one in side.sums.values() if one.what != "size"
        )
        for name, kind, length, stamped, row, *more_of in rows:
            if kind not in ("blob", "text", "null"):
                raise DamagedError(f"{name!s:.100} in the table {spec.table} holds no bytes.")
            size = None if kind == "text" else length or 0
            at = to_ns(int(stamped), spec.unit) if isinstance(stamped, int) else None
            payload = self._payload(copy, name, row, size)
            told: _Told = [(self.own, dict(zip(self.own.columns, more_of, strict=True)))]
            told += [(side, there[name]) for side, there in others if name in there]
            if any(side.sums for side, _ in told):
                payload = StreamPayload(partial(_summed, payload, str(name), told), size)
            says, problem = _said(str(name), told)
            lacking = [side.table for side, there in others if name not in there]
            if lacking:
                problem = f"the table {lacking[0]} has no row of {name}"
            entries.append(
                Entry(
                    f"{path}/{name}" if spec.each else str(name), size, at, payload, (path,),
                    problem, f"the table's {checked}" if checked else "", says=says,
                )
            )  # fmt: skip
        if len({entry.name for entry in entries}) != len(entries):
            raise DamagedError(f"The table {spec.table} names an entry twice.")
        return entries

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
            except _UNREADABLE as error:
                raise DamagedError(f"{name} can't be read: {error}.") from None

        return StreamPayload((lambda: iter(())) if size == 0 else chunks, size)

    def _whole(self, book: sqlite3.Connection, name: str) -> bytes:
        where = f"FROM {self.table} WHERE {self.name} = ?"
        (size,) = book.execute(f"SELECT length({self.data}) {where}", (name,)).fetchone()
        if (size or 0) > _NO_NUMBER:
            raise DamagedError(f"{name} is too large in a table whose rows have no numbers.")
        (data,) = book.execute(f"SELECT CAST({self.data} AS BLOB) {where}", (name,)).fetchone()
        return bytes(data or b"")

    def _refuse_no_tables(self, book: sqlite3.Connection) -> None:
        spec = self.spec
        own = [spec.name, spec.data, *([spec.stamp] if spec.stamp else [])]
        _refuse_no_table(book, self.own, own)
        for side in self.others:
            _refuse_no_table(book, side, [side.name])

    def _inspected(self, copy: Settled, path: str) -> Evidence:
        """Have SQLite check a database, and hold what it says of all its entries against them."""
        try:
            check(copy)
            with closing(copy.opened()) as book:
                for side in self.others:
                    line = f'SELECT "{side.name}" FROM "{side.table}" EXCEPT SELECT {self.name} '
                    alone = book.execute(f"{line}FROM {self.table}").fetchone()
                    if alone is not None:
                        raise DamagedError(
                            f"the table {side.table} names {alone[0]!s:.100}, which has no bytes."
                        )
                for total in self.spec.totals:
                    right = self._total(book, total)
                    found = [node.value for node in found_in(book, steps_of(total.at))]
                    if [str(one) for one in found] != [str(right)]:
                        said = f"says {found[0]!s:.80}" if found else "says nothing"
                        raise DamagedError(f"it {said} at {total.at}, where {right} is right.")
        except DamagedError as error:
            raise DamagedError(f"The database {path}: {error.what}") from None
        except _UNREADABLE as error:
            raise DamagedError(f"The database {path} can't be read: {error}.") from None
        return Evidence("verified", "SQLite's own check")

    def _total(self, book: sqlite3.Connection, total: TotalModel) -> int:
        what = {
            "count": "count(*)",
            "size": f"total(length(CAST({self.data} AS BLOB)))",
            "newest": f'max("{self.spec.stamp}")',
        }[total.what]
        (found,) = book.execute(f"SELECT {what} FROM {self.table}").fetchone()
        return int(found or 0)

    def refuse(self, contents: Contents, name: str) -> None:
        """Raise RefusedError where an entry's own database can't be read, or not be made."""
        path = self.databases.of(name)
        if not self.spec.each or not path:
            return
        self.databases.refuse(contents, name)
        if path not in contents.state and self.spec.new is None:
            raise RefusedError(
                f"{path} is not there, and its recipe does not say how one is made (`new`).",
                advice="Make a throwaway save there in its game, and carry onto that.",
                in_game="there",
            )

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the databases anew that change; rows not concerned are not touched."""
        if not self.spec.each:
            path = self.spec.file
            yield from self._written(contents, path, {p.name: p for p in puts}, removes, making)
            return
        known = {entry.name: entry for entry in contents.entries}
        beside = [one for put in puts for one in going_with(put, known)]
        beside += [one for name in removes if name in known for one in known[name].beside]
        within = self.databases.of
        yield from written_beside(puts, [*beside, *removes], lambda n: bool(within(n)), making)
        for path in dict.fromkeys(map(within, [*(put.name for put in puts), *removes])):
            if not path:
                continue
            here = {p.name.removeprefix(f"{path}/"): p for p in puts if within(p.name) == path}
            gone = [n.removeprefix(f"{path}/") for n in removes if within(n) == path]
            there = {n.removeprefix(f"{path}/") for n in known if within(n) == path}
            if not here and there <= {*gone}:
                for own in _own_files(contents, path):
                    yield Output(own, None, making.now, tidy=True)
            else:
                yield from self._written(contents, path, here, gone, making)

    def _written(
        self, contents: Contents, path: str, puts: Mapping[str, Put], removes: Collection[str],
        making: Making,
    ) -> Iterator[Output]:  # fmt: skip
        """Yield one database anew; `puts` and `removes` by their names in it."""
        copy: Settled | None = contents.state.get(path)
        made = copy.again() if copy is not None else self._made()
        above = f"{path}/" if self.spec.each else ""
        known = {entry.name.removeprefix(above) for entry in contents.entries}
        try:
            with closing(opened(made.path)) as book:
                number = "" if self._indexed(book) else row_name(book, self.table)
                for name in removes:
                    for side in (self.own, *self.others):
                        book.execute(f'DELETE FROM "{side.table}" WHERE "{side.name}" = ?', (name,))
                for name, item in puts.items():
                    self._put(book, name, item, number, new=name not in known)
                for total in self.spec.totals:
                    self._set_total(book, total)
                book.commit()
        except _UNREADABLE as error:
            raise DamagedError(f"The database {path} can't be written: {error}.") from None
        for own in _own_files(contents, path)[1:]:  # it is settled, and they would be applied to it
            yield Output(own, None, making.now)
        stamp = max((put.stamp for put in puts.values()), default=making.now)
        yield Output(path, made, stamp if self.spec.each else making.now)

    def _made(self) -> FileCopy:
        """Return a new database, with the tables and rows that the recipe says."""
        new, made = self.spec.new, FileCopy()
        assert new is not None  # `refuse` has seen to it
        with closing(opened(made.path)) as book:
            book.execute(f"PRAGMA application_id = {new.application:d}")
            book.execute(f"PRAGMA user_version = {new.version:d}")
            for table, columns in new.tables.items():
                told = ", ".join(
                    f'"{name}" {kind.upper().replace("KEY", "PRIMARY KEY")}'
                    for name, kind in columns.items()
                )
                book.execute(f'CREATE TABLE "{table}" ({told})')
                for row in new.rows.get(table, ()):
                    _insert(book, table, row, dict.fromkeys(row, "?"))
            book.commit()
        return made

    def _put(
        self, book: sqlite3.Connection, name: str, item: Put, number: str, *, new: bool
    ) -> None:
        """Write one entry's rows: the place of its bytes first, then these as they come."""
        spec, spooled = self.spec, FileCopy()
        with spooled.path.open("wb") as file:
            file.writelines(item.payload.chunks())
        size = spooled.size
        if size > (_LARGEST if number else _NO_NUMBER):
            raise DamagedError(f"{name} is too large for a table: it has {size:,} bytes.")
        own: dict[str, int | str | bytes] = {spec.data: size if number else spooled.front(size)}
        if spec.stamp is not None:
            own[spec.stamp] = from_ns(item.stamp, spec.unit)
        mark = {spec.data: "zeroblob(?)"} if number else {}
        for side in (self.own, *self.others):
            first = side is self.own
            more = {**(own if first else {}), **_columns(side, item, spooled, new)}
            marks = {column: (mark if first else {}).get(column, "?") for column in more}
            if new:
                _insert(book, side.table, {**more, side.name: name}, {**marks, side.name: "?"})
            elif more:
                names = ", ".join(f'"{column}" = {mark}' for column, mark in marks.items())
                line = f'UPDATE "{side.table}" SET {names} WHERE "{side.name}" = ?'
                book.execute(line, (*more.values(), name))
        if number and size:
            line = f"SELECT {number} FROM {self.table} WHERE {self.name} = ?"
            (row,) = book.execute(line, (name,)).fetchone()
            with book.blobopen(spec.table, spec.data, row) as blob:
                for chunk in spooled.chunks():
                    blob.write(chunk)

    def _indexed(self, book: sqlite3.Connection) -> bool:
        """Tell whether the bytes are in an index, so that SQLite takes them as a whole only."""
        line = (
            "SELECT 1 FROM pragma_index_list(?) AS one, pragma_index_info(one.name) AS column "
            "WHERE column.name = ? COLLATE NOCASE"
        )
        return book.execute(line, (self.spec.table, self.spec.data)).fetchone() is not None

    def _set_total(self, book: sqlite3.Connection, total: TotalModel) -> None:
        nodes = found_in(book, steps_of(total.at))
        if len(nodes) != 1:
            told = "more than one value stands" if nodes else "nothing stands"
            raise RefusedError(f"{told} at {total.at}, where what all entries are is to be said.")
        set_value(book, nodes[0], self._total(book, total))


def _own_files(contents: Contents, path: str) -> list[str]:
    """Return a database, and what of it lies beside it."""
    return [path, *(path + ending for ending in COMPANIONS if path + ending in contents.own)]


def _rows_of(book: sqlite3.Connection, side: _Side) -> dict[object, dict[str, object]]:
    """Return what a further table says, by entries' names; raises DamagedError for two rows."""
    asked = ", ".join(f'"{column}"' for column in (side.name, *side.columns))
    found: dict[object, dict[str, object]] = {}
    for name, *told in book.execute(f'SELECT {asked} FROM "{side.table}"'):
        if name in found:
            raise DamagedError(f"the table {side.table} names {name!s:.100} twice.")
        found[name] = dict(zip(side.columns, told, strict=True))
    return found


def _said(name: str, told: _Told) -> tuple[dict[str, int | str], str]:
    """Return the fields that rows repeat, and what is wrong with them: no name, or two of one."""
    says: dict[str, int | str] = {}
    for side, values in told:
        for column, field in side.repeats.items():
            value = values[column]
            if not isinstance(value, int | str):
                return says, f"the row {name} says nothing of the {field}"
            if says.setdefault(field, value) != value:
                return says, f"its rows say {says[field]} and {value} as the {field}"
    return says, ""


def _summed(payload: Payload, name: str, told: _Told) -> Iterator[bytes]:
    """Yield bytes, and hold what tables say of them against them at their end."""
    sums = [
        (column, one, start_digest(one.what), values[column])
        for side, values in told
        for column, one in side.sums.items()
    ]
    for chunk in payload.chunks():
        for _, _, digest, _ in sums:
            digest.update(chunk)
        yield chunk
    for column, one, digest, said in sums:
        right = _spelled(one, digest.value)
        if said != right:
            raise DamagedError(
                f"{name} is damaged: the table says {said!s:.80} as its {column}, and "
                f"its bytes give {right!s:.80}."
            )


def _columns(side: _Side, item: Put, spooled: FileCopy, new: bool) -> dict[str, int | str | bytes]:
    """Return what an entry's row has beside its name and its bytes."""
    found: dict[str, int | str | bytes] = dict(side.fills) if new else {}
    for column, field in side.repeats.items():
        if field in item.says:
            found[column] = item.says[field]
        elif new:
            raise RefusedError(
                f"The table must say the {field} of {item.name}, which is not known."
            )
    running = {column: start_digest(one.what) for column, one in side.sums.items()}
    for chunk in spooled.chunks() if running else ():
        for digest in running.values():
            digest.update(chunk)
    for column, digest in running.items():
        found[column] = _spelled(side.sums[column], digest.value)
    return found


def _insert(
    book: sqlite3.Connection,
    table: str,
    values: Mapping[str, int | str | bytes],
    marks: Mapping[str, str],
) -> None:
    names = ", ".join(f'"{column}"' for column in values)
    every = ", ".join(marks[column] for column in values)
    put = f"({names}) VALUES ({every})" if values else "DEFAULT VALUES"
    book.execute(f'INSERT INTO "{table}" {put}', (*values.values(),))


def _refuse_no_table(book: sqlite3.Connection, side: _Side, own: Sequence[str]) -> None:
    """A view or a virtual table can compute for ever, or elsewhere."""
    line = f"SELECT {IS_KEPT} FROM sqlite_schema WHERE type = 'table' AND name = ?"
    if book.execute(line, (side.table,)).fetchone() != (1,):
        raise sqlite3.DatabaseError(f"it has no plain table {side.table}")
    # SQLite takes a name between quotes that is no column's for a text.
    there = {str(row[1]).lower() for row in book.execute(f'PRAGMA table_xinfo("{side.table}")')}
    missing = [one for one in (*own, *side.columns, *side.fills) if one.lower() not in there]
    if missing:
        raise sqlite3.DatabaseError(f"the table {side.table} has no column {missing[0]}")


def _spelled(one: SumModel, value: int | bytes) -> int | str | bytes:
    """Return a size or a checksum as a column has it."""
    if one.spelled is None:  # SQLite's numbers have a sign
        return value - (1 << 64) if isinstance(value, int) and value >> 63 else value
    digits = DIGEST_DIGITS.get(one.what, 1)
    text = value.hex() if isinstance(value, bytes) else f"{value:x}".zfill(digits)
    return text.upper() if one.spelled == "HEX" else text
