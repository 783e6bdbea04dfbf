"""Where values that the player knows stand: in texts, in numbers of any width, in what is packed.

What a menu shows is often rounded (`11h46`), and may be kept in other units. Each file whose value
is known leaves fewer places; those that fit all of them are told.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
from msgspec import Struct

from clever_ferry.studying.budget import Budget

__all__ = ["Found", "Wanted", "find_value", "wanted"]

_TIME = re.compile(
    r"(?:(?P<d>\d+)\s*d(?:ays?)?\s*)?(?P<h>\d+)\s*h(?:ours?)?\s*"
    r"(?:(?P<m>\d+)\s*(?:m(?:in)?)?)?\s*(?:(?P<s>\d+)\s*s?)?"
)
_CLOCK = re.compile(r"(?P<h>\d+):(?P<m>\d\d)(?::(?P<s>\d\d))?")
_MINUTES = re.compile(r"(?P<m>\d+)\s*min(?:\s*(?P<s>\d+)\s*s)?")
_NUMBER = re.compile(r"[+-]?\d{1,3}(?:[ ,']\d{3})+|[+-]?\d+(?:\.\d+)?")
_UNITS = {"seconds": 1.0, "milliseconds": 1e3, "minutes": 1 / 60, "hours": 1 / 3600,
          "ticks of 100 ns": 1e7, "frames, 60 a second": 60.0}  # fmt: skip
"""In which play time is kept, and how many of them are a second."""
_MOST_PLACES = 2_000_000
_CHANCE = 0.01
"""How many places may fit by chance for what is found to be called sure."""


class Wanted(Struct, frozen=True):
    """A value that a player knows, as a range where what is shown is rounded."""

    name: str
    shown: str
    texts: tuple[str, ...]
    """How it may be written."""
    low: float | None = None
    high: float | None = None
    is_time: bool = False
    """Whether it is a play time, in seconds."""


class Found(Struct, frozen=True):
    """One way in which a value stands in files."""

    how: str
    """In words."""
    places: tuple[str, ...]
    """Where, in short; at most a few."""
    count: int
    """How many places fit."""
    sure: bool
    """Whether it stands at one place alone, and chance is as good as ruled out."""
    spec: Mapping[str, Any] = {}
    """What of it a recipe's fact or layout says."""


def wanted(name: str, shown: str) -> Wanted:
    """Return what to look for, by what a menu shows.

    >>> wanted("played", "11h46").low, wanted("money", "1,130").low, wanted("name", "Isle").low
    (42360.0, 1130.0, None)
    """
    text = shown.strip()
    for form in (_TIME, _CLOCK, _MINUTES):
        if match := form.fullmatch(text):
            part = {key: int(value or 0) for key, value in match.groupdict().items()}
            low = float(
                86400 * part.get("d", 0)
                + 3600 * part.get("h", 0)
                + 60 * part["m"]
                + part.get("s", 0)
            )
            exact = match.groupdict().get("s") is not None
            return Wanted(name, shown, (text,), low, low if exact else low + 59.999, True)
    if _NUMBER.fullmatch(text):
        plain = re.sub("[ ,']", "", text)
        number = float(plain)
        return Wanted(name, shown, tuple(dict.fromkeys((plain, text))), number, number)
    return Wanted(name, shown, (text,))


# Where ------------------------------------------------------------------------------------


def find_value(
    samples: Sequence[tuple[bytes, Wanted]], leaves: Sequence[Sequence[tuple[str, str]]],
    budget: Budget,
) -> list[Found]:  # fmt: skip
    """Return where a value stands in all files for which it is known, the likeliest first.

    `leaves` are the values of each file, where it is a text with a form.
    """
    if not samples:
        return []
    if any(leaves):
        return sorted(_in_leaves(samples, leaves), key=lambda one: one.count)
    found = _widest([*_as_texts(samples), *_as_numbers(samples, budget)])
    return sorted(found, key=lambda one: (not one.sure, one.count))


def _widest(found: Sequence[Found]) -> list[Found]:
    """Return ways of which none is only a narrower number at the same places as another."""
    wide: dict[object, Found] = {}
    for one in found:  # they come in the order of their widths
        wide[_lowest(one)] = one
    return [one for one in found if wide[_lowest(one)] is one]


def _lowest(one: Found) -> object:
    """Return what numbers of all widths at one place share: where their lowest byte is."""
    kind, order = one.spec.get("type", ""), one.spec.get("order")
    if kind[:1] != "u":
        return id(one)
    width = int(kind[1:]) // 8
    return (
        order,
        one.spec["byte"] + (width if order == "big" else 0),
        one.count,
        one.spec.get("kept_in"),
    )


def _in_leaves(
    samples: Sequence[tuple[bytes, Wanted]], leaves: Sequence[Sequence[tuple[str, str]]]
) -> Iterator[Found]:
    by_unit: dict[str, list[dict[str, None]]] = {}
    for (_, one), own in zip(samples, leaves, strict=True):
        units = _UNITS if one.is_time else {"": 1.0}
        for unit, factor in units.items():
            fits = {place: None for place, text in own if _fits(one, text, factor)}
            by_unit.setdefault(unit, []).append(fits)
    for unit, every in by_unit.items():
        common = [place for place in every[0] if all(place in other for other in every[1:])]
        if common:
            differ = len({one.shown for _, one in samples}) > 1
            sure = len(common) == 1 and (differ or samples[0][1].low is None)
            how = "as text" + (f", in {unit}" if unit else "")
            spec = {"at": common[0], **_unit(unit)}
            yield Found(how, tuple(common[:4]), len(common), sure, spec)


def _unit(unit: str) -> dict[str, Any]:
    return {"unit": "s"} if unit == "seconds" else {}


def _fits(one: Wanted, text: str, factor: float) -> bool:
    if one.low is None or one.high is None:
        return text in one.texts
    try:
        number = float(text)
    except ValueError:
        return text in one.texts
    # A number that is kept in larger units than seconds is rounded down.
    return (
        one.low * factor - (factor < 1) < number <= one.high * factor
        if factor < 1
        else (one.low * factor <= number <= one.high * factor)
    )


def _as_texts(samples: Sequence[tuple[bytes, Wanted]]) -> Iterator[Found]:
    if any(one.is_time for _, one in samples):
        return
    for encoding in ("utf-8", "utf-16-le", "utf-16-be", "shift-jis", "latin-1"):
        spelled = []
        for data, one in samples:
            try:
                spelled.append((data, [text.encode(encoding) for text in one.texts]))
            except UnicodeEncodeError:
                break
        raws = [raw for _, own in spelled for raw in own]
        if len(spelled) < len(samples) or min(map(len, raws)) < 2:
            continue
        if encoding in ("latin-1", "shift-jis") and all(raw.isascii() for raw in raws):
            continue
        spots = [
            np.unique(np.array([at for raw in own for at in _all(data, raw)], np.int64))
            for data, own in spelled
        ]
        bits, spec = 8.0 * min(map(len, raws)), {"type": "text", "encoding": encoding}
        yield from _common(samples, spots, f"as text ({encoding})", bits, spec)


def _chance(
    samples: Sequence[tuple[bytes, Wanted]], spots: Sequence[np.ndarray], own: Sequence[int],
    bits: float,
) -> float:  # fmt: skip
    """Return how many places one would expect to fit all different values by chance.

    Of several, those of the first file times how often each other value stands anywhere.
    """
    if len(own) > 1:
        found = float(len(spots[own[0]]))
        for at in own[1:]:
            found *= (len(spots[at]) + 1) / max(1, len(samples[at][0]))
        return found
    data, one = samples[0]
    if one.high is not None:  # small numbers are common, however wide they are kept
        bits = min(bits, np.log2(1 + abs(one.high)) + 4)
    return float(len(data) * 2.0 ** -max(0.0, bits))


def _all(data: bytes, raw: bytes) -> list[int]:
    found: list[int] = []
    at = data.find(raw)
    while at >= 0 and len(found) < _MOST_PLACES:
        found.append(at)
        at = data.find(raw, at + 1)
    return found


_TYPES = (
    ("u8", "u1", 8), ("u16", "<u2", 16), ("u16", ">u2", 16), ("u32", "<u4", 32), ("u32", ">u4", 32),
    ("u64", "<u8", 64), ("u64", ">u8", 64), ("f32", "<f4", 24), ("f32", ">f4", 24),
    ("f64", "<f8", 50), ("f64", ">f8", 50),
)  # fmt: skip


def _as_numbers(samples: Sequence[tuple[bytes, Wanted]], budget: Budget) -> Iterator[Found]:
    if any(one.low is None for _, one in samples):
        return
    units = _UNITS if any(one.is_time for _, one in samples) else {"": 1.0}
    for name, form, bits in _TYPES:
        for unit, factor in units.items():
            if budget.over:
                return
            if unit == "hours" and not name.startswith("f"):
                continue
            spots = [_numbers(data, one, form, factor) for data, one in samples]
            order = {"<": "little", ">": "big"}.get(form[0], "little")
            how = f"as a number ({_in_words(name, order)}{f', in {unit}' if unit else ''})"
            yield from _common(
                samples, spots, how, bits, {"type": name, "order": order, **_unit(unit)}
            )
    yield from _as_varints(samples)


def _in_words(name: str, order: str) -> str:
    if name == "u8":
        return "one byte"
    kind = "with a point, " if name.startswith("f") else ""
    first = "lowest" if order == "little" else "highest"
    return f"{kind}{int(name[1:]) // 8} bytes, the {first} first"


def _numbers(data: bytes, one: Wanted, form: str, factor: float) -> np.ndarray:
    assert one.low is not None
    assert one.high is not None
    kind = np.dtype(form)
    low, high = one.low * factor, one.high * factor
    if kind.kind == "u":
        if factor < 1:
            low = float(int(low))
        if high < 0 or low > float(np.iinfo(kind).max):
            return np.empty(0, np.int64)
    found: list[np.ndarray] = []
    for shift in range(kind.itemsize):
        count = (len(data) - shift) // kind.itemsize
        if count <= 0:
            continue
        values = np.frombuffer(data, kind, count, shift)
        if kind.kind == "f":
            slack = abs(high) * 1e-6 + 1e-9
            with np.errstate(invalid="ignore"):
                fits = (values >= low - slack) & (values <= high + slack)
        elif low == high:
            fits = values == kind.type(int(low)) if low == int(low) else np.zeros(count, bool)
        else:
            fits = (values >= kind.type(int(np.ceil(low)))) & (values <= kind.type(int(high)))
        found.append(np.flatnonzero(fits) * kind.itemsize + shift)
    return np.unique(np.concatenate(found)) if found else np.empty(0, np.int64)


def _as_varints(samples: Sequence[tuple[bytes, Wanted]]) -> Iterator[Found]:
    spots = []
    for data, one in samples:
        if one.low != one.high or one.low is None or one.low < 128 or one.low != int(one.low):
            return
        rest, raw = int(one.low), bytearray()
        while rest > 127:
            raw.append(rest & 127 | 128)
            rest >>= 7
        spots.append(np.array(_all(data, bytes(raw) + struct.pack("B", rest)), np.int64))
    yield from _common(
        samples, spots, "as a number of as many bytes as it needs", 14, {"type": "varint"}
    )


def _common(
    samples: Sequence[tuple[bytes, Wanted]], spots: Sequence[np.ndarray], how: str, bits: float,
    spec: Mapping[str, Any],
) -> Iterator[Found]:  # fmt: skip
    """Yield the places that all files share, counted from the front or from the end."""
    sizes = [len(data) for data, _ in samples]
    fronts = [np.asarray(own, np.int64) for own in spots]
    ways = [("from the front", fronts)]
    if len(set(sizes)) > 1:
        ways.append(("from the end", [own - size for own, size in zip(fronts, sizes, strict=True)]))
    different = {one.texts: at for at, (_, one) in enumerate(samples)}
    width = max(((one.high or 0) - (one.low or 0) for _, one in samples), default=0)
    for way, own in ways:
        common = own[0]
        for other in own[1:]:
            common = np.intersect1d(common, other)
        if not len(common):
            continue
        if way == "from the end" and len(different) == 1:
            continue
        chance = _chance(samples, own, list(different.values()), bits - np.log2(1 + width))
        places = tuple(
            f"byte {at:,}" if at >= 0 else f"{-at:,} bytes before the end" for at in common[:4]
        )
        sure = len(common) == 1 and chance < _CHANCE
        told = f"{how}, {way}" if len(ways) > 1 else how
        yield Found(told, places, len(common), sure, {**spec, "byte": int(common[0])})
