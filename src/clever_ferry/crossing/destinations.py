"""Goals: into which slot, or onto which save of the target, each save is to go."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from clever_ferry.cargo import Save
from clever_ferry.errors import ChoiceNeededError, NotFoundError, RefusedError, WrongUseError
from clever_ferry.finding.addresses import address_of, names_of, parse_slots, select
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.proving.relating import relate

__all__ = ["FREE", "THROWAWAY", "Destination", "destinations_of", "names_one", "slots_told"]

THROWAWAY = "throwaway"
"""Stands for a slot: that of the target's newest save that was hardly played."""
FREE = ("free", "new")
"""Stand for slots of the target in which nothing is."""


@dataclass(frozen=True)
class Destination:
    """Where a save is to go: a slot, a save that it replaces, a name; what is not set is open."""

    slot: int | None = None
    replaced: Save | None = None
    name: str | None = None
    already: bool = False
    """Whether the target has this very progress, so that it need not go."""
    fresh: bool = False
    """Whether it must not replace anything."""


def destinations_of(
    saves: Sequence[Save], target: OpenBerth, slots: str | None
) -> list[Destination]:
    """Return where each save is to go, as `slots` says; raises what stands in the way."""
    edition, there = target.berth.edition, target.listing.saves
    if slots is None:
        return _by_story(saves, target)
    named = [save for save in there if slots.casefold() in names_of(save)]
    if not named and slots.casefold() == THROWAWAY and len(saves) == 1:
        return [_onto_throwaway(target)]
    if not named and slots.casefold() in FREE:
        return _free(saves, target)
    wanted = parse_slots(slots if named else edition.slots_by_number(slots))
    if named or wanted.named:
        if len(saves) != 1:
            raise WrongUseError(
                f"{len(saves)} saves can't all become {slots!r}.",
                advice="Choose one save with :SLOT after the first address.",
            )
        if named:
            one = select(there, slots, target.berth.address)[0]
            return [Destination(slot=one.slot, replaced=one)]
        if edition.numbered or len(edition.key_fields) != 1:
            select(there, slots, target.berth.address)  # tells which there are
        return [Destination(name=slots)]
    listed = {save.slot for save in there}
    if edition.named_by_number and len(saves) == 1 and not listed.intersection(wanted.numbers):
        return [Destination(name=slots)]
    if not edition.numbered:
        shown = [f"  {address_of(target.berth.address, save)}" for save in there[:10]]
        raise WrongUseError(
            f"Saves of {edition.title} have no slots, so {slots} names none: its number in a list "
            "changes when another save comes or goes.",
            details=("There are:", *shown) if shown else ("There are no saves yet.",),
            advice="Name one of them to replace it, or say :new to put it beside them.",
        )
    if len(wanted.numbers) != len(saves):
        first = wanted.numbers[0]
        raise WrongUseError(
            f"Saves to carry: {len(saves)}. Slots that are named: {len(wanted.numbers)} ({slots}).",
            advice=f"Name as many slots, such as :{first}-{first + len(saves) - 1}, or say :free.",
        )
    return [Destination(slot=slot, replaced=_in_slot(there, slot)) for slot in wanted.numbers]


def names_one(slots: str | None, target: OpenBerth) -> bool:
    """Tell whether `slots` names one place of the target, and not as many as are needed."""
    if slots is None or slots.casefold() in FREE:
        return False
    if slots.casefold() == THROWAWAY:
        return True
    wanted = parse_slots(target.berth.edition.slots_by_number(slots))
    return bool(wanted.named) or len(wanted.numbers) == 1


def _by_story(saves: Sequence[Save], target: OpenBerth) -> list[Destination]:
    """Put each save onto its own story where that is behind there, else where nothing is.

    What the target has just so stays; another story is never replaced unless it was named.
    """
    edition, game = target.berth.edition, target.berth.game
    related = {
        id(one.first): one
        for one in relate(saves, target.listing.saves, game)
        if one.second is not None
    }
    taken = {save.slot for save in target.listing.saves}
    wanted = [save.slot for save in saves]
    destinations = []
    for save in saves:
        one = related.get(id(save))
        like, how = (one.second, one.relation) if one is not None else (None, None)
        if like is not None and how == "the same":
            destinations.append(Destination(already=True, replaced=like, slot=like.slot))
        elif not edition.numbered:
            destinations.append(Destination())
        elif like is not None and how == "newer":
            destinations.append(Destination(slot=like.slot, replaced=like))
        else:
            own = save.slot if save.slot not in taken and _shown(save.slot, target) else 0
            slot = own or _next_free(target, taken | set(wanted))
            taken.add(slot)
            destinations.append(Destination(slot=slot))
    return destinations


def _free(saves: Sequence[Save], target: OpenBerth) -> list[Destination]:
    if not target.berth.edition.numbered:
        return [Destination(fresh=True) for _ in saves]
    taken = {save.slot for save in target.listing.saves}
    destinations = []
    for _ in saves:
        destinations.append(Destination(slot=_next_free(target, taken)))
        taken.add(destinations[-1].slot or 0)
    return destinations


def _shown(slot: int, target: OpenBerth) -> bool:
    """Tell whether a slot's number can be written there, and its game shows it."""
    edition = target.berth.edition
    can_write = edition.fields["slot"].write(slot) is not None
    return can_write and slot <= (edition.most_slots or slot)


def _next_free(target: OpenBerth, taken: Collection[int]) -> int:
    """Return the first slot that is not among those taken; raises RefusedError where none is."""
    for slot in range(1, len(taken) + 2):
        if slot not in taken:
            if _shown(slot, target):
                return slot
            break
    raise RefusedError(
        f"{target.berth.edition.title} has no free slot for one of the saves.",
        details=tuple(slots_told(target, target.berth.edition.most_slots or len(taken))),
        advice="Name the slot that is to be replaced after the second address, or delete one in "
        "the game.",
        in_game="there",
    )


def slots_told(target: OpenBerth, most: int) -> list[str]:
    """Return which of a target's first slots are free, or what could be replaced."""
    there = [save for save in target.listing.saves if save.slot <= most]
    taken = {save.slot for save in there}
    free = [slot for slot in range(1, most + 1) if slot not in taken and _shown(slot, target)]
    shown = ", ".join(map(str, free[:20])) + (" …" if len(free) > 20 else "")
    lines = [f"Free slots: {shown or 'none'}."]
    if not free:
        tries = [save for save in there if save.throwaway]
        oldest = sorted(there, key=lambda save: save.stamp or 0)
        lines += [
            f"Could be replaced (:{save.slot} with --replace): {save.title}, "
            f"{'a throwaway' if save.throwaway else 'the oldest'}"
            for save in tries[:3] or oldest[:1]
        ]
    return lines


def _onto_throwaway(target: OpenBerth) -> Destination:
    """Return the newest of the target's saves that were hardly played."""
    made = [save for save in target.listing.saves if save.throwaway]
    if not made:
        raise NotFoundError(
            f"{target.berth.address} has no throwaway save: none was played for less than ten "
            "minutes.",
            advice=f"Begin a new game in {target.berth.edition.title}, save, and try again.",
            in_game="there",
        )
    newest = max(made, key=lambda save: save.stamp or 0)
    return Destination(slot=newest.slot, replaced=newest)


def _in_slot(saves: Sequence[Save], slot: int) -> Save | None:
    there = [save for save in saves if save.slot == slot]
    if len(there) > 1:
        names = ", ".join(save.title for save in there)
        raise ChoiceNeededError(
            f"Slot {slot} of the target is held by {len(there)} saves: {names}.",
            advice="Say which one is to be replaced by its name: …:NAME",
        )
    return there[0] if there else None
