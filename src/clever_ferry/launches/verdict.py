"""Whether a game goes on from what was carried, told by what it has made of the save.

The save as the target read it back is held against the one that stands in its place now: their
contents, then the facts that only grow in play, then whether both are of one story.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Literal, NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.cargo import Fact, Save, digest_of, is_number, same_value
from clever_ferry.errors import FerryError
from clever_ferry.keeping.logbook import Arrived
from clever_ferry.proving.contents import content_of
from clever_ferry.proving.stories import story_of
from clever_ferry.recipes import Edition, Game, Listing

__all__ = ["FactNow", "Launch", "Word", "judge_launch", "place_of"]

Word = Literal["goes on", "not loaded", "started anew", "old save back", "gone", "unclear"]
"""`not loaded`: nothing was written where it lies, so nothing shows that it was. `old save back`:
what stood there before the crossing stands there again."""


HALF = "it can't be read whole now"


class FactNow(NamedTuple):
    """A fact as it was carried and as it is; None where it is not known."""

    label: str
    carried: str | None
    now: str | None


class Launch(Struct, frozen=True):
    """What a game has made of one carried save."""

    word: Word
    why: str
    """In a sentence, by what that was told."""
    title: str
    slot: int
    """Where it was carried to."""
    facts: tuple[FactNow, ...] = ()
    now: Save | None = None
    """The save that is meant: in its place or, where that goes on, in another."""
    beside: tuple[Save, ...] = ()
    """Saves that were written since, in other places."""

    @property
    def half(self) -> bool:
        """Whether what stands there now can't be read whole."""
        return self.why.startswith(HALF)


def judge_launch(
    arrived: Arrived, since: int, listing: Listing, game: Game, edition: Edition,
    before: Callable[[], Save | None],
) -> Launch:  # fmt: skip
    """Say what has become of a save that was carried.

    `since` is when the crossing ended (ns); `before` returns the save that it replaced, if any.
    Pieces of what stands there now are read to their end.
    """
    carried = Save(arrived.slot, arrived.fields, (), arrived.facts)
    found = place_of(arrived, listing, edition)
    others = tuple(
        one for one in listing.saves if one is not found and one.stamp and one.stamp > since
    )
    word, why, now = _judged(arrived, carried, found, game, before)
    if word in ("not loaded", "gone"):
        further = [one for one in others if _goes_on(carried, one, game)]
        if further:
            now = max(further, key=lambda one: one.stamp or 0)
            word = "goes on"
            why = f"it goes on in another place: {_grown(carried, now, game)}"
        elif others:
            names = ", ".join(f"{one.title} ({_placed(one, edition)})" for one in others[:3])
            why += f"; written since, beside it: {names}"
    facts = tuple(_facts(game, carried, now))
    return Launch(word, why, carried.title, arrived.slot, facts, now, others)


def _placed(save: Save, edition: Edition) -> str:
    return f"slot {edition.slot_text(save.slot)}" if edition.numbered else f"no. {save.slot}"


def place_of(arrived: Arrived, listing: Listing, edition: Edition) -> Save | None:
    """Return the save that stands where one was carried to, by its name or by its slot's number."""

    def own(fields: object) -> list[object]:
        return [fields.get(name) for name in edition.key_fields]  # type: ignore[attr-defined]

    for save in listing.saves:
        if own(save.fields) == own(arrived.fields):
            return save
    if edition.numbered:
        return next((save for save in listing.saves if save.slot == arrived.slot), None)
    return None


def _judged(
    arrived: Arrived, carried: Save, found: Save | None, game: Game,
    before: Callable[[], Save | None],
) -> tuple[Word, str, Save | None]:  # fmt: skip
    """Return what has become of the save in its own place, why, and that save."""
    if found is None:
        return "gone", "nothing is left of it in its place", None
    content = content_of(found)
    if found.problems or not content:
        return "unclear", f"{HALF}: {_fault(found)}", found
    if content == arrived.content:
        return "not loaded", "it is to the byte what was carried: no play was saved in it", found
    old = before()
    if old is not None and content_of(old) == content:
        return "old save back", "to the byte what stood there before the crossing", found
    ups, downs = _moved(carried, found, game)
    story = story_of(_renamed(carried, found), found, game)
    if story != "same":  # with another name, only what is surely the same story is
        story = story_of(carried, found, game)
    if old is not None and downs and _alike(old, found):
        return "old save back", "by all its facts what stood there before the crossing", found
    if story == "other":
        return "started anew", f"it is another story: {_unlike(carried, found, game)}", found
    if downs and not ups:
        return "started anew", f"it fell back: {', '.join(downs)}", found
    if ups and not downs:
        return "goes on", _grown(carried, found, game), found
    if ups:
        return "unclear", f"{', '.join(ups)}, but {', '.join(downs)}", found
    told = "nothing in it says how far it is" if not _both(carried, found, game) else (
        "it was written, and no fact says that it was played further: play on a little and save"
    )  # fmt: skip
    return "unclear", told, found


def _renamed(carried: Save, now: Save) -> Save:
    """Return what was carried as if it had the name of today: players do rename."""
    facts = tuple(fact for fact in carried.facts if fact.key != "name")
    name = now.fact("name")
    return replace(carried, facts=facts if name is None else (name, *facts))


def _fault(save: Save) -> str:
    """Return what is wrong with a save that can't be read whole."""
    for problem in save.problems:
        return problem
    for piece in save.pieces:
        try:
            digest_of(piece.payload)
        except FerryError as error:
            return error.what.rstrip(".")
        except OSError as error:
            return f"the {piece.title} can't be read ({error.strerror or error})"
    return "a piece of it can't be read"


def _goes_on(carried: Save, save: Save, game: Game) -> bool:
    ups, downs = _moved(carried, save, game)
    same = story_of(carried, save, game) == "same"
    return same and bool(ups) and not downs and not save.problems


def _both(one: Save, other: Save, game: Game) -> list[tuple[Fact, Fact]]:
    """Return the facts that only grow in play, as both saves have them, as numbers."""
    grows = game.facts_that("grows")
    pairs = []
    for fact in one.facts:
        then = other.fact(fact.key)
        if (
            then is not None
            and (fact.key in grows or fact.unit == "s")
            and is_number(fact.value)
            and is_number(then.value)
        ):
            pairs.append((fact, then))
    return pairs


def _moved(one: Save, other: Save, game: Game) -> tuple[list[str], list[str]]:
    """Return in words which of these have grown, and which have fallen."""
    ups, downs = [], []
    for before, now in _both(one, other, game):
        grown = float(now.value) - float(before.value)
        told = f"{before.label} was {before.text} and is {now.text}"
        if grown > 0:
            ups.append(told)
        elif grown < 0:
            downs.append(told)
    return ups, downs


def _grown(carried: Save, now: Save, game: Game) -> str:
    return ", ".join(_moved(carried, now, game)[0])


def _alike(one: Save, other: Save) -> bool:
    """Tell whether all that is told of two saves is the same, and that is something."""
    keys = {fact.key for fact in (*one.facts, *other.facts)}
    return bool(keys) and all(_same(one.fact(key), other.fact(key)) for key in keys)


def _same(one: Fact | None, other: Fact | None) -> bool:
    return one is not None and other is not None and same_value(one, other)


def _unlike(carried: Save, now: Save, game: Game) -> str:
    keys = ("name", *game.facts_that("is"), *game.facts_that("stays"))
    for key in keys:
        one, other = carried.fact(key), now.fact(key)
        if one is not None and other is not None and not same_value(one, other):
            return f"{one.label} was {one.text} and is {other.text}"
    return f"{carried.title} was carried, and {now.title} is there"


def _facts(game: Game, carried: Save, now: Save | None) -> Iterator[FactNow]:
    keys: Sequence[str] = tuple(game.fact_labels)
    for key in keys:
        one, other = carried.fact(key), now.fact(key) if now is not None else None
        if (one is not None and one.shown) or (other is not None and other.shown):
            texts = [fact.text if fact is not None else None for fact in (one, other)]
            yield FactNow(game.fact_labels[key], *texts)
