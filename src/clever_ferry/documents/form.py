"""What every form of document offers, and what is to be changed in one."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple, Protocol, runtime_checkable

from clever_ferry.documents.nodes import Node, Single
from clever_ferry.documents.places import Step
from clever_ferry.errors import DamagedError
from clever_ferry.payload import Payload, read_all

__all__ = [
    "Change",
    "First",
    "Form",
    "Insert",
    "Joining",
    "Passing",
    "Put",
    "Remove",
    "Rewriting",
    "Splice",
    "spliced",
    "whole_text",
]


class Splice(NamedTuple):
    """Bytes that come in the place of those from `start` to `end`."""

    start: int
    end: int
    new: bytes


class Put(NamedTuple):
    """Another value at every place of these."""

    place: str
    value: Single


class Remove(NamedTuple):
    """Take away what stands at every place of these, with its name."""

    place: str


class Insert(NamedTuple):
    """A new value, as the last in what stands at the place before the last step.

    Bytes are what the form itself would have there: a list, an element, the lines of a section.
    """

    place: str
    value: Single | bytes


Change = Put | Remove | Insert


class Form(Protocol):
    """One form of document."""

    title: str
    """What it is called where it can't be read."""
    several: bool
    """Whether one name can stand several times."""

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return for each place what stands there, in order.

        Raises DamagedError where the bytes are no such document; all of it is looked at.
        """

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Return how a value is spelled in the place of `old`, in its manner.

        Raises RefusedError where the form can't hold it.
        """

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Return what takes the nodes away that stand at a place."""

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Return what adds a value at a place, as the last in what is `above`.

        It is spelled like its neighbours; the last of the steps is its name.

        Raises RefusedError where nothing can be added.
        """


class First(NamedTuple):
    """The first of what stands at a place."""

    nodes: list[Node]
    every: int
    """How many stand there in all."""


@runtime_checkable
class Passing(Protocol):
    """A form that is read as it goes by, so that of very many only some need be kept."""

    def first(self, source: Payload, places: Sequence[Sequence[Step]], most: int) -> list[First]:
        """Return the first that stand at each place, `most` of them at the most."""


@runtime_checkable
class Joining(Protocol):
    """A form to which more than single values can be added."""

    def join(self, source: Payload, above: Node, new: Sequence[tuple[str, bytes]]) -> Splice:
        """Return what adds what is spelled already, with its names, as `insert` adds a value."""


@runtime_checkable
class Rewriting(Protocol):
    """A form whose bytes are made anew from its values, as much in them follows from others."""

    checks: tuple[str, ...]
    """By what reading it verifies all of its bytes."""

    def blank(self, node: Node) -> Single:
        """Return the value of a node's kind with nothing in it."""

    def rewrite(self, source: Payload, values: Sequence[tuple[Node, Single]]) -> Payload:
        """Return the document with other values at nodes of it; raises RefusedError."""


def whole_text(source: Payload, most: int, title: str) -> bytes:
    """Return a document that must be read whole; raises DamagedError where it is no UTF-8."""
    raw = read_all(source, limit=most, what=f"The {title}")
    try:
        raw.decode()
    except UnicodeDecodeError as error:
        raise DamagedError(f"This is no {title} that can be read: {error}.") from None
    return raw


def spliced(source: Payload, splices: Sequence[Splice]) -> Iterator[bytes]:
    """Yield a document's bytes with some of them replaced; all others are as they were.

    Raises ValueError where two of the splices concern the same bytes.
    """
    every = sorted(splices, key=lambda one: (one.start, one.end))
    if any(one.end > other.start for one, other in pairwise(every)):
        raise ValueError("two changes concern the same bytes")
    waiting = deque(every)
    at = done = 0
    for chunk in source.chunks():
        end = at + len(chunk)
        done = max(done, at)
        while waiting and waiting[0].start <= end:
            splice = waiting.popleft()
            yield chunk[done - at : splice.start - at]
            yield splice.new
            done = splice.end
        yield chunk[max(0, done - at) :]
        at = end
    yield from (one.new for one in waiting)
