"""Boxes of an index file over blobs, by description: any layout, any blob names.

The index's unknown fields, and entries that a writing does not concern, come out as
they went in; only the changed entries' records and the stated counters differ.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple
from uuid import UUID

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.spec import CheckSpec, IndexSpec
from clever_ferry.documents.places import set_at, value_at
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layouts import Layout, start_digest
from clever_ferry.layouts.times import from_ns, to_ns
from clever_ferry.naming import compile_pattern
from clever_ferry.payload import (
    BytesPayload,
    JoinedPayload,
    Payload,
    SlicedPayload,
    StreamPayload,
    head,
    pieces_of,
    read_all,
)
from clever_ferry.tree import Files, Output

__all__ = ["IndexedBox"]

_LARGEST_INDEX = 256 << 20
_LARGEST_HEAD = 1 << 16
_LARGEST_BLOB = 1 << 30
_HIGHEST = 999_999_999
"""Numbers that name blobs: any type of number that has four bytes, and any name, can hold it."""


class _State(NamedTuple):
    """The index as it was read, its file, and the number in that one's name."""

    values: dict[str, Any]
    file: str
    number: int


class IndexedBox:
    """An index over blobs."""

    def __init__(self, spec: IndexSpec, layouts: Mapping[str, Layout]) -> None:
        self.spec = spec
        self.layout, self.record = layouts[spec.layout], layouts[spec.record]
        self.blob = compile_pattern(spec.blob, spec.fields)
        self.newest = getattr(spec, "newest", None)
        self.index = compile_pattern(spec.index, spec.fields) if self.newest else None
        self.head = layouts[spec.head.layout] if spec.head is not None else None

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Read the index; entries whose blobs are not as it says carry their problem."""
        spec, (index, number) = self.spec, self._latest(files)
        if files.info(index) is None:
            raise DamagedError(
                f"The index {index} is missing, so nothing tells which blob is what.",
                advice="Start the game once in this edition, or restore the folder from a backup.",
            )
        raw = read_all(files.payload(index), limit=_LARGEST_INDEX, what=index)
        try:
            state = self.layout.read_whole(raw)
            entries = tuple(self._entry(record, files) for record in self._current(state))
            self._check_tallies(state)
            _refuse_shared_blobs(entries)
        except DamagedError as error:
            raise DamagedError(
                f"The index {index} is damaged: {error.what}",
                advice="Nothing was changed. Start the game in this edition and let it repair its "
                "list, or restore the folder from a backup.",
            ) from None
        twice = _first_twice([entry.name for entry in entries])
        if twice is not None:
            raise DamagedError(f"The index {index} names two entries {twice!r}.")
        before = self._used(self._records(state)) if spec.previous is not None else set()
        kept = [path for path in sorted(before) if files.info(path) is not None]
        own = tuple(dict.fromkeys([index, *kept]))
        return Contents(entries, self.layout.repeated(state), _State(state, index, number), own)

    def _latest(self, files: Files) -> tuple[str, int]:
        """Return the index file that counts, and its number where they have one."""
        if self.index is None or self.newest is None:
            return self.spec.index, 0
        found = []
        for info in files.walk(lambda _: False):
            values = self.index.match(info.path, fold=files.fold)
            if isinstance(values, dict):
                found.append((int(values[self.newest]), info.path))
        number, path = max(found, default=(0, self.spec.index))
        return path, number

    def _records(self, state: dict[str, Any]) -> list[dict[str, Any]]:
        records = value_at(state, self.spec.entries)
        assert isinstance(records, list)
        return records

    def _current(self, state: dict[str, Any]) -> list[dict[str, Any]]:
        """Return the records that count: of several with one name, the highest generation."""
        records, generation = self._records(state), self.spec.generation
        if generation is None:
            return records
        newest: dict[str, dict[str, Any]] = {}
        for record in records:
            name = value_at(record, self.spec.name or "")
            other = newest.get(name)
            if other is None or value_at(record, generation) > value_at(other, generation):
                newest[name] = record
            elif value_at(record, generation) == value_at(other, generation):
                raise DamagedError(f"it names two entries {name!r} of one generation.")
        return list(newest.values())

    def _tally(self, state: dict[str, Any], what: str) -> int:
        records = self._records(state)
        if what == "entries":
            return len(records)
        parts = [part for record in records for part in self._parts(record)]
        if what == "parts":
            return len(parts)
        return sum(self._size(part) or 0 for part in parts)

    def _parts(self, record: dict[str, Any]) -> list[dict[str, Any]]:
        """Return what the index says of each blob of an entry: the record itself, without parts."""
        if self.spec.parts is None:
            return [record]
        found: list[dict[str, Any]] = value_at(record, self.spec.parts.at)
        return found

    def _size(self, part: dict[str, Any]) -> int | None:
        at = self.spec.size if self.spec.parts is None else self.spec.parts.size
        return None if at is None else int(value_at(part, at))

    @property
    def _check(self) -> CheckSpec | None:
        return self.spec.check if self.spec.parts is None else self.spec.parts.check

    def _check_tallies(self, state: dict[str, Any]) -> None:
        for tally in self.spec.tallies:
            found, right = value_at(state, tally.at), self._tally(state, tally.what)
            if found != right:
                raise DamagedError(f"{tally.at} is {found:,}, but its entries give {right:,}.")

    def _paths(self, identifier: object, count: int) -> tuple[str, ...]:
        shown = identifier.hex() if isinstance(identifier, bytes) else identifier
        value = shown if isinstance(shown, int) else str(shown)
        return tuple(
            self.blob.write(
                {name: at + 1 if name == "part" else value for name in self.blob.fields}
            )
            for at in range(count)
        )

    def _entry(self, record: dict[str, Any], files: Files) -> Entry:
        spec = self.spec
        parts = self._parts(record)
        paths = self._paths(value_at(record, spec.identifier), len(parts))
        payloads, problem, total = [], "", 0
        for path, part in zip(paths, parts, strict=True):
            info, stated = files.info(path), self._size(part)
            right = stated if stated is not None else (info.size if info is not None else 0)
            total += right
            if info is None:
                problem = problem or f"its blob {path} is missing"
            elif info.size != right:
                problem = problem or (
                    f"its blob {path} has {info.size:,} bytes, but the index says {right:,}"
                )
            payloads.append(self._checked(files.payload(path), path, part))
        if spec.size is not None and value_at(record, spec.size) != total:
            stated = value_at(record, spec.size)
            problem = problem or f"the index says {stated:,} bytes, but its parts have {total:,}"
        stamp = None
        if spec.stamp is not None:
            stamp = to_ns(value_at(record, spec.stamp.at), spec.stamp.unit)
        name = None if spec.name is None else value_at(record, spec.name)
        payload: Payload = JoinedPayload(payloads)
        if self.head is not None and spec.head is not None:
            if problem:  # its name is in what can't be read
                return Entry(name or paths[0], total, stamp, payload, paths, problem)
            values, after = self.head.read(head(payload, _LARGEST_HEAD))
            inside = value_at(values, spec.head.name)
            if name is not None and name != inside:
                problem = f"the index calls it {name!r}, but its blob {inside!r}"
            name, total = name or inside, total - after
            payload = SlicedPayload(payload, after)
        check = self._check
        checked = f"the index's {check.what}" if check is not None else ""
        says = {field: value_at(record, place) for place, field in spec.repeats.items()}
        return Entry(str(name), total, stamp, payload, paths, problem, checked, says=says)

    def _checked(self, blob: Payload, path: str, part: dict[str, Any]) -> Payload:
        check = self._check
        if check is None:
            return blob
        right, what = value_at(part, check.at), check.what

        def chunks() -> Iterator[bytes]:
            running = start_digest(what)
            for chunk in blob.chunks():
                running.update(chunk)
                yield chunk
            if running.value != right:
                raise DamagedError(
                    f"The blob {path} is damaged: its bytes do not give the {what} that the "
                    "index says."
                )

        return StreamPayload(chunks, blob.size)

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield new blobs, then the index, then the removal of blobs that no entry uses."""
        was: _State = contents.state
        state = copy.deepcopy(was.values)
        records = self._records(state)
        spec = self.spec
        old = self._used(records)
        names = {entry.files[0]: entry.name for entry in contents.entries if entry.files}
        records[:] = [one for one in records if self._name(one, names) not in removes]
        by_name = {self._name(record, names): record for record in self._current(state)}
        heads = {entry.name: entry for entry in contents.entries}
        for item in puts:
            record = by_name.get(item.name)
            if record is None:
                record = self.record.blank()
                if spec.name is not None:
                    set_at(record, spec.name, item.name)
                self._identify(record, making)
                records.append(record)
            elif spec.generation is not None:
                set_at(record, spec.generation, value_at(record, spec.generation) + 1)
            if spec.previous is not None and item.name in by_name:
                set_at(record, spec.previous, value_at(record, spec.identifier))
                self._identify(record, making)
            for place, field in spec.repeats.items():
                set_at(record, place, _said(item, field, value_at(record, place)))
            if self.head is not None:
                item = self._headed(item, heads.get(item.name))
            yield from self._blobs(record, item)
        for path in spec.counts:
            set_at(state, path, value_at(state, path) + 1)
        for tally in spec.tallies:
            set_at(state, tally.at, self._tally(state, tally.what))
        if spec.written is not None:
            set_at(state, spec.written.at, from_ns(making.now, spec.written.unit))
        index = was.file
        if self.index is not None and self.newest is not None:
            index = self.index.write({self.newest: was.number + 1})
        yield Output(index, BytesPayload(self.layout.write(state)), making.now)
        if index != was.file and was.number:
            yield Output(was.file, None, making.now)
        for path in sorted((old - self._used(records)).intersection(contents.files)):
            yield Output(path, None, making.now)

    def _used(self, records: Sequence[dict[str, Any]]) -> set[str]:
        """Return the blobs that records name; those of bytes before these, too."""
        used = set[str]()
        for record in records:
            count = len(self._parts(record))
            used.update(self._paths(value_at(record, self.spec.identifier), count))
            if self.spec.previous is not None:
                before = value_at(record, self.spec.previous)
                if before != value_at(self.record.blank(), self.spec.previous):
                    used.update(self._paths(before, count))
        return used

    def _identify(self, record: dict[str, Any], making: Making) -> None:
        """Give an entry a new identifier, of the kind that its record has."""
        blank = value_at(self.record.blank(), self.spec.identifier)
        if isinstance(blank, str) and _is_uuid(blank):
            new: int | str | bytes = str(UUID(bytes=making.random(16), version=4))
        else:
            fresh = making.random(self.spec.identifier_size)
            new = fresh.hex() if isinstance(blank, str) else fresh
            if isinstance(blank, int):
                new = 1 + int.from_bytes(fresh) % _HIGHEST
        set_at(record, self.spec.identifier, new)

    def _name(self, record: dict[str, Any], names: Mapping[str, str]) -> str | None:
        """Return an entry's name: its record's, or what its blob has told."""
        if self.spec.name is not None:
            return str(value_at(record, self.spec.name))
        return names.get(self._paths(value_at(record, self.spec.identifier), 1)[0])

    def _headed(self, item: Put, old: Entry | None) -> Put:
        """Put the blob's own head before an entry's bytes: the old one's, where there is one."""
        assert self.head is not None
        assert self.spec.head is not None
        values = self.head.blank()
        if old is not None and not old.problem and isinstance(old.payload, SlicedPayload):
            values = self.head.read(head(old.payload.inner, _LARGEST_HEAD))[0]
        set_at(values, self.spec.head.name, item.name)
        front = BytesPayload(self.head.write(values))
        return item._replace(payload=JoinedPayload((front, item.payload)))

    def fresh(self) -> Contents:
        """Return the contents of a box with nothing in it yet."""
        return Contents((), {}, _State(self.layout.blank(), self.spec.index, 0))

    def _blobs(self, record: dict[str, Any], item: Put) -> Iterator[Output]:
        spec, parts, total = self.spec, list[dict[str, Any]](), 0
        identifier, check = value_at(record, spec.identifier), self._check
        cut = spec.parts
        pieces = pieces_of(item.payload, cut.most) if cut is not None else [
            read_all(item.payload, limit=_LARGEST_BLOB, what=item.name)
        ]  # fmt: skip
        for number, data in enumerate(pieces, 1):
            part: dict[str, Any] = {}
            if cut is not None and cut.size is not None:
                part[cut.size.lstrip("/")] = len(data)
            if check is not None:
                running = start_digest(check.what)
                running.update(data)
                part[check.at.lstrip("/")] = running.value
            parts.append(part)
            total += len(data)
            yield Output(self._paths(identifier, number)[-1], BytesPayload(data), item.stamp)
        if cut is not None:
            set_at(record, cut.at, parts)
        elif check is not None:
            set_at(record, check.at, parts[0][check.at.lstrip("/")])
        if spec.size is not None:
            set_at(record, spec.size, total)
        if spec.stamp is not None:
            set_at(record, spec.stamp.at, from_ns(item.stamp, spec.stamp.unit))


def _said(item: Put, field: str, was: Any) -> int | str:
    """Return the fact or name field that a record repeats, as a value of the record's kind."""
    if field not in item.says:
        raise RefusedError(f"The index must say the {field} of {item.name}, which is not known.")
    value = item.says[field]
    if not isinstance(was, int):
        return str(value)
    if not str(value).isdecimal():
        raise RefusedError(f"The index must say the {field} as a number, and it is {value!r}.")
    return int(value)


def _is_uuid(text: str) -> bool:
    try:
        return str(UUID(text)) == text
    except ValueError:
        return False


def _refuse_shared_blobs(entries: Sequence[Entry]) -> None:
    """Where two entries named one blob, to replace the one would be to change the other."""
    holders: dict[str, Entry] = {}
    for entry in entries:
        for path in entry.files:
            other = holders.setdefault(path, entry)
            if other is not entry:
                raise DamagedError(f"{other.name!r} and {entry.name!r} name the same blob {path}.")


def _first_twice(names: Sequence[str]) -> str | None:
    seen: set[str] = set()
    for name in names:
        if name in seen:
            return name
        seen.add(name)
    return None
