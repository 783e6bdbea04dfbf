"""Patterns: literal text with `{field}`s, compiled once, matched in linear time.

>>> from clever_ferry.naming import NumberField, compile_pattern
>>> pattern = compile_pattern("voyage-{slot}.sav",
...                           {"slot": NumberField(first=0, width=2)})
>>> pattern.match("voyage-04.sav")
{'slot': 5}
>>> pattern.write({"slot": 5})
'voyage-04.sav'
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

from msgspec import Struct

from clever_ferry.errors import RefusedError
from clever_ferry.naming.fields import FieldSpec, JoinedField, Value
from clever_ferry.naming.straight import Straight, straight

__all__ = ["LONGEST_NAME", "Ambiguous", "NamingError", "Pattern", "compile_pattern"]

LONGEST_NAME = 1024
"""Characters of a path at the most; a longer one fits nothing."""
_MOST_TOKENS = 64
_MOST_OPTIONAL = 4


class NamingError(RefusedError):
    """A value that the target's naming can't hold, or a pattern that can't work."""


class Ambiguous(Struct, frozen=True):
    """A name that one pattern reads in more than one way."""

    name: str


Reading = dict[str, Value] | Ambiguous | None
"""What a name says: its fields' values; that it can be read in several ways; or that it does not
fit."""


class _Slot(Struct, frozen=True):
    """A field's place in a pattern."""

    name: str
    field: FieldSpec


_Token = str | _Slot


class Pattern(Struct, frozen=True, dict=True):
    """A compiled name pattern; `text` is its source."""

    text: str
    tokens: tuple[_Token, ...]
    shorter: tuple[Pattern, ...] = ()
    """The same pattern with optional parts left out, in every way."""
    joins: tuple[tuple[str, JoinedField], ...] = ()
    """The fields that several parts of the name make together."""

    @cached_property
    def fields(self) -> tuple[str, ...]:
        """The names of the fields, in order, each once."""
        whole = {part: name for name, field in self.joins for part in field.of}
        named = [token.name for token in self.tokens if isinstance(token, _Slot)]
        return tuple(dict.fromkeys(whole.get(name, name) for name in named))

    def joined(self, values: dict[str, Value]) -> dict[str, Value] | None:
        """Return what a name says, with fields in the place of the parts that make them."""
        for name, field in self.joins:
            if not field.of.keys() <= values.keys():
                continue  # they stand in an optional part
            number = field.joined(values)
            if number is None:
                return None
            others = {key: value for key, value in values.items() if key not in field.of}
            values = {**others, name: number}
        return values

    def _parted(self, values: Mapping[str, Value]) -> Mapping[str, Value]:
        """Return values with the parts of fields that several parts make."""
        for name, field in self.joins:
            if name not in values:
                continue
            if field.write(values[name]) is None:
                raise NamingError(
                    f"{values[name]!r} can't stand as {name} in {self.text!r}: "
                    f"it takes {field.wants()}."
                )
            values = {**values, **field.parts(values[name])}
        return values

    @cached_property
    def segments(self) -> tuple[Pattern, ...]:
        """One pattern per folder level, the file's own name last."""
        texts = self.text.split("/")
        levels = [_levels(one.tokens) for one in (self, *self.shorter)]
        return tuple(
            Pattern(text, own[0], _others(text, own))
            for text, own in zip(texts, zip(*levels, strict=True), strict=True)
        )

    @cached_property
    def depth(self) -> int:
        """How many folder levels lie above the file."""
        return len(self.segments) - 1

    @cached_property
    def plain(self) -> str:
        """The one text that it is, where it has no fields; else ''."""
        only = self.tokens[0]
        return only if isinstance(only, str) and len(self.tokens) == 1 and not self.shorter else ""

    def match(self, name: str, *, fold: bool = False) -> Reading:
        """Read a name; `fold` where the file system does not tell cases apart.

        Returns the fields' neutral values, None when the name does not fit, or
        `Ambiguous` when it can be read in more than one way. The time is linear in
        the name's length; a name over 1,024 characters never fits.
        """
        if len(name) > LONGEST_NAME:
            return None
        if not self.shorter and not self.joins:
            return self._match_whole(name, fold)
        readings = [
            one.joined(values) if isinstance(values, dict) else values
            for one in (self, *self.shorter)
            for values in [one._match_whole(name, fold)]
        ]
        found = [one for one in readings if one is not None]
        if len(found) > 1:
            return Ambiguous(name)
        return found[0] if found else None

    @cached_property
    def _straight(self) -> Straight | None:
        return straight(self.tokens)

    def _match_whole(self, name: str, fold: bool) -> dict[str, Value] | Ambiguous | None:
        quick = self._straight
        if quick is not None and (quick.folds or not fold):
            return quick.read(name, fold)
        return self._match_slowly(name, fold) if self._ends_fit(name, fold) else None

    def _match_slowly(self, name: str, fold: bool) -> dict[str, Value] | Ambiguous | None:
        ways = _count_ways(self.tokens, name, fold)
        total = ways[-1][len(name)]
        if not total:
            return None
        if total > 1:
            return Ambiguous(name)
        return self._values(_cut(self.tokens, ways, name, fold))

    def write(self, values: Mapping[str, Value]) -> str:
        """Write the name for these values.

        Raises NamingError where a value is missing or does not fit, and where the
        name written would not be read back as the same values. An optional part is written
        where all its fields have values.
        """
        for one in (self, *self.shorter):
            if all(field in values for field in one.fields) or one is (self, *self.shorter)[-1]:
                name = one._written(one._parted(values))
                right = {field: values[field] for field in one.fields}
                if self.match(name) != right:
                    break
                return name
        raise NamingError(
            f"The name {name!r}, written by {self.text!r}, could be read in another way."
        )

    def partly(self, values: Mapping[str, Value]) -> str:
        """Return the name as far as values are known; a field that is not stays in braces."""
        parts = []
        values = self._parted(values)
        for token in self.tokens:
            if isinstance(token, _Slot):
                raw = token.field.write(values[token.name]) if token.name in values else None
                parts.append(raw if raw is not None else f"{{{token.name}}}")
            else:
                parts.append(token)
        return "".join(parts)

    def _written(self, values: Mapping[str, Value]) -> str:
        parts: list[str] = []
        for token in self.tokens:
            if not isinstance(token, _Slot):
                parts.append(token)
                continue
            if token.name not in values:
                raise NamingError(
                    f"The name {self.text!r} needs its {token.name}, and none is known."
                )
            raw = token.field.write(values[token.name])
            if raw is None:
                raise NamingError(
                    f"{values[token.name]!r} can't stand as {token.name} in {self.text!r}: "
                    f"it takes {token.field.wants()}."
                )
            parts.append(raw)
        return "".join(parts)

    def _ends_fit(self, name: str, fold: bool) -> bool:
        first, last = self.tokens[0], self.tokens[-1]
        if isinstance(first, str) and not _literal_at(name, 0, first, fold):
            return False
        return not isinstance(last, str) or (
            len(name) >= len(last) and _literal_at(name, len(name) - len(last), last, fold)
        )

    def _values(self, raws: list[tuple[_Slot, str]]) -> dict[str, Value] | None:
        values: dict[str, Value] = {}
        for slot, raw in raws:
            value = slot.field.read(raw)
            if value is None or values.setdefault(slot.name, value) != value:
                return None
        return values


def _levels(tokens: tuple[_Token, ...]) -> list[tuple[_Token, ...]]:
    found: list[list[_Token]] = [[]]
    for token in tokens:
        if isinstance(token, _Slot):
            found[-1].append(token)
            continue
        first, *more = token.split("/")
        found[-1].append(first)
        found.extend([part] for part in more)
    return [tuple(t for t in level if t != "") for level in found]


def _others(text: str, own: tuple[tuple[_Token, ...], ...]) -> tuple[Pattern, ...]:
    seen = [own[0]]
    for tokens in own[1:]:
        if tokens not in seen:
            seen.append(tokens)
    return tuple(Pattern(text, tokens) for tokens in seen[1:])


def compile_pattern(text: str, fields: Mapping[str, FieldSpec]) -> Pattern:
    """Compile pattern text; every `{name}` must be one of `fields`.

    Raises NamingError for an unknown field, a brace out of place, a path that would
    leave its folder, or a pattern too long to be meant.
    """
    if len(text) > LONGEST_NAME:
        raise NamingError(f"The pattern {text[:80]!r} is too long to be meant.")
    spelled = _spelled_out(text)
    for one in spelled:
        _confined(one)
    joins = {name: field for name, field in fields.items() if isinstance(field, JoinedField)}
    parts = {part: own for field in joins.values() for part, own in field.of.items()}
    every = [*fields, *(part for field in joins.values() for part in field.of)]
    if twice := [name for name in every if every.count(name) > 1]:
        raise NamingError(f"The name {twice[0]!r} is that of two fields, or of a part of one.")
    open_ones = {name: field for name, field in {**fields, **parts}.items() if name not in joins}
    whole, *shorter = (
        Pattern(text, tokens, (), _joins(text, tokens, joins))
        for tokens in (_tokens(text, one, open_ones) for one in spelled)
    )
    return Pattern(text, whole.tokens, tuple(shorter), whole.joins)


def _joins(
    text: str, tokens: tuple[_Token, ...], joins: Mapping[str, JoinedField]
) -> tuple[tuple[str, JoinedField], ...]:
    """Return the joined fields whose parts stand in a pattern; raises where one lacks some."""
    named = {one.name for one in tokens if isinstance(one, _Slot)}
    found = [(name, field) for name, field in joins.items() if named & field.of.keys()]
    for name, field in found:
        if lacking := field.of.keys() - named:
            raise NamingError(
                f"In the pattern {text!r}, {{{min(lacking)}}} is missing, without which there is "
                f"no {name}."
            )
    return tuple(found)


def _spelled_out(text: str) -> list[str]:
    """Return the pattern with its optional parts `<…>` in, then with fewer and fewer of them."""
    pieces: list[tuple[str, bool]] = []
    rest = text
    while rest:
        before, opened, after = rest.partition("<")
        if ">" in before:
            raise NamingError(f"In the pattern {text!r}, a '>' stands without its '<'.")
        pieces.append((before, False))
        if not opened:
            break
        inside, closed, rest = after.partition(">")
        if not closed or "<" in inside or "/" in inside:
            raise NamingError(
                f"In the pattern {text!r}, an optional part must be closed by '>', hold no "
                "other one, and stay within one name."
            )
        pieces.append((inside, True))
    if not pieces:
        raise NamingError("A pattern is empty.")
    count = sum(optional for _, optional in pieces)
    if count > _MOST_OPTIONAL:
        raise NamingError(f"The pattern {text!r} has more than {_MOST_OPTIONAL} optional parts.")
    found: list[str] = []
    for choice in range((1 << count) - 1, -1, -1):
        kept, number = "", 0
        for piece, optional in pieces:
            if not optional or choice >> number & 1:
                kept += piece
            number += optional
        if not kept:
            raise NamingError(f"The pattern {text!r} is empty, or all of it is optional.")
        found.append(kept)
    return sorted(dict.fromkeys(found), key=lambda one: -one.count("{"))


def _tokens(text: str, spelled: str, fields: Mapping[str, FieldSpec]) -> tuple[_Token, ...]:
    tokens: list[_Token] = []
    rest = spelled
    while rest:
        literal, brace, after = rest.partition("{")
        if "}" in literal:
            raise NamingError(f"In the pattern {text!r}, a '}}' stands without its '{{'.")
        if literal:
            tokens.append(literal)
        if not brace:
            break
        name, closed, rest = after.partition("}")
        if not closed:
            raise NamingError(f"In the pattern {text!r}, a '{{' is not closed.")
        if name not in fields:
            known = ", ".join(sorted(fields)) or "none"
            raise NamingError(
                f"In the pattern {text!r}, there is no field {name!r}; known here: {known}."
            )
        tokens.append(_Slot(name, fields[name]))
    if not tokens or len(tokens) > _MOST_TOKENS:
        raise NamingError(f"The pattern {text[:80]!r} is empty, or too long to be meant.")
    return tuple(tokens)


def _confined(text: str) -> None:
    if "\\" in text or ":" in text or "\0" in text:
        raise NamingError(f"In the pattern {text!r}, folders are separated by '/', and ':' and "
                          "'\\' can't stand.")  # fmt: skip
    if any(segment in ("", ".", "..") for segment in text.split("/")):
        raise NamingError(f"The pattern {text!r} must stay in its folder: no '..', no '//', "
                          "no '/' at either end.")  # fmt: skip


def _literal_at(name: str, start: int, literal: str, fold: bool) -> bool:
    if name.startswith(literal, start):
        return True
    return fold and name[start : start + len(literal)].casefold() == literal.casefold()


def _runs(name: str, slot: _Slot) -> list[int]:
    """Return, per position, how many allowed characters follow."""
    runs = [0] * (len(name) + 1)
    for at in range(len(name) - 1, -1, -1):
        char = name[at]
        runs[at] = runs[at + 1] + 1 if char != "/" and slot.field.takes(char) else 0
    return runs


def _count_ways(tokens: tuple[_Token, ...], name: str, fold: bool) -> list[list[int]]:
    """Return, after each token, in how many ways (0, 1, more) each position is reached."""
    size = len(name)
    now = [1] + [0] * size
    ways = [now]
    runs_of: dict[int, list[int]] = {}
    for token in tokens:
        after = [0] * (size + 1)
        if isinstance(token, _Slot) and token.field.spellings is None:
            fewest, most = token.field.widths()
            steps = [0] * (size + 2)
            runs = runs_of.get(id(token.field)) or runs_of.setdefault(
                id(token.field), _runs(name, token)
            )
            for at, count in enumerate(now):
                reach = min(most, runs[at])
                if count and reach >= fewest:
                    steps[at + fewest] += count
                    steps[at + reach + 1] -= count
            total = 0
            for at in range(size + 1):
                total += steps[at]
                after[at] = min(total, 2)
        else:
            texts = (token,) if isinstance(token, str) else token.field.spellings or ()
            for at, count in enumerate(now):
                for text in texts if count else ():
                    if _literal_at(name, at, text, fold):
                        after[at + len(text)] = min(after[at + len(text)] + count, 2)
        ways.append(after)
        now = after
    return ways


def _cut(
    tokens: tuple[_Token, ...], ways: list[list[int]], name: str, fold: bool
) -> list[tuple[_Slot, str]]:
    """Return each field's characters, going back from the end along the only way."""
    found: list[tuple[_Slot, str]] = []
    end = len(name)
    for index in range(len(tokens) - 1, -1, -1):
        token, before = tokens[index], ways[index]
        if isinstance(token, str):
            end -= len(token)
            continue
        spellings = token.field.spellings
        if spellings is not None:
            text = next(
                s
                for s in spellings
                if end >= len(s)
                and before[end - len(s)]
                and _literal_at(name, end - len(s), s, fold)
            )
            found.append((token, text))
            end -= len(text)
            continue
        fewest, _ = token.field.widths()
        start = end
        while end - start < fewest or not before[start]:
            start -= 1
        found.append((token, name[start:end]))
        end = start
    return found[::-1]
