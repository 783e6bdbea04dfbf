"""Goals: into which slot, or onto which save of the target, each save is to go."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from clever_ferry.cargo import Save
from clever_ferry.errors import ChoiceNeededError, NotFoundError, WrongUseError
from clever_ferry.finding.addresses import names_of, parse_slots, select
from clever_ferry.finding.berths import OpenBerth

__all__ = ["THROWAWAY", "Goal", "goals_of"]

THROWAWAY = "throwaway"
"""Stands for a slot: that of the target's newest save that was hardly played."""


@dataclass(frozen=True)
class Goal:
    """Where a save is to go: a slot, a save that it replaces, a name; what is not set is open."""

    slot: int | None = None
    replaced: Save | None = None
    name: str | None = None


def goals_of(
    saves: Sequence[Save], target: OpenBerth, slots: str | None, given: Mapping[str, str]
) -> list[Goal]:
    """Return where each save is to go, as `slots` says; raises what stands in the way."""
    edition, there = target.berth.edition, target.listing.saves
    if slots is None:
        if not edition.numbered:
            return [Goal() for _ in saves]
        return [Goal(slot=save.slot, replaced=_in_slot(there, save.slot)) for save in saves]
    named = [save for save in there if slots.casefold() in names_of(save)]
    if not named and slots.casefold() == THROWAWAY and len(saves) == 1:
        return [_onto_throwaway(target)]
    wanted = parse_slots(slots)
    if named or wanted.named:
        if len(saves) != 1:
            raise WrongUseError(
                f"{len(saves)} saves can't all become {slots!r}.",
                advice="Choose one save with :SLOT after the first address.",
            )
        if named:
            one = select(there, slots, target.berth.address)[0]
            return [Goal(slot=one.slot, replaced=one)]
        if edition.numbered or len(edition.key_fields) != 1:
            select(there, slots, target.berth.address)  # tells which there are
        return [Goal(name=slots)]
    if len(wanted.numbers) != len(saves):
        first = wanted.numbers[0]
        raise WrongUseError(
            f"{len(saves)} saves are to go to {len(wanted.numbers)} slots ({slots}).",
            advice=f"Name as many slots, such as :{first}-{first + len(saves) - 1}.",
        )
    if edition.numbered:
        return [Goal(slot=slot, replaced=_in_slot(there, slot)) for slot in wanted.numbers]
    return [
        Goal(slot=number, replaced=select(there, str(number), target.berth.address)[0])
        for number in wanted.numbers
    ]


def _onto_throwaway(target: OpenBerth) -> Goal:
    """Return the newest of the target's saves that were hardly played."""
    made = [save for save in target.listing.saves if save.throwaway]
    if not made:
        raise NotFoundError(
            f"{target.berth.address} has no throwaway save: none was played for less than ten "
            "minutes.",
            advice=f"Begin a new game in {target.berth.edition.title}, save, and try again.",
        )
    newest = max(made, key=lambda save: save.stamp or 0)
    return Goal(slot=newest.slot, replaced=newest)


def _in_slot(saves: Sequence[Save], slot: int) -> Save | None:
    there = [save for save in saves if save.slot == slot]
    if len(there) > 1:
        names = ", ".join(save.title for save in there)
        raise ChoiceNeededError(
            f"Slot {slot} of the target is held by {len(there)} saves: {names}.",
            advice="Say which one is to be replaced by its name: …:NAME",
        )
    return there[0] if there else None
