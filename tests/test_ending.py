"""How the program ends: Ctrl-C, nobody who reads on, no room for the answer, what can't be kept."""

from __future__ import annotations

import errno
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from clever_ferry.crossing.undoing import unlike
from clever_ferry.errors import PutBackError
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.system import undisturbed
from tests.conftest import Den, state

INTO_DEPOT = ("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")
unix = pytest.mark.skipif(os.name == "nt", reason="Windows has no such signals and devices")


def run(den: Den, *arguments: str, **more: Any) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "clever_ferry", *arguments], encoding="utf-8", check=False,
        env={**os.environ, **den.env}, stderr=subprocess.PIPE, timeout=600, **more,
    )  # fmt: skip


@unix
@pytest.mark.parametrize("command", [("slots", "saltglass"), ("log", "--json"), INTO_DEPOT])
def test_nobody_reads_the_answer(den: Den, command: tuple[str, ...]) -> None:
    reading, writing = os.pipe()
    os.close(reading)
    done = run(den, *command, stdout=writing)
    os.close(writing)
    assert (done.returncode, done.stderr) == (141, "")


@unix
@pytest.mark.skipif(not Path("/dev/full").exists(), reason="this system has no full device")
@pytest.mark.parametrize("command", [("slots", "saltglass"), ("log", "--json"), ("--help",)])
def test_there_is_no_room_for_the_answer(den: Den, command: tuple[str, ...]) -> None:
    with Path("/dev/full").open("w") as full:
        done = run(den, *command, stdout=full)
    assert done.returncode == 1
    assert "no space left" in done.stderr.lower()
    assert "Traceback" not in done.stderr
    assert "Exception ignored" not in done.stderr


SLOW = """
import signal, sys, time
signal.signal(signal.SIGINT, signal.default_int_handler)  # whoever runs the tests may not hear it
from clever_ferry.crossing import progress
from clever_ferry.cli import progress as telling
import clever_ferry.cli.start as start
told = telling.telling
STEP = sys.argv.pop(1)
def announce(step):
    if step == STEP:
        print("READY", file=sys.stderr, flush=True)
        time.sleep(600)
def slowed(as_json):
    from contextlib import contextmanager
    @contextmanager
    def inner():
        yield lambda step, done=0, total=None: announce(step)
    return inner()
telling.telling = slowed
import clever_ferry.cli.commands.cross as cross
cross.telling = slowed
start.run()
"""


@unix
@pytest.mark.parametrize("step", ["reading", "replacing", "proving"])
def test_ctrl_c_takes_a_crossing_back_and_says_so(den: Den, step: str) -> None:
    before = state(den.depot)
    running = subprocess.Popen(
        [sys.executable, "-c", SLOW, step, *INTO_DEPOT], env={**os.environ, **den.env},
        stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, encoding="utf-8",
    )  # fmt: skip
    assert running.stderr is not None
    while "READY" not in (running.stderr.readline() or "READY"):
        pass
    time.sleep(0.2)
    for _ in range(20):  # somebody who can't wait
        running.send_signal(signal.SIGINT)
        time.sleep(0.005)
    said = running.stderr.read()
    assert running.wait() == 130, said
    assert "Stopped. Crossing 1 was not done: its target is as it was before." in said
    assert "Traceback" not in said
    assert state(den.depot) == before
    record = den.cferry("log", "--json").data[0]
    assert (record["state"], den.cferry("log").err) == ("put back", "")


def test_ctrl_c_in_what_must_not_be_left_half_way_comes_afterwards() -> None:
    done: list[str] = []

    def stopped(fault: Exception | None) -> None:
        with undisturbed():
            signal.raise_signal(signal.SIGINT)
            done.append("all of it")
            if fault:
                raise fault

    with pytest.raises(KeyboardInterrupt):
        stopped(None)
    with pytest.raises(OSError, match="first"):
        stopped(OSError("first"))
    assert len(done) == 2
    assert signal.getsignal(signal.SIGINT) is signal.default_int_handler


DROPPED = """
import signal, time
from clever_ferry.cli import start
def held():
    try: yield
    finally: signal.raise_signal(signal.SIGINT)
def work(arguments):
    one = held()
    next(one)
    del one  # Python drops what is raised there
    time.sleep(600)
start._run = work
signal.signal(signal.SIGINT, signal.default_int_handler)
start.run([])
"""


@unix
def test_ctrl_c_that_python_drops_comes_again() -> None:
    done = subprocess.run([sys.executable, "-c", DROPPED], capture_output=True, check=False,
                          encoding="utf-8", timeout=600)  # fmt: skip
    assert (done.returncode, done.stderr.strip()) == (130, "Stopped.")


@pytest.mark.skipif(not hasattr(os, "setxattr"), reason="this system has no such attributes")
def test_attributes_that_can_not_be_kept_are_told_and_undone_whole(
    den: Den, monkeypatch: pytest.MonkeyPatch
) -> None:
    world = next(den.depot.glob("voyage-00-*")) / "world.sgw"
    try:
        for name in ("a", "b"):
            os.setxattr(world, f"user.{name}", b"mine")
    except OSError:
        pytest.skip("this disk has no such attributes")
    before = state(den.depot)
    ferry = den.ferry()
    setxattr = os.setxattr

    def failing(path: Any, name: str, value: bytes, **more: Any) -> None:
        if name == "user.a":
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        setxattr(path, name, value, **more)

    monkeypatch.setattr(os, "setxattr", failing)
    crossed = ferry.carry_out(ferry.plan("saltglass/depot:3", "saltglass/depot:1"))
    (told,) = crossed.unkept
    assert "could not keep its attribute a: no space left" in told
    new = next(den.depot.glob("voyage-00-*")) / "world.sgw"
    assert os.listxattr(new) == ["user.b"], "one that fails does not skip the rest"
    with pytest.raises(PutBackError, match="attribute a"):
        ferry.undo(ferry.plan_undo())
    assert ferry.log()[0].state == "proved"
    monkeypatch.setattr(os, "setxattr", setxattr)
    ferry.undo(ferry.plan_undo())
    assert state(den.depot) == before
    assert sorted(os.listxattr(world)) == ["user.a", "user.b"]


@unix
def test_attributes_count_but_for_those_that_nobody_could_give(den: Den) -> None:
    den.cferry("backup", "saltglass/depot")
    locker, files = den.ferry().keeps.locker, FolderFiles(den.depot)
    snapshot = locker.snapshot(locker.snapshots.idents()[0])
    path = next(one.path for one in snapshot.files if one.path.endswith("world.sgw"))
    assert unlike(snapshot, files, locker) == []
    (den.depot / path).chmod(0o604)
    assert unlike(snapshot, files, locker) == [path]
    assert unlike(snapshot, files, locker, frozenset([path])) == []


@unix
def test_what_only_its_owner_may_read_stays_so(den: Den, tmp_path: Path) -> None:
    for path in den.depot.rglob("*"):
        if path.is_file():
            path.chmod(0o600)
    den.cferry("backup", "saltglass/depot")
    den.cferry("backup", "export", "latest", "-o", tmp_path / "bag.zip")
    kept = [path for path in (den.home / "locker").rglob("*") if path.suffix in (".zst", ".json")]
    for path in (*kept, tmp_path / "bag.zip"):
        assert path.stat().st_mode & 0o077 == 0, path
