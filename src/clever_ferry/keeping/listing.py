"""A list of all snapshots that is quick to read: a copy of what each says in short.

The list is nothing but a copy: it is made anew from the snapshots where it is missing,
damaged, or does not know one of them.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from clever_ferry.errors import DamagedError
from clever_ferry.keeping.snapshots import Kept, Snapshots, about_from, saves_from

__all__ = ["list_snapshots"]

_SCHEMA = "CREATE TABLE IF NOT EXISTS kept (id TEXT PRIMARY KEY, made INTEGER, short TEXT)"


def list_snapshots(
    snapshots: Snapshots, list_file: Path, newest: int | None = None
) -> tuple[list[Kept], int, list[str]]:
    """Return the snapshots in short, the newest first (only so many), how many there are in all,
    and what is wrong with those that can't be read.
    """
    idents = set(snapshots.idents())
    if not idents:
        return [], 0, []
    try:
        return _listed(snapshots, list_file, idents, newest)
    except (sqlite3.Error, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        with suppress(OSError):
            list_file.unlink()
    faults: list[str] = []
    every = sorted(_all(snapshots, idents, faults), key=lambda one: one.made, reverse=True)
    return every[:newest], len(every), faults


def _listed(
    snapshots: Snapshots, list_file: Path, idents: set[str], newest: int | None
) -> tuple[list[Kept], int, list[str]]:
    faults: list[str] = []
    with closing(sqlite3.connect(list_file, timeout=5)) as book, book:
        book.execute("PRAGMA synchronous = OFF")
        book.execute(_SCHEMA)
        known = {ident for (ident,) in book.execute("SELECT id FROM kept")}
        book.executemany("DELETE FROM kept WHERE id = ?", [(one,) for one in known - idents])
        for one in _all(snapshots, idents - known, faults):
            book.execute("INSERT INTO kept VALUES (?, ?, ?)", (one.id, one.made, _told(one)))
        (count,) = book.execute("SELECT count(*) FROM kept").fetchone()
        rows = book.execute(
            "SELECT short FROM kept ORDER BY made DESC, id DESC LIMIT ?",
            (-1 if newest is None else newest,),
        )
        return [_kept(json.loads(short)) for (short,) in rows], count, faults


def _all(snapshots: Snapshots, idents: set[str], faults: list[str]) -> Iterator[Kept]:
    for ident in sorted(idents):
        try:
            yield snapshots.read(ident).short
        except DamagedError as error:
            faults.append(error.what)


def _told(one: Kept) -> str:
    data = {**vars(one), "about": vars(one.about), "saves": [vars(save) for save in one.saves]}
    return json.dumps(data)


def _kept(data: dict[str, Any]) -> Kept:
    about, saves = about_from(data.pop("about")), tuple(saves_from(data.pop("saves")))
    return Kept(**data, about=about, saves=saves)
