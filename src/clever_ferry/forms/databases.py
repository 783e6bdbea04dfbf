"""SQLite databases verified by SQLite itself: on a copy, together with the journal beside it."""

from __future__ import annotations

import sqlite3
import tempfile
from collections.abc import Mapping
from contextlib import closing
from pathlib import Path

from clever_ferry.errors import DamagedError, UnsupportedError
from clever_ferry.payload import Payload, head

__all__ = ["COMPANIONS", "MAGIC", "check_database", "refuse_cut"]

MAGIC = b"SQLite format 3\0"
COMPANIONS = ("-journal", "-wal")
"""Endings of the files beside a database that belong to it while a change is not settled."""
_STEPS, _MOST_TURNS = 1_000_000, 20_000
"""Twenty thousand million steps of SQLite's machine: some minutes, then it is let be."""


def check_database(payload: Payload, beside: Mapping[str, Payload]) -> None:
    """Have SQLite check a database; `beside` are its journals, by their endings.

    Raises DamagedError where it is damaged or no database, UnsupportedError where that can't be
    told.
    """
    start = head(payload, 100)
    if not start.startswith(MAGIC):
        raise DamagedError("it is no SQLite database.")
    if not beside and payload.size is not None:
        refuse_cut(start, payload.size)
    with tempfile.TemporaryDirectory(prefix="cferry-") as folder:
        copy = Path(folder) / "copy"
        for ending, one in {"": payload, **beside}.items():
            with Path(f"{copy}{ending}").open("wb") as file:
                file.writelines(one.chunks())
        try:
            with closing(sqlite3.connect(copy)) as book:
                _check(book)
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise DamagedError(f"SQLite can't read it: {error}.") from None


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
    ended = []

    def over() -> bool:
        if next(turns, None) is None:
            ended.append(True)
        return bool(ended)

    book.execute("PRAGMA trusted_schema = OFF")
    book.set_progress_handler(over, _STEPS)
    try:
        found = [str(row[0]) for row in book.execute("PRAGMA integrity_check(3)")]
    except sqlite3.OperationalError:
        if ended:
            raise UnsupportedError("SQLite's check of it takes too long.") from None
        raise
    if found != ["ok"]:
        raise DamagedError(f"SQLite finds it damaged: {'; '.join(found)[:300]}.")
