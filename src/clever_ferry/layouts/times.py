"""Time stamps as files keep them, to and from nanoseconds since 1970 (UTC)."""

from __future__ import annotations

from typing import Literal

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
_DAY = 86_400
_DAYS_IN_MONTHS = (31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)


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


def _leap(year: int) -> bool:
    return year % 4 == 0 and (year % 100 != 0 or year % 400 == 0)


def _month_days(year: int, month: int) -> int:
    return _DAYS_IN_MONTHS[month - 1] + (month == 2 and _leap(year))


def _dos_seconds(value: int) -> int:
    """Date in the high half (7 bits year from 1980, 4 month, 5 day), time in the low (5, 6, 5)."""
    day, month, year = value >> 16 & 31, value >> 21 & 15, (value >> 25 & 127) + 1980
    second, minute, hour = (value & 31) * 2, value >> 5 & 63, value >> 11 & 31
    if not (1 <= month <= 12 and hour < 24 and minute < 60 and second < 60):
        raise ValueError(f"{value:#x} is no DOS time stamp")
    if not 1 <= day <= _month_days(year, month):
        raise ValueError(f"{value:#x} is no DOS time stamp")
    days = sum(366 if _leap(y) else 365 for y in range(1970, year))
    days += sum(_month_days(year, m) for m in range(1, month)) + day - 1
    return days * _DAY + hour * 3600 + minute * 60 + second


def _dos_stamp(seconds: int) -> int:
    days, rest = divmod(seconds, _DAY)
    year = 1970
    while days >= (length := 366 if _leap(year) else 365):
        days -= length
        year += 1
    month = 1
    while days >= (length := _month_days(year, month)):
        days -= length
        month += 1
    if not 1980 <= year <= 2107:
        raise ValueError("a DOS time stamp is of the years 1980 to 2107")
    hour, minute, second = rest // 3600, rest // 60 % 60, rest % 60
    date = (year - 1980) << 9 | month << 5 | (days + 1)
    return date << 16 | hour << 11 | minute << 5 | second // 2
