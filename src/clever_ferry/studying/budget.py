"""How long a study may take, and how many bytes it may hold."""

from __future__ import annotations

import time
from collections.abc import Callable

__all__ = ["MOST_HELD", "Budget", "OverError"]

MOST_HELD = 64 << 20
"""Bytes of one file, or of what is packed in it, that are looked at."""


class OverError(Exception):
    """The time is up, or the user wants no more; what is known so far is told."""


class Budget:
    """A time limit, in seconds from now; `shown` is told what is looked for, as it goes."""

    def __init__(
        self, seconds: float, shown: Callable[[str], None] = lambda _: None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:  # fmt: skip
        self._clock = clock
        self._end = clock() + seconds
        self.seconds = seconds
        self._shown = shown
        self.stopped_at = ""
        """What was looked for as the time was up; '' where it was enough."""

    def begin(self, what: str) -> None:
        """Note that something else is looked for; raises OverError where the time is up."""
        self._shown(what)
        if self._clock() >= self._end:
            self.stopped_at = self.stopped_at or what
            raise OverError(what)

    @property
    def over(self) -> bool:
        """Whether the time is up."""
        return self._clock() >= self._end
