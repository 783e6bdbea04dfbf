"""What SQLite has left beside a database in a box of files belongs to that database.

It is kept with it, is read as settled, and goes when the database is replaced, as it would
otherwise be applied to the new one.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec.structs import replace

from clever_ferry.boxes.box import Entry, Put
from clever_ferry.forms.database_files import COMPANIONS, companions, is_database

__all__ = ["going_with", "with_companions"]


def with_companions(entries: list[Entry]) -> list[Entry]:
    """Return the entries with what stands beside databases as part of these."""
    if not any(entry.name.endswith(COMPANIONS) for entry in entries):
        return entries
    from clever_ferry.forms.databases import settled  # SQLite takes its time

    known = {entry.name: entry for entry in entries}
    whole: dict[str, Entry] = {}
    parts: set[str] = set()
    for name, names in companions(known.keys()).items():
        own, beside = known[name], {one[len(name) :]: known[one] for one in names}
        payloads = {ending: one.payload for ending, one in beside.items()}
        if not is_database(own.payload, payloads.values()):
            continue
        every = (own, *beside.values())
        whole[name] = replace(
            own,
            stamp=max(one.stamp or 0 for one in every),
            payload=settled(own.payload, payloads),
            files=tuple(dict.fromkeys(path for one in every for path in one.files)),
            problem=next((one.problem for one in every if one.problem), ""),
            beside=tuple(names),
        )
        parts.update(names)
    return [whole.get(one.name, one) for one in entries if one.name not in parts]


def going_with(put: Put, known: Mapping[str, Entry]) -> Iterable[str]:
    """Return the names of what would be taken for a new entry's own, by those that are there."""
    if put.name in known and known[put.name].beside:
        return known[put.name].beside
    names = [put.name + ending for ending in COMPANIONS if put.name + ending in known]
    return names if names and is_database(put.payload) else ()
