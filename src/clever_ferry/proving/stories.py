"""Whether two saves of one game tell one story: the same world, tale or town at two times.

A name alone says little: two people call their worlds Saltmarsh. A recipe says which facts a
story is known by (`story`): one that *is* its identity, such as a seed, decides; else several
things must agree that stay or grow.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from clever_ferry.cargo import Save
from clever_ferry.naming import HexField, IdentifierField
from clever_ferry.recipes import Edition, Game

__all__ = ["Story", "story_of"]

Story = Literal["same", "other", "unsure"]
_ENOUGH = 2
"""So many things beside the name must agree."""


def story_of(first: Save, second: Save, game: Game) -> Story:
    """Tell whether two saves are of one story, by their name and what else must agree.

    Pieces are not read for this: that two saves are alike to the byte, the caller may know.
    """
    if first.title.casefold() != second.title.casefold():
        return "other"
    identity = [_agree(first, second, key) for key in game.facts_that("is")]
    stays = [_agree(first, second, key) for key in game.facts_that("stays")]
    if False in identity or False in stays:
        return "other"
    if True in identity or _same_identifier(first, second, game.editions):
        return "same"
    ours, theirs = _players(first, game), _players(second, game)
    agreeing = [True in stays, bool(ours) and ours == theirs]
    fits = _growth_fits(first, second, game)
    if fits is False:
        return "unsure"
    return "same" if sum(agreeing) + bool(fits) >= _ENOUGH else "unsure"


def _agree(first: Save, second: Save, key: str) -> bool | None:
    one, other = first.fact(key), second.fact(key)
    return None if one is None or other is None else one.value == other.value


def _same_identifier(first: Save, second: Save, editions: Mapping[str, Edition]) -> bool:
    """Tell whether both have one long identifier in their names, which nobody has twice by chance.

    That they differ says nothing: a crossing may have made a new one.
    """
    kinds = {
        name
        for edition in editions.values()
        for name in edition.key_fields
        if isinstance(edition.fields[name], HexField | IdentifierField)
    }
    return any(
        name in first.fields and first.fields[name] == second.fields.get(name)
        and len(str(first.fields[name])) >= 12
        for name in kinds
    )  # fmt: skip


def _players(save: Save, game: Game) -> set[str]:
    """Return who has a piece of their own in a save."""
    each = {role: info.each for role, info in game.pieces.items() if info.each}
    return {
        str(piece.fields[each[piece.role] or ""]).casefold()
        for piece in save.pieces
        if piece.role in each and each[piece.role] in piece.fields
    }


def _growth_fits(first: Save, second: Save, game: Game) -> bool | None:
    """Tell whether all that only grows says the same of which save is further; None: too little."""
    signs = []
    for key in game.facts_that("grows"):
        one, other = first.fact(key), second.fact(key)
        values = [fact.value for fact in (one, other) if fact is not None]
        numbers = [value for value in values if isinstance(value, int | float)]
        if len(numbers) == 2:
            signs.append((numbers[0] > numbers[1]) - (numbers[0] < numbers[1]))
    if len(signs) < 2:
        return None
    return not {1, -1} <= set(signs)
