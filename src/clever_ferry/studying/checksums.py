"""Checksums that fit: which, over which bytes, and where its value stands."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct

from clever_ferry.layouts.digests import DIGEST_BYTES, start_digest
from clever_ferry.studying.budget import Budget

__all__ = ["WIDTHS", "Sum", "digest", "sums_in"]

_WIDE = ("crc32", "adler32", "fnv1a-32", "sum32")
_NARROW = ("crc16-arc", "crc16-modbus", "crc16-ccitt", "crc16-xmodem", "crc16-kermit", "sum16")
WIDTHS = {
    **dict.fromkeys(_WIDE, 4), **dict.fromkeys(_NARROW, 2), "fnv1a-64": 8, "sum8": 1,
    **DIGEST_BYTES,
}  # fmt: skip
_SLOW = frozenset({"fnv1a-32", "fnv1a-64", *_NARROW} - {"sum16"})
_MOST_SLOW, _MOST_STEPPED, _MOST_MOVED, _MOST_HASHED = 1 << 18, 512, 4 << 20, 1 << 20
"""Bytes over which a slow checksum is tried; and, from each byte on, a quick one and a hash."""
Order = str


class Sum(Struct, frozen=True):
    """A checksum's place in a front or a back, and what it is of."""

    at: int
    what: str
    """As layouts of recipes call it."""
    of: str
    """As well; or `whole`: the front and all behind it, with zeros where the checksum stands."""
    order: Order
    """`little`, `big`; '' for bytes."""

    @property
    def width(self) -> int:
        """In bytes."""
        return WIDTHS[self.what]

    @property
    def chance(self) -> int:
        """How many bits it has, by which one fits that is none."""
        return 8 * self.width


def digest(what: str, data: bytes) -> int | bytes:
    """Return a checksum, by what layouts of recipes call it."""
    if what == "crc32":
        return zlib.crc32(data)
    if what == "adler32":
        return zlib.adler32(data)
    if what in ("sum8", "sum16", "sum32"):
        total = int(np.frombuffer(data, np.uint8).sum(dtype=np.uint64))
        return total & ((1 << 8 * WIDTHS[what]) - 1)
    if what in DIGEST_BYTES:
        return hashlib.new(what, data, usedforsecurity=False).digest()
    running = start_digest(what)
    running.update(data)
    return running.value


def sums_in(
    fronts: Sequence[bytes], bodies: Sequence[dict[str, bytes]], budget: Budget
) -> list[Sum]:
    """Return the checksums that stand in all fronts: of each's bodies, by how recipes call them.

    `inside` is what stands behind the front; where it is among the bodies, spans that begin or end
    in the front are tried, too.
    """
    size = min(map(len, fronts), default=0)
    if not size or not bodies:
        return []
    found: list[Sum] = []
    names = [name for name in bodies[0] if all(name in one for one in bodies)]
    for what, width in WIDTHS.items():
        if width > size or budget.over:
            continue
        for name in names:
            if what in _SLOW and len(bodies[0][name]) > _MOST_SLOW:
                continue
            found += _standing(fronts, size, what, name, bodies)
        if "inside" in names:
            found += _moving(fronts, size, what, bodies, budget)
    return found


def _standing(
    fronts: Sequence[bytes], size: int, what: str, name: str, bodies: Sequence[dict[str, bytes]]
) -> Iterator[Sum]:
    value = digest(what, bodies[0][name])
    for at, order in _places(fronts[0][:size], what, value):
        if all(
            _stands(front, at, what, order, digest(what, body[name]))
            for front, body in zip(fronts[1:], bodies[1:], strict=True)
        ):
            yield Sum(at, what, name, order)


def _places(front: bytes, what: str, value: int | bytes) -> Iterator[tuple[int, Order]]:
    """Yield where a value stands, in which order of bytes."""
    width = WIDTHS[what]
    spelled: dict[bytes, Order] = {}
    if isinstance(value, bytes):
        spelled[value] = ""
    else:
        spelled[value.to_bytes(width, "big")] = "big"
        spelled[value.to_bytes(width, "little")] = "little"
    for raw, order in spelled.items():
        at = front.find(raw)
        while at >= 0:
            yield at, order
            at = front.find(raw, at + 1)


def _stands(front: bytes, at: int, what: str, order: Order, value: int | bytes) -> bool:
    width = WIDTHS[what]
    if isinstance(value, bytes):
        return front[at : at + width] == value
    return front[at : at + width] == value.to_bytes(width, order)  # type: ignore[arg-type]


def _moving(
    fronts: Sequence[bytes], size: int, what: str, bodies: Sequence[dict[str, bytes]],
    budget: Budget,
) -> Iterator[Sum]:  # fmt: skip
    """Yield checksums of spans that the front has a part in: all but itself, all behind itself."""
    width = WIDTHS[what]
    length = len(bodies[0]["inside"])
    long = length > (
        _MOST_STEPPED if what in _SLOW else _MOST_HASHED if what in DIGEST_BYTES else _MOST_MOVED
    )
    for at in range(size - width + 1):
        if budget.over:
            return
        for of in ("before", "after", *(() if long else ("onward", "whole"))):
            if (of == "before" and at < 4) or (of == "after" and size - at - width < 4):
                continue
            first = _of_span(what, of, fronts[0], bodies[0]["inside"], at)
            for order in [""] if isinstance(first, bytes) else ["little", "big"]:
                if _stands(fronts[0], at, what, order, first) and all(
                    _stands(front, at, what, order, _of_span(what, of, front, body["inside"], at))
                    for front, body in zip(fronts[1:], bodies[1:], strict=True)
                ):
                    yield Sum(at, what, of, order)
                    break


def _of_span(what: str, of: str, front: bytes, inside: bytes, at: int) -> int | bytes:
    width = WIDTHS[what]
    if of == "before":
        return digest(what, front[:at])
    if of == "after":
        return digest(what, front[at + width :])
    if of == "onward":
        return digest(what, front[at + width :] + inside)
    return digest(what, front[:at] + bytes(width) + front[at + width :] + inside)
