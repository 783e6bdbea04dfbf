"""One change of a folder's files: journaled, staged, backed up, replaced, proved; or put back.

Crossings, undos and restores are all changes of this kind:

1. the journal says what is about to be changed;
2. every new file is staged beside its place and synced; meanwhile, what will be replaced
   goes into the locker;
3. a snapshot of all paths concerned is kept, and the journal says `replacing`;
4. the staged files are renamed into place, in order;
5. the caller proves the result and writes it into the logbook; the journal's entry goes.

Where a step fails, the snapshot is put back. Where the tool is killed, the next start does
it, from the journal and the locker alone (`recovering.py`).
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

from msgspec.structs import replace

from clever_ferry.crossing.progress import Progress, Tally
from clever_ferry.crossing.putting_back import put_back
from clever_ferry.errors import (
    FerryError,
    HalfDoneError,
    NotProvenError,
    PutBackError,
    RefusedError,
)
from clever_ferry.keeping.journal import Entry
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Locker, Packing, Reason
from clever_ferry.keeping.logbook import State
from clever_ferry.keeping.snapshots import Snapshot
from clever_ferry.moving import disk
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.replacing import STAGING, Replacement, Staged
from clever_ferry.tree import Output

__all__ = ["Aim", "Changed", "change", "in_words", "new_token", "refuse_full"]

T = TypeVar("T")
_WORTH_A_THREAD = 8 << 20
_MARGIN = 16 << 20
"""Bytes that are left free on any disk, for the journal, the logbook, and all else at work."""


def new_token(made: int) -> str:
    """Return an id for a change and its snapshot: the time (UTC) and six random hex digits."""
    return f"{time.strftime('%Y%m%d-%H%M%S', time.gmtime(made / 1e9))}-{os.urandom(3).hex()}"


@dataclass(frozen=True)
class Aim:
    """Which folder is to be changed, and what the records say of it."""

    files: FolderFiles
    what: str
    """In words, such as `crossing 4`."""
    number: int
    done: State
    before: State
    reason: Reason
    likely: tuple[str, ...] = ()
    """Files that will be replaced, as far as is known beforehand."""
    adding: int = 0
    """About how many bytes the new files have."""
    extra: tuple[str, ...] = ()
    """Folders whose time stamps matter though no file in them is replaced."""


@dataclass(frozen=True)
class Changed:
    """A folder as a change has left it, and how it stood before."""

    before: Snapshot
    staged: tuple[Staged, ...]
    anchor: Path
    anchor_stamp: int


def change(
    aim: Aim,
    keeps: Keeps,
    outputs: Callable[[], Iterable[Output]],
    settle: Callable[[Changed], T],
    progress: Progress,
) -> T:
    """Make a change; the folder's lock is held by the caller.

    `settle` is called once all is in its place; it proves the result and writes it down, and
    where it raises, the folder is put back. Raises PutBackError where a step failed; the
    folder is then as it was.
    """
    _refuse_at_work(aim, keeps)
    refuse_full((aim.files.root, aim.adding), (keeps.locker.folder, _size(aim)))
    entry = _entry(aim)

    def announce(place: Path, stamp: int) -> None:
        nonlocal entry
        entry = keeps.journal.staging_at(entry, place, stamp)

    with _said_in_words(aim), Replacement(aim.files, entry.id, announce=announce) as staging:
        try:
            with keeps.locker.packing(aim.what) as packing:
                keeps.journal.write(entry)
                _stage(aim, staging, packing, outputs, progress)
                before = _keep(aim, staging, packing, progress)
                staging.settle()
            entry = replace(entry, phase="replacing")
            keeps.journal.write(entry)
        except BaseException:
            staging.forget()
            _close(keeps, entry, staging)
            raise
        try:
            progress("replacing", 0, None)
            staging.commit()
            staging.discard()
            made = Changed(before, tuple(staging.staged), staging.anchor, entry.anchor_stamp)
            result = settle(made)
        except BaseException as error:
            progress("putting back", 0, None)
            staging.discard()
            _put_back_now(keeps.locker, before, entry, announce, error)
            _close(keeps, entry, staging)
            raise
        with suppress(OSError):  # all is done and written down; the next start tidies up
            _close(keeps, entry, staging)
        return result


def _close(keeps: Keeps, entry: Entry, staging: Replacement) -> None:
    """Take the journal's entry away; where something still lies about, the next start needs it."""
    if staging.clean:
        keeps.journal.close(entry)


def _entry(aim: Aim) -> Entry:
    anchor = aim.files.root
    while not anchor.exists():
        anchor = anchor.parent
    return Entry(
        aim.reason.id, aim.what, aim.number, aim.done, aim.before, str(aim.files.root),
        str(anchor), anchor.stat().st_mtime_ns,
    )  # fmt: skip


def _stage(
    aim: Aim, staging: Replacement, packing: Packing, outputs: Callable[[], Iterable[Output]],
    progress: Progress,
) -> None:  # fmt: skip
    """Stage the new files; where there is much, the old ones go into the locker meanwhile."""
    tally = Tally(progress, "reading", aim.adding or None)
    if min(_size(aim), aim.adding) < _WORTH_A_THREAD:
        for output in outputs():
            staging.stage(output, tally)
        return
    from concurrent.futures import ThreadPoolExecutor

    with ThreadPoolExecutor(1) as pool:
        taking = pool.submit(packing.take_in, aim.files, aim.likely)
        for output in outputs():
            staging.stage(output, tally)
        taking.result()


def _keep(aim: Aim, staging: Replacement, packing: Packing, progress: Progress) -> Snapshot:
    return packing.keep(
        aim.reason, aim.files, [item.path for item in staging.staged],
        dict.fromkeys([*staging.folders(), *aim.extra]),
        stamps=staging.stamps(),
        progress=Tally(progress, "backing up", None),
    )  # fmt: skip


def _put_back_now(
    locker: Locker, before: Snapshot, entry: Entry, announce: Callable[[Path, int], None],
    error: BaseException,
) -> None:  # fmt: skip
    try:
        put_back(
            locker, before, f"{entry.id}-back", Path(entry.anchor), entry.anchor_stamp, announce
        )
    except (OSError, FerryError) as second:
        reason = in_words(second) if isinstance(second, OSError) else second.what
        raise HalfDoneError(
            f"Something failed ({_first_line(error)}), and the target could not be put back yet: "
            f"{reason}",
            details=(f"Target: {before.root}", f"Backup: {before.id} in {locker.folder}"),
            advice="Do not start the game. See that the disk is there and has room; the next "
            "cferry command puts the target back.",
        ) from error


def _first_line(error: BaseException) -> str:
    if isinstance(error, OSError):
        return in_words(error)
    if isinstance(error, NotProvenError):
        return "the target does not read back as it should"
    return error.what if isinstance(error, FerryError) else str(error) or "stopped"


@contextmanager
def _said_in_words(aim: Aim) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise PutBackError(
            f"Nothing was changed: {in_words(error)}.",
            details=(f"Target: {aim.files.root}",),
            advice="The target is as it was. See that the folder may be written to and that "
            "its disk has room, then try again.",
        ) from error


def in_words(error: OSError) -> str:
    """Return what the system said, and of which file."""
    where = f" ({error.filename})" if error.filename else ""
    return f"{(error.strerror or str(error)).lower()}{where}"


def _refuse_at_work(aim: Aim, keeps: Keeps) -> None:
    """Refuse where a change was left half-way, by this ferry or by one with other records."""
    keeps.journal.refuse_open(aim.files.root)
    anchor = aim.files.root
    while not anchor.exists():
        anchor = anchor.parent
    with suppress(OSError):
        left = sorted(path.name for path in anchor.iterdir() if path.name.startswith(STAGING))
        if left:
            raise RefusedError(
                f"Another cferry, with records of its own, is at work in {anchor}, or was cut "
                "short there.",
                details=tuple(f"  {name}" for name in left[:3]),
                advice="Run any cferry command as it was run then (same user, same CFERRY_HOME): "
                "it sets this right. If that can't be, look whether the saves load, and remove "
                "that folder.",
            )


def _size(aim: Aim) -> int:
    """Return the bytes of the files that will be replaced, as far as they are known."""
    return sum(info.size for path in aim.likely if (info := aim.files.info(path)))


def refuse_full(*writes: tuple[Path, int]) -> None:
    """Refuse, before the first byte, where a disk has no room for what will be written there.

    `writes` are folders, which need not exist yet, and bytes to be written below each.
    """
    needs: dict[int, tuple[Path, int]] = {}
    for folder, count in writes:
        while not folder.exists():
            folder = folder.parent
        device = disk.device_of(folder)
        needs[device] = (folder, needs.get(device, (folder, 0))[1] + count)
    for folder, count in needs.values():
        free = disk.free_bytes(folder)
        if count + _MARGIN > free and count:
            raise RefusedError(
                "There is not enough room, so nothing was changed.",
                details=(f"{folder} needs about {count + _MARGIN:,} bytes and has {free:,} free.",),
                advice="Make room there (`cferry backup prune` removes old backups), or keep the "
                "backups on another disk with CFERRY_LOCKER=FOLDER.",
            )
