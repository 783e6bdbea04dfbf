"""Places that addresses name: which edition, at which harbour, whose."""

from __future__ import annotations

from clever_ferry.errors import NotFoundError, UnknownNameError, WrongUseError
from clever_ferry.finding import Address, Berth, Computer, Search, one_berth
from clever_ferry.harbours import Harbours
from clever_ferry.recipes import Edition, Game, Recipes

__all__ = ["Places"]


class Places:
    """The berths of one computer, and those at its harbours, by their addresses."""

    def __init__(self, computer: Computer, recipes: Recipes, harbours: Harbours) -> None:
        self.computer, self.recipes, self.harbours = computer, recipes, harbours

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
        try:
            return one_berth(search, game, edition, account, option)
        except NotFoundError as error:
            error.in_game = "there" if writing and search.looked else ""  # a start makes its folder
            raise

    def berths(self, address: Address, account: str | None) -> list[Berth]:
        """Return all berths of a game, or those of one account.

        Raises NotFoundError where there is none.
        """
        game = self.recipes.game(address.game)
        place = self.harbours.named_or_at(address.harbour) if address.harbour else None
        if place is not None and place.link is not None:
            searches = [self.harbours.look_at(place, [game])]
        else:
            editions = game.editions.values()
            searches = [
                one for each in editions for one in self.searches(game, each, address.harbour)
            ]
        found = [
            berth
            for search in searches
            for berth in search.berths
            if account is None or account in map(str, berth.fields.values())
        ]
        if not found:
            raise self.nowhere(game, address.harbour)
        return found

    def searches(self, game: Game, edition: Edition, harbour: str | None) -> list[Search]:
        """Search a harbour, or this computer and all others."""
        if harbour is None:
            here = self.harbours.search(game, edition, None)
            return [here, *self.harbours.elsewhere(game, edition)]
        if all(berth.info.under == "given" for berth in edition.berths):
            return []  # any folder would do
        place = self.harbours.named_or_at(harbour)
        return [self.harbours.look_at(place, [game], [edition.id])]

    def destination_for(self, berth: Berth) -> str:
        """Return the address of another edition to carry to: one that is at hand, if any is.

        '' where the game has no other edition.
        """
        game = berth.game
        others = [one for one in game.editions.values() if one.id != berth.edition.id]
        found = [
            one
            for edition in others
            for search in (
                self.harbours.search(game, edition, None),
                *self.harbours.elsewhere(game, edition, far=False),  # it is only for advice
            )
            for one in search.berths
            if one.writable
        ]
        at_hand = sorted(found, key=lambda one: one.harbour != berth.harbour)
        if at_hand:
            return at_hand[0].address
        if not others:
            return ""
        started = [one for one in others if any(b.info.under != "given" for b in one.berths)]
        return f"{game.id}/{started[0].id}" if started else ""

    def nowhere(self, game: Game, harbour: str | None = None) -> NotFoundError:
        """Return the error for a game that has no berth at any harbour, with where it looked.

        With a harbour, nothing was found there.
        """
        if harbour is not None:
            return NotFoundError(
                f"No saves of {game.title} were found at {harbour}.",
                advice=f"Name the edition to have more said: {game.id}/EDITION@{harbour}",
            )
        looked = [
            one.words
            for edition in game.editions.values()
            for one in self.harbours.search(game, edition, None).looked
        ]
        return NotFoundError(
            f"No saves of {game.title} were found here.",
            details=("Looked at:", *(f"  {place}" for place in looked)) if looked else (),
            advice="Start the game once and save, so that it makes its folder.",
        )
