"""Boxes of one file that is a layout: a table of records, and their bytes in the same file."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from clever_ferry.boxes.box import Contents, Entry, Making, Put, one_file
from clever_ferry.boxes.one_file_spec import PackedSpec
from clever_ferry.documents.places import set_at, value_at
from clever_ferry.errors import DamagedError
from clever_ferry.layouts import Layout
from clever_ferry.layouts.times import from_ns, to_ns
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.tree import Files, Output

__all__ = ["PackedBox"]

_LARGEST = 512 << 20


class PackedBox:
    """One big file with ranges; it is read whole."""

    def __init__(self, spec: PackedSpec, layouts: Mapping[str, Layout]) -> None:
        self.spec = spec
        self.layout, self.record = layouts[spec.layout], layouts[spec.record]

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return the entries that the table names."""
        spec = self.spec
        raw = read_all(one_file(files, spec.file), limit=_LARGEST, what=spec.file)
        try:
            state = self.layout.read_whole(raw)
            records, blobs = value_at(state, spec.entries), value_at(state, spec.data)
            names = [value_at(record, spec.name) for record in records]
        except DamagedError as error:
            raise DamagedError(f"{spec.file} is damaged: {error.what}") from None
        if len(records) != len(blobs) or len(set(names)) != len(names):
            raise DamagedError(f"{spec.file} is damaged: its table and its bytes do not agree.")
        entries = []
        for name, record, blob in zip(names, records, blobs, strict=True):
            stamp = None
            if spec.stamp is not None:
                stamp = to_ns(value_at(record, spec.stamp.at), spec.stamp.unit)
            entries.append(Entry(name, len(blob), stamp, BytesPayload(blob), (spec.file,)))
        return Contents(tuple(entries), {}, state, (spec.file,))

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the one file anew; records and bytes not concerned are the same."""
        spec, state = self.spec, copy.deepcopy(contents.state)
        kept: dict[str, tuple[dict[str, Any], bytes]] = {}
        for record, blob in zip(
            value_at(state, spec.entries), value_at(state, spec.data), strict=True
        ):
            name = value_at(record, spec.name)
            if name not in removes:
                kept[name] = (record, blob)
        for item in puts:
            record = kept[item.name][0] if item.name in kept else self.record.blank()
            set_at(record, spec.name, item.name)
            if spec.stamp is not None:
                set_at(record, spec.stamp.at, from_ns(item.stamp, spec.stamp.unit))
            kept[item.name] = (record, read_all(item.payload, limit=_LARGEST, what=item.name))
        set_at(state, spec.entries, [record for record, _ in kept.values()])
        set_at(state, spec.data, [blob for _, blob in kept.values()])
        for path in spec.counts:
            set_at(state, path, value_at(state, path) + 1)
        if spec.written is not None:
            set_at(state, spec.written.at, from_ns(making.now, spec.written.unit))
        yield Output(spec.file, BytesPayload(self.layout.write(state)), making.now)
