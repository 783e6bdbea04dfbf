"""`cferry --help` against a process that imports click alone.

python -m benchmarks.startup
"""

from __future__ import annotations

import sys

from benchmarks.measuring import in_turn, ratio_line, run


def main() -> None:
    """Print the ratio."""
    ours, theirs = in_turn(
        lambda: run([sys.executable, "-m", "clever_ferry", "--help"]),
        lambda: run([sys.executable, "-c", "import click"]),
        rounds=15,
    )
    print(ratio_line("cferry --help against import click", ours, theirs, 1.3))


if __name__ == "__main__":
    main()
