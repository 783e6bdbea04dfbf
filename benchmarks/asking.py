"""What asking the game itself adds to a check, beside the time that the game takes by itself.

python -m benchmarks.asking
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from clever_ferry_demo.world import lay_world


def seconds(command: Sequence[str | Path], environment: dict[str, str]) -> float:
    """Return the median time of a command, which must succeed."""
    taken = []
    for _ in range(5):
        began = time.perf_counter()
        subprocess.run(command, env=environment, check=True, capture_output=True)
        taken.append(time.perf_counter() - began)
    return statistics.median(taken)


def main() -> None:
    """Print how much longer a check with the game takes than a check and the game."""
    with tempfile.TemporaryDirectory() as folder:
        top = lay_world(Path(folder) / "world")
        own = {**os.environ, "CFERRY_COMPUTER": str(top), "CFERRY_HOME": f"{folder}/own"}
        cferry = [sys.executable, "-m", "clever_ferry"]
        game = Path(sys.executable).with_name("saltglass")
        allow: list[str | Path] = [*cferry, "loader", "allow", "saltglass/depot", "--program", game]
        subprocess.run(allow, env=own, check=True, capture_output=True)
        check = seconds([*cferry, "check", "saltglass/depot:1"], own)
        alone = seconds([game, "--store", "depot", "load", "--slot", "1"], own)
        both = seconds([*cferry, "check", "saltglass/depot:1", "--with-game"], own)
    print(f"check {check:.2f} s, the game {alone:.2f} s, check --with-game {both:.2f} s: it adds "
          f"{both - check - alone:.2f} s to both (at most 0.5 wanted)")  # fmt: skip


if __name__ == "__main__":
    main()
