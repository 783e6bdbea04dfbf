"""From a recipe for a pair of games, and the files beside it, to what can be carried out."""

from __future__ import annotations

from pathlib import Path

from clever_ferry.bequeathing.bequest import SLOT, Bequest, read_beside
from clever_ferry.bequeathing.faults import bequest_faults
from clever_ferry.bequeathing.rendering import Templates
from clever_ferry.errors import DamagedError, FerryError, RecipeError
from clever_ferry.recipes.bequest_models import BequestRecipe
from clever_ferry.recipes.edition import Game
from clever_ferry.recipes.loading import Recipes
from clever_ferry.wording import known

__all__ = ["compile_bequest"]


def compile_bequest(recipe: BequestRecipe, folder: Path, recipes: Recipes) -> Bequest:
    """Compile a recipe for a pair of games, whose own files are in a folder.

    Raises RecipeError with all that does not fit together.
    """
    faults: list[str] = []
    games: dict[str, Game] = {}
    target, _, edition = recipe.bequest.target.partition("/")
    for key, ident in (("from", recipe.bequest.source), ("to", target)):
        try:
            games[key] = recipes.game(ident)
        except FerryError as error:
            faults.append(f"bequest.{key}: {error.what}")
    if "to" in games and edition not in games["to"].editions:
        faults.append(f"bequest.to: it has no edition {edition!r}; {known(games['to'].editions)}")
    if not faults:
        own, stated = recipes.own_fields(target, edition), {*recipe.bequest.fields}
        faults += [f"bequest.fields.{name}: the saves there have no such field; {known(own)}"
                   for name in sorted(stated - {*own})]  # fmt: skip
        faults += [f"bequest.fields: it says nothing of {name!r}, which tells its saves apart"
                   for name in own if name not in stated | {SLOT}]  # fmt: skip
    if faults:
        raise RecipeError("This recipe does not fit together.", details=tuple(faults))

    def template(name: str) -> str:
        try:
            return read_beside(folder, name).decode()
        except UnicodeDecodeError:
            raise DamagedError(f"{name} is no UTF-8 text.") from None

    made = Bequest(
        recipe, games["from"], games["to"], games["to"].editions[edition],
        recipes.undressed(target, edition, own), folder,
        Templates(template, recipe.forms),
    )  # fmt: skip
    found = [f"{key}: {what}" for key, what in bequest_faults(made)]
    if found:
        raise RecipeError("This recipe does not fit together.", details=tuple(dict.fromkeys(found)))
    return made
