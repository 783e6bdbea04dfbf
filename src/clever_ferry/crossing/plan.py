"""A crossing as it is planned: each save's way, and all that it takes."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct, field

from clever_ferry.cargo import Piece, Save
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.signs import Signs
from clever_ferry.naming import Value
from clever_ferry.recipes.encoding import Encoded, Encoding

__all__ = ["Arrival", "Move", "Plan", "Told"]


class Arrival(Struct, frozen=True):
    """A name field that the target gets otherwise than from the source, and from where."""

    field: str
    value: Value
    how: str


class Move(Struct, frozen=True):
    """One save's way: from its slot to the target's, and all that this takes."""

    save: Save
    slot: int
    fields: Mapping[str, Value]
    replaced: Save | None
    encoding: Encoding
    encoded: tuple[Encoded, ...]
    """What that gives, to be shown; carrying out encodes anew."""
    removes: tuple[str, ...]
    """Entries of the replaced save that no new piece takes the place of."""
    changes: tuple[Arrival, ...]
    adopted: tuple[Piece, ...]
    """Pieces that the target needs and the save lacks: those of the save that it replaces."""
    left_behind: tuple[Piece, ...]
    """Pieces that the target's edition does not have."""

    @property
    def renamed(self) -> list[tuple[str, str]]:
        """Entries whose name changes, before and after."""
        pairs = [(item.piece.entry, item.put.name) for item in self.encoded]
        return [pair for pair in pairs if pair[0] != pair[1]]


class Told(Struct, frozen=True):
    """A file beside the target's saves that tells its game which one to load, before and after."""

    path: str
    before: bytes
    after: bytes

    @property
    def lines(self) -> list[tuple[str, str]]:
        """The lines that go (`-`) and come (`+`), in the file's order."""
        from difflib import ndiff

        old, new = (
            one.decode("utf-8", "replace").splitlines() for one in (self.before, self.after)
        )
        return [(line[0], line[2:]) for line in ndiff(old, new) if line[0] in "-+"]


class Plan(Struct, frozen=True):
    """A crossing as it will be carried out."""

    source: OpenBerth
    target: OpenBerth
    moves: tuple[Move, ...]
    given: Mapping[str, str]
    """What the user has stated: name fields and keys."""
    signs: Signs = field(default_factory=Signs)
    """Who else may write the target, as far as shows."""
    shared: tuple[Encoded, ...] = ()
    """Pieces that all saves share, which go too: asked for, or the target has none."""
    rebuilt: tuple[str, ...] = ()
    """Entries of the target that go, as its game makes them anew."""
    left: tuple[Save, ...] = ()
    """Chosen saves that stay behind, as they are damaged."""
    already: tuple[tuple[Save, Save], ...] = ()
    """Chosen saves that stay, as the target has that very progress, and the target's."""
    told: tuple[Told, ...] = ()
    notes: tuple[str, ...] = ()
    """What is to be said of versions, add-ons, and what the target does differently."""

    def strays(self, move: Move) -> list[str]:
        """Return what stays behind of a save's own folder, as the recipe knows no such piece."""
        return self.source.strays(move.save)

    @property
    def encoded(self) -> list[Encoded]:
        """All pieces as they will stand in the target."""
        return [*(item for move in self.moves for item in move.encoded), *self.shared]

    @property
    def replaced(self) -> list[Save]:
        """Saves of the target that will be replaced."""
        return [move.replaced for move in self.moves if move.replaced]

    @property
    def size(self) -> int:
        """Bytes to read from the source."""
        shared = sum(item.piece.size or 0 for item in self.shared)
        return sum(move.save.size for move in self.moves) + shared
