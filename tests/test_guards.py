"""Guards before writing: who else writes, room on the disk, what is never touched, attributes."""

from __future__ import annotations

import os
import re
import shutil
import stat
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace

import pytest

from clever_ferry.crossing.guarding import await_quiet
from clever_ferry.crossing.restoring import Restoring
from clever_ferry.errors import FerryError, HalfDoneError, NotMadeError, PutBackError, RefusedError
from clever_ferry.keeping.locker import Locker
from clever_ferry.keeping.verifying import verify
from clever_ferry.moving import disk
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.local import LOCAL, LocalShore
from clever_ferry.moving.system import WriteLock
from clever_ferry_demo.world import DEPOT_ACCOUNT
from tests.conftest import Den, run_module, state

CROSS = ("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")


def describe(den: Den, line: str) -> None:
    file = den.top / "computer.toml"
    file.write_text(file.read_text().replace("[folders]", f"{line}\n[folders]"))


def test_a_running_game_stops_it_and_the_plan_says_so(den: Den) -> None:
    describe(den, 'running = ["explorer.exe", "SALTGLASS-Depot.exe"]')
    before = state(den.top)
    assert "seems to run" in den.cferry(*CROSS[:3], "--dry-run").out
    done = den.cferry(*CROSS, code=4)
    assert "SALTGLASS-Depot.exe" in done.err
    assert "--game-closed" in done.err
    assert state(den.top) == before
    den.cferry(*CROSS, "--game-closed")
    assert "running" in den.cferry("undo", "--yes", code=4).err
    den.cferry("backup", "saltglass/depot")
    den.cferry("cross", "saltglass/depot:3", "saltglass/tern:4", "--yes")  # only the source runs


@pytest.mark.skipif(sys.platform != "linux", reason="copies a program of Linux")
def test_a_real_process_is_seen_by_its_name(den: Den, tmp_path: Path) -> None:
    program = tmp_path / "saltglass-depot"
    shutil.copy(shutil.which("sleep") or "", program)
    home = tmp_path / "home"
    berth = home / "saves" / DEPOT_ACCOUNT
    shutil.copytree(den.depot, berth)
    text = den.cferry("recipe", "show", "saltglass").out.replace(
        'on = "windows", under = "low-data", path = "NineKettles/Saltglass/{account}"',
        'on = "any", under = "home", path = "saves/{account}"',
    )
    den.recipe("saltglass", text.replace("[game]", "[game]\nreplaces_shipped = true", 1))
    env = {"HOME": str(home), "CFERRY_HOME": str(den.home)}
    command = ("cross", "saltglass/depot:1", "saltglass/depot:6", "--yes")
    running = subprocess.Popen([program, "60"])
    try:
        done = run_module("clever_ferry", *command, env=env)
        assert done.code == 4
        assert f"process {running.pid}" in done.err
    finally:
        running.kill()
        running.wait()
    assert run_module("clever_ferry", *command, env=env).code == 0


@pytest.mark.skipif(sys.platform == "win32", reason="another way of asking there")
def test_a_file_that_a_program_has_open(den: Den) -> None:
    meta = next(den.depot.glob("voyage-02-*/meta.json"))
    code = "import sys, time; f = open(sys.argv[1]); print(flush=True); time.sleep(60)"
    holding = subprocess.Popen([sys.executable, "-c", code, meta], stdout=subprocess.PIPE)
    try:
        assert holding.stdout is not None
        holding.stdout.readline()
        done = den.cferry(*CROSS, code=4)
        assert "meta.json" in done.err
        assert str(holding.pid) in done.err
    finally:
        holding.kill()
        holding.wait()
    den.cferry(*CROSS)


def test_files_that_still_change_are_waited_for_and_then_refused(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"x")
    now, slept = time.time_ns(), []
    clock = [now]

    class Clocked(LocalShore):
        def now(self) -> int:
            return clock[0]

    files = FolderFiles(tmp_path, shore=Clocked())

    def sleep(seconds: float) -> None:
        slept.append(seconds)
        clock[0] += int(seconds * 1e9)

    await_quiet(files, ["a"], {}, sleep=sleep)
    assert 1.5 < sum(slept) < 2.5

    def busy(seconds: float) -> None:
        clock[0] += int(seconds * 1e9)
        os.utime(tmp_path / "a", ns=(clock[0], clock[0]))

    busy(0)
    with pytest.raises(RefusedError, match="written just now"):
        await_quiet(files, ["a"], {}, sleep=busy)
    clock[0] = stamp = (tmp_path / "a").stat().st_mtime_ns
    await_quiet(files, ["a"], {"a": stamp}, sleep=busy)


def test_a_cloud_sync_is_recognised_and_its_answer_shown(den: Den) -> None:
    quiet = den.cferry(*CROSS[:3], "--dry-run")
    assert "cloud" not in quiet.out.lower()
    (den.depot / "cloud.ini").write_text("[cloud]\nsync=on\n")
    done = den.cferry(*CROSS)
    assert "Depot's cloud is on (cloud.ini says so)" in done.out
    assert done.out.index("keep this computer's") < done.out.index("Read back and the same")
    assert "keep this computer's" in done.out[done.out.index("Now in the game") :]
    data = den.cferry(*CROSS[:3], "--dry-run", "--json").data
    assert data["plan"]["signs"]["clouds"][0]["seen"] == "cloud.ini"
    (den.depot / "cloud.ini").write_text("[cloud]\nsync=off\n")
    assert den.cferry(*CROSS[:3], "--dry-run", "--json").data["plan"]["signs"]["clouds"] == []


def test_what_is_never_to_be_touched_is_not(den: Den) -> None:
    text = den.cferry("recipe", "show", "saltglass").out.replace("[game]",
        "[game]\nreplaces_shipped = true", 1)  # fmt: skip
    more = 'never = ["voyage-{slot}-{world}/people/Isa.sgt", '
    text = text.replace("never = [", more)
    den.recipe("saltglass", text)
    isa = next(den.depot.glob("voyage-00-*/people/Isa.sgt"))
    before = isa.read_bytes()
    done = den.cferry(*CROSS, code=4)
    assert "never to be touched" in done.err
    data = den.cferry("cross", "saltglass/tern:1", "saltglass/depot:3", "--dry-run", "--json")
    assert "Isa" not in data.out
    den.cferry("cross", "saltglass/depot:3", "saltglass/depot:1", "--yes", "--replace")
    assert isa.read_bytes() == before  # though the save that it lay beside was replaced


def test_a_disk_without_room_is_told_before_the_first_byte(
    den: Den, monkeypatch: pytest.MonkeyPatch
) -> None:
    ferry = den.ferry()
    plan, before = ferry.plan("saltglass/tern:2", "saltglass/depot:1"), state(den.top)
    monkeypatch.setattr(LOCAL, "free_bytes", lambda path: 20_000)
    with pytest.raises(RefusedError, match="not enough room") as refused:
        ferry.carry_out(plan)
    assert re.search(
        r"needs about 16,[89]\d\d,\d\d\d bytes .* 20,000 free", str(refused.value.details)
    )
    with pytest.raises(RefusedError, match="not enough room"):
        ferry.backup("saltglass")
    assert state(den.top) == before
    assert ferry.log()[0].state == "put back"


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A file system of 600 kB that really fills up, where the test may mount one."""
    place = tmp_path / "small"
    place.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=600k", "none", str(place)]
    if (
        sys.platform != "linux"
        or os.geteuid() != 0
        or subprocess.run(mount, check=False).returncode
    ):
        pytest.skip("mounting a small file system needs Linux and its administrator")
    yield place
    subprocess.run(["umount", "-l", place], check=True)


def fill(folder: Path, leave: int) -> None:
    free = shutil.disk_usage(folder).free
    (folder / "ballast").write_bytes(os.urandom(max(0, free - leave)))


@pytest.mark.parametrize("leave", [0, 9_000, 30_000, 150_000])
def test_a_target_disk_that_really_fills_up(
    den: Den, monkeypatch: pytest.MonkeyPatch, small_disk: Path, leave: int
) -> None:
    shutil.copytree(den.top, small_disk / "den")
    den.top, den.depot = small_disk / "den", small_disk / "den" / den.depot.relative_to(den.top)
    fill(small_disk, leave)
    ferry = den.ferry()
    before = state(den.top)
    plan = ferry.plan("saltglass/tern:2", "saltglass/depot:1")
    with pytest.raises(RefusedError, match="not enough room"):  # 16 MiB are to stay free
        ferry.carry_out(plan)
    monkeypatch.setattr(LOCAL, "free_bytes", lambda path: 1 << 40)  # as if nobody had computed
    if leave < 100_000:
        with pytest.raises(PutBackError, match="no space left"):
            ferry.carry_out(plan)
        assert state(den.top) == before
    else:
        ferry.carry_out(plan)
        ferry.undo(ferry.plan_undo())
        assert state(den.top) == before
    assert not verify(ferry.keeps.locker).faults


def test_a_locker_disk_that_really_fills_up(
    den: Den, monkeypatch: pytest.MonkeyPatch, small_disk: Path
) -> None:
    fill(small_disk, 40_000)
    monkeypatch.setenv("CFERRY_LOCKER", str(small_disk / "locker"))
    ferry = den.ferry()
    monkeypatch.setattr(LOCAL, "free_bytes", lambda path: 1 << 40)
    before = state(den.top)
    with pytest.raises(NotMadeError):
        ferry.backup("saltglass")
    with pytest.raises(PutBackError):
        ferry.carry_out(ferry.plan("saltglass/depot:3", "saltglass/tern:2"))
    assert state(den.top) == before
    assert ferry.recover() == []
    assert not verify(Locker(small_disk / "locker")).faults
    assert not list((small_disk / "locker").rglob(".new-*"))


def test_a_target_over_two_file_systems(
    den: Den, monkeypatch: pytest.MonkeyPatch, small_disk: Path
) -> None:
    """A folder of the save to be replaced is another disk: each file is staged on its own."""
    people = next(den.depot.glob("voyage-00-*/people"))
    for file in people.iterdir():
        shutil.copy2(file, small_disk)
    subprocess.run(["mount", "--bind", small_disk, people], check=True)
    try:
        before = state(den.depot)
        ferry = den.ferry()
        seen: set[Path] = set()
        real = LOCAL.rename

        def watched(old: Path, new: Path) -> None:
            if old.parent.name.startswith(".cferry-"):
                seen.add(old.parent.parent)
            real(old, new)

        monkeypatch.setattr(LOCAL, "rename", watched)
        ferry.carry_out(ferry.plan("saltglass/tern:2", "saltglass/depot:1"))
        assert seen == {den.depot, people}
        assert den.loads("depot", 1).startswith("Saltmarsh, day 31")
        ferry.undo(ferry.plan_undo())
        assert state(den.depot) == before
    finally:
        subprocess.run(["umount", "-l", people], check=True)


@pytest.mark.parametrize("nth", range(1, 26, 4))
def test_large_files_that_fail_while_others_are_written(
    den: Den, monkeypatch: pytest.MonkeyPatch, nth: int
) -> None:
    """Large files are synced beside the work; none is relied on before."""
    monkeypatch.setattr(disk, "LARGE", 0)
    ferry, before, count = den.ferry(), state(den.top), 0

    def failing(path: Path) -> None:
        nonlocal count
        count += 1
        if count == nth:
            raise OSError(5, "Input/output error", str(path))

    monkeypatch.setattr(LOCAL, "sync", failing)
    monkeypatch.setattr(disk.Writer, "sync", lambda self: failing(self.path))
    with pytest.raises(PutBackError, match="input/output error"):
        ferry.carry_out(ferry.plan("saltglass/depot:1,3", "saltglass/tern:1,2"))
    assert state(den.top) == before
    ferry.carry_out(ferry.plan("saltglass/tern", "saltglass/depot"))
    ferry.undo(ferry.plan_undo())
    assert state(den.top) == before


@pytest.mark.skipif(os.name == "nt", reason="Windows has none of these; its own are shown apart")
def test_attributes_stay_what_they_were(den: Den) -> None:
    world = next(den.depot.glob("voyage-00-*/world.sgw"))
    meta = world.with_name("meta.json")
    world.chmod(0o444)
    meta.chmod(0o640)
    marked = False
    if hasattr(os, "setxattr"):
        try:
            os.setxattr(meta, "user.mark", b"mine")
            marked = True
        except OSError:
            pass
    if os.geteuid() == 0:
        os.chown(meta, 1234, 2345)
    before = state(den.depot)
    den.cferry(*CROSS)
    for path, mode in ((world, 0o444), (meta, 0o640)):
        assert stat.S_IMODE(path.stat().st_mode) == mode
    for _ in ("carried", "undone"):
        if marked:
            assert os.getxattr(meta, "user.mark") == b"mine"
        if os.geteuid() == 0:
            assert (meta.stat().st_uid, meta.stat().st_gid) == (1234, 2345)
        if state(den.depot) != before:
            den.cferry("undo", "--yes")
    assert state(den.depot) == before


@pytest.mark.skipif(not hasattr(os, "chown"), reason="this system has no owners of that kind")
def test_what_an_administrator_carries_belongs_to_the_folder_s_owner(den: Den) -> None:
    if os.geteuid() != 0:
        pytest.skip("only the administrator can carry for others")
    os.chown(den.depot, 1234, 2345)
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes")
    world = next(den.depot.glob("voyage-04-*"))
    assert {(p.stat().st_uid, p.stat().st_gid) for p in [world, *world.rglob("*")]} == {
        (1234, 2345)
    }


_HOLD = """
import os, sys, time
from pathlib import Path
from clever_ferry.api import open_ferry
ferry = open_ferry(Path(os.environ["CFERRY_COMPUTER"]))
folder = ferry.keeps.shores.folder(sys.argv[1])
with ferry.keeps.lock(folder, "carrying saltglass/tern to saltglass/depot"):
    print(flush=True)
    time.sleep(60)
"""


def test_who_holds_a_berth_is_said_and_a_crash_frees_it(den: Den) -> None:
    holding = subprocess.Popen([sys.executable, "-c", _HOLD, den.depot],
                               env={**os.environ, **den.env}, stdout=subprocess.PIPE)  # fmt: skip
    assert holding.stdout is not None
    holding.stdout.readline()
    for command in (CROSS, ("backup", "saltglass/depot")):
        refused = den.cferry(*command, code=4)
        assert f"process {holding.pid}, carrying saltglass/tern to saltglass/depot" in refused.err
    den.cferry("cross", "saltglass/depot:3", "saltglass/tern:7", "--yes")  # another berth is free
    holding.kill()
    holding.wait()
    den.cferry(*CROSS)


def test_a_lock_that_another_has_is_waited_for_as_long_as_is_said(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    first, second = (WriteLock(tmp_path / "locks" / "x.lock") for _ in range(2))
    assert first.take()
    now = [100.0]

    def sleep(seconds: float) -> None:
        now[0] += seconds
        assert now[0] < 110, "it waits for ever"

    clock = SimpleNamespace(
        monotonic=lambda: now[0], time=time.time, sleep=sleep
    )  # other threads keep theirs
    monkeypatch.setattr("clever_ferry.moving.system.time", clock)
    assert not second.take()
    assert now == [100.0]
    assert not second.take(2)
    assert 102 <= now[0] < 102.2
    first.release()
    assert second.take()
    second.release()


def test_a_change_that_could_not_be_taken_back_bars_the_berth(
    den: Den, monkeypatch: pytest.MonkeyPatch
) -> None:
    ferry = den.ferry()
    before, failing = state(den.depot), [True]
    real = LOCAL.rename

    def rename(old: Path, new: Path) -> None:
        if failing[0] and new.name == "world.sgw":
            raise OSError(5, "Input/output error", str(new))
        real(old, new)

    def set_times(path: Path, stamp: int) -> None:
        if failing[0] and path == den.depot:
            raise OSError(5, "Input/output error", str(path))
        os.utime(path, ns=(stamp, stamp))

    monkeypatch.setattr(LOCAL, "rename", rename)
    monkeypatch.setattr(LOCAL, "set_times", set_times)
    with pytest.raises(HalfDoneError, match="could not be put back yet"):
        ferry.carry_out(ferry.plan("saltglass/tern:2", "saltglass/depot:1"))
    with pytest.raises(RefusedError, match="cut short"):
        ferry.carry_out(ferry.plan("saltglass/tern:1", "saltglass/depot:5"))
    assert ferry.recover()[0].trouble
    failing[0] = False
    assert not ferry.recover()[0].trouble
    assert state(den.depot) == before


@pytest.mark.parametrize("when", ["backing up", "replacing", "proving"])
def test_an_unplugged_drive_is_waited_for(den: Den, when: str) -> None:
    ferry = den.ferry()
    before = state(den.depot)
    plan = ferry.plan("saltglass/tern:2", "saltglass/depot:1")
    away = den.top.with_name("away")

    def unplug(step: str, done: int, total: int | None) -> None:
        if step == when and den.top.exists():
            den.top.rename(away)

    with pytest.raises(HalfDoneError if when != "backing up" else FerryError):
        ferry.carry_out(plan, unplug)
    trouble = ferry.recover()[0].trouble
    assert "plug that in" in trouble
    assert not den.top.exists()
    away.rename(den.top)
    assert not ferry.recover()[0].trouble
    assert state(den.depot) == before
    ferry.carry_out(ferry.plan("saltglass/tern:2", "saltglass/depot:1"))


def test_a_target_that_changed_since_an_undo_or_a_restore_was_shown(den: Den) -> None:
    ferry = den.ferry()
    ferry.backup("saltglass/depot")
    ferry.carry_out(ferry.plan("saltglass/tern:2", "saltglass/depot:1"))
    undoing, restoring = ferry.plan_undo(), ferry.backups.plan_restore("latest")
    assert isinstance(restoring, Restoring)
    den.game("depot", "play", "--slot", "1")
    now = state(den.depot)
    with pytest.raises(RefusedError, match="changed after the plan"):
        ferry.undo(undoing)
    with pytest.raises(RefusedError, match="changed after the plan"):
        ferry.backups.restore(restoring)
    assert state(den.depot) == now
    ferry.undo(ferry.plan_undo())


@pytest.mark.parametrize("between", [False, True], ids=["before we look", "as we make ours"])
def test_staging_of_another_ferry_is_left_alone(
    den: Den, monkeypatch: pytest.MonkeyPatch, between: bool
) -> None:
    other, make, ferry = (
        den.depot / ".cferry-9-abcdef",
        LOCAL.make_folder,
        den.ferry(),
    )
    plan = ferry.plan("saltglass/tern:2", "saltglass/depot:1")

    def at_once(path: Path) -> None:
        if path.parent == den.depot and not other.is_dir():
            make(other)
        make(path)

    if between:
        monkeypatch.setattr(LOCAL, "make_folder", at_once)
    else:
        make(other)
    before = {path: data[0] for path, data in state(den.depot).items()}
    with pytest.raises(RefusedError, match="records of its own"):
        ferry.carry_out(plan)
    other.rmdir()
    before.pop(other.name, None)
    assert {path: data[0] for path, data in state(den.depot).items()} == before


def test_a_folders_time_comes_back_with_the_staging_that_could_not_be_swept(
    den: Den, monkeypatch: pytest.MonkeyPatch
) -> None:
    before, remove, ferry = state(den.depot), LOCAL.remove_folder, den.ferry()
    plan = ferry.plan("saltglass/tern:2", "saltglass/depot:1")

    def failing(path: Path) -> None:
        raise OSError(5, "Input/output error", str(path))

    def stopped(step: str, done: int, total: int | None) -> None:
        if step == "staging" or done:
            raise KeyboardInterrupt

    monkeypatch.setattr(LOCAL, "remove_folder", failing)
    with pytest.raises(KeyboardInterrupt):
        ferry.carry_out(plan, stopped)
    assert state(den.depot) != before
    monkeypatch.setattr(LOCAL, "remove_folder", remove)
    assert "cut short" in den.cferry("log").err
    assert state(den.depot) == before
