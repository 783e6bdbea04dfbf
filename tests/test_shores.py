"""A berth that is on no disk: carried to, taken back, restored, failed and killed as on one."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable
from contextlib import suppress
from copy import deepcopy
from dataclasses import dataclass
from pathlib import Path, PurePath, PurePosixPath
from random import Random

import pytest

from clever_ferry.api import Ferry
from clever_ferry.crossing.backing_up import back_up
from clever_ferry.crossing.carrying import carry_out
from clever_ferry.crossing.planning import make_plan
from clever_ferry.crossing.recovering import recover
from clever_ferry.crossing.restoring import plan_restore, restore
from clever_ferry.crossing.undoing import plan_undo, undo
from clever_ferry.errors import FerryError, NotFoundError, NotProvenError, WrongUseError
from clever_ferry.finding.berths import OpenBerth, open_berth
from clever_ferry.finding.searching import berth_at
from clever_ferry.finding.signs import Signs
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.verifying import verify
from clever_ferry.moving.shore import Capabilities, Reckoned
from clever_ferry.moving.shores import Shores
from tests.conftest import LONG, Den
from tests.faulty_disk import Killed, Trouble
from tests.memory_shore import MemoryShore

EACH = 10 if LONG else 3
ROOT = PurePosixPath("/home/isa/saves/100200300")


@dataclass
class Away:
    """The demo's depot, in memory; its own Tern and its records are on the disk."""

    den: Den
    ferry: Ferry
    shore: MemoryShore

    @property
    def keeps(self) -> Keeps:
        return Keeps(self.den.home, shores=Shores(self.shore))

    def opened(self, where: str = "") -> OpenBerth:
        if where:
            return self.ferry.slots(where, lenient=False)[0]
        game = self.ferry.recipes.game("saltglass")
        return open_berth(
            berth_at(self.ferry.computer, game, game.editions["depot"], ROOT, self.shore)
        )

    def cross(self, chosen: str = "2", slots: str | None = "1") -> None:
        plan = make_plan(
            self.opened("saltglass/tern"), self.opened(), chosen=chosen, slots=slots, given={}
        )
        carry_out(plan, self.keeps, Signs)

    def undo(self) -> None:
        undo(plan_undo(self.keeps, None, lambda _: self.opened()), self.keeps, Signs)

    def back_up(self) -> None:
        opened = self.opened()
        back_up(opened, opened.listing.saves, self.keeps, whole=True)

    def restore(self) -> None:
        latest = self.keeps.locker.latest_of(f"memory:{ROOT}")
        assert latest is not None
        restore(plan_restore(self.keeps, latest, self.opened()), self.keeps, Signs)


@pytest.fixture(
    params=[Capabilities(), Capabilities(False, 2 * 10**9, at_once=3)], ids=["able", "poor"]
)
def away(den: Den, request: pytest.FixtureRequest) -> Away:
    """Once as on a good disk; once where no rename takes a place, and times have two seconds."""
    shore = MemoryShore(capabilities=request.param)
    shore.take_in(den.depot, ROOT)
    return Away(den, den.ferry(), shore)


def test_a_berth_on_no_disk_is_written_as_its_game_reads_it(away: Away) -> None:
    before = away.shore.state()
    away.back_up()
    away.cross()
    now = away.shore.state()
    away.shore.give_out(ROOT, away.den.depot)
    assert "Saltmarsh, day 31" in away.den.loads("depot", 1)
    with pytest.raises(WrongUseError, match="onto itself"):
        make_plan(away.opened(), away.opened(), chosen="1", slots="1", given={})
    away.undo()
    assert away.shore.state() == before
    away.cross()
    assert away.shore.state().keys() == now.keys()
    away.restore()
    assert away.shore.state() == before
    assert [one.details.target.root for one in away.keeps.logbook.records()] == [
        f"memory:{ROOT}"
    ] * 3


def test_files_are_listed_in_order(away: Away) -> None:
    found = away.opened().berth.folder.walk(lambda _: True)
    folders = list(dict.fromkeys(info.path.rpartition("/")[0] for info in found))
    assert len(folders) > 4
    assert folders == sorted(folders)


def test_a_shore_that_is_not_at_hand_is_said(away: Away) -> None:
    away.cross()
    keeps = Keeps(away.den.home)
    with pytest.raises(NotFoundError, match="Nothing here can reach memory:"):
        plan_undo(keeps, None, lambda _: None)


def test_a_game_that_writes_there_is_waited_for_by_its_own_clock(away: Away) -> None:
    name = next(path for path in away.shore.things if path.name == "world.sgw")
    away.shore.things[name].stamp = stamp = away.shore.now()
    away.cross()
    assert away.shore.now() - stamp >= 2 * 10**9


def right(data: bytes) -> Reckoned:
    return Reckoned("sha256", hashlib.sha256(data).hexdigest())


def wrong(data: bytes) -> Reckoned:
    return Reckoned("md5", "0" * 32)


@pytest.mark.parametrize(("reckons", "quick", "spoils", "said"), [
    (None, False, False, "read"), (None, True, False, "size"), (right, False, False, "digest"),
    (right, True, False, "digest"), (wrong, True, False, "read"), (None, True, True, "size"),
    (None, False, True, None), (right, False, True, None), (right, True, True, None),
    (wrong, True, True, None),
])  # fmt: skip
def test_what_a_server_vouches_for_is_not_read_back(
    den: Den, reckons: Callable[[bytes], Reckoned] | None, quick: bool, spoils: bool,
    said: str | None,
) -> None:  # fmt: skip
    """By its digest, or by size if the user wants that; a digest that differs has it read."""
    shore = MemoryShore(capabilities=Capabilities(shared=True))
    shore.take_in(den.depot, ROOT)
    away = Away(den, den.ferry(), shore)
    before, asked, read = shore.state(), list[PurePath](), list[Path]()

    def answer(path: PurePath) -> Reckoned | None:
        asked.append(path)
        thing = shore.things[PurePosixPath(path)]
        assert thing.data
        if spoils and path.name == "world.sgw":
            thing.data = thing.data[:-1] + bytes([thing.data[-1] ^ 1])
        return reckons(thing.data) if reckons is not None else None

    def step(name: str, path: Path) -> None:
        if asked and name == "open":
            read.append(path)

    plan = make_plan(away.opened("saltglass/tern"), away.opened(), chosen="2", slots="1", given={})
    shore.reckons, shore.step = answer, step
    if said is None:
        with pytest.raises(NotProvenError):
            carry_out(plan, away.keeps, Signs, quick=quick)
        assert shore.state() == before
        return
    done = carry_out(plan, away.keeps, Signs, quick=quick)
    assert done.compared == said
    there = {str(one) for one in read}.intersection(map(str, asked))
    assert there == ({str(one) for one in asked} if said == "read" else set())
    assert away.keeps.logbook.records()[0].level == (None if said == "size" else "same")


def kept_then_crossed(away: Away) -> None:
    away.back_up()
    away.cross()


JOBS: dict[str, tuple[Callable[[Away], None], Callable[[Away], None]]] = {
    "crossing": (lambda away: None, Away.cross),
    "undo": (Away.cross, Away.undo),
    "restore": (kept_then_crossed, Away.restore),
}


@pytest.mark.long
@pytest.mark.parametrize("mode", ["EIO", "stop", "kill"])
@pytest.mark.parametrize("name", JOBS)
def test_a_fault_there_loses_nothing(away: Away, tmp_path: Path, name: str, mode: str) -> None:
    prepare, job = JOBS[name]
    prepare(away)
    home, template, there = away.den.home, tmp_path / "template", deepcopy(away.shore.things)
    home.mkdir(exist_ok=True)
    shutil.copytree(home, template)
    before, count = away.shore.state(), Trouble(tmp_path)
    lines = [(one.number, one.state) for one in away.keeps.logbook.records()]
    away.shore.step = count.step
    job(away)
    after, changed = away.shore.state(), 0
    for at in Random(f"{name} {mode}").sample(range(count.done), EACH):
        shutil.rmtree(home)
        shutil.copytree(template, home)
        trouble = Trouble(tmp_path, mode, at)
        away.shore = MemoryShore(trouble.step, away.shore.capabilities)
        away.shore.things = deepcopy(there)
        with suppress(Killed, FerryError, OSError, KeyboardInterrupt):
            job(away)
        away.shore.step = lambda name, path: None
        assert not any(one.trouble for one in recover(away.keeps)), trouble.hit
        now = away.shore.state()
        assert not away.keeps.journal.open(), trouble.hit
        assert not verify(away.keeps.locker).faults
        if now == before:
            continue
        changed += 1
        newer = [
            one for one in away.keeps.logbook.records() if (one.number, one.state) not in lines
        ]
        assert [one.state in ("proved", "undone") for one in newer] == [True], trouble.hit
        assert now.keys() == after.keys(), trouble.hit
        assert [one[0] for one in now.values()] == [one[0] for one in after.values()], trouble.hit
    assert changed < EACH
