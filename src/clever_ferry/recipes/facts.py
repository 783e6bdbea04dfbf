"""Facts: what a player knows a save by, read from its pieces or its name."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple

import msgspec

from clever_ferry.cargo import Fact, Piece, Save
from clever_ferry.certainty import Evidence
from clever_ferry.documents.document import held, one_value_in_each, values_in
from clever_ferry.documents.form import Form
from clever_ferry.documents.places import NotOne, one_at_each, values_at
from clever_ferry.errors import (
    DamagedError,
    KeyNeededError,
    NotFoundError,
    RefusedError,
    UnsupportedError,
)
from clever_ferry.forms.recognising import ANY, document_of
from clever_ferry.layers import UNKNOWN, Chain, Known
from clever_ferry.layouts import Layout
from clever_ferry.payload import Payload, head
from clever_ferry.recipes.fact_models import FactInfo
from clever_ferry.recipes.models import PacksInfo, PieceInfo
from clever_ferry.recipes.table_models import TableInfo
from clever_ferry.recipes.tables import fact_of, number_in, read_tables, with_referred

__all__ = ["UNREADABLE", "FactReader", "FactsRead"]

UNREADABLE = (DamagedError, NotFoundError, RefusedError)
"""What a piece can do to its reader: be damaged, or gone, or changed while it was read."""

_SINGLE = (int, float, str)
_LAYOUT_WINDOW = 1 << 16


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
    opens: tuple[str, ...]
    holds: str | None
    header: str | None = None


_Wanted = tuple[int, str, str, str | None, str, bool]
"""Which of the facts it is, its key, label and unit, where in its source it stands, if shown."""


class _Sought(msgspec.Struct, frozen=True):
    """What is read from one source."""

    source: _Source
    wanted: tuple[_Wanted, ...]
    places: tuple[str, ...]
    """Where each of them stands."""
    packs: str | None
    """Where the add-ons that it needs stand, if there."""


class FactReader:
    """Reads a game's facts, as its recipe says."""

    def __init__(
        self,
        facts: Mapping[str, FactInfo],
        pieces: Mapping[str, PieceInfo],
        layouts: Mapping[str, Layout],
        layers: Mapping[str, Chain],
        packs: PacksInfo | None = None,
        forms: Mapping[str, Form] | None = None,
        tables: Mapping[str, TableInfo] | None = None,
    ) -> None:
        """`forms` are the recipe's own, by name."""
        self._tables = tables or {}
        self._by_table: list[tuple[int, str, FactInfo]] = []
        self._facts, self._pieces = facts, pieces
        self._layouts, self._layers, self._packs = layouts, layers, packs
        self.forms = forms or {}
        self._named: list[tuple[int, str, FactInfo]] = []
        by_source: dict[_Source, list[_Wanted]] = {}
        for place, (key, info) in enumerate(facts.items()):
            if info.table is not None:
                self._by_table.append((place, key, info))
            elif info.source is None:
                self._named.append((place, key, info))
            else:
                source = self._source(info.source, info.layout, info.opens, info.header)
                wanted: _Wanted = (place, key, info.label, info.unit, info.at or "", info.shown)
                by_source.setdefault(source, []).append(wanted)
        packed = self._source(packs.source, None, packs.opens) if packs else None
        if packed is not None:
            by_source.setdefault(packed, [])
        self._sought = [
            _Sought(
                source, tuple(wanted), tuple([at for *_, at, _ in wanted]),
                packs.at if packs is not None and source == packed else None,
            )
            for source, wanted in by_source.items()
        ]  # fmt: skip

    def _source(
        self, role: str, layout: str | None, opens: tuple[str, ...] | None,
        header: str | None = None,
    ) -> _Source:  # fmt: skip
        piece = self._pieces.get(role, PieceInfo())
        return _Source(role, layout, piece.opens if opens is None else opens, piece.holds, header)

    def form(self, holds: str, payload: Payload) -> Form | str:
        """Return the form of what a piece `holds`; raises UnsupportedError where none shows."""
        if holds == ANY and not (holds := document_of(head(payload, 4096))):
            raise UnsupportedError("what form it has does not show in its beginning")
        if holds == "sqlite" and holds not in self.forms:
            from clever_ferry.forms.rows import Rows  # SQLite takes its time

            return Rows()
        return self.forms.get(holds, holds)

    def form_of(self, role: str, payload: Payload) -> Form | str:
        """Return that of a piece's inside."""
        return self.form(self._pieces[role].holds or "", payload)

    def layout(self, name: str) -> Layout:
        """Return a layout of the recipe."""
        return self._layouts[name]

    @property
    def from_names(self) -> frozenset[str]:
        """The facts that are parts of names."""
        return frozenset(key for key, info in self._facts.items() if info.field is not None)

    @property
    def sources(self) -> frozenset[str]:
        """The roles that facts are read from."""
        return frozenset(info.source for info in self._facts.values() if info.source is not None)

    def source_of(self, key: str) -> str | None:
        """Return the role that a fact is read from; None where it is a part of the name."""
        return self._facts[key].source

    @property
    def reads_content(self) -> bool:
        """Whether any fact is read from a piece."""
        return bool(self._sought or self._by_table)

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
        known: Known = UNKNOWN,
        keyless: bool = False,
    ) -> FactsRead:
        """Return the facts that can be read, and why others can't.

        `known` is what is known of their berth. Raises KeyNeededError where a key is missing; with
        `keyless`, that is only noted.
        """
        facts: list[Fact | None] = [None] * len(self._facts)
        problems: list[str] = []
        notes: list[str] = []
        packs: tuple[str, ...] = ()
        for place, key, info in self._named:
            if info.field is not None and info.field in fields:
                facts[place] = _fact(key, info.label, fields[info.field], info.unit, info.shown)
            elif info.files is not None and (told := _of_files(info.files, pieces)) is not None:
                facts[place] = Fact(key, info.label, told, info.unit, info.shown)
        if self._by_table:
            notes += self._told_by_tables(facts, fields, pieces, known, keyless)
        for sought in self._sought:
            source, wanted = sought.source, sought.wanted
            role = source.role
            for piece in pieces:
                if piece.role == role:
                    break
            else:
                continue  # a missing piece is told as such, and one that can't be read, too
            if piece.problem or piece.locked:
                continue
            try:
                inside, used = self._values(sought, piece, known)
            except KeyNeededError as error:
                if not keyless:
                    raise
                notes.append(f"{piece.entry}: {error.what} {error.advice}")
                continue
            except (UnsupportedError, DamagedError) as error:
                why = error.what.rstrip(".")
                fault = self._own_fault(source, piece, known, error)
                if fault:
                    problems.append(f"{piece.entry}: {fault}")
                else:
                    notes.append(_unknown([label for _, _, label, _, _, _ in wanted], why))
                continue
            except UNREADABLE as error:
                problems.append(f"{piece.entry}: {error.what.rstrip('.')}")
                continue
            except OSError as error:
                problems.append(f"{piece.entry}: it can't be read: {error.strerror or error}")
                continue
            for (place, key, label, unit, at, shown), value in zip(wanted, inside, strict=True):
                if type(value) is int:  # most are so
                    facts[place] = Fact(key, label, value, unit, shown)
                elif isinstance(value, _SINGLE):
                    facts[place] = _fact(key, label, value, unit, shown)
                elif isinstance(value, NotOne):
                    told = "more than one stands" if value.found else "nothing stands"
                    notes.append(_unknown([label], f"{piece.entry}: {told} at {at!r}"))
                else:
                    notes.append(_unknown([label], f"{at} in the {piece.title} is no single value"))
            if used:
                packs = tuple(dict.fromkeys(str(one) for one in used if isinstance(one, str | int)))
        known_facts = tuple(filter(None, facts))
        if not problems and not notes:  # most are so
            return FactsRead(known_facts, (), (), packs)
        return FactsRead(known_facts, _once(problems), _once(notes), packs)

    def _told_by_tables(
        self, facts: list[Fact | None], fields: Mapping[str, int | str], pieces: Sequence[Piece],
        known: Known, keyless: bool,
    ) -> list[str]:  # fmt: skip
        """Put what tables tell among the facts; return why some could not be told."""
        facts_of = [info.table for *_, info in self._by_table if info.table]
        names = dict.fromkeys(one.table for one in facts_of)
        owned = with_referred(self._tables, [one.table for one in facts_of if one.of is not None])
        names |= dict.fromkeys(owned)
        save = Save(0, fields, tuple(pieces))
        try:
            read = read_tables({name: self._tables[name] for name in names}, self, save, known)
        except KeyNeededError as error:
            if not keyless:
                raise
            return [f"{error.what} {error.advice}"]
        tables = {table.name: table for table in read}
        notes: list[str] = []
        for place, key, info in self._by_table:
            assert info.table is not None
            table = tables[info.table.table]
            if table.read:
                value = fact_of(info.table, table)
                facts[place] = Fact(key, info.label, value, info.unit, info.shown)
            else:
                notes.append(_unknown([info.label], table.troubles[0]))
        return notes

    def inside(
        self, piece: Piece, known: Known = UNKNOWN
    ) -> tuple[Payload, tuple[Callable[[], Evidence], ...]]:
        """Return a piece without the layers that it `opens` by, and what reading it establishes."""
        payload: Payload = piece.payload
        evidence: tuple[Callable[[], Evidence], ...] = ()
        for name in self._pieces[piece.role].opens:
            unwrapped = self._layers[name].unwrap(payload, known)
            payload, evidence = unwrapped.payload, (*evidence, *unwrapped.evidence)
        return payload, evidence

    def _own_fault(
        self, source: _Source, piece: Piece, known: Known,
        error: DamagedError | UnsupportedError,
    ) -> str:  # fmt: skip
        """Return what is wrong with a piece of which a fact could not be read; '' for nothing.

        A fact may fit another release than this; damage is what the piece's own form tells.
        """
        info = self._pieces[piece.role]
        if isinstance(error, DamagedError) and source == (
            piece.role,
            None,
            info.opens,
            info.holds,
            None,
        ):
            return error.what.rstrip(".")
        try:
            payload, _ = self.inside(piece, known)
            for _chunk in payload.chunks() if info.opens else ():
                pass
        except DamagedError as own:
            return own.what.rstrip(".")
        except UnsupportedError:
            pass
        return ""

    def _values(self, sought: _Sought, piece: Piece, known: Known) -> tuple[list[Any], list[Any]]:
        """Return the one value (or `NotOne`) at each fact's place in a piece, and its add-ons."""
        source, places, packs = sought.source, sought.places, sought.packs
        if source.header is not None:
            return one_at_each(dict(piece.headers.get(source.header, {})), places), []
        payload: Payload = piece.payload
        for name in source.opens:
            payload = self._layers[name].unwrap(payload, known).payload
        if source.layout is None:
            form = self.form(source.holds or "", payload)
            if packs is None:
                return one_value_in_each(form, payload, places), []
            payload = held(payload)
            (used,) = values_in(form, payload, [packs])
            return one_value_in_each(form, payload, places), used
        inside = self._layouts[source.layout].read(head(payload, _LAYOUT_WINDOW))[0]
        return one_at_each(inside, places), [] if packs is None else values_at(inside, packs)


def _of_files(what: str, pieces: Sequence[Piece]) -> int | str | None:
    """Return how many files a save has, their bytes, or when the newest was written (UTC)."""
    if what == "count":
        return len({file for piece in pieces for file in piece.files})
    if what == "size":
        return sum(piece.size or 0 for piece in pieces)
    stamps = [piece.stamp for piece in pieces if piece.stamp is not None]
    return (
        f"{datetime.fromtimestamp(max(stamps) // 10**9, UTC):%Y-%m-%d %H:%M:%S}" if stamps else None
    )


def _unknown(labels: Sequence[str], why: str) -> str:
    *others, last = labels
    told = f"{', '.join(others)} and {last} are" if others else f"{last} is"
    return f"{told} not known: {why}"


def _once(headers: list[str]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(headers))


def _fact(key: str, label: str, value: int | float | str, unit: str | None, shown: bool) -> Fact:
    if unit is not None and isinstance(value, str) and unit in ("s", "count", "days-0"):
        number = number_in(value)  # INI and XML know text alone
        value = value if number is None else number
    return Fact(key, label, value, unit, shown)
