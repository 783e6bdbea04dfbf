"""Places in what has names and numbers inside: `/players/3/name`, `/players/[name=Isa]/gold`.

A place is written like a JSON Pointer (RFC 6901): steps behind slashes, each a name, or a number
in a list. Besides, `*` is every one there, `#` how many there are, and `[place=value]` those in
which that value stands at that place. In a name, `~1` is a slash, `~0` a tilde, and `~*`, `~#`,
`~[`, `~]` the sign itself.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from functools import lru_cache
from typing import Any, NamedTuple

from clever_ferry.errors import DamagedError

__all__ = [
    "COUNT",
    "EVERY",
    "Choice",
    "NotOne",
    "PlaceError",
    "Step",
    "escaped",
    "one_at_each",
    "place_fault",
    "set_at",
    "stands_in",
    "steps_of",
    "text_of",
    "value_at",
    "values_at",
]


class PlaceError(DamagedError):
    """A place that leads nowhere in the value at hand, or that is not written as one."""


class _Sign(NamedTuple):
    sign: str


class Choice(NamedTuple):
    """Those in which a value, as text, stands at a place."""

    steps: tuple[Step, ...]
    value: str


Step = str | _Sign | Choice
EVERY, COUNT = _Sign("*"), _Sign("#")


@lru_cache(1024)
def steps_of(place: str) -> tuple[Step, ...]:
    """Return a place's steps; raises PlaceError where it is not written as one.

    >>> steps_of("/players/*/gold")
    ('players', _Sign(sign='*'), 'gold')
    """
    if place == "":
        return ()
    if not place.startswith("/"):
        raise PlaceError(f"The place {place!r} must start with '/'.")
    return tuple(_step(part, place) for part in _parts(place[1:], place))


def escaped(name: str) -> str:
    """Return a name as it is written in a place.

    >>> escaped("a/b"), escaped("#7")
    ('a~1b', '~#7')
    """
    name = name.replace("~", "~0").replace("/", "~1").replace("]", "~]")
    return f"~{name}" if name[:1] in ("*", "#", "[") and name else name


def place_fault(place: str) -> str:
    """Return why a text is no place; '' where it is one."""
    try:
        steps_of(place)
    except PlaceError as error:
        return error.what
    return ""


def _parts(text: str, place: str) -> list[str]:
    """Cut at slashes, but not at those within brackets."""
    if "[" not in text:
        return text.split("/")
    found, begin, inside, escaped = [], 0, False, False
    for at, char in enumerate(text):
        if escaped:
            escaped = False
        elif char == "~":
            escaped = True
        elif inside:
            inside = char != "]"
        elif char == "[" and at == begin:
            inside = True
        elif char == "/":
            found.append(text[begin:at])
            begin = at + 1
    if inside:
        raise PlaceError(f"The place {place!r} has a '[' without its ']'.")
    return [*found, text[begin:]]


def _step(part: str, place: str) -> Step:
    if part == "*":
        return EVERY
    if part == "#":
        return COUNT
    if not part.startswith("["):
        return _plain(part)
    inner, sign, value = part[1:-1].partition("=")
    if not part.endswith("]") or not sign:
        raise PlaceError(f"The place {place!r}: {part!r} should be like [name=value].")
    steps = tuple(_plain(one) for one in inner.split("/"))
    return Choice(steps, _plain(value))


def _plain(part: str) -> str:
    if "~" not in part:
        return part
    found, escaped = "", False
    for char in part:
        if escaped:
            found += {"0": "~", "1": "/"}.get(char, char)
            escaped = False
        elif char == "~":
            escaped = True
        else:
            found += char
    return found


def value_at(value: Any, place: str) -> Any:
    """Return what stands at a place; raises PlaceError where nothing does."""
    steps = steps_of(place)
    found = value
    try:
        for step in steps:
            found = len(found) if step is COUNT and type(found) is list else found[step]
        return found
    except (KeyError, TypeError):
        pass  # a number in a list or a choice is on the way, or nothing stands there
    for step in steps:
        inner = list(_within(value, step))
        if step is EVERY or not inner:
            raise PlaceError(f"Nothing stands at {place!r}: {_shown(step)!r} is not there.")
        if len(inner) > 1:
            raise PlaceError(f"More than one stands at {place!r}: {_shown(step)!r} is not single.")
        value = inner[0]
    return value


def values_at(value: Any, place: str) -> list[Any]:
    """Return all that stands at a place, in order; none where nothing does."""
    steps = steps_of(place)
    single = value
    try:
        for step in steps:  # most places are names in mappings
            single = single[step]
        return [single]
    except (KeyError, TypeError):
        pass
    found = [value]
    for step in steps:
        found = [inner for one in found for inner in _within(one, step)]
    return found


class NotOne(NamedTuple):
    """That not one value stands at a place, but so many."""

    found: int


def one_at_each(value: Any, places: tuple[str, ...]) -> list[Any]:
    """Return for each place the one value that stands there, or `NotOne`.

    Listings ask for very many: most places are names in mappings, or how many a list has.
    """
    found: list[Any] = []
    for place, names, counted in _names_of(places):
        single = value
        try:
            for name in names:
                single = single[name]
        except (KeyError, TypeError):
            pass
        else:
            if not counted:
                found.append(single)
                continue
            if type(single) is list:
                found.append(len(single))
                continue
        every = values_at(value, place)
        found.append(every[0] if len(every) == 1 else NotOne(len(every)))
    return found


@lru_cache(256)
def _names_of(places: tuple[str, ...]) -> list[tuple[str, tuple[Step, ...], bool]]:
    """Return places with their steps, but for a last one that counts, and whether there is one."""
    found = []
    for place in places:
        steps = steps_of(place)
        counted = bool(steps) and steps[-1] is COUNT
        found.append((place, steps[:-1] if counted else steps, counted))
    return found


def set_at(value: Any, place: str, new: Any) -> None:
    """Set what stands at a place in place; raises PlaceError where nothing does yet."""
    steps = steps_of(place)
    value_at(value, place)
    for step in steps[:-1]:
        (value,) = _within(value, step)
    last = steps[-1]
    value[int(str(last)) if isinstance(value, list) else last] = new


def _within(value: Any, step: Step) -> Iterator[Any]:
    """Yield what one step leads to in nested mappings and lists."""
    match step, value:
        case str(), dict():
            if step in value:
                yield value[step]
        case str(), list():
            if step.isdecimal() and int(step) < len(value):
                yield value[int(step)]
        case _Sign(), dict() | list():
            if step is EVERY:
                yield from value.values() if isinstance(value, dict) else value
            elif isinstance(value, list):
                yield len(value)
        case Choice(), dict() | list():
            for one in value.values() if isinstance(value, dict) else value:
                if stands_in(one, step):
                    yield one


def stands_in(value: Any, choice: Choice) -> bool:
    """Tell whether a choice takes one of nested values."""
    for step in choice.steps:
        with suppress(ValueError):
            (value,) = _within(value, step)
            continue
        return False
    return not isinstance(value, dict | list) and text_of(value) == choice.value


def text_of(value: object) -> str:
    """Return a single value as a place names it.

    >>> text_of(True), text_of(7), text_of(None)
    ('true', '7', 'null')
    """
    if isinstance(value, bool):
        return "true" if value else "false"
    return "null" if value is None else str(value)


def _shown(step: Step) -> str:
    if isinstance(step, _Sign):
        return step.sign
    return step if isinstance(step, str) else f"[{'/'.join(map(str, step.steps))}={step.value}]"
