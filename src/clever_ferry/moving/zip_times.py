"""When a zip says that a file was changed: in local time, or in UTC where it has that, too.

Sources: PKWARE's APPNOTE (4.4.6, MS-DOS date and time, without a zone, which is local by
convention); Info-ZIP's extra field 0x5455, seconds since 1970 in UTC.
"""

from __future__ import annotations

import struct
import time
import zipfile

__all__ = ["stamp_of", "stamped"]

_UTC_TIME = 0x5455
_FIRST, _LAST = 1980, 2107
"""Years that a zip can say."""


def stamp_of(info: zipfile.ZipInfo) -> int:
    """Return the time of the last change in ns since 1970; 0 for one that no calendar has."""
    extra = info.extra
    while len(extra) >= 4:
        kind, size = struct.unpack_from("<HH", extra)
        if kind == _UTC_TIME and size >= 5 and len(extra) >= 9 and extra[4] & 1:
            return int(struct.unpack_from("<i", extra, 5)[0]) * 10**9
        extra = extra[4 + size :]
    try:
        return int(time.mktime((*info.date_time, 0, 0, -1))) * 10**9  # free: these are not read
    except (OverflowError, ValueError):
        return 0  # free: it is another system's


def stamped(name: str, stamp: int) -> zipfile.ZipInfo:
    """Return a new entry's head that says when it was changed (ns since 1970), in both ways."""
    seconds = stamp // 10**9
    try:
        date = time.localtime(seconds)[:6]
    except (OverflowError, ValueError, OSError):
        date = (_FIRST, 1, 1, 0, 0, 0)
    if not _FIRST <= date[0] <= _LAST:
        date = (_FIRST, 1, 1, 0, 0, 0)
    info = zipfile.ZipInfo(name, date)
    if -(1 << 31) <= seconds < 1 << 31:
        info.extra = struct.pack("<HHBi", _UTC_TIME, 5, 1, seconds)
    return info
