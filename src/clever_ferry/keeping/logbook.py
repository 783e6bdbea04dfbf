"""The logbook: every crossing, from before its first change on, in one SQLite file."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

from msgspec import Meta, Struct, ValidationError, convert, field

from clever_ferry.errors import DamagedError
from clever_ferry.moving.presence import stands

if TYPE_CHECKING:
    import sqlite3

__all__ = ["Logbook", "Record", "State"]

State = Literal["begun", "proved", "put back", "undone", "unclear"]
"""`begun` is what a crossing is left in when the tool is killed; `unclear`, where the journal's
entry of it was damaged and its target is neither as it was nor as it should be."""

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


_Time = Annotated[int, Meta(ge=-(1 << 63), le=(1 << 63) - 1)]


class Record(Struct, frozen=True):
    """One crossing. Times are ns since 1970; `story` holds what `log` tells of it, as JSON."""

    number: int
    state: State
    started: _Time
    ended: _Time | None
    manifest: str
    """The id of how the target stood before, in the locker."""
    story: dict[str, Any] = field(default_factory=dict)

    @property
    def what(self) -> str:
        """What it was, with its number: `crossing 4`."""
        return f"{self.story.get('kind', 'crossing')} {self.number}"


class _Side(Struct):
    address: str
    title: str
    root: str


class _Told(Struct):
    name: str
    facts: dict[str, str]


class _Move(Struct):
    save: _Told
    from_slot: int | None
    to_slot: int | None
    replaced: _Told | None


class _Left(Struct):
    path: str
    digest: str | None
    size: int
    stamp: _Time = 0


class _Story(Struct):
    """What is asked of a story that is read; more may be in it."""

    game: str
    from_: _Side = field(name="from")
    to: _Side
    moves: list[_Move]
    kind: str = "crossing"
    left: list[_Left] = []
    rebuilt: list[str] = []
    shared: list[str] = []
    reason: str = ""
    anchor: str = ""
    anchor_stamp: _Time = 0


class Logbook:
    """The record of crossings; the file is made at the first writing."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.unread: list[int] = []
        """Numbers of the lines that were passed over when it was last read: they make no sense."""

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        import sqlite3

        self.path.parent.mkdir(parents=True, exist_ok=True)
        try:
            book = sqlite3.connect(self.path, timeout=10)
            try:
                book.execute("PRAGMA synchronous = EXTRA")
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
        """Write down a crossing's new state; where it has that already, nothing is touched."""
        with self._open() as book:
            book.execute(
                "UPDATE crossings SET state = ?, ended = coalesce(?, ended), "
                "story = coalesce(?, story) WHERE number = ? AND state != ?",
                (state, ended, None if story is None else json.dumps(story), number, state),
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
        if not stands(self.path):
            return []
        with self._open() as book:
            rows = book.execute(
                "SELECT number, state, started, ended, manifest, story "
                f"FROM crossings {where} ORDER BY number DESC",
                values,
            ).fetchall()
        self.unread = []
        return [one for row in rows if (one := self._record(*row)) is not None]

    def _record(self, number: int, *told: Any) -> Record | None:
        """Read one line; one that makes no sense is passed over, and noted."""
        try:
            names = ("state", "started", "ended", "manifest", "story")
            told_by = dict(zip(names, told, strict=True))
            story = json.loads(told_by["story"])
            record = convert({**told_by, "number": number, "story": story}, Record)
            convert(record.story, _Story)
        except (ValidationError, ValueError, TypeError, RecursionError):
            self.unread.append(number)
            return None
        return record
