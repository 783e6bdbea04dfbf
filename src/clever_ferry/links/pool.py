"""Connections to one server: made when they are needed, used again, watched, made anew."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from typing import TypeVar

from clever_ferry.errors import NotFoundError
from clever_ferry.links.wire import OpenWire, Wire

__all__ = ["FAULTS", "AwayError", "Pool"]

T = TypeVar("T")
FAULTS = (ConnectionError, TimeoutError, EOFError)
"""What is the link's fault, and not the file's."""
TRIES = 3
_PAUSE = 0.3
_LONGEST = 90.0
"""Seconds that a server may take over one step; each part of a file that comes is one."""
_PATIENCE = 6.0
"""Seconds for which a server that was there is tried again when the link broke."""
_AGAIN = 30.0
"""Seconds for which a server that could not be reached is not tried again."""


class AwayError(NotFoundError, ConnectionError):
    """A server can't be reached, or the link to it broke and can't be had again."""

    def __init__(self, what: str, *, advice: str = "") -> None:
        super().__init__(what, advice=advice)
        self.strerror = what


class Pool:
    """The connections to one server; each is one thread's at a time."""

    def __init__(self, name: str, connect: OpenWire) -> None:
        self._name, self._connect = name, connect
        self._idle: list[Wire] = []
        self._used: dict[int, tuple[Wire, float]] = {}
        self._lock = threading.Lock()
        self._watching: threading.Thread | None = None
        self._away: tuple[float, AwayError] | None = None
        self._was_there = False

    def take(self) -> Wire:
        """Return a connection that nobody uses; raises AwayError where none can be had."""
        with self._lock:
            wire = self._idle.pop() if self._idle else None
        if wire is None:
            wire = self._new()
        wire.stepped = partial(self.goes_on, wire)
        self.goes_on(wire)
        return wire

    def _new(self) -> Wire:
        if self._away is not None and time.monotonic() < self._away[0]:
            raise self._away[1]
        until = time.monotonic() + (_PATIENCE if self._was_there else 0)
        while True:
            try:
                wire = self._connect()
                break
            except (OSError, EOFError) as error:
                if time.monotonic() >= until or isinstance(error, PermissionError):
                    away = AwayError(
                        f"{self._name} can't be reached: {_words(error)}.",
                        advice="See that the server runs and that you are online, then run the "
                        "same command again.",
                    )
                    self._away = (time.monotonic() + _AGAIN, away)
                    raise away from error
            time.sleep(_PAUSE)
        self._away, self._was_there = None, True
        return wire

    def goes_on(self, wire: Wire) -> None:
        """Note that a connection in use has come a step further."""
        with self._lock:
            self._used[id(wire)] = (wire, time.monotonic() + _LONGEST)
            if self._watching is None:
                self._watching = threading.Thread(target=self._watch, daemon=True)
                self._watching.start()

    def _watch(self) -> None:
        while True:
            time.sleep(_LONGEST / 20)
            with self._lock:
                if not self._used:
                    self._watching = None
                    return
                late = [wire for wire, end in self._used.values() if time.monotonic() > end]
            for wire in late:
                wire.abort()  # whoever waits for it gets a fault of the link

    def give(self, wire: Wire) -> None:
        """Give a connection back that is ready for the next step."""
        with self._lock:
            self._used.pop(id(wire), None)
            self._idle.append(wire)

    def drop(self, wire: Wire) -> None:
        """Give a connection up, and those that nobody uses: they will have broken, too."""
        with self._lock:
            self._used.pop(id(wire), None)
            dropped, self._idle = [wire, *self._idle], []
        for one in dropped:
            one.abort()

    def do(self, work: Callable[[Wire], T], again: Callable[[Wire], T] | None = None) -> T:
        """Do one step; where the link breaks, do it again, or `again` on a new connection."""
        for attempt in range(TRIES):
            wire = self.take()
            try:
                done = (again or work)(wire) if attempt else work(wire)
            except FAULTS as error:
                self.drop(wire)
                if attempt == TRIES - 1:
                    raise self.broken(error) from error
                time.sleep(_PAUSE * attempt)
            except OSError:
                self.give(wire)
                raise
            except BaseException:
                self.drop(wire)
                raise
            else:
                self.give(wire)
                return done
        raise AssertionError

    def broken(self, error: BaseException) -> AwayError:
        """Return what is said where the link broke and does not come back."""
        return AwayError(
            f"The link to {self._name} broke: {_words(error)}.",
            advice="See that you are online, then run the same command again.",
        )

    def close(self) -> None:
        """End all connections that nobody uses."""
        with self._lock:
            idle, self._idle = self._idle, []
        for wire in idle:
            with suppress(OSError, EOFError):
                wire.close()


def _words(error: BaseException) -> str:
    if isinstance(error, TimeoutError):
        return "it did not answer in time"
    if isinstance(error, EOFError):
        return "it ended the connection"
    told = getattr(error, "strerror", None) or str(error) or type(error).__name__
    return str(told)[:200].rstrip(".")
