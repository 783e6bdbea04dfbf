"""Bequests as jobs: the end of a game as the start of its successor. `Ferry` has them."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import Any, NamedTuple

from msgspec.structs import replace

from clever_ferry.bequeathing.bequest import Bequest
from clever_ferry.bequeathing.compiling import compile_bequest
from clever_ferry.bequeathing.installed import enabled_addons, installed_tables
from clever_ferry.bequeathing.making import (
    Made,
    chosen_options,
    make_all,
    option_line,
    refuse_unfit,
    unlike,
    write_all,
)
from clever_ferry.bequeathing.rows import RowTable, rows_of, text
from clever_ferry.cargo import Save, digest_of
from clever_ferry.crossing.plan import Plan
from clever_ferry.crossing.planning import make_plan
from clever_ferry.errors import (
    ChoiceNeededError,
    DamagedError,
    NotFoundError,
    NotProvenError,
    RefusedError,
    UnknownNameError,
    WrongUseError,
)
from clever_ferry.finding import Berth, Computer, open_berth, parse_address
from clever_ferry.finding.addresses import address_of, slot_text
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.searching import berth_at
from clever_ferry.finding.signs import signs_of
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.model import ValidationError, convert, parse_toml
from clever_ferry.moving.disk import read_whole
from clever_ferry.noting import Noting
from clever_ferry.places import Places
from clever_ferry.recipes.bequest_models import BequestRecipe, ChosenInfo, SideInfo
from clever_ferry.recipes.establishing import Examiner
from clever_ferry.recipes.loading import Recipes
from clever_ferry.recipes.tables import Table, read_tables

__all__ = [
    "Bequeathed",
    "BequestAsked",
    "BequestStep",
    "Bequests",
    "chosen_in",
]

_LARGEST = 1 << 20


@dataclass(frozen=True)
class BequestAsked:
    """What is asked of a bequest, besides from what and to where."""

    options: Mapping[str, Any]
    """By option, values or texts; with several steps, those that a step has are its."""
    preset: str | None = None
    through: tuple[str, ...] = ()
    """The games between, in order."""
    installed: Mapping[str, Path] | None = None
    """Where games are installed, by game; the recipe says where they usually are."""
    passed: frozenset[str] = frozenset()
    """Add-ons in use that the recipe need not know."""
    kept: ChosenInfo | None = None
    """What an earlier bequest has kept, where it is to be done again."""


class ReadBack(NamedTuple):
    """One of the successor's tables, which is as it was made."""

    label: str
    rows: int
    compared: tuple[str, ...]
    """The columns that are the same, by their labels."""


@dataclass(frozen=True)
class BequestStep:
    """One game's end made the next one's start."""

    made: Made
    """Of its tables, those that are drawn."""
    read: Mapping[str, ReadBack]
    """What the successor's own recipe has read back, by the table that was made."""


@dataclass(frozen=True)
class Bequeathed:
    """A bequest that was made and read back in a folder of its own; nothing is in its place yet."""

    source: OpenBerth
    save: Save
    steps: tuple[BequestStep, ...]
    plan: Plan
    """What it takes to have it in its place: `Ferry.carry_out` does that while it is made."""

    @property
    def where(self) -> str:
        """The address of the save that it is from."""
        return address_of(self.source.berth.address, self.save)


class Bequests:
    """Bequests between the games that a ferry has recipes for."""

    def __init__(
        self, computer: Computer, recipes: Recipes, places: Places, noting: Noting, keeps: Keeps
    ) -> None:
        self._computer, self._recipes, self._places = computer, recipes, places
        self._noting, self._keeps = noting, keeps

    def compiled(self, recipe: BequestRecipe, folder: Path) -> Bequest:
        """Compile a recipe for a pair of games; raises RecipeError with all its faults."""
        return compile_bequest(recipe, folder, self._recipes)

    def route(self, source: str, target: str, through: Sequence[str] = ()) -> list[Bequest]:
        """Return the recipes from one game (an id) to another, one for each step.

        Raises UnknownNameError where there is none for a step, ChoiceNeededError where several are.
        """
        stops = [source, *through, target]
        return [self._one(*pair) for pair in pairwise(stops)]

    def _one(self, source: str, target: str) -> Bequest:
        every, faults = self._recipes.bequests()
        found = [
            (recipe, folder) for recipe, folder in every
            if (recipe.bequest.source, recipe.bequest.target.partition("/")[0]) == (source, target)
        ]  # fmt: skip
        if len(found) > 1:
            raise ChoiceNeededError(
                f"There are {len(found)} recipes from {source} to {target}.",
                details=tuple(f"  {recipe.bequest.id}" for recipe, _ in found),
                advice="Take one of your own out of your recipes' folder.",
            )
        if not found:
            there = [
                f"  {one.bequest.source} to {one.bequest.target.partition('/')[0]}"
                for one, _ in every
            ]
            raise UnknownNameError(
                f"No recipe leads from {source} to {target}.",
                details=(
                    *(("There are:", *there) if there else ()),
                    *(line for one in faults for line in (one.what, *one.details)),
                ),
                advice=_way(source, target, [recipe for recipe, _ in every]),
            )
        return self.compiled(*found[0])

    @contextmanager
    def made(
        self, source: str, target: str, folder: Path | None, asked: BequestAsked, *,
        account: str | None = None, given: Mapping[str, str] | None = None,
        tell: bool = True, progress: Callable[[str], None] = lambda _: None,
    ) -> Iterator[Bequeathed]:  # fmt: skip
        """Make a bequest of one save (an address) for a game, and read it back.

        What is written lies in a folder of its own while the context lasts; `Ferry.carry_out` of
        its plan puts it in its place: in `folder`, or where the successor looks for it. Raises
        RefusedError where the save, an installation or an add-on is not what the recipe is made
        for, DamagedError where a mapping does not fit, and NotProvenError where what was written
        does not read back as what was made.
        """
        progress("reading the save")
        old, own, tables = self._noting.tables(source, None, account, given)
        ident = parse_address(target).game
        self._recipes.game(ident)  # it may be that there is none
        route = self.route(old.berth.game.id, ident, asked.through)
        _refuse_unknown(route, asked)
        save, steps = own, []
        if save.problems:
            raise DamagedError(
                f"{save.title} is damaged, so nothing is made of it.",
                details=tuple(f"  {one}" for one in save.problems),
                advice="Take an older copy of it, such as an autosave.",
            )
        with tempfile.TemporaryDirectory(prefix="cferry-bequest-") as scratch:
            for number, bequest in enumerate(route, 1):
                place = Path(scratch) / str(number)
                place.mkdir()
                step, opened, tables = self._step(bequest, save, tables, place, asked, progress)
                (save,) = opened.listing.saves
                steps.append(step)
            tables = ()  # they can be large
            _refuse_otherwise(asked.kept, steps)
            opened = _standing_for(opened, old.berth, own)
            progress("planning")
            plan = self._plan(opened, route[-1], target, folder, given or {}, tell)
            yield Bequeathed(old, own, tuple(steps), plan)

    def _step(
        self, bequest: Bequest, save: Save, tables: Sequence[Table], place: Path,
        asked: BequestAsked, progress: Callable[[str], None],
    ) -> tuple[BequestStep, OpenBerth, Sequence[Table]]:  # fmt: skip
        """Make one step in an empty folder, and read it back; return its tables, too."""
        refuse_unfit(bequest, save)
        own, addons = self._measured(bequest, save, tables, asked, progress)
        options = chosen_options(bequest, asked.preset, asked.options)
        made = make_all(bequest, save, own, addons, options, progress)
        progress("writing")
        write_all(made, place)
        progress("reading it back")
        opened = open_berth(berth_at(self._computer, bequest.plain, bequest.undressed, place))
        tables = _read_back(made, opened)
        read = {
            info.table: ReadBack(there.label, there.count, tuple(
                one.label for one in there.columns if one.name in info.columns
            ))
            for info in bequest.recipe.make for there in tables if there.name == info.reads
        }  # fmt: skip
        return BequestStep(made.lean(), read), opened, tables

    def _measured(
        self, bequest: Bequest, save: Save, tables: Sequence[Table], asked: BequestAsked,
        progress: Callable[[str], None],
    ) -> tuple[dict[str, RowTable], list[str]]:  # fmt: skip
        """Return all tables that there are, of both installations too, and the add-ons in use."""
        for table in tables:
            if not table.all_held:
                raise DamagedError(
                    f"Not all {table.label} of {save.title} can be read.",
                    details=tuple(f"  {one}" for one in table.troubles),
                )
        own = {f"was.{table.name}": rows_of(table) for table in tables}
        addons: list[str] = []
        recipe = bequest.recipe
        for key, side, game in (
            ("was", recipe.was, bequest.source), ("there", recipe.there, bequest.target),
        ):  # fmt: skip
            folder = None
            if side.game is not None:
                folder = self._installation(side, game.id, game.title, asked)
            used = _addons(side, own, recipe, folder)
            _refuse_unknown_addons(side, used, asked, game.title)
            addons += used
            if folder is not None:
                progress(f"reading {game.title}")
                there = installed_tables(
                    side, recipe.forms, folder, used, f"{game.title}'s installation"
                )
                own |= {f"{key}.{name}": rows for name, rows in there.items()}
        return own, addons

    def _installation(self, side: SideInfo, ident: str, title: str, asked: BequestAsked) -> Path:
        named = (asked.installed or {}).get(ident)
        if named is not None:
            if not named.is_dir():
                raise NotFoundError(f"There is no folder {named}.")
            return named
        assert side.game is not None
        looked = []
        for place in side.game.places:
            base = self._computer.folders.get(place.under)
            if place.on in ("any", self._computer.system) and base is not None:
                looked.append(Path(base, *place.path.split("/")))
                if looked[-1].is_dir():
                    return looked[-1]
        raise NotFoundError(
            f"{title} was not found on this computer.",
            details=("Looked at:", *(f"  {one}" for one in looked)) if looked else (),
            advice=f"Name the folder that it is installed in: --installed {ident}=FOLDER",
        )

    def _plan(
        self, opened: OpenBerth, last: Bequest, target: str, folder: Path | None,
        given: Mapping[str, str], tell: bool,
    ) -> Plan:  # fmt: skip
        berth = self._target(last, target, folder)
        self._keeps.journal.refuse_open(berth.folder)
        there = open_berth(berth, given=given)
        (made,) = opened.listing.saves
        stated = {*last.recipe.bequest.fields}
        mine = next((save for save in there.listing.saves
                     if stated and all(save.fields.get(one) == made.fields[one] for one in stated)
                     ), None)  # fmt: skip
        if mine is not None and _contents(mine) == _contents(made):
            raise NotFoundError(
                f"{address_of(berth.address, mine)} is this very start already, to the byte.",
                advice="Other options make another one.",
            )
        slots = parse_address(target).slots or (slot_text(mine) if mine is not None else None)
        plan = make_plan(opened, there, chosen=None, slots=slots, given=given, tell=tell)
        return replace(plan, signs=signs_of(self._computer, berth))

    def _target(self, last: Bequest, target: str, folder: Path | None) -> Berth:
        address = parse_address(target)
        if address.edition not in (None, last.edition.id):
            raise WrongUseError(
                f"This recipe writes {last.target.id}/{last.edition.id}, and not {target}."
            )
        if folder is not None and address.harbour is not None:
            raise WrongUseError("Say where it goes either behind @ or by -o.")
        if folder is not None:
            if not folder.is_dir():
                raise NotFoundError(
                    f"There is no folder {folder}.", advice="Make it, or name one that is there."
                )
            return berth_at(self._computer, last.target, last.edition, folder.resolve())
        own = replace(address, edition=last.edition.id, slots=None)
        return self._places.berth(own, None, writing=True)


def _read_back(made: Made, opened: OpenBerth) -> list[Table]:
    """Return the successor's own tables of what was written.

    Raises NotProvenError where that is not one whole start, or its tables are not what was made.
    """
    bequest, berth, saves = made.bequest, opened.berth, opened.listing.saves
    if len(saves) != 1 or saves[0].problems or opened.listing.unread:
        unread = [f"{name} is nothing that the successor's recipe knows"
                  for name in opened.listing.unread]  # fmt: skip
        odd = [one for save in saves for one in save.problems]
        raise NotProvenError(
            f"What was made does not read as one start of {bequest.target.title}.",
            details=tuple(f"  {one}" for one in (*opened.listing.problems, *odd, *unread)),
            advice="Mend `files` in the recipe, or the successor's own recipe.",
        )
    examiner = Examiner(bequest.undressed, opened.contents, opened.known, berth.files, saves)
    if damage := examiner.examine(saves[0], "none").damage:
        raise NotProvenError(
            "What was written can't be read back, so nothing was changed.",
            details=tuple(f"  {one}" for one in damage),
            advice="Mend the templates.",
        )
    tables = read_tables(bequest.target.tables, bequest.undressed.reader, saves[0], opened.known)
    if faults := unlike(made, {table.name: table for table in tables}):
        more = f"  and {len(faults) - 10:,} more" if len(faults) > 10 else ""
        raise NotProvenError(
            "What was written does not read back as what was made, so nothing was changed.",
            details=tuple(filter(None, (*(f"  {one}" for one in faults[:10]), more))),
            advice="Mend the templates, or the successor's own recipe.",
        )
    return tables


def _refuse_otherwise(kept: ChosenInfo | None, steps: Sequence[BequestStep]) -> None:
    """Raise WrongUseError where what was kept is of another recipe, or of other add-ons."""
    if kept is None:
        return
    mine = [one.made for one in steps if kept.bequest in (None, one.made.bequest.id)]
    if not mine:
        raise WrongUseError(f"The file of options was kept by another recipe, {kept.bequest}.")
    used = {one for made in mine for one in made.addons}
    if kept.addons is not None and used != set(kept.addons):
        raise WrongUseError(
            "The file of options was kept when other add-ons were in use.",
            details=(f"  then  {', '.join(kept.addons) or 'none'}",
                     f"  now   {', '.join(sorted(used)) or 'none'}"),
            advice="Use the same add-ons; or take the line `addons` out of the file.",
        )  # fmt: skip


def _contents(save: Save) -> dict[object, str]:
    return {piece.key: digest_of(piece.payload) for piece in save.pieces}


def _standing_for(made: OpenBerth, berth: Berth, save: Save) -> OpenBerth:
    """Return what was made, as records are to name it: by the save that it was made of."""
    own = replace(made.berth, label=berth.address, stands_for=f"{berth.game.title}, {berth.title}")
    (only,) = made.listing.saves
    listing = replace(made.listing, saves=(replace(only, slot=save.slot),))
    return replace(made, berth=own, listing=listing)


def _way(source: str, target: str, recipes: Sequence[BequestRecipe]) -> str:
    """Return how one gets from one game to another through others; '' where one can't."""
    steps = {(one.bequest.source, one.bequest.target.partition("/")[0]) for one in recipes}
    ways: list[list[str]] = [[source]]
    seen = {source}
    while ways:
        way = ways.pop(0)
        for start, goal in sorted(steps):
            if start == way[-1] and goal == target:
                return "There is a way: " + " ".join(f"--through {one}" for one in way[1:])
            if start == way[-1] and goal not in seen:
                seen.add(goal)
                ways.append([*way, goal])
    return ""


def _refuse_unknown(route: Sequence[Bequest], asked: BequestAsked) -> None:
    """Raise UnknownNameError where no step has what is asked."""
    every = {name for one in route for name in one.recipe.options}
    for name in asked.options:
        if name not in every:
            raise UnknownNameError(
                f"No recipe on the way has an option {name!r}.",
                details=tuple(
                    option_line(option, info)
                    for one in route for option, info in one.recipe.options.items()
                ),
            )  # fmt: skip
    presets = {name: info.label for one in route for name, info in one.recipe.presets.items()}
    if asked.preset is not None and asked.preset not in presets:
        raise UnknownNameError(
            f"No recipe on the way has a preset {asked.preset!r}.",
            details=tuple(f"  {name}  {label}" for name, label in presets.items()),
        )
    games = {game.id for one in route for game in (one.source, one.target)}
    for name in asked.installed or ():
        if name not in games:
            raise UnknownNameError(
                f"--installed: {name!r} is none of these games.",
                details=tuple(f"  {one}" for one in sorted(games)),
            )


def _addons(
    side: SideInfo, tables: Mapping[str, RowTable], recipe: BequestRecipe, folder: Path | None
) -> tuple[str, ...]:
    """Return the add-ons in use on one side."""
    addons = side.addons
    if addons is None:
        return ()
    if addons.table is not None:
        values = tables[f"was.{addons.table}"].columns[addons.column or ""]
        return tuple(dict.fromkeys(map(text, values)))
    return enabled_addons(side, recipe.forms, folder) if folder is not None else ()


def _refuse_unknown_addons(
    side: SideInfo, used: Sequence[str], asked: BequestAsked, title: str
) -> None:
    known = side.addons.known if side.addons is not None else {}
    odd = [one for one in used if one not in known and one not in asked.passed]
    if odd:
        raise RefusedError(
            f"{title} uses add-ons that this recipe does not know, so what they change could get "
            "lost.",
            details=tuple(f"  {one}" for one in odd),
            advice="To go on all the same, as if they changed nothing that matters here: "
            + " ".join(f'--pass-addon "{one}"' if " " in one else f"--pass-addon {one}"
                       for one in odd),
        )  # fmt: skip


def chosen_in(path: Path) -> ChosenInfo:
    """Read a file of options, as a bequest keeps it; raises NotFoundError, WrongUseError."""
    try:
        return convert(parse_toml(read_whole(path, _LARGEST)), ChosenInfo)
    except OSError as error:
        raise NotFoundError(f"{path} can't be read: {error.strerror or error}.") from error
    except (ValueError, RecursionError, ValidationError) as error:
        raise WrongUseError(
            f"{path} is no file of options: {error}.",
            advice="It has a line like `pace = 2` below [options]; a bequest keeps such a file.",
        ) from None
