"""What a run says of a save: that the game has loaded it, or refused it, or neither."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from typing import Literal

from msgspec import Struct

from clever_ferry.cargo import Fact, is_number
from clever_ferry.judging.running import Ran
from clever_ferry.recipes.loader_models import LoaderInfo, parts_of
from clever_ferry.recipes.tables import number_in
from clever_ferry.visible import visible

__all__ = ["Enough", "How", "Told", "Verdict", "judge"]

How = Literal["loads", "refused", "unlike", "silent", "crashed", "time", "memory", "output",
              "missing", "not asked"]  # fmt: skip
_LINES = 6
_LONGEST = 300
_CRASHED = 128
"""Exit codes from which on a program did not end by its own will."""


class Told(Struct, frozen=True):
    """A fact, as the game tells it and as it stands in the save."""

    key: str
    label: str
    ours: str
    theirs: str
    same: bool


class Verdict(Struct, frozen=True):
    """What the game made of a save."""

    how: How
    what: str
    """That in words."""
    said: tuple[str, ...] = ()
    """The line that decided it; else the last ones."""
    told: tuple[Told, ...] = ()
    untold: tuple[str, ...] = ()
    """Facts that it was expected to tell, and did not, by their labels."""
    command: tuple[str, ...] = ()
    shut_in: bool = False
    """Whether it ran where it could write to nothing else and reach no network."""
    seconds: float = 0.0

    @property
    def loads(self) -> bool:
        """Whether the game has loaded the save."""
        return self.how == "loads"


class Enough:
    """Tells whether no more needs to be waited for, as what a program says grows."""

    def __init__(self, loader: LoaderInfo, clock: Callable[[], float] = time.monotonic) -> None:
        self._loader, self._clock = loader, clock
        self._since: float | None = None

    def __call__(self, text: str) -> bool:
        """Tell so of what it has said so far."""
        if _line_with(self._loader.refused, text):
            return True
        wait = self._loader.stopped_after
        if wait is None or not _line_with(self._loader.loaded, text):
            return False
        self._since = self._clock() if self._since is None else self._since
        return self._clock() - self._since >= wait


def judge(loader: LoaderInfo, ran: Ran, facts: Sequence[Fact]) -> Verdict:
    """Return what a run says of a save with these facts; of words of doubt, the worst count."""
    loaded, goes_on = _line_with(loader.loaded, ran.text), loader.stopped_after is not None
    refused = _line_with(loader.refused, ran.text)
    if refused:
        return Verdict("refused", "the game refuses it", (refused,))
    last = tuple(_lines(ran.text)[-_LINES:])
    if ran.ended in ("memory", "output"):
        why = {"memory": "it took more memory than it may", "output": "it said too much"}
        return Verdict(ran.ended, f"the game was ended, as {why[ran.ended]}", last)
    if ran.code is not None and not 0 <= ran.code < _CRASHED:
        return Verdict("crashed", f"the game crashed (exit code {ran.code})", last)
    if ran.ended == "time" and not (loaded and goes_on):
        return Verdict("time", f"the game did not end within {loader.seconds:,} seconds", last)
    if goes_on and ran.ended == "itself":
        return Verdict("crashed", f"the game ended by itself (exit code {ran.code})", last)
    right = goes_on or ran.code in (loader.exits or (0,))
    if loader.loaded and not loaded:
        code = f" (exit code {ran.code})" if ran.code is not None else ""
        return Verdict("silent", f"the game said neither that it loads nor why not{code}", last)
    if not right:
        said = "said that it loads, and then" if loaded else "said nothing of it, and"
        how: How = "crashed" if loaded else "silent"
        return Verdict(how, f"the game {said} ended with exit code {ran.code}", last)
    told, untold = _told(loader.tells, ran.text, {fact.key: fact for fact in facts})
    decided = (loaded,) if loaded else last
    if differing := [one for one in told if not one.same]:
        what = ", ".join(f"{one.label} {one.theirs} and not {one.ours}" for one in differing)
        what = f"the game tells {what}: what it loaded is not this progress"
        return Verdict("unlike", what, decided, told, untold)
    return Verdict("loads", "the game has loaded it", decided, told, untold)


def _told(
    tells: Mapping[str, str], text: str, facts: Mapping[str, Fact]
) -> tuple[tuple[Told, ...], tuple[str, ...]]:
    told, untold = [], []
    for key, pattern in tells.items():
        fact = facts.get(key)
        if fact is None:
            continue  # we can't tell it, so nothing is there to compare
        value = _value(pattern, text)
        if value is None:
            untold.append(fact.label)
        else:
            told.append(Told(key, fact.label, fact.text, value, _says(fact, value)))
    return tuple(told), tuple(untold)


def _says(fact: Fact, value: str) -> bool:
    """Tell whether a text says what a fact does."""
    plain = value.casefold()
    if plain in (fact.text.casefold(), str(fact.value).casefold()):
        return True
    return is_number(fact.value) and number_in(plain.replace(",", "")) == fact.value


def _value(pattern: str, text: str) -> str | None:
    """Return what stands in the place of {}, on the first line that has what is around it.

    Lines that begin with it go before those that have it further on.
    """
    parts = parts_of(pattern)
    lines = [one.strip() for one in text.split("\n") if parts[0] in one]
    for line in sorted(lines, key=lambda one: not one.startswith(parts[0])):
        if value := _captured(parts, line):
            return visible(value)[:_LONGEST]
    return None


def _captured(parts: Sequence[str], line: str) -> str:
    """Return what stands at {} in a line, '' where the line is not so; each text is found once."""
    at = line.find(parts[0]) + len(parts[0])
    value = ""
    for kind, text in zip(parts[1::2], parts[2::2], strict=True):
        end = line.find(text, at) if text else len(line)
        if end < 0:
            return ""
        if kind == "{}":
            value = line[at:end].strip()
        at = end + len(text)
    return value


def _line_with(words: Sequence[str], text: str) -> str:
    """Return the first line that has any of some texts, '' where none has."""
    places = [at for at in (text.find(word) for word in words) if at >= 0]
    if not places:
        return ""
    at = min(places)
    line = text[text.rfind("\n", 0, at) + 1 :].partition("\n")[0]
    return visible(line.strip())[:_LONGEST]


def _lines(text: str) -> list[str]:
    return [visible(one.strip())[:_LONGEST] for one in text.split("\n") if one.strip()]
