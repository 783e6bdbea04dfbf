"""One change of a folder's files: journaled, staged, backed up, replaced, proved; or put back.

Crossings, undos, restores and tidyings are all changes of this kind, and nothing is changed but by
`make_change`, which takes the same steps for each:

1. nobody is at work on the folder: its game does not run, no other ferry is there, no earlier
   change was cut short, no file is being written, and all stands as it was planned on;
2. the logbook gets a line, and the journal says what is about to be changed;
3. every new file is staged beside its place and synced; meanwhile, what will be replaced
   goes into the locker;
4. a snapshot of all paths concerned is kept, and the journal says `replacing`;
5. the staged files are renamed into place, in order;
6. the result is proved, and the journal says `done`: from here on it is;
7. the logbook says so, too, and the journal's entry goes.

Where a step before 6 fails, the journal says `putting back`, the snapshot is put back, the journal
says `put back`, the logbook follows, and the entry goes. Where the tool is killed, the next start
goes on from what the journal says, whatever the logbook does (`recovering.py`).
"""

from __future__ import annotations

import os
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import PurePath
from typing import Generic, TypeVar

from msgspec.structs import replace

from clever_ferry.crossing.guarding import (
    AtWork,
    await_quiet,
    give_free,
    held,
    refuse_busy,
    take_claim,
)
from clever_ferry.crossing.progress import Progress, Tally
from clever_ferry.crossing.putting_back import put_back, refuse_gone
from clever_ferry.errors import (
    FerryError,
    HalfDoneError,
    NotProvenError,
    PutBackError,
    RefusedError,
)
from clever_ferry.keeping.journal import Entry, Phase
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Packing, Reason
from clever_ferry.keeping.logbook import Details, Left, State
from clever_ferry.keeping.snapshots import Snapshot
from clever_ferry.moving.claims import CLAIM
from clever_ferry.moving.files import STAGING, FolderFiles
from clever_ferry.moving.replacing import Replacement, Staged
from clever_ferry.moving.shore import Shore, anchor_of
from clever_ferry.moving.system import undisturbed
from clever_ferry.tree import Output

__all__ = [
    "Change",
    "Outcome",
    "Request",
    "follow",
    "in_words",
    "make_change",
    "new_token",
    "refuse_full",
]

T = TypeVar("T")
_WORTH_A_THREAD = 8 << 20
_MARGIN = 16 << 20
"""Bytes that are left free on any disk, for the journal, the logbook, and all else at work."""


def new_token(made: int) -> str:
    """Return an id for a change and its snapshot: the time (UTC) and six random hex digits."""
    return f"{time.strftime('%Y%m%d-%H%M%S', time.gmtime(made / 1e9))}-{os.urandom(3).hex()}"


@dataclass(frozen=True)
class Request:
    """Which folder is to be changed, and what the records say of it."""

    files: FolderFiles
    doing: str
    """In words, such as `carrying A to B`."""
    watched: tuple[str, ...]
    """Files that nobody may be writing just now."""
    reason: Reason
    details: Details | None
    """What a new line of the logbook tells; what the change has left is added. None where the
    change concerns the line `number`."""
    number: int = 0
    done: State = "proved"
    before: State = "put back"
    likely: tuple[str, ...] = ()
    """Files that will be replaced, as far as is known beforehand."""
    adding: int = 0
    """About how many bytes the new files have."""
    extra: tuple[str, ...] = ()
    """Folders whose time stamps matter though no file in them is replaced."""
    exact: bool = False
    """Whether a fault of the disk at an attribute is a failure; else it is only told."""


@dataclass(frozen=True)
class Outcome:
    """A folder as a change has left it, and how it stood before."""

    number: int
    """The logbook's."""
    before: Snapshot
    staged: tuple[Staged, ...]
    anchor: PurePath
    anchor_stamp: int
    unkept: tuple[str, ...] = ()
    """Attributes that new files should have and could not be given, in words."""
    excused: frozenset[str] = frozenset()
    """The files of these, where nobody could have given them here."""


class Change(ABC, Generic[T]):
    """What is done to one folder; `make_change` calls its steps in this order, under its lock."""

    request: Request

    @abstractmethod
    def refuse_changed(self) -> None:
        """Raise a FerryError where the folder is not as the change was planned on."""

    @abstractmethod
    def outputs(self) -> Iterable[Output]:
        """Yield the new files, and what is to go."""

    @abstractmethod
    def prove(self, outcome: Outcome) -> T:
        """Return what has come of it; raise NotProvenError where it does not read back as such.

        Whatever is raised here has the folder put back.
        """

    def told(self, details: Details, result: T) -> Details:
        """Return what the logbook tells of it, with what has come of it."""
        return details


def make_change(
    change: Change[T],
    keeps: Keeps,
    at_work: AtWork,
    progress: Progress,
    clock: Callable[[], int] = time.time_ns,
) -> T:
    """Make a change.

    Raises RefusedError where somebody is at work on the folder, and PutBackError where a step
    failed; the folder is then as it was. Raises HalfDoneError where it could not be put back yet,
    or the records could not say so.
    """
    request = change.request
    refuse_busy(at_work())
    with (
        held(keeps, request.files, request.doing),
        _said_in_words(request),
    ):
        if not request.files.shore.capabilities.shared:
            _settle(change, keeps)
        with _line(request, keeps, clock) as number:
            return _replace(change, number, keeps, progress, clock)


def _settle(change: Change[T], keeps: Keeps) -> None:
    """Wait until nothing is being written, and see that all stands as the change was planned on."""
    request = change.request
    await_quiet(request.files, request.watched, _left_by_us(keeps, request.files))
    change.refuse_changed()


def _left_by_us(keeps: Keeps, folder: FolderFiles) -> dict[str, int]:
    """Return the files that the last change of a folder has left, with their time stamps."""
    for record in keeps.logbook.records():
        if record.details.target.root == folder.text:
            return {item.path: item.stamp for item in record.details.left}
    return {}


@contextmanager
def _line(request: Request, keeps: Keeps, clock: Callable[[], int]) -> Iterator[int]:
    """Begin a line of the logbook; where the work fails before its change, that is written down.

    Once the journal has an entry, the change itself has the line follow that.
    """
    details, token = request.details, request.reason.id
    if details is None:
        yield request.number
        return
    number = keeps.logbook.begin(started=request.reason.made, backup=token, details=details)
    try:
        yield number
    except BaseException as error:
        with undisturbed(), suppress(FerryError):
            record = keeps.logbook.record(number)
            if record is not None and record.state == "begun" and not keeps.journal.holds(token):
                failed = replace(details, reason=_first_line(error))
                keeps.logbook.advance(number, "put back", ended=clock(), details=failed)
        raise


def _replace(
    change: Change[T], number: int, keeps: Keeps, progress: Progress, clock: Callable[[], int]
) -> T:
    request = change.request
    _refuse_another(request, "\0")
    locker = FolderFiles(keeps.locker.folder, shore=keeps.shore)
    refuse_full((request.files, request.adding), (locker, _size(request)))
    under = _UnderWay(request, keeps, _entry(request, number), clock)
    token = under.entry.id
    with (
        _said_in_words(request),
        Replacement(request.files, token, announce=under.announce) as staging,
    ):
        try:
            with keeps.locker.packing(under.entry.what) as packing:
                keeps.journal.write(under.entry)
                if request.files.shore.capabilities.shared:
                    take_claim(keeps, request.files, staging.anchor, token, under.entry.what)
                    _settle(change, keeps)
                staging.claim()
                _refuse_another(request, token)
                _stage(change, staging, packing, progress)
                before = _keep(request, staging, packing, progress)
                refuse_gone(request.files, staging.anchor)  # else all would count as absent
                staging.flush()
            if request.exact and staging.failing:
                raise OSError(None, "; ".join(staging.unkept))
            under.advance("replacing")
        except BaseException as error:
            with undisturbed():
                staging.forget()
                under.end_as_before(staging, error)
            raise
        try:
            progress("replacing", 0, None)
            staging.commit()
            staging.discard()
            outcome = Outcome(
                number, before, tuple(staging.staged), staging.anchor, under.entry.anchor_stamp,
                tuple(staging.unkept), frozenset(staging.excused),
            )  # fmt: skip
            result = change.prove(outcome)
            with undisturbed():
                under.advance("done", outcome, lambda details: change.told(details, result))
                under.write_down(staging)
        except BaseException as error:
            if under.entry.phase != "done":
                with undisturbed():
                    with suppress(OSError):
                        progress("putting back", 0, None)  # free: it only shows
                    staging.discard()
                    under.put_back(before, staging, error)
            raise
        return result


class _UnderWay:
    """A change between its first record and its last."""

    def __init__(
        self, request: Request, keeps: Keeps, entry: Entry, clock: Callable[[], int]
    ) -> None:
        self.request, self.keeps, self.entry, self._clock = request, keeps, entry, clock

    def announce(self, place: PurePath, stamp: int) -> None:
        """Write down that files are staged at one more place."""
        self.entry = self.keeps.journal.staging_at(self.entry, self._text(place), stamp)

    def _text(self, place: PurePath) -> str:
        return self.request.files.shore.text(place)

    def advance(
        self,
        phase: Phase,
        outcome: Outcome | None = None,
        told: Callable[[Details], Details] = lambda details: details,
    ) -> None:
        """Write down that the change is one phase further, `done` with what it has left."""
        details = None
        if outcome is not None and self.request.details is not None:
            left = tuple(Left(at.path, at.digest, at.size, at.stamp) for at in outcome.staged)
            details = replace(
                told(self.request.details), left=left, anchor=self._text(outcome.anchor),
                anchor_stamp=outcome.anchor_stamp,
            )  # fmt: skip
        ended = self._clock() if phase in ("done", "put back") else None
        self.entry = self.keeps.journal.advance(self.entry, phase, ended, details)

    def write_down(self, staging: Replacement) -> None:
        """Have the logbook follow the journal; what of it fails, the next start does."""
        with suppress(OSError, FerryError):
            follow(self.keeps, self.entry)
            if staging.clean:
                give_free(self.request.files, staging.anchor, self.entry.id)
                self.keeps.journal.close(self.entry)

    def end_as_before(self, staging: Replacement, error: BaseException) -> None:
        """Write down that nothing was changed, or all was put back, and why."""
        entry = replace(self.entry, ended=self.entry.ended or self._clock())
        if self.request.details is not None:
            failed = replace(self.request.details, reason=_first_line(error))
            entry = replace(entry, details=failed)
        logged = closed = False
        with suppress(OSError, FerryError):
            follow(self.keeps, entry)
            logged = True
        if logged and staging.clean:
            with suppress(OSError):
                give_free(self.request.files, staging.anchor, entry.id)
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
            self.advance("putting back")
        except OSError:
            if self._says() not in ("replacing", "putting back"):  # a start would not put it back
                raise self._half(before, error, "the records can't be written") from error
        entry = self.entry
        try:
            put_back(
                self.keeps.locker, before, self.request.files, f"{entry.id}-back", staging.anchor,
                entry.anchor_stamp, self.announce,
            )  # fmt: skip
        except (OSError, FerryError) as second:
            reason = in_words(second) if isinstance(second, OSError) else second.what
            raise self._half(before, error, reason) from error
        try:
            self.advance("put back")
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
    keeps.logbook.advance(entry.number, state, ended=entry.ended, details=entry.details)


def _entry(request: Request, number: int) -> Entry:
    files = request.files
    anchor = anchor_of(files.shore, files.root)
    node = files.shore.node(anchor)
    what = request.doing
    if request.details is not None:
        what = f"{request.details.kind} {number}"
    return Entry(
        request.reason.id, what, number, request.done, request.before, files.text,
        files.shore.text(anchor), node.stamp if node is not None else 0,
    )  # fmt: skip


def _stage(change: Change[T], staging: Replacement, packing: Packing, progress: Progress) -> None:
    """Stage the new files; where there is much, the old ones go into the locker meanwhile."""
    request = change.request
    tally = Tally(progress, "reading", request.adding or None)
    if min(_size(request), request.adding) < _WORTH_A_THREAD:
        for output in change.outputs():
            staging.stage(output, tally)
        return
    from concurrent.futures import ThreadPoolExecutor

    with ThreadPoolExecutor(1) as pool:  # free: one job, so more threads do no more
        taking = pool.submit(packing.take_in, request.files, request.likely)
        for output in change.outputs():
            staging.stage(output, tally)
        taking.result()


def _keep(request: Request, staging: Replacement, packing: Packing, progress: Progress) -> Snapshot:
    return packing.keep(
        request.reason, request.files, [item.path for item in staging.staged],
        dict.fromkeys([*staging.folders(), *request.extra]),
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
def _said_in_words(request: Request) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise PutBackError(
            f"Nothing was changed: {in_words(error)}.",
            details=(f"Target: {request.files.root}",),
            advice="The target is as it was. See that the folder may be written to and that "
            "its disk has room, then try again.",
        ) from error


def in_words(error: OSError) -> str:
    """Return what the system said, and of which file."""
    where = f" ({error.filename})" if error.filename else ""
    return f"{(error.strerror or str(error)).lower().rstrip('.')}{where}"


def _refuse_another(request: Request, own: str) -> None:
    """Refuse where another ferry has a staging folder; both look again once they have made one."""
    shore = request.files.shore
    anchor = anchor_of(shore, request.files.root)
    with suppress(PermissionError):  # which says more where something is to be written
        left = [
            name
            for name in shore.names(anchor)
            if name.startswith(STAGING) and own not in name and name != CLAIM  # which is ours
        ]
        if left:
            raise RefusedError(
                f"Another cferry, with records of its own, is at work in {anchor}, or was cut "
                "short there.",
                details=tuple(f"  {name}" for name in left[:3]),
                advice="Run any cferry command as it was run then (same user, same CFERRY_HOME): "
                "it sets this right. If that can't be, look whether the saves load, and remove "
                "that folder.",
            )


def _size(request: Request) -> int:
    """Return the bytes of the files that will be replaced, as far as they are known."""
    return sum(info.size for path in request.likely if (info := request.files.info(path)))


def refuse_full(*writes: tuple[FolderFiles, int]) -> None:
    """Refuse, before the first byte, where a disk has no room for what will be written there.

    `writes` are folders, which need not exist yet, and bytes to be written below each.
    """
    needs: dict[tuple[Shore, int], tuple[PurePath, int]] = {}
    for files, count in writes:
        folder = anchor_of(files.shore, files.root)
        volume = files.shore, files.shore.volume_of(folder)
        needs[volume] = (folder, needs.get(volume, (folder, 0))[1] + count)
    for (shore, _), (folder, count) in needs.items():
        free = shore.free_bytes(folder)
        if free is not None and count + _MARGIN > free and count:
            raise RefusedError(
                "There is not enough room, so nothing was changed.",
                details=(f"{folder} needs about {count + _MARGIN:,} bytes and has {free:,} free.",),
                advice="Make room there (`cferry backup prune` removes old backups), or keep the "
                "backups on another disk with CFERRY_LOCKER=FOLDER.",
            )
