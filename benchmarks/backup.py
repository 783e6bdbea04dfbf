"""Backups: the first and an unchanged second one, listing and verifying thousands.

python -m benchmarks.backup [MEBIBYTES]

The first backup of hardly compressible pieces is held against `cp` + `sync` + `b3sum`
(the same digest by its own command), the second against the first: the job itself, and the whole
program with its start. 10,000 snapshots of 20 files are
listed by the program, and verified beside a tenth of them, to show that this is linear.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
from pathlib import Path
from statistics import median

from benchmarks.big_crossing import lay_big_world
from benchmarks.measuring import Run, in_turn, ratio_line, run
from clever_ferry.keeping.locker import Locker, Reason
from clever_ferry.keeping.snapshots import About, KeptFile, KeptSave, Snapshot
from clever_ferry.moving import disk
from clever_ferry.moving.local import LOCAL
from clever_ferry.moving.system import Attributes
from clever_ferry.payload import BytesPayload

_FILES = 20


def main() -> None:
    """Print all figures."""
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 1024
    with tempfile.TemporaryDirectory() as name:
        _one_large(Path(name), size)
    with tempfile.TemporaryDirectory() as name:
        _many_small(Path(name))


def _one_large(top: Path, size: int) -> None:
    env, here = lay_big_world(top, size, pieces=8)
    command = [sys.executable, "-c", _JOB]
    copied = top / "copied"
    jobs: dict[str, list[Run]] = {"first": [], "second": []}

    def timed(which: str) -> Run:
        whole = run(command, env)
        jobs[which].append(Run(float((top / "seconds").read_text()), whole.memory))
        return whole

    def first() -> Run:
        shutil.rmtree(top / "own" / "locker", ignore_errors=True)
        os.sync()
        return timed("first")

    def by_hand() -> Run:
        shutil.rmtree(copied, ignore_errors=True)
        os.sync()
        line = f"cp -r '{here}' '{copied}' && sync && b3sum '{copied}'/*"
        return run(["sh", "-c", line])

    env["SECONDS"] = str(top / "seconds")
    mine, other = in_turn(first, by_hand, rounds=5)
    job = jobs["first"][1:]
    second = [timed("second") for _ in range(6)][1:]
    what = f"a first backup of {size} MiB against cp + sync + b3sum"
    print(ratio_line(what, job, other, 1.5))
    print(ratio_line("  with the program's start", mine, other, 1.5))
    print(ratio_line("an unchanged second backup against the first", jobs["second"][1:], job, 0.1))
    print(ratio_line("  with the program's start", second, mine, 0.1))


_JOB = """
import os, time
from pathlib import Path
from clever_ferry.api import open_ferry
ferry = open_ferry(Path(os.environ["CFERRY_COMPUTER"]))
started = time.perf_counter()
ferry.backup("big/here")
Path(os.environ["SECONDS"]).write_text(str(time.perf_counter() - started))
"""


def _many_small(top: Path) -> None:
    env = {"CFERRY_HOME": str(top / "many")}
    few = {"CFERRY_HOME": str(top / "few")}
    _lay(Locker(top / "many" / "locker"), 10_000)
    _lay(Locker(top / "few" / "locker"), 1_000)
    command = [sys.executable, "-m", "clever_ferry", "backup"]
    first = run([*command, "list"], env)
    listed = [run([*command, "list"], env) for _ in range(5)]
    none = [run([sys.executable, "-m", "clever_ferry", "log"], env) for _ in range(5)]
    print(
        f"backup list of 10,000 snapshots of {_FILES} files: "
        f"{median(r.seconds for r in listed):.3f} s (0.5 wanted; `cferry log` of nothing takes "
        f"{median(r.seconds for r in none):.3f} s), the very first time {first.seconds:.2f} s, "
        f"peak memory {max(r.memory for r in listed) / 1e6:.0f} MB"
    )
    all_, tenth = run([*command, "verify"], env), run([*command, "verify"], few)
    print(
        f"backup verify: {all_.seconds:.2f} s for 10,000 snapshots, {tenth.seconds:.2f} s for "
        f"1,000: {all_.seconds / tenth.seconds:.1f} times for 10 times as many; "
        f"peak memory {all_.memory / 1e6:.0f} MB (150 wanted)"
    )


def _lay(locker: Locker, count: int) -> None:
    """Lay snapshots of 20 files each, half of which change from one to the next."""
    LOCAL.sync_folder = lambda path: None  # type: ignore[method-assign]
    sync, disk.Writer.sync = disk.Writer.sync, lambda self: None  # type: ignore[method-assign]
    try:
        fixed = [locker.objects.put(BytesPayload(b"fixed %d" % n)) for n in range(_FILES // 2)]
        for number in range(count):
            new = locker.objects.put(BytesPayload(os.urandom(16)))
            files = tuple(
                KeptFile(f"world/piece{n:02}.sav", 1000, number, digest, Attributes(0o644))
                for n, digest in enumerate([*fixed, *[new] * (_FILES - len(fixed))])
            )
            reason = Reason(
                f"20260101-000000-{number:06x}", "backup", number * 10**9, "",
                About("big", "here", "Big: Here", False, False),
                (KeptSave(1, "World", {"slot": 1}, (("Day", str(number)),), (files[0].path,)),),
            )  # fmt: skip
            locker.snapshots.write(
                Snapshot(
                    reason.id, reason.kind, reason.made, reason.note, "/saves", reason.about,
                    reason.saves, files, (), (), (),
                )
            )  # fmt: skip
    finally:
        del LOCAL.sync_folder
        disk.Writer.sync = sync  # type: ignore[method-assign]


if __name__ == "__main__":
    main()
