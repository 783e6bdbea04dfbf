"""What the typed fields of names share: how each is read, written, and found by a crossing."""

import string
from collections.abc import Callable
from typing import Annotated, Literal

from clever_ferry.model import Meta, Model

__all__ = ["DIGITS", "FORBIDDEN", "HEX", "Field", "Value"]

Value = int | str
"""What a field stands for: a number that counts from 1, or text."""

Arrival = Literal["kept", "adopted", "usual", "made", "given"]

_TRIED = string.digits[1:] + string.ascii_letters + "-_ .+=!#$%&'()0"
"""Characters of which samples are made: the first that a field takes."""
DIGITS = frozenset(string.digits)
HEX = frozenset(string.hexdigits)
FORBIDDEN = frozenset('/\\:*?"<>|') | {chr(code) for code in range(32)} | {chr(127)}
"""What no name may hold on some system."""


class Field(Model, tag_field="type"):
    """What all fields share: how a crossing finds the value that it writes."""

    on_arrival: Annotated[
        tuple[Arrival, ...],
        Meta(
            min_length=1,
            description="where a crossing takes the value from; the first that can be had is used",
        ),
    ] = ("kept",)

    @property
    def spellings(self) -> tuple[str, ...] | None:
        """The only texts that may stand in this field, where they are listed."""
        return None

    def takes(self, char: str) -> bool:
        """Tell whether a character may stand in this field."""
        raise NotImplementedError

    def widths(self) -> tuple[int, int]:
        """Return the fewest and the most characters."""
        raise NotImplementedError

    def read(self, raw: str) -> Value | None:
        """Return the neutral value of a run of allowed characters, or None if it has none."""
        return raw

    def write(self, value: Value) -> str | None:
        """Return the characters for a neutral value, or None if this field can't hold it."""
        text = str(value)
        fewest, most = self.widths()
        fits = fewest <= len(text) <= most and all(map(self.takes, text))
        return text if fits and self.read(text) == value else None

    def wants(self) -> str:
        """Say in plain words what fits."""
        raise NotImplementedError

    def parse(self, text: str) -> Value:
        """Return the neutral value that a user states."""
        return text

    def made(self, random: Callable[[int], bytes]) -> Value | None:
        """Return a new value out of so many random bytes; None where none can be made."""
        return None

    def sample(self) -> Value:
        """Return a value that fits, for trying patterns against each other."""
        char = next((one for one in _TRIED if self.takes(one)), "1")
        return char * self.widths()[0]
