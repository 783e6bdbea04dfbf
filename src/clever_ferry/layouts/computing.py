"""Values that follow from other bytes of a layout: filled in on writing, checked on reading."""

from __future__ import annotations

import struct
from collections.abc import Mapping
from typing import Any

from clever_ferry.layouts.digests import start_digest
from clever_ferry.layouts.frame import Frame, Output
from clever_ferry.layouts.numbers import struct_for
from clever_ferry.layouts.spec import BytesSpec, ComputedSpec, LayoutSpec, NumberSpec, SpanSpec

__all__ = ["Computing"]

_MEASURES = ("count", "size", "offset")


class Computing:
    """The computed fields of one layout; measures first, digests last, in the fields' order."""

    def __init__(self, spec: LayoutSpec) -> None:
        self.order = spec.order
        self.fields = [
            field
            for field in spec.fields
            if isinstance(field, NumberSpec | BytesSpec)
            and field.computed is not None
            and not field.computed.outside
        ]
        self.fields.sort(key=lambda f: f.computed is not None and f.computed.what not in _MEASURES)

    def check(self, frame: Frame, at: int, values: Mapping[str, Any]) -> None:
        """Compare what is there with what should be; `at` is the layout's end."""
        data = memoryview(frame.data)[frame.start : at]
        places = {
            name: (first - frame.start, after - frame.start)
            for name, (first, after) in frame.places.items()
        }
        for field in self.fields:
            spec = field.computed
            assert spec is not None
            right = self._reckoned(spec, field.name, data, places, values)
            found = values[field.name]
            if found != right:
                start = frame.places[field.name][0]
                raise frame.fail(
                    field.name, start,
                    f"the {spec.what} is {_shown(found)}, but the bytes give {_shown(right)}",
                )  # fmt: skip

    def fill(self, out: Output, values: Mapping[str, Any]) -> None:
        """Put the values into their places."""
        for field in self.fields:
            spec = field.computed
            assert spec is not None
            value = self._reckoned(spec, field.name, memoryview(out.data), out.places, values)
            first, after = out.places[field.name]
            if isinstance(field, NumberSpec):
                try:
                    packed = struct_for([field.kind], field.order or self.order).pack(value)
                except struct.error as error:
                    raise out.fail(field.name, str(error)) from None
                out.data[first:after] = packed
            else:
                assert isinstance(value, bytes)
                out.data[first:after] = value

    def _reckoned(
        self, spec: ComputedSpec, name: str, data: memoryview,
        places: Mapping[str, tuple[int, int]], values: Mapping[str, Any],
    ) -> int | bytes:  # fmt: skip
        if spec.what == "count":
            return len(values[str(spec.of)]) + spec.plus
        first, after = _span(spec, name, len(data), places)
        if spec.what == "offset":
            return first + spec.plus
        if spec.what == "size":
            return after - first + spec.plus
        running = start_digest(spec.what, spec.seed, spec.xor)
        own_first, own_after = places[name]
        if spec.of == "all" and first <= own_first:
            running.update(bytes(data[first:own_first]) + bytes(own_after - own_first))
            first = own_after
        running.update(bytes(data[first:after]))
        return running.value


def _span(
    spec: ComputedSpec, name: str, size: int, places: Mapping[str, tuple[int, int]]
) -> tuple[int, int]:
    match spec.of:
        case SpanSpec(from_=first, to=last):
            return places[first][0], places[last][1]
        case "before":
            return 0, places[name][0]
        case "after":
            return places[name][1], size
        case "all":
            return 0, size
        case field:
            return places[str(field)]


def _shown(value: object) -> str:
    return value.hex() if isinstance(value, bytes) else f"{value:#x}"
