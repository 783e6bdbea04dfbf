"""Which files are SQLite databases, and what SQLite leaves beside them, by names and starts."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from clever_ferry.payload import Payload, head

__all__ = ["COMPANIONS", "MAGIC", "companions", "counting", "is_database"]

MAGIC = b"SQLite format 3\0"
COMPANIONS = ("-journal", "-wal", "-shm")
"""Endings of the files beside a database that belong to it: the journal from which an open change
is undone, the log of changes that are not in it yet, and an index of that log."""
_JOURNALS = (b"\xd9\xd5\x05\xf9", b"\x37\x7f\x06\x82", b"\x37\x7f\x06\x83")


def companions(names: Collection[str]) -> dict[str, list[str]]:
    """Return, by the name of what would be a database, the names that would be its companions."""
    found: dict[str, list[str]] = {}
    for name in names:
        if name.endswith(COMPANIONS):
            base = name.rpartition("-")[0]
            found.setdefault(base, []).append(name)
    return {base: sorted(beside) for base, beside in found.items() if base in names}


def is_database(payload: Payload, beside: Iterable[Payload] = ()) -> bool:
    """Tell by its first bytes whether a file is a database, an empty one by its companions'."""
    start = head(payload, len(MAGIC))
    if start:
        return start == MAGIC
    return any(head(one, len(_JOURNALS[0])).startswith(_JOURNALS) for one in beside)


def counting(beside: Mapping[str, Payload]) -> dict[str, Payload]:
    """Return of what stands beside a database, by ending, what may hold changes of it."""
    return {ending: one for ending, one in beside.items() if ending != "-shm" and one.size != 0}
