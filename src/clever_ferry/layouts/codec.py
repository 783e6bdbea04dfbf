"""Layouts at work: each kind of field reads and writes side by side.

>>> from clever_ferry.layouts import LayoutSpec, compile_layouts
>>> spec = LayoutSpec.model_validate({"fields": [
...     {"type": "magic", "text": "TAG"},
...     {"type": "u16", "name": "day"},
...     {"type": "text", "name": "town", "length": "u8"}]})
>>> layout = compile_layouts({"log": spec})["log"]
>>> layout.read(b"TAG\\x1f\\x00\\x04Gull")
({'day': 31, 'town': 'Gull'}, 10)
>>> layout.write({"day": 31, "town": "Gull"})
b'TAG\\x1f\\x00\\x04Gull'
"""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

from clever_ferry.errors import DamagedError
from clever_ferry.layouts.digests import Running
from clever_ferry.layouts.spec import (
    BytesSpec,
    ComputedSpec,
    FieldSpec,
    LayoutSpec,
    LengthSpec,
    ListSpec,
    MagicSpec,
    NestedSpec,
    NumberSpec,
    TextSpec,
    VarintSpec,
)

__all__ = ["Computed", "Layout", "LayoutError", "compile_layouts"]

_CODES = dict(
    zip(("u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64", "f32", "f64"), "BHIQbhiqfd",
        strict=True)
)  # fmt: skip
_DEEPEST = 32


class LayoutError(DamagedError):
    """Bytes that a layout can't read, or values that it can't write."""

    def __init__(self, layout: str, field: str, offset: int, found: str) -> None:
        super().__init__(f"{layout}/{field}, at byte {offset}: {found}.")
        self.layout, self.field, self.offset, self.found = layout, field, offset, found


class Computed(NamedTuple):
    """A top-level value of a header that is reckoned over what it stands before."""

    field: str
    what: str
    of: str


@dataclass
class _Frame:
    """Where reading is: the bytes, the layout's first and last byte, and how deep it is."""

    layout: str
    data: bytes
    start: int
    end: int
    depth: int

    def fail(self, field: str, at: int, found: str) -> LayoutError:
        return LayoutError(self.layout, field, at, found)

    def need(self, field: str, at: int, size: int) -> int:
        """Return the position after `size` bytes; they must be there."""
        if size > self.end - at:
            raise self.fail(field, at, f"{size} bytes should follow, but {self.end - at} are left")
        return at + size


class _Step(Protocol):
    """One field, or a run of them, both ways."""

    def read(self, frame: _Frame, at: int, values: dict[str, Any]) -> int: ...

    def write(self, layout: str, out: bytearray, values: Mapping[str, Any]) -> None: ...

    def blank(self, values: dict[str, Any]) -> None: ...


def _value(layout: str, out: bytearray, values: Mapping[str, Any], name: str) -> Any:
    if name not in values:
        raise LayoutError(layout, name, len(out), "no value is given for this field")
    return values[name]


class _Numbers:
    """Neighbouring numbers of fixed size and one byte order, read in one go."""

    def __init__(self, specs: Sequence[NumberSpec], order: str) -> None:
        sign = "<" if order == "little" else ">"
        self.struct = struct.Struct(sign + "".join(_CODES[spec.type] for spec in specs))
        self.names = [spec.name for spec in specs]
        self.specs = specs
        self.equals = [(spec.name, spec.equals) for spec in specs if spec.equals is not None]
        self.before = next((s for s in specs if s.computed and s.computed.of == "before"), None)

    def read(self, frame: _Frame, at: int, values: dict[str, Any]) -> int:
        after = frame.need(self.names[0], at, self.struct.size)
        values.update(zip(self.names, self.struct.unpack_from(frame.data, at), strict=True))
        for name, right in self.equals:
            if values[name] != right:
                raise frame.fail(name, at, f"{values[name]} stands where {right} should")
        if self.before is not None and self.before.computed is not None:
            found, name = values[self.before.name], self.before.name
            right = _reckon(self.before.computed, frame.data[frame.start : at])
            if found != right:
                what = self.before.computed.what
                raise frame.fail(
                    name, at, f"the {what} is {found:#x}, but the bytes give {right:#x}"
                )
        return after

    def write(self, layout: str, out: bytearray, values: Mapping[str, Any]) -> None:
        numbers: list[Any] = []
        for spec in self.specs:
            if spec.equals is not None:
                numbers.append(spec.equals)
            elif spec.computed is not None and spec.computed.of == "before":
                numbers.append(_reckon(spec.computed, bytes(out)))
            else:
                known = spec.name in values or spec.usual is None
                numbers.append(_value(layout, out, values, spec.name) if known else spec.usual or 0)
        try:
            out += self.struct.pack(*numbers)
        except struct.error as error:
            raise LayoutError(layout, self.names[0], len(out), f"{error}") from None

    def blank(self, values: dict[str, Any]) -> None:
        values.update((spec.name, spec.equals or spec.usual or 0) for spec in self.specs)


def _reckon(spec: ComputedSpec, data: bytes) -> int:
    running = Running(spec.what)
    running.update(data)
    return running.value


class _Varint:
    def __init__(self, spec: VarintSpec) -> None:
        self.spec = spec

    def read(self, frame: _Frame, at: int, values: dict[str, Any]) -> int:
        name, data = self.spec.name, frame.data
        after = frame.need(name, at, 1)
        first = data[at]
        if self.spec.style == "ones":
            more = 0
            while more < 8 and first & (0x80 >> more):
                more += 1
            after = frame.need(name, at + 1, more)
            value = int.from_bytes(bytes([first & (0xFF >> (more + 1))]) + data[at + 1 : after])
        else:
            value, shift = first & 0x7F, 7
            while data[after - 1] & 0x80:
                if shift > 63:
                    raise frame.fail(name, at, "the number has more than 64 bits")
                after = frame.need(name, after, 1)
                value |= (data[after - 1] & 0x7F) << shift
                shift += 7
        if self.spec.equals is not None and value != self.spec.equals:
            raise frame.fail(name, at, f"{value} stands where {self.spec.equals} should")
        values[name] = value
        return after

    def write(self, layout: str, out: bytearray, values: Mapping[str, Any]) -> None:
        value = self.spec.equals
        if value is None:
            value = _value(layout, out, values, self.spec.name)
        if not isinstance(value, int) or not 0 <= value < 1 << 64:
            raise LayoutError(layout, self.spec.name, len(out), f"{value!r} is not a 64-bit number")
        out += _varint_bytes(value, self.spec.style)

    def blank(self, values: dict[str, Any]) -> None:
        values[self.spec.name] = self.spec.equals or 0


def _varint_bytes(value: int, style: str) -> bytes:
    if style == "ones":
        more = min(8, max(0, (value.bit_length() - 1) // 7))
        data = bytearray(value.to_bytes(more + 1))
        data[0] |= (0xFF << (8 - more)) & 0xFF
        return bytes(data)
    data = bytearray()
    while value > 0x7F:
        data.append(value & 0x7F | 0x80)
        value >>= 7
    data.append(value)
    return bytes(data)


class _Magic:
    def __init__(self, spec: MagicSpec) -> None:
        self.data = spec.data

    def read(self, frame: _Frame, at: int, values: dict[str, Any]) -> int:
        found = frame.data[at : min(at + len(self.data), frame.end)]
        if found != self.data:
            raise frame.fail("magic", at, f"{found!r} stands where {self.data!r} should")
        return at + len(self.data)

    def write(self, layout: str, out: bytearray, values: Mapping[str, Any]) -> None:
        out += self.data

    def blank(self, values: dict[str, Any]) -> None:
        pass


class _Length:
    """A length or count in front of what it measures."""

    def __init__(self, spec: str | LengthSpec, order: str, name: str) -> None:
        if isinstance(spec, str):
            spec = LengthSpec.model_validate({"type": spec})
        self.name, self.plus = name, spec.plus
        self.step: _Step
        if spec.type == "varint":
            self.step = _Varint(VarintSpec(type="varint", name=name, style=spec.style))
        else:
            self.step = _Numbers([NumberSpec(type=spec.type, name=name)], order)

    def read(self, frame: _Frame, at: int) -> tuple[int, int]:
        values: dict[str, Any] = {}
        after = self.step.read(frame, at, values)
        if values[self.name] < self.plus:
            raise frame.fail(self.name, at, f"its length {values[self.name]} can't be right")
        return values[self.name] - self.plus, after

    def write(self, layout: str, out: bytearray, value: int) -> None:
        self.step.write(layout, out, {self.name: value + self.plus})


class _Bytes:
    """Bytes and text, framed by a fixed size, an earlier field, a length in front, or the end."""

    def __init__(self, spec: BytesSpec | TextSpec, order: str) -> None:
        self.spec, self.name = spec, spec.name
        self.length = _Length(spec.length, order, spec.name) if spec.length else None
        self.encoding = spec.encoding if isinstance(spec, TextSpec) else None
        self.equals = spec.equals if isinstance(spec, TextSpec) else None

    def read(self, frame: _Frame, at: int, values: dict[str, Any]) -> int:
        size: Any = self.spec.size
        if self.length is not None:
            size, at = self.length.read(frame, at)
        elif size == "rest":
            size = frame.end - at
        elif isinstance(size, str):
            size = values[size]
        after = frame.need(self.name, at, size)
        data = frame.data[at:after]
        if self.encoding is None:
            values[self.name] = data
            return after
        try:
            values[self.name] = data.decode(self.encoding)
        except UnicodeDecodeError as error:
            raise frame.fail(self.name, at, f"this is no {self.encoding} text: {error}") from None
        if self.equals is not None and values[self.name] != self.equals:
            raise frame.fail(self.name, at, f"{values[self.name]!r}, not {self.equals!r}")
        return after

    def write(self, layout: str, out: bytearray, values: Mapping[str, Any]) -> None:
        value = _value(layout, out, values, self.name)
        try:
            data = bytes(value) if self.encoding is None else str(value).encode(self.encoding)
        except UnicodeEncodeError as error:
            raise LayoutError(layout, self.name, len(out), str(error)) from None
        size: Any = self.spec.size
        if self.length is not None:
            self.length.write(layout, out, len(data))
        elif size != "rest":
            right = values[size] if isinstance(size, str) else size
            if len(data) != right:
                found = f"{len(data)} bytes are given where {right} must stand"
                raise LayoutError(layout, self.name, len(out), found)
        out += data

    def blank(self, values: dict[str, Any]) -> None:
        size = self.spec.size if isinstance(self.spec.size, int) else 0
        values[self.name] = bytes(size) if self.encoding is None else self.equals or "\0" * size


class _Nested:
    def __init__(self, spec: NestedSpec, order: str, known: Mapping[str, Layout]) -> None:
        self.name, self.known, self.of = spec.name, known, spec.of
        self.length = _Length(spec.length, order, spec.name) if spec.length else None

    def read(self, frame: _Frame, at: int, values: dict[str, Any]) -> int:
        end = frame.end
        if self.length is not None:
            size, at = self.length.read(frame, at)
            end = frame.need(self.name, at, size)
        value, after = self.known[self.of].read(frame.data, at, end=end, depth=frame.depth + 1)
        if self.length is not None and after != end:
            raise frame.fail(self.name, after, f"{end - after} bytes are left over")
        values[self.name] = value
        return after

    def write(self, layout: str, out: bytearray, values: Mapping[str, Any]) -> None:
        data = self.known[self.of].write(_value(layout, out, values, self.name))
        if self.length is not None:
            self.length.write(layout, out, len(data))
        out += data

    def blank(self, values: dict[str, Any]) -> None:
        values[self.name] = self.known[self.of].blank()


class _List:
    def __init__(self, spec: ListSpec, order: str, known: Mapping[str, Layout]) -> None:
        self.spec, self.name, self.known = spec, spec.name, known
        self.count: _Length | None = None
        if spec.count is not None and spec.count != "rest":
            self.count = _Length(spec.count, order, spec.name)

    def read(self, frame: _Frame, at: int, values: dict[str, Any]) -> int:
        layout = self.known[self.spec.of]
        items: list[dict[str, Any]] = []
        left, until = None, self.spec.until
        if self.count is not None:
            left, at = self.count.read(frame, at)
            if left > frame.end - at:  # every item has at least one byte
                raise frame.fail(self.name, at, f"{left} items can't be in {frame.end - at} bytes")
        while (left is None or len(items) < left) and (
            left is not None or until is not None or at < frame.end
        ):
            value, after = layout.read(frame.data, at, end=frame.end, depth=frame.depth + 1)
            if after == at:
                raise frame.fail(self.name, at, "an item of no bytes repeats without end")
            items.append(value)
            at = after
            if until is not None and all(value.get(key) == end for key, end in until.items()):
                break
        values[self.name] = items
        return at

    def write(self, layout: str, out: bytearray, values: Mapping[str, Any]) -> None:
        items = _value(layout, out, values, self.name)
        if self.count is not None:
            self.count.write(layout, out, len(items))
        inner = self.known[self.spec.of]
        for item in items:
            out += inner.write(item)

    def blank(self, values: dict[str, Any]) -> None:
        values[self.name] = []


class Layout:
    """A compiled layout; made by `compile_layouts`."""

    def __init__(self, name: str, spec: LayoutSpec, known: Mapping[str, Layout]) -> None:
        self.name = name
        self._steps = _steps_of(spec, known)
        numbers = [field for field in spec.fields if isinstance(field, NumberSpec)]
        self.numbers = frozenset(field.name for field in numbers)
        self.bound: dict[str, str] = {
            field.name: field.bound
            for field in spec.fields
            if isinstance(field, NumberSpec | BytesSpec) and field.bound
        }
        """Fields that repeat a name field: own name -> the name field's."""
        self.computed: tuple[Computed, ...] = tuple(
            Computed(field.name, field.computed.what, field.computed.of)
            for field in numbers
            if field.computed and field.computed.of != "before"
        )
        """Fields that are reckoned over what follows this layout."""

    def read(
        self, data: bytes, at: int = 0, *, end: int | None = None, depth: int = 0
    ) -> tuple[dict[str, Any], int]:
        """Read one value that starts at byte `at`; return it and the position after it.

        Raises LayoutError with the field and offset where the bytes do not fit.
        """
        frame = _Frame(self.name, data, at, len(data) if end is None else end, depth)
        if depth > _DEEPEST:
            raise frame.fail("", at, f"layouts are nested more than {_DEEPEST} deep")
        values: dict[str, Any] = {}
        for step in self._steps:
            at = step.read(frame, at, values)
        return values, at

    def read_whole(self, data: bytes) -> dict[str, Any]:
        """Read bytes that must hold one value and nothing more."""
        value, after = self.read(data)
        if after != len(data):
            raise LayoutError(self.name, "", after, f"{len(data) - after} bytes are left over")
        return value

    def blank(self) -> dict[str, Any]:
        """Return a value with nothing in it: zeros, empty text and bytes, empty lists."""
        values: dict[str, Any] = {}
        for step in self._steps:
            step.blank(values)
        return values

    def write(self, values: Mapping[str, Any]) -> bytes:
        """Return the bytes for values; raises LayoutError where one does not fit."""
        out = bytearray()
        for step in self._steps:
            step.write(self.name, out, values)
        return bytes(out)


def _steps_of(spec: LayoutSpec, known: Mapping[str, Layout]) -> tuple[_Step, ...]:
    steps: list[_Step] = []
    run: list[NumberSpec] = []

    def close_run() -> None:
        if run:
            steps.append(_Numbers(tuple(run), run[0].order or spec.order))
            run.clear()

    for field in spec.fields:
        if isinstance(field, NumberSpec):
            before = field.computed is not None and field.computed.of == "before"
            if run and ((run[0].order or spec.order) != (field.order or spec.order) or before):
                close_run()
            run.append(field)
            continue
        close_run()
        steps.append(_step_of(field, spec.order, known))
    close_run()
    return tuple(steps)


def _step_of(field: FieldSpec, order: str, known: Mapping[str, Layout]) -> _Step:
    match field:
        case VarintSpec():
            return _Varint(field)
        case MagicSpec():
            return _Magic(field)
        case BytesSpec() | TextSpec():
            return _Bytes(field, order)
        case NestedSpec():
            return _Nested(field, order, known)
        case ListSpec():
            return _List(field, order, known)
        case NumberSpec():  # numbers are gathered into runs before
            return _Numbers([field], order)


def compile_layouts(specs: Mapping[str, LayoutSpec]) -> dict[str, Layout]:
    """Compile layouts that may refer to each other by name."""
    known: dict[str, Layout] = {}
    for name, spec in specs.items():
        known[name] = Layout(name, spec, known)
    return known
