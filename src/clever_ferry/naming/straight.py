"""A quick way to read names by patterns in which each field's end is plain to see.

Most patterns are so: a field has a fixed width, or ends at a character that it can't hold, or is
the only one of open width before a tail of fixed width. Then there is one way at the most, and
no ways need be counted. `Pattern.match` counts them for all other patterns.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Generic, Protocol, TypeVar

from clever_ferry.naming.fields import ChoiceField, FieldSpec

__all__ = ["Straight", "straight"]


class _Named(Protocol):
    """A field's place in a pattern."""

    @property
    def field(self) -> FieldSpec: ...


_S = TypeVar("_S", bound=_Named)


@dataclass
class _Step(Generic[_S]):
    """One token: a literal, or a field and how its end is told."""

    literal: str = ""
    slot: _S | None = None
    stop: str = ""
    """The character that the field ends at; where there is none, `tail` tells."""
    tail: int = 0
    """Characters after the field, where it takes all but these."""
    fewest: int = 0
    most: int = 0
    good: set[str] = field(default_factory=set)
    """Characters that the field is known to take."""


@dataclass(frozen=True)
class Straight(Generic[_S]):
    """A pattern's steps, in order."""

    steps: tuple[_Step[_S], ...]
    folds: bool
    """Whether it also serves where upper and lower case are the same."""

    def cut(self, name: str, fold: bool) -> list[tuple[_S, str]] | None:
        """Return each field's characters, or None where the name does not fit."""
        found: list[tuple[_S, str]] = []
        at, size = 0, len(name)
        for step in self.steps:
            slot = step.slot
            if slot is None:
                literal, end = step.literal, at + len(step.literal)
                if not name.startswith(literal, at) and not (
                    fold and name[at:end].casefold() == literal.casefold()
                ):
                    return None
                at = end
                continue
            if step.fewest == step.most:
                end = at + step.fewest
            elif step.stop:
                end = name.find(step.stop, at)
            else:
                end = size - step.tail
            if not step.fewest <= end - at <= step.most or end > size:
                return None
            raw = name[at:end]
            if not step.good.issuperset(raw):
                for char in raw:
                    if char == "/" or not slot.field.takes(char):
                        return None
                if len(step.good) < 500:
                    step.good.update(raw)
            found.append((slot, raw))
            at = end
        return found if at == size else None


def straight(tokens: Sequence[str | _S]) -> Straight[_S] | None:
    """Return the quick way for a pattern, or None where some field's end is not plain to see."""
    steps: list[_Step[_S]] = []
    folds = True
    for index, token in enumerate(tokens):
        if isinstance(token, str):
            steps.append(_Step(literal=token))
            continue
        if isinstance(token.field, ChoiceField):
            return None
        fewest, most = token.field.widths()
        step = _Step(slot=token, fewest=fewest, most=most)
        following = tokens[index + 1] if index + 1 < len(tokens) else ""
        stop = following[:1] if isinstance(following, str) else ""
        tail = _width(tokens[index + 1 :])
        if fewest == most:
            pass
        elif stop and (stop == "/" or not token.field.takes(stop)):
            step.stop = stop
            folds = folds and stop.casefold() == stop.upper()
        elif tail is not None:
            step.tail = tail
        else:
            return None
        steps.append(step)
    return Straight(tuple(steps), folds)


def _width(tokens: Sequence[str | _S]) -> int | None:
    """Return how many characters tokens have, or None where that is open."""
    total = 0
    for token in tokens:
        if isinstance(token, str):
            total += len(token)
            continue
        if isinstance(token.field, ChoiceField):
            return None
        fewest, most = token.field.widths()
        if fewest != most:
            return None
        total += fewest
    return total
