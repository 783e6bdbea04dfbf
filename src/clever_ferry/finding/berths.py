"""Berths: the folders of a computer where an edition keeps saves, and what they hold."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from clever_ferry.boxes import Contents
from clever_ferry.errors import ChoiceNeededError, NotFoundError
from clever_ferry.finding.computers import Computer
from clever_ferry.keeping import About
from clever_ferry.moving import FolderFiles
from clever_ferry.moving.names import System
from clever_ferry.naming import Pattern, Value
from clever_ferry.recipes import Edition, Game, Listing
from clever_ferry.tree import Files

__all__ = ["Berth", "OpenBerth", "Search", "find_berths", "one_berth", "open_berth"]


@dataclass(frozen=True)
class Berth:
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
    above: int = 0
    """The length of its folder's path, as its own system spells it."""

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
        return self.label or f"{self.game.id}/{self.edition.id}{self.at}"

    @property
    def about(self) -> About:
        """What backups say of it."""
        title = f"{self.game.title}: {self.title}"
        return About(self.game.id, self.edition.id, title, self.edition.box_title is not None)

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


@dataclass(frozen=True)
class OpenBerth:
    """A berth with what it holds at this moment."""

    berth: Berth
    contents: Contents
    listing: Listing


@dataclass(frozen=True)
class Search:
    """What a search for berths found, and every place that it looked at."""

    berths: tuple[Berth, ...]
    looked: tuple[str, ...]


def find_berths(computer: Computer, game: Game, edition: Edition, place: Path | None) -> Search:
    """Find an edition's berths on a computer, or at a place that the user names."""
    found: list[Berth] = []
    looked: list[str] = []
    system = computer.system

    def add(root: Path, fields: Mapping[str, Value]) -> None:
        if all(berth.root != root for berth in found):
            above = computer.spelled(root)
            berth = Berth(game, edition, computer.name, system, root, dict(fields), above=above)
            found.append(berth)

    if place is not None:
        for root, fields in _at_place(edition, place, looked):
            add(root, fields)
        return Search(tuple(found), tuple(looked))
    for info, pattern in edition.berths:
        base = computer.folders.get(info.under)
        if info.on not in ("any", system) or base is None or pattern is None:
            continue
        looked.append(str(base.joinpath(*pattern.text.split("/"))))
        for root, fields in _below(base, pattern.segments, computer.fold):
            add(root, fields)
    return Search(tuple(found), tuple(looked))


def _at_place(
    edition: Edition, place: Path, looked: list[str]
) -> list[tuple[Path, Mapping[str, Value]]]:
    """Return the berth at a folder that the user names.

    Where the edition says so (`under = "given"`), it is below that folder, and need not
    exist yet; else the folder itself is it, and its own name gives the fields.
    """
    given = [b for b in edition.berths if b.info.under == "given"]
    for _, pattern in given:
        root = place.joinpath(*pattern.text.split("/")) if pattern else place
        looked.append(str(root))
        if root.is_dir():
            return [(root, {})]
    looked.append(str(place))
    if given and place.is_dir():
        pattern = given[0].pattern
        return [(place.joinpath(*pattern.text.split("/")) if pattern else place, {})]
    if not place.is_dir():
        return []
    for _, pattern in edition.berths:
        if pattern is None:
            continue
        tail = "/".join(place.resolve().parts[-len(pattern.segments) :])
        fields = pattern.match(tail, fold=True)
        if isinstance(fields, dict):
            return [(place, fields)]
    return [(place, {})]


def _below(
    base: Path, segments: Sequence[Pattern], fold: bool
) -> list[tuple[Path, dict[str, Value]]]:
    reached: list[tuple[Path, dict[str, Value]]] = [(base, {})]
    for segment in segments:
        inner: list[tuple[Path, dict[str, Value]]] = []
        for folder, fields in reached:
            if not segment.fields and (folder / segment.text).is_dir():
                inner.append((folder / segment.text, fields))
                continue
            for name in _folder_names(folder):
                values = segment.match(name, fold=fold)
                if isinstance(values, dict) and all(
                    fields.get(key, value) == value for key, value in values.items()
                ):
                    inner.append((folder / name, {**fields, **values}))
        reached = inner
    return reached


def _folder_names(folder: Path) -> list[str]:
    try:
        return sorted(entry.name for entry in folder.iterdir() if entry.is_dir())
    except OSError:
        return []


def one_berth(
    search: Search, game: Game, edition: Edition, account: str | None, option: str
) -> Berth:
    """Return the only berth, or the one that `account` chooses.

    Raises NotFoundError with every place that was looked at, and ChoiceNeededError with
    the candidates and the option that decides.
    """
    berths = search.berths
    if not berths:
        raise NotFoundError(
            f"No saves of {game.title} ({edition.title}) were found here.",
            details=("Looked at:", *(f"  {place}" for place in search.looked))
            if search.looked
            else ("Its recipe names no place on this system.",),
            advice=edition.start
            or "If the game is installed, start it once and save, so that it makes its folder. "
            f"If the folder is somewhere else, name it: {game.id}/{edition.id}@FOLDER",
        )
    if account is not None:
        fitting = [
            berth
            for berth in berths
            if account in map(str, berth.fields.values()) or account == str(berth.root)
        ]
        if not fitting:
            raise NotFoundError(
                f"No saves of {game.title} ({edition.title}) belong to {account!r}.",
                details=("There are:", *_choices(berths)),
            )
        berths = tuple(fitting)
    if len(berths) > 1:
        raise ChoiceNeededError(
            f"{len(berths)} places have saves of {game.title} ({edition.title}).",
            details=tuple(_choices(berths)),
            advice=f"Say which one with {option}, by its account or its folder.",
            choices=tuple(
                (line, str(berth.root))
                for line, berth in zip(_choices(berths), berths, strict=True)
            ),
            option=option,
        )
    return berths[0]


def _choices(berths: Sequence[Berth]) -> list[str]:
    lines = []
    for berth in berths:
        fields = ", ".join(f"{name} {value}" for name, value in berth.fields.items())
        lines.append(f"  {fields or berth.root}: {_tell(berth)}")
    return lines


def _tell(berth: Berth) -> str:
    try:
        saves = open_berth(berth).listing.saves
    except (NotFoundError, OSError):
        return "can't be read"
    shown = "; ".join(
        ", ".join([save.title, *(f"{f.label} {f.text}" for f in save.facts if f.key != "name")][:3])
        for save in saves[:4]
    )
    return shown or "no saves"


def open_berth(
    berth: Berth, *, facts: bool = True, given: Mapping[str, str] | None = None
) -> OpenBerth:
    """Read what a berth holds; raises DamagedError where its index can't be read.

    `given` is what the user has stated, such as a key.
    """
    files = berth.files
    contents = berth.edition.box.read(files, berth.edition.enter)
    listing = berth.edition.read(contents, berth.fields, fold=files.fold, facts=facts, given=given)
    return OpenBerth(berth, contents, listing)
