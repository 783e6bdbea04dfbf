"""Time stamps as files keep them, to and from nanoseconds since 1970 (UTC)."""

from __future__ import annotations

from typing import Literal

from clever_ferry.naming.calendar import calendar_parts, calendar_seconds

__all__ = ["StampUnit", "from_ns", "to_ns"]

StampUnit = Literal["s", "ms", "ns", "ticks-1601", "ticks-1", "dos"]
"""Seconds, milliseconds and nanoseconds since 1970; 100 ns since 1601 and since year 1; DOS."""

# Seconds from each calendar's first instant to 1970-01-01 (proleptic Gregorian).
_UNITS: dict[str, tuple[int, int]] = {
    "s": (1_000_000_000, 0),
    "ms": (1_000_000, 0),
    "ns": (1, 0),
    "ticks-1601": (100, 11_644_473_600),
    "ticks-1": (100, 62_135_596_800),
}


def to_ns(value: int, unit: StampUnit) -> int:
    """Return nanoseconds since 1970; raises ValueError for a DOS stamp that is no date.

    >>> to_ns(116444736000000000, "ticks-1601")
    0
    """
    if unit == "dos":
        return _dos_seconds(value) * 1_000_000_000
    size, offset = _UNITS[unit]
    return value * size - offset * 1_000_000_000


def from_ns(ns: int, unit: StampUnit) -> int:
    """Return the stamp in a unit, rounded down; raises ValueError where DOS has no such year."""
    if unit == "dos":
        return _dos_stamp(ns // 1_000_000_000)
    size, offset = _UNITS[unit]
    return (ns + offset * 1_000_000_000) // size


def _dos_seconds(value: int) -> int:
    """Date in the high half (7 bits year from 1980, 4 month, 5 day), time in the low (5, 6, 5)."""
    seconds = calendar_seconds(
        (value >> 25 & 127) + 1980, value >> 21 & 15, value >> 16 & 31,
        value >> 11 & 31, value >> 5 & 63, (value & 31) * 2,
    )  # fmt: skip
    if seconds is None:
        raise ValueError(f"{value:#x} is no DOS time stamp")
    return seconds


def _dos_stamp(seconds: int) -> int:
    year, month, day, hour, minute, second = calendar_parts(seconds)
    if not 1980 <= year <= 2107:
        raise ValueError("a DOS time stamp is of the years 1980 to 2107")
    date = (year - 1980) << 9 | month << 5 | day
    return date << 16 | hour << 11 | minute << 5 | second // 2
