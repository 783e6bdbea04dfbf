"""File by file, what corresponds to what in two berths, under each edition's naming."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from clever_ferry.cargo import Piece, Save
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.naming import Value
from clever_ferry.proving.relating import Related, relate

__all__ = ["Pair", "Pairs", "Partner", "pair"]


@dataclass(frozen=True)
class Partner:
    """One piece: its file on each side, or what its name would be there."""

    piece: str
    label: str
    """What the piece is, as the recipe says."""
    first: str | None
    second: str | None
    would_first: str | None = None
    """Its name on the first side if it were carried there; None where that side has no such."""
    would_second: str | None = None


@dataclass(frozen=True)
class Pair:
    """Two saves that belong together, or one that is alone, with their pieces."""

    related: Related
    partners: tuple[Partner, ...]


@dataclass(frozen=True)
class Pairs:
    """All of two berths; the rest are files that are no save's, which stay as they are."""

    pairs: tuple[Pair, ...]
    shared: tuple[Partner, ...]
    first_rest: tuple[str, ...]
    second_rest: tuple[str, ...]


def pair(first: OpenBerth, second: OpenBerth) -> Pairs:
    """Set two berths of one game against each other, file by file."""
    related = relate(first.listing.saves, second.listing.saves, first.berth.game)
    pairs = []
    for one in related:
        a, b = one.first, one.second
        partners = _partners(
            a.pieces if a else (),
            b.pieces if b else (),
            first,
            second,
            _fields(b, a),
            _fields(a, b),
        )
        if a is None or b is None:
            partners += _made(first if a is None else second, a or b, mine=a is None)
        pairs.append(Pair(one, partners))
    shared = _partners(first.listing.shared, second.listing.shared, first, second, {}, {})
    return Pairs(tuple(pairs), shared, first.listing.unread, second.listing.unread)


def _fields(own: Save | None, other: Save | None) -> Mapping[str, Value]:
    """Return the name fields of a save, or those that it would take from the other side."""
    if own is not None:
        return own.fields
    return {"slot": other.slot, **other.fields} if other is not None else {}


def _partners(
    first: Sequence[Piece], second: Sequence[Piece], one: OpenBerth, other: OpenBerth,
    to_second: Mapping[str, Value], to_first: Mapping[str, Value],
) -> tuple[Partner, ...]:  # fmt: skip
    here, there = ({piece.key: piece for piece in pieces} for pieces in (first, second))
    labels = one.berth.game.pieces
    found = []
    for key in dict.fromkeys([*here, *there]):
        a, b = here.get(key), there.get(key)
        piece = a or b
        assert piece is not None
        found.append(
            Partner(
                piece.title, labels[piece.role].label or piece.role,
                a.entry if a else None, b.entry if b else None,
                None if a else _name(one, piece, to_first),
                None if b else _name(other, piece, to_second),
            )
        )  # fmt: skip
    return tuple(found)


def _made(berth: OpenBerth, save: Save | None, *, mine: bool) -> tuple[Partner, ...]:
    """Return the sidecars that a side would make of a save that it has not; `mine`: the first's."""
    edition, labels = berth.berth.edition, berth.berth.game.pieces
    roles = {piece.role for piece in save.pieces} if save else set()
    found = []
    for file in edition.files:
        if (
            save is None
            or file.sidecar is None
            or file.sidecar.of not in roles
            or file.role in roles
        ):
            continue
        name = file.patterns[0].partly({**berth.berth.fields, **_fields(None, save)})
        title = labels[file.role].label or file.role
        names = (name, None) if mine else (None, name)
        found.append(Partner(file.role, title, None, None, *names))
    return tuple(found)


def _name(berth: OpenBerth, piece: Piece, fields: Mapping[str, Value]) -> str | None:
    file = berth.berth.edition.file_of(piece.role)
    known = {**berth.berth.fields, **fields, **piece.fields}
    return file.partly(known) if file is not None else None
