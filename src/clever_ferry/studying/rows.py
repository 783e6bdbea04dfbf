"""How rows of a table are built, in bytes of which nobody knows the build.

Known of each row is one byte: where an identifier begins that names a file, or a text. What stands
from there to the next row's is parsed in all rows at once, by the fewest bytes that stay unclear.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Mapping, Sequence
from itertools import count as counting
from itertools import pairwise
from typing import Any, NamedTuple

from msgspec import Struct

from clever_ferry.studying.budget import Budget
from clever_ferry.studying.guess import ORDERS, number_at

__all__ = [
    "NUMBERS",
    "Column",
    "Dialect",
    "Marked",
    "Rows",
    "cells",
    "long_enough",
    "number_in",
    "rows_around",
    "text_end",
]

NUMBERS: tuple[Any, ...] = (
    {"type": "u32", "order": "little"}, {"type": "u32", "order": "big"},
    {"type": "u16", "order": "little"}, {"type": "u16", "order": "big"},
    {"type": "u8"}, {"type": "varint"},
)  # fmt: skip
"""Numbers that say how long or how many something is, as layouts of recipes have them."""
_ELEMENTS = (4, 8, 12, 16, 20, 24, 32, 36)
_TEXT, _LIST, _BYTE, _SAME, _REST = 2.0, 1.5, 1.0, 0.4, 4.0
"""What it costs to say that something is one."""
_WRITTEN = ("\0\u0180", "\u0370\u0700", "\u0900\u0e80", "\u1e00\u2000", "\u3040\u3100",
            "\u4e00\ua000", "\uac00\ud7a4", "\uff00\ufff0")  # fmt: skip
"""Letters in which names are written: from one to before the other."""
_MOST_GAPS, _MOST_STATES, _LONGEST_ROW, _FARTHEST = 24, 4_000, 4_096, 1_200


class Marked(NamedTuple):
    """Bytes with a table, and where in each of its rows something known begins."""

    raw: bytes
    at: tuple[int, ...]
    parts: tuple[tuple[int, ...], ...] = ()
    """The sizes of each row's parts, where those are known."""


class Dialect(NamedTuple):
    """How lengths and counts are written in one table: as which numbers."""

    numbers: Sequence[Mapping[str, Any]]

    @property
    def texts(self) -> list[dict[str, Any]]:
        """The kinds of texts, whose length stands before them, or that end with a zero."""
        wide = [one for one in self.numbers if one["type"] != "varint"]
        return [
            *({"length": one} for one in (wide or self.numbers)), {"ends": "zero"},
            *(
                {"length": one, "counts": counts, "encoding": "utf-16-le"}
                for counts in ("characters", "bytes") for one in (wide or self.numbers)
            ),
        ]  # fmt: skip


class Column(Struct, frozen=True):
    """One thing in all rows: `known`, `text`, `bytes`, `list`, `rest`."""

    kind: str
    size: int = 0
    """Bytes, where that is the same in all; of a list, those of each of its elements."""
    spec: Mapping[str, Any] = {}
    """Of a text, its keys as layouts of recipes have them; of a list, its count."""


class Rows(Struct, frozen=True):
    """A table's rows, in one or several bytes."""

    columns: tuple[Column, ...]
    starts: tuple[tuple[int, ...], ...]
    """Where each row begins; with a frame, behind that."""
    begins: tuple[int, ...]
    """Where the first row of each begins, its frame included."""
    ends: tuple[int, ...]
    """Where the last row of each ends."""
    frame: Mapping[str, Any] | None = None
    """The number before each row that says how long it is."""


def number_in(raw: bytes, at: int, spec: Mapping[str, Any]) -> tuple[int, int] | None:
    """Return the number that begins at a byte, and where it ends; None where there is none."""
    if spec["type"] == "varint":
        value = shift = 0
        for end in range(at, min(at + 5, len(raw))):
            value |= (raw[end] & 0x7F) << shift
            shift += 7
            if raw[end] < 0x80:
                return value, end + 1
        return None
    end = at + int(spec["type"][1:]) // 8
    if not 0 <= at < end <= len(raw):
        return None
    return int.from_bytes(raw[at:end], spec.get("order", "little")), end


def text_end(raw: bytes, at: int, spec: Mapping[str, Any]) -> int | None:
    """Return where the text ends that begins at a byte; None where no sensible one does."""
    if "ends" in spec:
        end = raw.find(0, at, at + 1024)
        return end + 1 if end > at and _legible(raw[at:end], "utf-8") else None
    found = number_in(raw, at, spec["length"])
    if found is None:
        return None
    size, begin = found
    size *= 2 if spec.get("counts") == "characters" else 1
    if not 0 < size <= 1024 or begin + size > len(raw):
        return None
    encoding = str(spec.get("encoding", "utf-8"))
    return begin + size if _legible(raw[begin : begin + size], encoding) else None


def _legible(raw: bytes, encoding: str) -> bool:
    try:
        text = raw.decode(encoding)
    except UnicodeDecodeError:
        return False
    plain = sum((char.isalnum() and not _rare(char)) or char in " _-.'/" for char in text)
    return text.isprintable() and 10 * plain >= 8 * len(text)


def _rare(char: str) -> bool:
    """Tell whether a letter is of those that hardly a name has, and that numbers look like."""
    return not any(span[0] <= char < span[1] for span in _WRITTEN)


def cells(columns: Sequence[Column], raw: bytes, at: int, end: int = -1) -> list[int] | None:
    """Return where each column of a row ends; None where it is no such row."""
    found: list[int] = []
    for one in columns:
        after = _over(one, raw, at, end)
        if after is None or after > len(raw):
            return None
        found.append(after)
        at = after
    return found if end < 0 or at == end else None


def _over(one: Column, raw: bytes, at: int, end: int) -> int | None:
    if one.kind == "text":
        return text_end(raw, at, one.spec)
    if one.kind == "list":
        found = number_in(raw, at, one.spec)
        return None if found is None else found[1] + found[0] * one.size
    return end if one.kind == "rest" else at + one.size


# Finding them ---------------------------------------------------------------------------------


class _Gap(NamedTuple):
    """What is to be parsed: from a byte to another, and the sizes of the parts that a list has."""

    raw: bytes
    start: int
    end: int
    parts: tuple[int, ...] | None


def rows_around(
    samples: Sequence[Marked],
    width: int,
    budget: Budget,
    *,
    units: Sequence[Column] | None = None,
    order: str = "",
) -> Iterator[Rows]:
    """Yield how rows may be built around what is known in each, which is `width` bytes long.

    What begins every row is yielded where a number says how long the rows are; else all ways to
    cut what repeats into rows, which what stands before and behind the table has to decide. With
    `units`, what repeats is known already: its columns, bytes singly. `order` is that of the bytes
    of its numbers, where it is known.
    """
    every = [one for one in NUMBERS if not order or one.get("order", order) == order]
    if units is None and (framed := _framed(samples, every)) is not None:
        yield from _in_frames(samples, width, *framed, budget)
        return
    gaps = [
        _Gap(one.raw, at + width, other, one.parts[row] if one.parts else None)
        for one in samples
        for row, (at, other) in enumerate(pairwise(one.at))
    ]
    if not gaps or any(not 0 <= gap.end - gap.start <= _LONGEST_ROW for gap in gaps):
        return
    own = [Column("known", width)] if width else []
    for way in [units] if units is not None else _ways(gaps, Dialect(every), budget, rest=False):
        for cut in range(len(way), -1, -1):
            made = _cut(samples, way[cut:], [*own, *way[:cut]])
            if made is not None:
                yield made


def _ways(
    gaps: Sequence[_Gap], dialect: Dialect, budget: Budget, *, rest: bool
) -> Iterator[Sequence[Column]]:
    """Yield of what gaps may be: bytes of one number in all, and what is found by parsing."""
    sizes = {one.end - one.start for one in gaps}
    if len(sizes) == 1:
        yield [Column("bytes", 1)] * sizes.pop()
    parsed = _parsed(gaps, dialect, budget, rest=rest)
    if parsed is not None:
        yield parsed


Frames = tuple[Mapping[str, Any], list[list[tuple[int, int, int]]]]
"""The number before each row, and for each table where it, the row's body, and its end are."""


def _framed(samples: Sequence[Marked], numbers: Sequence[Mapping[str, Any]]) -> Frames | None:
    """Return the number before each row that says how long it is, and where the rows are."""
    if sum(len(one.at) - 1 for one in samples) < 2:
        return None
    for spec in [one for one in numbers if one["type"] != "u8"]:
        every = [_chained(one, spec) for one in samples]
        chains = [one for one in every if one is not None]
        if len(chains) == len(every):
            return spec, chains
    return None


def _chained(sample: Marked, spec: Mapping[str, Any]) -> list[tuple[int, int, int]] | None:
    """Return rows that follow each other by their lengths, with one thing that is known in each.

    Where the first may begin at several bytes, it is of nearly the length of the others.
    """
    best: list[tuple[int, int, int]] | None = None
    for start in range(sample.at[0] - 1, max(-1, sample.at[0] - _FARTHEST), -1):
        found: list[tuple[int, int, int]] = []
        at = start
        for row, mark in enumerate(sample.at):
            told = number_in(sample.raw, at, spec)
            if told is None:
                break
            end = told[1] + told[0]
            after = sample.at[row + 1] if row + 1 < len(sample.at) else len(sample.raw) + 1
            if not told[1] <= mark < end < after or end > len(sample.raw):
                break
            found.append((at, told[1], end))
            at = end
        if len(found) == len(sample.at) and (best is None or _odd_first(found) < _odd_first(best)):
            best = found
    return best


def _odd_first(rows: Sequence[tuple[int, int, int]]) -> float:
    """Return by how much the first row's length differs from the others'."""
    lengths = [end - body for _, body, end in rows]
    others = sorted(lengths[1:] or lengths)
    return abs(lengths[0] - others[len(others) // 2])


def _in_frames(
    samples: Sequence[Marked], width: int, frame: Mapping[str, Any],
    chains: Sequence[Sequence[tuple[int, int, int]]], budget: Budget,
) -> Iterator[Rows]:  # fmt: skip
    every = [
        (one.raw, mark, body, end, one.parts[row] if one.parts else None)
        for one, chain in zip(samples, chains, strict=True)
        for row, (mark, (_, body, end)) in enumerate(zip(one.at, chain, strict=True))
    ]
    fronts = [_Gap(raw, body, mark, None) for raw, mark, body, _, _ in every]
    backs = [_Gap(raw, mark + width, end, parts) for raw, mark, _, end, parts in every]
    starts = tuple(tuple(body for _, body, _ in chain) for chain in chains)
    begins = tuple(chain[0][0] for chain in chains)
    ends = tuple(chain[-1][2] for chain in chains)
    # Whoever writes one length in as many bytes as it needs writes all of them so.
    own_way = Dialect([frame] if frame["type"] == "varint" else NUMBERS)
    own = [Column("known", width)] if width else []
    behind = list(_ways(backs, own_way, budget, rest=True))
    for before in _ways(fronts, own_way, budget, rest=False):
        for after in behind:
            yield Rows(_joined([*before, *own, *after]), starts, begins, ends, frame)


def _parsed(
    gaps: Sequence[_Gap], dialect: Dialect, budget: Budget, *, rest: bool
) -> list[Column] | None:
    """Return the columns of the least cost that all gaps are; bytes that stay unclear singly."""
    by_size = sorted(gaps, key=lambda one: one.end - one.start)
    step = max(1, len(by_size) // _MOST_GAPS)
    chosen = by_size[::step]
    first = tuple(one.start for one in chosen)
    goal = tuple(one.end for one in chosen)
    order = counting()
    came: dict[tuple[int, ...], tuple[tuple[int, ...], Column] | None] = {first: None}
    queue = [(0.0, next(order), first, None)]
    costs = {first: 0.0}
    seen = 0
    while queue:
        cost, _, now, _ = heapq.heappop(queue)
        if cost > costs[now]:
            continue
        if now == goal:
            return _way(came, now)
        seen += 1
        if seen > _MOST_STATES or budget.over:
            return None
        for column, then, more in _edges(chosen, now, dialect, rest=rest):
            if cost + more < costs.get(then, 1e9):
                costs[then] = cost + more
                came[then] = (now, column)
                heapq.heappush(queue, (cost + more, next(order), then, None))
    return None


def _way(
    came: Mapping[tuple[int, ...], tuple[tuple[int, ...], Column] | None], at: tuple[int, ...]
) -> list[Column]:
    found: list[Column] = []
    while (step := came[at]) is not None:
        at, column = step
        found.append(column)
    return found[::-1]


def _edges(
    gaps: Sequence[_Gap], now: tuple[int, ...], dialect: Dialect, *, rest: bool
) -> Iterator[tuple[Column, tuple[int, ...], float]]:
    """Yield what may stand next in all gaps, where that ends, and what it costs."""
    if all(at < gap.end for gap, at in zip(gaps, now, strict=True)):
        same = len({gap.raw[at] for gap, at in zip(gaps, now, strict=True)}) == 1
        yield Column("bytes", 1), tuple(at + 1 for at in now), _SAME if same else _BYTE
        for number, spec in enumerate(dialect.texts):
            ends = _all_over(Column("text", spec=spec), gaps, now)
            if ends is not None and long_enough(spec, now, ends):
                yield Column("text", spec=spec), ends, _TEXT + number / 100
        yield from _lists(gaps, now, dialect)
    if rest and any(at < gap.end for gap, at in zip(gaps, now, strict=True)):
        longest = max(gap.end - at for gap, at in zip(gaps, now, strict=True))
        yield Column("rest"), tuple(gap.end for gap in gaps), _REST + longest


def long_enough(spec: Mapping[str, Any], begins: Sequence[int], ends: Sequence[int]) -> bool:
    """Tell whether one of some texts has three letters: what is shorter is one by chance."""
    around = 1 if "ends" in spec else 1 if spec["length"]["type"] in ("u8", "varint") else 2
    least = around + (6 if "encoding" in spec else 3)
    return max(end - begin for begin, end in zip(begins, ends, strict=True)) >= least


def _lists(
    gaps: Sequence[_Gap], now: tuple[int, ...], dialect: Dialect
) -> Iterator[tuple[Column, tuple[int, ...], float]]:
    for number, spec in enumerate(dialect.numbers):
        counts = [number_in(gap.raw, at, spec) for gap, at in zip(gaps, now, strict=True)]
        values = [one[0] if one is not None else -1 for one in counts]
        if min(values) < 0 or max(values) > _LONGEST_ROW or len(set(values)) < 2:
            continue
        known = all(gap.parts is not None for gap in gaps)
        if known and values != [len(gap.parts or ()) for gap in gaps]:
            continue
        begins = [one[1] for one in counts if one is not None]
        for size in _ELEMENTS:
            column = Column("list", size, spec)
            ends = _all_over(column, gaps, now)
            if ends is not None and (not known or _has_sizes(gaps, begins, size)):
                yield column, ends, _LIST + (0.0 if known else 1.0) + number / 100


def _has_sizes(gaps: Sequence[_Gap], begins: Sequence[int], size: int) -> bool:
    """Tell whether the elements of a list have the sizes of what they speak of."""
    return any(
        all(
            number_at(gap.raw, begin + size * row + inner, width, order) == part
            for gap, begin in zip(gaps, begins, strict=True)
            for row, part in enumerate(gap.parts or ())
        )
        for width in (8, 4, 2) for inner in range(size - width + 1) for order in ORDERS
    )  # fmt: skip


def _all_over(one: Column, gaps: Sequence[_Gap], now: tuple[int, ...]) -> tuple[int, ...] | None:
    found: list[int] = []
    for gap, at in zip(gaps, now, strict=True):
        end = _over(one, gap.raw, at, gap.end)
        if end is None or end > gap.end:
            return None
        found.append(end)
    return tuple(found)


def _cut(
    samples: Sequence[Marked], before: Sequence[Column], behind: Sequence[Column]
) -> Rows | None:
    """Return rows that begin with some of what repeats, where the first and last are so, too."""
    starts: list[tuple[int, ...]] = []
    ends: list[int] = []
    columns = _joined([*before, *behind])
    for one in samples:
        first = _backwards(before, one.raw, one.at[0])
        last = cells(behind, one.raw, one.at[-1])
        if first is None or last is None:
            return None
        at, own = first, []
        for _ in one.at:
            own.append(at)
            found = cells(columns, one.raw, at)
            if found is None:
                return None
            at = found[-1] if found else at
        starts.append(tuple(own))
        ends.append(last[-1] if last else one.at[-1])
        if at != ends[-1]:
            return None
    return Rows(columns, tuple(starts), tuple(one[0] for one in starts), tuple(ends))


def _backwards(columns: Sequence[Column], raw: bytes, end: int) -> int | None:
    """Return where columns begin that end at a byte."""
    if all(one.kind == "bytes" for one in columns):
        start = end - sum(one.size for one in columns)
        return start if start >= 0 else None
    for start in range(end, max(-1, end - _FARTHEST), -1):
        found = cells(columns, raw[:end], start)
        if found is not None and found[-1] == end:
            return start
    return None


def _joined(columns: Sequence[Column]) -> tuple[Column, ...]:
    """Return columns in which bytes side by side are one."""
    found: list[Column] = []
    for one in columns:
        if one.kind == "bytes" and found and found[-1].kind == "bytes":
            found[-1] = Column("bytes", found[-1].size + one.size)
        else:
            found.append(one)
    return tuple(found)
