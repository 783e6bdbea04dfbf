"""Bequests: a save of so many MB becomes the successor's start, against reading it into tables.

python -m benchmarks.bequests [MEGABYTES]

The other side reads the same save into the same tables, by the same reader, and does no more: what
is measured is what mapping, writing, reading back, backup, proof and records add. Half the size
shows the growth.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path
from statistics import median

from benchmarks.measuring import Run, in_turn, ratio_line, run
from clever_ferry_demo.kingfisher_age.program import lay_kingfisher_age
from clever_ferry_demo.kingfisher_crown.program import lay_kingfisher_crown, long_reign
from clever_ferry_demo.world import lay_world

_ARMY = 68
"""Bytes that an army has in the text, about."""
_READ = """
import os
from pathlib import Path
from clever_ferry.api import open_ferry
ferry = open_ferry(Path(os.environ["CFERRY_COMPUTER"]))
chosen = ferry.noting.tables("kingfisher-crown/windows:The Long Reign")
print(sum(table.count for table in chosen.tables))
"""


def main() -> None:
    """Print all figures."""
    if sys.argv[1:2] == ["--lay"]:
        _lay(Path(sys.argv[2]), int(sys.argv[3]))
        return
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    taken = []
    for megabytes in (size // 2, size):
        with tempfile.TemporaryDirectory() as name:
            taken.append(_bequest(Path(name), megabytes))
    print(f"  twice the size takes {taken[1] / taken[0]:.2f} times as long")


def _lay(top: Path, count: int) -> None:
    """Lay a reign with so many armies; in a process of its own, as a child's peak begins there."""
    den = lay_world(top / "world")
    lay_kingfisher_age(den)
    reign = long_reign()
    armies: tuple[dict[str, int | str], ...] = tuple(
        {"no": at + 1, "realm": at % 24 + 1, "province": at % 600 + 1, "men": at % 997}
        for at in range(count)
    )
    reign = replace(reign, rows={**reign.rows, "army": armies})
    lay_kingfisher_crown(den, (reign,), now_ns=1_700_000_000_000_000_000)


def _bequest(top: Path, megabytes: int) -> float:
    count = megabytes * 1_000_000 // _ARMY
    lay = [sys.executable, "-m", "benchmarks.bequests", "--lay", str(top), str(count)]
    subprocess.run(lay, check=True)
    den = next((top / "world").iterdir())
    heritage = next(den.rglob("heritage"))
    (reign,) = den.rglob("*.reign")
    enabled = (heritage / "enabled.json").read_bytes()
    env = {**os.environ, "CFERRY_HOME": str(top / "own"), "CFERRY_COMPUTER": str(den)}
    cferry = [sys.executable, "-m", "clever_ferry", "bequeath",
              "kingfisher-crown/windows:The Long Reign", "kingfisher-age", "--yes",
              "--game-closed"]  # fmt: skip

    def mine() -> Run:
        shutil.rmtree(heritage)
        heritage.mkdir()
        (heritage / "enabled.json").write_bytes(enabled)
        os.utime(heritage / "enabled.json", (1_700_000_000, 1_700_000_000))
        return run(cferry, env)

    def theirs() -> Run:
        return run([sys.executable, "-c", _READ], env)

    whole, other = in_turn(mine, theirs, rounds=2)
    packed = reign.stat().st_size
    print(ratio_line(
        f"{megabytes} MB of a reign ({packed / 1e6:.0f} MB packed, {count:,} armies) to tables, "
        "and to a start", whole, other, 6,
    ))  # fmt: skip
    return median(one.seconds for one in whole)


if __name__ == "__main__":
    main()
