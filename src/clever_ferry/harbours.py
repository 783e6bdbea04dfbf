"""The harbours of one computer as jobs: named, found, searched. `Ferry.harbours` has them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Concatenate, ParamSpec

from msgspec.structs import replace

from clever_ferry.errors import (
    ChoiceNeededError,
    FerryError,
    NotFoundError,
    UnknownNameError,
    UnsupportedError,
    WrongUseError,
)
from clever_ferry.finding import Computer, Search, at_place, find_berths
from clever_ferry.finding.berths import Berth, open_berth
from clever_ferry.finding.discovering import discover, discover_prefixes, with_prefixes
from clever_ferry.finding.grounds import ArchiveGround, DiskGround, Ground
from clever_ferry.finding.harbours import (
    Harbour,
    boarded,
    exports_in,
    harbour_at,
    server_at,
)
from clever_ferry.finding.searching import find_loose, likely, told_apart
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.names import folded
from clever_ferry.moving.presence import is_folder, is_there
from clever_ferry.parcels import Parcels, is_parcel
from clever_ferry.recipes import Edition, Game, Recipes
from clever_ferry.recipes.libraries import Library
from clever_ferry.tree import Files, OneFile

if TYPE_CHECKING:
    from clever_ferry.links.opening import Links
    from clever_ferry.served import Servers

__all__ = ["Harbours"]

P = ParamSpec("P")

_MOST_TRIED = 300_000
"""Files times editions: what is beyond that takes longer than anybody waits."""


class Harbours:
    """This computer and all places that it can reach."""

    def __init__(
        self, computer: Computer, recipes: Recipes, keeps: Keeps, links: Links | None = None
    ) -> None:
        self.computer, self._links = computer, links
        self._recipes, self._keeps = recipes, keeps
        self._known: dict[tuple[Path, ...], Harbour] = {}
        self._boarded: dict[str, Harbour] = {}

    def all(self) -> list[Harbour]:
        """Return the places that were given names, then those recognised by themselves."""
        return self._beside_named(self.found)

    def prefixes(self) -> list[Harbour]:
        """Return the compatibility prefixes alone, which is quicker: no disk is looked at."""
        found = discover_prefixes(self.computer, self._libraries)
        every = self._beside_named(found)
        return [one for one in every if one.kind == "compatibility prefix"]

    def _beside_named(self, found: Sequence[Harbour]) -> list[Harbour]:
        named = self.named()
        taken = {one.name for one in named}
        places = {path for one in named for path in one.paths}
        return named + [
            one
            for one in found
            if one.name not in taken and places.isdisjoint((one.path, one.path.parent))
        ]

    def named(self) -> list[Harbour]:
        """Return the places that were given names, and what each is recognised as."""
        return [self._of(texts, name) for name, texts in self._keeps.harbours.all().items()]

    def _of(self, texts: tuple[str, ...], name: str) -> Harbour:
        """Return what the user has named: folders and files by paths, or a server's folder."""
        link = self._remote(texts[0])
        return (
            server_at(link, name) if link is not None else self._at(tuple(map(Path, texts)), name)
        )

    def _remote(self, text: str) -> FolderFiles | None:
        return (
            self._links.folder(text)
            if self._links is not None and self._links.knows(text)
            else None
        )

    def boarded(self, place: Harbour) -> Harbour:
        """Return a harbour with the computers that it is; a server is asked for that once."""
        if place.link is None:
            return place
        if place.name not in self._boarded:
            self._boarded[place.name] = boarded(place)
        return self._boarded[place.name]

    @cached_property
    def found(self) -> list[Harbour]:
        """The places that are recognised without a name: prefixes, disks, other accounts."""
        return discover(self.computer, self._libraries, self._recipes.exported())

    @cached_property
    def _libraries(self) -> list[Library]:
        return self._recipes.libraries()

    def _at(self, paths: tuple[Path, ...], name: str) -> Harbour:
        if not all(is_there(path) for path in paths):
            return Harbour(name, paths, "folder")
        if paths not in self._known:
            found = harbour_at(paths, name)
            if found.kind in ("mounted disk", "described computer"):
                found = with_prefixes(found, self._libraries)
            self._known[paths] = found
        return self._known[paths]

    def add(self, name: str, paths: Sequence[Path]) -> Harbour:
        """Give a folder, or the files of an export, a name; tell what it is recognised as."""
        if name == self.computer.name:
            raise WrongUseError(f"{name!r} is this computer's own name.")
        if len(paths) > 1 and any(is_folder(path) for path in paths):
            raise WrongUseError("A harbour is one folder, or the files of one export.")
        harbour = harbour_at(tuple(paths), name)
        self._keeps.harbours.add(name, tuple(map(str, paths)))
        return harbour

    @cached_property
    def servers(self) -> Servers:
        """Folders of servers: named, tried out, and given free."""
        from clever_ferry.served import Servers

        return Servers(
            self.computer.name, self._keeps, self._links,
            lambda name: self.boarded(self.named_or_at(name)),
        )  # fmt: skip

    def remove(self, name: str) -> str:
        """Forget a name; what it stands for stays as it is."""
        found = next((one for one in self.found if one.name == name), None)
        if found is not None and name not in self._keeps.harbours.all():
            raise WrongUseError(
                f"{name!r} is recognised by itself ({found.path}), so there is nothing to forget."
            )
        place = self._keeps.harbours.remove(name)[0]
        if self._links is not None and self._links.knows(place):
            self._links.forget(place)
        return place

    def named_or_at(self, text: str) -> Harbour:
        """Return the harbour of a name, or what a path is; raises UnknownNameError."""
        wanted = text.casefold()
        known = self._keeps.harbours.all()
        if wanted in known:
            harbour = self._of(known[wanted], wanted)
            if harbour.there:
                return harbour
            raise NotFoundError(
                f"The harbour {text!r} is not there now: {harbour.path}",
                advice="If it is on a drive, plug that in.",
            )
        if (link := self._remote(text)) is not None:
            return server_at(link, text)
        place = Path(text).expanduser().absolute()
        if is_there(place) and {"/", "\\", "."} & set(text):
            return self._at((place,), text)
        found = next((one for one in self.found if one.name == wanted), None)
        if found is not None:
            return found
        if is_there(place):
            return self._at((place,), text)
        if {"/", "\\", "."} & set(text):
            raise NotFoundError(f"There is no folder or file {text}.")
        told = ", ".join(repr(name) for name in [self.computer.name, *known, *self._found_names()])
        raise UnknownNameError(
            f"There is no harbour {text!r}.",
            details=(f"There are: {told}; the first is this computer.",),
            advice="A folder can stand there too, such as @/path/to/folder; `cferry harbour add` "
            "gives one a name.",
        )

    def _found_names(self) -> list[str]:
        return [one.name for one in self.found]

    def search(self, game: Game, edition: Edition, harbour: str | None) -> Search:
        """Look for an edition's berths on the computer, or at a harbour or folder of that name."""
        if harbour is None or harbour.casefold() == self.computer.name.casefold():
            return find_berths(self.computer, game, edition)
        return self.search_at(self.named_or_at(harbour), game, edition)

    def search_at(self, place: Harbour, game: Game, edition: Edition) -> Search:
        """Look for an edition's berths at a harbour.

        Where it is a computer, a disk or a prefix with users, theirs are looked for. In an
        export, they are where its recipe says, or anywhere that such saves are. A plain folder
        is taken for the berth itself, or holds it.
        """
        place = self.boarded(place)
        if not _fits(place, edition):
            return Search()
        search = Search((), (), place.problems).with_(_where_recipes_say(place, game, edition))
        if not search.berths and place.export is not None:
            search = search.with_(self._loose(place, game, edition))
        if not search.berths and place.kind == "folder" and is_folder(place.path):
            inner = [self._at(tuple(one), str(one[0])) for one in exports_in(place.path)]
            zipped = [self.search_at(one, game, edition) for one in inner]
            if any(one.berths for one in zipped):
                return search.with_(*zipped)
        if not search.berths and not place.users and place.is_folder:
            here = place.computers[0] if place.link is not None else self.computer
            search = search.with_(at_place(here, game, edition, place.root))
        return _named(search, place)

    def elsewhere(
        self, game: Game, edition: Edition, *, near: bool = False, far: bool = True
    ) -> list[Search]:
        """Look for an edition's berths at all harbours at hand but this computer.

        With `near`, only where this computer's own games run: in compatibility prefixes. Without
        `far`, no server is asked.
        """
        kinds = {"compatibility prefix"} if near else {
            "compatibility prefix", "mounted disk", "described computer", "export archive",
            "account of this computer",
        }  # fmt: skip
        places = [one for one in self.all() if one.there and one.kind in kinds]
        found = [_named(_where_recipes_say(place, game, edition), place) for place in places]
        servers = [] if near or not far else [one for one in self.named() if one.link is not None]
        return found + [
            self._within_reach(self.look_at, one, [game], [edition.id]) for one in servers
        ]

    def glance(self, place: Harbour, games: Sequence[Game]) -> Search:
        """Look at a harbour as `look_at` does; that a server is away is told, and no fault."""
        return self._within_reach(self.look_at, place, games)

    def _within_reach(
        self, looks: Callable[Concatenate[Harbour, P], Search], place: Harbour, *args: P.args,
        **options: P.kwargs,
    ) -> Search:  # fmt: skip
        try:
            return looks(place, *args, **options)
        except FerryError as error:
            if place.link is None:
                raise
            return Search((), (), (f"{place.name}: {error.what}",))

    def look_at(
        self, place: Harbour, games: Sequence[Game], only: Sequence[str] | None = None,
        given: Mapping[str, str] | None = None,
    ) -> Search:  # fmt: skip
        """Look for all berths of some games at a harbour; `only` some editions, if it is given.

        A plain folder, and an export in which nothing is where recipes say, are searched for
        anything that reads as these games' saves; `given` is the key of encrypted ones.
        """
        place = self.boarded(place)
        every = [
            (game, edition)
            for game in games
            for edition in game.editions.values()
            if only is None or edition.id in only
        ]
        found = Search((), (), place.problems).with_(
            *(_where_recipes_say(place, game, edition) for game, edition in every)
        )
        if not found.berths and (place.kind in ("folder", "server") or place.export is not None):
            tried, trouble = self._worth_trying(place, every)
            found = found.with_(*(self._loose(place, *one, given) for one in tried))
            found = replace(found, berths=_without_parts(found.berths))
            found = replace(found, troubles=(*found.troubles, *trouble))
        found = _named(found, place)
        if place.kind == "folder" and is_folder(place.path):
            for files in exports_in(place.path):
                inner = self._at(tuple(files), str(files[0]))
                found = found.with_(self.look_at(inner, games, only, given))
        return found

    def berth_in(
        self, path: Path, game: Game, like: Edition, edition: str | None,
        given: Mapping[str, str] | None = None,
    ) -> Berth:  # fmt: skip
        """Return the berth that a file, a folder or an archive from anywhere is for a game.

        Which edition it is from is told by its content (`given` is the key of encrypted saves);
        `edition` decides where several fit, else the edition `like` if it is one of them.
        Raises UnsupportedError where none fits.
        """
        if not is_there(path):
            raise NotFoundError(f"There is no file or folder {path}.")
        if is_parcel(path):
            return Parcels(self._recipes).berth_of(path, game)
        place = self.named_or_at(str(path.absolute()))
        if is_folder(path) or place.export is not None:
            found = list(self.look_at(place, [game], given=given).berths)
        else:
            found = self.alone(path, [game], given)
        fitting = [one for one in found if edition in (None, one.edition.id, str(one.root))]
        fitting = [one for one in fitting if one.edition.id == like.id] or fitting
        if not fitting:
            secrets = sorted({name for one in game.editions.values() for name in one.secrets})
            raise UnsupportedError(
                f"{path} does not read as a save of {game.title}.",
                details=("Its editions name their files:", *(
                    f"  {one.title}: {', '.join(f.patterns[0].text for f in one.files[:3])}"
                    for one in game.editions.values()
                )),
                advice="If the download was renamed, give it back its name."
                + "".join(f" If it is encrypted: --give {name}=HEX" for name in secrets),
            )  # fmt: skip
        if len(fitting) > 1:
            raise ChoiceNeededError(
                f"{path} reads as saves of {game.title} in {len(fitting)} ways.",
                details=tuple(f"  {one.edition.id}: {one.root}" for one in fitting),
                advice="Name the one of them that is meant, or say which with --from-account.",
                choices=tuple((f"{one.title}: {one.root}", str(one.root)) for one in fitting),
                option="--from-account",
            )
        return fitting[0]

    def alone(
        self, path: Path, games: Sequence[Game], given: Mapping[str, str] | None = None
    ) -> list[Berth]:
        """Return what one file by itself reads as: berths with a save or a part of one."""
        above = path.absolute().parent
        files = OneFile(FolderFiles(above, fold=True), path.name)
        every = [
            Berth(game, one, str(path), self.computer.system, above, files, {}, label=str(path))
            for game in games
            for one in game.editions.values()
            if one.box_title is None
        ]
        return [berth for berth in every if likely(berth, given)]

    def _worth_trying(
        self, place: Harbour, every: Sequence[tuple[Game, Edition]]
    ) -> tuple[list[tuple[Game, Edition]], list[str]]:
        """Return the editions whose files' names end as any here do, or why none is tried."""
        files: Files = place.export or place.link or FolderFiles(place.path, closed=[])
        names: set[str] = set()
        count = 0
        with suppress(FerryError, OSError):
            for info in files.walk(lambda _: True):  # a server that is away is told by what follows
                names.add(folded(info.path.rpartition("/")[2]))
                count += 1
                if count > _MOST_TRIED:
                    break
        fits = [one for one in every if one[1].may_have(names)]
        if count * len(fits) > _MOST_TRIED:
            return [], [
                f"{place.root} holds so many files that the recipes were not all tried on it; name "
                f"one, such as {fits[0][0].id}/{fits[0][1].id}@FOLDER"
            ]
        return fits, []

    def _loose(
        self, place: Harbour, game: Game, edition: Edition, given: Mapping[str, str] | None = None
    ) -> Search:
        here = place.computers[0] if place.link is not None else self.computer
        ground: Ground = DiskGround(
            place.root, here.fold, follow=not here.foreign, shore=here.shore
        )
        if place.export is not None:
            ground = ArchiveGround(place.export, place.path)
        return find_loose(here, game, edition, ground, given)


def _without_parts(berths: tuple[Berth, ...]) -> tuple[Berth, ...]:
    """Return berths without those that are one save's own folder in another of them.

    Such a folder may read as another edition's save by itself.
    """
    kept = []
    for berth in berths:
        above = [one for one in berths if one.game is berth.game and one.root in berth.root.parents]
        inner = [berth.root.relative_to(one.root).as_posix() for one in above]
        if not any(map(_has_files_in, above, inner)):
            kept.append(berth)
    return tuple(kept)


def _has_files_in(berth: Berth, folder: str) -> bool:
    with suppress(FerryError, OSError):
        saves = open_berth(berth, facts=False, keyless=True).listing.saves
        return any(file.startswith(f"{folder}/") for save in saves for file in save.files)
    return False


def _where_recipes_say(place: Harbour, game: Game, edition: Edition) -> Search:
    """Look for an edition's berths below the known folders of a harbour's computers."""
    if not _fits(place, edition):
        return Search()
    return Search().with_(*(find_berths(one, game, edition) for one in place.computers))


def _fits(place: Harbour, edition: Edition) -> bool:
    """Tell whether an edition may be in a prefix: not in one that is another app's own."""
    return place.app is None or not edition.apps or place.app in edition.apps


def _named(search: Search, place: Harbour) -> Search:
    berths = [replace(one, harbour=place.name, at=f"@{place.name}") for one in search.berths]
    return told_apart(replace(search, berths=tuple(berths)))
