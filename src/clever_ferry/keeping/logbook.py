"""The logbook: every crossing, from before its first change on, in one SQLite file."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from msgspec import Struct, ValidationError, convert, to_builtins
from msgspec.structs import replace

from clever_ferry.cargo import Fact
from clever_ferry.certainty import SaveLevel
from clever_ferry.errors import DamagedError, UnsupportedError
from clever_ferry.keeping.records import Time
from clever_ferry.moving.presence import stands
from clever_ferry.moving.vouched import Compared

if TYPE_CHECKING:
    import sqlite3

__all__ = [
    "Arrived",
    "Details",
    "Left",
    "Logbook",
    "MoveNote",
    "Record",
    "SaveNote",
    "Seen",
    "Side",
    "State",
]

State = Literal["begun", "proved", "put back", "undone", "unclear"]
"""`begun` is what a crossing is left in when the tool is killed; `unclear`, where the journal's
entry of it was damaged and its target is neither as it was nor as it should be."""

_STEPS = (
    """
    CREATE TABLE IF NOT EXISTS crossings (
        number   INTEGER PRIMARY KEY AUTOINCREMENT,
        state    TEXT NOT NULL,
        started  INTEGER NOT NULL,
        ended    INTEGER,
        manifest TEXT NOT NULL,
        story    TEXT NOT NULL
    )
    """,
)
"""What makes each version out of the one before it; a new file has version 0, and nothing in it.

The column `manifest` has the backup's id, and `story` the details as JSON.
"""


class Side(Struct, frozen=True):
    """One of the two places of a crossing."""

    address: str
    title: str
    root: str


class SaveNote(Struct, frozen=True):
    """A save, as a player knew it then."""

    name: str
    facts: Mapping[str, str]


class Arrived(Struct, frozen=True):
    """A carried save as its target read it back: what the game makes of it is held against that."""

    slot: int
    fields: Mapping[str, int | str]
    facts: tuple[Fact, ...]
    content: str
    """One digest of all that it holds, without its wrapping."""


class MoveNote(Struct, frozen=True):
    """One save's way; a slot is None where saves have none."""

    from_slot: int | None
    to_slot: int | None
    save: SaveNote
    replaced: SaveNote | None
    arrived: Arrived | None = None


class Left(Struct, frozen=True):
    """A file as a change has left it; removed where it has no digest."""

    path: str
    digest: str | None
    size: int
    stamp: Time = 0


class Seen(Struct, frozen=True):
    """What the game has made of all that was carried, as far as it was asked or watched."""

    loads: bool | None = None
    """Whether the game itself has loaded it; None where it was not asked."""
    launch: str = ""
    """The verdict on the first launch, as `cferry watch` names it; the worst of several saves."""
    stamp: Time = 0
    """When that was found, ns since 1970."""


class Details(Struct, frozen=True, rename={"source": "from", "target": "to"}):
    """What was carried from where to where, and how it left the target."""

    game: str
    source: Side
    target: Side
    moves: tuple[MoveNote, ...]
    kind: str = "crossing"
    shared: tuple[str, ...] = ()
    """Pieces that all saves share, which went too."""
    rebuilt: tuple[str, ...] = ()
    """Files that went, as the game makes them anew."""
    left: tuple[Left, ...] = ()
    anchor: str = ""
    """The folder that was there before: the target's root, or one above it."""
    anchor_stamp: Time = 0
    reason: str | None = None
    """Why nothing came of it."""
    seen: Seen = Seen()
    compared: Compared = "read"
    """By what the target was compared with what was sent."""


class Record(Struct, frozen=True):
    """One line of the logbook. Times are ns since 1970."""

    number: int
    state: State
    started: Time
    ended: Time | None
    backup: str
    """The id of how the target stood before, in the locker."""
    details: Details

    @property
    def what(self) -> str:
        """What it was, with its number: `crossing 4`."""
        return f"{self.details.kind} {self.number}"

    @property
    def level(self) -> SaveLevel | None:
        """The highest level that all its saves have reached; None where none is written down."""
        moves, seen = self.details.moves, self.details.seen
        if self.state != "proved" or not moves or any(one.arrived is None for one in moves):
            return None
        if seen.launch == "goes on":
            return "goes on"
        if seen.loads:
            return "loads"
        return None if self.details.compared == "size" else "same"


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
                self._bring_up(book)
                with book:
                    yield book
            finally:
                book.close()
        except sqlite3.Error as error:
            raise DamagedError(
                f"The logbook {self.path} can't be used: {error}.",
                advice="Move that file aside; backups do not depend on it.",
            ) from None

    def _bring_up(self, book: sqlite3.Connection) -> None:
        """Take the steps to today's version that are not taken yet."""
        (version,) = book.execute("PRAGMA user_version").fetchone()
        if version > len(_STEPS):
            raise UnsupportedError(
                f"A newer cferry has written the logbook {self.path}.",
                advice="Use that newer cferry; backups can be listed and restored without it.",
            )
        for number, step in enumerate(_STEPS[version:], version + 1):
            with book:
                book.execute(step)
                book.execute(f"PRAGMA user_version = {number}")

    def begin(self, *, started: int, backup: str, details: Details) -> int:
        """Write down a crossing before its first change; return its number."""
        with self._open() as book:
            row = book.execute(
                "INSERT INTO crossings (state, started, manifest, story) VALUES ('begun', ?, ?, ?)",
                (started, backup, _text(details)),
            )
            return int(row.lastrowid or 0)

    def advance(
        self,
        number: int,
        state: State,
        *,
        ended: int | None = None,
        details: Details | None = None,
    ) -> None:
        """Write down a crossing's new state; where it has that already, nothing is touched."""
        with self._open() as book:
            book.execute(
                "UPDATE crossings SET state = ?, ended = coalesce(?, ended), "
                "story = coalesce(?, story) WHERE number = ? AND state != ?",
                (state, ended, None if details is None else _text(details), number, state),
            )

    def saw(
        self, number: int, now: int, *, loads: bool | None = None, launch: str | None = None
    ) -> None:
        """Write down what the game has made of a crossing; what is None stays as it was."""
        record = self.record(number)
        if record is None:
            return
        was = record.details.seen
        seen = Seen(
            was.loads if loads is None else loads, was.launch if launch is None else launch, now
        )
        with self._open() as book:
            book.execute(
                "UPDATE crossings SET story = ? WHERE number = ? AND state = ?",
                (_text(replace(record.details, seen=seen)), number, record.state),
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

    def _record(self, number: int, *row: Any) -> Record | None:
        """Read one line; one that makes no sense is passed over, and noted."""
        state, started, ended, backup, details = row
        try:
            data = {"number": number, "state": state, "started": started, "ended": ended,
                    "backup": backup, "details": json.loads(details)}  # fmt: skip
            return convert(data, Record)
        except (ValidationError, ValueError, TypeError, RecursionError):
            self.unread.append(number)
            return None


def _text(details: Details) -> str:
    return json.dumps(to_builtins(details))
