"""What no crossing may do: take damaged saves, collide, or go where the target does not look."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from clever_ferry.cargo import Save
from clever_ferry.crossing.destinations import slots_told
from clever_ferry.crossing.plan import Move
from clever_ferry.errors import ChoiceNeededError, DamagedError, RefusedError, WrongUseError
from clever_ferry.finding.addresses import address_of
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.proving.stories import story_of
from clever_ferry.recipes.establishing import Examiner

__all__ = [
    "refuse_beyond_limit",
    "refuse_collisions",
    "refuse_damaged",
    "refuse_foreign_given",
    "refuse_same",
    "refuse_several",
]


def refuse_several(saves: Sequence[Save], source: OpenBerth, to: str) -> None:
    """Raise ChoiceNeededError where several saves would go to one place; the newest whole is named.

    Each is read to its end, the newest first, until one is whole: a server's last backups may be
    cut short.
    """
    if len(saves) < 2:
        return
    examiner = Examiner(
        source.berth.edition, source.contents, source.known, source.berth.files,
        source.listing.saves,
    )  # fmt: skip
    order = sorted(saves, key=lambda save: save.stamp or 0, reverse=True)
    lines, best = [], None
    for save in order:
        damage = save.problems
        if best is None and not damage:
            damage = examiner.examine(save).damage
            best = save if not damage else None
        facts = " · ".join(f"{fact.label} {fact.text}" for fact in save.facts[1:4] if fact.shown)
        told = f"damaged: {damage[0]}" if damage else facts
        lines.append(f"  {address_of(source.berth.address, save)}  {save.title}  {told}")
    raise ChoiceNeededError(
        f"{source.berth.address} has {len(saves)} saves, and one place is named for them.",
        details=("The newest first:", *lines),
        advice="The newest that reads whole: "
        f"cferry cross {address_of(source.berth.address, best)} {to}"
        if best is not None
        else "None of them reads whole: look for an older backup.",
    )


def refuse_damaged(saves: Sequence[Save], source: OpenBerth) -> None:
    """Refuse saves that are damaged or not whole, with what could go without them."""
    apart = source.contents.problems  # each hides its own saves, and the others are whole
    problems = [told for told in source.listing.problems if told not in apart]
    if problems:
        raise DamagedError(
            f"{source.berth.title} is not in order, so nothing is taken from it.",
            details=tuple(f"  {problem}" for problem in problems),
            advice=f"`cferry check {source.berth.address}` looks at every save.",
        )
    bad = [save for save in saves if save.problems]
    if not bad:
        return
    lines = [f"  {save.slot}  {save.title}: {p}" for save in bad for p in save.problems]
    good = ",".join(str(save.slot) for save in saves if not save.problems)
    raise DamagedError(
        "A save at the source is damaged or not whole, so nothing was carried."
        if len(bad) == 1
        else f"{len(bad)} saves at the source are damaged or not whole, so nothing was carried.",
        details=tuple(lines),
        advice=f"The others can go: choose them with {source.berth.address}:{good}, or say "
        "--whole-only."
        if good
        else "Look for an older copy of it, or load and save it once in its own game.",
    )


def refuse_foreign_given(given: Mapping[str, str], target: OpenBerth) -> None:
    """Refuse what the target has no place for, or what its fields do not take."""
    edition = target.berth.edition
    open_ones = (*edition.key_fields, *sorted(edition.berth_fields - target.berth.fields.keys()))
    for name, text in given.items():
        if name not in open_ones or name == "slot":
            every = (*open_ones, *sorted(edition.asked))
            known = ", ".join(field for field in every if field != "slot")
            raise WrongUseError(
                f"{edition.title} has no {name!r} to give.",
                details=(f"There is: {known}." if known else "It has none.",),
            )
        field = edition.fields[name]
        if field.write(field.parse(text)) is None:
            raise WrongUseError(f"--give {name}={text}: it takes {field.wants()}.")


def refuse_same(source: OpenBerth, target: OpenBerth, moves: Sequence[Move]) -> None:
    """Refuse to carry a save onto itself."""
    if source.berth.place != target.berth.place or not source.berth.writable:
        return
    for move in moves:
        if move.replaced is not None and move.replaced.fields == move.save.fields:
            raise WrongUseError(
                f"{move.save.title} would go onto itself.",
                advice=f"Name another one: {target.berth.address}:"
                f"{'free' if target.berth.edition.numbered else 'NEW NAME'}",
            )


def refuse_other_story(save: Save, there: Save, target: OpenBerth, *, fresh: bool = False) -> None:
    """Refuse to replace another story that merely has the name that a save would get.

    With `fresh`, nothing may be replaced. Whoever names what is to be replaced, may.
    """
    if fresh or story_of(save, there, target.berth.game) == "other":
        raise RefusedError(
            f"{target.berth.address} has a save of that name already: {there.title}"
            + ("." if fresh else ", of another story."),
            advice=f"Give it a name of its own: {target.berth.address}:NAME. To replace what is "
            f"there: {address_of(target.berth.address, there)}",
        )


def refuse_collisions(target: OpenBerth, moves: Sequence[Move]) -> None:
    """Refuse two saves that would become one."""
    seen: dict[str, Save] = {}
    for move in moves:
        for name in (*(item.put.name for item in move.encoded), *move.removes):
            other = seen.setdefault(target.berth.folded(name), move.save)
            if other is not move.save:
                raise RefusedError(
                    f"{other.title} and {move.save.title} would both become {name!r}.",
                    advice="Carry them one by one, to slots or names of their own.",
                )


def refuse_beyond_limit(target: OpenBerth, moves: Sequence[Move]) -> None:
    """Refuse slots that the target does not show, with those that are free."""
    most, edition = target.berth.edition.most_slots, target.berth.edition
    if most is None:
        return
    for move in moves:
        if edition.numbered and move.slot > most:
            raise RefusedError(
                f"{edition.title} shows only {most} slots; {move.save.title} would go to slot "
                f"{move.slot} and not be seen.",
                details=tuple(slots_told(target, most)),
                advice="Choose another slot after the second address.",
            )
    count = len(target.listing.saves) + sum(move.replaced is None for move in moves)
    if not edition.numbered and count > most:
        oldest = min(target.listing.saves, key=lambda save: save.stamp or 0, default=None)
        told = f"The oldest there is {oldest.title}." if oldest else ""
        raise RefusedError(
            f"{edition.title} shows only {most} saves; this would make {count}.",
            details=(told,) if told else (),
            advice="Remove one in the game, or carry onto one: name it after the second address.",
        )
