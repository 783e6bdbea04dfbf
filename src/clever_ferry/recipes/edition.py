"""Editions at work: one description reads a box's entries as saves and lays saves as entries."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from types import MappingProxyType
from typing import Any

from msgspec.structs import replace

from clever_ferry.boxes import Box, Contents, Entry
from clever_ferry.cargo import Piece, Save
from clever_ferry.errors import KeyNeededError, UnsupportedError
from clever_ferry.layers import Chain
from clever_ferry.naming import Ambiguous, FieldSpec, Names, Pattern, Value
from clever_ferry.recipes.facts import UNREADABLE, FactReader, FactsRead
from clever_ferry.recipes.models import (
    ArrivingInfo,
    HandoverInfo,
    LimitInfo,
    PieceInfo,
)
from clever_ferry.recipes.parts import Berthing, Cloud, Mark, Packs, PieceFile

__all__ = ["Edition", "Game", "Listing", "values_of"]


_NOTHING_SAID: Mapping[str, Any] = MappingProxyType({})

_Key = tuple[tuple[Value, ...], int | None]
"""The values that make out a save, and its generation."""


@dataclass(frozen=True)
class Listing:
    """What a berth holds: saves by slot, pieces shared by all, and entries not understood."""

    saves: tuple[Save, ...]
    shared: tuple[Piece, ...]
    unread: tuple[str, ...]
    problems: tuple[str, ...]
    spare: tuple[str, ...] = ()
    """Old copies of files that are there."""
    behind: tuple[Save, ...] = ()
    """Earlier generations of saves, which the game keeps beside the one that counts."""


@dataclass(frozen=True)
class Edition:
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
    packs: Packs | None = None
    limits: tuple[LimitInfo, ...] = ()
    arriving: Mapping[str, ArrivingInfo] = field(default_factory=dict)
    """What is special about saves from another edition, by its id."""
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
    def numbered(self) -> bool:
        """Whether its names carry a slot's number."""
        return "slot" in self.key_fields

    def enter(self, folder: str) -> bool:
        """Tell whether a folder of a berth may hold pieces."""
        return self._names[True].leads(folder) or self._made_anew.leads(folder)

    def barred(self, name: str) -> bool:
        """Tell whether the recipe says that a file or entry is never to be touched."""
        return bool(self._barred.read(name))

    def rebuilds(self, name: str) -> bool:
        """Tell whether the game makes a file or entry anew where it is missing."""
        return bool(self._made_anew.read(name))

    @cached_property
    def _names(self) -> dict[bool, Names[PieceFile]]:
        """The names of pieces, where upper and lower case are the same and where they are not."""
        every = [(pattern, file) for file in self.files for pattern in file.patterns]
        return {fold: Names(every, fold=fold) for fold in (False, True)}

    @cached_property
    def _apart(self) -> frozenset[str]:
        """The fields that make out a save and its generation, and so no piece of it."""
        return frozenset([*self.key_fields, *filter(None, [self.newest])])

    @cached_property
    def _barred(self) -> Names[None]:
        return Names([(pattern, None) for pattern in self.never], fold=True)

    @cached_property
    def _made_anew(self) -> Names[None]:
        return Names([(pattern, None) for pattern in self.rebuilt], fold=True)

    # Reading -----------------------------------------------------------------------------

    def read(
        self,
        contents: Contents,
        berth_fields: Mapping[str, Value],
        *,
        fold: bool,
        facts: bool = True,
        given: Mapping[str, Value] | None = None,
        keyless: bool = False,
    ) -> Listing:
        """Tell the saves among a box's entries; `facts=False` leaves all payloads unread.

        `given` is what the user has stated, such as a key, and the known folders' paths. Raises
        KeyNeededError where a key is missing; with `keyless`, that is only noted.
        """
        known = given or {}
        problems = _unlike(contents.bound, berth_fields, "The index")
        groups: dict[_Key, list[Piece]] = {}
        fields_of: dict[_Key, dict[str, Value]] = {}
        shared: list[Piece] = []
        unread: list[str] = []
        untold: list[Entry] = []
        spare: list[str] = []

        def take(entry: Entry, file: PieceFile, values: dict[str, Value], old: bool) -> None:
            piece = self._piece(entry, file, values, known, old, keyless=keyless)
            if self.pieces[file.role].shared:
                there = shared
            else:
                key = (tuple([values.get(name, "") for name in self.key_fields]),
                       int(values[self.newest]) if self.newest in values else None)  # fmt: skip
                if key not in groups:
                    groups[key] = []
                    fields_of[key] = {k: values[k] for k in self.key_fields if k in values}
                there = groups[key]
            if old and any(one.key == piece.key for one in there):
                spare.append(entry.name)
                return
            there.append(piece)

        for entry in contents.entries:
            told = self._told(entry.name, fold, entry)
            if told is None:
                untold.append(entry)
            elif isinstance(told, str):
                problems.append(told)
            else:
                take(entry, *told, False)
        for entry in untold:
            found = self._old_copy(entry.name, fold)
            if found is None:
                unread.append(entry.name)
            else:
                take(entry, *found, True)
        groups = {key: pieces for key, pieces in groups.items() if pieces}
        names = sorted({name for name, _ in groups}, key=lambda key: [_sortable(p) for p in key])
        place = {name: number for number, name in enumerate(names, 1)}
        highest: dict[tuple[Value, ...], int] = {}
        for name, turn in groups:
            highest[name] = max(highest.get(name, 0), turn or 0)
        saves: list[Save] = []
        behind: list[Save] = []
        for key in sorted(groups, key=lambda key: (place[key[0]], key[1] or 0)):
            name, turn = key
            slot = fields_of[key]["slot"] if self.numbered else place[name]
            read = self.reader.read(fields_of[key], groups[key], known, keyless) if facts else None
            save = self._save(int(slot), fields_of[key], groups[key], read, turn)
            (saves if (turn or 0) == highest[name] else behind).append(save)
        saves.sort(key=lambda save: save.slot)
        return Listing(
            tuple(saves), tuple(shared), tuple(unread), tuple(problems), tuple(spare),
            tuple(behind),
        )  # fmt: skip

    def _old_copy(self, name: str, fold: bool) -> tuple[PieceFile, dict[str, Value]] | None:
        """Return which piece an entry is an old copy of, by its ending."""
        for file in self.files:
            for ending in file.old:
                if (name.casefold() if fold else name).endswith(
                    ending.casefold() if fold else ending
                ):
                    told = self._told(name[: -len(ending)], fold)
                    if isinstance(told, tuple) and told[0] is file and not self.barred(name):
                        return told
        return None

    def _told(
        self, name: str, fold: bool, entry: Entry | None = None
    ) -> tuple[PieceFile, dict[str, Value]] | str | None:
        read = self._names[fold].read(name)
        if not read or (self.never and self.barred(name)):
            return None
        if len(read) == 1:
            file, values = read[0]
            if file.told is None and not isinstance(values, Ambiguous):
                return file, values  # most are so
        found: list[tuple[PieceFile, dict[str, Value]]] = []
        for file, values in read:
            if isinstance(values, Ambiguous):
                return f"{name} can be read in two ways as the {file.role}"
            if found and found[-1][0] is file:
                continue  # by another of its patterns
            if entry is None or file.told is None or file.is_it(entry):
                found.append((file, values))
        if len(found) > 1:
            roles = " or the ".join(file.role for file, _ in found)
            return f"{name} could be the {roles}"
        return found[0] if found else None

    def _piece(
        self,
        entry: Entry,
        file: PieceFile,
        values: Mapping[str, Value],
        given: Mapping[str, Value],
        old: bool,
        *,
        keyless: bool,
    ) -> Piece:
        own = values
        if not self.pieces[file.role].shared:
            own = {k: v for k, v in values.items() if k not in self._apart}
        payload, problem, locked = entry.payload, entry.problem, ""
        bound, said = _NOTHING_SAID, _NOTHING_SAID
        if not problem and (file.chain.layers or file.slip):
            try:
                peeled = file.chain.peel(payload, given)
                payload, bound, said = peeled.payload, peeled.bound, peeled.said
                if file.slip is not None:
                    read = file.slip.values(payload)
                    bound = {**bound, **file.slip.bound(read)}
                    said = {**said, file.slip.layout.name: read}
            except KeyNeededError as error:
                if not keyless:
                    raise
                locked = f"{error.what} {error.advice}"
            except (*UNREADABLE, UnsupportedError) as error:
                problem = f"it can't be read: {error.what.rstrip('.')}"
            except OSError as error:
                problem = f"it can't be read: {error.strerror or error}"
        return Piece(
            file.role, own, payload, entry.size, entry.stamp, entry.name, entry.files, problem,
            bound, said, old, file.slip.of if file.slip else "", entry.payload, locked,
        )  # fmt: skip

    def _save(
        self, slot: int, fields: Mapping[str, Value], pieces: list[Piece],
        read: FactsRead | None, turn: int | None,
    ) -> Save:  # fmt: skip
        problems = []
        by_key: dict[object, Piece] = {}
        for piece in pieces:
            other = by_key.setdefault(piece.key, piece)
            if other is not piece:
                problems.append(f"{other.entry} and {piece.entry} are both the {piece.title}")
            if piece.problem:
                problems.append(f"{piece.entry}: {piece.problem}")
        problems += [f"its {role} is missing" for role in self.missing(pieces)]
        if read is not None:
            problems += read.problems
        locked = [f"{piece.entry}: {piece.locked}" for piece in pieces if piece.locked]
        return Save(
            slot, dict(fields), tuple(pieces), read.facts if read else (), tuple(problems),
            (*locked, *(read.notes if read else ())), read.packs if read else (), turn,
        )  # fmt: skip

    def missing(self, pieces: Iterable[Piece]) -> list[str]:
        """Return the roles that a save must have here and these pieces do not fill."""
        present = {piece.role for piece in pieces}
        return [
            file.role
            for file in self.files
            if file.role not in present and (file.needed or (file.slip and file.slip.of in present))
        ]

    def verified(
        self,
        save: Save,
        berth_fields: Mapping[str, Value],
        given: Mapping[str, Value] | None = None,
    ) -> Save:
        """Return the save with what only reading every piece to its end can tell.

        That is what sizes and checksums say, and whether each wrapping names this berth.
        """
        problems = list(save.problems)
        for piece in save.pieces:
            problems += self.unlike(piece, save, berth_fields)
            if piece.problem:
                continue
            problem = self.reader.check(piece, given)
            if problem:
                problems.append(f"{piece.entry}: {problem}")
            else:
                problems += self._unlike_its_slip(piece, save)
        return replace(save, problems=tuple(dict.fromkeys(problems)))

    def unlike(self, piece: Piece, save: Save, berth_fields: Mapping[str, Value]) -> list[str]:
        """Return where a piece's wrapping names another account, world or slot than it is in.

        A slip is also held against the save's facts.
        """
        known = {**berth_fields, **save.fields, **piece.fields}
        if piece.describes:
            known = {**values_of(save), **known}
        return _unlike(piece.bound, known, f"The {piece.title}")

    def _unlike_its_slip(self, piece: Piece, save: Save) -> list[str]:
        """Return what a slip says otherwise of a piece."""
        found = []
        for slip in save.pieces:
            file = self.file_of(slip.role)
            of_it = slip.describes == piece.role and slip.fields == piece.fields
            if of_it and file is not None and file.slip is not None:
                found += file.slip.faults(slip, piece)
        return found

    def file_of(self, role: str) -> PieceFile | None:
        """Return how this edition keeps a role, or None where it has no such piece."""
        return next((file for file in self.files if file.role == role), None)


@dataclass(frozen=True)
class Game:
    """A compiled recipe."""

    id: str
    title: str
    studio: str | None
    pieces: Mapping[str, PieceInfo]
    fact_labels: Mapping[str, str]
    compared: frozenset[str]
    editions: Mapping[str, Edition]
    layers: Mapping[str, Chain]
    handover: HandoverInfo | None = None


def values_of(save: Save) -> dict[str, Value]:
    """Return a save's facts as the values that a slip can repeat."""
    return {fact.key: fact.value for fact in save.facts if isinstance(fact.value, int | str)}


def _unlike(bound: Mapping[str, int | str], fields: Mapping[str, Value], what: str) -> list[str]:
    return [
        f"{what} belongs to another {name}: it says {found}, but here it is {fields[name]}"
        for name, found in bound.items()
        if name in fields and not _same(found, fields[name])
    ]


def _same(found: int | str, value: Value) -> bool:
    if isinstance(found, int):
        return str(value).isdecimal() and int(value) == found
    return found.lower() == str(value).lower()


def _sortable(value: Value) -> tuple[int, int | str]:
    return (0, value) if isinstance(value, int) else (1, value.casefold())
