"""Recipes from where they are: those that come with the tool, and the user's own.

A recipe's file is named by its id, so that a command reads only those that it needs. A
user's recipe never takes a shipped one's place unless it says so (`replaces_shipped`).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import Any, Literal, TypeVar

from msgspec import Struct

from clever_ferry.boxes import Box
from clever_ferry.cargo import new_digest
from clever_ferry.errors import FerryError, RecipeError, UnknownNameError, WrongUseError
from clever_ferry.model import ValidationError, convert, parse_toml
from clever_ferry.moving.disk import read_whole
from clever_ferry.recipes.bequest_models import BequestInfo, BequestRecipe
from clever_ferry.recipes.compiling import compile_box, compile_game
from clever_ferry.recipes.edition import Edition, Game
from clever_ferry.recipes.explaining import explain
from clever_ferry.recipes.libraries import Library, compile_library
from clever_ferry.recipes.lines import placed
from clever_ferry.recipes.models import (
    BoxInfo,
    BoxRecipe,
    GameInfo,
    GameRecipe,
    LibraryInfo,
    LibraryRecipe,
)

__all__ = ["RecipeSource", "Recipes", "read_recipe"]

_LARGEST_RECIPE = 1 << 20
_SHIPPED = Path(__file__).with_name("data")
_T = TypeVar("_T")
AnyRecipe = GameRecipe | BoxRecipe | LibraryRecipe | BequestRecipe
_MODELS: dict[str, type[AnyRecipe]] = {
    "game": GameRecipe, "box": BoxRecipe, "library": LibraryRecipe, "bequest": BequestRecipe
}  # fmt: skip


class RecipeSource(Struct, frozen=True):
    """A recipe file: its id, whose it is, and where."""

    id: str
    origin: Literal["shipped", "yours"]
    file: Path

    @property
    def place(self) -> str:
        """The file's path in words."""
        return str(self.file) if self.origin == "yours" else f"{self.file.name} (shipped)"

    def text(self) -> str:
        """Return the file's text."""
        return _text(self.file, self.place)


class Recipes:
    """All recipes at hand; each is read when it is first asked for."""

    def __init__(self, own: Path | None) -> None:
        self.own = own
        self._games: dict[str, Game] = {}
        self._boxes: dict[str, tuple[str, Box]] = {}
        self._read: dict[RecipeSource, AnyRecipe] = {}

    def _recipe(self, source: RecipeSource) -> AnyRecipe:
        if source not in self._read:
            self._read[source] = _parsed(source.text(), source.place)
        return self._read[source]

    @cached_property
    def _shipped(self) -> dict[str, RecipeSource]:
        return _sources(_SHIPPED, "shipped")

    @cached_property
    def _yours(self) -> dict[str, RecipeSource]:
        return _sources(self.own, "yours") if self.own and self.own.is_dir() else {}

    def sources(self) -> list[RecipeSource]:
        """Return every recipe file, the user's own ones included, by id."""
        both = [*self._shipped.values(), *self._yours.values()]
        return sorted(both, key=lambda source: (source.id, source.origin))

    def source(self, ident: str) -> RecipeSource:
        """Return the recipe file that counts for an id.

        Raises UnknownNameError for an unknown id, and RecipeError where the user's
        recipe has a shipped one's id without saying that it replaces it.
        """
        shipped, yours = self._shipped.get(ident), self._yours.get(ident)
        if yours is not None and shipped is not None:
            recipe = self._recipe(yours)
            if not _head(recipe).replaces_shipped:
                raise RecipeError(
                    f"Your recipe {yours.place} has the id of a shipped one, {ident!r}.",
                    advice="Give it an id (and file name) of its own, or write "
                    "`replaces_shipped = true` below its `id` to use it instead.",
                )
        found = yours or shipped
        if found is None:
            raise self.unknown(ident)
        return found

    @cached_property
    def state(self) -> bytes:
        """A digest of all recipes' texts: what any of them says changes it."""
        running = new_digest()
        for source in self.sources():
            with suppress(RecipeError):  # `recipe list` tells the fault
                running.update(f"{source.origin}/{source.id}\0{source.text()}\0".encode())
        return bytes(running.digest())

    def unknown(self, ident: str) -> UnknownNameError:
        """Return the error for an unknown id, with the near ones."""
        from difflib import get_close_matches

        known = self.game_ids()
        near = get_close_matches(ident, known, 3, 0.5)
        return UnknownNameError(
            f"There is no recipe for a game {ident!r}.",
            details=(f"Near to it: {', '.join(near)}.",) if near else (),
            advice="`cferry recipe list` shows all games that it knows.",
        )

    def game_ids(self) -> list[str]:
        """Return the ids of all games whose recipe can be read."""
        return [game.id for game in self.games()[0]]

    def game(self, ident: str) -> Game:
        """Return a compiled game; raises UnknownNameError or RecipeError."""
        if ident not in self._games:
            source = self.source(ident)
            recipe = self._recipe(source)
            if not isinstance(recipe, GameRecipe):
                raise self.unknown(ident)
            self._games[ident] = _with_place(source.place, lambda: compile_game(recipe, self.box))
        return self._games[ident]

    def _game_recipe(self, ident: str) -> GameRecipe:
        recipe = self._recipe(self.source(ident))
        if not isinstance(recipe, GameRecipe):
            raise self.unknown(ident)
        return recipe

    def undressed(self, ident: str, edition: str, fields: Sequence[str]) -> Game:
        """Return a game with one more edition: the named one, undressed (`recipes.undressed`)."""
        from clever_ferry.recipes.undressed import undressed

        return compile_game(undressed(self._game_recipe(ident), edition, fields), self.box)

    def own_fields(self, ident: str, edition: str) -> list[str]:
        """Return the name fields that tell an edition's saves apart."""
        from clever_ferry.recipes.undressed import own_fields

        return own_fields(self._game_recipe(ident), edition)

    def digest(self, ident: str) -> str:
        """Return a digest of a recipe's text."""
        running = new_digest()
        running.update(self.source(ident).text().encode())
        return str(running.hexdigest())

    def games(self) -> tuple[list[Game], list[FerryError]]:
        """Return all games, and why some recipes can't be used."""
        return self._games_where(lambda _: True)

    def exported(self) -> list[Edition]:
        """Return the editions whose saves come as archives with names of their own.

        Games without one are not even compiled.
        """
        named = [
            edition
            for game in self._games_where(_comes_in_archives)[0]
            for edition in game.editions.values()
        ]
        return [one for one in named if any(berth.archives for berth in one.berths)]

    def _games_where(
        self, wanted: Callable[[GameRecipe], bool]
    ) -> tuple[list[Game], list[FerryError]]:
        games, faults = [], []
        for ident in dict.fromkeys(source.id for source in self.sources()):
            try:
                recipe = self._recipe(self.source(ident))
                if isinstance(recipe, GameRecipe) and wanted(recipe):
                    games.append(self.game(ident))
            except FerryError as error:
                faults.append(error)
        return games, faults

    def box(self, ident: str) -> tuple[str, Box]:
        """Return a box kind's title and the box; raises UnknownNameError or RecipeError."""
        if ident not in self._boxes:
            source = self._yours.get(ident) or self._shipped.get(ident)
            recipe = self._recipe(self.source(ident)) if source else None
            if source is None or not isinstance(recipe, BoxRecipe):
                raise UnknownNameError(f"there is no box recipe {ident!r}")
            box = recipe
            made = _with_place(source.place, lambda: compile_box(box))
            self._boxes[ident] = (recipe.box.title, made)
        return self._boxes[ident]

    def boxes(self) -> list[tuple[str, Box]]:
        """Return every kind of box whose recipe can be used."""
        found = []
        for source in self.sources():
            try:
                found.append((source.id, self.box(source.id)[1]))
            except FerryError:
                continue  # a game's recipe, or one that `recipe list` tells the fault of
        return list(dict(found).items())

    def check_source(self, source: RecipeSource) -> AnyRecipe:
        """Read and compile one of the recipe files at hand; raises RecipeError."""
        self.source(source.id)
        recipe = self._recipe(source)
        self._compile(recipe, source.place)
        return recipe

    def _compile(self, recipe: AnyRecipe, place: str) -> None:
        if isinstance(recipe, GameRecipe):
            game = recipe
            _with_place(place, lambda: compile_game(game, self.box))
        elif isinstance(recipe, BoxRecipe):
            box = recipe
            _with_place(place, lambda: compile_box(box))
        elif isinstance(recipe, LibraryRecipe):
            library = recipe
            _with_place(place, lambda: compile_library(library))

    def libraries(self) -> list[Library]:
        """Return every game library whose recipe can be used."""
        found = []
        for ident in dict.fromkeys(source.id for source in self.sources()):
            with suppress(FerryError):  # `recipe list` tells the fault
                source = self.source(ident)
                recipe = self._recipe(source)
                if isinstance(recipe, LibraryRecipe):
                    found.append(compile_library(recipe))
        return found

    def bequests(self) -> tuple[list[tuple[BequestRecipe, Path]], list[FerryError]]:
        """Return every recipe for a pair of games, with its own files' folder; and what failed."""
        found, faults = [], []
        for ident in dict.fromkeys(source.id for source in self.sources()):
            try:
                source = self.source(ident)
                recipe = self._recipe(source)
                if isinstance(recipe, BequestRecipe):
                    found.append((recipe, source.file.with_name(ident)))
            except FerryError as error:
                faults.append(error)
        return found, faults

    def game_in(self, path: Path) -> Game:
        """Read and compile a game's recipe from anywhere; raises RecipeError or WrongUseError."""
        recipe = self.check(path)
        if not isinstance(recipe, GameRecipe):
            raise WrongUseError("Only a game's recipe has editions, and this is another kind.")
        return compile_game(recipe, self.box)

    def check(self, path: Path) -> AnyRecipe:
        """Read and compile a recipe file from anywhere.

        Raises RecipeError with every fault, and the lines that they are in.
        """
        try:
            recipe = read_recipe(path)
            self._compile(recipe, str(path))
        except RecipeError as error:
            with suppress(RecipeError):  # it can't be read at all
                error.details = placed(_text(path, str(path)), error.details)
            raise
        return recipe


def _head(recipe: AnyRecipe) -> GameInfo | BoxInfo | LibraryInfo | BequestInfo:
    """Return the part of a recipe that names it."""
    match recipe:
        case GameRecipe():
            return recipe.game
        case BoxRecipe():
            return recipe.box
        case LibraryRecipe():
            return recipe.library
        case BequestRecipe():
            return recipe.bequest


def _sources(folder: Path, origin: Literal["shipped", "yours"]) -> dict[str, RecipeSource]:
    return {
        file.name.removesuffix(".toml"): RecipeSource(file.name.removesuffix(".toml"), origin, file)
        for file in folder.iterdir()
        if file.name.endswith(".toml")
    }


def read_recipe(path: Path) -> AnyRecipe:
    """Read one recipe file; raises RecipeError with the key, the value and what would be right."""
    return _parsed(_text(path, str(path)), str(path), stem=path.stem)


def _text(file: Path, place: str) -> str:
    try:
        # What is shipped may lie in an archive; what does not is read within bounds.
        own = isinstance(file, Path)
        return (read_whole(file, _LARGEST_RECIPE) if own else file.read_bytes()).decode()
    except (OSError, UnicodeDecodeError) as error:
        told = error.strerror if isinstance(error, OSError) else error
        raise RecipeError(f"The recipe {place} can't be read: {told}.") from None


def _parsed(text: str, place: str, stem: str | None = None) -> AnyRecipe:
    try:
        data = parse_toml(text.encode())
    except (ValueError, RecursionError) as error:
        raise RecipeError(f"The recipe {place} is no valid TOML: {error}.") from None
    try:
        return _checked(data, place, stem)
    except RecursionError:
        raise RecipeError(f"The recipe {place} is nested deeper than can be read.") from None


def _checked(data: dict[str, Any], place: str, stem: str | None) -> AnyRecipe:
    if vast := _vast(data):
        raise RecipeError(
            f"The recipe {place} has a number that nothing can count to.",
            details=(f"{vast}: it is beyond 64 bits",),
        )
    model = next((model for key, model in _MODELS.items() if key in data), GameRecipe)
    try:
        recipe: AnyRecipe = convert(data, model)
    except ValidationError as error:
        raise RecipeError(
            f"The recipe {place} has something that can't stand so.",
            details=explain(model, data) or (str(error),),
            advice="docs/recipes.md lists every key with an example.",
        ) from None
    ident = _head(recipe).id
    own = stem or place.replace("\\", "/").rsplit("/", 1)[-1].split(".toml")[0]
    if own != ident:
        raise RecipeError(
            f"The recipe {place} has the id {ident!r}, so its file must be named {ident}.toml."
        )
    return recipe


def _vast(data: object, at: str = "") -> str:
    """Return where a whole number stands that does not fit into 64 bits, '' where none does."""
    if isinstance(data, dict):
        inner = [(f"{at}.{key}" if at else str(key), value) for key, value in data.items()]
    elif isinstance(data, list):
        inner = [(f"{at}[{number}]", value) for number, value in enumerate(data, 1)]
    else:
        big = isinstance(data, int) and not -(1 << 63) <= data < 1 << 64
        return at if big else ""
    return next(filter(None, (_vast(value, path) for path, value in inner)), "")


def _comes_in_archives(recipe: GameRecipe) -> bool:
    return any(place.archives for one in recipe.editions.values() for place in one.berths)


def _with_place(place: str, step: Callable[[], _T]) -> _T:
    try:
        return step()
    except RecipeError as error:
        raise RecipeError(
            f"The recipe {place} does not fit together.",
            details=error.details,
            advice="docs/recipes.md lists every key with an example.",
        ) from None
