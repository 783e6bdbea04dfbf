"""Keys that bytes are xor-ed with: found where much of what is beneath is zeros or spaces.

A key that repeats leaves its own bytes wherever the plain ones are zero. A guess counts only where
what comes out is something that is known: a text, a packed stream, a form with a mark.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np
from msgspec import Struct

from clever_ferry.forms.recognising import document_of, recognise
from clever_ferry.studying.budget import Budget
from clever_ferry.studying.streams import opened_at

__all__ = ["Key", "find_key", "key_between", "turned"]

_LOOKED_AT, _LONGEST = 1 << 16, 64
_NUL, _SPACE = 0, 0x20
_LEAST, _START = 16, 4096
_ENOUGH = 12
"""Bytes for each byte of a key that must have gone into a guess."""


class Key(Struct, frozen=True):
    """A key that repeats; with a step, its bytes grow with every position."""

    data: bytes
    step: int = 0

    def mask(self, size: int) -> np.ndarray:
        """Return what so many bytes are xor-ed with."""
        period = math.lcm(len(self.data), 256) if self.step else len(self.data)
        at = np.arange(min(period, size), dtype=np.int64)
        key = np.frombuffer(self.data, np.uint8)
        once = ((key[at % len(key)] + at * self.step) & 0xFF).astype(np.uint8)
        return np.resize(once, size)


def turned(data: bytes, key: Key) -> bytes:
    """Return bytes xor-ed with a key; the same again gives them back."""
    found: bytes = (np.frombuffer(data, np.uint8) ^ key.mask(len(data))).tobytes()
    return found


def find_key(
    samples: Sequence[bytes], budget: Budget, fits: Callable[[Sequence[bytes], Sequence[int]], bool]
) -> Key | None:
    """Return the key that makes all samples something that is known; None where none does.

    What has no mark of a form is known where it `fits` in another way, by its first bytes and by
    its size.
    """
    heads = [np.frombuffer(one[:_LOOKED_AT], np.uint8).astype(np.int64) for one in samples]
    lengths, sizes = _likely_lengths(heads), [len(one) for one in samples]
    # Mostly, what is most frequent is zeros, or spaces; else it may be any byte.
    for few, plains in ((lengths, (_NUL, _SPACE)), (lengths[:1], range(256))):
        heads = heads if few is lengths else [one[: _LOOKED_AT >> 3] for one in heads]
        for length in few:
            for step in _steps(heads, length):
                for plain in plains:
                    if budget.over:
                        return None
                    data = _key(heads, length, step, plain)
                    key = Key(data, step) if data is not None else None
                    if key is None or not (any(key.data) or key.step):
                        continue
                    starts = [turned(one[:_START], key) for one in samples]
                    if _all_known(starts, sizes) or fits(starts, sizes):
                        return _shortest(key)
    return _by_mark(samples)


_MARKS = {b"\x1f\x8b\x08\x00": "gzip", b"\xfd7zXZ\x00": "xz", b"BZh91AY&SY": "bzip2",
          b"\x28\xb5\x2f\xfd": "zstd"}  # fmt: skip
_FURTHEST = 16


def _by_mark(samples: Sequence[bytes]) -> Key | None:
    """Return the key under which a packed stream begins in the front of all samples, and ends."""
    for mark, kind in _MARKS.items():
        for at in range(_FURTHEST):
            for length in range(1, len(mark) - 1):  # what is left of the mark must fit, too
                own = samples[0][at : at + len(mark)]
                if len(own) < len(mark):
                    continue
                raw = bytearray(length)
                for place in range(length):
                    raw[(at + place) % length] = own[place] ^ mark[place]
                key = Key(bytes(raw))
                starts = (turned(one[: at + len(mark)], key)[at:] for one in samples)
                if (
                    any(raw)
                    and all(start == mark for start in starts)
                    and all(opened_at(turned(one, key), at, kind) for one in samples)
                ):
                    return _shortest(key)
    return None


def _likely_lengths(heads: Sequence[np.ndarray]) -> list[int]:
    """Return lengths of a key, those first at which bytes most often differ by one amount."""
    scores: list[tuple[float, int]] = []
    for length in range(1, _LONGEST + 1):
        counts = np.zeros(256, np.int64)
        for head in heads:
            if len(head) > length:
                counts += np.bincount((head[length:] - head[:-length]) & 0xFF, minlength=256)
        total = int(counts.sum())
        if total >= _ENOUGH * length:
            scores.append((-float(counts.max()) / total, length))
    return [length for score, length in sorted(scores)[:12] if -score > 2 / 256]


def _steps(heads: Sequence[np.ndarray], length: int) -> list[int]:
    """Return the steps by which a key of a length can grow, going by what differs most often."""
    counts = np.zeros(256, np.int64)
    for head in heads:
        counts += np.bincount((head[length:] - head[:-length]) & 0xFF, minlength=256)
    most = int(counts.argmax())
    return [step for step in range(256) if step * length & 0xFF == most][:4]


def _key(heads: Sequence[np.ndarray], length: int, step: int, plain: int) -> bytes | None:
    found = bytearray()
    for at in range(length):
        counts = np.zeros(256, np.int64)
        for head in heads:
            own = head[at::length] ^ plain
            places = np.arange(at, len(head), length, dtype=np.int64)
            counts += np.bincount((own - places * step) & 0xFF, minlength=256)
        if counts.sum() < _ENOUGH:
            return None
        found.append(int(counts.argmax()))
    return bytes(found)


def _all_known(starts: Sequence[bytes], sizes: Sequence[int]) -> bool:
    return all(_is_known(one, size) for one, size in zip(starts, sizes, strict=True))


def _is_known(start: bytes, size: int) -> bool:
    if len(start) < _LEAST:
        return False
    kind = recognise(start[:4096])
    if kind in ("gzip", "zlib", "xz", "bzip2", "zstd", "lz4"):
        return size > len(start) or opened_at(start, 0, kind) is not None
    # Any few letters are a text; one that comes out of a key must be of a form.
    return _is_document(start[:4096]) if kind == "text" else kind != "unknown"


def _is_document(start: bytes) -> bool:
    signs: dict[str, tuple[bytes, ...]] = {
        "json": (b'":',), "relaxed-json": (b'":',), "xml": (b">", b"</", b"/>"),
        "ini": (b"=", b"]", b"\n"),
    }  # fmt: skip
    own = signs.get(document_of(start), ())
    return bool(own) and own[0] in start and (len(own) < 2 or any(one in start for one in own[1:]))


def _shortest(key: Key) -> Key:
    """Return a key without repeating itself."""
    for length in range(1, len(key.data)):
        if len(key.data) % length == 0:
            short = Key(key.data[:length], key.step)
            if short.mask(len(key.data)).tobytes() == key.mask(len(key.data)).tobytes():
                return short
    return key


def key_between(packed: Sequence[bytes], plain: Sequence[bytes]) -> Key | None:
    """Return the key that makes each of some bytes the other, None where none that repeats does."""
    first = min(zip(packed, plain, strict=True), key=lambda pair: len(pair[0]), default=None)
    if first is None or any(len(a) != len(b) for a, b in zip(packed, plain, strict=True)):
        return None
    mask = np.frombuffer(first[0], np.uint8) ^ np.frombuffer(first[1], np.uint8)
    if not mask.any():
        return None
    for length in range(1, min(256, len(mask) // 2) + 1):
        grows = (mask[length:].astype(np.int64) - mask[:-length]) & 0xFF
        if (grows != grows[0]).any():
            continue
        steps = [one for one in range(256) if one * length & 0xFF == int(grows[0])]
        for step in steps:
            places = np.arange(length) * step
            key = Key(
                ((mask[:length].astype(np.int64) - places) & 0xFF).astype(np.uint8).tobytes(), step
            )
            if all(turned(a, key) == b for a, b in zip(packed, plain, strict=True)):
                return key
    return None
