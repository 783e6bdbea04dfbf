"""How long work tells where it is: through a callback, so that the core prints nothing."""

from __future__ import annotations

from typing import Literal, Protocol

__all__ = ["Progress", "Step", "silent"]

Step = Literal["reading", "backing up", "replacing", "proving", "putting back"]


class Progress(Protocol):
    """Called with the step, the bytes done in it, and all its bytes where they are known."""

    def __call__(self, step: Step, done: int, total: int | None) -> None:
        """Take in where the work is."""


def silent(step: Step, done: int, total: int | None) -> None:
    """Take progress and tell nobody."""


class Tally:
    """Adds up the bytes of one step."""

    def __init__(self, progress: Progress, step: Step, total: int | None) -> None:
        self._progress, self._step, self._total = progress, step, total
        self._done = 0
        progress(step, 0, total)

    def __call__(self, count: int) -> None:
        self._done += count
        self._progress(self._step, self._done, self._total)
