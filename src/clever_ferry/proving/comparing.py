"""A carried save against its source: every piece's payload, every fact, nothing else touched."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from clever_ferry.boxes import Contents
from clever_ferry.cargo import Piece, Save, digest_of
from clever_ferry.errors import DamagedError, NotFoundError, RefusedError, UnsupportedError
from clever_ferry.layers.known import Known
from clever_ferry.recipes import Edition, Game
from clever_ferry.recipes.encoding import Encoded

__all__ = ["FactPair", "Proof", "arrived", "prove", "untouched"]


class FactPair(NamedTuple):
    """One fact before and after; None where it could not be read."""

    label: str
    before: str | None
    after: str | None
    compared: bool

    @property
    def same(self) -> bool:
        """Whether it proves the save (or at least does not speak against it)."""
        return self.before == self.after or not self.compared


@dataclass(frozen=True)
class Proof:
    """What reading one carried save back has shown."""

    save: Save
    """The save as the target now holds it."""
    facts: tuple[FactPair, ...]
    pieces: int
    faults: tuple[str, ...]


def prove(
    game: Game,
    edition: Edition,
    source: Save,
    encoded: Sequence[Encoded],
    found: Save,
    known: Known,
    progress: Callable[[int], None] = lambda _: None,
) -> Proof:
    """Compare a save that the target's edition has read back with what it was carried from."""
    faults = list(found.problems)
    there = {piece.key: piece for piece in found.pieces}
    for item in encoded:
        piece = there.pop(item.piece.key, None)
        if piece is None:
            faults.append(f"the {item.piece.title} is not there")
            continue
        try:
            digest = digest_of(piece.payload)
        except (DamagedError, NotFoundError, RefusedError, UnsupportedError) as error:
            faults.append(f"the {piece.title} can't be read back: {error.what}")
            continue
        progress(piece.size or 0)
        if digest != item.payload.digest:
            faults.append(f"the {piece.title} is not what was carried")
        faults += edition.unlike(piece, found, known.fields)
        faults += _otherwise(item, piece)
        for other, claim in edition.claims_on(piece, found):
            if wrong := claim.fault(edition.at_stage(piece, claim.spec.stage, known)):
                faults.append(f"{other.entry} {wrong}")
    faults += [f"the {piece.title} was not carried, but is there" for piece in there.values()]
    pairs = []
    for key, label in game.fact_labels.items():
        before, after = source.fact(key), found.fact(key)
        if before is None and after is None:
            continue
        pair = FactPair(
            label,
            before.text if before else None,
            after.text if after else None,
            key in game.compared,
        )
        pairs.append(pair)
        if not pair.same:
            faults.append(f"{label} was {pair.before} and is {pair.after}")
    return Proof(found, tuple(pairs), len(encoded), tuple(faults))


def _otherwise(item: Encoded, piece: Piece) -> Iterator[str]:
    """Yield where a header that was read back does not say what it was to say."""
    for layout, said in item.said.items():
        found = piece.headers.get(layout, {})
        for name, value in said.items():
            if name in found and found[name] != value:
                yield (
                    f"the {name} in the {piece.title}'s header ({layout}) is {found[name]!s:.80}, "
                    f"and was to be {value!s:.80}"
                )


def arrived(item: Encoded, piece: Piece | None) -> bool:
    """Tell whether a piece that was read back has the payload that was carried."""
    try:
        return piece is not None and digest_of(piece.payload) == item.payload.digest
    except (DamagedError, NotFoundError, RefusedError, UnsupportedError):
        return False


def untouched(before: Contents, after: Contents, concerned: set[str]) -> list[str]:
    """Return the entries that changed although the crossing does not concern them."""
    state = {
        entry.name: (entry.size, entry.stamp, entry.files, entry.problem)
        for entry in after.entries
        if entry.name not in concerned
    }
    return [
        entry.name
        for entry in before.entries
        if entry.name not in concerned
        and state.get(entry.name) != (entry.size, entry.stamp, entry.files, entry.problem)
    ]
