"""Reading an edition: a box's entries are told apart by name and gathered as saves."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from operator import itemgetter
from types import MappingProxyType
from typing import Any

from msgspec import Struct

from clever_ferry.boxes import Contents, Entry
from clever_ferry.cargo import Piece, Save
from clever_ferry.errors import KeyNeededError, UnsupportedError
from clever_ferry.layers import Known
from clever_ferry.layers.found import Found
from clever_ferry.naming import Ambiguous, Value
from clever_ferry.recipes.agreeing import unlike
from clever_ferry.recipes.edition import Edition
from clever_ferry.recipes.facts import UNREADABLE, FactsRead
from clever_ferry.recipes.parts import PieceFile

__all__ = ["Listing", "read_edition"]

_NOTHING_SAID: Mapping[str, Any] = MappingProxyType({})
_NO_FIELDS: Mapping[str, Value] = MappingProxyType({})

_Name = tuple[Value, ...]
"""The values that make out a save, in the order of the edition's key fields."""
_Key = tuple[_Name, int | None]
"""What makes out a save, and its generation."""


class Listing(Struct, frozen=True):
    """What a berth holds: saves by slot, pieces shared by all, and entries not understood."""

    saves: tuple[Save, ...]
    shared: tuple[Piece, ...]
    unread: tuple[str, ...]
    problems: tuple[str, ...]
    spare: tuple[str, ...] = ()
    """Old copies of files that are there."""
    behind: tuple[Save, ...] = ()
    """Earlier generations of saves, which the game keeps beside the one that counts."""


def read_edition(
    edition: Edition,
    contents: Contents,
    known: Known,
    *,
    fold: bool,
    facts: bool,
    keyless: bool,
) -> Listing:
    """Tell the saves among a box's entries; without `facts` all payloads are left unread.

    `known` is what is known of the berth. Raises KeyNeededError where a key is missing; with
    `keyless`, that is only noted.
    """
    gathered = _Gathering(edition, fold, known, keyless)
    gathered.problems += contents.problems
    gathered.problems += unlike(contents.bound, known.fields, "The index")
    take = gathered.take
    for entry in contents.entries:
        take(entry)
    gathered.take_old_copies()
    saves, behind = gathered.saves(facts)
    return Listing(
        saves, tuple(gathered.shared), tuple(gathered.unread), tuple(gathered.problems),
        tuple(gathered.spare), behind,
    )  # fmt: skip


class _Gathering:
    """Entries on their way to be saves. There can be very many, so each is touched once."""

    def __init__(self, edition: Edition, fold: bool, known: Known, keyless: bool) -> None:
        self.shared: list[Piece] = []
        self.unread: list[str] = []
        self.problems: list[str] = []
        self.spare: list[str] = []
        self._edition, self._fold, self._known, self._keyless = edition, fold, known, keyless
        self._read = edition.names(fold).read
        self._kept_off, self._kept_depths = edition.kept_off.read, edition.kept_off.depths
        self._newest, self._apart = edition.newest or "", edition.apart
        self._name_of = _named_by(edition.key_fields)
        self._groups: dict[_Key, list[Piece]] = {}
        self._fields: dict[_Key, dict[str, Value]] = {}
        self._untold: list[Entry] = []
        self._lacks: dict[tuple[str, ...], tuple[list[str], bool]] = {}
        """Which pieces a save lacks, and whether it has one twice, by its pieces' roles."""
        self._last: Mapping[str, Value] | None = None
        self._there: list[Piece] = []
        self._own: Mapping[str, Value] = _NO_FIELDS

    def take(self, entry: Entry) -> None:
        """Put an entry to the save that its name says, or aside."""
        name = entry.name
        read = self._read(name)
        if not read or (
            self._kept_depths and name.count("/") in self._kept_depths and self._kept_off(name)
        ):
            self._untold.append(entry)
            return
        file, values = read[0]
        if len(read) > 1 or file.looks is not None or isinstance(values, Ambiguous):
            which = _which_piece(read, name, entry)
            if which is None:
                self._untold.append(entry)
            elif isinstance(which, str):
                self.problems.append(which)
            else:
                self._put(entry, *which)
            return
        self._put(entry, file, values)

    def take_old_copies(self) -> None:
        """Let entries that are copies of files which are not there stand in for them."""
        for entry in self._untold:
            found = self._old_copy(entry.name)
            if found is None and self._edition.trees and self._take_into_tree(entry):
                continue
            if found is None:
                self.unread.append(entry.name)
            else:
                self._put(entry, *found, old=True)

    def _take_into_tree(self, entry: Entry) -> bool:
        """Put an entry to the save in whose folder it lies, where its edition keeps all of that."""
        if self._edition.barred(entry.name):
            return False
        for file in self._edition.trees:
            values = file.beneath(entry.name, fold=self._fold)
            if values is not None and self._named(values) in self._groups:
                self._put(entry, file, values)
                return True
        return False

    def _named(self, values: Mapping[str, Value]) -> _Key:
        generation = int(values[self._newest]) if self._newest in values else None
        return self._name_of(values), generation

    def saves(self, facts: bool) -> tuple[tuple[Save, ...], tuple[Save, ...]]:
        """Return the saves by slot, and their earlier generations."""
        edition, known, keyless = self._edition, self._known, self._keyless
        numbered = edition.numbered
        order = self._in_order([key for key, pieces in self._groups.items() if pieces])
        place: dict[_Name, int] = {}
        highest: dict[_Name, int] = {}
        for name, generation in order:
            place.setdefault(name, len(place) + 1)
            highest[name] = generation or 0
        saves: list[Save] = []
        behind: list[Save] = []
        for key in order:
            name, generation = key
            fields, pieces = self._fields[key], self._groups[key]
            slot = fields["slot"] if numbered else place[name]
            read = edition.reader.read(fields, pieces, known, keyless) if facts else None
            save = self._save(int(slot), fields, pieces, read, generation)
            (saves if (generation or 0) == highest[name] else behind).append(save)
        saves.sort(key=lambda save: save.slot)
        return tuple(saves), tuple(behind)

    def _put(
        self, entry: Entry, file: PieceFile, values: Mapping[str, Value], old: bool = False
    ) -> None:
        if file.shared:
            there, own = self.shared, values
        else:
            if values is not self._last:  # a folder's files often have one and the same
                self._last = values
                self._there = self._group_of(values)
                self._own = _NO_FIELDS
                if not self._apart.issuperset(values):
                    apart = self._apart
                    self._own = {field: values[field] for field in values if field not in apart}
            there, own = self._there, self._own
        if file.bare or entry.problem:
            payload = entry.payload
            piece = Piece(
                file.role, own, payload, entry.size, entry.stamp, entry.name, entry.files,
                entry.problem, entry.says or _NOTHING_SAID, _NOTHING_SAID, old, file.describes,
                payload,
            )  # fmt: skip
        else:
            piece = self._peeled(entry, file, own, old)
        if old and any(one.key == piece.key for one in there):
            self.spare.append(entry.name)
            return
        there.append(piece)

    def _group_of(self, values: Mapping[str, Value]) -> list[Piece]:
        """Return the pieces of the save that a name's values make out."""
        key = self._named(values)
        group = self._groups.get(key)
        if group is None:
            group = self._groups[key] = []
            wanted = self._edition.key_fields
            self._fields[key] = {field: values[field] for field in wanted if field in values}
        return group

    def _peeled(self, entry: Entry, file: PieceFile, own: Mapping[str, Value], old: bool) -> Piece:
        """Return a piece without its wrapping, as far as that can be had."""
        payload, problem, locked = entry.payload, "", ""
        bound, headers = _NOTHING_SAID, _NOTHING_SAID
        claims: tuple[Any, ...] = ()
        try:
            found = Found(known=self._known)
            payload = found.checked("payload", file.chain.unwrap_into(payload, found)[0])
            bound, headers = found.bound, found.headers
            if found.claims:
                claims = tuple(found.claims)
            if file.sidecar is not None:
                read = file.sidecar.values(payload)
                bound = {**bound, **file.sidecar.bound(read)}
                if file.sidecar.layout is not None:
                    headers = {**headers, file.sidecar.layout.name: read}
        except KeyNeededError as error:
            if not self._keyless:
                raise
            locked = f"{error.what} {error.advice}"
        except (*UNREADABLE, UnsupportedError) as error:
            problem = f"it can't be read: {error.what.rstrip('.')}"
        except OSError as error:
            problem = f"it can't be read: {error.strerror or error}"
        if entry.says:
            bound = {**entry.says, **bound}
        return Piece(
            file.role, own, payload, entry.size, entry.stamp, entry.name, entry.files, problem,
            bound, headers, old, file.describes, entry.payload, locked, claims,
        )  # fmt: skip

    def _old_copy(self, name: str) -> tuple[PieceFile, Mapping[str, Value]] | None:
        """Return which piece an entry is an old copy of, by its ending."""
        for file in self._edition.files:
            for ending in file.old:
                if (name.casefold() if self._fold else name).endswith(
                    ending.casefold() if self._fold else ending
                ):
                    whole = name[: -len(ending)]
                    if self._edition.barred(whole) or self._edition.barred(name):
                        continue
                    which = _which_piece(self._read(whole), whole)
                    if isinstance(which, tuple) and which[0] is file:
                        return which
        return None

    def _in_order(self, keys: list[_Key]) -> list[_Key]:
        """Return saves' keys in order: numbers by size, texts by letter, generations by age."""
        if self._edition.numbered:
            at = self._edition.key_fields.index("slot")
            if len({key[0][at] for key in keys}) == len(keys):
                return keys  # their slots will tell their order
        return sorted(keys, key=lambda key: ([_sortable(part) for part in key[0]], key[1] or 0))

    def _save(
        self, slot: int, fields: Mapping[str, Value], pieces: list[Piece],
        read: FactsRead | None, generation: int | None,
    ) -> Save:  # fmt: skip
        problems: list[str] = []
        notes: list[str] = []
        roles = tuple([piece.role for piece in pieces])
        lacks = self._lacks.get(roles)  # most saves have the same pieces
        if lacks is None:
            missing = [f"its {role} is missing" for role in self._edition.missing(roles)]
            lacks = self._lacks[roles] = (missing, len(set(roles)) < len(roles))
        if lacks[1] and len({(one.role, frozenset(one.fields.items())) for one in pieces}) < len(
            pieces
        ):
            problems += _doubles(pieces)
        for piece in pieces:
            if piece.problem or piece.locked:
                told = problems if piece.problem else notes
                told.append(f"{piece.entry}: {piece.problem or piece.locked}")
        problems += lacks[0]
        facts, packs = (read.facts, read.packs) if read is not None else ((), ())
        if read is not None:
            problems += read.problems
            notes += read.notes
        return Save(
            slot, fields, tuple(pieces), facts, tuple(problems), tuple(notes), packs, generation
        )


def _doubles(pieces: Sequence[Piece]) -> Iterator[str]:
    """Yield which pieces are the same part of a save."""
    known: dict[object, Piece] = {}
    for piece in pieces:
        other = known.setdefault(piece.key, piece)
        if other is not piece:
            yield f"{other.entry} and {piece.entry} are both the {piece.title}"


def _which_piece(
    read: Sequence[tuple[PieceFile, Mapping[str, Value] | Ambiguous]],
    name: str,
    entry: Entry | None = None,
) -> tuple[PieceFile, Mapping[str, Value]] | str | None:
    """Return the one piece that a name says, or why it is not plain; None where it is none."""
    found: list[tuple[PieceFile, Mapping[str, Value]]] = []
    for file, values in read:
        if isinstance(values, Ambiguous):
            return f"{name} can be read in two ways as the {file.role}"
        if found and found[-1][0] is file:
            continue  # by another of its patterns
        if entry is None or file.looks is None or file.is_it(entry):
            found.append((file, values))
    if len(found) > 1:
        roles = " or the ".join(file.role for file, _ in found)
        return f"{name} could be the {roles}"
    return found[0] if found else None


def _named_by(fields: Sequence[str]) -> Callable[[Mapping[str, Value]], _Name]:
    """Return what picks the values that make out a save; '' stands for each that a name lacks."""
    every = itemgetter(*fields) if len(fields) > 1 else None

    def name(values: Mapping[str, Value]) -> _Name:
        if every is not None:
            try:
                found: _Name = every(values)
                return found
            except KeyError:
                pass
        return tuple([values.get(field, "") for field in fields])

    return name


def _sortable(value: Value) -> tuple[int, int | str]:
    return (0, value) if isinstance(value, int) else (1, value.casefold())
