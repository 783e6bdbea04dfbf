"""Verifying the locker: every object read to its end once, every snapshot held against them."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

from clever_ferry.errors import DamagedError
from clever_ferry.keeping.locker import Locker
from clever_ferry.keeping.snapshots import KeptSave, Snapshot

__all__ = ["Concerned", "Verified", "verify"]


@dataclass(frozen=True)
class Concerned:
    """A backup that something is wrong with."""

    ident: str
    title: str
    paths: tuple[str, ...]
    saves: tuple[KeptSave, ...]


@dataclass(frozen=True)
class Verified:
    """What verifying has shown."""

    snapshots: int
    objects: int
    size: int
    """Bytes read from the disk."""
    faults: tuple[str, ...]
    concerned: tuple[Concerned, ...]


def verify(
    locker: Locker,
    only: Collection[str] | None = None,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> Verified:
    """Read the contents of all backups, or of `only` these; each is read once.

    `progress` is told the bytes read so far, and all that are to be read.
    """
    faults: list[str] = []
    idents = [i for i in locker.snapshots.idents() if only is None or i in only]
    digests: dict[str, int] = {}
    count = 0
    for ident in idents:
        try:
            snapshot = locker.snapshot(ident)
        except DamagedError as error:
            faults.append(error.what)
            continue
        count += 1
        for kept in snapshot.files:
            if kept.digest not in digests:
                digests[kept.digest] = locker.objects.size(kept.digest)
    total, done = sum(digests.values()), 0
    bad: set[str] = set()
    for digest, size in digests.items():
        if fault := locker.objects.fault(digest):
            bad.add(digest)
            faults.append(fault)
        done += size
        progress(done, total)
    concerned = _concerned(locker, idents, bad) if bad else []
    return Verified(count, len(digests), total, tuple(faults), tuple(concerned))


def _concerned(locker: Locker, idents: list[str], bad: set[str]) -> list[Concerned]:
    found = []
    for ident in idents:
        try:
            snapshot: Snapshot = locker.snapshot(ident)
        except DamagedError:
            continue
        paths = tuple(kept.path for kept in snapshot.files if kept.digest in bad)
        if paths:
            found.append(
                Concerned(ident, snapshot.about.title, paths, tuple(snapshot.saves_of(paths)))
            )
    return found
