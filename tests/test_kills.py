"""The real program, killed at random instants of a crossing of many pieces."""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from clever_ferry.cargo import digest_of
from clever_ferry.keeping.verifying import verify
from clever_ferry.moving.files import FolderFiles
from tests.conftest import LONG, Den, state

ROUNDS = 104 if LONG else 3
PLAYERS = 120

pytestmark = pytest.mark.skipif(not hasattr(signal, "SIGKILL"), reason="this system has no SIGKILL")


def crowd(den: Den) -> None:
    """Have many travellers in the world of slot 3."""
    people = next(den.depot.glob("voyage-02-*/people"))
    one = next(people.iterdir())
    for number in range(PLAYERS):
        shutil.copy2(one, people / f"p{number:03}.sgt")


@pytest.mark.long
@pytest.mark.parametrize("target", ["saltglass/tern:2", "saltglass/depot:1"])
def test_a_kill_at_any_instant_loses_nothing(
    den: Den, target: str,
    record_property: Callable[[str, object], None],
) -> None:  # fmt: skip
    crowd(den)
    root = den.tern if "tern" in target else den.depot
    command = [sys.executable, "-m", "clever_ferry", "cross", "saltglass/depot:3", target, "--yes",
               "--replace", "--json"]  # fmt: skip
    started = time.perf_counter()
    den.cferry(*command[3:])
    whole = time.perf_counter() - started
    dice, killed = random.Random(target), 0
    for _ in range(ROUNDS):
        ferry = den.ferry()
        before, known = state(root), {one.number for one in ferry.log()}
        running = subprocess.Popen(
            command, env={**os.environ, **den.env}, stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(dice.uniform(0.25, 1.0) * whole)
        running.send_signal(signal.SIGKILL)
        ended = running.wait() != -signal.SIGKILL
        killed += not ended
        whole *= 0.92 if ended else 1.012  # the machine may be quicker, or slower, than just now
        # The next command, of any kind, sets it right.
        den.cferry(*dice.choice((("log", "--json"), ("look",), ("recipe", "schema"))))
        now, new = state(root), [one for one in ferry.log() if one.number not in known]
        assert not list(root.rglob(".cferry-*"))
        assert not ferry.keeps.journal.open()
        if now == before:
            assert all(one.state == "put back" for one in new)
            continue
        assert [one.state for one in new] == ["proved"]
        files = FolderFiles(root)
        for item in new[0].details.left:
            there = files.info(item.path)
            assert (there is None) == (item.digest is None)
            assert there is None or digest_of(files.payload(there.path)) == item.digest
        own = {item.path for item in new[0].details.left}
        assert {p: d for p, d in before.items() if p not in own and d[0] != "folder"}.items() <= (
            now.items()
        )
    assert not verify(den.ferry().keeps.locker).faults
    assert killed >= ROUNDS // 2
    record_property("kills", killed)


def test_a_killed_backup_is_no_backup(den: Den, tmp_path: Path) -> None:
    crowd(den)
    command = [sys.executable, "-m", "clever_ferry", "backup", "saltglass"]
    for part in (0.3, 0.4, 0.5):
        running = subprocess.Popen(
            command, env={**os.environ, **den.env}, stdout=subprocess.DEVNULL
        )
        time.sleep(part)
        running.kill()
        running.wait()
    den.cferry("backup", "saltglass")
    assert den.cferry("backup", "verify", "--json").data["faults"] == []
    assert not list((den.home / "locker" / "objects").glob(".new-*"))
