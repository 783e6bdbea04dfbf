"""The logbook: every crossing, from before its first change on, in one SQLite file."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from msgspec import Struct, field

from clever_ferry.errors import DamagedError

if TYPE_CHECKING:
    import sqlite3

__all__ = ["Logbook", "Record", "State"]

State = Literal["begun", "proved", "put back", "undone"]
"""`begun` is what a crossing is left in when the tool is killed."""

_SCHEMA = """
CREATE TABLE IF NOT EXISTS crossings (
    number   INTEGER PRIMARY KEY AUTOINCREMENT,
    state    TEXT NOT NULL,
    started  INTEGER NOT NULL,
    ended    INTEGER,
    manifest TEXT NOT NULL,
    story    TEXT NOT NULL
)
"""


class Record(Struct, frozen=True):
    """One crossing. Times are ns since 1970; `story` holds what `log` tells of it, as JSON."""

    number: int
    state: State
    started: int
    ended: int | None
    manifest: str
    """The id of how the target stood before, in the locker."""
    story: dict[str, Any] = field(default_factory=dict)

    @property
    def what(self) -> str:
        """What it was, with its number: `crossing 4`."""
        return f"{self.story.get('kind', 'crossing')} {self.number}"


class Logbook:
    """The record of crossings; the file is made at the first writing."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        import sqlite3

        self.path.parent.mkdir(parents=True, exist_ok=True)
        try:
            book = sqlite3.connect(self.path, timeout=10)
            try:
                book.execute("PRAGMA synchronous = FULL")
                book.execute(_SCHEMA)
                with book:
                    yield book
            finally:
                book.close()
        except sqlite3.Error as error:
            raise DamagedError(
                f"The logbook {self.path} can't be used: {error}.",
                advice="Move that file aside; backups do not depend on it.",
            ) from None

    def begin(self, *, started: int, manifest: str, story: dict[str, Any]) -> int:
        """Write down a crossing before its first change; return its number."""
        with self._open() as book:
            row = book.execute(
                "INSERT INTO crossings (state, started, manifest, story) VALUES ('begun', ?, ?, ?)",
                (started, manifest, json.dumps(story)),
            )
            return int(row.lastrowid or 0)

    def turn(
        self,
        number: int,
        state: State,
        *,
        ended: int | None = None,
        story: dict[str, Any] | None = None,
    ) -> None:
        """Write down a crossing's new state."""
        with self._open() as book:
            book.execute(
                "UPDATE crossings SET state = ?, ended = coalesce(?, ended), "
                "story = coalesce(?, story) WHERE number = ?",
                (state, ended, None if story is None else json.dumps(story), number),
            )

    def records(self) -> list[Record]:
        """Return all crossings, the newest first."""
        return self._select("")

    def begun(self) -> list[Record]:
        """Return the crossings that have not ended, as far as is written here."""
        return self._select("WHERE state = 'begun'")

    def record(self, number: int) -> Record | None:
        """Return one crossing."""
        return next(iter(self._select("WHERE number = ?", number)), None)

    def _select(self, where: str, *values: int) -> list[Record]:
        if not self.path.exists():
            return []
        with self._open() as book:
            rows = book.execute(
                "SELECT number, state, started, ended, manifest, story "
                f"FROM crossings {where} ORDER BY number DESC",
                values,
            ).fetchall()
        return [
            Record(number, state, started, ended, manifest, json.loads(story))
            for number, state, started, ended, manifest, story in rows
        ]
