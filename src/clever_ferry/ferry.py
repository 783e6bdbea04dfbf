"""A ferry: one computer, the recipes, the tool's records, and all jobs as its methods."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from clever_ferry.boxes import Contents
from clever_ferry.crossing.progress import Progress, silent
from clever_ferry.errors import (
    DamagedError,
    FerryError,
    NotFoundError,
    UnsupportedError,
    WrongUseError,
)
from clever_ferry.finding import Berth, Computer, open_berth, parse_address
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.changes import Watch
from clever_ferry.finding.remembering import open_remembered
from clever_ferry.harbours import Harbours
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.looking import Seen, Surveyed, look, look_for_changes, look_into
from clever_ferry.places import Places
from clever_ferry.recipes import Listing, Recipes

if TYPE_CHECKING:  # what only some jobs need is imported by those
    from clever_ferry.asking import Asking
    from clever_ferry.backups import Backups
    from clever_ferry.bequests import Bequests
    from clever_ferry.checking import Checked
    from clever_ferry.crossing.backing_up import BackedUp
    from clever_ferry.crossing.carrying import Crossed
    from clever_ferry.crossing.plan import Plan
    from clever_ferry.crossing.settling import Recovered
    from clever_ferry.crossing.tidying import Hidden, Tidied
    from clever_ferry.crossing.undoing import Undoing, Undone
    from clever_ferry.grafts import Grafts
    from clever_ferry.handovers import Handover
    from clever_ferry.keeping.logbook import Record
    from clever_ferry.links.opening import Links
    from clever_ferry.noting import Noting
    from clever_ferry.parcels import Parcels
    from clever_ferry.recipes.pairing import PairTold
    from clever_ferry.results import (
        BackedUpAll,
        ChangesSeen,
        Explained,
        Failed,
        HiddenSaves,
        RecipeTried,
        SetAgainst,
        Unboxed,
    )  # fmt: skip
    from clever_ferry.unboxing.taking_apart import Together
    from clever_ferry.watching import Watching

__all__ = ["Ferry"]


class Ferry:
    """One computer, the recipes, and the tool's own records; all the jobs are its methods."""

    recovered: Sequence[Recovered] = ()
    """What was cut short earlier, and what became of it as this ferry was opened."""

    def __init__(
        self, computer: Computer, recipes: Recipes, keeps: Keeps, links: Links | None = None
    ) -> None:
        self.computer = computer
        self.recipes = recipes
        self.keeps = keeps
        self.harbours = Harbours(computer, recipes, keeps, links)
        self.places = Places(computer, recipes, self.harbours)

    @cached_property
    def backups(self) -> Backups:
        """What is in the locker, and what can be done with it."""
        from clever_ferry.backups import Backups

        return Backups(self.computer, self.recipes, self.keeps)

    @cached_property
    def parcels(self) -> Parcels:
        """Single saves in files for friends."""
        from clever_ferry.parcels import Parcels

        return Parcels(self.recipes)

    @cached_property
    def noting(self) -> Noting:
        """Single saves, written down and set against each other."""
        from clever_ferry.noting import Noting

        return Noting(self.places, self.backups)

    @cached_property
    def watching(self) -> Watching:
        """First launches after crossings: whether the game goes on from what was carried."""
        from clever_ferry.watching import Watching

        return Watching(self.computer, self.places, self.backups, self.keeps)

    @cached_property
    def asking(self) -> Asking:
        """The games' own programs: which may be started, and what they make of saves."""
        from clever_ferry.asking import Asking

        return Asking(self.recipes, self.places, self.keeps)

    @cached_property
    def grafts(self) -> Grafts:
        """Parts of saves that go into other ones."""
        from clever_ferry.grafts import Grafts

        return Grafts(self.computer, self.places, self.noting, self.keeps)

    @cached_property
    def bequests(self) -> Bequests:
        """Ends of games that become starts of their successors."""
        from clever_ferry.bequests import Bequests

        return Bequests(self.computer, self.recipes, self.places, self.noting, self.keeps)

    # What is here ------------------------------------------------------------------------

    def look(self, game: str | None = None) -> Seen:
        """Return every berth of every known game, or of one, at every harbour at hand."""
        return look(self.computer, self.recipes, self.harbours, game)

    def changes(self, since: int | Watch) -> ChangesSeen:
        """Return the files that changed since a time (ns since 1970), or as a `Watch` finds them.

        That is in this computer's known folders and those of compatibility prefixes.
        """
        from clever_ferry.results import ChangesSeen

        watch = since if isinstance(since, Watch) else Watch(since)
        own = [self.keeps.folder, self.keeps.locker_folder]
        found = look_for_changes(self.computer, self.recipes, self.harbours, watch, own)
        return ChangesSeen(*found)

    def survey(self, path: Path | str) -> Surveyed:
        """Tell what a folder, file or archive seems to hold, and whose saves it is (part) of."""
        return look_into(self.computer, self.recipes, self.harbours, path)

    def slots(
        self, where: str, account: str | None = None, given: Mapping[str, str] | None = None, *,
        lenient: bool = True, remembered: bool = False,
    ) -> list[OpenBerth]:  # fmt: skip
        """Return the berths of a game, or of one edition, with the saves that are chosen.

        With `lenient`, what can't be read stands among the problems; else it is an error. Saves
        whose key is not among `given` are told as far as that goes. With `remembered`, what was
        read before and has not changed is not read again, and the bytes of its pieces can't be had.
        """

        def opened_of(berth: Berth) -> OpenBerth:
            if remembered and lenient and not given:
                return open_remembered(berth, self.keeps.readings, self.recipes.state)
            return open_berth(berth, given=given, lenient=lenient, keyless=True)

        address = parse_address(where)
        if address.edition is None and address.slots is None:
            found = []
            for berth in self.places.berths(address, account):
                try:
                    found.append(opened_of(berth))
                except (DamagedError, UnsupportedError) as error:
                    if not lenient:
                        raise
                    empty = Listing((), (), (), (error.what,))
                    found.append(OpenBerth(berth, Contents(()), empty, berth.known(given)))
            return found
        opened = opened_of(self.places.berth(address, account))
        return [opened.only(address.slots)]

    # Crossings ---------------------------------------------------------------------------

    def plan(
        self, source: str, target: str, *, from_account: str | None = None,
        to_account: str | None = None, given: Mapping[str, str] | None = None,
        sharing: Sequence[str] = (), whole_only: bool = False, waived: Collection[str] = (),
        tell: bool = True,
    ) -> Plan:  # fmt: skip
        """Plan a crossing between two addresses; nothing is written.

        `source` may be a file or folder with saves of the target's game, named by its path with a
        leading `file:`; which edition it is from is told by its content. `sharing` are roles of
        shared pieces to carry too; `whole_only` leaves damaged saves behind. `waived` are words by
        which the user says that a refusal has no ground: `newer-ok` (the target's game was
        updated), `packs-ok` (its add-ons are there), `host-ok` (it loads another host's world).
        Where the target has a config that names the save to load, it will, unless `tell` is off.
        """
        from clever_ferry.crossing.planning import make_plan
        from clever_ferry.finding.signs import signs_of

        destination = parse_address(target)
        other, edition = self.places.game_and_edition(destination)
        if source.startswith("file:"):
            chosen = None
            from_berth = self.harbours.berth_in(
                Path(source.removeprefix("file:")), other, edition, from_account, given
            )
        else:
            start = parse_address(source)
            chosen = start.slots
            game, _ = self.places.game_and_edition(start)
            if game.id != other.id:
                raise WrongUseError(
                    f"{game.title} and {other.title} are different games; saves can't go between "
                    "them."
                )
            from_berth = self.places.berth(start, from_account, "--from-account")
        to_berth = self.places.berth(destination, to_account, "--to-account", writing=True)
        for berth in (from_berth, to_berth):
            self._refuse_half(berth)
        plan = make_plan(
            open_berth(from_berth, given=given),
            open_berth(to_berth, given=given),
            chosen=chosen,
            slots=destination.slots,
            given=given or {},
            sharing=sharing,
            whole_only=whole_only,
            waived=waived,
            tell=tell,
        )
        return replace(plan, signs=signs_of(self.computer, to_berth))

    def carry_out(
        self, plan: Plan, progress: Progress = silent, *, game_closed: bool = False,
        quick: bool = False,
    ) -> Crossed:  # fmt: skip
        """Carry out a plan, prove it (less so over a link if `quick`), and record it.

        Raises RefusedError where the target's game seems to run, unless `game_closed` says
        that it does not.
        """
        from clever_ferry.crossing.carrying import carry_out
        from clever_ferry.crossing.guarding import at_work

        watch = at_work(self.computer, plan.target.berth, closed=game_closed)
        crossed = carry_out(plan, self.keeps, watch, progress=progress, quick=quick)
        with suppress(FerryError, OSError):  # it is only for saying later how it stands
            if not plan.source.berth.stands_for:  # what was only made of a save does not go on
                self.watching.expect(crossed.number)
        return crossed

    def _refuse_half(self, berth: Berth) -> None:
        """Refuse where a change was cut short and not set right: what is there may be half."""
        if berth.writable:
            self.keeps.refuse_half(berth.folder)

    def pairs(
        self,
        first: str,
        second: str,
        *,
        from_account: str | None = None,
        to_account: str | None = None,
        given: Mapping[str, str] | None = None,
    ) -> SetAgainst:
        """Set two editions' saves against each other, file by file."""
        from clever_ferry.proving.pairing import pair
        from clever_ferry.results import SetAgainst

        opened = []
        for where, account, option in (
            (first, from_account, "--from-account"), (second, to_account, "--to-account")
        ):  # fmt: skip
            address = parse_address(where)
            one = open_berth(self.places.berth(address, account, option), given=given, lenient=True)
            opened.append(one.only(address.slots))
        if opened[0].berth.game.id != opened[1].berth.game.id:
            raise WrongUseError(
                "Only two editions of one game correspond to each other.",
                advice="Name them, such as: cferry pairs saltglass/tern saltglass/depot",
            )
        one, other = opened
        return SetAgainst(one, other, pair(one, other))

    def check(
        self, where: str, account: str | None = None, given: Mapping[str, str] | None = None
    ) -> Checked:
        """Read every byte of the chosen saves as their edition reads them."""
        from clever_ferry.checking import check

        address = parse_address(where)
        berth = self.places.berth(address, account)
        self._refuse_half(berth)
        return check(open_berth(berth, given=given), address.slots)

    # Worlds that friends share, and what games write in front -------------------------------

    def handover(
        self, where: str, to: str, account: str | None = None,
        given: Mapping[str, str] | None = None,
    ) -> Handover:  # fmt: skip
        """Plan a handover; `carry_out(handover.here)` does it, `write_handover` writes a file."""
        from clever_ferry.handovers import plan_handover

        return plan_handover(self._chosen(where, account, given), to, given)

    def hidden(
        self, where: str, account: str | None = None, given: Mapping[str, str] | None = None
    ) -> HiddenSaves:
        """Return a berth, and its carried saves that a newer generation stands before."""
        from clever_ferry.crossing.tidying import hidden_saves
        from clever_ferry.results import HiddenSaves

        opened = self._chosen(where, account, given)
        return HiddenSaves(opened, hidden_saves(opened, self.log()))

    def tidy(
        self, opened: OpenBerth, hidden: list[Hidden], progress: Progress = silent, *,
        game_closed: bool = False,
    ) -> Tidied:  # fmt: skip
        """Take away what stands before carried saves; `undo` brings it back."""
        from clever_ferry.crossing.guarding import at_work
        from clever_ferry.crossing.tidying import tidy

        watch = at_work(self.computer, opened.berth, closed=game_closed)
        return tidy(opened, hidden, self.keeps, watch, progress=progress)

    def _chosen(
        self, where: str, account: str | None, given: Mapping[str, str] | None
    ) -> OpenBerth:
        address = parse_address(where)
        berth = self.places.berth(address, account, writing=True)
        self._refuse_half(berth)
        opened = open_berth(berth, given=given)
        return opened.only(address.slots)

    def plan_undo(self, number: int | None = None) -> Undoing:
        """Say what undoing a crossing will do."""
        from clever_ferry.crossing.undoing import plan_undo

        return plan_undo(self.keeps, number, self.backups.standing)

    def undo(
        self, plan: Undoing, progress: Progress = silent, *, game_closed: bool = False
    ) -> Undone:
        """Bring a target back as it was before a crossing."""
        from clever_ferry.crossing.guarding import at_work
        from clever_ferry.crossing.undoing import undo

        berth = self.backups.berth_of(plan.snapshot)
        watch = at_work(self.computer, berth, closed=game_closed)
        undone = undo(plan, self.keeps, watch, progress=progress)
        with suppress(FerryError, OSError):
            self.keeps.launches.done(plan.record.number)
        return undone

    def log(self) -> list[Record]:
        """Return all crossings, the newest first."""
        return self.keeps.logbook.records()

    def recover(self) -> list[Recovered]:
        """Set right what killed crossings left half-way, and sweep what they had begun to write."""
        self.keeps.sweep()
        if not self.keeps.half_way():
            return []
        from clever_ferry.crossing.recovering import recover

        return recover(self.keeps)

    def give_up(self, number: int) -> str:
        """Close a change that was cut short and can't be set right; return its folder."""
        from clever_ferry.crossing.settling import give_up

        return give_up(self.keeps, number, time.time_ns).root

    # Backups -----------------------------------------------------------------------------

    def backup(
        self,
        where: str,
        account: str | None = None,
        *,
        note: str = "",
        reread: bool = False,
        progress: Progress = silent,
    ) -> BackedUpAll:
        """Keep all saves of a game, of one of its editions, or some of that one's slots.

        Of several berths, one that can't be kept is told, and the others are kept all the same.
        """
        from clever_ferry.crossing.backing_up import back_up
        from clever_ferry.results import BackedUpAll, Failed

        address = parse_address(where)
        whole_game = address.edition is None and address.slots is None
        made: list[BackedUp] = []
        failed: list[Failed] = []
        berths = (
            self.places.berths(address, account)
            if whole_game
            else [self.places.berth(address, account)]
        )
        for berth in berths:
            if whole_game and not berth.writable:
                continue  # an export is a copy already, and stays as it is
            try:
                opened = open_berth(berth, keyless=True)
                saves = opened.chosen(address.slots)
                if saves or opened.listing.shared:
                    made.append(
                        back_up(
                            opened, saves, self.keeps, whole=address.slots is None, note=note,
                            reread=reread, progress=progress,
                        )
                    )  # fmt: skip
            except FerryError as error:
                failed.append(Failed(berth, error))
            except OSError as error:
                what = f"It can't be read: {error.strerror or error}."
                failed.append(Failed(berth, NotFoundError(what)))
        if failed and not made:
            raise failed[0].error
        if not made:
            raise NotFoundError(f"{where} has no saves to back up.")
        return BackedUpAll(made, failed)

    # Containers and recipes ---------------------------------------------------------------

    def unbox(
        self,
        container: Path,
        folder: Path | None = None,
        recipe: str | None = None,
        progress: Callable[[int], None] = lambda _: None,
    ) -> Unboxed:
        """Take a container apart into a new or empty folder; without one, only look into it.

        `recipe` (`BOX`, or `GAME:LAYER`) says by what to open it, where its content does not.
        """
        from clever_ferry.results import Unboxed
        from clever_ferry.unboxing.opening import open_container
        from clever_ferry.unboxing.taking_apart import parts_of, take_apart

        opened = open_container(container, self.recipes, recipe)
        parts = parts_of(opened) if folder is None else take_apart(opened, folder, progress)
        return Unboxed(opened, parts)

    def box(self, folder: Path, target: Path) -> Together:
        """Put together again what `unbox` has taken apart, as a new file or folder."""
        from clever_ferry.boxes import Making
        from clever_ferry.unboxing.taking_apart import put_together

        return put_together(folder, target, self.recipes, Making(time.time_ns(), os.urandom))

    def explain(self, where: str) -> Explained:
        """Tell in words how a game's editions keep saves; of one edition, what crossings do."""
        from clever_ferry.recipes.telling import told_edition, told_routes
        from clever_ferry.results import Explained

        address = parse_address(where)
        game = self.recipes.game(address.game)
        if address.edition is None:
            chosen = list(game.editions.values())
            return Explained(game, [told_edition(game, one) for one in chosen], [])
        edition = self.places.game_and_edition(address)[1]
        return Explained(game, [told_edition(game, edition)], told_routes(game, edition))

    def told_pairs(self, file: Path) -> list[PairTold]:
        """Tell what becomes of a save between each two editions of a game recipe's file.

        Raises RecipeError with all its faults, WrongUseError where it is no game's.
        """
        from clever_ferry.recipes.pairing import told_pairs

        return told_pairs(self.recipes.game_in(file))

    def try_recipe(
        self, file: Path, folders: Sequence[Path], most: int | None = None
    ) -> RecipeTried:
        """Read a game recipe's file, and say what it makes of folders of (the newest) real saves.

        That is what each edition reads of them, if anything, and what becomes of saves that go to
        the others and back, on copies. Raises what `told_pairs` does, and NotFoundError.
        """
        from clever_ferry.proving.trying import try_recipe
        from clever_ferry.rehearsing import rehearse
        from clever_ferry.results import RecipeTried

        game = self.recipes.game_in(file)
        for folder in folders:
            if not folder.is_dir():
                raise NotFoundError(f"There is no folder {folder}.")
        read = [one for at in folders for one in try_recipe(game, self.computer, at, most)]
        return RecipeTried(read, list(rehearse(game, self.computer, folders)))
