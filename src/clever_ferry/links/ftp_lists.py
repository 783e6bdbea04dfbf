"""Listings of FTP servers: the lines that are made for programs, and those made for people."""

from __future__ import annotations

import re
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta

from clever_ferry.links.wire import Entry
from clever_ferry.moving.shore import Kind

__all__ = ["exact", "loose", "stamp_of"]

_KINDS: dict[str, Kind] = {"file": "file", "dir": "folder"}
_PASSED = ("cdir", "pdir")
_MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"]
_UNIX = re.compile(
    r"([-dlbcps])([-rwxsStT]{9})[+.@]?\s+\d+\s+(?:\S+\s+){1,2}(\d+)\s+"
    r"([A-Za-z]{3})\s+(\d{1,2})\s+(?:(\d{4})|(\d{1,2}):(\d{2}))\s(.+)"
)
_DOS = re.compile(
    r"(\d{2})-(\d{2})-(\d{2}|\d{4})\s+(\d{1,2}):(\d{2})([AP]M)?\s+(<DIR>|[\d,.]+)\s(?:\s*)(.+)"
)


def exact(line: str, only: str | None = None) -> Entry | None:
    """Read a line of MLSD: facts, a space, a name."""
    facts, space, name = line.partition(" ")
    if not space:
        return None
    told = {
        key.lower(): value for key, _, value in (one.partition("=") for one in facts.split(";"))
    }
    kind = told.get("type", "").lower()
    if kind in _PASSED and only is None:
        return None
    size = told.get("size", "0")
    mode = told.get("unix.mode", "")
    try:
        return Entry(
            name, "folder" if kind in _PASSED else _KINDS.get(kind, "other"),
            int(size) if size.isdecimal() else 0,
            stamp_of(told["modify"]) if "modify" in told else 0,
            int(mode, 8) & 0o777 if re.fullmatch("[0-7]{3,5}", mode) else 0o644,
        )  # fmt: skip
    except ValueError:
        return None


def stamp_of(text: str) -> int:
    """Read `20231114221320` or with a fraction, which is UTC; ns since 1970."""
    found = re.fullmatch(r"(\d{14})(?:\.(\d{1,9}))?", text)
    if not found:
        raise ValueError(text)
    when = datetime.strptime(found[1], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    seconds = (when - datetime(1970, 1, 1, tzinfo=UTC)) // timedelta(seconds=1)
    return seconds * 10**9 + int((found[2] or "0").ljust(9, "0"))


def loose(line: str) -> Entry | None:
    """Read a line of a listing that is made for people, as Unix or as DOS has them."""
    if found := _UNIX.fullmatch(line.rstrip("\r\n")):
        letter, bits, size, month, day, year, hour, minute, name = found.groups()
        kinds: dict[str, Kind] = {"-": "file", "d": "folder", "l": "link"}
        if letter == "l":
            name = name.partition(" -> ")[0]
        mode = sum(1 << (8 - at) for at, bit in enumerate(bits) if bit in "rwxst")
        stamp = 0
        with suppress(ValueError):
            stamp = _when(month, int(day), year, int(hour or 0), int(minute or 0))
        return Entry(name, kinds.get(letter, "other"), int(size), stamp, mode)
    if found := _DOS.fullmatch(line.rstrip("\r\n")):
        month, day, year, hour, minute, half, size, name = found.groups()
        number = int(year) + (0 if len(year) == 4 else 1900 if int(year) >= 70 else 2000)
        clock = int(hour) % 12 + (12 if half == "PM" else 0) if half else int(hour)
        stamp = 0
        with suppress(ValueError):
            stamp = _nanoseconds(datetime(number, int(month), int(day), clock, int(minute)))
        if size == "<DIR>":
            return Entry(name, "folder", 0, stamp, 0o755)
        return Entry(name, "file", int(re.sub("[,.]", "", size)), stamp)
    return None


def _when(
    month: str, day: int, year: str | None, hour: int, minute: int,
    today: Callable[[], datetime] = lambda: datetime.now(UTC).replace(tzinfo=None),
) -> int:  # fmt: skip
    number = _MONTHS.index(month.lower()) + 1
    if year is not None:
        return _nanoseconds(datetime(int(year), number, day))
    now = today()
    found = datetime(now.year, number, day, hour, minute)
    if found > now + timedelta(days=1):
        found = found.replace(year=now.year - 1)
    return _nanoseconds(found)


def _nanoseconds(when: datetime) -> int:
    return (when - datetime(1970, 1, 1)) // timedelta(seconds=1) * 10**9
