"""Moments as people type them: `10m`, `2h`, `18:30`, `2026-11-20`."""

from __future__ import annotations

import re
import time
from datetime import datetime, timedelta

from clever_ferry.errors import WrongUseError

__all__ = ["moment"]

_AGO = re.compile(r"(\d{1,6})\s*(s|m|h|d|w)")
_UNITS = {"s": 1, "m": 60, "h": 3600, "d": 86_400, "w": 604_800}
_FORMS = ("%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%d")


def moment(text: str, now: float | None = None) -> int:
    """Return ns since 1970; a time of day is the last one that there was.

    >>> moment("10m", now=1_000_000.0)
    999400000000000
    """
    now = time.time() if now is None else now
    if ago := _AGO.fullmatch(text.strip().lower()):
        return int(now - int(ago[1]) * _UNITS[ago[2]]) * 10**9
    try:
        clock = datetime.strptime(text.strip(), "%H:%M")
        today = datetime.fromtimestamp(now)
        then = today.replace(hour=clock.hour, minute=clock.minute, second=0, microsecond=0)
        return int((then if then <= today else then - timedelta(days=1)).timestamp()) * 10**9
    except ValueError:
        pass
    for form in _FORMS:
        try:
            return int(datetime.strptime(text.strip(), form).timestamp()) * 10**9
        except (ValueError, OverflowError, OSError):
            continue
    raise WrongUseError(
        f"{text!r} is no time that is understood.",
        advice="Say how long ago (90s, 10m, 2h, 3d) or when (18:30, 2026-11-20, "
        "'2026-11-20 18:30').",
    )
