"""Numbers in names: one by itself, or one that several parts of a name make together."""

from collections.abc import Mapping
from math import prod
from typing import Annotated, Literal

from clever_ferry.model import Meta, hint
from clever_ferry.naming.field import DIGITS, FORBIDDEN, HEX, Field, Value

__all__ = ["JoinedField", "NumberField"]

_NO_END = 10**9


class _Counted(Field):
    """What numbers have in common: they are counted from 1."""

    @property
    def highest(self) -> int:
        """The highest number that is written."""
        raise NotImplementedError

    def sample(self) -> Value:
        """Return the first number."""
        return 1

    def wants(self) -> str:
        """Say the range."""
        most = self.highest
        return "a number from 1 up" if most >= _NO_END else f"a number from 1 to {most}"

    def parse(self, text: str) -> Value:
        """Return a number where one is stated."""
        return int(text) if text.isdecimal() else text


class NumberField(_Counted, tag="number"):
    """A whole number, such as a slot."""

    first: Annotated[int, Meta(ge=0, description="the number that the edition counts from")] = 1
    width: Annotated[
        Annotated[int, Meta(ge=1, le=20)] | None, hint("digits, padded with zeros")
    ] = None
    most: Annotated[
        int, Meta(ge=1, description="the highest that is written, counted from 1; all are read")
    ] = _NO_END
    last: Annotated[
        Annotated[int, Meta(ge=0)] | None, hint("the same as the edition counts: 9 of 0 to 9")
    ] = None
    base: Annotated[Literal[10, 16], hint("16 for hexadecimal")] = 10
    case: Annotated[Literal["lower", "upper"], hint("of hexadecimal digits")] = "lower"
    only: Annotated[
        tuple[int | str, ...],
        hint("the only numbers (or texts, such as letters) that there are; the first is number 1"),
    ] = ()

    def __post_init__(self) -> None:
        texts = [one for one in self.only if isinstance(one, str)]
        folded = [one.casefold() if isinstance(one, str) else one for one in self.only]
        if len(set(folded)) != len(folded) or any(
            one == "" or (isinstance(one, int) and one < 0) for one in folded
        ):
            raise ValueError("`only` must list each number or text once, and none below 0")
        if texts and len(texts) < len(self.only):
            raise ValueError("`only` lists numbers, or texts, but not both")
        if any(char in FORBIDDEN for text in texts for char in text):
            raise ValueError('`only` must not hold any of /\\:*?"<>|')
        usual = (1, None, 10, "lower")
        if texts and (self.first, self.width, self.base, self.case) != usual:
            raise ValueError("texts have no first, width, base or case")
        if self.last is not None and self.most != _NO_END:
            raise ValueError("`last` and `most` say the same; leave one away")
        if self.last is not None and (self.only or self.last < self.first):
            raise ValueError("`last` is a number that is counted to, from `first` on")

    @property
    def spellings(self) -> tuple[str, ...] | None:
        """The texts, where they are listed."""
        if not self.only or isinstance(self.only[0], int):
            return None
        return tuple([str(one) for one in self.only])

    @property
    def highest(self) -> int:
        """The highest number that is written, counted from 1."""
        highest = self.most if self.last is None else self.last - self.first + 1
        highest = min(highest, len(self.only) or highest)
        if self.width is not None and not self.only:
            highest = min(highest, self.base**self.width - self.first)
        return highest

    def shown(self, value: int) -> str:
        """Return how the game shows a number, where that is by a text; else ''."""
        return (self.write(value) or "") if self.spellings else ""

    def takes(self, char: str) -> bool:
        """Take digits of the base; hexadecimal ones of either case; or what the texts have."""
        if self.spellings:
            return any(char in text for text in self.spellings)
        return char in (DIGITS if self.base == 10 else HEX)

    def widths(self) -> tuple[int, int]:
        """Return the fixed width, that of the texts, or one to twenty."""
        if self.spellings:
            return min(map(len, self.spellings)), max(map(len, self.spellings))
        return (self.width, self.width) if self.width else (1, 20)

    def read(self, raw: str) -> Value | None:
        """Return the number counted from 1; None for a spelling that would not be written."""
        if self.only and self.spellings:
            return self.spellings.index(raw) + 1 if raw in self.spellings else None
        if self.width is None and raw[0] == "0" and raw != "0":
            return None
        number = int(raw, self.base)
        if self.only:
            return self.only.index(number) + 1 if number in self.only else None
        value = number - self.first + 1
        return value if value >= 1 else None

    def write(self, value: Value) -> str | None:
        """Return the edition's own number, padded."""
        if not isinstance(value, int) or not 1 <= value <= self.highest:
            return None
        if self.spellings:
            return self.spellings[value - 1]
        number = self.only[value - 1] if self.only else value + self.first - 1
        raw = (str(number) if self.base == 10 else f"{number:x}").zfill(self.width or 1)
        raw = raw.upper() if self.case == "upper" else raw
        return raw if len(raw) <= self.widths()[1] else None


class JoinedField(_Counted, tag="joined"):
    """One number that several parts of a name make together, such as a page and a place on it.

    Each part stands in the name by its own name; the last one runs first.
    """

    of: Annotated[
        dict[str, NumberField], Meta(min_length=2, description="the parts, the slowest first")
    ]

    def __post_init__(self) -> None:
        _, *bounded = self.of
        if open_ones := [name for name in bounded if self.of[name].highest >= _NO_END]:
            raise ValueError(f"its part {open_ones[0]!r} needs an end, such as `most`")
        if any(part.on_arrival != ("kept",) for part in self.of.values()):
            raise ValueError("parts have no `on_arrival` of their own")

    @property
    def highest(self) -> int:
        """The highest number that is written."""
        return min(prod(part.highest for part in self.of.values()), _NO_END)

    def joined(self, values: Mapping[str, Value]) -> int | None:
        """Return the number that values of all parts make; None where one is beyond its end."""
        number = 0
        for name, part in self.of.items():
            own = int(values[name])
            if own > part.highest:
                return None
            number = number * part.highest + own - 1
        return number + 1

    def parts(self, value: Value) -> dict[str, Value]:
        """Return the parts' values for a number."""
        rest, found = int(value) - 1, dict[str, Value]()
        for name, part in reversed(self.of.items()):
            rest, own = divmod(rest, part.highest)
            found[name] = own + 1
        return found

    def shown(self, value: int) -> str:
        """Return how the game shows a number: its parts' texts, in order."""
        return (self.write(value) or "").replace(" ", "")

    def takes(self, char: str) -> bool:
        """Take nothing: its parts do."""
        return False

    def widths(self) -> tuple[int, int]:
        """Return no width: its parts have theirs."""
        return 0, 0

    def write(self, value: Value) -> str | None:
        """Return all parts' texts, or None if they can't hold the number."""
        if not isinstance(value, int) or not 1 <= value <= self.highest:
            return None
        texts = [self.of[name].write(own) for name, own in self.parts(value).items()]
        return " ".join(text for text in reversed(texts) if text is not None)
