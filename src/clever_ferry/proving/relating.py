"""Which saves of two berths are the same progress, and which side is ahead.

Told by what a player goes by: the name, then the facts, then (where all facts agree) the
contents; the time of the last change only where nothing else tells.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Literal

from clever_ferry.cargo import Save, digest_of
from clever_ferry.errors import FerryError

__all__ = ["Related", "Relation", "relate", "told_relation"]

Relation = Literal["the same", "newer", "older", "different"]
"""How the first side's save stands to the second's; `different` where facts agree and contents
do not, as after a change that shows nowhere."""


@dataclass(frozen=True)
class Related:
    """Two saves of one game that tell the same story, or one that has no like on the other side."""

    first: Save | None
    second: Save | None
    relation: Relation | None = None


def relate(
    first: Sequence[Save], second: Sequence[Save], compared: Collection[str]
) -> list[Related]:
    """Pair the saves of two berths; `compared` are the facts that a crossing keeps.

    Saves are of one story where their names are the same. Of several of one name, those that
    are the same progress are paired first, then the nearest in play time.
    """
    found: list[Related] = []
    left, right = list(first), list(second)
    for wanted in ("the same", None):
        for save in list(left):
            likes = [one for one in right if _named(one) == _named(save)]
            pairs = [(one, _relation(save, one, compared)) for one in likes]
            fitting = [pair for pair in pairs if wanted in (None, pair[1])]
            if fitting:
                other, how = min(fitting, key=lambda pair: abs(_played(save) - _played(pair[0])))
                found.append(Related(save, other, how))
                left.remove(save)
                right.remove(other)
    found += [Related(save, None) for save in left]
    found += [Related(None, save) for save in right]
    return found


def told_relation(related: Related) -> str:
    """Return in words how the first side's save stands to the second's."""
    told: dict[Relation | None, str] = {
        "the same": "the same progress",
        "newer": "the first is ahead",
        "older": "the second is ahead",
        "different": "the same facts, other contents",
        None: "",
    }
    return told[related.relation]


def _named(save: Save) -> str:
    return save.title.casefold()


def _played(save: Save) -> float:
    values = [fact.value for fact in save.facts if fact.unit == "s"]
    return max((float(v) for v in values if isinstance(v, int | float)), default=0.0)


def _relation(save: Save, other: Save, compared: Collection[str]) -> Relation:
    if _played(save) != _played(other):
        return "newer" if _played(save) > _played(other) else "older"
    facts, others = ({f.key: f.value for f in s.facts if f.key in compared} for s in (save, other))
    shared = facts.keys() & others.keys()
    if all(facts[key] == others[key] for key in shared):
        return "the same" if _contents(save) == _contents(other) else "different"
    return "newer" if (save.stamp or 0) > (other.stamp or 0) else "older"


def _contents(save: Save) -> dict[object, str]:
    """Return each piece's digest, without any edition's wrapping; '' where it can't be read."""
    found: dict[object, str] = {}
    for piece in save.pieces:
        if piece.describes:
            continue
        try:
            found[piece.key] = "" if piece.problem else digest_of(piece.payload)
        except FerryError:
            found[piece.key] = ""
    return found
