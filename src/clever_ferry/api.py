"""The jobs of the command line as plain functions, for scripts.

from clever_ferry.api import open_ferry
ferry = open_ferry()
plan = ferry.plan("saltglass/tern:2", "saltglass/depot:5")
print(ferry.carry_out(plan).number)
"""

from __future__ import annotations

import os
import time
from collections.abc import Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from clever_ferry.crossing.progress import Progress, silent
from clever_ferry.errors import (
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
    one_berth,
    open_berth,
    parse_address,
    select,
    this_computer,
)
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.remembering import open_remembered
from clever_ferry.harbours import Harbours
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.looking import Seen, Sight, Surveyed, look, look_for_changes, look_into
from clever_ferry.moving.changes import Changes, Watch
from clever_ferry.recipes import Edition, Game, Recipes

if TYPE_CHECKING:  # what only some jobs need is imported by those
    from clever_ferry.backups import Backups
    from clever_ferry.cargo import Save
    from clever_ferry.checking import Checked
    from clever_ferry.crossing.backing_up import BackedUp
    from clever_ferry.crossing.carrying import Crossed
    from clever_ferry.crossing.plan import Plan
    from clever_ferry.crossing.settling import Recovered
    from clever_ferry.crossing.tidying import Hidden, Tidied
    from clever_ferry.crossing.undoing import Undoing, Undone
    from clever_ferry.handovers import Handover
    from clever_ferry.keeping.logbook import Record
    from clever_ferry.proving.pairing import Pairs

__all__ = ["Ferry", "Seen", "Sight", "Surveyed", "open_ferry"]


class Ferry:
    """One computer, the recipes, and the tool's own records; all the jobs are its methods."""

    def __init__(self, computer: Computer, recipes: Recipes, keeps: Keeps) -> None:
        self.computer = computer
        self.recipes = recipes
        self.keeps = keeps
        self.harbours = Harbours(computer, recipes, keeps)

    @cached_property
    def backups(self) -> Backups:
        """What is in the locker, and what can be done with it."""
        from clever_ferry.backups import Backups

        return Backups(self.computer, self.recipes, self.keeps)

    # What is here ------------------------------------------------------------------------

    def look(self, game: str | None = None) -> Seen:
        """Return every berth of every known game, or of one, at every harbour at hand."""
        return look(self.computer, self.recipes, self.harbours, game)

    def changes(self, watch: Watch) -> tuple[Changes, dict[Path, str]]:
        """Return the files that changed in the usual places, as `watch` finds them.

        These are this computer's known folders and those of compatibility prefixes. Also
        returns whose saves the folders hold, for those that are in berths of known games.
        """
        own = [self.keeps.folder, self.keeps.locker_folder]
        return look_for_changes(self.computer, self.recipes, self.harbours, watch, own)

    def survey(self, path: Path) -> Surveyed:
        """Tell what a folder or an archive seems to hold, and whose saves it reads as."""
        return look_into(self.recipes, self.harbours, path)

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
            from difflib import get_close_matches

            near = get_close_matches(address.edition, game.editions, 1, 0.5)
            raise UnknownNameError(
                f"{game.title} has no edition {address.edition!r}.",
                details=(f"There are: {editions}.",),
                advice=f"Did you mean {game.id}/{near[0]}?" if near else "",
            )
        return game, game.editions[address.edition]

    def berth(
        self,
        address: Address,
        account: str | None,
        option: str = "--account",
        *,
        writing: bool = False,
    ) -> Berth:
        """Return the berth that an address names.

        Without a harbour, this computer's; where it has none, that of another harbour at hand. For
        `writing`, only compatibility prefixes are such: a disk must be named to be written.
        Raises NotFoundError where there is none and ChoiceNeededError where several fit;
        `option` is what the advice names to choose between them.
        """
        game, edition = self.game_and_edition(address)
        account = address.account or account
        search = self.harbours.search(game, edition, address.harbour)
        if address.harbour is None and not search.berths:
            search = search.with_(*self.harbours.elsewhere(game, edition, near=writing))
        return one_berth(search, game, edition, account, option)

    def slots(
        self,
        where: str,
        account: str | None = None,
        given: Mapping[str, str] | None = None,
        *,
        lenient: bool = True,
        remembered: bool = False,
    ) -> list[OpenBerth]:
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
            game = self.recipes.game(address.game)
            found = [
                berth
                for edition in game.editions.values()
                for search in self._searches(game, edition, address.harbour)
                for berth in search.berths
                if account is None or account in map(str, berth.fields.values())
            ]
            if found:
                return [opened_of(berth) for berth in found]
            raise self._nowhere(game)
        opened = opened_of(self.berth(address, account))
        chosen = select(opened.listing.saves, address.slots, opened.berth.address)
        return [_only(opened, chosen)]

    def _searches(self, game: Game, edition: Edition, harbour: str | None) -> list[Search]:
        """Search a harbour, or this computer and all others."""
        if harbour is None:
            here = self.harbours.search(game, edition, None)
            return [here, *self.harbours.elsewhere(game, edition)]
        if all(berth.info.under == "given" for berth in edition.berths):
            return []  # any folder would do
        place = self.harbours.named_or_at(harbour)
        return [self.harbours.look_at(place, [game], [edition.id])]

    def goal_for(self, berth: Berth) -> str:
        """Return the address of another edition to carry to: one that is at hand, if any is.

        '' where the game has no other edition.
        """
        game = berth.game
        others = [one for one in game.editions.values() if one.id != berth.edition.id]
        found = [
            one
            for edition in others
            for search in self._searches(game, edition, None)
            for one in search.berths
            if one.within is None
        ]
        at_hand = sorted(found, key=lambda one: one.harbour != berth.harbour)
        if at_hand:
            return at_hand[0].address
        if not others:
            return ""
        started = [one for one in others if any(b.info.under != "given" for b in one.berths)]
        return f"{game.id}/{started[0].id}" if started else ""

    def _nowhere(self, game: Game) -> NotFoundError:
        looked = [
            one.told
            for edition in game.editions.values()
            for one in self.harbours.search(game, edition, None).looked
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
        sharing: Sequence[str] = (),
        whole_only: bool = False,
        newer_ok: bool = False,
        packs_ok: bool = False,
        host_ok: bool = False,
    ) -> Plan:
        """Plan a crossing between two addresses; nothing is written.

        `source` may be a file or folder with saves of the target's game, named by its path with a
        leading `file:`; which edition it is from is told by its content. `sharing` are roles of
        shared pieces to carry too; `whole_only` leaves damaged saves behind; `newer_ok` lets saves
        go that are newer than the target's, and `packs_ok` those whose add-ons it seems to lack,
        and `host_ok` worlds that another player hosts than the target's own.
        """
        from clever_ferry.crossing.planning import make_plan
        from clever_ferry.finding.signs import signs_of

        goal = parse_address(target)
        other, edition = self.game_and_edition(goal)
        if source.startswith("file:"):
            chosen = None
            from_berth = self.harbours.berth_in(
                Path(source.removeprefix("file:")), other, edition, from_account, given
            )
        else:
            start = parse_address(source)
            chosen = start.slots
            game, _ = self.game_and_edition(start)
            if game.id != other.id:
                raise WrongUseError(
                    f"{game.title} and {other.title} are different games; saves can't go between "
                    "them."
                )
            from_berth = self.berth(start, from_account, "--from-account")
        to_berth = self.berth(goal, to_account, "--to-account", writing=True)
        for berth in (from_berth, to_berth):
            self._refuse_half(berth)
        plan = make_plan(
            open_berth(from_berth, given=given),
            open_berth(to_berth, given=given),
            chosen=chosen,
            slots=goal.slots,
            given=given or {},
            sharing=sharing,
            whole_only=whole_only,
            newer_ok=newer_ok,
            packs_ok=packs_ok,
            host_ok=host_ok,
        )
        return replace(plan, signs=signs_of(self.computer, to_berth))

    def carry_out(
        self, plan: Plan, progress: Progress = silent, *, game_closed: bool = False
    ) -> Crossed:
        """Carry out a plan, prove it, and record it.

        Raises RefusedError where the target's game seems to run, unless `game_closed` says
        that it does not.
        """
        from clever_ferry.crossing.carrying import carry_out

        self._refuse_busy(plan.target.berth, game_closed)
        return carry_out(plan, self.keeps, progress=progress)

    def _refuse_busy(self, berth: Berth | None, game_closed: bool) -> None:
        from clever_ferry.crossing.guarding import refuse_busy
        from clever_ferry.finding.signs import signs_of

        if berth is not None and not game_closed:
            refuse_busy(signs_of(self.computer, berth))

    def _refuse_half(self, berth: Berth) -> None:
        """Refuse where a change was cut short and not set right: what is there may be half."""
        if berth.within is None:
            self.keeps.refuse_half(berth.root)

    def pairs(
        self,
        first: str,
        second: str,
        given: Mapping[str, str] | None = None,
        answers: Mapping[str, str] | None = None,
    ) -> tuple[OpenBerth, OpenBerth, Pairs]:
        """Set two editions' saves against each other, file by file.

        `answers` are the accounts by `--from-account` and `--to-account`, where several fit.
        """
        from clever_ferry.proving.pairing import pair

        opened = []
        for where, option in ((first, "--from-account"), (second, "--to-account")):
            address = parse_address(where)
            berth = self.berth(address, (answers or {}).get(option), option)
            one = open_berth(berth, given=given, lenient=True)
            opened.append(_only(one, select(one.listing.saves, address.slots, berth.address)))
        if opened[0].berth.game.id != opened[1].berth.game.id:
            raise WrongUseError(
                "Only two editions of one game correspond to each other.",
                advice="Name them, such as: cferry pairs saltglass/tern saltglass/depot",
            )
        return opened[0], opened[1], pair(*opened)

    def check(
        self, where: str, account: str | None = None, given: Mapping[str, str] | None = None
    ) -> Checked:
        """Read every byte of the chosen saves as their edition reads them."""
        from clever_ferry.checking import check

        address = parse_address(where)
        berth = self.berth(address, account)
        self._refuse_half(berth)
        return check(open_berth(berth, given=given), address.slots, given)

    # Worlds that friends share, and what games write in front -------------------------------

    def handover(
        self,
        where: str,
        to: str,
        account: str | None = None,
        given: Mapping[str, str] | None = None,
    ) -> Handover:
        """Plan to hand a world over to a guest who is to host it; nothing is written.

        `carry_out(handover.here)` does so in the own copy, and `write_handover` writes a file.
        """
        from clever_ferry.handovers import plan_handover

        return plan_handover(self._chosen(where, account, given), to, given)

    def hidden(
        self, where: str, account: str | None = None, given: Mapping[str, str] | None = None
    ) -> tuple[OpenBerth, list[Hidden]]:
        """Return a berth, and its carried saves that a newer generation stands before."""
        from clever_ferry.crossing.tidying import hidden_saves

        opened = self._chosen(where, account, given)
        return opened, hidden_saves(opened, self.log())

    def tidy(
        self, opened: OpenBerth, hidden: list[Hidden], progress: Progress = silent, *,
        game_closed: bool = False,
    ) -> Tidied:  # fmt: skip
        """Take away what stands before carried saves; `undo` brings it back."""
        from clever_ferry.crossing.tidying import tidy

        self._refuse_busy(opened.berth, game_closed)
        return tidy(opened, hidden, self.keeps, progress=progress)

    def _chosen(
        self, where: str, account: str | None, given: Mapping[str, str] | None
    ) -> OpenBerth:
        address = parse_address(where)
        berth = self.berth(address, account, writing=True)
        self._refuse_half(berth)
        opened = open_berth(berth, given=given)
        return _only(opened, select(opened.listing.saves, address.slots, opened.berth.address))

    def plan_undo(self, number: int | None = None) -> Undoing:
        """Say what undoing a crossing will do."""
        from clever_ferry.crossing.undoing import plan_undo

        return plan_undo(self.keeps, number, self.backups.standing)

    def undo(
        self, plan: Undoing, progress: Progress = silent, *, game_closed: bool = False
    ) -> Undone:
        """Bring a target back as it was before a crossing."""
        from clever_ferry.crossing.undoing import undo

        self._refuse_busy(self.backups.berth_of(plan.snapshot), game_closed)
        return undo(plan, self.keeps, progress=progress)

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
    ) -> list[BackedUp]:
        """Keep all saves of a game, of one of its editions, or some of that one's slots."""
        from clever_ferry.crossing.backing_up import back_up

        whole = parse_address(where).slots is None
        made = []
        for opened in self.slots(where, account, lenient=False):
            saves = opened.listing.saves
            if opened.berth.within is not None and parse_address(where).edition is None:
                continue  # an export is a copy already, and stays as it is
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
    return replace(opened, listing=replace(listing, saves=tuple(chosen)))


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
