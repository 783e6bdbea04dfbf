"""What a document is made of: values and what holds them, and where in the bytes each stands."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from clever_ferry.documents.places import COUNT, EVERY, Choice, Step, text_of

__all__ = ["FRESH", "Node", "Single", "nodes_at", "nowhere"]

Single = str | int | float | bool | None


class Node(Struct, gc=False):
    """A value, or what has others inside; all positions are bytes from the document's start."""

    start: int
    end: int
    """Where its own spelling stands: without its name, and without what is around it."""
    value: Single = None
    inner: dict[str, Node] | list[Node] | None = None
    """What is in it, by name or by number; None for a value."""
    first: int = -1
    last: int = -1
    """Where it stands with its name and all that would go with it."""
    tags: tuple[str, ...] = ()
    """The names in it, where it is told by these alone, as it goes by."""
    bare: bool = False
    """Whether a value is taken just as it stands, with its blanks and quotes."""
    path: tuple[str | int, ...] = ()
    """Where it stands, by names and numbers, in a form that is written anew from its values."""

    @property
    def names(self) -> tuple[str, ...]:
        """The names of what is in it, each once, in order."""
        return tuple(self.inner) if isinstance(self.inner, dict) and self.inner else self.tags

    @property
    def within(self) -> Sequence[Node]:
        """What is in it, in order."""
        if self.inner is None:
            return ()
        return self.inner if isinstance(self.inner, list) else tuple(self.inner.values())


FRESH = Node(0, 0)  # free: of what is not there yet, nothing but that it may be written is asked
"""What stands for a value that is to be added."""


def nowhere(value: Single, path: tuple[str | int, ...] = (), *, bare: bool = False) -> Node:
    """Return a value that stands at no bytes of its own."""
    return Node(-1, -1, value, path=path, bare=bare)  # free: whatever is below zero is no place


def nodes_at(top: Node, steps: Sequence[Step]) -> list[Node]:
    """Return the nodes that a place leads to, in order.

    `#` leads to a node of no bytes, whose value is the number.
    """
    found = [top]
    for step in steps:
        found = [inner for one in found for inner in _within(one, step)]
    return found


def _within(node: Node, step: Step) -> Iterator[Node]:
    inner = node.inner
    if inner is None:
        return
    if step is EVERY:
        yield from node.within
    elif step is COUNT:
        if isinstance(inner, list):
            yield Node(node.end, node.end, len(inner))
    elif isinstance(step, Choice):
        yield from (one for one in node.within if _stands_in(one, step))
    elif isinstance(step, str):
        if isinstance(inner, dict):
            if step in inner:
                yield inner[step]
        elif step.isdecimal() and int(step) < len(inner):
            yield inner[int(step)]


def _stands_in(node: Node, choice: Choice) -> bool:
    found = nodes_at(node, choice.steps)
    return len(found) == 1 and found[0].inner is None and text_of(found[0].value) == choice.value
