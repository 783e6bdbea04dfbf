"""What every kind of box offers, and the values that pass in and out of it.

A box works on files by name; where those are is its caller's business. It has no
clock and no randomness: both are handed in as `Making`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import Any, NamedTuple, Protocol, runtime_checkable

from msgspec import Struct, field

from clever_ferry.certainty import Evidence
from clever_ferry.documents.form import Form
from clever_ferry.errors import DamagedError
from clever_ferry.layers import Chain
from clever_ferry.layouts import Layout
from clever_ferry.payload import Payload
from clever_ferry.tree import Files, Output

__all__ = ["Box", "BoxParts", "Choosy", "Contents", "Entry", "Making", "Put", "one_file"]


class Entry(Struct, frozen=True, gc=False):
    """One named thing in a box."""

    name: str
    size: int | None
    stamp: int | None
    payload: Payload
    files: tuple[str, ...]
    problem: str = ""
    """Why it can't be read, where that shows without reading it."""
    checked: str = ""
    """By what its bytes are checked whenever they are read to their end, if they are."""
    beside: tuple[str, ...] = ()
    """Entries of the box that are part of this one and have none of their own: they go with it."""
    says: Mapping[str, int | str] = MappingProxyType({})
    """What the box itself says of name fields and facts of the save that the entry is of."""


class Contents(Struct, frozen=True):
    """What a box holds; `state` is the box's own, for writing it again."""

    entries: tuple[Entry, ...]
    bound: Mapping[str, int | str] = field(default_factory=dict)
    state: Any = None
    own: tuple[str, ...] = ()
    """Files of the box itself, such as its index."""
    passed: tuple[str, ...] = ()
    """Folders that were not looked into, as nothing of a save is there."""
    problems: tuple[str, ...] = ()
    """What of it can't be read and hides entries whose names nobody knows, such as an archive."""
    inspect: Callable[[str], Evidence] | None = None
    """Where one of the box's `own` files can be verified as a whole: does that, by its path, and
    raises DamagedError where it is not so."""

    @property
    def files(self) -> tuple[str, ...]:
        """Every file that the box consists of."""
        return tuple(dict.fromkeys([path for e in self.entries for path in e.files] + [*self.own]))


class Put(NamedTuple):
    """An entry to put into a box, in place of one of that name where there is one."""

    name: str
    payload: Payload
    stamp: int
    says: Mapping[str, int | str] = MappingProxyType({})
    """The name fields and facts of the save that it is of."""


class Making(NamedTuple):
    """What a box can't know by itself: the time in ns, and new random bytes."""

    now: int
    random: Callable[[int], bytes]


class BoxParts(NamedTuple):
    """What a box may be made of; one that is made of more than layouts has `of(spec, parts)`."""

    layouts: Mapping[str, Layout]
    joined: Callable[[Iterable[str]], Chain]
    """The chain of the layers that have these names; raises DamagedError where one is not there."""
    form: Callable[[str], Form]
    """A document's form; raises KeyError where there is none."""


class Box(Protocol):
    """A kind of container, with its description built in."""

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """List what is in the box; raises DamagedError where that can't be told."""

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the files that change, in the order in which they are to be replaced.

        Each payload must be read to its end before the next output is asked for, as an
        index that comes last states what was read.
        """


@runtime_checkable
class Choosy(Protocol):
    """A box that can't hold entries of just any name."""

    def refuse(self, contents: Contents, name: str) -> None:
        """Raise RefusedError where it can't hold an entry of that name."""


def one_file(files: Files, path: str) -> Payload:
    """Return the file that a box is; raises DamagedError where it is missing."""
    if files.info(path) is None:
        raise DamagedError(
            f"{path} is missing.",
            advice="Start the game once in this edition, so that it makes it.",
        )
    return files.payload(path)
