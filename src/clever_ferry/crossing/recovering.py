"""Setting right what a killed change has left, from the journal and the locker alone."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from clever_ferry.crossing.changing import in_words
from clever_ferry.crossing.putting_back import put_back, refuse_gone
from clever_ferry.errors import DamagedError, FerryError
from clever_ferry.keeping.journal import Entry
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.moving import disk
from clever_ferry.moving.replacing import sweep

__all__ = ["Recovered", "recover"]


@dataclass(frozen=True)
class Recovered:
    """A change that was cut short, and what became of it."""

    what: str
    """In words, such as `crossing 4`."""
    root: str
    finished: bool = False
    """It had been proved already, and is done; else its target is as it was before."""
    trouble: str = ""
    """Why it could not be set right yet."""


def recover(keeps: Keeps, *, clock: Callable[[], int] = time.time_ns) -> list[Recovered]:
    """Set right what killed changes left half-way, and tell which those were.

    One that another process is at work on is left alone.
    """
    idents = keeps.journal.open()
    done = [one for ident in idents if (one := _recover_one(keeps, ident, clock))]
    _close_records(keeps, clock)
    return done


def _recover_one(keeps: Keeps, ident: str, clock: Callable[[], int]) -> Recovered | None:
    try:
        entry = keeps.journal.read(ident)
    except DamagedError as error:
        return Recovered("A change", "", trouble=str(error))
    if entry is None:
        return None
    lock = keeps.lock(Path(entry.root), f"setting right {entry.what}")
    if not lock.take():
        return None
    try:
        entry = keeps.journal.read(ident)  # its maker may have finished it meanwhile
        if entry is None:
            return None
        finished = _is_done(keeps, entry)
        try:
            _set_right(keeps, entry, finished)
        except OSError as error:
            return Recovered(entry.what, entry.root, trouble=in_words(error))
        except FerryError as error:
            return Recovered(entry.what, entry.root, trouble=str(error))
        if not finished:
            with suppress(DamagedError):
                keeps.logbook.turn(entry.number, entry.before, ended=clock())
        keeps.journal.close(entry)
        return Recovered(entry.what, entry.root, finished)
    finally:
        lock.release()


def _is_done(keeps: Keeps, entry: Entry) -> bool:
    """Tell whether the change was proved and written down; an unreadable logbook says nothing."""
    with suppress(DamagedError):
        record = keeps.logbook.record(entry.number)
        return record is not None and record.state == entry.done
    return False


def _set_right(keeps: Keeps, entry: Entry, finished: bool) -> None:
    anchor = Path(entry.anchor)

    def announce(place: Path, stamp: int) -> None:
        nonlocal entry
        entry = keeps.journal.staging_at(entry, place, stamp)

    refuse_gone(anchor)
    for place, _ in entry.stages:
        if not sweep(Path(place), entry.id):
            raise OSError(None, "what was staged can't be removed", place)
    if finished:
        return
    if entry.phase == "staging":
        for place, stamp in entry.stages:
            if Path(place).is_dir():
                disk.set_times(Path(place), stamp)
        return
    put_back(
        keeps.locker,
        keeps.locker.snapshot(entry.id),
        f"{entry.id}-back-{os.urandom(2).hex()}",
        anchor,
        entry.anchor_stamp,
        announce,
    )


def _close_records(keeps: Keeps, clock: Callable[[], int]) -> None:
    """Say of crossings that ended before they were in the journal that nothing was changed."""
    with suppress(DamagedError):
        begun = keeps.logbook.begun()
        if not begun:
            return
        open_now = set(keeps.journal.open())
        for record in begun:
            lock = keeps.lock(Path(record.story["to"]["root"]), "looking")
            if record.manifest not in open_now and lock.take():
                lock.release()
                keeps.logbook.turn(record.number, "put back", ended=clock())
