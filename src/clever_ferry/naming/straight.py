"""A quick way to read names by patterns in which each field's end is plain to see.

Most patterns are so: a field has a fixed width, or ends at a character that it can't hold, or is
the only one of open width before a tail of fixed width. Then there is one way at the most, and
no ways need be counted. `Pattern.match` counts them for all other patterns.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple, Protocol

from msgspec import Struct

from clever_ferry.naming.fields import FieldSpec, Value

__all__ = ["Straight", "straight"]


class _Named(Protocol):
    """A field's place in a pattern."""

    @property
    def name(self) -> str: ...

    @property
    def field(self) -> FieldSpec: ...


class _Step(NamedTuple):
    """A field, and how its end is told."""

    name: str
    field: FieldSpec
    fewest: int
    most: int
    stop: str
    """The character that the field ends at; where there is none, `tail` tells."""
    tail: int
    """Characters after the field, where it takes all but these."""
    good: set[str]
    """Characters that the field is known to take."""


class Straight(Struct, frozen=True):
    """A pattern's steps, in order: literal texts, and fields."""

    steps: tuple[str | _Step, ...]
    folds: bool
    """Whether it also serves where upper and lower case are the same."""

    def read(self, text: str, fold: bool) -> dict[str, Value] | None:
        """Return each field's value, or None where the text does not fit."""
        values: dict[str, Value] = {}
        at, size = 0, len(text)
        for step in self.steps:
            if isinstance(step, str):
                end = at + len(step)
                if not text.startswith(step, at) and not (
                    fold and text[at:end].casefold() == step.casefold()
                ):
                    return None
                at = end
                continue
            name, field, fewest, most, stop, tail, good = step
            if fewest == most:
                end = at + fewest
            elif stop:
                end = text.find(stop, at)
            else:
                end = size - tail
            if not fewest <= end - at <= most or end > size:
                return None
            raw = text[at:end]
            if not good.issuperset(raw) and not _taken(step, raw):
                return None
            value = field.read(raw)
            if value is None or values.setdefault(name, value) != value:
                return None
            at = end
        return values if at == size else None


def _taken(step: _Step, raw: str) -> bool:
    if any(char == "/" or not step.field.takes(char) for char in raw):
        return False
    if len(step.good) < 500:
        step.good.update(raw)
    return True


def straight(tokens: Sequence[str | _Named]) -> Straight | None:
    """Return the quick way for a pattern, or None where some field's end is not plain to see."""
    steps: list[str | _Step] = []
    folds = True
    for index, token in enumerate(tokens):
        if isinstance(token, str):
            steps.append(token)
            continue
        if token.field.spellings is not None:
            return None
        fewest, most = token.field.widths()
        following = tokens[index + 1] if index + 1 < len(tokens) else ""
        stop = following[:1] if isinstance(following, str) else ""
        tail = _width(tokens[index + 1 :])
        if fewest == most or not (stop and (stop == "/" or not token.field.takes(stop))):
            stop = ""
            if fewest != most and tail is None:
                return None
        else:
            folds = folds and stop.casefold() == stop.upper()
        steps.append(_Step(token.name, token.field, fewest, most, stop, tail or 0, set()))
    return Straight(tuple(steps), folds)


def _width(tokens: Sequence[str | _Named]) -> int | None:
    """Return how many characters tokens have, or None where that is open."""
    total = 0
    for token in tokens:
        if isinstance(token, str):
            total += len(token)
            continue
        if token.field.spellings is not None:
            return None
        fewest, most = token.field.widths()
        if fewest != most:
            return None
        total += fewest
    return total
