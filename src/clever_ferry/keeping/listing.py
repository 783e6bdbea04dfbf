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

from msgspec import convert, to_builtins

from clever_ferry.errors import DamagedError
from clever_ferry.keeping.snapshots import Kept, Snapshots

__all__ = ["list_snapshots"]

_VERSION = 1
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
    except (sqlite3.Error, ValueError, TypeError, RecursionError):
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
        (version,) = book.execute("PRAGMA user_version").fetchone()
        if version == 0:
            book.execute(f"PRAGMA user_version = {_VERSION}")
        elif version != _VERSION:
            raise ValueError("another cferry has made it")
        known = {ident for (ident,) in book.execute("SELECT id FROM kept")}
        book.executemany("DELETE FROM kept WHERE id = ?", [(one,) for one in known - idents])
        for one in _all(snapshots, idents - known, faults):
            short = json.dumps(to_builtins(one))
            book.execute("INSERT INTO kept VALUES (?, ?, ?)", (one.id, one.made, short))
        (count,) = book.execute("SELECT count(*) FROM kept").fetchone()
        rows = book.execute(
            "SELECT short FROM kept ORDER BY made DESC, id DESC LIMIT ?",
            (-1 if newest is None else newest,),
        )
        return [convert(json.loads(short), Kept) for (short,) in rows], count, faults


def _all(snapshots: Snapshots, idents: set[str], faults: list[str]) -> Iterator[Kept]:
    for ident in sorted(idents):
        try:
            yield snapshots.read(ident).short
        except DamagedError as error:
            faults.append(error.what)
