"""Setting right what a killed change has left, from the journal and the locker alone."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import PurePath

from clever_ferry.crossing.changing import follow, in_words
from clever_ferry.crossing.guarding import give_free
from clever_ferry.crossing.putting_back import put_back, refuse_gone
from clever_ferry.crossing.settling import Recovered, settle_unread
from clever_ferry.errors import DamagedError, FerryError, RefusedError
from clever_ferry.keeping.journal import Entry
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.logbook import Record
from clever_ferry.moving.claims import claim_of
from clever_ferry.moving.replacing import sweep_quietly
from clever_ferry.moving.system import undisturbed

__all__ = ["recover"]


def recover(keeps: Keeps, *, clock: Callable[[], int] = time.time_ns) -> list[Recovered]:
    """Set right what killed changes left half-way, and tell which those were.

    One that another process is at work on is left alone.
    """
    done = []
    for ident in keeps.journal.open():
        try:
            try:
                one = _recover_one(keeps, ident, clock)
            except DamagedError as error:
                one = settle_unread(keeps, ident, error, clock)
        except FerryError as error:
            one = Recovered("a change", "", trouble=str(error))
        except OSError as error:
            one = Recovered("a change", "", trouble=in_words(error))
        if one is not None:
            done.append(one)
    _close_records(keeps, clock)
    return done


def _recover_one(keeps: Keeps, ident: str, clock: Callable[[], int]) -> Recovered | None:
    entry = keeps.journal.read(ident)
    if entry is None:
        return None
    lock = keeps.lock(keeps.shores.folder(entry.root), f"setting right {entry.what}")
    if not lock.take():
        return None
    try:
        entry = keeps.journal.read(ident)  # its maker may have finished it meanwhile
        if entry is None:
            return None
        try:
            with undisturbed():
                ours = _is_ours(keeps, entry)
                entry = _set_right(keeps, entry, clock, ours)
        except OSError as error:
            return Recovered(entry.what, entry.root, trouble=in_words(error))
        except FerryError as error:
            return Recovered(entry.what, entry.root, trouble=str(error))
        return Recovered(entry.what, entry.root, entry.phase == "done")
    finally:
        lock.release()


def _is_ours(keeps: Keeps, entry: Entry) -> bool:
    """Tell whether nobody else can have changed the folder since.

    Raises RefusedError where somebody may have, and it would have to be put back.
    """
    files = keeps.shores.folder(entry.root)
    if not files.shore.capabilities.shared:
        return True
    there = claim_of(files.shore, files.path_of(entry.anchor))
    ours = there is not None and there.token == entry.id
    if not ours and entry.phase in ("replacing", "putting back"):
        raise RefusedError(
            f"{entry.root} was given free meanwhile, so another computer may have changed it, and "
            "it is left as it is.",
            advice=f"`cferry log --give-up {entry.number}` closes this; what stood there before is "
            f"in the backup {entry.id}.",
        )
    return ours


def _set_right(keeps: Keeps, entry: Entry, clock: Callable[[], int], ours: bool) -> Entry:
    """Do what the journal's entry still asks for, whatever the logbook says; then close it."""
    files = keeps.shores.folder(entry.root)
    shore = files.shore
    anchor = files.path_of(entry.anchor)

    def announce(place: PurePath, stamp: int) -> None:
        nonlocal entry
        entry = keeps.journal.staging_at(entry, shore.text(place), stamp)

    if entry.phase not in ("done", "put back"):
        refuse_gone(files, anchor)
    begun = entry.phase == "staging"
    if entry.phase == "replacing":
        entry = keeps.journal.advance(entry, "putting back")
    for place, stamp in entry.stages:
        sweep_quietly(shore, files.path_of(place), entry.id, stamp if begun and ours else None)
    if entry.phase == "putting back":
        put_back(
            keeps.locker,
            keeps.locker.snapshot(entry.id),
            files,
            f"{entry.id}-back-{os.urandom(2).hex()}",
            anchor,
            entry.anchor_stamp,
            announce,
        )
    if entry.phase in ("staging", "putting back"):
        entry = keeps.journal.advance(entry, "put back", clock())
    follow(keeps, entry)
    give_free(files, anchor, entry.id)
    keeps.journal.close(entry)
    return entry


def _close_records(keeps: Keeps, clock: Callable[[], int]) -> None:
    """Say of crossings that ended before they were in the journal that nothing was changed."""
    begun: list[Record] = []
    with suppress(FerryError):  # what needs the logbook tells of it
        begun = keeps.logbook.begun()
    for one in begun:
        with suppress(FerryError):
            lock = keeps.lock(keeps.shores.folder(one.details.target.root), "looking")
            if not lock.take():
                continue
            try:  # whoever had the lock till now may have ended it
                record = keeps.logbook.record(one.number)
                ended = record is None or record.state != "begun"
                if not ended and not keeps.journal.holds(one.backup):
                    keeps.logbook.advance(one.number, "put back", ended=clock())
            finally:
                lock.release()
