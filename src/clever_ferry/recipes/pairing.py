"""What becomes of a save between each two editions, as their recipe alone tells it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from clever_ferry.layers import Chain
from clever_ferry.layers.agreements import Agreements
from clever_ferry.layers.chain import Layer
from clever_ferry.layers.headers import Header
from clever_ferry.layers.lists import Lists
from clever_ferry.recipes.edition import Edition, Game
from clever_ferry.recipes.telling import only_read

__all__ = ["PairTold", "told_pairs"]


class PairTold(NamedTuple):
    """What becomes of what a save holds, from one edition to another."""

    source: Edition
    target: Edition
    crosses: tuple[str, ...]
    """The pieces that are carried."""
    made: tuple[str, ...]
    """What is made anew for the target, or made to agree there."""
    taken: tuple[str, ...]
    """What only the target has, and gives."""
    lost: tuple[str, ...]
    """What the target has no place for."""


def told_pairs(game: Game) -> list[PairTold]:
    """Tell for every two editions what crosses, is made anew, comes from the target, is lost."""
    every = game.editions.values()
    return [_pair(game, source, target) for source in every for target in every
            if source is not target and not only_read(target)]  # fmt: skip


def _pair(game: Game, source: Edition, target: Edition) -> PairTold:
    crosses, made, taken, lost = [], list[str](), list[str](), []
    for file in target.files:
        other = source.file_of(file.role)
        if game.pieces[file.role].shared:
            taken.append(f"the {file.role}, which all its saves share")
            continue
        if file.sidecar is not None:
            made.append(f"the {file.role}, which describes the {file.sidecar.of}")
        elif other is not None and other.sidecar is None:
            crosses.append(file.role)
        else:
            continue
        made += [f"the {words} in the {file.role}" for words in _agreed(file.chain)]
        theirs = list(_headers(other.chain)) if other is not None else []
        there = {header.layout.name for header in theirs}
        fields = {name for header in theirs for name in header.layout.plain}
        for header in _headers(file.chain):
            layout = header.layout
            where = f"in the {file.role}'s header ({layout.name})"
            made += [f"the {field} {where}" for field in dict.fromkeys(layout.bound.values())]
            own = layout.bound.keys() | {one.field for one in layout.computed}
            for name, ways in header.on_arrival.items():
                ways = [way for way in ways if way != "kept" or name in fields]
                if "kept" not in ways[:1]:
                    (made if ways[:1] == ["made"] else taken).append(
                        f"the {name} {where}" + (f" ({' or '.join(ways)})" if ways[1:] else "")
                    )
            own |= header.on_arrival.keys()
            if layout.name not in there and (names := [n for n in layout.needed if n not in own]):
                taken.append(f"{', '.join(names)} {where}")
    for name in target.key_fields:
        ways = target.fields[name].on_arrival
        if name != "slot" and ways != ("kept",):
            if "adopted" in ways or "usual" in ways:
                more = ", or a new one" if "made" in ways else ""
                taken.append(f"the {name} of what is replaced{more}")
            elif "made" in ways:
                made.append(f"a new {name}")
    made += [f"{pattern.text}, by the game" for pattern in target.rebuilt]
    for file in source.files:
        if target.file_of(file.role) is None and file.sidecar is None:
            shared = ", which all saves share" if game.pieces[file.role].shared else ""
            lost.append(f"the {file.role}{shared}")
    roles = {file.role for file in target.files}
    unread = target.reader.sources - roles
    lost += [f"the fact {label}" for key, label in game.fact_labels.items()
             if target.reader.source_of(key) in unread]  # fmt: skip
    return PairTold(source, target, *(tuple(one) for one in (crosses, made, taken, lost)))


def _agreed(chain: Chain) -> Iterator[str]:
    for layer in _every_layer(chain):
        if isinstance(layer, Agreements):
            yield from (spec.words for spec in layer.specs if spec.always is None)
        elif isinstance(layer, Lists):
            yield "list of files"


def _headers(chain: Chain) -> Iterator[Header]:
    for layer in _every_layer(chain):
        header = getattr(layer, "header", layer)
        if isinstance(header, Header):
            yield header


def _every_layer(chain: Chain) -> Iterator[Layer]:
    for layer in chain.layers:
        yield layer
        inner = getattr(layer, "chains", ())
        for one in inner.values() if isinstance(inner, Mapping) else inner:
            yield from _every_layer(one)
