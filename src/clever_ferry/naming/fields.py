"""The typed fields of names: what characters each takes, and what its value means.

A field reads a run of characters into a neutral value and writes the value back.
Neutral numbers count from 1, whatever an edition counts from.
"""

from __future__ import annotations

import string
from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

__all__ = [
    "ChoiceField",
    "DigitsField",
    "FieldSpec",
    "HexField",
    "NumberField",
    "TextField",
    "Value",
    "WordField",
]

Value = int | str
"""What a field stands for: a number that counts from 1, or text."""

Arrival = Literal["kept", "adopted", "made", "given"]

_LONGEST = 255
_DIGITS = frozenset(string.digits)
_WORD = frozenset(string.ascii_letters + string.digits + "-_")
_FORBIDDEN = frozenset('/\\:*?"<>|') | {chr(code) for code in range(32)} | {chr(127)}


class _Field(BaseModel):
    """What all fields share: how a crossing finds the value that it writes."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    on_arrival: tuple[Arrival, ...] = Field(
        default=("kept",),
        min_length=1,
        description="where a crossing takes the value from; the first that can be had is used",
    )

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


class NumberField(_Field):
    """A whole number, such as a slot."""

    type: Literal["number"]
    first: int = Field(default=1, ge=0, description="the number that the edition counts from")
    width: int | None = Field(default=None, ge=1, le=20, description="digits, padded with zeros")
    most: int = Field(default=10**9, ge=1, description="how many there are at the most")

    def takes(self, char: str) -> bool:
        """Take decimal digits."""
        return char in _DIGITS

    def widths(self) -> tuple[int, int]:
        """Return the fixed width, or one to twenty."""
        return (self.width, self.width) if self.width else (1, 20)

    def read(self, raw: str) -> Value | None:
        """Return the number counted from 1; None for a spelling that would not be written."""
        if self.width is None and raw[0] == "0" and raw != "0":
            return None
        value = int(raw) - self.first + 1
        return value if 1 <= value <= self.most else None

    def write(self, value: Value) -> str | None:
        """Return the edition's own number, padded."""
        if not isinstance(value, int) or not 1 <= value <= self.most:
            return None
        raw = str(value + self.first - 1).zfill(self.width or 1)
        return raw if len(raw) <= self.widths()[1] else None

    def wants(self) -> str:
        """Say the range."""
        most = self.most
        if self.width is not None:
            most = min(most, 10**self.width - self.first)
        return "a number from 1 up" if most >= 10**9 else f"a number from 1 to {most}"


class _Fixed(_Field):
    length: int | None = Field(default=None, ge=1, le=_LONGEST, description="how many characters")

    def widths(self) -> tuple[int, int]:
        """Return the fixed length, or any."""
        return (self.length, self.length) if self.length else (1, _LONGEST)


class DigitsField(_Fixed):
    """Digits that are a name and not a number, such as an account's."""

    type: Literal["digits"]

    def takes(self, char: str) -> bool:
        """Take decimal digits."""
        return char in _DIGITS

    def wants(self) -> str:
        """Say how many."""
        return f"{self.length} digits" if self.length else "digits"


class HexField(_Fixed):
    """Hexadecimal digits; the neutral value is in lower case."""

    type: Literal["hex"]
    case: Literal["lower", "upper"] = "lower"

    def takes(self, char: str) -> bool:
        """Take hexadecimal digits of either case, as file systems may change it."""
        return char in string.hexdigits

    def read(self, raw: str) -> Value | None:
        """Return the digits in lower case."""
        return raw.lower()

    def write(self, value: Value) -> str | None:
        """Return the digits in the edition's case."""
        text = super().write(value)
        return text.upper() if text and self.case == "upper" else text

    def wants(self) -> str:
        """Say how many."""
        return f"{self.length or 'some'} hexadecimal digits"


class WordField(_Fixed):
    """Letters, digits, `-` and `_`."""

    type: Literal["word"]

    def takes(self, char: str) -> bool:
        """Take ASCII letters, digits, hyphen and underscore."""
        return char in _WORD

    def wants(self) -> str:
        """Say which characters."""
        return "letters, digits, - and _"


class TextField(_Field):
    """Free text, as a player types it."""

    type: Literal["text"]
    most: int = Field(default=_LONGEST, ge=1, le=_LONGEST, description="characters at the most")
    without: str = Field(default="", description="characters that this edition does not take")

    def takes(self, char: str) -> bool:
        """Take all that every file system takes, but for what the recipe rules out."""
        return char not in _FORBIDDEN and char not in self.without

    def widths(self) -> tuple[int, int]:
        """Return one to the most."""
        return 1, self.most

    def wants(self) -> str:
        """Say which characters."""
        return f'up to {self.most} characters, none of /\\:*?"<>|{self.without}'


class ChoiceField(_Field):
    """One of a few fixed spellings, each with its neutral meaning."""

    type: Literal["choice"]
    of: dict[str, str] = Field(min_length=1, description="neutral meaning = spelling in the name")

    @model_validator(mode="after")
    def _spellings_differ(self) -> Self:
        spellings = list(self.of.values())
        if len(set(spellings)) != len(spellings) or not all(spellings):
            raise ValueError("each meaning needs a spelling of its own")
        if any(char in _FORBIDDEN for spelling in spellings for char in spelling):
            raise ValueError('spellings must not hold any of /\\:*?"<>|')
        return self

    def takes(self, char: str) -> bool:
        """Take any character of any spelling."""
        return any(char in spelling for spelling in self.of.values())

    def widths(self) -> tuple[int, int]:
        """Return the shortest and the longest spelling."""
        lengths = [len(spelling) for spelling in self.of.values()]
        return min(lengths), max(lengths)

    def read(self, raw: str) -> Value | None:
        """Return the meaning of a spelling."""
        for meaning, spelling in self.of.items():
            if spelling == raw:
                return meaning
        return None

    def write(self, value: Value) -> str | None:
        """Return the spelling of a meaning."""
        return self.of.get(str(value))

    def wants(self) -> str:
        """List the meanings."""
        return "one of " + ", ".join(self.of)


FieldSpec = Annotated[
    NumberField | DigitsField | HexField | WordField | TextField | ChoiceField,
    Field(discriminator="type"),
]
