"""What loading and compiling recipes costs a command, once Python has its modules.

python -m benchmarks.recipes
"""

from __future__ import annotations

import time
from collections.abc import Callable
from statistics import median

from clever_ferry.recipes import Recipes


def _milliseconds(job: Callable[[], object]) -> float:
    times = []
    for _ in range(9):
        started = time.perf_counter()
        job()
        times.append((time.perf_counter() - started) * 1000)
    return median(times)


def main() -> None:
    """Print the times; what counts is all of them at once."""
    ids = Recipes(None).game_ids()
    everything = _milliseconds(lambda: Recipes(None).games())
    one = _milliseconds(lambda: Recipes(None).game(ids[0]))
    print(f"all {len(ids)} games' recipes and their boxes: {everything:.1f} ms (under 50 wanted)")
    print(f"one game's, which is what most commands need: {one:.1f} ms")


if __name__ == "__main__":
    main()
