"""Runs of whole processes, in turn, with their wall time and peak memory."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from statistics import median
from typing import NamedTuple

__all__ = ["Run", "in_turn", "ratio_line", "run"]


class Run(NamedTuple):
    """One finished process: wall time in seconds, peak memory in bytes."""

    seconds: float
    memory: int


def run(command: Sequence[str], env: dict[str, str] | None = None) -> Run:
    """Run a command to its end; raises where it fails."""
    whole = {**os.environ, **(env or {})}
    whole.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program has its bytecode
    started = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, env=whole)
    _, status, usage = os.wait4(process.pid, 0)
    seconds = time.perf_counter() - started
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{command} ended with {process.returncode}")
    scale = 1 if sys.platform == "darwin" else 1024
    return Run(seconds, usage.ru_maxrss * scale)


def in_turn(
    first: Callable[[], Run], second: Callable[[], Run], rounds: int
) -> tuple[list[Run], list[Run]]:
    """Run two things A B A B …, after one round that does not count."""
    pairs = [(first(), second()) for _ in range(rounds + 1)][1:]
    return [pair[0] for pair in pairs], [pair[1] for pair in pairs]


def ratio_line(what: str, ours: list[Run], theirs: list[Run], bound: float) -> str:
    """Return one line: the median of the pairwise ratios, and the memory."""
    ratio = median(a.seconds / b.seconds for a, b in zip(ours, theirs, strict=True))
    return (
        f"{what}: {ratio:.2f} times (at most {bound} wanted); "
        f"{median(r.seconds for r in ours):.3f} s against "
        f"{median(r.seconds for r in theirs):.3f} s, "
        f"peak memory {max(r.memory for r in ours) / 1e6:.0f} MB"
    )
