"""Boxes of an index file over blobs, by description: any layout, any blob names.

The index's unknown fields, and entries that a writing does not concern, come out as
they went in; only the changed entries' records and the stated counters differ.
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.spec import IndexSpec
from clever_ferry.documents.places import set_at, value_at
from clever_ferry.errors import DamagedError
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


class IndexedBox:
    """An index over blobs."""

    def __init__(self, spec: IndexSpec, layouts: Mapping[str, Layout]) -> None:
        self.spec = spec
        self.layout, self.record = layouts[spec.layout], layouts[spec.record]
        self.blob = compile_pattern(spec.blob, spec.fields)
        self.head = layouts[spec.head.layout] if spec.head is not None else None

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Read the index; entries whose blobs are not as it says carry their problem."""
        index = self.spec.index
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
        return Contents(entries, self.layout.repeated(state), state, (index,))

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
        parts = [part for record in records for part in value_at(record, self.spec.parts.at)]
        if what == "parts":
            return len(parts)
        return sum(value_at(part, self.spec.parts.size) for part in parts)

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
        parts = value_at(record, spec.parts.at)
        paths = self._paths(value_at(record, spec.identifier), len(parts))
        payloads, problem, total = [], "", 0
        for path, part in zip(paths, parts, strict=True):
            right = value_at(part, spec.parts.size)
            total += right
            info = files.info(path)
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
        check = spec.parts.check
        checked = f"the index's {check.what}" if check is not None else ""
        return Entry(str(name), total, stamp, payload, paths, problem, checked)

    def _checked(self, blob: Payload, path: str, part: dict[str, Any]) -> Payload:
        check = self.spec.parts.check
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
        state = copy.deepcopy(contents.state)
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
                set_at(record, spec.identifier, making.random(spec.identifier_size))
                records.append(record)
            elif spec.generation is not None:
                set_at(record, spec.generation, value_at(record, spec.generation) + 1)
            if self.head is not None:
                item = self._headed(item, heads.get(item.name))
            yield from self._blobs(record, item)
        for path in spec.counts:
            set_at(state, path, value_at(state, path) + 1)
        for tally in spec.tallies:
            set_at(state, tally.at, self._tally(state, tally.what))
        if spec.written is not None:
            set_at(state, spec.written.at, from_ns(making.now, spec.written.unit))
        yield Output(spec.index, BytesPayload(self.layout.write(state)), making.now)
        for path in sorted(old - self._used(records)):
            yield Output(path, None, making.now)

    def _used(self, records: Sequence[dict[str, Any]]) -> set[str]:
        return {
            path
            for record in records
            for path in self._paths(
                value_at(record, self.spec.identifier), len(value_at(record, self.spec.parts.at))
            )
        }

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
        return Contents((), {}, self.layout.blank())

    def _blobs(self, record: dict[str, Any], item: Put) -> Iterator[Output]:
        spec, parts, total = self.spec, [], 0
        identifier = value_at(record, spec.identifier)
        for number, data in enumerate(pieces_of(item.payload, spec.parts.most), 1):
            part: dict[str, Any] = {spec.parts.size.lstrip("/"): len(data)}
            if spec.parts.check is not None:
                running = start_digest(spec.parts.check.what)
                running.update(data)
                part[spec.parts.check.at.lstrip("/")] = running.value
            parts.append(part)
            total += len(data)
            yield Output(self._paths(identifier, number)[-1], BytesPayload(data), item.stamp)
        set_at(record, spec.parts.at, parts)
        if spec.size is not None:
            set_at(record, spec.size, total)
        if spec.stamp is not None:
            set_at(record, spec.stamp.at, from_ns(item.stamp, spec.stamp.unit))


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
