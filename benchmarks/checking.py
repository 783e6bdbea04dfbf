"""Checking a large world, against its digest and its decompression by the libraries alone.

python -m benchmarks.checking [MiB]
"""

from __future__ import annotations

import gzip
import os
import random
import subprocess
import sys
import tempfile
from pathlib import Path

from benchmarks.measuring import Run, in_turn, ratio_line, run

_RECIPE = """recipe = 1
game = { id = "large", title = "Large" }
pieces.world = { needed = true }
[editions.own]
title = "Own"
berths = [{ on = "any", under = "given" }]
fields.slot = { type = "number" }
files = [{ role = "world", path = "{slot}.gz", layers = ["packed"] }]
[layers]
packed = [{ kind = "gzip" }]
"""
_ALONE = """
import sys, zlib, blake3
digest, unpacked = blake3.blake3(), zlib.decompressobj(31)
with open(sys.argv[1], "rb") as file:
    while chunk := file.read(1 << 20):
        digest.update(chunk)
        while chunk:
            unpacked.decompress(chunk, 1 << 20)
            chunk = unpacked.unconsumed_tail
print(digest.hexdigest(), unpacked.eof)
"""


def main() -> None:
    """Print the figure."""
    mebibytes = int(sys.argv[1]) if len(sys.argv) > 1 else 1024
    with tempfile.TemporaryDirectory() as folder:
        saves, own = Path(folder) / "saves", Path(folder) / "own"
        saves.mkdir()
        (own / "recipes").mkdir(parents=True)
        (own / "recipes" / "large.toml").write_text(_RECIPE, "utf-8")
        dice = random.Random(1)
        part = b"".join(dice.randbytes(64) + bytes(64) for _ in range(1 << 13))
        with gzip.open(saves / "1.gz", "wb", compresslevel=1) as file:
            for _ in range(mebibytes):
                file.write(part)
        env = {**os.environ, "CFERRY_HOME": str(own)}
        check = [sys.executable, "-m", "clever_ferry", "check", f"large/own@{saves}"]
        told = subprocess.run(check, env=env, capture_output=True, text=True, check=True).stdout
        if "gzip's checksum" not in told:
            raise SystemExit(f"it was not read to its end:\\n{told}")

        def ours() -> Run:
            return run(check, {"CFERRY_HOME": str(own)})

        def alone() -> Run:
            return run([sys.executable, "-c", _ALONE, str(saves / "1.gz")])

        what = f"check of a world of {mebibytes} MiB against digest and decompression alone"
        print(ratio_line(what, *in_turn(ours, alone, 3), 1.3))


if __name__ == "__main__":
    main()
