"""What to carry next, said after two sides were set against each other."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from clever_ferry.cargo import Save
from clever_ferry.finding.addresses import address_of
from clever_ferry.finding.berths import Berth
from clever_ferry.proving.relating import Related

__all__ = ["way_between"]


def way_between(one: Berth, other: Berth, related: Sequence[Related]) -> str:
    """Return what carries progress to the side where it is behind, or missing; '' if unknown.

    Damaged saves and throwaways are nothing to begin with, and an archive is only read.
    """
    ways = [
        way
        for way in _ways(one, other, related)
        if way[3].writable and not way[0].problems and not way[0].throwaway
    ]
    for save, like, start, end in ways:
        if like is not None:
            route = f"{address_of(start.address, save)} {address_of(end.address, like)}"
            told = f"{save.title} is ahead in {start.title}."
            return f"{told}\nTo carry it over: cferry cross {route} --dry-run"
    for save, _, start, end in ways:
        route = f"{address_of(start.address, save)} {end.address}"
        return f"To carry one: cferry cross {route} --dry-run"
    if related and all(pair.relation == "the same" for pair in related):
        return "Both sides have the same progress: nothing needs to be carried."
    return ""


def _ways(
    one: Berth, other: Berth, related: Sequence[Related]
) -> Iterator[tuple[Save, Save | None, Berth, Berth]]:
    """Yield each save that the other side lacks or has older, that one, and both sides."""
    for pair in related:
        if pair.first is not None and pair.relation in ("newer", None):
            yield pair.first, pair.second, one, other
        elif pair.second is not None and pair.relation in ("older", None):
            yield pair.second, pair.first, other, one
