"""How sure one can be of a file's bytes, and by what: verified, opened, or only read."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal, get_args

from msgspec import Struct

__all__ = ["LEVELS", "SAVE_LEVELS", "Evidence", "Level", "SaveLevel", "strongest"]

Level = Literal["only read", "opened", "verified"]
"""`verified`: a checksum, a digest or a self-check of its form agrees. `opened`: it was unpacked or
parsed to its end, and has nothing to verify it by. `only read`: its bytes could be read."""
LEVELS: tuple[Level, ...] = get_args(Level)
"""The weakest first."""

SaveLevel = Literal["whole", "fits", "same", "loads", "goes on"]
"""`whole`: every needed piece is there, every layer comes off, checksums agree. `fits`: and the
rules of its edition hold. `same`: and it is what was carried, piece by piece and fact by fact.
`loads`: and the game itself has loaded it. `goes on`: and has written a save that continues it."""
SAVE_LEVELS: tuple[SaveLevel, ...] = get_args(SaveLevel)


class Evidence(Struct, frozen=True):
    """What was established of some bytes, once they were read to their end without a fault."""

    level: Level
    by: str = ""
    """What agreed or was opened, in a few words, such as `gzip's checksum`."""


def strongest(found: Iterable[Evidence]) -> Evidence:
    """Return the highest level of some evidence, with all that speaks for it.

    >>> strongest([Evidence("opened", "lz4"), Evidence("verified", "crc32")])
    Evidence(level='verified', by='crc32')
    """
    every = list(found)
    level = max((one.level for one in every), key=LEVELS.index, default=LEVELS[0])
    by = dict.fromkeys(one.by for one in every if one.level == level and one.by)
    return Evidence(level, ", ".join(by))
