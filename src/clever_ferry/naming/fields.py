"""The typed fields of names: what characters each takes, and what its value means.

A field reads a run of characters into a neutral value and writes the value back.
Neutral numbers count from 1, whatever an edition counts from.
"""

import string
from collections.abc import Callable
from typing import Annotated, Literal
from uuid import UUID

from clever_ferry.model import Meta, hint
from clever_ferry.naming.calendar import calendar_parts, calendar_seconds
from clever_ferry.naming.field import DIGITS, FORBIDDEN, HEX, Field, Value
from clever_ferry.naming.numbers import JoinedField, NumberField

__all__ = [
    "ChoiceField",
    "DigitsField",
    "FieldSpec",
    "HexField",
    "IdentifierField",
    "JoinedField",
    "NumberField",
    "StampField",
    "TextField",
    "Value",
    "WordField",
]

_LONGEST = 255
_WORD = frozenset(string.ascii_letters + string.digits + "-_")
_CALENDAR = {"YYYY": 1970, "MM": 1, "DD": 1, "hh": 0, "mm": 0, "ss": 0}
_COUNTED = {"seconds": (1, 11), "millis": (1, 14)}
_YEAR_10000 = 253_402_300_800


class _Fixed(Field):
    """What fields of a fixed length share."""

    length: Annotated[
        Annotated[int, Meta(ge=1, le=_LONGEST)] | None, hint("how many characters")
    ] = None

    def widths(self) -> tuple[int, int]:
        """Return the fixed length, or any."""
        return (self.length, self.length) if self.length else (1, _LONGEST)


class DigitsField(_Fixed, tag="digits"):
    """Digits that are a name and not a number, such as an account's."""

    def takes(self, char: str) -> bool:
        """Take decimal digits."""
        return char in DIGITS

    def wants(self) -> str:
        """Say how many."""
        return f"{self.length} digits" if self.length else "digits"

    def made(self, random: Callable[[int], bytes]) -> Value | None:
        """Return digits, as many as the field has, or 16."""
        length = self.length or 16
        return str(int.from_bytes(random(length), "big"))[:length].zfill(length)


class HexField(_Fixed, tag="hex"):
    """Hexadecimal digits; the neutral value is in lower case."""

    case: Annotated[Literal["lower", "upper"], hint("of its digits")] = "lower"

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

    def made(self, random: Callable[[int], bytes]) -> Value | None:
        """Return hexadecimal digits, as many as the field has, or 16."""
        length = self.length or 16
        return random(length).hex()[:length]


class WordField(_Fixed, tag="word"):
    """Letters, digits, `-` and `_`."""

    def takes(self, char: str) -> bool:
        """Take ASCII letters, digits, hyphen and underscore."""
        return char in _WORD

    def wants(self) -> str:
        """Say which characters."""
        return "letters, digits, - and _"


class TextField(Field, tag="text"):
    """Free text, as a player types it."""

    most: Annotated[int, Meta(ge=1, le=_LONGEST, description="characters at the most")] = _LONGEST
    without: Annotated[str, hint("characters that this edition does not take")] = ""

    def takes(self, char: str) -> bool:
        """Take all that every file system takes, but for what the recipe rules out."""
        return char not in FORBIDDEN and char not in self.without

    def widths(self) -> tuple[int, int]:
        """Return one to the most."""
        return 1, self.most

    def wants(self) -> str:
        """Say which characters."""
        return f'up to {self.most} characters, none of /\\:*?"<>|{self.without}'


class ChoiceField(Field, tag="choice"):
    """One of a few fixed spellings, each with its neutral meaning."""

    of: Annotated[
        dict[str, str], Meta(min_length=1, description="neutral meaning = spelling in the name")
    ]

    def __post_init__(self) -> None:
        spellings = list(self.of.values())
        if len(set(spellings)) != len(spellings) or not all(spellings):
            raise ValueError("each meaning needs a spelling of its own")
        if any(char in FORBIDDEN for spelling in spellings for char in spelling):
            raise ValueError('spellings must not hold any of /\\:*?"<>|')

    @property
    def spellings(self) -> tuple[str, ...] | None:
        """The spellings."""
        return tuple(self.of.values())

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

    def sample(self) -> Value:
        """Return the first meaning."""
        return next(iter(self.of))

    def wants(self) -> str:
        """List the meanings."""
        return "one of " + ", ".join(self.of)


class IdentifierField(Field, tag="identifier"):
    """A 16-byte identifier in hexadecimal; the neutral value is lower case, with dashes."""

    case: Annotated[Literal["lower", "upper"], hint("of its digits")] = "lower"
    dashes: Annotated[bool, hint("whether groups are parted by dashes")] = True
    braces: Annotated[bool, hint("whether it stands in braces")] = False

    def takes(self, char: str) -> bool:
        """Take hexadecimal digits, and dashes and braces where they belong."""
        return char in HEX or (self.dashes and char == "-") or (self.braces and char in "{}")

    def widths(self) -> tuple[int, int]:
        """Return the one length that it has."""
        size = 32 + 4 * self.dashes + 2 * self.braces
        return size, size

    def read(self, raw: str) -> Value | None:
        """Return the identifier; None where dashes or braces are out of place."""
        digits = raw.strip("{}").replace("-", "").lower()
        return self._dashed(digits) if self._spelled(digits) == raw.lower() else None

    def write(self, value: Value) -> str | None:
        """Return the edition's spelling."""
        digits = str(value).replace("-", "").lower()
        if len(digits) != 32 or not set(digits) <= HEX or self._dashed(digits) != value:
            return None
        text = self._spelled(digits)
        return text.upper() if self.case == "upper" else text

    def _spelled(self, digits: str) -> str:
        text = self._dashed(digits) if self.dashes else digits
        return f"{{{text}}}" if self.braces else text

    @staticmethod
    def _dashed(digits: str) -> str:
        return "-".join((digits[:8], digits[8:12], digits[12:16], digits[16:20], digits[20:]))

    def sample(self) -> Value:
        """Return an identifier of ones."""
        return self._dashed("1" * 32)

    def wants(self) -> str:
        """Say the shape."""
        return "an identifier such as " + self._spelled("00112233445566778899aabbccddeeff")

    def made(self, random: Callable[[int], bytes]) -> Value | None:
        """Return a random identifier (RFC 9562, version 4)."""
        return str(UUID(bytes=random(16), version=4))


class StampField(Field, tag="stamp"):
    """A time in a name; the neutral value is whole seconds since 1970 (as if it were UTC).

    `form` is `seconds`, `millis`, or made of `YYYY`, `MM`, `DD`, `hh`, `mm`, `ss` and what stands
    between them.
    """

    form: Annotated[
        str,
        Meta(description="`seconds`, `millis`, or what it is made of", min_length=2, max_length=40),
    ] = "YYYYMMDD-hhmmss"

    def __post_init__(self) -> None:
        if self.form not in _COUNTED:
            counts = [self.form.count(part) for part in _CALENDAR]
            if counts[:3] != [1, 1, 1] or max(counts) > 1 or set(self.form) & FORBIDDEN:
                raise ValueError(
                    "`form` is `seconds`, `millis`, or holds YYYY, MM and DD once each (and hh, "
                    "mm, ss at the most once)"
                )

    def takes(self, char: str) -> bool:
        """Take digits, and what the form has between them."""
        return char in DIGITS or (self.form not in _COUNTED and char in self.form)

    def widths(self) -> tuple[int, int]:
        """Return the form's length."""
        if self.form in _COUNTED:
            return _COUNTED[self.form]
        return len(self.form), len(self.form)

    def read(self, raw: str) -> Value | None:
        """Return the seconds; None for a date that there is not."""
        if self.form in _COUNTED:
            plain = raw[0] != "0" or raw == "0"
            scale = 1 if self.form == "seconds" else 1000
            return int(raw) // scale if plain and int(raw) % scale == 0 else None
        parts = {}
        for part, usual in _CALENDAR.items():
            at = self.form.find(part)
            text = raw[at : at + len(part)] if at >= 0 else str(usual)
            if not text.isdecimal():
                return None
            parts[part] = int(text)
        seconds = calendar_seconds(*parts.values())
        return seconds if seconds is not None and self.write(seconds) == raw else None

    def write(self, value: Value) -> str | None:
        """Return the form filled in."""
        if not isinstance(value, int) or not 0 <= value < _YEAR_10000:
            return None
        if self.form in _COUNTED:
            return str(value if self.form == "seconds" else value * 1000)
        text = self.form
        for part, number in zip(_CALENDAR, calendar_parts(value), strict=True):
            text = text.replace(part, str(number).zfill(len(part)))
        return text

    def sample(self) -> Value:
        """Return the second day of 1970."""
        return 86_400

    def wants(self) -> str:
        """Say the form."""
        return f"a time as {self.form}"

    def parse(self, text: str) -> Value:
        """Return a number where one is stated."""
        return int(text) if text.isdecimal() else text


FieldSpec = (
    NumberField
    | JoinedField
    | DigitsField
    | HexField
    | WordField
    | TextField
    | ChoiceField
    | IdentifierField
    | StampField
)
