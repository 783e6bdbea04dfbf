"""Studying a large file, and drafting a recipe from two editions' saves.

python -m benchmarks.studying [MEGABYTES]

The other side takes the SHA-256 of the same files by the standard command: what one look at all
bytes costs. The files are noise (in which nothing is found, which takes the longest), and a packed
one behind a header; the saves are five of a megabyte on both sides.
"""

from __future__ import annotations

import os
import random
import sys
import tempfile
import zlib
from pathlib import Path
from statistics import median

from benchmarks.measuring import Run, in_turn, run

_SECONDS, _DRAFTED, _MEMORY = 10, 20, 500


def main() -> None:
    """Print all figures."""
    size = (int(sys.argv[1]) if len(sys.argv) > 1 else 64) << 20
    with tempfile.TemporaryDirectory() as name:
        top = Path(name)
        (top / "noise.bin").write_bytes(os.urandom(size))
        packed = zlib.compress(os.urandom(size // 2) + bytes(size), 1)
        front = b"HEAD" + len(packed).to_bytes(4, "little")
        (top / "packed.bin").write_bytes(front + packed)
        for file in ("noise.bin", "packed.bin"):
            taken = _against(top, ["study", top / file], [top / file])
            print(f"  {file}, {size >> 20} MiB: {taken:.1f} s (at most {_SECONDS} wanted for 64)")
        folders = _saves(top)
        files = [path for folder in folders for path in folder.iterdir()]
        taken = _against(top, ["draft", *folders, "-o", top / "game.toml"], files)
        print(f"  two times five saves of 1 MB drafted: {taken:.1f} s (at most {_DRAFTED} wanted)")


def _against(top: Path, words: list[str | Path], files: list[Path]) -> float:
    env = {**os.environ, "CFERRY_HOME": str(top / "own")}
    command = [sys.executable, "-m", "clever_ferry", *map(str, words)]

    def mine() -> Run:
        (top / "game.toml").unlink(missing_ok=True)
        return run(command, env)

    ours, theirs = in_turn(mine, lambda: run(["sha256sum", *map(str, files)]), rounds=3)
    ratio = median(one.seconds / other.seconds for one, other in zip(ours, theirs, strict=True))
    memory = max(one.memory for one in ours) / 1e6
    print(f"{words[0]}: {ratio:.0f} times the files' digest by the standard command; "
          f"{memory:.0f} MB (at most {_MEMORY} wanted)")  # fmt: skip
    return median(one.seconds for one in ours)


def _saves(top: Path) -> list[Path]:
    """Lay five saves of about a megabyte: plain, and packed behind a header with a checksum."""
    dice = random.Random(4)
    plain, made = top / "plain", top / "made"
    plain.mkdir()
    made.mkdir()
    for slot in range(1, 6):
        world = b"ISLE" + bytes(dice.choices(range(24), k=(1 << 20) + slot * 999))
        note = b'{"name": "Isle %d", "day": %d}' % (slot, slot * 31)
        stream = zlib.compress(world, 6)
        front = b"CSHB" + len(world).to_bytes(4, "big") + zlib.crc32(world).to_bytes(4, "big")
        (plain / f"{slot}.world").write_bytes(world)
        (plain / f"{slot}.note").write_bytes(note)
        (made / f"cash_{slot:02}.csb").write_bytes(front + stream)
        (made / f"cash_{slot:02}.txt").write_bytes(note)
    return [plain, made]


if __name__ == "__main__":
    main()
