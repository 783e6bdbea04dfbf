"""The jobs of the command line as plain functions, for scripts.

from clever_ferry.api import open_ferry
ferry = open_ferry()
plan = ferry.plan("saltglass/tern:2", "saltglass/depot:5")
print(ferry.carry_out(plan).number)
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass, replace
from difflib import get_close_matches
from pathlib import Path

from clever_ferry.backups import Backups
from clever_ferry.cargo import Save
from clever_ferry.crossing import (
    Crossed,
    Plan,
    Progress,
    Recovered,
    Undoing,
    carry_out,
    make_plan,
    plan_undo,
    recover,
    silent,
    undo,
)
from clever_ferry.crossing.backing_up import BackedUp, back_up
from clever_ferry.crossing.guarding import refuse_busy
from clever_ferry.errors import (
    FerryError,
    NotFoundError,
    UnknownNameError,
    WrongUseError,
)
from clever_ferry.finding import (
    Address,
    Berth,
    Computer,
    Search,
    described_computer,
    find_berths,
    one_berth,
    open_berth,
    parse_address,
    select,
    this_computer,
)
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.harbours import Harbour, harbour_at
from clever_ferry.finding.signs import signs_of
from clever_ferry.keeping import (
    Keeps,
    Record,
    Snapshot,
)
from clever_ferry.recipes import Edition, Game, Recipes

__all__ = ["Checked", "Ferry", "Sight", "open_ferry"]


@dataclass(frozen=True)
class Sight:
    """A berth and what it holds, or why that can't be told."""

    berth: Berth
    saves: tuple[Save, ...]
    problems: tuple[str, ...]


@dataclass(frozen=True)
class Checked:
    """The saves of a berth, every byte read, with all that is wrong."""

    berth: Berth
    saves: tuple[Save, ...]
    problems: tuple[str, ...]

    @property
    def damaged(self) -> bool:
        """Whether anything is wrong."""
        return bool(self.problems) or any(save.problems for save in self.saves)


class Ferry:
    """One computer, the recipes, and the tool's own records; all the jobs are its methods."""

    def __init__(self, computer: Computer, recipes: Recipes, keeps: Keeps) -> None:
        self.computer = computer
        self.recipes = recipes
        self.keeps = keeps
        self.backups = Backups(computer, recipes, keeps)

    # What is here ------------------------------------------------------------------------

    def look(self, game: str | None = None) -> tuple[list[Sight], list[FerryError]]:
        """Return every berth of every known game, and what is wrong with recipes."""
        games, faults = ([self.recipes.game(game)], []) if game else self.recipes.games()
        places = [None, *(one.name for one in self.harbours() if one.computers)]
        sights = [
            self._sight(berth)
            for one in games
            for edition in one.editions.values()
            for place in places
            for berth in self.search(one, edition, place).berths
        ]
        return sights, faults

    def _sight(self, berth: Berth) -> Sight:
        try:
            listing = open_berth(berth).listing
        except (FerryError, OSError) as error:
            return Sight(berth, (), (getattr(error, "what", str(error)),))
        return Sight(berth, listing.saves, listing.problems)

    def search(self, game: Game, edition: Edition, harbour: str | None) -> Search:
        """Look for an edition's berths on the computer, or at a harbour or folder of that name.

        Where the folder is a disk or a prefix with users, theirs are looked for; else it is
        taken for the berth itself.
        """
        if harbour is None or harbour.casefold() == self.computer.name.casefold():
            return find_berths(self.computer, game, edition, None)
        place = self._place(harbour)
        computers = harbour_at(place, harbour).computers
        searches = [find_berths(one, game, edition, None) for one in computers] or [
            find_berths(self.computer, game, edition, place)
        ]
        berths = [berth for search in searches for berth in search.berths]
        return Search(
            tuple(replace(one, harbour=harbour, at=f"@{harbour}") for one in berths),
            tuple(looked for search in searches for looked in search.looked),
        )

    def _place(self, harbour: str) -> Path:
        known = self.keeps.harbours.all()
        if harbour.casefold() in known:
            place = known[harbour.casefold()]
            if place.is_dir():
                return place
            raise NotFoundError(
                f"The harbour {harbour!r} is not there now: {place}",
                advice="If it is on a drive, plug that in.",
            )
        place = Path(harbour).expanduser()
        if place.exists():
            return place
        if {"/", "\\", "."} & set(harbour):
            raise NotFoundError(f"There is no folder {harbour}.")
        told = ", ".join([repr(self.computer.name), *map(repr, known)])
        raise UnknownNameError(
            f"There is no harbour {harbour!r}.",
            details=(f"There are: {told}; the first is this computer.",),
            advice="A folder can stand there too, such as @/path/to/folder; `cferry harbour add` "
            "gives one a name.",
        )

    def harbours(self) -> list[Harbour]:
        """Return the places that were given names, and what each is recognised as."""
        return [
            harbour_at(path, name) if path.is_dir() else Harbour(name, path, "folder")
            for name, path in self.keeps.harbours.all().items()
        ]

    def add_harbour(self, name: str, path: Path) -> Harbour:
        """Give a folder a name, and tell what it is recognised as."""
        if name == self.computer.name:
            raise WrongUseError(f"{name!r} is this computer's own name.")
        harbour = harbour_at(path, name)
        self.keeps.harbours.add(name, path)
        return harbour

    def remove_harbour(self, name: str) -> Path:
        """Forget a name; the folder stays as it is."""
        return self.keeps.harbours.remove(name)

    def game_and_edition(self, address: Address) -> tuple[Game, Edition]:
        """Return what an address names; raises UnknownNameError with the near names."""
        game = self.recipes.game(address.game)
        editions = ", ".join(f"{game.id}/{name}" for name in game.editions)
        if address.edition is None:
            if len(game.editions) == 1:
                return game, next(iter(game.editions.values()))
            raise WrongUseError(
                f"{address} does not say which edition of {game.title}.",
                details=(f"There are: {editions}.",),
            )
        if address.edition not in game.editions:
            near = get_close_matches(address.edition, game.editions, 1, 0.5)
            raise UnknownNameError(
                f"{game.title} has no edition {address.edition!r}.",
                details=(f"There are: {editions}.",),
                advice=f"Did you mean {game.id}/{near[0]}?" if near else "",
            )
        return game, game.editions[address.edition]

    def berth(self, address: Address, account: str | None, option: str = "--account") -> Berth:
        """Return the berth that an address names.

        Raises NotFoundError where there is none and ChoiceNeededError where several fit;
        `option` is what the advice names to choose between them.
        """
        game, edition = self.game_and_edition(address)
        search = self.search(game, edition, address.harbour)
        return one_berth(search, game, edition, account, option)

    def slots(
        self, where: str, account: str | None = None, given: Mapping[str, str] | None = None
    ) -> list[OpenBerth]:
        """Return the berths of a game, or of one edition, with the saves that are chosen."""
        address = parse_address(where)
        if address.edition is None and address.harbour is None and address.slots is None:
            game = self.recipes.game(address.game)
            found = [
                berth
                for edition in game.editions.values()
                for berth in self.search(game, edition, None).berths
                if account is None or account in map(str, berth.fields.values())
            ]
            if found:
                return [open_berth(berth, given=given) for berth in found]
            raise self._nowhere(game)
        opened = open_berth(self.berth(address, account), given=given)
        chosen = select(opened.listing.saves, address.slots, opened.berth.address)
        return [_only(opened, chosen)]

    def _nowhere(self, game: Game) -> NotFoundError:
        looked = [
            place
            for edition in game.editions.values()
            for place in self.search(game, edition, None).looked
        ]
        return NotFoundError(
            f"No saves of {game.title} were found here.",
            details=("Looked at:", *(f"  {place}" for place in looked)) if looked else (),
            advice="Start the game once and save, so that it makes its folder.",
        )

    # Crossings ---------------------------------------------------------------------------

    def plan(
        self,
        source: str,
        target: str,
        *,
        from_account: str | None = None,
        to_account: str | None = None,
        given: Mapping[str, str] | None = None,
    ) -> Plan:
        """Plan a crossing between two addresses; nothing is written."""
        start, goal = parse_address(source), parse_address(target)
        game, _ = self.game_and_edition(start)
        other, _ = self.game_and_edition(goal)
        if game.id != other.id:
            raise WrongUseError(
                f"{game.title} and {other.title} are different games; saves can't go between them."
            )
        from_berth = self.berth(start, from_account, "--from-account")
        to_berth = self.berth(goal, to_account, "--to-account")
        plan = make_plan(
            open_berth(from_berth, given=given),
            open_berth(to_berth, given=given),
            chosen=start.slots,
            slots=goal.slots,
            given=given or {},
            random=os.urandom,
        )
        return replace(plan, signs=signs_of(self.computer, to_berth))

    def carry_out(
        self, plan: Plan, progress: Progress = silent, *, game_closed: bool = False
    ) -> Crossed:
        """Carry out a plan, prove it, and record it.

        Raises RefusedError where the target's game seems to run, unless `game_closed` says
        that it does not.
        """
        self._refuse_busy(plan.target.berth, game_closed)
        return carry_out(plan, self.keeps, progress=progress)

    def _refuse_busy(self, berth: Berth | None, game_closed: bool) -> None:
        if berth is not None and not game_closed:
            refuse_busy(signs_of(self.computer, berth))

    def check(
        self, where: str, account: str | None = None, given: Mapping[str, str] | None = None
    ) -> Checked:
        """Read every byte of the chosen saves as their edition reads them."""
        address = parse_address(where)
        opened = open_berth(self.berth(address, account), given=given)
        chosen = select(opened.listing.saves, address.slots, opened.berth.address)
        berth = opened.berth
        verified = tuple(berth.edition.verified(save, berth.fields) for save in chosen)
        problems = list(opened.listing.problems)
        most = berth.edition.most_slots
        if most is not None:
            problems += [
                f"slot {save.slot} ({save.title}) is beyond the {most} that the game shows"
                for save in verified
                if save.slot > most
            ]
        return Checked(berth, verified, tuple(problems))

    def plan_undo(self, number: int | None = None) -> Undoing:
        """Say what undoing a crossing will do."""
        return plan_undo(self.keeps, number)

    def undo(
        self, plan: Undoing, progress: Progress = silent, *, game_closed: bool = False
    ) -> Snapshot:
        """Bring a target back as it was before a crossing."""
        self._refuse_busy(self.backups.berth_of(plan.snapshot), game_closed)
        return undo(plan, self.keeps, progress=progress)

    def log(self) -> list[Record]:
        """Return all crossings, the newest first."""
        return self.keeps.logbook.records()

    def recover(self) -> list[Recovered]:
        """Set right what killed crossings left half-way."""
        return recover(self.keeps)

    # Backups -----------------------------------------------------------------------------

    def backup(
        self,
        where: str,
        account: str | None = None,
        *,
        note: str = "",
        reread: bool = False,
        progress: Progress = silent,
    ) -> list[BackedUp]:
        """Keep all saves of a game, of one of its editions, or some of that one's slots."""
        whole = parse_address(where).slots is None
        made = []
        for opened in self.slots(where, account):
            saves = opened.listing.saves
            if saves or opened.listing.shared:
                made.append(
                    back_up(
                        opened, saves, self.keeps, whole=whole, note=note, reread=reread,
                        progress=progress,
                    )
                )  # fmt: skip
        if not made:
            raise NotFoundError(f"{where} has no saves to back up.")
        return made


def _only(opened: OpenBerth, chosen: list[Save]) -> OpenBerth:
    listing = opened.listing
    kept = type(listing)(tuple(chosen), listing.shared, listing.unread, listing.problems)
    return OpenBerth(opened.berth, opened.contents, kept)


def open_ferry(computer: Path | None = None) -> Ferry:
    """Return the ferry for this computer, or for a described one.

    The environment's `CFERRY_HOME` names the folder for the tool's own data (backups,
    logbook, and `recipes/` for your own); without it, the system's usual folders serve.
    `CFERRY_LOCKER` names another folder for the backups alone.
    """
    here = described_computer(computer) if computer else this_computer()
    home = os.environ.get("CFERRY_HOME")
    if home:
        config = keeps = Path(home)
    else:
        import platformdirs

        config = platformdirs.user_config_path("cferry", appauthor=False)
        keeps = here.keeps or platformdirs.user_data_path("cferry", appauthor=False)
    locker = os.environ.get("CFERRY_LOCKER")
    return Ferry(here, Recipes(config / "recipes"), Keeps(keeps, Path(locker) if locker else None))
