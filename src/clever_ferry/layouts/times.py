"""Time stamps as files keep them, to and from nanoseconds since 1970 (UTC)."""

from __future__ import annotations

from typing import Literal

__all__ = ["StampUnit", "from_ns", "to_ns"]

StampUnit = Literal["s", "ms", "ns", "ticks-1601", "ticks-1"]

# Seconds from each calendar's first instant to 1970-01-01 (proleptic Gregorian).
_UNITS: dict[str, tuple[int, int]] = {
    "s": (1_000_000_000, 0),
    "ms": (1_000_000, 0),
    "ns": (1, 0),
    "ticks-1601": (100, 11_644_473_600),
    "ticks-1": (100, 62_135_596_800),
}


def to_ns(value: int, unit: StampUnit) -> int:
    """Return nanoseconds since 1970.

    >>> to_ns(116444736000000000, "ticks-1601")
    0
    """
    size, offset = _UNITS[unit]
    return value * size - offset * 1_000_000_000


def from_ns(ns: int, unit: StampUnit) -> int:
    """Return the stamp in a unit, rounded down."""
    size, offset = _UNITS[unit]
    return (ns + offset * 1_000_000_000) // size
