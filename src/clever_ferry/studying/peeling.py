"""What files of one kind are wrapped in, from outside in: each step fits all, or is none."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise

import numpy as np
from msgspec import Struct
from numpy.lib.stride_tricks import sliding_window_view

from clever_ferry.forms.recognising import COMPRESSED, recognise
from clever_ferry.studying.budget import Budget
from clever_ferry.studying.checksums import digest
from clever_ferry.studying.keys import Key, find_key, turned
from clever_ferry.studying.streams import Stream, raw_near_front, streams_in

__all__ = ["Hint", "Peeled", "Step", "peel"]

_DEEPEST = 6
_MOST_AROUND = 1 << 16
"""Bytes before and behind a stream that count as its header and its footer."""


class Step(Struct, frozen=True):
    """One wrapping that all files of a kind have."""

    kind: str
    """As layers of recipes call it: `gzip`, `xor`, `chunks`, `base64` …"""
    fronts: tuple[bytes, ...] = ()
    """What stands before the packed bytes in each file; that of the first chunk of `chunks`."""
    backs: tuple[bytes, ...] = ()
    """What stands behind them."""
    checked: bool = False
    """Whether a checksum of the packed bytes' own agrees in all of them."""
    key: Key | None = None
    inner: str = ""
    """Of chunks: how each is packed."""
    counts: tuple[int, ...] = ()
    """Of chunks: how many there are in each file."""
    chunks: tuple[tuple[tuple[int, int, int], ...], ...] = ()
    """Where each begins and ends in its file, and how many bytes come out of it."""
    mark: bytes = b""
    """What stands right before the packed bytes in all of them, where they do not begin at one
    place."""


class Peeled(Struct, frozen=True):
    """One stage of files of one kind: their bytes, and what wraps those that come next."""

    samples: tuple[bytes, ...]
    step: Step | None
    """None where nothing more comes off."""


class Hint(Struct, frozen=True):
    """What is known of files beforehand, from others that hold the same."""

    key: Key | None
    """By which they are turned; None where they are not."""
    front: int
    """How long a front they have, once they are turned back."""
    back: int = 0
    """How much stands behind them, of what is not turned."""
    behind: bool = False
    """Whether the key begins behind the front."""


def peel(samples: Sequence[bytes], budget: Budget, hint: Hint | None = None) -> list[Peeled]:
    """Return the stages of files of one kind, the first being the files as they lie.

    Raises OverError where the time is up.
    """
    found: list[Peeled] = []
    hints = list(_hinted(hint)) if hint is not None else []
    used = False
    now: Sequence[bytes] = samples
    while True:
        budget.begin("what it is packed with")
        step, inside = _next(now, budget) if len(found) < _DEEPEST else (None, ())
        if step is None and hints:
            (step, inside), used = hints.pop(0)(now), True
        elif used:
            hints = []  # what they would say is seen in the bytes themselves
        found.append(Peeled(tuple(now), step))
        if step is None:
            return found
        now = inside


Next = tuple[Step | None, Sequence[bytes]]
_NONE: Next = (None, ())


def _hinted(hint: Hint) -> Iterator[Callable[[Sequence[bytes]], Next]]:
    """Yield what comes off where nothing is seen, by what others tell that hold the same."""
    key = hint.key

    def turn(samples: Sequence[bytes]) -> Next:
        return Step("xor", key=key), [turned(one, key) for one in samples] if key else ()

    def cut(samples: Sequence[bytes]) -> Next:
        return _cut(samples, hint.front, hint.back)

    if key is not None and not hint.behind:
        yield turn
    if hint.front or hint.back:
        yield cut
    if key is not None and hint.behind:
        yield turn


def _next(samples: Sequence[bytes], budget: Budget) -> Next:
    if not samples or not all(samples):
        return _NONE
    kinds = {recognise(one[:4096]) for one in samples}
    if kinds <= {"text"}:
        return _spelled(samples)
    if kinds <= {"zip", "sqlite", "picture", "tar", "archive"}:
        return _NONE
    if (width := _summed_behind(samples)) > 0:
        return _cut(samples, 0, width)
    every = [streams_in(one, budget) for one in samples]
    if all(every):
        for attempt in (_chunks, _one_stream):
            found = attempt(samples, every)
            if found[0] is not None:
                return found
    if kinds & COMPRESSED or any(every):
        return _NONE  # something is packed in it, and not all of it
    bare = [raw_near_front(one) for one in samples]
    raw = [one for one in bare if one is not None]
    if len(raw) == len(samples):
        found = _one_stream(samples, [[one] for one in raw])
        if found[0] is not None:
            return found
    if (found := _header(samples))[0] is not None:
        return found
    if _has_letters(samples):
        return _NONE  # a mark that is no more legible with any key
    key = find_key(samples, budget, lambda starts, sizes: _by_size(starts, sizes, _SURE) > 0)
    if key is not None:
        return Step("xor", key=key), [turned(one, key) for one in samples]
    return _NONE


def _one_stream(samples: Sequence[bytes], every: Sequence[Sequence[Stream]]) -> Next:
    """Return the one stream that each file mostly is, with what stands around it."""
    chosen = [max(own, key=lambda one: one.end - one.start) for own in every]
    others = [
        sum(one.end - one.start for one in own if one is not most)
        for own, most in zip(every, chosen, strict=True)
    ]
    if len({one.kind for one in chosen}) > 1 or any(
        20 * more > one.end - one.start for more, one in zip(others, chosen, strict=True)
    ):
        return _NONE  # there are several
    fronts = [data[: one.start] for data, one in zip(samples, chosen, strict=True)]
    backs = [data[one.end :] for data, one in zip(samples, chosen, strict=True)]
    around = max(len(front) + len(back) for front, back in zip(fronts, backs, strict=True))
    mostly = all(
        2 * (one.end - one.start) >= len(data) or len(data) - (one.end - one.start) <= 4096
        for data, one in zip(samples, chosen, strict=True)
    )
    if around > _MOST_AROUND or not mostly:
        return _NONE
    mark = b"" if len({len(front) for front in fronts}) == 1 else _mark(fronts)
    step = Step(
        chosen[0].kind,
        tuple(fronts),
        tuple(backs),
        all(one.is_checked for one in chosen),
        mark=mark,
    )
    return step, [one.inside for one in chosen]


def _mark(fronts: Sequence[bytes]) -> bytes:
    """Return the letters with which all fronts end, before packed bytes that begin anywhere."""
    size = 0
    while all(len(one) > size for one in fronts) and len({one[-size - 1] for one in fronts}) == 1:
        size += 1
    same = fronts[0][len(fronts[0]) - size :]
    found = re.search(rb"[\x20-\x7e]{3,}$", same)
    return found[0] if found else b""


_LONGEST_HEADER, _MOST_SUMMED = 256, 4 << 20
_FOOTERS = {"crc32": 4, "adler32": 4, "md5": 16, "sha1": 20, "sha256": 32}


def _header(samples: Sequence[bytes]) -> Next:
    """Return a header over bytes that are not packed, which it says the size or a checksum of.

    A number in the front must be, in all files, the size of what begins at one byte; or four bytes
    their checksum.
    """
    length = _by_size(samples, [len(one) for one in samples]) or _by_sum(samples)
    return _cut(samples, length) if length else _NONE


def _cut(samples: Sequence[bytes], front: int, back: int = 0) -> Next:
    """Return what stands between a header and a footer of so many bytes."""
    ends = [len(one) - back for one in samples]
    fronts = tuple(one[:front] for one in samples)
    backs = tuple(one[end:] for one, end in zip(samples, ends, strict=True))
    inside = [one[front:end] for one, end in zip(samples, ends, strict=True)]
    return Step("header", fronts, backs), inside


_LIKELY, _SURE = 20, 44
"""Bits that a size must have against chance; the latter where thousands of keys were tried."""


def _has_letters(samples: Sequence[bytes]) -> bool:
    """Tell whether all samples begin with the same few letters."""
    start = samples[0][:4]
    start = start[1:] if start[:1] > b"\x7f" else start
    first = len(samples[0][:4]) - len(start)
    return (
        len(start) >= 3 and start[:3].isalnum()
        and all(one[first : first + 3] == start[:3] for one in samples)
    )  # fmt: skip


def _by_size(starts: Sequence[bytes], sizes: Sequence[int], least: int = _LIKELY) -> int:
    """Return how long a header is that has the size of what follows it, 0 where there is none.

    `starts` are the files' first bytes. It must have so many bits against chance at the `least`.
    """
    short = min(min(sizes), 64)
    if len(set(sizes)) < 2 and min(sizes) < 1 << 16:
        return 0
    found: list[int] = []
    for width in (8, 4, 2):
        count = short - width + 1
        if count <= 0 or 8 * width * len(set(sizes)) - 8 < least:
            continue
        for order in "<>":
            raws = [np.frombuffer(one[:short], np.uint8) for one in starts]
            numbers = np.array([
                sliding_window_view(one, width).copy().view(f"{order}u{width}")[:, 0]
                for one in raws
            ]).astype(np.uint64)  # fmt: skip
            rest = np.array(sizes, np.uint64)[:, None] - numbers
            fits = (rest == rest[0]).all(axis=0) & (rest[0] <= _LONGEST_HEADER)
            found += [
                int(rest[0, at]) for at in np.flatnonzero(fits) if at + width <= int(rest[0, at])
            ]
    return min(found, default=0)


def _summed_behind(samples: Sequence[bytes]) -> int:
    """Return how many last bytes are, in all files, a checksum of all before; 0 for none."""
    first = samples[0]
    for what, width in _FOOTERS.items():
        if len(first) <= width + 8:
            continue
        big = _raw_sum(what, first[:-width], "big")
        for order in ("big", "little") if width == 4 else ("big",):  # digests have but one order
            if (big if order == "big" else big[::-1]) == first[-width:] and all(
                _raw_sum(what, one[:-width], order) == one[-width:] for one in samples[1:]
            ):
                return width
    return 0


def _by_sum(samples: Sequence[bytes]) -> int:
    """Return how long a header is that has a checksum of all else; 0 where there is none."""
    first = samples[0]
    apart = 1 if max(map(len, samples)) <= _MOST_SUMMED else 4
    for length in range(4, min(64, len(first) // 2) + 1, apart):
        for what in ("crc32", "adler32"):
            value = digest(what, first[length:]).to_bytes(4, "little")  # type: ignore[union-attr]
            for order, raw in (("little", value), ("big", value[::-1])):
                if raw in first[:length] and all(
                    _raw_sum(what, one[length:], order) in one[:length] for one in samples[1:]
                ):
                    return length
    return 0


def _raw_sum(what: str, data: bytes, order: str) -> bytes:
    value = digest(what, data)
    return value if isinstance(value, bytes) else value.to_bytes(_FOOTERS[what], order)  # type: ignore[arg-type]


def _chunks(samples: Sequence[bytes], every: Sequence[Sequence[Stream]]) -> Next:
    """Return a row of streams of one kind, each behind a header of one size, as chunks."""
    if max(map(len, every)) < 2 or len({one.kind for own in every for one in own}) > 1:
        return _NONE
    gaps = {other.start - one.end for own in every for one, other in pairwise(own)}
    if len(gaps) != 1 or not 0 <= (gap := gaps.pop()) <= 64:
        return _NONE
    firsts = {own[0].start for own in every}
    if any(first < gap for first in firsts) or len(firsts) > 1:
        return _NONE
    first = firsts.pop()
    fronts = [data[:first] for data in samples]
    backs = [data[own[-1].end :] for data, own in zip(samples, every, strict=True)]
    if max(map(len, backs)) > _MOST_AROUND:
        return _NONE
    step = Step(
        "chunks", tuple(fronts), tuple(backs), all(one.is_checked for own in every for one in own),
        inner=every[0][0].kind, counts=tuple(map(len, every)),
        chunks=tuple(
            tuple((one.start, one.end, len(one.inside)) for one in own) for own in every
        ),
    )  # fmt: skip
    return step, [b"".join(one.inside for one in own) for own in every]


_BASE64 = re.compile(rb"[A-Za-z0-9+/\r\n]{24,}={0,2}\s*")
_HEX = re.compile(rb"(?:[0-9a-f\r\n]{32,}|[0-9A-F\r\n]{32,})")


def _spelled(samples: Sequence[bytes]) -> Next:
    """Return what texts of hexadecimal digits or of base64 stand for."""
    for kind, form in (("hex", _HEX), ("base64", _BASE64)):
        if not all(form.fullmatch(one) for one in samples):
            continue
        try:
            inside = [
                bytes.fromhex(one.decode("ascii")) if kind == "hex"
                else base64.b64decode(b"".join(one.split()), validate=True)
                for one in samples
            ]  # fmt: skip
        except (ValueError, binascii.Error):
            continue
        return Step(kind), inside
    return _NONE
