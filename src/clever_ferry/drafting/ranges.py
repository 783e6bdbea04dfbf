"""A file that holds a table of names, and behind it the bytes of each, as offset and size say."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import islice
from typing import Any, NamedTuple

import numpy as np

from clever_ferry.drafting.tabling import Reserved
from clever_ferry.studying.budget import Budget
from clever_ferry.studying.guess import ORDERS, number_spec
from clever_ferry.studying.rows import (
    NUMBERS,
    Column,
    Dialect,
    Marked,
    Rows,
    cells,
    long_enough,
    number_in,
    rows_around,
    text_end,
)

__all__ = ["Ranges", "odd", "ranges_in"]

_REGION, _FEWEST, _MOST_FIRST, _MOST_COUNTS = 1 << 15, 3, 6, 64
_MOST_CANDIDATES = 400
_MOST_GAP, _MOST_TAIL, _LONGEST_FRONT, _LONGEST_ROW, _MOST_BETWEEN = 4_096, 64, 1_024, 512, 96
_ALIGNS = 2 ** np.arange(1, 13)
_BEFORE = [
    (1 if spec["type"] in ("u8", "varint") else int(spec["type"][1:]) // 8, spec)
    for spec in NUMBERS
]
"""Numbers that may stand right before a table, with how many bytes they have."""
_RUN = re.compile(rb"[\x21-\x7e][\x20-\x7e]{2,}")


class Ranges(NamedTuple):
    """A table of ranges in a file."""

    rows: Rows
    reserved: dict[int, list[Reserved]]
    """The numbers in it that say where the bytes begin and how many they are, by columns."""
    blobs: list[bytes]
    end: int
    """Where the last bytes end."""
    parts: dict[str, Any]
    """The field of all bytes."""


class _Number(NamedTuple):
    column: int
    at: int
    width: int
    order: str
    values: np.ndarray


def ranges_in(raw: bytes, budget: Budget) -> Iterator[Ranges]:
    """Yield the tables that a file may have, the likelier ones first."""
    found: list[Ranges] = []
    for at, units in islice(_candidates(raw), _MOST_CANDIDATES):
        for rows in rows_around([Marked(raw, at)], 0, budget, units=units):
            found += _ranged(raw, rows)
            if budget.over:
                break
    yield from sorted(found, key=lambda one: (odd(raw, one), one.rows.begins))


def odd(raw: bytes, one: Ranges) -> float:
    """Return how unlikely a table is: with numbers of several widths or orders, and no count."""
    specs = [spec for own in one.reserved.values() for _, spec in own]
    widths = [str(spec["type"]) for spec in specs]
    orders = {spec["order"] for spec in specs}
    lengths = [column.spec["length"] for column in one.rows.columns if "length" in column.spec]
    odd = 2.0 * (len(set(widths)) > 1) + 1.0 * widths.count("u16") + 2.0 * (len(orders) > 1)
    odd += 2.0 * any(length.get("order", specs[0]["order"]) not in orders for length in lengths)
    begin, count = one.rows.begins[0], len(one.rows.starts[0])
    told = (number_in(raw, begin - width, spec) for width, spec in _BEFORE if begin >= width)
    return odd + 1.0 * ((count, begin) not in told)


def _candidates(raw: bytes) -> Iterator[tuple[tuple[int, ...], list[Column]]]:
    """Yield where texts begin that may name what is in a table, and of what its rows are then.

    There are as many as a number before them says, and the same number of bytes lies between them.
    """
    region = raw[:_REGION]
    for spec in Dialect(NUMBERS[:5]).texts:
        for at, ends, between in _chains(region, spec):
            for count in _counts(raw[: at[0]], len(at)):
                names = {region[a:b] for a, b in zip(at[:count], ends[:count], strict=True)}
                if len(names) == count and long_enough(spec, at[:count], ends[:count]):
                    units = [Column("bytes", 1)] * between
                    yield at[:count], [Column("text", spec=spec), *units]
    # Filled up to one size, a text is bytes like others until more is known.
    runs = [one.start() for one in _RUN.finditer(region)]
    for number, start in enumerate(runs[:_MOST_FIRST]):
        others = runs[number + 1 : number + _MOST_FIRST]
        for stride in dict.fromkeys(one + more - start for one in others for more in range(4)):
            every: list[int] = []
            # What stands before a text may be printable by chance: it need not begin a run.
            while stride <= _LONGEST_ROW and _RUN.match(region, start + stride * len(every)):
                every.append(start + stride * len(every))
            for count in _counts(raw[:start], len(every)):
                yield tuple(every[:count]), [Column("bytes", 1)] * stride


def _chains(
    region: bytes, spec: dict[str, Any]
) -> Iterator[tuple[tuple[int, ...], tuple[int, ...], int]]:
    """Yield where texts of a kind begin and end that have one distance between them, and that."""
    starts = (at for at in range(_LONGEST_FRONT) if text_end(region, at, spec) is not None)
    for start in islice(starts, _MOST_FIRST):
        for between in range(1, _MOST_BETWEEN):
            begins, ends, at = [], [], start
            while (end := text_end(region, at, spec)) is not None:
                begins.append(at)
                ends.append(end)
                at = end + between
            if len(begins) >= _FEWEST:
                yield tuple(begins), tuple(ends), between


def _counts(front: bytes, most: int) -> list[int]:
    """Return the numbers in a front that may say how many rows follow, the last ones first."""
    found: dict[int, None] = {}
    for at in range(len(front) - 1, -1, -1):
        for spec in NUMBERS:
            told = number_in(front, at, spec)
            if told is not None and told[1] <= len(front) and _FEWEST <= told[0] <= most:
                found.setdefault(told[0])
    return list(found)[:_MOST_COUNTS]


def _ranged(raw: bytes, rows: Rows) -> Iterator[Ranges]:
    numbers = list(_numbers(raw, rows))
    table = rows.ends[0]
    if not numbers:
        return
    every = np.stack([one.values for one in numbers])
    lowest, lasts = every.min(axis=1), every.argmax(axis=1)
    for at, low, last in zip(numbers, lowest.tolist(), lasts.tolist(), strict=True):
        for counted, base in (("start", 0), ("here", table)):
            begin = int(at.values[last]) + base
            if low + base < table or begin > len(raw):
                continue
            behind = len(raw) - begin - every[:, last]  # the last one ends near the file's end
            for near in np.flatnonzero((behind >= 0) & (behind <= _MOST_TAIL)).tolist():
                size = numbers[near]
                apart = size.column != at.column or (
                    size.at >= at.at + at.width or at.at >= size.at + size.width
                )
                if apart and (found := _tiled(raw, rows, at, size, base, counted)) is not None:
                    yield found


def _numbers(raw: bytes, rows: Rows) -> Iterator[_Number]:
    starts = rows.starts[0]
    ends = [cells(rows.columns, raw, start) for start in starts]
    if any(one is None for one in ends):
        return
    for number, column in enumerate(rows.columns):
        if column.kind != "bytes":
            continue
        cut = [(own or [0])[number] - column.size for own in ends]
        field = b"".join(raw[one : one + column.size] for one in cut)
        lines = np.frombuffer(field, np.uint8).reshape(len(cut), column.size)
        for width in (8, 4, 2):
            if column.size < width:
                continue
            windows = np.lib.stride_tricks.sliding_window_view(lines, width, axis=1)
            values = {
                order: np.ascontiguousarray(windows).view(f"{sign}u{width}")[:, :, 0].T
                for order, sign in zip(ORDERS, "<>", strict=True)
            }
            fits = np.stack([one.max(axis=1) for one in values.values()], axis=1)
            for at, which in np.argwhere((fits > 0) & (fits <= len(raw))).tolist():
                own = values[ORDERS[which]][at].astype(np.int64)
                yield _Number(number, at, width, ORDERS[which], own)


def _tiled(
    raw: bytes, rows: Rows, at: _Number, size: _Number, base: int, counted: str
) -> Ranges | None:
    """Return ranges that lie side by side between the table and the end; None where they don't."""
    begins = at.values + base
    order = np.argsort(begins, kind="stable")
    first, ends = begins[order], (begins + size.values)[order]
    gaps = np.concatenate(([first[0] - rows.ends[0]], first[1:] - ends[:-1]))
    end = int(ends[-1])
    if not (0 <= len(raw) - end <= _MOST_TAIL and (gaps >= 0).all() and (gaps < _MOST_GAP).all()):
        return None
    if len(set(size.values.tolist())) < 2 or not (size.values > 0).any():
        return None
    parts: dict[str, Any] = {
        "type": "parts", "name": "blobs", "table": "rows", "offset": "at", "size": "size",
    }  # fmt: skip
    if counted == "here":
        parts["counted"] = "here"
    if gaps.any():
        own = first - (rows.ends[0] if counted == "here" else 0)
        before = own - gaps
        fitting = _ALIGNS[(gaps == -before % _ALIGNS[:, None]).all(axis=1)]
        if not fitting.size:
            return None
        parts["align"] = int(fitting.max())  # whatever fits a multiple fits its parts, too
    reserved: dict[int, list[Reserved]] = {}
    for name, one in (("at", at), ("size", size)):
        spec = {**number_spec(one.width, one.order), "name": name}
        reserved.setdefault(one.column, []).append((one.at, spec))
    for own_fields in reserved.values():
        own_fields.sort(key=lambda pair: pair[0])
    blobs = [
        raw[begin : begin + length]
        for begin, length in zip(begins.tolist(), size.values.tolist(), strict=True)
    ]
    return Ranges(rows, reserved, blobs, end, parts)
