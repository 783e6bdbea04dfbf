"""Sizes and checksums that are computed as bytes go by.

CRC-16 parameters are those of the catalogue of parametrised CRC algorithms (Koopman, Cook):
polynomial, start value, whether bits are reflected, final xor.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable
from functools import cache
from typing import Literal, Protocol

__all__ = ["DIGEST_BYTES", "DIGEST_DIGITS", "DigestName", "Running", "start_digest"]

DigestName = Literal[
    "size",
    "crc32",
    "adler32",
    "crc16-arc",
    "crc16-modbus",
    "crc16-ccitt",
    "crc16-xmodem",
    "crc16-kermit",
    "fnv1a-32",
    "fnv1a-64",
    "sum8",
    "sum16",
    "sum32",
    "md5",
    "sha1",
    "sha256",
]

DIGEST_BYTES = {"md5": 16, "sha1": 20, "sha256": 32}
"""Digests whose value is bytes and not a number, and how many."""
DIGEST_DIGITS: dict[str, int] = {
    "crc32": 8, "adler32": 8, "crc16-arc": 4, "crc16-modbus": 4, "crc16-ccitt": 4,
    "crc16-xmodem": 4, "crc16-kermit": 4, "fnv1a-32": 8, "fnv1a-64": 16, "sum8": 2, "sum16": 4,
    "sum32": 8, "md5": 32, "sha1": 40, "sha256": 64,
}  # fmt: skip
"""Hex digits of each, as they are usually written."""

_CRC16 = {
    "crc16-arc": (0x8005, 0x0000, True),
    "crc16-modbus": (0x8005, 0xFFFF, True),
    "crc16-ccitt": (0x1021, 0xFFFF, False),
    "crc16-xmodem": (0x1021, 0x0000, False),
    "crc16-kermit": (0x1021, 0x0000, True),
}
_FNV = {
    "fnv1a-32": (0x01000193, 0x811C9DC5, 0xFFFFFFFF),
    "fnv1a-64": (0x100000001B3, 0xCBF29CE484222325, 0xFFFFFFFFFFFFFFFF),
}
_SUMS = {"sum8": 0xFF, "sum16": 0xFFFF, "sum32": 0xFFFFFFFF}


class Running(Protocol):
    """One digest over bytes that come in chunks."""

    def update(self, data: bytes, /) -> None:
        """Take in the next bytes."""

    @property
    def value(self) -> int | bytes:
        """The digest of all bytes so far."""


class _Stepped:
    """A digest that is a number, carried on by a function."""

    def __init__(self, step: Callable[[bytes, int], int], seed: int, xor: int) -> None:
        self._step, self._value, self._xor = step, seed, xor

    def update(self, data: bytes, /) -> None:
        self._value = self._step(data, self._value)

    @property
    def value(self) -> int:
        return self._value ^ self._xor


class _Hashed:
    """A digest that is bytes."""

    def __init__(self, name: str, seed: int | None) -> None:
        import hashlib  # takes its time, and few saves have such a digest

        self._hash = hashlib.new(name, usedforsecurity=False)
        if seed:
            self._hash.update(seed.to_bytes((seed.bit_length() + 7) // 8))

    def update(self, data: bytes, /) -> None:
        self._hash.update(data)

    @property
    def value(self) -> bytes:
        return self._hash.digest()


def start_digest(what: str, seed: int | None = None, xor: int | None = None) -> Running:
    """Begin a digest; `seed` replaces its start value, `xor` its final one.

    >>> running = start_digest("crc32")
    >>> running.update(b"day 31")
    >>> hex(running.value)
    '0xd3a7eee'
    """
    if what in DIGEST_BYTES:
        return _Hashed(what, seed)
    step, usual = _step(what)
    return _Stepped(step, usual if seed is None else seed, xor or 0)


@cache
def _step(what: str) -> tuple[Callable[[bytes, int], int], int]:
    if what == "size":
        return (lambda data, value: value + len(data)), 0
    if what == "crc32":
        return zlib.crc32, 0
    if what == "adler32":
        return zlib.adler32, 1
    if what in _SUMS:
        mask = _SUMS[what]
        return (lambda data, value: (value + sum(data)) & mask), 0
    if what in _FNV:
        prime, start, mask = _FNV[what]
        return _fnv_step(prime, mask), start
    polynomial, start, reflected = _CRC16[what]
    return _crc16_step(polynomial, reflected), start


def _fnv_step(prime: int, mask: int) -> Callable[[bytes, int], int]:
    def step(data: bytes, value: int) -> int:
        for byte in data:
            value = ((value ^ byte) * prime) & mask
        return value

    return step


def _crc16_step(polynomial: int, reflected: bool) -> Callable[[bytes, int], int]:
    table = []
    turned = int(f"{polynomial:016b}"[::-1], 2)
    for byte in range(256):
        value = byte if reflected else byte << 8
        for _ in range(8):
            if reflected:
                value = value >> 1 ^ (turned if value & 1 else 0)
            else:
                value = (value << 1 ^ (polynomial if value & 0x8000 else 0)) & 0xFFFF
        table.append(value)

    def low_first(data: bytes, value: int) -> int:
        for byte in data:
            value = value >> 8 ^ table[(value ^ byte) & 0xFF]
        return value

    def high_first(data: bytes, value: int) -> int:
        for byte in data:
            value = (value << 8 & 0xFFFF) ^ table[value >> 8 ^ byte]
        return value

    return low_first if reflected else high_first
