"""Looking around: what is here, what changed lately, what a folder holds. `Ferry` has it."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.cargo import Save
from clever_ferry.errors import FerryError, NotFoundError
from clever_ferry.finding import Berth, Computer, Search, find_berths, open_berth
from clever_ferry.finding.changes import Changes, Watch
from clever_ferry.finding.evidence import evidence_of
from clever_ferry.finding.harbours import Harbour
from clever_ferry.finding.searching import never_started
from clever_ferry.harbours import Harbours
from clever_ferry.moving.files import FolderFiles
from clever_ferry.recipes import Game, Recipes
from clever_ferry.tree import Files, OneFile

if TYPE_CHECKING:
    from clever_ferry.unboxing.surveying import Survey

__all__ = ["PartOf", "Seen", "Sight", "Surveyed", "look", "look_for_changes", "look_into"]


class Sight(Struct, frozen=True):
    """A berth and what it holds, or why that can't be told."""

    berth: Berth
    saves: tuple[Save, ...]
    problems: tuple[str, ...]
    evidence: tuple[str, ...] = ()
    """What speaks for the store or release that it is said to be of."""


class Seen(Struct, frozen=True):
    """What a look around found."""

    sights: tuple[Sight, ...]
    troubles: tuple[str, ...]
    """What could not be looked into, and which parts of exports are missing."""
    missing: tuple[NotFoundError, ...]
    """Editions that could be on this computer and have nothing here, with what makes a berth."""
    faults: tuple[FerryError, ...]
    """What is wrong with recipes."""


class PartOf(Struct, frozen=True):
    """A file or folder below a known game's berth, and the saves that it holds something of."""

    sight: Sight
    saves: tuple[Save, ...]
    """None where it is part of what all saves there share, or of nothing that a recipe names."""
    roles: tuple[str, ...]
    """What it holds of them."""


class Surveyed(Struct, frozen=True):
    """What a folder seems to hold, and the saves of known games in it."""

    place: Harbour
    survey: Survey
    sights: tuple[Sight, ...]
    glimpse: tuple[str, ...] = ()
    """Of one file: what it is, and how what is packed in it begins."""
    part_of: tuple[PartOf, ...] = ()
    """The berths on this computer that it is a part of."""


def look(computer: Computer, recipes: Recipes, harbours: Harbours, game: str | None = None) -> Seen:
    """Return every berth of every known game, or of one, at every harbour at hand."""
    games, faults = ([recipes.game(game)], []) if game else recipes.games()
    every = [(one, edition) for one in games for edition in one.editions.values()]
    here = [find_berths(computer, one, edition) for one, edition in every]
    places = [one for one in harbours.all() if one.there]
    found = Search().with_(*here, *(harbours.glance(place, games) for place in places))
    has = {berth.edition.id for berth in found.berths if game}
    missing = [
        never_started(search, one, edition)
        for (one, edition), search in zip(every, here, strict=True)
        if game and search.looked and edition.id not in has
    ]
    sights = sorted(found.berths, key=lambda berth: (berth.game.title, bool(berth.at)))
    return Seen(
        tuple(_sight(berth, bool(game)) for berth in sights),
        found.troubles,
        tuple(missing),
        tuple(faults),
    )


def _sight(berth: Berth, close: bool) -> Sight:
    evidence = evidence_of(berth) if close else ()
    try:
        # Facts are for `slots`; names, sizes and times are enough to tell berths apart.
        listing = open_berth(berth, facts=close, lenient=True, keyless=True).listing
    except (FerryError, OSError) as error:
        return Sight(berth, (), (getattr(error, "what", str(error)),), evidence)
    return Sight(berth, listing.saves, listing.problems, evidence)


def look_for_changes(
    computer: Computer, recipes: Recipes, harbours: Harbours, watch: Watch, own: list[Path]
) -> tuple[Changes, dict[Path, str]]:
    """Return the files that changed in the usual places, as `watch` finds them.

    The places are the computer's known folders and those of compatibility prefixes; `own` are the
    tool's folders, which do not count. Also returns whose saves the folders hold, for those that
    are in berths of known games.
    """
    watch.add(computer.disks)
    prefixes = harbours.prefixes()
    for other in (inner for one in prefixes for inner in one.computers):
        watch.add(other.disks)
    berths = _around(computer, harbours, recipes.games()[0], prefixes).berths
    changes = watch.end(own)
    return changes, {
        one.folder: f"{berth.game.title}, {berth.edition.title}"
        for one in changes.folders
        for berth in berths
        if one.folder.is_relative_to(berth.root)
    }


def _around(
    computer: Computer, harbours: Harbours, games: Sequence[Game], places: Iterable[Harbour]
) -> Search:
    """Return the berths of games on a computer and at further places that are at hand."""
    here = [find_berths(computer, game, one) for game in games for one in game.editions.values()]
    return Search().with_(
        *here, *(harbours.glance(place, games) for place in places if place.there)
    )


def look_into(
    computer: Computer, recipes: Recipes, harbours: Harbours, path: Path | str
) -> Surveyed:
    """Tell what a folder, file or archive seems to hold, and whose saves it is or is part of.

    A text is the address of a server's folder.
    """
    if isinstance(path, str):
        return _look_at_server(recipes.games()[0], harbours, path)
    surveyed = _look_into(recipes.games()[0], harbours, path)
    return replace(surveyed, part_of=_part_of(computer, recipes, harbours, path))


def _look_into(games: list[Game], harbours: Harbours, path: Path) -> Surveyed:
    from clever_ferry.unboxing.glimpsing import glimpse
    from clever_ferry.unboxing.surveying import survey

    place = harbours.named_or_at(str(path.absolute()))
    closed: list[str] = []
    files: Files = FolderFiles(path, closed=closed)
    if place.export is not None and not path.is_dir():
        files = place.export
    elif not path.is_dir():
        files = FolderFiles(path.parent)
        surveyed = survey(OneFile(files, path.name))
        alone = harbours.alone(path, games)
        seen = tuple(glimpse(files.payload(path.name)))
        return Surveyed(place, surveyed, tuple(_sight(berth, True) for berth in alone), seen)
    surveyed = survey(files)
    surveyed.troubles += [*closed, *(one for one in place.problems if one not in surveyed.troubles)]
    found = harbours.look_at(place, games)
    surveyed.troubles += [one for one in found.troubles if one not in surveyed.troubles]
    return Surveyed(place, surveyed, tuple(_sight(berth, True) for berth in found.berths))


def _look_at_server(games: list[Game], harbours: Harbours, address: str) -> Surveyed:
    from clever_ferry.unboxing.surveying import survey

    place = harbours.boarded(harbours.named_or_at(address))
    if place.link is None:
        raise NotFoundError(f"{address} is no server's folder.")
    closed: list[str] = []
    surveyed = survey(place.link.passing(closed))
    found = harbours.look_at(place, games)
    surveyed.troubles += [*closed, *found.troubles]
    return Surveyed(place, surveyed, tuple(_sight(berth, True) for berth in found.berths))


def _part_of(
    computer: Computer, recipes: Recipes, harbours: Harbours, path: Path
) -> tuple[PartOf, ...]:
    """Return the berths above a path, with the saves that have files at it or below it."""
    looked = Path(os.path.realpath(path))
    disks = [one for one in harbours.all() if one.link is None]
    found = []
    for berth in _around(computer, harbours, recipes.games()[0], disks).berths:
        root = Path(os.path.realpath(berth.root))
        if looked == root or not looked.is_relative_to(root):
            continue
        inner = looked.relative_to(root).as_posix()
        sight = _sight(berth, True)
        held = [
            (save, piece.role)
            for save in sight.saves
            for piece in save.pieces
            if any(file == inner or file.startswith(f"{inner}/") for file in piece.files)
        ]
        saves = tuple(save for save in sight.saves if any(save is one for one, _ in held))
        found.append(PartOf(sight, saves, tuple(dict.fromkeys(role for _, role in held))))
    return tuple(found)
