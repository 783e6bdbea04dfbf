"""What one crossing did, as a page: what went where, before and after, and what to do next."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import NamedTuple

from msgspec import Struct

from clever_ferry.sheets.differing import Differences

__all__ = ["Event", "MoveReport", "Report", "placed"]


class Event(NamedTuple):
    """Something on the time line."""

    stamp: int
    """When, in ns since 1970."""
    label: str
    lane: str
    """Which side it was on."""


class MoveReport(Struct, frozen=True):
    """One save's way."""

    title: str
    came_from: str
    went_to: str
    replaced: str
    """What it replaced, in words; '' for nothing."""
    facts: tuple[tuple[str, str, str], ...]
    """Label, before, and after; '' for that where only what was carried is known."""
    renamed: tuple[tuple[str, str], ...] = ()
    done: tuple[str, ...] = ()
    """What was adopted, made, given, stamped and left behind, in words."""
    established: tuple[str, ...] = ()
    """How sure its pieces were when they were read."""
    compared: Differences | None = None
    """The save before against what was read back, where that was done."""


class Report(Struct, frozen=True):
    """One change, told for a person."""

    title: str
    game: str
    state: str
    """What became of it, in words."""
    when: int
    """ns since 1970."""
    source: str
    target: str
    moves: tuple[MoveReport, ...]
    backup: str = ""
    notes: tuple[str, ...] = ()
    steps: tuple[str, ...] = ()
    """What to do next, in order."""
    back: str = ""
    """The command that takes it back."""
    events: tuple[Event, ...] = ()


class _Dot(NamedTuple):
    x: float
    y: float
    label: str
    when: str


def placed(events: Sequence[Event], width: float) -> tuple[list[str], list[_Dot]]:
    """Return the lanes of a time line, and where on it events are.

    They stand in their order, apart enough to be read: the further back, the closer together.
    """
    lanes = list(dict.fromkeys(event.lane for event in events))
    order = sorted(events)
    step = width / (len(order) + 1)
    dots = [
        _Dot(
            step * at, 34 + 64 * lanes.index(event.lane), event.label,
            datetime.fromtimestamp(event.stamp // 10**9, UTC).strftime("%Y-%m-%d %H:%M"),
        )
        for at, event in enumerate(order, 1)
    ]  # fmt: skip
    return lanes, dots
