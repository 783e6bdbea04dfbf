"""Zips opened within bounds: what is read of one is decided before its list is taken in."""

from __future__ import annotations

import struct
import zipfile
import zlib
from typing import IO

from clever_ferry.errors import DamagedError

__all__ = ["BROKEN", "DEEPEST", "MOST_MEMBERS", "open_zip"]

MOST_MEMBERS = 100_000
DEEPEST = 3
"""So deep may archives be nested."""
_LARGEST_LIST, _SHORTEST_ROW = 32 << 20, 46
BROKEN = (
    zipfile.BadZipFile, zlib.error, EOFError, ValueError, OSError, NotImplementedError,
    RuntimeError, IndexError, KeyError, struct.error,
)  # fmt: skip
"""What Python's zipfile raises over a zip that is damaged, or made to harm."""


def open_zip(raw: IO[bytes], title: str) -> zipfile.ZipFile:
    """Open a zip; raises DamagedError where it is none, or lists more than can be taken in.

    Python's own reader makes an object of each member, so that a small file could fill the memory.
    """
    try:
        _refuse_long(raw, title)
        return zipfile.ZipFile(raw)
    except BROKEN as error:
        raise DamagedError(
            f"{title} can't be read as a zip ({str(error).rstrip('.')}); is it whole?"
        ) from None


def _refuse_long(raw: IO[bytes], title: str) -> None:
    """Look at the end of the list and count what is in it (APPNOTE 4.3.12 to 4.3.16)."""
    raw.seek(0, 2)
    size = raw.tell()
    for tail in (1_000, 66_000):  # most have no remark behind
        raw.seek(max(0, size - tail))
        end = raw.read()
        at = end.rfind(b"PK\5\6")
        if at >= 0:
            break
    if at < 0 or len(end) - at < 22:
        return  # it is no zip, and zipfile says so
    length = int.from_bytes(end[at + 12 : at + 16], "little")
    large = end.rfind(b"PK\6\6", 0, at)
    if large >= 0:
        length = max(length if length != 0xFFFFFFFF else 0,
                     int.from_bytes(end[large + 40 : large + 48], "little"))  # fmt: skip
    if length > _LARGEST_LIST:
        raise DamagedError(f"{title} lists far more files than can be taken in.")
    if length > MOST_MEMBERS * _SHORTEST_ROW:
        raw.seek(max(0, size - len(end) + (large if large >= 0 else at) - length))
        if raw.read(length).count(b"PK\1\2") > MOST_MEMBERS:
            raise DamagedError(f"{title} holds more than {MOST_MEMBERS:,} files.")
    raw.seek(0)
