"""How bytes look as a whole: what they are, and how dense they are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from clever_ferry.forms.recognising import COMPRESSED, recognise
from clever_ferry.studying.leaves import text_form

__all__ = ["Block", "blocks", "density_of", "what_they_are"]

_LEAST_BLOCK = 128
"""Bytes of a part."""


class Block(NamedTuple):
    """A part of a file: how dense it is, of at most 1; the share of zeros; that of letters."""

    density: float
    zeros: float
    letters: float


def blocks(data: bytes) -> tuple[Block, ...]:
    """Return bytes in up to 256 parts of one size."""
    if not data:
        return ()
    raw = np.frombuffer(data, np.uint8)
    size = max(_LEAST_BLOCK, -(-len(raw) // 256))
    found = []
    for at in range(0, len(raw), size):
        part = raw[at : at + size]
        counts = np.bincount(part, minlength=256)
        most = np.log2(max(2, min(256, len(part))))
        letters = float(counts[0x20:0x7F].sum() / len(part))
        found.append(Block(_bits(counts) / float(most), float(counts[0] / len(part)), letters))
    return tuple(found)


def what_they_are(samples: Sequence[bytes]) -> str:
    """Return what bytes are: a text's form, a kind of packing, `bytes`; what all of them are."""
    kinds = {recognise(one[:4096]) for one in samples if one}
    if not kinds:
        return "empty"
    if len(kinds) > 1:
        return "bytes"
    kind = kinds.pop()
    if kind == "text":
        forms = {text_form(one) for one in samples}
        return (forms.pop() if len(forms) == 1 else "") or "text"
    return kind if kind in COMPRESSED or kind != "unknown" else "bytes"


def density_of(data: bytes) -> float:
    """Return how many bits of information a byte has (Shannon's entropy), of up to 8 MiB."""
    if not data:
        return 0.0
    counts = np.bincount(np.frombuffer(data[: 8 << 20], np.uint8), minlength=256)
    return _bits(counts)


def _bits(counts: np.ndarray) -> float:
    share = counts[counts > 0] / counts.sum()
    return float(-(share * np.log2(share)).sum())
