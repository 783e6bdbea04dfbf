"""Every operation of every job fails once, in every way: nothing is ever lost.

Each case stands for one injection: an error of the system at one operation, a kill before it,
a kill in the middle of a write, or a power cut. Afterwards the next start sets things right, and
then the target must be wholly old or wholly new, the source untouched, and the locker whole.
A few of each job's operations, taken at random, are tried by default, and many more
(over 2,000 in all) with `CFERRY_TESTS=long`; `CFERRY_TESTS=all` tries every one.
"""

from __future__ import annotations

import errno
import os
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from random import Random

import pytest
from msgspec.structs import replace

from clever_ferry.api import Ferry
from clever_ferry.cargo import digest_of
from clever_ferry.crossing.restoring import Restoring
from clever_ferry.crossing.undoing import unlike
from clever_ferry.errors import FerryError
from clever_ferry.finding import described_computer
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.logbook import Record
from clever_ferry.keeping.verifying import verify
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.local import LOCAL, LocalShore
from clever_ferry.recipes import Recipes
from clever_ferry_demo.moth_lantern.editions import AnniversaryStore
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.moth_lantern.tale import begin
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from clever_ferry_demo.world import DEPOT_ACCOUNT, TERN_ACCOUNT, lay_world
from tests.conftest import DEPOT, TERN, laid, state
from tests.faulty_disk import FaultyDisk, Killed, Trouble

RECIPES = Recipes(None)
EACH = {"long": 38, "all": 10**6}.get(os.environ.get("CFERRY_TESTS", ""), 2)
State = dict[str, tuple[str, int, int]]
AGO = 7 * 10**9


def ferry_at(top: Path, shore: LocalShore = LOCAL) -> Ferry:
    computer = replace(described_computer(top / "den"), shore=shore)
    return Ferry(computer, RECIPES, Keeps(top / "own", shore=shore))


@dataclass(frozen=True)
class Job:
    """One job: what comes before it, the job itself, the berths that it writes and reads."""

    prepare: Callable[[Ferry], object]
    run: Callable[[Ferry], object]
    target: str
    source: str = ""


def cross(source: str, target: str) -> Callable[[Ferry], object]:
    return lambda ferry: ferry.carry_out(ferry.plan(source, target))


def restore(slots: str | None = None) -> Callable[[Ferry], object]:
    def run(ferry: Ferry) -> object:
        ident = next(one.id for one in ferry.backups.listed()[0] if one.kind == "backup")
        plan = ferry.backups.plan_restore(ident, slots)
        if isinstance(plan, Restoring):
            return ferry.backups.restore(plan)
        return ferry.carry_out(plan)

    return run


def kept_then(where: str, source: str, target: str) -> Callable[[Ferry], object]:
    def prepare(ferry: Ferry) -> object:
        ferry.backup(where)
        return ferry.carry_out(ferry.plan(source, target))

    return prepare


HOME = "C/Users/Wren"
CLASSIC, ANNIVERSARY, TO_FINCH, YARDS = (
    f"{HOME}/{path}"
    for path in (
        "Documents/Moth and Lantern", "Saved Games/Moth & Lantern Anniversary",
        "Documents/Pocket Finch/00471100/MOTHLANT", "Documents/My Yards/Orrery Yard/wren",
    )
)  # fmt: skip


def hidden(ferry: Ferry) -> object:
    """Have the game write a save in front of one that was carried."""
    ferry.carry_out(ferry.plan("moth-lantern/classic:1", "moth-lantern/anniversary:1"))
    assert ferry.computer.top is not None
    store = AnniversaryStore(Path(ferry.computer.top / ANNIVERSARY))
    store.save("1", begin("a try"), time.time_ns())
    return store


def tidied(ferry: Ferry) -> object:
    return ferry.tidy(*ferry.hidden("moth-lantern/anniversary"))


TO_DEPOT, TO_TERN = (f"{DEPOT}/{DEPOT_ACCOUNT}", f"{TERN}/{TERN_ACCOUNT}/saltglass")
JOBS = {
    "crossing into a folder": Job(
        lambda _: None, cross("saltglass/tern", "saltglass/depot"), TO_DEPOT, TO_TERN
    ),
    "crossing into a box": Job(
        lambda _: None, cross("saltglass/depot:3", "saltglass/tern:2"), TO_TERN, TO_DEPOT
    ),
    "undo in a folder": Job(
        cross("saltglass/tern", "saltglass/depot"),
        lambda ferry: ferry.undo(ferry.plan_undo()), TO_DEPOT, TO_TERN,
    ),
    "undo in a box": Job(
        cross("saltglass/depot", "saltglass/tern"),
        lambda ferry: ferry.undo(ferry.plan_undo()), TO_TERN, TO_DEPOT,
    ),
    "backup": Job(lambda _: None, lambda ferry: ferry.backup("saltglass"), TO_DEPOT, TO_TERN),
    "restore of a box": Job(
        kept_then("saltglass/tern", "saltglass/depot:3", "saltglass/tern:9"), restore(), TO_TERN
    ),
    "restore of a folder": Job(
        kept_then("saltglass/depot", "saltglass/tern:2", "saltglass/depot:1"), restore(), TO_DEPOT
    ),
    "restore of a slot": Job(
        kept_then("saltglass/depot", "saltglass/tern:2", "saltglass/depot:1"), restore("1"),
        TO_DEPOT,
    ),
    "crossing with a sidecar": Job(
        lambda _: None, cross("moth-lantern/classic:3", "moth-lantern/finch:1"), TO_FINCH, CLASSIC
    ),
    "tidying": Job(hidden, tidied, ANNIVERSARY, CLASSIC),
    "handover here": Job(
        lambda _: None,
        lambda ferry: ferry.carry_out(ferry.handover("orrery-yard/windows:1", "Isa").here), YARDS,
    ),
}  # fmt: skip
MODES = ("ENOSPC", "EIO", "EACCES", "stop", "kill", "tear", "power")


@pytest.fixture(scope="module")
def playground() -> Iterator[Path]:
    """A folder in memory, where the system has one: thousands of worlds are laid there."""
    memory = Path("/dev/shm")
    place = str(memory) if memory.is_dir() and os.access(memory, os.W_OK) else None
    with tempfile.TemporaryDirectory(prefix="cferry-faults-", dir=place) as name:
        yield Path(name)


@pytest.mark.long
@pytest.mark.parametrize("mode", MODES)
@pytest.mark.parametrize("name", JOBS)
def test_nothing_is_lost(
    playground: Path, name: str, mode: str, record_property: Callable[[str, object], None]
) -> None:
    job, template, top = JOBS[name], playground / "template", playground / "world"
    for old in (template, top):
        shutil.rmtree(old, ignore_errors=True)
    den = laid(lay_world, top)
    lay_moth_lantern(den)
    lay_orrery_yard(den, "wren", demo_yards())
    job.prepare(ferry_at(top))
    for path in (top / "den").rglob("*"):  # nothing is fresh, so nothing is waited for
        data = path.stat()
        os.utime(path, ns=(data.st_atime_ns, data.st_mtime_ns - AGO))
    top.rename(template)

    def lay() -> None:
        shutil.rmtree(top, ignore_errors=True)
        shutil.copytree(template, top, symlinks=True)

    lay()
    counting = Trouble(top)
    job.run(ferry_at(top, FaultyDisk(counting)))
    total, random = counting.done, Random(f"{name} {mode}")
    rounds = [n for _ in range(3 if mode == "power" else 1) for n in range(total)]
    chosen = sorted(random.sample(rounds, min(len(rounds), EACH)))
    hits = set()
    for at in chosen:
        lay()
        trouble = Trouble(top, mode, at, random)
        _one(job, top, trouble)
        hits.add(trouble.hit)
    shutil.rmtree(top)
    record_property("injections", len(chosen))
    assert len(hits) > (2 if len(chosen) > 3 else 0)


class _Watching(Trouble):
    """Sees whether all that was staged is gone for good when the journal's entry goes."""

    closed = 0

    def step(self, name: str, path: Path) -> None:
        super().step(name, path)
        if name == "unlink" and path.parent.name == "journal" and path.suffix == ".json":
            assert self.power is not None
            open_ones = [op for op in self.power.pending if ".cferry-" in str(op[1])]
            assert not open_ones, "a power cut could bring them back, with nothing to sweep them"
            self.closed += 1


@pytest.mark.parametrize("name", [name for name in JOBS if name != "backup"])
def test_what_was_staged_lasts_no_longer_than_the_journal(tmp_path: Path, name: str) -> None:
    den = laid(lay_world, tmp_path)
    lay_moth_lantern(den)
    lay_orrery_yard(den, "wren", demo_yards())
    job = JOBS[name]
    job.prepare(ferry_at(tmp_path))
    watching = _Watching(tmp_path, "power")
    job.run(ferry_at(tmp_path, FaultyDisk(watching)))
    assert watching.closed == 1


class _NoWayAcross(Trouble):
    """Renames nothing out of the folders where new files are staged, as over layers of a disk."""

    across = 0

    def step(self, name: str, path: Path) -> None:
        if name == "rename" and path.parent.name.startswith(".cferry-"):
            self.across += 1
            raise OSError(errno.EXDEV, os.strerror(errno.EXDEV), str(path))


def test_what_can_not_be_renamed_across_is_copied_and_then_renamed(tmp_path: Path) -> None:
    laid(lay_world, tmp_path)
    trouble = _NoWayAcross(tmp_path)
    JOBS["crossing into a folder"].run(ferry_at(tmp_path, FaultyDisk(trouble)))
    assert trouble.across == 8, "every new file"
    checked = ferry_at(tmp_path).check("saltglass/depot")
    assert (len(checked.saves), checked.damaged) == (3, False)
    assert not list((tmp_path / "den" / TO_DEPOT).rglob(".cferry-*"))


class _NoLastName(Trouble):
    """Fails as the name of a new snapshot is to last, and where asked, ever after."""

    for_good = False
    begun = False

    def step(self, name: str, path: Path) -> None:
        self.begun = self.begun or (name == "sync_folder" and path.name == "snapshots")
        if self.begun and (self.for_good or name == "sync_folder"):
            raise OSError(errno.EROFS, os.strerror(errno.EROFS), str(path))


def test_a_backup_whose_name_may_not_last_is_none(tmp_path: Path) -> None:
    laid(lay_world, tmp_path)
    trouble = _NoLastName(tmp_path)
    for trouble.for_good, said, kept in ((False, "was not made", 0), (True, "is not known", 1)):
        trouble.begun = False
        with pytest.raises(FerryError, match=said):
            ferry_at(tmp_path, FaultyDisk(trouble)).backup("saltglass/depot")
        assert len(ferry_at(tmp_path).backups.listed()[0]) == kept


class _NoLedger(Trouble):
    """Can't read one store's index."""

    def step(self, name: str, path: Path) -> None:
        if path.name == "hold.ledger":
            raise OSError(errno.EIO, os.strerror(errno.EIO), str(path))


def test_a_place_that_can_not_be_read_spoils_no_other(tmp_path: Path) -> None:
    laid(lay_world, tmp_path)
    made, failed = ferry_at(tmp_path, FaultyDisk(_NoLedger(tmp_path))).backup("saltglass")
    kept = [one.id for one in ferry_at(tmp_path).backups.listed()[0]]
    assert kept == [one.snapshot.id for one in made]
    assert [one.berth.address for one in failed] == ["saltglass/tern"]
    assert "nput/output error" in failed[0].error.what


def _one(job: Job, top: Path, trouble: Trouble) -> None:
    target, source = top / "den" / job.target, top / "den" / job.source
    before = state(target)
    source_before = state(source) if job.source else {}
    log = {(one.number, one.state) for one in ferry_at(top).log()}
    failed: BaseException | None = None
    done: object = None
    shore = FaultyDisk(trouble)
    try:
        done = job.run(ferry_at(top, shore))
    except (Killed, FerryError, OSError, KeyboardInterrupt) as error:
        failed = error
    shore.over()
    what = f"{trouble.mode} at {trouble.at} ({trouble.hit}): {failed!r}"
    if trouble.mode not in ("kill", "tear", "power"):
        assert not isinstance(failed, Killed), what
    ferry = ferry_at(top)
    told = ferry.recover()
    assert not any(one.trouble for one in told), (what, told)
    assert not ferry_at(top).recover(), what
    if job.source:
        assert state(source) == source_before, what
    now, turned = state(target), [one for one in ferry.log() if (one.number, one.state) not in log]
    if now != before:
        assert len(turned) == 1, f"{what}: changed, and not in the log: {_unlike(before, now)}"
        _refuse_half(ferry, turned[0], target, before, now, what)
    leftovers = list((top / "den").rglob(".cferry-*"))
    assert not leftovers, (what, leftovers)
    found = verify(ferry.keeps.locker)
    assert not found.faults, (what, found.faults)
    assert not ferry.keeps.journal.open(), what
    if job is JOBS["backup"] and not isinstance(failed, Killed | KeyboardInterrupt):
        made = done[0] if isinstance(done, tuple) else []
        kept = {one.id for one in ferry.backups.listed()[0]}
        assert kept == {one.snapshot.id for one in made}, f"{what}: kept is not what is told"


def _refuse_half(
    ferry: Ferry, record: Record, target: Path, before: State, now: State, what: str
) -> None:
    """Where the target is not as it was, it is all that the log says, and nothing else."""
    files = FolderFiles(target)
    left = record.details.left
    if record.state == "undone":
        assert not unlike(ferry.keeps.locker.snapshot(record.backup), files, ferry.keeps.locker), (
            what
        )
    else:
        assert record.state == "proved", (what, record.state)
        for item in left:
            info = files.info(item.path)
            assert (info is None) == (item.digest is None), what
            if info is not None:
                assert digest_of(files.payload(info.path)) == item.digest, what
    own = {item.path for item in left}
    for path, data in before.items():
        if path not in own and data[0] != "folder":
            assert now.get(path) == data, (what, path)


def _unlike(before: State, now: State) -> list[str]:
    return [path for path in before.keys() | now.keys() if before.get(path) != now.get(path)]
