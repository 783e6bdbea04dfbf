"""Marks, sizes, names, checksums and times in the fronts of files of one kind."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Any

import numpy as np

from clever_ferry.layouts.times import StampUnit, to_ns
from clever_ferry.studying.budget import Budget
from clever_ferry.studying.checksums import sums_in
from clever_ferry.studying.guess import (
    LETTER_BITS,
    ORDERS,
    PRINTABLE,
    Guess,
    Place,
    number_at,
    number_spec,
    shown,
    some,
)

__all__ = ["checksums", "mark", "marks", "names", "sizes", "sizes_beside", "time_in_table", "times"]

_DAY = 86_400 * 10**9
_USUAL = {8: 0.25, 4: 0.5, 2: 0.0, 1: 0.0}
"""Of numbers whose high bytes are zeros, which width is the likelier one."""
_TRIALS = 12.0
"""Some thousand places, widths, spans and kinds are tried: by so many bits chance has more."""
_FROM, _UPTO = 631_152_000 * 10**9, 2_208_988_800 * 10**9
"""Sensible time stamps: from 1990 to 2040, in ns since 1970."""


def marks(raw: np.ndarray) -> Iterator[Guess]:
    """Yield the mark in front of all: letters, or a byte that is none and letters."""
    same = (raw == raw[0]).all(axis=0)
    first = raw[0].tobytes()
    end = 0
    while (
        end < len(first)
        and same[end]
        and (first[end] in PRINTABLE or (end == 0 and first[0] > 0x7F))
    ):
        end += 1
    if end < 2 or not any(chr(byte).isalnum() for byte in first[:end]):
        return
    differ = len({row.tobytes() for row in raw}) > 1
    yield mark(first[:end], 8.0 if differ else LETTER_BITS)


def mark(raw: bytes, bits: float) -> Guess:
    """Return a mark, with so many bits a byte against chance."""
    spec = {"type": "magic", "text": raw.decode("latin-1")}
    if raw[0] > 0x7F:
        spec = {"type": "magic", "hex": raw.hex()}
    says = "a mark by which the game knows its files"
    return Guess(0, len(raw), "mark", says, (shown(raw),), bits * len(raw), spec)


# Sizes --------------------------------------------------------------------------------


def sizes(cut: Sequence[bytes], known: Place) -> Iterator[Guess]:
    """Yield numbers that are sizes of what is known."""
    length = len(cut[0])
    for name, sizes in known.sizes.items():
        different = len(set(sizes))
        for width in (8, 4, 2):
            for at in range(length - width + 1):
                for order in ORDERS:
                    values = [number_at(one, at, width, order) for one in cut]
                    more = values[0] - sizes[0]
                    if abs(more) > 64 or any(
                        value - size != more for value, size in zip(values, sizes, strict=True)
                    ):
                        continue
                    # High bytes of small numbers are mostly zeros, whatever they are.
                    each = min(8.0 * width, np.log2(1 + max(sizes)) + 8)
                    counts = min(different, 4) - (1 if more else 0)
                    bits = float(each * counts - _TRIALS)
                    bits += _USUAL[width]
                    if bits < 0.5:
                        continue
                    spec = {"what": "size", "of": name, **({"plus": more} if more else {})}
                    yield Guess(
                        at, width, "size", f"how many bytes {_of(name)}{_plus(more)}",
                        some(values), bits, number_spec(width, order, computed=spec),
                    )  # fmt: skip


def sizes_beside(cut: Sequence[bytes], known: Place) -> Iterator[Guess]:
    """Yield numbers that are, in every front, the size of some other file: an index has such."""
    own = [size for size in known.beside if size > 255]
    if not own:
        return
    for at in range(len(cut[0]) - 3):
        for order in ORDERS:
            values = [number_at(one, at, 4, order) for one in cut]
            if any(value not in known.beside or value < 256 for value in values):
                continue
            each = min(32.0, np.log2(min(values)) + 8) - np.log2(len(own))
            bits = float(each * min(4, len(set(values))) - _TRIALS)
            if bits > 0:
                names = [f"{value} ({known.beside[value]})" for value in values]
                says = "the size of a file beside it"
                yield Guess(at, 4, "size", says, some(names), bits, number_spec(4, order))


def _of(name: str) -> str:
    return {"inside": "follow", "payload": "there are once all is unpacked"}.get(
        name, f"there are {name}"
    )


def _plus(more: int) -> str:
    return f", and {more} more" if more > 0 else f", less {-more}" if more else ""


# Names --------------------------------------------------------------------------------


def names(cut: Sequence[bytes], known: Place) -> Iterator[Guess]:
    """Yield where the names of files and folders stand in them: as numbers, digits, bytes, text."""
    for name, numbers in known.numbers.items():
        yield from _numbers(cut, name, numbers)
    for name, texts in known.texts.items():
        for encoding in ("utf-8", "utf-16-le"):
            yield from _spelled(
                cut, [one.encode(encoding) for one in texts], name, "text",
                {"type": "text", "bound": name, "encoding": encoding},
            )  # fmt: skip
        plain = [one.replace("-", "") for one in texts]
        if all(len(one) >= 8 and len(one) % 2 == 0 and _is_hex(one) for one in plain):
            straight = [bytes.fromhex(one) for one in plain]
            for says, raws in (("", straight), (", backwards", [one[::-1] for one in straight])):
                if not says or len(set(straight)) > 1 or straight[0] != straight[0][::-1]:
                    spec = {"type": "bytes", "bound": name} if not says else {}
                    yield from _spelled(cut, raws, name, f"bytes{says}", spec)
            if len(plain[0]) == 32:
                mixed = [r[3::-1] + r[5:3:-1] + r[7:5:-1] + r[8:] for r in straight]
                yield from _spelled(cut, mixed, name, "bytes, three groups backwards", {})


def _is_hex(text: str) -> bool:
    return all(char in "0123456789abcdefABCDEF" for char in text)


def _spelled(
    cut: Sequence[bytes], raws: Sequence[bytes], name: str, how: str, spec: Mapping[str, Any]
) -> Iterator[Guess]:
    if min(map(len, raws)) < 3:
        return
    at = cut[0].find(raws[0])
    while at >= 0:
        if all(one[at : at + len(raw)] == raw for one, raw in zip(cut, raws, strict=True)):
            size = max(map(len, raws))
            if len({len(raw) for raw in raws}) == 1:
                more = {"size": size} if spec else {}
                yield Guess(
                    at, size, "name", f"{_named(name)}, as {how}", some(map(shown, raws)),
                    8.0 * size, {**spec, **more},
                )  # fmt: skip
        at = cut[0].find(raws[0], at + 1)


def _named(name: str) -> str:
    return "the account of its folder" if name == "account" else f"{{{name}}} of its name"


def _numbers(cut: Sequence[bytes], name: str, numbers: Sequence[int]) -> Iterator[Guess]:
    different = len(set(numbers))
    for width in (8, 4, 2, 1):
        for at in range(len(cut[0]) - width + 1):
            for order in ORDERS if width > 1 else ORDERS[:1]:
                values = [number_at(one, at, width, order) for one in cut]
                more = values[0] - numbers[0]
                if abs(more) > 1 or any(
                    value - number != more for value, number in zip(values, numbers, strict=True)
                ):
                    continue
                large = max(numbers).bit_length()
                bits = large * 1.5 + 8.0 * (different - 1) - (4 if more else 0) - (large < 8) * 4
                bits += width / 16  # account numbers mostly have eight bytes
                if bits < 10:
                    continue
                says = _named(name) + (", counted from 0" if more == -1 else _plus(more))
                spec = number_spec(width, order, bound=name, **({"plus": more} if more else {}))
                yield Guess(at, width, "name", says, some(values), bits, spec)


# Checksums ----------------------------------------------------------------------------


def checksums(
    cut: Sequence[bytes], fronts: Sequence[bytes], bodies: Sequence[dict[str, bytes]],
    budget: Budget,
) -> Iterator[Guess]:  # fmt: skip
    """Yield checksums of what is known."""
    for one in sums_in(cut, bodies, budget):
        values = [front[one.at : one.at + one.width] for front in cut]
        if not any(any(value) for value in values):
            continue
        bits = one.chance * min(len(set(values)), 4) - _TRIALS
        if bits < 18:
            continue
        computed = {"what": one.what, "of": one.of}
        spec: dict[str, Any] = (
            number_spec(one.width, one.order, computed=computed) if one.order
            else {"type": "bytes", "size": one.width, "computed": computed}
        )  # fmt: skip
        yield Guess(
            one.at, one.width, "checksum", f"a checksum ({one.what}) of {_spans(one.of)}",
            some(value.hex() for value in values), bits, spec,
        )  # fmt: skip


def _spans(of: str) -> str:
    return {
        "inside": "what follows the front", "payload": "what is there once all is unpacked",
        "before": "all before it", "after": "the rest of the front", "onward": "all behind it",
        "whole": "everything, itself taken as zeros",
    }.get(of, of)  # fmt: skip


# Times --------------------------------------------------------------------------------

_TIMES: tuple[tuple[StampUnit, int, float], ...] = (
    ("s", 4, 1.4), ("s", 8, 1.4), ("ms", 8, 7.5), ("ns", 8, 3.5), ("ticks-1601", 8, 10),
    ("ticks-1", 8, 10), ("dos", 4, 2),
)  # fmt: skip
"""Units, bytes, and how unlikely it is by chance (in bits) that a number is a sensible time: one
whose highest bytes are zeros, where such times have zeros."""
_NEAR, _EXACT = 12.0, 28.0
"""The same for one that lies within two days, or three seconds, of a time that is known."""


def times(cut: Sequence[bytes], known: Place) -> Iterator[Guess]:
    """Yield sensible times; surer those near the time at which a file was saved."""
    for unit, width, likely in _TIMES:
        for order in ORDERS:
            for at in range(len(cut[0]) - width + 1):
                try:
                    found = [to_ns(number_at(one, at, width, order), unit) for one in cut]
                except ValueError:
                    continue
                if not all(_FROM < one < _UPTO for one in found):
                    continue
                near = sum(
                    abs(one - stamp) < 2 * _DAY
                    for one, stamp in zip(found, known.stamps, strict=True)
                )
                exact = sum(
                    abs(one - stamp) < 3 * 10**9
                    for one, stamp in zip(found, known.stamps, strict=True)
                )
                every = len(cut)
                more = _EXACT if exact == every else _NEAR if near == every else 0.0
                lowest = {one[at if order == "little" else at + width - 1] for one in cut}
                if len(set(found)) > len(lowest) == 1:
                    continue  # times that differ by such round amounts are none
                bits = (likely + more) * min(4, len(set(found))) - 10.0
                if bits < (6 if more else 12):
                    continue
                if not more:  # a sensible time alone is never sure
                    bits = min(bits, 20.0)
                says = "a time, that at which the file was saved" if exact == len(cut) else "a time"
                spec = {"type": "time", "within": f"u{8 * width}", "unit": unit, "order": order}
                yield Guess(
                    at, width, "time", f"{says} ({unit})", some(map(_date, found)), bits, spec
                )


def time_in_table(cut: Sequence[bytes], stamps: Sequence[int], order: str = "") -> Guess | None:
    """Return a time of eight bytes that all rows of a table have: that nearest to `stamps` (ns).

    A table of files nearly always has such times, so that less is asked of them than elsewhere:
    none is later than all of the files. `order` is that of the table's numbers, where it is known.
    """
    best: tuple[int, Guess] | None = None
    upto = max(stamps) + _DAY
    for at in range(len(cut[0]) - 7):
        for unit in [unit for unit, width, _ in _TIMES if width == 8]:
            for way in [order] if order else ORDERS:
                found = []
                with suppress(ValueError):
                    found = [to_ns(number_at(one, at, 8, way), unit) for one in cut]
                if len(set(found)) < 2 or not all(_FROM < one <= upto for one in found):
                    continue
                near = sum(
                    abs(one - stamp) < 2 * _DAY for one, stamp in zip(found, stamps, strict=True)
                )
                if best is None or near > best[0]:
                    spec = {"type": "time", "within": "u64", "unit": unit, "order": way}
                    best = near, Guess(at, 8, "time", f"likely a time ({unit})", (), 0, spec)
    return best[1] if best is not None else None


def _date(ns: int) -> str:
    return f"{np.datetime64(ns // 10**9, 's')}Z"
