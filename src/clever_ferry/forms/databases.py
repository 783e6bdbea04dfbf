"""SQLite databases, verified and settled by SQLite itself, on a copy."""

from __future__ import annotations

import shutil
import sqlite3
import tempfile
import weakref
from collections.abc import Iterator, Mapping
from contextlib import closing
from pathlib import Path

from clever_ferry.errors import DamagedError, UnsupportedError
from clever_ferry.forms.database_files import MAGIC, counting
from clever_ferry.payload import CHUNK, Payload

__all__ = [
    "IS_KEPT",
    "FileCopy",
    "Settled",
    "check",
    "check_database",
    "opened",
    "refuse_cut",
    "row_name",
    "settled",
]

IS_KEPT = "rootpage > 0 AND sql LIKE 'CREATE TABLE%'"
"""Of a table's line in the schema: whether its rows are kept in the file, and not computed."""

_FEW_STEPS, _FEW_TURNS = 100_000, 500  # free: about how long
_STEPS, _MOST_TURNS = 1_000_000, 20_000  # free: about how long
"""Twenty thousand million steps of SQLite's machine: some minutes, then it is let be."""


def check_database(payload: Payload) -> None:
    """Have SQLite check a database.

    Raises DamagedError where it is damaged or no database, UnsupportedError where that can't be
    told.
    """
    check(Settled(payload, {}))


def check(copy: Settled) -> None:
    """Have SQLite check a database's copy; raises as `check_database` does."""
    try:
        with closing(copy.opened()) as book:
            _check(book)
    except (sqlite3.Error, UnicodeDecodeError) as error:
        raise DamagedError(f"SQLite can't read it: {error}.") from None


class Settled:
    """A database as it is once what stands beside it is taken back or taken over.

    A program that was killed in the middle of a change leaves a journal from which SQLite undoes
    that change at the next opening, or a log of changes that are not in the file yet. Here that is
    done to a copy, when it is read for the first time; the files themselves are only read.
    Reading raises DamagedError where SQLite can't do it.
    """

    def __init__(self, payload: Payload, beside: Mapping[str, Payload]) -> None:
        self._payload, self._beside = payload, beside
        self._copy: FileCopy | None = None

    @property
    def size(self) -> int | None:
        """Size in bytes, once it was read."""
        return self._copy.size if self._copy is not None else None

    def chunks(self) -> Iterator[bytes]:
        """Yield the settled bytes."""
        self._settled()
        assert self._copy is not None
        return self._copy.chunks()

    def front(self, count: int) -> bytes:
        """Return the first bytes."""
        self._settled()
        assert self._copy is not None
        return self._copy.front(count)

    def opened(self) -> sqlite3.Connection:
        """Open the copy, so that nothing in it runs for ever or elsewhere; the caller closes it."""
        return opened(self._settled())

    def again(self) -> FileCopy:
        """Return another copy, to be changed."""
        other = FileCopy()
        shutil.copyfile(self._settled(), other.path)
        return other

    def _settled(self) -> Path:
        if self._copy is None:
            copy = FileCopy()
            for ending, one in {"": self._payload, **self._beside}.items():
                _write(copy.path.with_name(copy.path.name + ending), one)
            if not self._beside:
                with copy.path.open("rb") as file:
                    start = file.read(100)
                if not start.startswith(MAGIC):
                    raise DamagedError("it is no SQLite database.")
                refuse_cut(start, copy.path.stat().st_size)
            try:
                with closing(opened(copy.path)) as book:
                    book.execute("SELECT count(*) FROM sqlite_schema").fetchone()
            except (sqlite3.Error, UnicodeDecodeError) as error:
                told = "settle the change that was left open in it" if self._beside else "read it"
                raise DamagedError(f"SQLite can't {told}: {error}.") from None
            self._copy = copy
        return self._copy.path


class FileCopy:
    """A file of the program's own, as bytes; it goes when nobody needs it any more."""

    def __init__(self) -> None:
        folder = tempfile.mkdtemp(prefix="cferry-")
        self.path = Path(folder) / "copy"
        weakref.finalize(self, shutil.rmtree, folder, ignore_errors=True)

    @property
    def size(self) -> int:
        """Size in bytes."""
        return self.path.stat().st_size

    def chunks(self) -> Iterator[bytes]:
        """Yield the bytes."""
        with self.path.open("rb") as file:
            while chunk := file.read(CHUNK):
                yield chunk

    def front(self, count: int) -> bytes:
        """Return the first bytes."""
        with self.path.open("rb") as file:
            return file.read(count)


def opened(path: Path) -> sqlite3.Connection:
    """Open a database that may be a stranger's: a trigger of it ends after fifty million steps."""
    book = sqlite3.connect(path)
    book.execute("PRAGMA trusted_schema = OFF")
    book.execute("PRAGMA synchronous = OFF")  # free: a copy need not last
    turns = iter(range(_FEW_TURNS))
    book.set_progress_handler(lambda: next(turns, None) is None, _FEW_STEPS)
    return book


def row_name(book: sqlite3.Connection, quoted: str) -> str:
    """Return by what name a table's rows have numbers, '' where they have none.

    `quoted` is the table's name as SQL has it.
    """
    columns = {str(row[1]).lower() for row in book.execute(f"PRAGMA table_xinfo({quoted})")}
    for name in ("rowid", "_rowid_", "oid"):
        if name not in columns:
            try:
                book.execute(f"SELECT {name} FROM {quoted} LIMIT 0")
            except sqlite3.OperationalError:
                return ""
            return name
    return ""


def settled(payload: Payload, beside: Mapping[str, Payload]) -> Payload:
    """Return a database together with what stands beside it, by ending; as it is where that is
    nothing that counts.
    """
    counts = counting(beside)
    return Settled(payload, counts) if counts else payload


def _write(place: Path, payload: Payload) -> None:
    with place.open("wb") as file:
        file.writelines(payload.chunks())


def refuse_cut(start: bytes, size: int) -> None:
    """Raise DamagedError where a database has fewer bytes than its header says.

    The page size stands at byte 16, the number of pages at 28; the latter counts only where the
    change counters at 24 and 92 agree (SQLite's file format, section 1.3).
    """
    page = int.from_bytes(start[16:18]) or 1
    page = 65_536 if page == 1 else page
    pages = int.from_bytes(start[28:32])
    if start[24:28] == start[92:96] and pages * page > size:
        raise DamagedError(
            f"it is cut short: it says {pages:,} pages of {page:,} bytes, and has {size:,} bytes."
        )


def _check(book: sqlite3.Connection) -> None:
    turns = iter(range(_MOST_TURNS))

    def over() -> bool:
        return next(turns, None) is None

    book.set_progress_handler(over, _STEPS)
    try:
        found = [str(row[0]) for row in book.execute("PRAGMA integrity_check(3)")]
    except sqlite3.OperationalError:
        if over():
            raise UnsupportedError("SQLite's check of it takes too long.") from None
        raise
    if found != ["ok"]:
        raise DamagedError(f"SQLite finds it damaged: {'; '.join(found)[:300]}.")
