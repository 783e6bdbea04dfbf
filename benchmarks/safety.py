"""What the safety of a crossing costs: staging, journal and locker, against plain copies.

python -m benchmarks.safety [MEBIBYTES]

A crossing that replaces a save of so many mebibytes by another, without reading back (that
proof is not what is measured here, and is told beside), against `cp` of the old aside, `cp` of
the new over it, and `sync`.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from benchmarks.big_crossing import lay_big_world
from benchmarks.measuring import Run, in_turn, ratio_line
from clever_ferry.api import Ferry
from clever_ferry.crossing.progress import Progress
from clever_ferry.finding import described_computer
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.recipes import Recipes


def main() -> None:
    """Print the ratio."""
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 1024
    with tempfile.TemporaryDirectory() as name:
        top = Path(name)
        _, here = lay_big_world(top, size, pieces=8)
        there, aside = top / "home" / "there", top / "aside"
        old = top / "old"
        for number in range(1, 9):
            place = old / f"slot-{number - 1:02}"
            place.mkdir(parents=True)
            source = here / f"world{9 - number}.bin"
            shutil.copy(source, place / "world.dat")

        def reset() -> None:
            for path in (there, aside, top / "own" / "locker"):
                shutil.rmtree(path, ignore_errors=True)
            shutil.copytree(old, there)
            subprocess.run(["sync"], check=True)

        proofs: list[float] = []

        def ours() -> Run:
            reset()
            ferry = Ferry(
                described_computer(top), Recipes(top / "own" / "recipes"), Keeps(top / "own")
            )
            plan = ferry.plan("big/here", "big/there")
            began: list[float] = []

            def watch(step: str, done: int, total: int | None) -> None:
                if step == "proving" and not began:
                    began.append(time.perf_counter())

            telling: Progress = watch
            time.sleep(2.1)  # the target was written just now, and that would be waited for
            started = time.perf_counter()
            ferry.carry_out(plan, telling)
            proofs.append(time.perf_counter() - began[0])
            return Run(began[0] - started, 0)

        def plain() -> Run:
            reset()
            started = time.perf_counter()
            line = f"cp -r '{there}' '{aside}' && for n in 0 1 2 3 4 5 6 7; do " + (
                f"cp '{here}'/world$((n+1)).bin '{there}'/slot-0$n/world.dat; done && sync"
            )
            subprocess.run(["sh", "-c", line], check=True)
            return Run(time.perf_counter() - started, 0)

        mine, other = in_turn(ours, plain, rounds=3)
        what = f"replacing {size} MiB safely against cp of old and new + sync"
        print(ratio_line(what, mine, other, 1.4).rpartition(",")[0])
        print(f"  the proof (all read back and compared) takes {min(proofs):.2f} s more")


if __name__ == "__main__":
    main()
