"""A guess of what some bytes of a front are, and what it is held against."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

__all__ = [
    "LETTER_BITS",
    "ORDERS",
    "PRINTABLE",
    "Guess",
    "Place",
    "in_order",
    "number_at",
    "number_spec",
    "shown",
    "some",
]

ORDERS = ("little", "big")
PRINTABLE = frozenset(range(0x20, 0x7F))
LETTER_BITS = 2.0
"""How unlikely it is by chance, in bits, that a byte is a letter, a digit or a space."""
_SURE = 24
"""Bits that a guess must have against chance to be called sure."""


class Place(Struct, frozen=True):
    """Whatever is known of each file, against which its bytes are held."""

    sizes: Mapping[str, tuple[int, ...]]
    """By how layouts of recipes call them: `inside`, `payload`, and by names of other stages."""
    numbers: Mapping[str, tuple[int, ...]]
    """Numbers in the names of the files and folders."""
    texts: Mapping[str, tuple[str, ...]]
    """Texts in these; of hexadecimal digits and identifiers also the bytes are looked for."""
    beside: Mapping[int, str]
    """Files beside them, by their sizes."""
    stamps: tuple[int, ...]
    """When each was changed last, in ns since 1970."""


class Guess(Struct, frozen=True):
    """What some bytes of a front seem to be."""

    at: int
    size: int
    kind: str
    """`mark`, `size`, `checksum`, `time`, `text`, `name`, `same`, `zeros`, `grows`, `differs`."""
    says: str
    """In words."""
    values: tuple[str, ...]
    """What stands there in each file, in short."""
    bits: float = 0
    """How unlikely that would be by chance, as a power of two."""
    spec: Mapping[str, Any] = {}
    """The field of a recipe's layout that says so, without its name."""
    raw: bytes = b""
    """What stands there in all files, where that is the same."""
    behind: int = 0
    """How many texts that are not of one length in all files stand before it: `at` counts from the
    end of the last of them."""

    @property
    def sure(self) -> bool:
        """Whether chance is as good as ruled out."""
        return self.bits >= _SURE


def number_at(raw: bytes, at: int, width: int, order: str) -> int:
    """Return the number of a width that stands at a byte."""
    return int.from_bytes(raw[at : at + width], order)  # type: ignore[arg-type]


def number_spec(width: int, order: str, **more: Any) -> dict[str, Any]:
    """Return a number's field of a layout, without its name."""
    spec: dict[str, Any] = {"type": f"u{8 * width}", **more}
    return {**spec, "order": order} if width > 1 else spec


def in_order(width: int, order: str) -> str:
    """Return in words how wide a number is, and which of its bytes is first."""
    if width == 1:
        return "a byte"
    return f"{width} bytes, the {'lowest' if order == 'little' else 'highest'} first"


def some(values: Any) -> tuple[str, ...]:
    """Return what stands in the first files, as text."""
    return tuple(str(one) for one in values)[:6]


def shown(raw: bytes) -> str:
    """Return bytes as they are shown: letters as such, others as hexadecimal digits."""
    if raw and all(byte in PRINTABLE for byte in raw):
        return raw.decode("ascii")
    return raw[:8].hex(" ") + (" …" if len(raw) > 8 else "")
