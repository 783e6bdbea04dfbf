"""A crossing of one large piece between two plain editions, against `cp`, `sync` and `sha256sum`.

python -m benchmarks.big_crossing [MEBIBYTES]
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
from pathlib import Path

from benchmarks.measuring import Run, in_turn, ratio_line, run

_RECIPE = """\
recipe = 1
[game]
id = "big"
title = "Big"
[pieces]
world = { needed = true }
[editions.here]
title = "Here"
berths = [{ on = "linux", under = "home", path = "here" }]
fields.slot = { type = "number" }
files = [{ role = "world", path = "world{slot}.bin" }]
[editions.there]
title = "There"
berths = [{ on = "linux", under = "home", path = "there" }]
fields.slot = { type = "number", first = 0, width = 2 }
files = [{ role = "world", path = "slot-{slot}/world.dat" }]
"""


def lay_big_world(top: Path, mebibytes: int, pieces: int = 1) -> tuple[dict[str, str], Path]:
    """Lay a described computer with so much random data in so many saves.

    Returns the environment that points the program at it, and the folder of the saves.
    """
    (top / "own" / "recipes").mkdir(parents=True)
    (top / "own" / "recipes" / "big.toml").write_text(_RECIPE)
    (top / "computer.toml").write_text(
        'name = "bench"\nsystem = "linux"\n[folders]\nhome = "home"\n'
    )
    here = top / "home" / "here"
    here.mkdir(parents=True)
    (top / "home" / "there").mkdir()
    for number in range(1, pieces + 1):
        with (here / f"world{number}.bin").open("wb") as out:
            for _ in range(mebibytes // pieces):
                out.write(os.urandom(1 << 20))
    return {"CFERRY_COMPUTER": str(top), "CFERRY_HOME": str(top / "own")}, here


def main() -> None:
    """Print the ratio and the peak memory."""
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 1024
    with tempfile.TemporaryDirectory() as name:
        top = Path(name)
        env, here = lay_big_world(top, size)
        world, copied = here / "world1.bin", top / "copy.bin"

        def ours() -> Run:
            shutil.rmtree(top / "home" / "there" / "slot-00", ignore_errors=True)
            os.sync()
            command = [sys.executable, "-m", "clever_ferry", "cross", "big/here", "big/there"]
            return run([*command, "--yes"], env)

        def theirs() -> Run:
            copied.unlink(missing_ok=True)
            os.sync()
            line = f"cp '{world}' '{copied}' && sync && sha256sum '{copied}'"
            return run(["sh", "-c", line])

        mine, other = in_turn(ours, theirs, rounds=3)
        what = f"a crossing of {size} MiB against cp + sync + sha256sum"
        print(ratio_line(what, mine, other, 1.6))


if __name__ == "__main__":
    main()
