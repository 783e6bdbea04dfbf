"""One change of a folder's files: journaled, staged, backed up, replaced, proved; or put back.

Crossings, undos and restores are all changes of this kind:

1. the journal says what is about to be changed;
2. every new file is staged beside its place and synced; meanwhile, what will be replaced
   goes into the locker;
3. a snapshot of all paths concerned is kept, and the journal says `replacing`;
4. the staged files are renamed into place, in order;
5. the caller proves the result, and the journal says `done`: from here on it is;
6. the logbook says so, too, and the journal's entry goes.

Where a step before 5 fails, the journal says `putting back`, the snapshot is put back, the journal
says `put back`, the logbook follows, and the entry goes. Where the tool is killed, the next start
goes on from what the journal says, whatever the logbook does (`recovering.py`).
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

from msgspec.structs import replace

from clever_ferry.crossing.progress import Progress, Tally
from clever_ferry.crossing.putting_back import put_back
from clever_ferry.errors import (
    DamagedError,
    FerryError,
    HalfDoneError,
    NotProvenError,
    PutBackError,
    RefusedError,
)
from clever_ferry.keeping.journal import Entry, Phase
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Packing, Reason
from clever_ferry.keeping.logbook import State
from clever_ferry.keeping.snapshots import Snapshot
from clever_ferry.moving import disk
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.presence import stands
from clever_ferry.moving.replacing import STAGING, Replacement, Staged
from clever_ferry.moving.system import undisturbed
from clever_ferry.tree import Output

__all__ = ["Aim", "Changed", "change", "follow", "in_words", "new_token", "refuse_full"]

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
    story: dict[str, Any] | None = None
    """What the logbook tells of it; what the change has left is added. None leaves it as it is."""
    exact: bool = False
    """Whether a fault of the disk at an attribute is a failure; else it is only told."""


@dataclass(frozen=True)
class Changed:
    """A folder as a change has left it, and how it stood before."""

    before: Snapshot
    staged: tuple[Staged, ...]
    anchor: Path
    anchor_stamp: int
    unkept: tuple[str, ...] = ()
    """Attributes that new files should have and could not be given, in words."""
    excused: frozenset[str] = frozenset()
    """The files of these, where nobody could have given them here."""


def change(
    aim: Aim,
    keeps: Keeps,
    outputs: Callable[[], Iterable[Output]],
    settle: Callable[[Changed], T],
    progress: Progress,
    clock: Callable[[], int] = time.time_ns,
) -> T:
    """Make a change; the folder's lock is held by the caller.

    `settle` is called once all is in its place; it proves the result, and where it raises, the
    folder is put back. Raises PutBackError where a step failed; the folder is then as it was.
    Raises HalfDoneError where it could not be put back yet, or the records could not say so.
    """
    _refuse_at_work(aim, keeps)
    refuse_full((aim.files.root, aim.adding), (keeps.locker.folder, _size(aim)))
    under = _UnderWay(aim, keeps, _entry(aim), clock)
    token = under.entry.id
    with _said_in_words(aim), Replacement(aim.files, token, announce=under.announce) as staging:
        try:
            with keeps.locker.packing(aim.what) as packing:
                keeps.journal.write(under.entry)
                staging.claim()
                _refuse_another(aim, token)
                _stage(aim, staging, packing, outputs, progress)
                before = _keep(aim, staging, packing, progress)
                staging.settle()
            if aim.exact and staging.failing:
                raise OSError(None, "; ".join(staging.unkept))
            under.turn("replacing")
        except BaseException as error:
            with undisturbed():
                staging.forget()
                under.end_as_before(staging, error)
            raise
        try:
            progress("replacing", 0, None)
            staging.commit()
            staging.discard()
            made = Changed(
                before, tuple(staging.staged), staging.anchor, under.entry.anchor_stamp,
                tuple(staging.unkept), frozenset(staging.excused),
            )  # fmt: skip
            result = settle(made)
            with undisturbed():
                under.turn("done", made)
                under.write_down(staging)
        except BaseException as error:
            if under.entry.phase != "done":
                with undisturbed():
                    with suppress(OSError):
                        progress("putting back", 0, None)
                    staging.discard()
                    under.put_back(before, staging, error)
            raise
        return result


class _UnderWay:
    """A change between its first record and its last."""

    def __init__(self, aim: Aim, keeps: Keeps, entry: Entry, clock: Callable[[], int]) -> None:
        self.aim, self.keeps, self.entry, self._clock = aim, keeps, entry, clock

    def announce(self, place: Path, stamp: int) -> None:
        """Write down that files are staged at one more place."""
        self.entry = self.keeps.journal.staging_at(self.entry, place, stamp)

    def turn(self, phase: Phase, made: Changed | None = None) -> None:
        """Write down that the change is one phase further, `done` with what it has left."""
        story = None
        if made is not None and self.aim.story is not None:
            story = {**self.aim.story, **_left(made)}
        ended = self._clock() if phase in ("done", "put back") else None
        self.entry = self.keeps.journal.turn(self.entry, phase, ended, story)

    def write_down(self, staging: Replacement) -> None:
        """Have the logbook follow the journal; what of it fails, the next start does."""
        with suppress(OSError, DamagedError):
            follow(self.keeps, self.entry)
            if staging.clean:
                self.keeps.journal.close(self.entry)

    def end_as_before(self, staging: Replacement, error: BaseException) -> None:
        """Write down that nothing was changed, or all was put back, and why."""
        entry = replace(self.entry, ended=self.entry.ended or self._clock())
        if self.aim.story is not None:
            entry = replace(entry, story={**self.aim.story, "reason": _first_line(error)})
        logged = closed = False
        with suppress(OSError, DamagedError):
            follow(self.keeps, entry)
            logged = True
        if logged and staging.clean:
            with suppress(OSError):
                self.keeps.journal.close(entry)
                closed = True
        if not closed and self._says() == "replacing":
            raise HalfDoneError(
                f"Something failed ({_first_line(error)}). The target is as it was, but the "
                "records can't be written.",
                details=(f"Target: {self.entry.root}", f"Records: {self.keeps.folder}"),
                advice="Do not start the game before a cferry command has put that right: see "
                "that the disk is there and has room, then run `cferry log`.",
            ) from error

    def put_back(self, before: Snapshot, staging: Replacement, error: BaseException) -> None:
        """Bring the target back; the journal says so before, and after."""
        try:
            self.turn("putting back")
        except OSError:
            if self._says() not in ("replacing", "putting back"):  # a start would not put it back
                raise self._half(before, error, "the records can't be written") from error
        entry = self.entry
        try:
            put_back(
                self.keeps.locker, before, f"{entry.id}-back", Path(entry.anchor),
                entry.anchor_stamp, self.announce,
            )  # fmt: skip
        except (OSError, FerryError) as second:
            reason = in_words(second) if isinstance(second, OSError) else second.what
            raise self._half(before, error, reason) from error
        try:
            self.turn("put back")
        except OSError as second:
            if self._says() != "put back":
                raise self._half(before, error, in_words(second)) from error
        self.end_as_before(staging, error)

    def _says(self) -> str:
        """Return the phase that the journal gives to a start that would come now."""
        try:
            entry = self.keeps.journal.read(self.entry.id)
        except FerryError:
            return "unread"
        return entry.phase if entry is not None else "none"

    def _half(self, before: Snapshot, error: BaseException, reason: str) -> HalfDoneError:
        return HalfDoneError(
            f"Something failed ({_first_line(error)}), and the target could not be put back yet: "
            f"{reason}",
            details=(
                f"Target: {before.root}", f"Backup: {before.id} in {self.keeps.locker.folder}"
            ),
            advice="Do not start the game. See that the disk is there and has room; the next "
            "cferry command sets it right.",
        )  # fmt: skip


def follow(keeps: Keeps, entry: Entry) -> None:
    """Have the logbook say what the journal's entry does; raises DamagedError where it can't."""
    state = entry.done if entry.phase == "done" else entry.before
    keeps.logbook.turn(entry.number, state, ended=entry.ended, story=entry.story)


def _left(made: Changed) -> dict[str, Any]:
    """Return what the logbook keeps of how a change has left a folder."""
    left = [
        {"path": item.path, "digest": item.digest, "size": item.size, "stamp": item.stamp}
        for item in made.staged
    ]
    return {"left": left, "anchor": str(made.anchor), "anchor_stamp": made.anchor_stamp}


def _entry(aim: Aim) -> Entry:
    anchor = aim.files.root
    while not stands(anchor):
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
    _refuse_another(aim, "\0")


def _refuse_another(aim: Aim, own: str) -> None:
    """Refuse where another ferry has a staging folder; both look again once they have made one."""
    anchor = aim.files.root
    while not stands(anchor):
        anchor = anchor.parent
    with suppress(PermissionError):  # which says more where something is to be written
        left = sorted(
            path.name
            for path in anchor.iterdir()
            if path.name.startswith(STAGING) and own not in path.name
        )
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
        while not stands(folder):
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
