"""Sizes and checksums that are reckoned as bytes go by."""

from __future__ import annotations

import zlib
from collections.abc import Callable

__all__ = ["DIGESTS", "Running"]


def _sum(bits: int) -> Callable[[bytes, int], int]:
    mask = (1 << bits) - 1
    return lambda data, value: (value + sum(data)) & mask


_STEPS: dict[str, tuple[Callable[[bytes, int], int], int]] = {
    "size": (lambda data, value: value + len(data), 0),
    "crc32": (zlib.crc32, 0),
    "adler32": (zlib.adler32, 1),
    "sum8": (_sum(8), 0),
    "sum16": (_sum(16), 0),
    "sum32": (_sum(32), 0),
}

DIGESTS = frozenset(_STEPS)


class Running:
    """One digest over bytes that come in chunks.

    >>> running = Running("crc32")
    >>> running.update(b"day 31")
    >>> hex(running.value)
    '0xd3a7eee'
    """

    def __init__(self, what: str) -> None:
        self._step, self.value = _STEPS[what]

    def update(self, data: bytes) -> None:
        """Take in the next bytes."""
        self.value = self._step(data, self.value)
