"""Calendar days and seconds since 1970, without a clock (proleptic Gregorian, no leap seconds)."""

from __future__ import annotations

__all__ = ["calendar_parts", "calendar_seconds", "month_days"]

_DAY = 86_400
_MONTHS = (31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)


def _leap(year: int) -> bool:
    return year % 4 == 0 and (year % 100 != 0 or year % 400 == 0)


def month_days(year: int, month: int) -> int:
    """Return how many days a month has."""
    return _MONTHS[month - 1] + (month == 2 and _leap(year))


def _days_before(year: int) -> int:
    """Return the days from 1 January of year 1 to 1 January of a year."""
    past = year - 1
    return past * 365 + past // 4 - past // 100 + past // 400


def calendar_seconds(
    year: int, month: int, day: int, hour: int = 0, minute: int = 0, second: int = 0
) -> int | None:
    """Return the seconds since 1970, or None where there is no such day or time.

    >>> calendar_seconds(2026, 11, 23, 6, 14)
    1795414440
    """
    if not (1 <= year <= 9999 and 1 <= month <= 12 and 1 <= day <= month_days(year, month)):
        return None
    if hour > 23 or minute > 59 or second > 59:
        return None
    days = _days_before(year) - _days_before(1970) + day - 1
    days += sum(month_days(year, earlier) for earlier in range(1, month))
    return days * _DAY + hour * 3600 + minute * 60 + second


def calendar_parts(seconds: int) -> tuple[int, int, int, int, int, int]:
    """Return year, month, day, hour, minute and second.

    >>> calendar_parts(1795414440)
    (2026, 11, 23, 6, 14, 0)
    """
    days, rest = divmod(seconds, _DAY)
    days += _days_before(1970)
    year = days * 400 // 146_097 + 1
    while _days_before(year) > days:
        year -= 1
    while _days_before(year + 1) <= days:
        year += 1
    days -= _days_before(year)
    month = 1
    while days >= month_days(year, month):
        days -= month_days(year, month)
        month += 1
    return year, month, days + 1, rest // 3600, rest // 60 % 60, rest % 60
