"""Boxes of shelves: folders with an index over blobs in each, and often an index of them all."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from msgspec.structs import replace

from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.indexed import IndexedBox
from clever_ferry.boxes.spec import ShelvesSpec, TopSpec
from clever_ferry.documents.places import set_at, value_at
from clever_ferry.errors import DamagedError
from clever_ferry.layouts import Layout
from clever_ferry.layouts.times import from_ns
from clever_ferry.naming import NumberField, compile_pattern
from clever_ferry.payload import BytesPayload, Payload, read_all
from clever_ferry.tree import FileInfo, Files, Output

__all__ = ["MultiIndexBox"]

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
            if info.path.startswith(inside):  # free: a box with an index walks through no folder
                yield replace(info, path=info.path.removeprefix(inside))

    def info(self, path: str) -> FileInfo | None:
        found = self.files.info(f"{self.folder}/{path}")
        return found and replace(found, path=path)

    def listed(self, info: FileInfo) -> Payload:
        """Return the bytes of a file that was listed."""
        return self.payload(info.path)

    def payload(self, path: str) -> Payload:
        return self.files.payload(f"{self.folder}/{path}")


class MultiIndexBox:
    """Shelves, named by an index of them or by their folders."""

    def __init__(self, spec: ShelvesSpec, layouts: Mapping[str, Layout]) -> None:
        self.top = _Top(spec.top, layouts) if spec.top is not None else None
        self.folder = compile_pattern(spec.folder, spec.fields)
        self.numbered = "id" in spec.fields and isinstance(spec.fields["id"], NumberField)
        self.shelf = IndexedBox(spec.shelf, layouts)

    def _folder(self, ident: object) -> str:
        text = ident.hex() if isinstance(ident, bytes) else str(ident)
        return self.folder.write({"id": int(text) if self.numbered and text.isdecimal() else text})

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return all shelves' entries."""
        state: dict[str, Any] | None = None
        folders: dict[str, str] = {}
        if self.top is not None:
            state, idents = self.top.read(files)
            folders = {name: self._folder(ident) for name, ident in idents.items()}
        else:
            for info in files.walk(lambda _: True):
                place, _, file = info.path.rpartition("/")
                match = self.folder.match(place, fold=files.fold)
                if file == self.shelf.spec.index and isinstance(match, dict):
                    folders[str(match["id"])] = place
        entries: list[Entry] = []
        shelves: dict[str, Contents] = {}
        for name, folder in folders.items():
            shelves[name] = inner = self.shelf.read(_Shelf(files, folder), enter)
            for entry in inner.entries:
                paths = tuple(f"{folder}/{path}" for path in entry.files)
                entries.append(replace(entry, name=f"{name}/{entry.name}", files=paths))
        own = [f"{folders[name]}/{path}" for name, inner in shelves.items() for path in inner.own]
        if self.top is not None:
            own.append(self.top.spec.index)
        return Contents(tuple(entries), {}, (state, shelves), tuple(own))

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the shelves that change, then the index of shelves."""
        state, shelves = copy.deepcopy(contents.state[0]), contents.state[1]
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
            folder = self._folder(self.top.identifier(state, shelf, making) if self.top else shelf)
            if not left:
                outputs = self._on_shelf(folder, old, new, gone, making)
                emptied += [output._replace(payload=None, tidy=True) for output in outputs]
                if self.top is not None:
                    self.top.remove(state, shelf)
                continue
            yield from self._on_shelf(folder, old, new, gone, making)
            if self.top is not None:
                self.top.tell(state, shelf, old, new, gone, making)
        if self.top is not None:
            yield self.top.written(state, making)
        yield from emptied

    def _on_shelf(
        self, folder: str, old: Contents, puts: list[Put], gone: list[str], making: Making
    ) -> Iterator[Output]:
        for output in self.shelf.write(old, puts, gone, making):
            yield output._replace(path=f"{folder}/{output.path}")


class _Top:
    """The index of shelves."""

    def __init__(self, spec: TopSpec, layouts: Mapping[str, Layout]) -> None:
        self.spec = spec
        self.layout, self.record = layouts[spec.layout], layouts[spec.record]

    def read(self, files: Files) -> tuple[dict[str, Any], dict[str, Any]]:
        """Return the index's values, and each shelf's identifier by its name."""
        spec = self.spec
        if files.info(spec.index) is None:
            raise DamagedError(f"The index {spec.index} is missing.")
        raw = read_all(files.payload(spec.index), limit=_LARGEST_INDEX, what=spec.index)
        idents: dict[str, Any] = {}
        try:
            state = self.layout.read_whole(raw)
            for record in value_at(state, spec.shelves):
                name = str(value_at(record, spec.name))
                if name in idents or "/" in name:
                    raise DamagedError(f"it can't have a shelf {name!r} here.")
                idents[name] = value_at(record, spec.identifier)
        except DamagedError as error:
            raise DamagedError(f"The index {spec.index} is damaged: {error.what}") from None
        return state, idents

    def _find(self, state: dict[str, Any], shelf: str) -> dict[str, Any] | None:
        records: list[dict[str, Any]] = value_at(state, self.spec.shelves)
        return next((one for one in records if value_at(one, self.spec.name) == shelf), None)

    def identifier(self, state: dict[str, Any], shelf: str, making: Making) -> Any:
        """Return a shelf's identifier; a new shelf gets a record with a new one."""
        record = self._find(state, shelf)
        if record is None:
            record = self.record.blank()
            set_at(record, self.spec.name, shelf)
            set_at(record, self.spec.identifier, making.random(self.spec.identifier_size))
            value_at(state, self.spec.shelves).append(record)
        return value_at(record, self.spec.identifier)

    def remove(self, state: dict[str, Any], shelf: str) -> None:
        """Take out a shelf's record."""
        value_at(state, self.spec.shelves).remove(self._find(state, shelf))

    def tell(
        self, state: dict[str, Any], shelf: str, old: Contents, puts: list[Put],
        gone: list[str], making: Making,
    ) -> None:  # fmt: skip
        """Set what the index says of a shelf."""
        spec, record = self.spec, self._find(state, shelf)
        assert record is not None
        if spec.size is not None:
            new = {item.name for item in puts}
            total = sum(e.size for e in old.entries if e.size and e.name not in new | set(gone))
            for item in puts:
                size = item.payload.size
                total += sum(map(len, item.payload.chunks())) if size is None else size
            set_at(record, spec.size, total)
        if spec.stamp is not None:
            stamp = max([item.stamp for item in puts], default=making.now)
            set_at(record, spec.stamp.at, from_ns(stamp, spec.stamp.unit))

    def written(self, state: dict[str, Any], making: Making) -> Output:
        """Return the index file."""
        for path in self.spec.counts:
            set_at(state, path, value_at(state, path) + 1)
        if self.spec.written is not None:
            set_at(state, self.spec.written.at, from_ns(making.now, self.spec.written.unit))
        return Output(self.spec.index, BytesPayload(self.layout.write(state)), making.now)
