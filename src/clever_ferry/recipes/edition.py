"""Editions at work: one description reads a box's entries as saves and lays saves as entries."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct, field

from clever_ferry.boxes import Box
from clever_ferry.cargo import Comparison, Piece, Save
from clever_ferry.documents.form import Form
from clever_ferry.layers import Chain, Known
from clever_ferry.layers.agreements import Claim
from clever_ferry.moving.names import folded
from clever_ferry.naming import FieldSpec, JoinedField, Names, NumberField, Pattern, Value
from clever_ferry.payload import Payload
from clever_ferry.recipes.agreeing import unlike, unlike_facts
from clever_ferry.recipes.configs import Config
from clever_ferry.recipes.facts import FactReader
from clever_ferry.recipes.loader_models import LoaderInfo
from clever_ferry.recipes.models import (
    ArrivingInfo,
    HandoverInfo,
    InstalledInfo,
    LimitInfo,
    PieceInfo,
)
from clever_ferry.recipes.part_models import PartInfo
from clever_ferry.recipes.parts import Berthing, Cloud, Mark, Packs, PieceFile, Running
from clever_ferry.recipes.sidecars import Sidecar
from clever_ferry.recipes.table_models import TableInfo

if TYPE_CHECKING:
    from clever_ferry.layers.lists import Unlisted

__all__ = ["Edition", "Game", "values_of"]

_MOST_SHOWN = 10_000
"""Slots that are known by how they are shown."""


class Edition(Struct, frozen=True, dict=True, kw_only=True):
    """A compiled edition of one game."""

    id: str
    title: str
    box: Box
    box_title: str | None
    berths: tuple[Berthing, ...]
    fields: Mapping[str, FieldSpec]
    berth_fields: frozenset[str]
    key_fields: tuple[str, ...]
    """The name fields that make out which save a file belongs to."""
    files: tuple[PieceFile, ...]
    pieces: Mapping[str, PieceInfo]
    reader: FactReader
    most_slots: int | None
    start: str | None
    after: tuple[str, ...]
    runs_as: tuple[str, ...]
    running: Running | None
    """What else shows that it runs."""
    never: tuple[Pattern, ...]
    """Names of files that are never written nor removed, whatever else they fit."""
    clouds: tuple[Cloud, ...]
    apps: tuple[str, ...] = ()
    """The game's numbers in libraries, which name its own prefix."""
    marks: tuple[Mark, ...] = ()
    rebuilt: tuple[Pattern, ...] = ()
    """Names of files that the game makes anew, so that a crossing removes them."""
    not_newer: str | None = None
    """The fact that must not be newer in what is carried than in the target's own saves."""
    installed: InstalledInfo | None = None
    """The file that says of which version the game is."""
    packs: Packs | None = None
    limits: tuple[LimitInfo, ...] = ()
    loader: LoaderInfo | None = None
    """How its game is asked whether a save loads."""
    configs: tuple[Config, ...] = ()
    """Files that tell its game which save to load."""
    arriving: Mapping[str, ArrivingInfo] = field(default_factory=dict)
    """What is special about saves from another edition, by its id."""
    before: tuple[str, ...] = ()
    newest: str | None = None
    """The name field of which the highest counts, where several generations are kept."""

    @property
    def optional_fields(self) -> frozenset[str]:
        """Those of the key fields that a save's name may do without."""
        return frozenset(
            name
            for name in self.key_fields
            for file in self.files
            for pattern in file.patterns[0].shorter
            if not self.pieces[file.role].shared and name not in pattern.fields
        )

    @property
    def secrets(self) -> set[str]:
        """What only the user can state, such as a key, by its names."""
        return {name for file in self.files for name in file.chain.secrets} | self.reader.secrets

    @property
    def asked(self) -> set[str]:
        """The fields of headers that the user may state."""
        return {name for file in self.files for name in file.chain.asked}

    @property
    def numbered(self) -> bool:
        """Whether its names carry a slot's number."""
        return "slot" in self.key_fields and isinstance(
            self.fields["slot"], NumberField | JoinedField
        )

    @property
    def named_by_number(self) -> bool:
        """Whether its saves have no slots, and a number as all of their name, such as a port."""
        own = [self.fields[name] for name in self.key_fields]
        return not self.numbered and len(own) == 1 and isinstance(own[0], NumberField)

    @property
    def part_fields(self) -> frozenset[str]:
        """The parts that make its fields together: headers can repeat them, too."""
        joined = (one for one in self.fields.values() if isinstance(one, JoinedField))
        return frozenset(part for one in joined for part in one.of)

    def parts_of(self, values: Mapping[str, Value]) -> dict[str, Value]:
        """Return the values of the parts that make fields together, counted from 1."""
        found: dict[str, Value] = {}
        for name, one in self.fields.items():
            if isinstance(one, JoinedField) and name in values:
                found |= one.parts(values[name])
        return found

    def slot_text(self, slot: int) -> str:
        """Return a slot's number, with how its names show it where that is no number."""
        field = self.fields.get("slot")
        shown = field.shown(slot) if isinstance(field, NumberField | JoinedField) else ""
        return f"{slot} ({shown})" if shown else str(slot)

    def slots_by_number(self, text: str) -> str:
        """Return slots as they are shown (`B2`, `A1-A3,C3`) by their numbers.

        What is shown as a number, and what no slot is shown as, stays as it is.
        """
        field = self.fields.get("slot")
        if not isinstance(field, NumberField | JoinedField) or not field.shown(1):
            return text
        known: dict[str, str] = {}
        for slot in range(1, _MOST_SHOWN):
            if not (shown := field.shown(slot)):
                break
            known.setdefault(shown.casefold(), str(slot))
        parts = (part.strip().split("-") for part in text.split(","))
        return ",".join(
            "-".join(known.get(end.strip().casefold(), end) for end in part) for part in parts
        )

    def enter(self, folder: str) -> bool:
        """Tell whether a folder of a berth may hold pieces."""
        return (
            self._names[True].leads(folder)
            or self._made_anew.leads(folder)
            or any(one.beneath(folder, fold=True) is not None for one in self.trees)
        )

    def barred(self, name: str) -> bool:
        """Tell whether the recipe says that a file or entry is never to be touched."""
        return bool(self.kept_off.read(name))

    def rebuilds(self, name: str) -> bool:
        """Tell whether the game makes a file or entry anew where it is missing."""
        return bool(self._made_anew.read(name))

    def names(self, fold: bool) -> Names[PieceFile]:
        """Return the names of all pieces; `fold` where upper and lower case are the same."""
        return self._names[fold]

    @cached_property
    def _names(self) -> dict[bool, Names[PieceFile]]:
        every = [
            (pattern, file) for file in self.files for pattern in file.patterns if not file.tree
        ]
        return {fold: Names(every, fold=fold) for fold in (False, True)}

    @cached_property
    def endings(self) -> tuple[str, ...]:
        """What the names of an edition's own files end with, in folded case; () if with anything.

        A folder without any such file has no save of it.
        """
        found: list[str] = []
        for file in self.files:
            for pattern in file.patterns if not file.tree else ():
                for one in (pattern, *pattern.shorter):
                    last = one.tokens[-1]
                    found.append(last.rpartition("/")[2] if isinstance(last, str) else "")
            found += file.old
        if self.box_title is not None or "" in found:
            return ()
        return tuple(sorted({folded(one) for one in found}))

    def may_have(self, names: Collection[str]) -> bool:
        """Tell whether a folder whose files have these names can have a save of this edition.

        The names are in folded case.
        """
        ends = self.endings
        return bool(names) and (not ends or any(name.endswith(ends) for name in names))

    @cached_property
    def trees(self) -> tuple[PieceFile, ...]:
        """The pieces that are all else in a folder."""
        return tuple(file for file in self.files if file.tree)

    @cached_property
    def apart(self) -> frozenset[str]:
        """The fields that make out a save and its generation, and so no piece of it."""
        return frozenset([*self.key_fields, *filter(None, [self.newest])])

    @cached_property
    def kept_off(self) -> Names[None]:
        """The names of files that are never to be touched."""
        return Names([(pattern, None) for pattern in self.never], fold=True)

    @cached_property
    def _made_anew(self) -> Names[None]:
        return Names([(pattern, None) for pattern in self.rebuilt], fold=True)

    def missing(self, present: Collection[str]) -> list[str]:
        """Return the roles that a save must have here and those present do not fill."""
        return [
            file.role
            for file in self._asked_for
            if file.role not in present
            and (file.needed or (file.sidecar and file.sidecar.of in present))
        ]

    @cached_property
    def _asked_for(self) -> tuple[PieceFile, ...]:
        """The pieces that may not be missing."""
        return tuple(file for file in self.files if file.needed or file.sidecar)

    def unlike(self, piece: Piece, save: Save, berth_fields: Mapping[str, Value]) -> list[str]:
        """Return where a piece's wrapping says another account, world, slot or fact than is so."""
        if not piece.bound:
            return []
        own = {**berth_fields, **save.fields}
        known = {**own, **self.parts_of(own), **piece.fields}
        what = f"The {piece.title}"
        facts = {key: value for key, value in values_of(save).items() if key not in known}
        return unlike(piece.bound, known, what) + unlike_facts(piece.bound, facts, what)

    def repeated_in(self, role: str) -> frozenset[str]:
        """Return the name fields that a piece's wrapping repeats here."""
        file = self.file_of(role)
        named = self.part_fields.union(self.fields)
        return named.intersection(file.chain.bound) if file else frozenset()

    @cached_property
    def in_order(self) -> tuple[str, ...]:
        """The roles of its pieces, each behind those whose bytes it speaks of."""
        needs = {file.role: file.chain.needs for file in self.files}
        found: list[str] = []
        while len(found) < len(needs):
            found += [one for one in needs if one not in found and needs[one] <= {*found}]
        return tuple(found)

    def claims_on(self, piece: Piece, save: Save) -> list[tuple[Piece, Claim | Unlisted]]:
        """Return what a save's other pieces say of a piece's bytes."""
        found: list[tuple[Piece, Claim | Unlisted]] = []
        for other in save.pieces:
            for claim in other.claims:
                if not isinstance(claim, Claim):
                    found += [(other, one) for one in claim.about(piece.role, piece.entry)]
                elif claim.spec.piece == piece.role and piece.fields in (other.fields, {}):
                    found.append((other, claim))
        return found

    def at_stage(self, piece: Piece, stage: str, known: Known) -> Payload:
        """Return a piece's bytes as they are at a stage of its wrapping here."""
        file = self.file_of(piece.role)
        if stage == "file" or file is None or piece.wrapped is None:
            return piece.payload if piece.wrapped is None else piece.wrapped
        return file.chain.at_stage(stage, piece.wrapped, known)

    def sidecars_of(self, piece: Piece, save: Save) -> list[tuple[Sidecar, Piece]]:
        """Return the sidecars that describe a piece, with how they do."""
        found = []
        for sidecar in save.pieces:
            file = self.file_of(sidecar.role)
            of_it = sidecar.describes == piece.role and sidecar.fields == piece.fields
            if of_it and file is not None and file.sidecar is not None:
                found.append((file.sidecar, sidecar))
        return found

    def file_of(self, role: str) -> PieceFile | None:
        """Return how this edition keeps a role, or None where it has no such piece."""
        return next((file for file in self.files if file.role == role), None)


class Game(Struct, frozen=True, kw_only=True):
    """A compiled recipe."""

    id: str
    title: str
    studio: str | None
    pieces: Mapping[str, PieceInfo]
    fact_labels: Mapping[str, str]
    compared: Mapping[str, Comparison]
    """How each fact may stand after a crossing to what it was."""
    editions: Mapping[str, Edition]
    layers: Mapping[str, Chain]
    handover: HandoverInfo | None = None
    stories: Mapping[str, str] = field(default_factory=dict)
    """How facts tell one story from another: `is`, `stays` or `grows`, by the fact."""
    unshown: frozenset[str] = frozenset()
    """Facts that lists do not show."""
    forms: Mapping[str, Form] = field(default_factory=dict)
    """The forms of documents that the recipe describes."""
    tables: Mapping[str, TableInfo] = field(default_factory=dict)
    """What its saves have many of."""
    parts: Mapping[str, PartInfo] = field(default_factory=dict)
    """What can be taken of a save into another one."""
    map: str | None = None
    """The fact that says on which map a save is played."""

    def facts_that(self, how: str) -> tuple[str, ...]:
        """Return the facts that tell stories apart in one way."""
        return tuple(key for key, own in self.stories.items() if own == how)


def values_of(save: Save) -> dict[str, Value]:
    """Return a save's facts as the values that a sidecar can repeat."""
    return {fact.key: fact.value for fact in save.facts if isinstance(fact.value, int | str)}
