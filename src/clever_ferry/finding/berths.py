"""Berths: the folders of a computer where an edition keeps saves, and what they hold."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.layers.paths import FOLDER
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.names import folded
from clever_ferry.tree import Beneath

if TYPE_CHECKING:
    from clever_ferry.boxes import Contents
    from clever_ferry.cargo import Save
    from clever_ferry.finding.computers import Computer
    from clever_ferry.keeping.snapshots import About
    from clever_ferry.moving.names import System
    from clever_ferry.naming import Value
    from clever_ferry.recipes import Edition, Game, Listing
    from clever_ferry.tree import Files

__all__ = ["Berth", "OpenBerth", "open_berth"]


class Berth(Struct, frozen=True):
    """One folder where one edition keeps one account's saves; it may not exist yet."""

    game: Game
    edition: Edition
    harbour: str
    system: System
    root: Path
    fields: Mapping[str, Value]
    within: Files | None = None
    """Where its files are read from, where that is no folder of this computer: a backup, say."""
    label: str = ""
    """What it is called then."""
    at: str = ""
    """What stands behind its address where it is not on this computer: `@` and its harbour."""
    whose: str = ""
    """The account that its address must name, as others have one there, too."""
    made_up: frozenset[str] = frozenset()
    """Name fields that nothing says, and that only stand for the name of a folder that is lost."""
    above: int = 0
    """The length of its folder's path, as its own system spells it."""
    computer: Computer | None = None
    """Whose known folders it is among, where that is known."""

    @property
    def title(self) -> str:
        """Its edition and what tells it apart, in words."""
        if self.label:
            return self.label
        told = ", ".join(f"{name} {value}" for name, value in self.fields.items())
        return f"{self.edition.title}{f' ({told})' if told else ''}"

    @property
    def address(self) -> str:
        """How a command names it."""
        whose = f"/{self.whose}" if self.whose else ""
        return self.label or f"{self.game.id}/{self.edition.id}{whose}{self.at}"

    @property
    def about(self) -> About:
        """What backups say of it."""
        from clever_ferry.keeping.snapshots import About

        title = f"{self.game.title}: {self.title}"
        boxed = self.edition.box_title is not None
        return About(self.game.id, self.edition.id, title, boxed, whole=False)

    @property
    def places(self) -> dict[str, Value]:
        """The known folders of its computer, and its own, as programs there spell them."""
        if self.computer is None:
            return {}
        folders = {**self.computer.folders, "berth": self.root}
        return {f"{FOLDER}{name}": self.computer.spelled(path) for name, path in folders.items()}

    @property
    def folder(self) -> FolderFiles:
        """Its folder, to be written."""
        return FolderFiles(self.root, fold=self.fold)

    @property
    def files(self) -> Files:
        """Its files, to be read."""
        return self.within or self.folder

    @property
    def fold(self) -> bool:
        """Whether upper and lower case are the same in its names."""
        return self.system != "linux"

    def shown(self, path: str) -> str:
        """Return an entry's name without folders that are not there."""
        above = f"{self.within.above}/" if isinstance(self.within, Beneath) else ""
        return path.removeprefix(above)

    def folded(self, name: str) -> str:
        """Return a name in the form in which names are compared here."""
        return folded(name) if self.fold else name


class OpenBerth(Struct, frozen=True):
    """A berth with what it holds at this moment."""

    berth: Berth
    contents: Contents
    listing: Listing

    def strays(self, save: Save) -> list[str]:
        """Return what stands in a save's own folder and is no piece that the recipe knows.

        Folders that were not looked into end with a slash.
        """
        tops = {"".join(piece.entry.partition("/")[:2]) for piece in save.pieces}
        top = tops.pop() if len(tops) == 1 else ""
        if not top.endswith("/"):
            return []  # it has no folder of its own
        others = [one for one in self.listing.saves if one is not save]
        if any(piece.entry.startswith(top) for one in others for piece in one.pieces):
            return []
        kept = [name for name in self.listing.unread if name.startswith(top)]
        return kept + [f"{name}/" for name in self.contents.passed if name.startswith(top)]


def open_berth(
    berth: Berth,
    *,
    facts: bool = True,
    given: Mapping[str, str] | None = None,
    lenient: bool = False,
    keyless: bool = False,
    files: Files | None = None,
) -> OpenBerth:
    """Read what a berth holds; raises DamagedError where its index can't be read.

    `given` is what the user has stated, such as a key. With `lenient`, folders that can't be
    read are named among the problems and passed over. With `keyless`, saves are told as far as
    that goes without a key that is missing; else that is an error (KeyNeededError). `files` are
    the berth's, where they were listed already.
    """
    from clever_ferry.recipes import read_edition

    closed: list[str] = []
    if files is None and lenient and berth.within is None:
        files = FolderFiles(berth.root, fold=berth.fold, closed=closed)
    files = files or berth.files
    contents = berth.edition.box.read(files, berth.edition.enter)
    stated = {**berth.places, **(given or {})}
    listing = read_edition(
        berth.edition, contents, berth.fields,
        fold=files.fold, facts=facts, given=stated, keyless=keyless,
    )  # fmt: skip
    if closed:
        listing = replace(listing, problems=(*listing.problems, *closed))
    return OpenBerth(berth, contents, listing)
