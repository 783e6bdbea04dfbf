"""What is known of the place that bytes are unwrapped from or wrapped for."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any, NamedTuple

from msgspec import Struct, field

from clever_ferry.naming import Value
from clever_ferry.payload import Payload

__all__ = ["UNKNOWN", "Arrived", "Known", "Writing", "Written"]


class Written(NamedTuple):
    """A file that is written, for others that speak of it."""

    name: str
    """Its path at the target."""
    was: str
    """Its path where it comes from."""
    stage: Callable[[str], Payload]
    """Gives its bytes at a named stage of its wrapping."""


class Arrived(NamedTuple):
    """A field of a header, and where its value came from."""

    layout: str
    field: str
    value: Any
    how: str
    """As in a layer's `on_arrival`: kept, adopted, made, given."""
    is_time: bool = False
    """Whether it is a time, in ns since 1970; None for none."""


class Writing(Struct, frozen=True):
    """What is known only while a save is written."""

    now: int
    """The time of it, in ns since 1970."""
    facts: Mapping[str, Value] = field(default_factory=dict)
    """The facts of the save that is written."""
    stage: Callable[[str, str], Payload] | None = None
    """Gives the bytes of another of its pieces, by its role, at a named stage of its wrapping."""
    pieces: Callable[[Collection[str]], Sequence[Written]] = lambda roles: ()
    """Gives the files of some roles that are written with it."""
    before: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    """What the same piece of the save that is replaced has said."""
    own: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    """What the piece has said where it comes from."""
    random: Callable[[str, int], bytes] | None = None
    """Gives so many random bytes for a field of a header, always the same for it."""
    said: dict[str, dict[str, Any]] = field(default_factory=dict)
    """What its headers say at last, by layout; they put it there."""
    arrived: list[Arrived] = field(default_factory=list)
    """Where headers' fields came from that a recipe says that of; they put it there."""


class Known(Struct, frozen=True):
    """Three kinds of names, none of which can stand for another's, and what is being written."""

    fields: Mapping[str, Value] = field(default_factory=dict)
    """Name fields, such as the account and the slot: headers repeat them."""
    stated: Mapping[str, str] = field(default_factory=dict)
    """What only the user can state, such as a key."""
    folders: Mapping[str, str] = field(default_factory=dict)
    """Known folders' paths by name, as programs at that place spell them."""
    writing: Writing | None = None
    """The save that is being written, where one is."""

    @property
    def values(self) -> Mapping[str, Value]:
        """What headers can repeat: the name fields, and the facts of the save that is written."""
        return {**self.writing.facts, **self.fields} if self.writing is not None else self.fields

    def of(self, *fields: Mapping[str, Value]) -> Known:
        """Return the same with further name fields, of which the last count."""
        named = dict(self.fields)
        for more in fields:
            named.update(more)
        return Known(named, self.stated, self.folders, self.writing)


UNKNOWN = Known()
"""A place of which nothing is known."""
