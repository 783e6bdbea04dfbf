"""What only Windows does: files that are held, marks of its own, drives, junctions, consoles."""

from __future__ import annotations

import contextlib
import os
import random
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from clever_ferry.api import open_ferry
from clever_ferry.errors import FerryError
from clever_ferry.keeping.verifying import verify
from clever_ferry_demo.world import lay_world
from tests.conftest import Den, laid, state

pytestmark = pytest.mark.skipif(sys.platform != "win32", reason="this is not Windows")
INTO_DEPOT = ("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")
READ_ONLY, HIDDEN, ARCHIVE = 0x1, 0x2, 0x20


def kernel() -> Any:
    """Return the system's own functions."""
    import ctypes

    return vars(ctypes)["windll"].kernel32


@contextlib.contextmanager
def held(path: Path) -> Iterator[None]:
    """Have a file open as a game does that lets nobody else have it."""
    read, existing = 0x80000000, 3
    handle = kernel().CreateFileW(str(path), read, 0, None, existing, 0, None)
    assert handle != -1
    try:
        yield
    finally:
        kernel().CloseHandle(handle)


def marks(path: Path) -> int:
    return int(getattr(path.stat(), "st_file_attributes", 0)) & (READ_ONLY | HIDDEN | ARCHIVE)


def mark(path: Path, bits: int) -> None:
    assert kernel().SetFileAttributesW(str(path), bits)


def world(den: Den) -> Path:
    return next(den.depot.glob("voyage-00-*")) / "world.sgw"


def test_a_file_that_a_game_holds_stops_it_before_anything(den: Den) -> None:
    before = state(den.depot)
    with held(world(den)):
        assert "open" in den.cferry(*INTO_DEPOT, code=4).err
    assert state(den.depot) == before
    den.cferry(*INTO_DEPOT)


def test_a_file_that_is_taken_in_the_middle_is_put_back(den: Den) -> None:
    before = state(den.depot)
    ferry = den.ferry()
    plan = ferry.plan("saltglass/depot:3", "saltglass/depot:1")
    with contextlib.ExitStack() as stack:

        def during(step: str, done: int, total: int | None) -> None:
            if step == "replacing":
                stack.enter_context(held(world(den)))
            if step == "putting back":
                stack.close()

        with pytest.raises(FerryError):
            ferry.carry_out(plan, during)
    assert {p: d[0] for p, d in state(den.depot).items()} == {p: d[0] for p, d in before.items()}
    assert den.cferry("log", "--json").data[0]["state"] == "put back"
    assert not list(den.top.rglob(".cferry-*"))


def test_windows_own_marks_and_times_come_back(den: Den) -> None:
    mark(world(den), READ_ONLY | HIDDEN | ARCHIVE)
    stamp = 1_700_000_000_123_456_700  # in steps of 100 ns
    meta = world(den).with_name("meta.json")
    os.utime(meta, ns=(stamp, stamp))
    before = state(den.depot)
    den.cferry(*INTO_DEPOT)
    assert "day 31" in den.loads("depot", 1)
    den.cferry("undo", "--yes")
    assert marks(world(den)) == READ_ONLY | HIDDEN | ARCHIVE
    assert meta.stat().st_mtime_ns == stamp
    assert {p: d[:2] for p, d in state(den.depot).items() if d[0] != "folder"} == {
        p: d[:2] for p, d in before.items() if d[0] != "folder"
    }
    mark(world(den), ARCHIVE)


def test_a_kill_in_the_middle_is_set_right_by_the_next_command(den: Den) -> None:
    dice = random.Random(1)
    command = [sys.executable, "-m", "clever_ferry", *INTO_DEPOT]
    started = time.monotonic()
    den.cferry(*INTO_DEPOT, cwd=den.top)  # as a process of its own
    whole = time.monotonic() - started
    den.cferry("undo", "--yes")
    for _ in range(6):
        before = {p: d[0] for p, d in state(den.depot).items()}
        running = subprocess.Popen(
            command, env={**os.environ, **den.env}, stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(dice.uniform(0.3, 1.0) * whole)
        running.kill()
        running.wait()
        den.cferry("log")
        assert not list(den.top.rglob(".cferry-*"))
        assert not list((den.home / "journal").glob("*.json"))
        record = den.cferry("log", "--json").data[0]
        if {p: d[0] for p, d in state(den.depot).items()} != before:
            assert record["state"] == "read back"
            den.cferry("undo", "--yes")
            assert {p: d[0] for p, d in state(den.depot).items()} == before
    assert not verify(open_ferry(den.top).keeps.locker).faults


@pytest.mark.skipif(not Path("D:/").is_dir(), reason="there is no second drive")
def test_records_and_saves_on_two_drives(tmp_path: Path) -> None:
    top = Path(tempfile.mkdtemp(dir="D:/"))
    den = Den(laid(lay_world, top / "world"), tmp_path / "own")
    before = state(den.depot)
    den.cferry(*INTO_DEPOT)
    assert "day 31" in den.loads("depot", 1)
    den.cferry("undo", "--yes")
    assert {p: d[0] for p, d in state(den.depot).items()} == {p: d[0] for p, d in before.items()}
    den.cferry("backup", "saltglass/depot")
    den.cferry("restore", "latest", "--to", top / "out")


def test_a_junction_leads_nowhere(den: Den, tmp_path: Path) -> None:
    import _winapi

    victim = tmp_path / "victim"
    victim.mkdir()
    (victim / "meta.json").write_text("{}")
    make: Any = getattr(_winapi, "CreateJunction", None)
    with contextlib.suppress(OSError):
        make(str(victim), str(den.depot / "voyage-09-1122334455667788"))
    if not (den.depot / "voyage-09-1122334455667788").exists():
        pytest.skip("junctions can't be made here")
    assert "voyage-09" not in den.cferry("slots", "saltglass/depot", "--json").out
    den.cferry("backup", "saltglass/depot")
    assert "voyage-09" not in den.cferry("backup", "show", "latest", "--json").out
    assert (victim / "meta.json").read_text() == "{}"


@pytest.mark.parametrize(
    ("name", "said"), [("nul", "device"), ("com1.old", "device"), ("n" * 240, "259")]
)
def test_names_that_windows_can_not_have(den: Den, tmp_path: Path, name: str, said: str) -> None:
    """Another system's saves come in a zip; the first bytes are a game's own."""
    saves = den.top / "C/Users/Wren/Documents/OpenTTD/save"
    saves.mkdir(parents=True)
    (saves / "Mine.sav").write_bytes(b"OTTN\x01\x2e\x00\x00")
    with zipfile.ZipFile(tmp_path / "sent.zip", "w") as made:
        made.writestr(f"{name}.sav", b"OTTN\x01\x2e\x00\x00")
    before = state(saves)
    route = ("--from-file", tmp_path / "sent.zip", "openttd/windows", "--yes")
    assert said in den.cferry("cross", *route, code=4).err
    assert state(saves) == before
    den.cferry("unbox", tmp_path / "sent.zip", "-o", tmp_path / "apart")
    (piece,) = [one for one in (tmp_path / "apart" / "pieces").rglob("*") if one.is_file()]
    assert (piece.name == f"{name}.sav") is (said != "device")
    den.cferry("box", tmp_path / "apart", "-o", tmp_path / "again.zip")
    assert (tmp_path / "again.zip").read_bytes() == (tmp_path / "sent.zip").read_bytes()


@pytest.mark.parametrize("encoding", ["cp437", "cp1252", "utf-8"])
def test_a_console_that_lacks_letters_gets_others(den: Den, encoding: str) -> None:
    env = {**os.environ, **den.env, "PYTHONIOENCODING": encoding}
    for command in (("slots", "saltglass"), ("--help",), ("cross", "saltglass/tern", "nothing")):
        done = subprocess.run(
            [sys.executable, "-m", "clever_ferry", *command], env=env, capture_output=True,
            stdin=subprocess.DEVNULL, check=False, timeout=600,
        )  # fmt: skip
        assert b"Traceback" not in done.stderr
        assert b"codec" not in done.stderr
        assert done.returncode == (2 if command[0] == "cross" else 0)


def test_names_in_other_scripts(tmp_path: Path) -> None:
    den = Den(laid(lay_world, tmp_path / "Ωdra Łysá 草"), tmp_path / "eigenes Ü")
    den.cferry(*INTO_DEPOT)
    assert "day 31" in den.loads("depot", 1)
    den.cferry("undo", "--yes")
