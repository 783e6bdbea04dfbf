"""Numbers in layouts: of fixed size, of variable size, in bits, and as time stamps."""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence
from typing import Any

from clever_ferry.layouts.frame import Frame, Output, value_of
from clever_ferry.layouts.spec import BitsSpec, LengthSpec, NumberSpec, TimeSpec, VarintSpec
from clever_ferry.layouts.times import from_ns, to_ns
from clever_ferry.model import convert, tagged

__all__ = ["CODES", "Bits", "Length", "Numbers", "Time", "Varint", "struct_for"]

CODES = dict(
    zip(("u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64", "f32", "f64"), "BHIQbhiqfd",
        strict=True)
)  # fmt: skip


def struct_for(kinds: Sequence[str], order: str) -> struct.Struct:
    """Return the struct of numbers of these types without gaps."""
    return struct.Struct(("<" if order == "little" else ">") + "".join(CODES[k] for k in kinds))


class Numbers:
    """Neighbouring numbers of fixed size and one byte order, read in one go."""

    def __init__(self, specs: Sequence[NumberSpec], order: str) -> None:
        self.struct = struct_for([spec.kind for spec in specs], order)
        self.name = specs[0].name
        self.names = [spec.name for spec in specs]
        self.specs = specs
        self.equals = [(spec.name, spec.equals) for spec in specs if spec.equals is not None]

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read all of the run."""
        after = frame.need(self.name, at, self.struct.size)
        values.update(zip(self.names, self.struct.unpack_from(frame.data, at), strict=True))
        for name, right in self.equals:
            if values[name] != right:
                raise frame.fail(name, at, f"{values[name]} stands where {right} should")
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write all of the run; what is computed is filled in later."""
        numbers: list[Any] = []
        for spec in self.specs:
            if spec.equals is not None:
                numbers.append(spec.equals)
            elif spec.computed is not None and not _outside(spec):
                numbers.append(0)
            elif spec.name not in values and spec.usual is not None:
                numbers.append(spec.usual)
            else:
                numbers.append(value_of(out, values, spec.name))
        try:
            out.data += self.struct.pack(*numbers)
        except struct.error as error:
            raise out.fail(self._misfit(numbers), str(error)) from None

    def _misfit(self, numbers: list[Any]) -> str:
        for spec, number in zip(self.specs, numbers, strict=True):
            try:
                struct_for([spec.kind], "little").pack(number)
            except struct.error:
                return spec.name
        return self.name

    def blank(self, values: dict[str, Any]) -> None:
        """Set zeros, or what is always or usually there."""
        values.update((spec.name, spec.equals or spec.usual or 0) for spec in self.specs)


def _outside(spec: NumberSpec) -> bool:
    return spec.computed is not None and spec.computed.outside


class Varint:
    """A number in as many bytes as it needs."""

    def __init__(self, spec: VarintSpec) -> None:
        self.spec, self.name = spec, spec.name

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read it."""
        value, after = _read_varint(frame, self.name, at, self.spec.style)
        if self.spec.equals is not None and value != self.spec.equals:
            raise frame.fail(self.name, at, f"{value} stands where {self.spec.equals} should")
        if varint_bytes(value, self.spec.style) != frame.data[at:after]:
            raise frame.fail(self.name, at, "the number is written in more bytes than it needs")
        values[self.name] = value
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write it."""
        value = self.spec.equals
        if value is None:
            value = value_of(out, values, self.name)
        low = -(1 << 63) if self.spec.style == "zigzag" else 0
        high = 1 << 63 if self.spec.style == "zigzag" else 1 << 64
        if not isinstance(value, int) or not low <= value < high:
            raise out.fail(self.name, f"{value!r} is not a 64-bit number")
        out.data += varint_bytes(value, self.spec.style)

    def blank(self, values: dict[str, Any]) -> None:
        """Set zero."""
        values[self.name] = self.spec.equals or 0


def _read_varint(frame: Frame, name: str, at: int, style: str) -> tuple[int, int]:
    data = frame.data
    after = frame.need(name, at, 1)
    first = data[at]
    if style == "ones":
        more = 0
        while more < 8 and first & (0x80 >> more):
            more += 1
        after = frame.need(name, at + 1, more)
        return int.from_bytes(bytes([first & (0xFF >> (more + 1))]) + data[at + 1 : after]), after
    value, shift = first & 0x7F, 7
    while data[after - 1] & 0x80:
        if shift > 63:
            raise frame.fail(name, at, "the number has more than 64 bits")
        after = frame.need(name, after, 1)
        value |= (data[after - 1] & 0x7F) << shift
        shift += 7
    if value >> 64:
        raise frame.fail(name, at, "the number has more than 64 bits")
    return (value >> 1 ^ -(value & 1) if style == "zigzag" else value), after


def varint_bytes(value: int, style: str) -> bytes:
    """Return the shortest spelling of a number."""
    if style == "ones":
        more = min(8, max(0, (value.bit_length() - 1) // 7))
        data = bytearray(value.to_bytes(more + 1))
        data[0] |= (0xFF << (8 - more)) & 0xFF
        return bytes(data)
    if style == "zigzag":
        value = value * 2 if value >= 0 else -value * 2 - 1
    data = bytearray()
    while value > 0x7F:
        data.append(value & 0x7F | 0x80)
        value >>= 7
    data.append(value)
    return bytes(data)


class Length:
    """A length or count in front of what it measures."""

    def __init__(self, spec: str | LengthSpec, order: str, name: str) -> None:
        if isinstance(spec, str):
            spec = convert({"type": spec}, LengthSpec)
        self.spec, self.name, self.plus = spec, name, spec.plus
        self.order = spec.order or order
        self.step: Varint | Numbers
        if spec.type == "varint":
            self.step = Varint(VarintSpec(name=name, style=spec.style))
        else:
            self.step = Numbers([tagged(NumberSpec, spec.type)(name=name)], self.order)

    def read(self, frame: Frame, at: int) -> tuple[int, int]:
        """Return what it measures, and the position after it."""
        values: dict[str, Any] = {}
        after = self.step.read(frame, at, values)
        if values[self.name] < self.plus:
            raise frame.fail(self.name, at, f"its length {values[self.name]} can't be right")
        return values[self.name] - self.plus, after

    def write(self, out: Output, value: int) -> None:
        """Write it."""
        self.step.write(out, {self.name: value + self.plus})


class Bits:
    """Several small numbers in one; the value is a mapping."""

    def __init__(self, spec: BitsSpec, order: str) -> None:
        self.spec, self.name = spec, spec.name
        self.struct = struct_for([spec.within], spec.order or order)

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read them, the lowest bits first."""
        after = frame.need(self.name, at, self.struct.size)
        (whole,) = self.struct.unpack_from(frame.data, at)
        parts = {}
        for name, width in self.spec.parts.items():
            parts[name] = whole & ((1 << width) - 1)
            whole >>= width
        values[self.name] = parts
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write them."""
        parts, whole, shift = value_of(out, values, self.name), 0, 0
        for name, width in self.spec.parts.items():
            part = parts.get(name, 0)
            if not isinstance(part, int) or not 0 <= part < 1 << width:
                raise out.fail(f"{self.name}/{name}", f"{part!r} does not fit {width} bits")
            whole |= part << shift
            shift += width
        out.data += self.struct.pack(whole)

    def blank(self, values: dict[str, Any]) -> None:
        """Set zeros."""
        values[self.name] = dict.fromkeys(self.spec.parts, 0)


class Time:
    """A time stamp; the value is in ns since 1970, and None where the stamp is zero."""

    def __init__(self, spec: TimeSpec, order: str) -> None:
        self.spec, self.name = spec, spec.name
        self.struct = struct_for([spec.within], spec.order or order)

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read it."""
        after = frame.need(self.name, at, self.struct.size)
        (raw,) = self.struct.unpack_from(frame.data, at)
        try:
            values[self.name] = to_ns(raw, self.spec.unit) if raw else None
        except ValueError as error:
            raise frame.fail(self.name, at, str(error)) from None
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write it."""
        value = value_of(out, values, self.name)
        try:
            out.data += self.struct.pack(0 if value is None else from_ns(value, self.spec.unit))
        except (struct.error, ValueError, TypeError) as error:
            raise out.fail(self.name, str(error)) from None

    def blank(self, values: dict[str, Any]) -> None:
        """Set no time."""
        values[self.name] = None
