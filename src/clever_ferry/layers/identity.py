"""Whose a text piece is, at places that a recipe names: taken out on reading, put in on writing.

What is carried has a mark in its place, so that nobody's identity travels; the target's is written
where the mark stands. Only these places are touched, and the text around them stays as it is.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layers.found import Found
from clever_ferry.layers.spec import IdentitySpec
from clever_ferry.naming import Value
from clever_ferry.payload import Payload, StreamPayload, read_all

__all__ = ["Identity"]

_LARGEST = 16 << 20
_BLANK = " \t\r\n"


class _Place(NamedTuple):
    """Where a value stands in a text: from and to which character, and what it is."""

    start: int
    end: int
    value: str | int


class Identity:
    """One name field's value in a JSON or INI text, in one or several places."""

    def __init__(self, spec: IdentitySpec) -> None:
        self.spec = spec
        self.bound = frozenset([spec.bound])
        self.paths = [path.strip("/").split("/") for path in spec.at]

    def peel(self, source: Payload, found: Found) -> tuple[Payload, list[str]]:
        """Return the text with marks in the value's places; the residue is what stood there."""
        text = _text(source)
        places = self._places(text)
        values = {str(place.value) for place in places}
        if not values:
            raise DamagedError(
                f"There is no {self.spec.bound} at {' or '.join(self.spec.at)}, where one belongs."
            )
        if len(values) > 1:
            told = ", ".join(sorted(values)[:4])
            raise DamagedError(
                f"It is not plain whose it is: its places name more than one {self.spec.bound} "
                f"({told})."
            )
        found.bound[self.spec.bound] = places[0].value
        found.said[f"identity {self.spec.bound}"] = {"places": len(places)}
        literals = [text[place.start : place.end] for place in places]
        marked = _replaced(text, places, [self._mark(place) for place in places])
        return StreamPayload(lambda: iter([marked])), literals

    def dress(
        self, inside: Payload, whole: Payload, residue: Any, fields: Mapping[str, Value]
    ) -> Payload:
        """Return the text with the target's value where the marks stand."""
        if self.spec.bound not in fields:
            raise RefusedError(f"The target's {self.spec.bound} is not known, and must be written.")
        return StreamPayload(lambda: self._written(inside, residue, fields[self.spec.bound]))

    def _written(
        self, inside: Payload, residue: Sequence[str] | None, value: Value
    ) -> Iterator[bytes]:
        text = _text(inside)
        places = self._places(text)
        new = [self._literal(place, value) for place in places]
        if residue is not None and len(residue) == len(new):
            new = [old if _plain(old) == _plain(one) else one
                   for old, one in zip(residue, new, strict=True)]  # fmt: skip
        yield _replaced(text, places, new)

    def _mark(self, place: _Place) -> str:
        if self.spec.holds == "ini":
            return f"@{self.spec.bound}"
        return "0" if isinstance(place.value, int) else json.dumps(f"@{self.spec.bound}")

    def _literal(self, place: _Place, value: Value) -> str:
        if self.spec.holds == "ini":
            return str(value)
        if not isinstance(place.value, int):
            return json.dumps(str(value), ensure_ascii=False)
        if not str(value).isdecimal():
            raise RefusedError(f"The {self.spec.bound} {value!r} must stand as a number.")
        return str(int(value))

    def _places(self, text: str) -> list[_Place]:
        try:
            find = _in_json if self.spec.holds == "json" else _in_ini
            return sorted({place for path in self.paths for place in find(text, path)})
        except (ValueError, RecursionError, IndexError) as error:
            raise DamagedError(f"This is no {self.spec.holds} that can be read: {error}.") from None


def _text(source: Payload) -> str:
    raw = read_all(source, limit=_LARGEST, what="The text")
    try:
        return raw.decode()
    except UnicodeDecodeError as error:
        raise DamagedError(f"This is no UTF-8 text: {error}.") from None


def _plain(literal: str) -> str:
    try:
        return str(json.loads(literal))
    except ValueError:
        return literal


def _replaced(text: str, places: Sequence[_Place], new: Sequence[str]) -> bytes:
    parts, at = [], 0
    for place, literal in zip(places, new, strict=True):
        parts += [text[at : place.start], literal]
        at = place.end
    return "".join([*parts, text[at:]]).encode()


def _in_json(text: str, path: Sequence[str]) -> Iterator[_Place]:
    decoder = json.JSONDecoder()

    def blank(at: int) -> int:
        while text[at] in _BLANK:
            at += 1
        return at

    def look(at: int, rest: Sequence[str]) -> Iterator[_Place]:
        at = blank(at)
        if not rest:
            value, end = decoder.raw_decode(text, at)
            if isinstance(value, str | int) and not isinstance(value, bool):
                yield _Place(at, end, value)
        elif text[at] in "{[":
            for key, inner in members(at):
                if rest[0] in ("*", key):
                    yield from look(inner, rest[1:])

    def members(at: int) -> Iterator[tuple[str, int]]:
        """Yield the keys (or numbers) of an object (or list), and where their values begin."""
        named, closing, number = text[at] == "{", "}" if text[at] == "{" else "]", 0
        at = blank(at + 1)
        while text[at] != closing:
            key = str(number)
            if named:
                key, at = decoder.raw_decode(text, at)
                at = blank(at) + 1
            at = blank(at)
            yield key, at
            at, number = blank(decoder.raw_decode(text, at)[1]), number + 1
            if text[at] == ",":
                at = blank(at + 1)

    decoder.raw_decode(text, blank(0))  # all of it must be JSON, not the way to the places alone
    yield from look(0, path)


def _in_ini(text: str, path: Sequence[str]) -> Iterator[_Place]:
    section, at = "", 0
    wanted = (path[0] if len(path) > 1 else "", path[-1].lower())
    for line in text.splitlines(keepends=True):
        bare = line.strip()
        if bare.startswith("[") and bare.endswith("]"):
            section = bare[1:-1]
        elif not bare.startswith(("#", ";")):
            key, sign, value = line.partition("=")
            same = key.strip().lower() == wanted[1] and wanted[0] in ("*", section)
            if sign and same and value.strip():
                start = at + len(key) + 1 + len(value) - len(value.lstrip())
                yield _Place(start, start + len(value.strip()), value.strip())
        at += len(line)
