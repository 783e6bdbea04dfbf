"""An edition undressed: the same pieces by plain names, with no wrapping, box, rule or place.

It is what a parcel is read by. It follows from the recipe alone, so that both ends have the same.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec.structs import replace

from clever_ferry.errors import UnknownNameError
from clever_ferry.recipes.models import BerthInfo, EditionInfo, FileInfo, GameRecipe

__all__ = ["UNDRESSED", "own_fields", "undressed"]

UNDRESSED = "parcel"
"""The undressed edition's id; no edition of a recipe that has that id can be sent."""
_FIELD = re.compile(r"\{(\w+)\}")


def undressed(recipe: GameRecipe, edition: str, fields: Sequence[str]) -> GameRecipe:
    """Return a recipe with one more edition: the named one, undressed.

    `fields` are the name fields that a save has there; its folder is named by them. Raises
    UnknownNameError where the recipe has no such edition, or it has no such fields.
    """
    info = recipe.editions.get(edition)
    own = own_fields(recipe, edition)
    if info is None or not set(fields) <= set(own) or UNDRESSED in recipe.editions:
        raise UnknownNameError(
            f"The recipe of {recipe.game.title} has no edition {edition!r} of which this could be."
        )
    folder = "/".join(["save", *(f"{{{name}}}" for name in fields)])
    files: dict[str, FileInfo] = {}
    for one in info.files:
        piece = recipe.pieces[one.role]
        if not piece.shared and one.describes is None:
            each = f"/{{{piece.each}}}" if piece.each is not None else ""
            path = f"{folder}/{one.role}{each}"
            files[one.role] = FileInfo(role=one.role, path=path, tree=one.tree)
    used = {name for one in files.values() for name in _FIELD.findall(one.paths[0])}
    plain = EditionInfo(
        title=info.title,
        berths=(BerthInfo(on="any", under="given"),),
        fields={name: spec for name, spec in info.fields.items() if name in used},
        files=tuple(files.values()),
        facts={name: fact for name, fact in info.facts.items() if fact.header is None},
    )
    return replace(recipe, editions={**recipe.editions, UNDRESSED: plain})


def own_fields(recipe: GameRecipe, edition: str) -> list[str]:
    """Return the name fields that tell an edition's saves apart: no account, no player."""
    info = recipe.editions.get(edition)
    if info is None:
        return []
    places = {name for one in info.berths for name in _FIELD.findall(one.path or "")}
    each = {piece.each for piece in recipe.pieces.values()}
    named = [
        name
        for one in info.files
        if not recipe.pieces[one.role].shared
        for path in one.paths
        for name in _FIELD.findall(path)
    ]
    return [name for name in dict.fromkeys(named) if name not in places | each]
