"""Boxes of shelves: an index of folders, and in each folder an index over its blobs."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.indexed import IndexedBox
from clever_ferry.boxes.spec import ShelvesSpec
from clever_ferry.errors import DamagedError
from clever_ferry.layouts import Layout, point, put
from clever_ferry.layouts.times import from_ns
from clever_ferry.naming import compile_pattern
from clever_ferry.payload import BytesPayload, Payload, read_all
from clever_ferry.tree import FileInfo, Files, Output

__all__ = ["ShelvesBox"]

_LARGEST_INDEX = 256 << 20


@dataclass(frozen=True)
class _Shelf:
    """One folder's files, seen from within it."""

    files: Files
    folder: str

    @property
    def fold(self) -> bool:
        return self.files.fold

    def walk(self, enter: Callable[[str], bool]) -> Iterable[FileInfo]:
        inside = f"{self.folder}/"
        for info in self.files.walk(lambda _: True):
            if info.path.startswith(inside):
                yield info._replace(path=info.path.removeprefix(inside))

    def info(self, path: str) -> FileInfo | None:
        found = self.files.info(f"{self.folder}/{path}")
        return found and found._replace(path=path)

    def payload(self, path: str) -> Payload:
        return self.files.payload(f"{self.folder}/{path}")


class ShelvesBox:
    """An index of shelves."""

    def __init__(self, name: str, spec: ShelvesSpec, layouts: Mapping[str, Layout]) -> None:
        for wanted in (spec.layout, spec.record):
            if wanted not in layouts:
                raise DamagedError(f"boxes.{name}: there is no layout {wanted!r}.")
        self.spec = spec
        self.layout, self.record = layouts[spec.layout], layouts[spec.record]
        self.folder = compile_pattern(spec.folder, spec.fields)
        self.shelf = IndexedBox(f"{name}.shelf", spec.shelf, layouts)

    def _folder(self, record: Mapping[str, Any]) -> str:
        ident = point(record, self.spec.identifier)
        return self.folder.write({"id": ident.hex() if isinstance(ident, bytes) else ident})

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return all shelves' entries."""
        spec = self.spec
        if files.info(spec.index) is None:
            raise DamagedError(f"The index {spec.index} is missing.")
        raw = read_all(files.payload(spec.index), limit=_LARGEST_INDEX, what=spec.index)
        try:
            state = self.layout.read_whole(raw)
            records = point(state, spec.shelves)
        except DamagedError as error:
            raise DamagedError(f"The index {spec.index} is damaged: {error.what}") from None
        entries: list[Entry] = []
        shelves: dict[str, Contents] = {}
        for record in records:
            name, folder = point(record, spec.name), self._folder(record)
            if name in shelves or "/" in name:
                raise DamagedError(f"The index {spec.index} can't have a shelf {name!r} here.")
            shelves[name] = inner = self.shelf.read(_Shelf(files, folder), enter)
            for entry in inner.entries:
                paths = tuple(f"{folder}/{path}" for path in entry.files)
                entries.append(replace(entry, name=f"{name}/{entry.name}", files=paths))
        return Contents(tuple(entries), {}, (state, shelves))

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the shelves that change, then the index of shelves."""
        spec = self.spec
        state, shelves = copy.deepcopy(contents.state[0]), contents.state[1]
        records = point(state, spec.shelves)
        by_name = {point(record, spec.name): record for record in records}
        concerned = dict.fromkeys(
            [put.name.partition("/")[0] for put in puts]
            + [name.partition("/")[0] for name in removes]
        )
        emptied: list[Output] = []
        for shelf in concerned:
            inside = f"{shelf}/"
            new = [
                p._replace(name=p.name[len(inside) :]) for p in puts if p.name.startswith(inside)
            ]
            gone = [name[len(inside) :] for name in removes if name.startswith(inside)]
            old = shelves.get(shelf, self.shelf.fresh())
            left = ({entry.name for entry in old.entries} - set(gone)) | {p.name for p in new}
            record = by_name.get(shelf)
            if record is None:
                record = self.record.blank()
                put(record, spec.name, shelf)
                put(record, spec.identifier, making.random(spec.identifier_size))
                records.append(record)
            folder = self._folder(record)
            outputs = [*self._on_shelf(folder, old, new, gone, making)] if not left else None
            if outputs is not None:
                records.remove(record)
                emptied += [o._replace(payload=None, tidy=True) for o in outputs]
                continue
            yield from self._on_shelf(folder, old, new, gone, making)
            self._tell(record, old, new, gone, making)
        for path in spec.counts:
            put(state, path, point(state, path) + 1)
        if spec.written is not None:
            put(state, spec.written.at, from_ns(making.now, spec.written.unit))
        yield Output(spec.index, BytesPayload(self.layout.write(state)), making.now)
        yield from emptied

    def _on_shelf(
        self, folder: str, old: Contents, puts: list[Put], gone: list[str], making: Making
    ) -> Iterator[Output]:
        for output in self.shelf.write(old, puts, gone, making):
            yield output._replace(path=f"{folder}/{output.path}")

    def _tell(
        self, record: dict[str, Any], old: Contents, puts: list[Put], gone: list[str],
        making: Making,
    ) -> None:  # fmt: skip
        """Set what the index says of a shelf; sizes are known, as its entries were written."""
        spec = self.spec
        if spec.size is not None:
            new = {item.name for item in puts}
            total = sum(e.size or 0 for e in old.entries if e.name not in new | set(gone))
            for item in puts:
                size = item.payload.size
                if size is None:
                    size = sum(map(len, item.payload.chunks()))
                total += size
            put(record, spec.size, total)
        if spec.stamp is not None:
            stamp = max([item.stamp for item in puts], default=making.now)
            put(record, spec.stamp.at, from_ns(stamp, spec.stamp.unit))
