"""Cargo: saves in neutral form, with no edition's wrapping on them."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from types import MappingProxyType
from typing import Any, Literal, Protocol

from blake3 import blake3
from msgspec import Struct

from clever_ferry.payload import Payload
from clever_ferry.wording import in_words

__all__ = [
    "DIGEST_SIZE", "Comparison", "DigestedPayload", "Fact", "Piece", "Save", "digest_of",
    "is_number", "new_digest", "same_value",
]  # fmt: skip

DIGEST_SIZE = 32
"""Bytes of the BLAKE3 digests by which contents are told apart (`b3sum` gives the same)."""


def new_digest() -> blake3:
    """Return a running digest."""
    return blake3()


def digest_of(payload: Payload) -> str:
    """Read a payload to its end and return its digest in hex."""
    digested = DigestedPayload(payload)
    for _ in digested.chunks():
        pass
    return digested.digest or ""


class DigestedPayload(Struct):
    """A payload that knows its digest once it was read to the end, so that one read serves both."""

    inner: Payload
    digest: str | None = None

    @property
    def size(self) -> int | None:
        """Size in bytes, where known."""
        return self.inner.size

    def chunks(self) -> Iterator[bytes]:
        """Yield the bytes, and keep their digest at the end."""
        running = new_digest()
        for chunk in self.inner.chunks():
            running.update(chunk)
            yield chunk
        self.digest = running.hexdigest()


class Fact(Struct, frozen=True, gc=False, array_like=True):
    """Something a player knows a save by."""

    key: str
    label: str
    value: int | float | str | bool
    unit: str | None = None
    """What a number counts, as the recipe says: `s` is play time."""
    shown: bool = True
    """Whether a player is told it; else it only tells stories apart."""

    @property
    def text(self) -> str:
        """The value in a player's words, such as `12 h 05 min`."""
        return in_words(self.value, self.unit)


class Stated(Protocol):
    """What a fact says, wherever it was read."""

    @property
    def value(self) -> int | float | str | bool: ...
    @property
    def text(self) -> str: ...


class Comparison(Struct, frozen=True, gc=False):
    """How a fact may stand after a move to what it was before."""

    how: Literal["same", "not-less", "not-more", "within", "free"] = "same"
    within: float = 0
    """By how much a number may differ, where it may so."""

    @property
    def in_words(self) -> str:
        """What it may be after a move, as it is said to players."""
        match self.how:
            case "not-less":
                return "not less"
            case "not-more":
                return "not more"
            case "within":
                return f"within {self.within:g} of it"
            case "free":
                return "may differ"
        return "the same"

    def allows(self, before: Stated, after: Stated) -> bool:
        """Tell whether the fact may so stand after a move."""
        if self.how == "free" or same_value(before, after):
            return True
        first, then = before.value, after.value
        if self.how == "same" or not (is_number(first) and is_number(then)):
            return False
        grown: float = then - first  # type: ignore[operator]  # both are numbers
        if self.how == "within":
            return abs(grown) <= self.within
        return grown >= 0 if self.how == "not-less" else grown <= 0


def is_number(value: object) -> bool:
    """Tell whether a value is a number that can be reckoned with."""
    number = isinstance(value, int | float) and not isinstance(value, bool)
    return number and not (isinstance(value, float) and not math.isfinite(value))


def same_value(one: Stated, other: Stated) -> bool:
    """Tell whether two facts say the same; a number and a text do where they read alike."""
    kinds = {"text" if isinstance(fact.value, str) else is_number(fact.value)
             for fact in (one, other)}  # fmt: skip
    if kinds in ({"text"}, {True}):
        return one.value == other.value
    return one.text == other.text


class Piece(Struct, frozen=True, gc=False):
    """One part of a save by its role; `fields` tell pieces of one role apart (which player)."""

    role: str
    fields: Mapping[str, int | str]
    payload: Payload
    size: int | None
    """Size in bytes as it lies in its berth, wrapping included."""
    stamp: int | None
    """Last change, ns since 1970."""
    entry: str
    """Its name in its box."""
    files: tuple[str, ...]
    """The files of the berth that hold it."""
    problem: str = ""
    bound: Mapping[str, int | str] = MappingProxyType({})
    """What its wrapping says of name fields, such as its owner's account."""
    headers: Mapping[str, Mapping[str, Any]] = MappingProxyType({})
    """All that its wrapping's headers say, by layout."""
    old: bool = False
    """Whether it is an old copy that stands in for a file that is missing."""
    describes: str = ""
    """The role of the piece that it only describes, where it does: it is made anew, not carried."""
    wrapped: Payload | None = None
    """Its bytes as they lie in the berth, wrapping included."""
    locked: str = ""
    """Why its inside is not to be had though nothing is wrong with it: its key is not known."""
    claims: tuple[Any, ...] = ()
    """What it says of other pieces' bytes, as its layers understand it."""

    @property
    def key(self) -> tuple[str, tuple[tuple[str, int | str], ...]]:
        """Its role and fields: what it has in common with its like in another edition."""
        if len(self.fields) < 2:
            return self.role, (*self.fields.items(),)
        return self.role, tuple(sorted(self.fields.items()))

    @property
    def title(self) -> str:
        """Its role and what tells it apart, in words."""
        return " ".join((self.role, *map(str, self.fields.values())))


_HARDLY_PLAYED = 600
"""Seconds of play time below which a save is taken for a throwaway."""


class Save(Struct, frozen=True, gc=False):
    """One save: its pieces, the slot (counted from 1), its name's fields, and its facts."""

    slot: int
    fields: Mapping[str, int | str]
    pieces: tuple[Piece, ...]
    facts: tuple[Fact, ...] = ()
    problems: tuple[str, ...] = ()
    """What makes it incomplete or damaged."""
    notes: tuple[str, ...] = ()
    """What could not be told about it, though nothing is wrong with it."""
    packs: tuple[str, ...] = ()
    """The add-ons that it uses."""
    generation: int | None = None
    """Which of several generations of the save it is, where the edition keeps several."""

    @property
    def stamp(self) -> int | None:
        """The newest piece's last change, ns since 1970."""
        stamps = [piece.stamp for piece in self.pieces if piece.stamp is not None]
        return max(stamps, default=None)

    @property
    def size(self) -> int:
        """Bytes of all pieces, as they lie in the berth."""
        return sum(piece.size or 0 for piece in self.pieces)

    @property
    def files(self) -> tuple[str, ...]:
        """The files of the berth that hold it."""
        return tuple(dict.fromkeys(path for piece in self.pieces for path in piece.files))

    @property
    def roles(self) -> tuple[str, ...]:
        """The roles of its pieces."""
        return tuple([piece.role for piece in self.pieces])

    @property
    def old(self) -> tuple[str, ...]:
        """The entries that are old copies, in the place of files that are missing."""
        return tuple(piece.entry for piece in self.pieces if piece.old)

    @property
    def throwaway(self) -> bool:
        """Whether it was hardly played: a save that was made to be replaced, probably."""
        played = [fact.value for fact in self.facts if fact.unit == "s"]
        return bool(played) and all(
            isinstance(value, int | float) and value < _HARDLY_PLAYED for value in played
        )

    @property
    def shown_facts(self) -> tuple[Fact, ...]:
        """The facts that a player is told beside the name."""
        return tuple(fact for fact in self.facts if fact.shown and fact.key != "name")

    def fact(self, key: str) -> Fact | None:
        """Return one fact, or None where it is not known."""
        return next((fact for fact in self.facts if fact.key == key), None)

    @property
    def title(self) -> str:
        """What a player would call it: its name, or its slot's number."""
        name = self.fact("name")
        if name is not None:
            return name.text
        if "slot" in self.fields:
            return f"slot {self.slot}"
        told = ", ".join(str(value) for value in self.fields.values())
        return told or "the only save"
