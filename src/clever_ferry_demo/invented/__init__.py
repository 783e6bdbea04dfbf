"""Fourteen invented save formats, unlike each other, each with a writer and a strict reader.

A save is a slot's number, a world (any bytes) and a small note (JSON). The recipes beside
describe the same formats to cferry; docs/demo-formats.md describes them to people.
"""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from clever_ferry_demo.invented.agreed import Ropewalk, Waybill
from clever_ferry_demo.invented.boxed import Dynamo, Longshore, Orrery
from clever_ferry_demo.invented.held import Hamper, Letterbook, Pigeonhole
from clever_ferry_demo.invented.rows import Almanac, Seedtray, Tidebook
from clever_ferry_demo.invented.wrapped import Cashbox, Finch, Moth

__all__ = [
    "FORMATS",
    "Almanac",
    "Cashbox",
    "Dynamo",
    "Finch",
    "Format",
    "Hamper",
    "Letterbook",
    "Longshore",
    "Moth",
    "Orrery",
    "Pigeonhole",
    "Ropewalk",
    "Seedtray",
    "Tidebook",
    "Waybill",
]


class Format(Protocol):
    """A format's writer and reader; saves are slot -> world and note."""

    def write(self, folder: Path, saves: dict[int, tuple[bytes, bytes]]) -> None:
        """Write all saves into a folder."""

    def read(self, folder: Path) -> dict[int, tuple[bytes, bytes]]:
        """Read all saves; whatever is out of order ends in an error."""


FORMATS: dict[str, Format] = {
    "orrery-yard": Orrery,
    "longshore-log": Longshore,
    "cashbox": Cashbox,
    "moth-lantern": Moth,
    "pocket-finch": Finch,
    "ebb-dynamo": Dynamo,
    "ropewalk": Ropewalk,
    "hamper": Hamper,
    "pigeonhole": Pigeonhole,
    "letterbook": Letterbook,
    "seedtray": Seedtray,
    "tidebook": Tidebook,
    "waybill": Waybill,
    "almanac": Almanac,
}
