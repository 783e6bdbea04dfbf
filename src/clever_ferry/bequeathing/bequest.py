"""A recipe for a pair of games, with the mappings and templates that stand beside it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from clever_ferry.bequeathing.mapping import MappingRules, Shares
from clever_ferry.bequeathing.rendering import Templates
from clever_ferry.errors import DamagedError
from clever_ferry.moving.disk import read_whole
from clever_ferry.recipes.bequest_models import BequestRecipe, SharesInfo
from clever_ferry.recipes.edition import Edition, Game
from clever_ferry.recipes.undressed import UNDRESSED

__all__ = ["FACTS", "SLOT", "Bequest", "read_beside"]

FACTS = "was.facts"
"""The table with one row: the facts that the save is known by."""
SLOT = "slot"
"""The field that a crossing finds by itself: the next slot that is free."""
_LARGEST = 32 << 20


@dataclass(frozen=True)
class Bequest:
    """A recipe for a pair of games, with what stands beside it."""

    recipe: BequestRecipe
    source: Game
    target: Game
    edition: Edition
    """The successor's, which is written."""
    plain: Game
    """The successor with one more edition: that one undressed, as which it is made first."""
    folder: Path
    """Where its mappings and templates are."""
    templates: Templates

    @property
    def id(self) -> str:
        """Its recipe's id."""
        return self.recipe.bequest.id

    @property
    def undressed(self) -> Edition:
        """The edition undressed: its pieces by plain names, with no wrapping and no box."""
        return self.plain.editions[UNDRESSED]

    def mappings(self, addons: Sequence[str] = ()) -> dict[str, MappingRules | Shares]:
        """Read its mappings, with what those add-ons (by name) say first; raises DamagedError."""
        found: dict[str, MappingRules | Shares] = {}
        for name, info in self.recipe.mappings.items():
            files = [(info.file, self.read(info.file))]
            for side in (self.recipe.was, self.recipe.there):
                own = side.addons.known if side.addons is not None else {}
                for addon in addons:
                    file = own[addon].mappings.get(name) if addon in own else None
                    files += [(file, self.read(file))] if file is not None else []
            reader = Shares if isinstance(info, SharesInfo) else MappingRules
            found[name] = reader.read(info, files)
        return found

    def read(self, name: str) -> bytes:
        """Return a file beside the recipe; raises DamagedError where it can't be read."""
        return read_beside(self.folder, name)


def read_beside(folder: Path, name: str) -> bytes:
    """Return a file of a recipe's own folder; raises DamagedError where it can't be read."""
    path = PurePosixPath(name)
    if path.is_absolute() or ".." in path.parts or "\\" in name or ":" in name:
        raise DamagedError(f"{name} is no file beside the recipe.")
    try:
        return read_whole(folder.joinpath(*path.parts), _LARGEST)
    except OSError as error:
        raise DamagedError(
            f"{name} can't be read: {error.strerror or error}.",
            details=(f"It would be in {folder}",),
        ) from None
