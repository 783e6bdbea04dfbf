"""A carried save against its source: every piece's payload, every fact, nothing else touched."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from clever_ferry.boxes import Contents
from clever_ferry.cargo import Comparison, Fact, Piece, Save, digest_of, same_value
from clever_ferry.errors import (
    DamagedError,
    FerryError,
    NotFoundError,
    RefusedError,
    UnsupportedError,
)
from clever_ferry.layers.known import Known
from clever_ferry.proving.contents import sum_of
from clever_ferry.recipes import Edition, Game
from clever_ferry.recipes.encoding import Encoded

__all__ = ["FactPair", "Proof", "arrived", "prove", "untouched"]


class FactPair(NamedTuple):
    """One fact before and after; None where it could not be read."""

    label: str
    before: str | None
    after: str | None
    same: bool
    """Whether both say the same."""
    allowed: bool
    """Whether it may so stand after a move, by what the recipe says of it."""
    free: bool
    """Whether it may be anything after a move, such as the name of a file."""


@dataclass(frozen=True)
class Proof:
    """What reading one carried save back has shown."""

    save: Save
    """The save as the target now holds it."""
    facts: tuple[FactPair, ...]
    pieces: int
    faults: tuple[str, ...]
    content: str = ""
    """One digest of all that it holds, by which it is known again; '' where that is not read."""


def prove(
    game: Game,
    edition: Edition,
    source: Save,
    encoded: Sequence[Encoded],
    found: Save,
    known: Known,
    progress: Callable[[int], None] = lambda _: None,
    at_once: int = 1,
) -> Proof:
    """Compare a save that the target's edition has read back with what it was carried from.

    So many pieces are read `at_once`.
    """
    faults = list(found.problems)
    there = {piece.key: piece for piece in found.pieces}
    contents: dict[object, str] = {}
    pieces = [there.pop(item.piece.key, None) for item in encoded]
    for item, piece, digest in zip(encoded, pieces, _digests(pieces, at_once), strict=True):
        if piece is None:
            faults.append(f"the {item.piece.title} is not there")
            continue
        if isinstance(digest, FerryError):
            faults.append(f"the {piece.title} can't be read back: {digest.what}")
            continue
        progress(piece.size or 0)
        if not piece.describes:
            contents[piece.key] = digest
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
        pair, fault = _pair(label, game.compared[key], source.fact(key), found.fact(key))
        pairs += [pair] if pair is not None else []
        faults += fault
    return Proof(found, tuple(pairs), len(encoded), tuple(faults), sum_of(contents))


def _digests(pieces: Sequence[Piece | None], at_once: int) -> Iterable[str | FerryError]:
    """Return each piece's digest, or why it can't be read; '' where there is none."""

    def read(piece: Piece | None) -> str | FerryError:
        try:
            return digest_of(piece.payload) if piece is not None else ""
        except (DamagedError, NotFoundError, RefusedError, UnsupportedError) as error:
            return error

    if at_once == 1 or len(pieces) < 2:
        return map(read, pieces)
    from concurrent.futures import ThreadPoolExecutor

    with ThreadPoolExecutor(at_once) as pool:
        return list(pool.map(read, pieces))


def _pair(
    label: str, rule: Comparison, before: Fact | None, after: Fact | None
) -> tuple[FactPair | None, list[str]]:
    """Return a fact before and after, and what is wrong with it."""
    if before is None and after is None:
        return None, []
    texts = [fact.text if fact else None for fact in (before, after)]
    same = allowed = False
    if before is not None and after is not None:
        same, allowed = same_value(before, after), rule.allows(before, after)
        if not same and texts[0] == texts[1]:
            texts = [str(before.value), str(after.value)]
    free = rule.how == "free"
    pair = FactPair(label, texts[0], texts[1], same, allowed or free, free)
    if pair.allowed:
        return pair, []
    wanted = f" (after a move: {rule.in_words})" if rule.how != "same" else ""
    return pair, [
        f"{label} was {pair.before or 'unknown'} and is {pair.after or 'unknown'}{wanted}"
    ]


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
