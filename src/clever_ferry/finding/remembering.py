"""Berths that were read before: their saves are told again where no file has changed since.

A large berth takes long to read and is mostly as it was. What its saves said is kept with the
state of all its files: path, size, time, and the system's own time of change and number. Only
what is shown comes from there; whatever is carried, checked or compared is read.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from msgspec import msgpack

from clever_ferry import __version__
from clever_ferry.boxes import Contents
from clever_ferry.boxes.folder import FolderBox
from clever_ferry.cargo import Fact, Piece, Save, new_digest
from clever_ferry.finding.berths import Berth, OpenBerth, open_berth
from clever_ferry.keeping.readings import Readings
from clever_ferry.moving.files import FolderFiles
from clever_ferry.recipes import Listing
from clever_ferry.tree import FileInfo, Files, Listed

__all__ = ["open_remembered"]

_FORM = 2
"""Goes up when what is kept changes its form or its meaning."""
_WORTH = 0.05
"""Seconds that reading must have taken for its result to be kept."""
_SETTLED = 4 * 10**9
"""Nanoseconds after which a further change of a file would show in its time on every disk."""


def open_remembered(
    berth: Berth,
    readings: Readings,
    recipes: bytes,
    *,
    clock: Callable[[], int] = time.time_ns,
    worth: float = _WORTH,
) -> OpenBerth:
    """Return what a berth holds, as `open_berth` does with `lenient`, to be shown.

    The bytes of its pieces can't be had where it was read before. `recipes` stands for all that
    the recipes say; what was read by others is read anew.
    """
    if not isinstance(berth.files, FolderFiles):
        return open_berth(berth, lenient=True, keyless=True)
    started, now = time.perf_counter(), clock()
    closed: list[str] = []
    files = berth.files.passing(closed)
    plain = isinstance(berth.edition.box, FolderBox)
    listed = list(files.walk(berth.edition.enter if plain else _every))
    state = _state(berth, listed, recipes)
    place = _digest(berth.place.encode("utf-8", "replace")).hex()[:16]
    name = f"{berth.game.id}-{berth.edition.id}-{place}"
    if state is None or closed:
        return open_berth(berth, lenient=True, keyless=True)
    before = readings.get(name, state)
    if before is not None:
        return OpenBerth(berth, Contents(()), _listing(before), berth.known())
    there: Files = Listed(files, tuple(listed)) if plain else files
    opened = open_berth(berth, lenient=True, keyless=True, files=there)
    settled = all(max(one.stamp, one.change) < now - _SETTLED for one in listed)
    if settled and time.perf_counter() - started >= worth:
        readings.keep(name, state, _kept(opened.listing))
    return opened


def _every(folder: str) -> bool:
    return True


def _state(berth: Berth, listed: Sequence[FileInfo], recipes: bytes) -> bytes | None:
    """Return a digest of all that decides what a berth's saves say; None where it has none."""
    about = (_FORM, __version__, recipes, berth.place, berth.known())
    try:
        return _digest(msgpack.encode((about, listed)))
    except (OverflowError, UnicodeEncodeError):  # a name that is no text
        return None


def _digest(data: bytes) -> bytes:
    running = new_digest()
    running.update(data)
    return bytes(running.digest())


# To plain data and back. Both stand side by side, so that they agree ---------------------------


def _kept(listing: Listing) -> Any:
    return (
        [_kept_save(save) for save in listing.saves],
        [_kept_piece(piece) for piece in listing.shared],
        listing.unread,
        listing.problems,
        listing.spare,
        [_kept_save(save) for save in listing.behind],
    )


def _listing(kept: Any) -> Listing:
    saves, shared, unread, problems, spare, behind = kept
    return Listing(
        tuple(map(_save, saves)), tuple(map(_piece, shared)), tuple(unread), tuple(problems),
        tuple(spare), tuple(map(_save, behind)),
    )  # fmt: skip


def _kept_save(save: Save) -> Any:
    pieces = [_kept_piece(piece) for piece in save.pieces]
    return (
        save.slot, dict(save.fields), pieces, save.facts, save.problems, save.notes, save.packs,
        save.generation,
    )  # fmt: skip


def _save(kept: Any) -> Save:
    slot, fields, pieces, facts, problems, notes, packs, generation = kept
    return Save(
        slot, fields, tuple(map(_piece, pieces)), tuple([Fact(*fact) for fact in facts]),
        tuple(problems), tuple(notes), tuple(packs), generation,
    )  # fmt: skip


def _kept_piece(piece: Piece) -> Any:
    own = (piece.role, dict(piece.fields), piece.size, piece.stamp, piece.entry)
    unusual = piece.bound or piece.problem or piece.old or piece.describes or piece.locked
    if not unusual and piece.files == (piece.entry,):
        return own
    rest = (piece.files, piece.problem, dict(piece.bound), piece.old, piece.describes, piece.locked)
    return own + rest


def _piece(kept: Any) -> Piece:
    role, fields, size, stamp, entry, *rest = kept
    if not rest:
        return Piece(role, fields, _UNREAD, size, stamp, entry, (entry,))
    files, problem, bound, old, describes, locked = rest
    return Piece(
        role, fields, _UNREAD, size, stamp, entry, tuple(files), problem, bound, {}, old,
        describes, None, locked,
    )  # fmt: skip


class _Unread:
    """Stands for the bytes of a piece that were not read this time."""

    size: int | None = None

    def chunks(self) -> Iterator[bytes]:
        """Fail: what is remembered is only to be shown."""
        raise RuntimeError("the bytes of a remembered piece were asked for")


_UNREAD = _Unread()
