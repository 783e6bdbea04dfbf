"""Watching: how soon a change is told, what waiting costs, what keeping each state costs.

python -m benchmarks.watching [files] [MiB of a save]
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from statistics import median

import psutil

from benchmarks.finding import crowd
from clever_ferry.api import open_ferry
from clever_ferry.crossing.backing_up import back_up
from clever_ferry.keeping.keeps import Keeps
from clever_ferry_demo.world import lay_world

_CFERRY = [sys.executable, "-m", "clever_ferry"]
_IDLE = 45.0
"""Seconds in which nothing happens."""


@contextmanager
def watched(
    top: Path, own: Path, *more: str
) -> Iterator[tuple[psutil.Popen, list[tuple[float, str]]]]:
    """Watch a berth; yield the program once the game may be started, and what it says, and when."""
    environment = {**os.environ, "CFERRY_COMPUTER": str(top), "CFERRY_HOME": str(own),
                   "PYTHONUNBUFFERED": "1"}  # fmt: skip
    program = psutil.Popen(
        [*_CFERRY, "watch", "saltglass/depot", *more], stdout=subprocess.PIPE, text=True,
        env=environment,
    )  # fmt: skip
    said: list[tuple[float, str]] = []
    ready = threading.Event()

    def listen() -> None:
        for line in program.stdout:
            said.append((time.perf_counter(), line))
            if "Now start the game" in line:
                ready.set()

    listener = threading.Thread(target=listen)
    listener.start()
    ready.wait(600)
    time.sleep(1)
    try:
        yield program, said
    finally:
        program.terminate()
        program.wait()
        listener.join()


def waiting(scratch: Path, files: int) -> None:
    """Print how soon a change is told, and how much of a core waiting takes."""
    top = lay_world(scratch / "many")
    account = next(top.rglob("100200300"))
    crowd(account / "others", files)
    with watched(top, scratch / "own") as (program, said):
        before = sum(program.cpu_times()[:2])
        time.sleep(_IDLE)
        used = (sum(program.cpu_times()[:2]) - before) / _IDLE
        delays = []
        for number in range(5):
            count, began = len(said), time.perf_counter()
            (account / f"note-{number}.txt").write_bytes(b"new")
            while len(said) == count and time.perf_counter() < began + 30:
                time.sleep(0.005)
            delays.append(said[count][0] - began if len(said) > count else float("inf"))
            time.sleep(2)
    print(f"watching {files:,} files: a change is told after {median(delays):.2f} s, at the most "
          f"{max(delays):.2f} s (1 wanted); waiting takes {used:.2%} of a core (2 % wanted)"
          )  # fmt: skip


def keeping(scratch: Path, mebibytes: int) -> None:
    """Print what it takes to keep each state of a save against copying it so that it lasts."""
    top = lay_world(scratch / "large")
    large = next(top.rglob("100200300/voyage-02-*")) / "people" / "Large.sgt"
    keeps = Keeps(scratch / "keeps")
    pairs = []
    for _ in range(4):
        large.write_bytes(os.urandom(mebibytes << 20))
        (opened,) = open_ferry(top).slots("saltglass/depot")
        began = time.perf_counter()
        back_up(opened, opened.listing.saves, keeps, whole=True, watched=True)
        ours = time.perf_counter() - began
        copy = scratch / "copy"
        copy.unlink(missing_ok=True)
        began = time.perf_counter()
        shutil.copyfile(large, copy)
        with copy.open("rb+") as file:
            os.fsync(file.fileno())
        pairs.append((ours, time.perf_counter() - began))
    pairs = pairs[1:]
    ratio = median(ours / theirs for ours, theirs in pairs)
    print(f"keeping a state with {mebibytes} MiB that changed: {ratio:.2f} times of copying it "
          f"(1.5 wanted); {median(one for one, _ in pairs):.2f} s against "
          f"{median(one for _, one in pairs):.2f} s")  # fmt: skip


def main() -> None:
    """Print all figures."""
    files = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    with tempfile.TemporaryDirectory() as folder:
        waiting(Path(folder), files)
        keeping(Path(folder), int(sys.argv[2]) if len(sys.argv) > 2 else 256)


if __name__ == "__main__":
    main()
