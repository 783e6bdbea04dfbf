"""Whether what a wrapping or an index says of a save's fields is so where it stands."""

from __future__ import annotations

from collections.abc import Mapping

from clever_ferry.cargo import Save
from clever_ferry.layers.agreements import AGREED
from clever_ferry.naming import Value

__all__ = ["agreed_key", "agreed_places", "rebuilt_pieces", "unlike", "unlike_facts"]


def agreed_key(field: str) -> str:
    """Return by what name a piece's headers tell what its places say of a name field."""
    return f"{AGREED} {field}"


def agreed_places(save: Save) -> int:
    """Return in how many places of a save's documents stands what must agree where it is."""
    said = (one for piece in save.pieces for one in piece.headers.items())
    return sum(told["places"] for key, told in said if key.startswith(f"{AGREED} "))


def rebuilt_pieces(save: Save) -> int:
    """Return how many of a save's pieces were built anew for it, so that they only say the same."""
    return sum(
        any(
            told.get("rebuilt")
            for key, told in piece.headers.items()
            if key.startswith(f"{AGREED} ")
        )
        for piece in save.pieces
    )


def unlike(bound: Mapping[str, int | str], fields: Mapping[str, Value], what: str) -> list[str]:
    """Return where a wrapping or an index says another value of a field than is so here."""
    return [
        f"{what} belongs to another {name}: it says {found}, but here it is {fields[name]}"
        for name, found in bound.items()
        if name in fields and not _same(found, fields[name])
    ]


def unlike_facts(
    bound: Mapping[str, int | str], facts: Mapping[str, Value], what: str
) -> list[str]:
    """Return where a wrapping or a sidecar says another value of a fact than the save has."""
    return [
        f"{what} says {found} for the {name}, but the save's is {facts[name]}"
        for name, found in bound.items()
        if name in facts and not _same(found, facts[name])
    ]


def _same(found: int | str, value: Value) -> bool:
    if isinstance(found, int):
        return str(value).isdecimal() and int(value) == found
    return found.lower() == str(value).lower()
