"""Game libraries as recipes describe them: where they keep compatibility prefixes."""

from __future__ import annotations

from typing import NamedTuple

from msgspec import Struct

from clever_ferry.errors import FerryError, RecipeError
from clever_ferry.naming import Pattern, compile_pattern
from clever_ferry.recipes.effects import field_effects
from clever_ferry.recipes.models import LibraryPlace, LibraryRecipe

__all__ = ["Library", "Spot", "compile_library"]


class Spot(NamedTuple):
    """A place and its compiled path."""

    info: LibraryPlace
    pattern: Pattern


class Library(Struct, frozen=True):
    """A compiled library recipe."""

    id: str
    title: str
    prefixes: tuple[Spot, ...]
    lists: tuple[Spot, ...]


def compile_library(recipe: LibraryRecipe) -> Library:
    """Compile a library recipe; raises RecipeError with what does not fit together."""
    faults: list[str] = []
    spots: dict[str, list[Spot]] = {"prefixes": [], "lists": []}
    for key, places in (("prefixes", recipe.prefixes), ("lists", recipe.lists)):
        for number, place in enumerate(places, 1):
            try:
                spots[key].append(Spot(place, compile_pattern(place.path, recipe.fields)))
            except FerryError as error:
                faults.append(f"{key}[{number}].path: {error.what}")
            if place.under in ("given", "export"):
                faults.append(f"{key}[{number}].under: that is no known folder")
            if key == "lists" and place.under == "listed":
                faults.append(f"lists[{number}].under: a list is below a known folder")
    used = {name for one in spots.values() for spot in one for name in spot.pattern.fields}
    faults += [
        f"fields.{name}: no path has this field, so it is never filled"
        for name in sorted(recipe.fields.keys() - used)
        if not faults
    ]
    faults += [
        f"fields.{name}.on_arrival: nothing is carried into a prefix by its name"
        for name, field in recipe.fields.items()
        if field.on_arrival != ("kept",)
    ]
    faults += [
        f"{key}: {what}"
        for name, field in recipe.fields.items()
        for key, what in field_effects(name, field)
    ]
    if faults:
        raise RecipeError("This library recipe does not fit together.", details=tuple(faults))
    info = recipe.library
    return Library(info.id, info.title, tuple(spots["prefixes"]), tuple(spots["lists"]))
