"""Addresses of saves, `GAME/EDITION[/ACCOUNT][@HARBOUR][:SLOT]`, and the choice of slots."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from msgspec import Struct

from clever_ferry.cargo import Save
from clever_ferry.errors import ChoiceNeededError, UnknownNameError, WrongUseError

__all__ = [
    "Address",
    "Slots",
    "address_of",
    "names_of",
    "parse_address",
    "parse_slots",
    "select",
    "slot_text",
]

_ADDRESS = re.compile(r"([A-Za-z0-9-]+)(?:/([A-Za-z0-9-]+)(?:/([^@:/\\]+))?)?(?=[@:]|$)")
_SLOT_RANGE = re.compile(r"([0-9]{1,9})(?:-([0-9]{1,9}))?")
_MOST_SLOTS = 10_000


class Address(Struct, frozen=True):
    """What a user wrote: a game, its edition, whose, a harbour (a name or a folder), and slots."""

    game: str
    edition: str | None = None
    harbour: str | None = None
    slots: str | None = None
    account: str | None = None

    def __str__(self) -> str:
        text = self.game
        text += f"/{self.edition}" if self.edition else ""
        text += f"/{self.account}" if self.account else ""
        text += f"@{self.harbour}" if self.harbour else ""
        return text + (f":{self.slots}" if self.slots else "")


def parse_address(text: str) -> Address:
    """Read an address; raises WrongUseError where it is none.

    A harbour may be a folder; a slot never holds a slash, so a drive's colon is no slot's.

    >>> parse_address("openttd/server@C:/Games/server:My Town").harbour
    'C:/Games/server'
    """
    found = _ADDRESS.match(text)
    if not found:
        raise WrongUseError(
            f"{text!r} is no address of saves.",
            advice="An address looks like saltglass/depot or saltglass/depot:2 (GAME/EDITION, then "
            ":SLOT if you want only some saves; /ACCOUNT before that where several have some).",
        )
    game, edition = found.group(1).lower(), found.group(2)
    rest = text[found.end() :]
    harbour = slots = None
    if rest.startswith("@"):
        rest = rest[1:]
        before, colon, after = rest.rpartition(":")
        if colon and not {"/", "\\"} & set(after):
            harbour, slots = before, after
        else:
            harbour = rest
    elif rest:
        slots = rest[1:]
    if harbour == "" or slots == "":
        missing = "a harbour after '@'" if harbour == "" else "a slot after ':'"
        raise WrongUseError(f"{text!r} lacks {missing}.")
    return Address(game, edition.lower() if edition else None, harbour, slots, found.group(3))


class Slots(Struct, frozen=True):
    """A choice of slots: numbers, or a name as a player says it."""

    text: str
    numbers: tuple[int, ...]

    @property
    def named(self) -> bool:
        """Whether it is a name and not numbers."""
        return not self.numbers


def parse_slots(text: str) -> Slots:
    """Read `2`, `2,5`, `1-3` or a name; raises WrongUseError where a range can't be meant.

    >>> parse_slots("1-3,5").numbers
    (1, 2, 3, 5)
    """
    numbers: list[int] = []
    for part in text.split(","):
        found = _SLOT_RANGE.fullmatch(part.strip())
        if not found:
            return Slots(text, ())
        first, last = int(found.group(1)), int(found.group(2) or found.group(1))
        if first < 1 or last < first or last - first >= _MOST_SLOTS:
            raise WrongUseError(
                f"{part.strip()!r} is no choice of slots: slots count from 1, "
                "and a range goes from the smaller to the larger."
            )
        numbers.extend(range(first, last + 1))
    if len(set(numbers)) != len(numbers):
        raise WrongUseError(f"{text!r} names a slot twice.")
    return Slots(text, tuple(numbers))


def select(
    saves: Sequence[Save],
    text: str | None,
    where: str,
    by_number: Callable[[str], str] = lambda text: text,
) -> list[Save]:
    """Return the chosen saves, all where nothing is chosen.

    `by_number` gives the numbers of slots that are shown otherwise.

    Raises UnknownNameError for a slot that is not there, with those that are, and
    ChoiceNeededError where a name or number fits several saves.
    """
    if text is None:
        return list(saves)
    by_name = [save for save in saves if text.casefold() in names_of(save)]
    if len(by_name) == 1:
        return by_name
    slots = parse_slots(by_number(text))
    if len(by_name) > 1:
        raise _several(text, where, by_name)
    if slots.named:
        from difflib import get_close_matches

        known = {name: save.title for save in saves for name in names_of(save)}
        near = get_close_matches(text.casefold(), known, 3, 0.4)
        raise _no_slot(f"No save named {text!r} is", where, saves, [known[name] for name in near])
    chosen = []
    for number in slots.numbers:
        there = [save for save in saves if save.slot == number]
        if not there:
            told = text.strip() if len(slots.numbers) == 1 else number
            raise _no_slot(f"Slot {told} is not", where, saves, [])
        if len(there) > 1:
            raise _several(str(number), where, there)
        chosen.append(there[0])
    return chosen


def slot_text(save: Save) -> str:
    """Return what stands for a save behind `:` in an address: its slot, else its name."""
    if isinstance(save.fields.get("slot"), int):
        return str(save.slot)
    name = save.fact("name")
    own = [str(name.value)] if name is not None else _own_names(save)
    return own[0] if own else str(save.slot)


def address_of(where: str, save: Save) -> str:
    """Return a save's address at a berth's, quoted for a shell where that needs it."""
    text = f"{where}:{slot_text(save)}"
    return text if re.fullmatch(r"[\w@%+=:,./\\-]+", text) else f'"{text}"'


def names_of(save: Save) -> set[str]:
    """Return what a save can be called by, in folded case: its name fact and its name's fields."""
    name = save.fact("name")
    names = {str(name.value).casefold()} if name else set()
    return names.union(map(str.casefold, _own_names(save)))


def _own_names(save: Save) -> list[str]:
    """Return the texts in its name; where a number is all that it has, that number."""
    texts = [value for value in save.fields.values() if isinstance(value, str)]
    alone = texts or "slot" in save.fields or len(save.fields) != 1
    return texts if alone else [str(value) for value in save.fields.values()]


def _no_slot(what: str, where: str, saves: Sequence[Save], near: Sequence[str]) -> UnknownNameError:
    there = [f"  {save.slot}  {save.title}" for save in saves[:20]]
    more = [f"  … and {len(saves) - 20} more"] if len(saves) > 20 else []
    hint = (f"Did you mean {' or '.join(dict.fromkeys(near))}?",) if near else ()
    return UnknownNameError(
        f"{what} in {where}.",
        details=(*hint, "There are:" if saves else "There are no saves.", *there, *more),
    )


def _several(text: str, where: str, saves: Sequence[Save]) -> ChoiceNeededError:
    told = [(save, ", ".join(f"{fact.label} {fact.text}" for fact in save.shown_facts))
            for save in saves]  # fmt: skip
    lines = [f"  {save.slot}  {save.title}  ({facts})" for save, facts in told]
    apart = len({save.title for save in saves}) == len(saves)
    return ChoiceNeededError(
        f"{text!r} fits several saves in {where}.",
        details=tuple(lines),
        advice=f"Say which one by its slot's number{', or by its full name' if apart else ''}.",
    )
