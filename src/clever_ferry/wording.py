"""Values as a player would say them."""

from __future__ import annotations

import math
from collections.abc import Iterable

from clever_ferry.visible import visible

__all__ = ["bytes_in_words", "in_words", "known"]

_LONGEST, _LARGEST = 300, 10**30
"""Characters that are told of a text; a number beyond which a value is no time and no count."""
_DAYS_TO_YEAR_1 = 365
"""Year 0 of the days-0 count is a leap year; Python's ordinals count from 1 January of year 1."""


def in_words(value: int | float | str, unit: str | None) -> str:
    """Return a value as a player would say it.

    >>> in_words(43500, "s"), in_words(1250, "count"), in_words(712225, "days-0")
    ('12 h 05 min', '1,250', '1950-01-03')
    """
    if isinstance(value, str):
        return _short(visible(value[: _LONGEST + 1]).replace("\n", "\N{REPLACEMENT CHARACTER}"))
    if isinstance(value, int) and abs(value) > _LARGEST:
        return _short(str(value))
    if isinstance(value, bool):
        return str(value)
    if isinstance(value, float) and not math.isfinite(value):
        return "no number"
    match unit:
        case "s":
            minutes = int(value) // 60
            return f"{minutes // 60} h {minutes % 60:02} min" if minutes >= 60 else f"{minutes} min"
        case "days-0":
            return _calendar_day(int(value))
        case "count":
            return f"{value:,}"
        case _:
            return str(value)


def bytes_in_words(raw: bytes) -> str:
    """Return bytes as letters where they are such, else in hex; `nothing` for none.

    >>> bytes_in_words(b"DATE"), bytes_in_words(b"\\x00\\xff")
    ("'DATE'", 'the bytes 00 ff')
    """
    if not raw:
        return "nothing"
    if raw.isascii() and raw.decode("ascii").isprintable():
        return repr(raw.decode("ascii"))
    return f"the bytes {_short(raw.hex(' '))}"


def _short(text: str) -> str:
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…"


def _calendar_day(days: int) -> str:
    """Return the ISO date, also beyond the year 9999 (the calendar repeats every 146,097 days)."""
    from datetime import date

    turns, inner = divmod(days - _DAYS_TO_YEAR_1 - 1, 146_097)
    day = date.fromordinal(inner + 1)
    return f"{day.year + 400 * turns:04}-{day.month:02}-{day.day:02}"


def known(names: Iterable[str]) -> str:
    """Return which names there are, in words."""
    shown = ", ".join(sorted(name for name in names if name))
    return f"there are {shown}" if shown else "there are none"
