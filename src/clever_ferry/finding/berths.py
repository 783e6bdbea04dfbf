"""Berths: the folders of a computer where an edition keeps saves, and what they hold."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import PurePath
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.errors import RefusedError
from clever_ferry.finding.addresses import select
from clever_ferry.layers.known import Known
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.names import folded
from clever_ferry.tree import Beneath, Files

if TYPE_CHECKING:
    from clever_ferry.boxes import Contents
    from clever_ferry.cargo import Save
    from clever_ferry.finding.computers import Computer
    from clever_ferry.keeping.snapshots import About
    from clever_ferry.moving.names import System
    from clever_ferry.naming import Value
    from clever_ferry.recipes import Edition, Game, Listing

__all__ = ["Berth", "OpenBerth", "open_berth"]


class Berth(Struct, frozen=True):
    """One folder where one edition keeps one account's saves; it may not exist yet."""

    game: Game
    edition: Edition
    harbour: str
    system: System
    root: PurePath
    """Its folder, as it is shown."""
    files: Files
    """Its files: the folder's own, or what is read in its place, such as a backup."""
    fields: Mapping[str, Value]
    label: str = ""
    """What it is called in the latter case."""
    at: str = ""
    """What stands behind its address where it is not on this computer: `@` and its harbour."""
    whose: str = ""
    """The account that its address must name, as others have one there, too."""
    made_up: frozenset[str] = frozenset()
    """Name fields that nothing says, and that only stand for the name of a folder that is lost."""
    above: int = 0
    """The length of its folder's path, as its own system spells it."""
    stands_for: str = ""
    """The title of another place, where what is here was only made of what is there."""
    computer: Computer | None = None
    """Whose known folders it is among, where that is known."""

    @property
    def title(self) -> str:
        """Its edition and what tells it apart, in words."""
        if self.stands_for:
            return self.stands_for
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

    def known(self, given: Mapping[str, str] | None = None) -> Known:
        """What is known of it: its name fields, what the user has `given`, known folders.

        Known folders, and its own (`berth`), are as programs of its computer spell them. A name
        field that nothing here says can be given, too.
        """
        stated = given or {}
        fields: dict[str, Value] = {
            name: stated[name] for name in self.edition.berth_fields if name in stated
        }
        folders: dict[str, str] = {}
        if self.computer is not None:
            for name, path in {**self.computer.folders, "berth": self.root}.items():
                folders[name] = str(self.computer.spelled(path))
        return Known({**fields, **self.fields}, stated, folders)

    @property
    def writable(self) -> bool:
        """Whether its files are a folder's own, and not only read in its place."""
        return isinstance(self.files, FolderFiles)

    @property
    def folder(self) -> FolderFiles:
        """Its folder, to be written; raises RefusedError where it is only read."""
        if not isinstance(self.files, FolderFiles):
            raise RefusedError(f"{self.address} is in an archive, and archives are only read.")
        return self.files

    @property
    def place(self) -> str:
        """How records name it."""
        return self.files.text if isinstance(self.files, FolderFiles) else str(self.root)

    @property
    def fold(self) -> bool:
        """Whether upper and lower case are the same in its names."""
        return self.system != "linux"

    def shown(self, path: str) -> str:
        """Return an entry's name without folders that are not there."""
        above = f"{self.files.above}/" if isinstance(self.files, Beneath) else ""
        return path.removeprefix(above)

    def folded(self, name: str) -> str:
        """Return a name in the form in which names are compared here."""
        return folded(name) if self.fold else name


class OpenBerth(Struct, frozen=True):
    """A berth with what it holds at this moment."""

    berth: Berth
    contents: Contents
    listing: Listing
    known: Known
    """What was known of it when that was read."""

    def chosen(self, slots: str | None) -> list[Save]:
        """Return the saves of some slots, all without any; raises as `select` does."""
        by_number = self.berth.edition.slots_by_number
        return select(self.listing.saves, slots, self.berth.address, by_number)

    def only(self, slots: str | None) -> OpenBerth:
        """Return the same with the saves of some slots alone."""
        return replace(self, listing=replace(self.listing, saves=tuple(self.chosen(slots))))

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
    if files is None and lenient and isinstance(berth.files, FolderFiles):
        files = berth.files.passing(closed)
    files = files or berth.files
    contents = berth.edition.box.read(files, berth.edition.enter)
    known = berth.known(given)
    listing = read_edition(
        berth.edition, contents, known, fold=files.fold, facts=facts, keyless=keyless
    )
    if closed:
        listing = replace(listing, problems=(*listing.problems, *closed))
    return OpenBerth(berth, contents, listing, known)
