"""Places in a text: where in a JSON or INI text the values stand that a recipe's paths name."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from typing import Literal, NamedTuple

from clever_ferry.errors import DamagedError
from clever_ferry.payload import Payload, read_all

__all__ = ["Place", "find_places", "read_text", "replaced"]

_LARGEST = 16 << 20
_BLANK = " \t\r\n"


class Place(NamedTuple):
    """Where a value stands in a text: from and to which character, and what it is."""

    start: int
    end: int
    value: str | int


def find_places(text: str, holds: Literal["json", "ini"], at: Sequence[str]) -> list[Place]:
    """Return the places of a text that the paths `at` lead to, in order, each once.

    Raises DamagedError where the text can't be read.
    """
    find = _in_json if holds == "json" else _in_ini
    paths = [path.strip("/").split("/") for path in at]
    try:
        return sorted({place for path in paths for place in find(text, path)})
    except (ValueError, RecursionError, IndexError) as error:
        raise DamagedError(f"This is no {holds} that can be read: {error}.") from None


def read_text(source: Payload) -> str:
    """Return a text piece; raises DamagedError where it is no UTF-8."""
    raw = read_all(source, limit=_LARGEST, what="The text")
    try:
        return raw.decode()
    except UnicodeDecodeError as error:
        raise DamagedError(f"This is no UTF-8 text: {error}.") from None


def replaced(text: str, places: Sequence[Place], new: Sequence[str]) -> bytes:
    """Return a text with other literals in some places."""
    parts, at = [], 0
    for place, literal in zip(places, new, strict=True):
        parts += [text[at : place.start], literal]
        at = place.end
    return "".join([*parts, text[at:]]).encode()


def _in_json(text: str, path: Sequence[str]) -> Iterator[Place]:
    decoder = json.JSONDecoder()

    def blank(at: int) -> int:
        while text[at] in _BLANK:
            at += 1
        return at

    def look(at: int, rest: Sequence[str]) -> Iterator[Place]:
        at = blank(at)
        if not rest:
            value, end = decoder.raw_decode(text, at)
            if isinstance(value, str | int) and not isinstance(value, bool):
                yield Place(at, end, value)
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


def _in_ini(text: str, path: Sequence[str]) -> Iterator[Place]:
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
                yield Place(start, start + len(value.strip()), value.strip())
        at += len(line)
