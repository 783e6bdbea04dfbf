"""Days as games count and write them, from one calendar to another."""

from __future__ import annotations

import re
from itertools import accumulate

from clever_ferry.recipes.bequest_models import CalendarInfo

__all__ = ["shifted"]

_DATE = re.compile(r"(-?[0-9]{1,6})[.-]([0-9]{1,3})[.-]([0-9]{1,4})")


def shifted(value: object, source: CalendarInfo, target: CalendarInfo, years: int) -> object | None:
    """Return a day of one calendar as one of another, so many years later; None where it is none.

    It is as far through its year as before: halfway stays halfway.
    """
    found = _read(value, source)
    if found is None:
        return None
    year, through = found
    length = sum(target.months)
    day = min(length - 1, through * length // sum(source.months))
    return _written(year + years, day, target)


def _read(value: object, calendar: CalendarInfo) -> tuple[int, int] | None:
    """Return the year, and the day in it, from 0."""
    if calendar.written == "number":
        if isinstance(value, bool) or not isinstance(value, int | float):
            return None
        year, day = calendar.first[0], _in_year(calendar, *calendar.first[1:])
        assert day is not None, "a recipe's first day was looked at when it was read"
        turns, day = divmod(day + int(value) - calendar.counts_from, sum(calendar.months))
        return year + turns, day
    fits = _DATE.fullmatch(str(value).strip())
    if fits is None:
        return None
    found = _in_year(calendar, int(fits[2]), int(fits[3]))
    return None if found is None else (int(fits[1]), found)


def _in_year(calendar: CalendarInfo, month: int, day: int) -> int | None:
    if not 1 <= month <= len(calendar.months) or not 1 <= day <= calendar.months[month - 1]:
        return None
    return sum(calendar.months[: month - 1]) + day - 1


def _written(year: int, day: int, calendar: CalendarInfo) -> int | str:
    if calendar.written == "number":
        first = _in_year(calendar, *calendar.first[1:]) or 0
        years = year - calendar.first[0]
        return years * sum(calendar.months) + day - first + calendar.counts_from
    month = next(n for n, end in enumerate(accumulate(calendar.months)) if day < end)
    day -= sum(calendar.months[:month])
    if calendar.written == "dots":
        return f"{year}.{month + 1}.{day + 1}"
    return f"{year:04}-{month + 1:02}-{day + 1:02}"
