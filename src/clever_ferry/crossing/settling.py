"""Changes whose journal's entry can't be read, or that can't be set right: what stands, what then.

Nothing is overwritten here. Where a target is as it was before, or as it should be, that is
established by comparing, and written down; where it is neither, that is said.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import PurePath

from clever_ferry.cargo import digest_of
from clever_ferry.crossing.guarding import give_free
from clever_ferry.crossing.undoing import unlike
from clever_ferry.errors import DamagedError, FerryError, UnknownNameError
from clever_ferry.keeping.journal import Entry
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.logbook import Record, State
from clever_ferry.keeping.snapshots import Snapshot
from clever_ferry.moving.files import STAGING, FolderFiles
from clever_ferry.moving.replacing import sweep_quietly
from clever_ferry.moving.shore import Shore

__all__ = ["Recovered", "cut_short", "give_up", "settle_unread"]


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


def settle_unread(
    keeps: Keeps, ident: str, error: DamagedError, clock: Callable[[], int]
) -> Recovered | None:
    """Find out what stands of a change whose entry can't be read; the entry is set aside.

    None where another process is at work on its folder.
    """
    record, snapshot = _record(keeps, ident), _snapshot(keeps, ident)
    texts = [snapshot.root] if snapshot is not None else []
    if record is not None:
        texts.append(record.details.target.root)
    what = record.what if record is not None else "a change"
    roots = [keeps.shores.folder(text) for text in texts] or _known_roots(keeps)
    lock = keeps.lock(roots[0], f"settling {what}") if roots else None
    if lock is not None and not lock.take():
        return None
    try:
        swept = [place for root in roots for place in _swept(root, ident)]
        if snapshot is None and not keeps.locker.snapshots.has(ident):
            _turn(keeps, record, "put back", clock)  # free: what has begun becomes so at the end
            kept = keeps.journal.set_aside(ident)
            if record is None and not swept:
                told = f"{error.what} It had not begun to replace anything, and is now {kept}."
                return Recovered(what, "", trouble=told)
            return Recovered(what, str(swept[0] if swept else roots[0].root))
        state = _state(keeps, record, snapshot)
        _turn(keeps, record, state, clock)
        keeps.journal.set_aside(ident)
        root = str(roots[0].root) if roots else ""
        if state != "unclear":
            return Recovered(what, root, finished=state != "put back")
        return Recovered(
            what, root,
            trouble=f"{error.what}\n{root or 'Its folder'} is neither as it was before nor as it "
            f"should be. `cferry restore {ident}` brings back what stood there; if the saves load "
            "as they are, leave it.",
        )  # fmt: skip
    finally:
        if lock is not None:
            lock.release()


def _state(keeps: Keeps, record: Record | None, snapshot: Snapshot | None) -> State:
    """Tell by comparing how a change has ended; `unclear` where the folder says neither."""
    if snapshot is None:
        return "unclear"
    files = keeps.shores.folder(snapshot.root)
    if not unlike(snapshot, files, keeps.locker):
        return "put back"
    if record is not None and record.state == "proved" and _stands(record, files):
        return "proved"
    if snapshot.kind == "undo":
        for one in keeps.logbook.records():
            if one.state == "undone" and one.details.target.root == snapshot.root:
                with suppress(DamagedError):
                    if not unlike(keeps.locker.snapshot(one.backup), files, keeps.locker):
                        return "undone"
    return "unclear"


def _stands(record: Record, files: FolderFiles) -> bool:
    """Tell whether all that a change has left is there just so."""
    for item in record.details.left:
        there = files.find(item.path) is not None
        if not there or item.digest is None:
            if there or item.digest is not None:
                return False
        elif digest_of(files.payload(item.path)) != item.digest:
            return False
    return True


def _turn(keeps: Keeps, record: Record | None, state: State, clock: Callable[[], int]) -> None:
    with suppress(DamagedError):
        if record is not None:
            keeps.logbook.advance(record.number, state, ended=clock())


def _record(keeps: Keeps, ident: str) -> Record | None:
    with suppress(DamagedError):
        return next((one for one in keeps.logbook.records() if one.backup == ident), None)
    return None


def _snapshot(keeps: Keeps, ident: str) -> Snapshot | None:
    with suppress(DamagedError):
        return keeps.locker.snapshot(ident)
    return None


def _known_roots(keeps: Keeps) -> list[FolderFiles]:
    """Return the folders that were ever written, the last one first."""
    with suppress(DamagedError):
        texts = [one.details.target.root for one in keeps.logbook.records()]
        return [keeps.shores.folder(text) for text in dict.fromkeys(texts)]
    return []


def _swept(folder: FolderFiles, ident: str) -> Iterator[PurePath]:
    """Remove what a change has staged in a folder, those above and those below it; yield where."""
    shore, waiting = folder.shore, [folder.root]
    for place in folder.root.parents:
        yield from _swept_in(shore, place, ident)
    while waiting:
        place = waiting.pop()
        yield from _swept_in(shore, place, ident)
        with suppress(OSError):
            inner = [place / name for name in shore.names(place)]
            waiting += [one for one in inner if shore.kind(one, follow=False) == "folder"]


def _swept_in(shore: Shore, place: PurePath, ident: str) -> Iterator[PurePath]:
    with suppress(OSError):
        if any(one.startswith(STAGING + ident) for one in shore.names(place)):
            sweep_quietly(shore, place, ident, None)
            yield place


def cut_short(keeps: Keeps) -> list[Entry]:
    """Return the changes that are under way by the journal, as far as it can be read."""
    found = []
    for ident in keeps.journal.open():
        with suppress(FerryError):
            entry = keeps.journal.read(ident)
            if entry is not None:
                found.append(entry)
    return found


def give_up(keeps: Keeps, number: int, clock: Callable[[], int]) -> Entry:
    """Give a change up that can't be set right: its target stays as it stands now.

    What was kept before it stays in the locker. Raises UnknownNameError where no such change is
    under way.
    """
    entry = next((one for one in cut_short(keeps) if one.number == number), None)
    if entry is None:
        raise UnknownNameError(
            f"No change {number} is cut short.", advice="`cferry log` lists all changes."
        )
    folder = keeps.shores.folder(entry.root)
    with keeps.lock(folder, f"giving up {entry.what}"):
        for place, _ in entry.stages:
            with suppress(OSError, DamagedError):
                sweep_quietly(folder.shore, folder.path_of(place), entry.id, None)
        state: State = entry.done if entry.phase == "done" else "unclear"
        if entry.phase in ("staging", "put back"):
            state = entry.before
        with suppress(DamagedError):
            keeps.logbook.advance(entry.number, state, ended=clock(), details=entry.details)
        with suppress(OSError, DamagedError):
            give_free(folder, folder.path_of(entry.anchor), entry.id)
        keeps.journal.close(entry)
    return entry
