"""Facts: what a player knows a save by, read from its pieces or its name."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from contextlib import suppress
from datetime import date
from typing import Any, NamedTuple

import msgspec

from clever_ferry.cargo import Fact, Piece
from clever_ferry.errors import (
    DamagedError,
    KeyNeededError,
    NotFoundError,
    RefusedError,
    UnsupportedError,
)
from clever_ferry.layers import Chain
from clever_ferry.layouts import Layout, every, point
from clever_ferry.payload import Payload, head, read_all
from clever_ferry.recipes.models import FactInfo, PacksInfo, PieceInfo
from clever_ferry.visible import visible

__all__ = ["UNREADABLE", "FactReader", "FactsRead", "in_words"]

UNREADABLE = (DamagedError, NotFoundError, RefusedError)
"""What a piece can do to its reader: be damaged, or gone, or changed while it was read."""

_LARGEST_TEXT = 16 << 20
_SINGLE = (int, float, str)
_TOP = "\0top"
"""Stands for what an INI file says before its first section."""
_LAYOUT_WINDOW = 1 << 16
_DAYS_TO_YEAR_1 = 365
"""Year 0 of the days-0 count is a leap year; Python's ordinals count from 1 January of year 1."""


class FactsRead(msgspec.Struct, frozen=True, gc=False):
    """Facts, what is wrong with the save, and what could merely not be told."""

    facts: tuple[Fact, ...]
    problems: tuple[str, ...]
    notes: tuple[str, ...]
    packs: tuple[str, ...] = ()
    """The add-ons that the save uses."""


class _Source(NamedTuple):
    """What facts are read from: a piece, and how it is opened."""

    role: str
    layout: str | None
    opens: tuple[str, ...] | None


_Wanted = tuple[int, str, FactInfo]
"""Which of the facts it is, its key, and what the recipe says of it."""


class FactReader:
    """Reads a game's facts, as its recipe says."""

    def __init__(
        self,
        facts: Mapping[str, FactInfo],
        pieces: Mapping[str, PieceInfo],
        layouts: Mapping[str, Layout],
        layers: Mapping[str, Chain],
        packs: PacksInfo | None = None,
    ) -> None:
        self._facts, self._pieces = facts, pieces
        self._layouts, self._layers, self._packs = layouts, layers, packs
        self._named: list[_Wanted] = []
        self._wanted: dict[_Source, list[_Wanted]] = {}
        for place, (key, info) in enumerate(facts.items()):
            if info.source is None:
                self._named.append((place, key, info))
            else:
                source = _Source(info.source, info.layout, info.opens)
                self._wanted.setdefault(source, []).append((place, key, info))
        self._packs_source = _Source(packs.source, None, packs.opens) if packs else None
        if self._packs_source is not None:
            self._wanted.setdefault(self._packs_source, [])

    @property
    def from_names(self) -> frozenset[str]:
        """The facts that are parts of names."""
        return frozenset(key for key, info in self._facts.items() if info.field is not None)

    @property
    def sources(self) -> frozenset[str]:
        """The roles that facts are read from."""
        return frozenset(info.source for info in self._facts.values() if info.source is not None)

    @property
    def reads_content(self) -> bool:
        """Whether any fact is read from a piece."""
        return len(self.from_names) < len(self._facts)

    @property
    def secrets(self) -> set[str]:
        """What only the user can state to open pieces that stay wrapped, by its names."""
        opened = {name for info in self._pieces.values() for name in info.opens}
        opened |= {name for info in self._facts.values() for name in info.opens or ()}
        opened |= {*((self._packs.opens or ()) if self._packs else ())}
        return {secret for name in opened for secret in self._layers[name].secrets}

    def read(
        self,
        fields: Mapping[str, int | str],
        pieces: Sequence[Piece],
        given: Mapping[str, int | str] | None = None,
        keyless: bool = False,
    ) -> FactsRead:
        """Return the facts that can be read, and why others can't.

        `given` is what the user has stated. Raises KeyNeededError where a key is missing; with
        `keyless`, that is only noted.
        """
        facts: list[Fact | None] = [None] * len(self._facts)
        problems: list[str] = []
        notes: list[str] = []
        packs: tuple[str, ...] = ()
        for place, key, info in self._named:
            if info.field is not None and info.field in fields:
                facts[place] = _fact(key, info, fields[info.field])
        first = {piece.role: piece for piece in reversed(pieces)}
        for source, wanted in self._wanted.items():
            piece = first.get(source.role)
            if piece is None or piece.problem or piece.locked:
                continue  # a missing or unreadable piece is told as such
            try:
                inside = self._open(source, piece, given)
            except KeyNeededError as error:
                if not keyless:
                    raise
                notes.append(f"{piece.entry}: {error.what} {error.advice}")
                continue
            except UnsupportedError as error:
                why = error.what.rstrip(".")
                notes += [f"{info.label} is not known: {why}" for _, _, info in wanted]
                continue
            except UNREADABLE as error:
                problems.append(f"{piece.entry}: {error.what.rstrip('.')}")
                continue
            except OSError as error:
                problems.append(f"{piece.entry}: it can't be read: {error.strerror or error}")
                continue
            for place, key, info in wanted:
                try:
                    value = point(inside, info.at or "")
                except DamagedError as error:
                    problems.append(f"{piece.entry}: {error.what.rstrip('.')}")
                    continue
                if isinstance(value, _SINGLE):
                    facts[place] = _fact(key, info, value)
                else:
                    where = f"{info.at} in the {piece.title}"
                    problems.append(f"{info.label}: {where} is no single value")
            if self._packs is not None and source == self._packs_source:
                used = every(inside, self._packs.at)
                packs = tuple(dict.fromkeys(str(one) for one in used if isinstance(one, str | int)))
        return FactsRead(
            tuple([fact for fact in facts if fact is not None]),
            tuple(dict.fromkeys(problems)),
            tuple(dict.fromkeys(notes)),
            packs,
        )

    def check(self, piece: Piece, given: Mapping[str, int | str] | None = None) -> str:
        """Read a piece to its end, through the layers that it opens by; return what is damaged.

        `given` is what the user has stated; raises KeyNeededError where a key is missing.
        """
        payload: Payload = piece.payload
        try:
            for name in self._pieces[piece.role].opens:
                payload = self._layers[name].peel(payload, given).payload
            for _ in payload.chunks():
                pass
        except UnsupportedError:
            return ""  # what no recipe describes can't be checked, and may be fine
        except UNREADABLE as error:
            return error.what.rstrip(".")
        except OSError as error:
            return f"it can't be read: {error.strerror or error}"
        return ""

    def _open(self, source: _Source, piece: Piece, given: Mapping[str, int | str] | None) -> Any:
        """Return what is in a piece, as values."""
        payload: Payload = piece.payload
        opens = self._pieces[piece.role].opens if source.opens is None else source.opens
        for name in opens:
            payload = self._layers[name].peel(payload, given).payload
        if source.layout is not None:
            return self._layouts[source.layout].read(head(payload, _LAYOUT_WINDOW))[0]
        raw = read_all(payload, limit=_LARGEST_TEXT, what=f"The {piece.title}")
        holds = self._pieces[piece.role].holds
        if holds == "ini":
            return _read_ini(raw, piece)
        if holds == "xml":
            from clever_ferry.recipes.xml_text import read_xml

            return read_xml(raw, f"the {piece.entry}")
        return _read_json(raw, piece)


def _read_json(raw: bytes, piece: Piece) -> Any:
    try:
        return msgspec.json.decode(raw)  # the same values as by `json`, but strict, and quicker
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        pass
    try:
        return json.loads(raw)
    except (ValueError, RecursionError) as error:
        raise DamagedError(f"the {piece.entry} is no JSON that can be read ({error}).") from None


def _read_ini(raw: bytes, piece: Piece) -> Any:
    import configparser

    parser = configparser.ConfigParser(interpolation=None, strict=False, allow_no_value=True)
    try:
        parser.read_string(f"[{_TOP}]\n{raw.decode('utf-8-sig')}")
    except (UnicodeDecodeError, configparser.Error) as error:
        raise DamagedError(f"the {piece.entry} is no INI text ({error}).") from None
    sections = {name: dict(parser[name]) for name in parser.sections()}
    return {**sections.pop(_TOP), **sections}


def _fact(key: str, info: FactInfo, value: int | float | str) -> Fact:
    unit = info.unit
    if isinstance(value, str) and unit in ("s", "count", "days-0"):
        value = _number(value)  # INI and XML know text alone
    return Fact(key, info.label, value, in_words(value, unit), unit)


def _number(text: str) -> int | float | str:
    for kind in (int, float):
        with suppress(ValueError):
            return kind(text[:40])
    return text


def in_words(value: int | float | str, unit: str | None) -> str:
    """Return a value as a player would say it.

    >>> in_words(43500, "s"), in_words(1250, "count"), in_words(712225, "days-0")
    ('12 h 05 min', '1,250', '1950-01-03')
    """
    if isinstance(value, str):
        return visible(value).replace("\n", "\N{REPLACEMENT CHARACTER}")
    if isinstance(value, bool):
        return str(value)
    if isinstance(value, float) and not math.isfinite(value):
        return "no number"
    match unit:
        case "s":
            minutes = int(value) // 60
            return f"{minutes // 60} h {minutes % 60:02} min" if minutes >= 60 else f"{minutes} min"
        case "days-0":
            return _calendar_day(int(value))
        case "count":
            return f"{value:,}"
        case _:
            return str(value)


def _calendar_day(days: int) -> str:
    """Return the ISO date, also beyond the year 9999 (the calendar repeats every 146,097 days)."""
    turns, inner = divmod(days - _DAYS_TO_YEAR_1 - 1, 146_097)
    day = date.fromordinal(inner + 1)
    return f"{day.year + 400 * turns:04}-{day.month:02}-{day.day:02}"
