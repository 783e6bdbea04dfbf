"""Layouts at work: a description, compiled, reads bytes into values and writes them back.

>>> from clever_ferry.layouts import LayoutSpec, compile_layouts
>>> from clever_ferry.model import convert
>>> spec = convert({"fields": [
...     {"type": "magic", "text": "TAG"},
...     {"type": "u16", "name": "day"},
...     {"type": "text", "name": "town", "length": "u8"}]}, LayoutSpec)
>>> layout = compile_layouts({"log": spec})["log"]
>>> layout.read(b"TAG\\x1f\\x00\\x04Gull")
({'day': 31, 'town': 'Gull'}, 10)
>>> layout.write({"day": 31, "town": "Gull"})
b'TAG\\x1f\\x00\\x04Gull'
>>> layout.edit(b"TAG\\x1f\\x00\\x04Gull", "/day", 32)
b'TAG \\x00\\x04Gull'
"""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any, NamedTuple

from clever_ferry.documents.places import set_at
from clever_ferry.layouts.computing import Computing
from clever_ferry.layouts.fast import compile_fast
from clever_ferry.layouts.frame import DEEPEST, Frame, LayoutError, Output, Step
from clever_ferry.layouts.groups import Choice, List, Nested, Parts
from clever_ferry.layouts.making import made, parsed
from clever_ferry.layouts.numbers import Bits, Numbers, Time, Varint
from clever_ferry.layouts.spec import (
    BitsSpec,
    BytesSpec,
    ChoiceSpec,
    ComputedSpec,
    FieldSpec,
    IdentifierSpec,
    LayoutSpec,
    ListSpec,
    MagicSpec,
    NestedSpec,
    NumberSpec,
    PaddingSpec,
    PartsSpec,
    SpanSpec,
    TextSpec,
    TimeSpec,
    VarintSpec,
)
from clever_ferry.layouts.texts import Bytes, Identifier, Magic, Padding, Text
from clever_ferry.layouts.times import from_ns, to_ns

__all__ = ["Computed", "Layout", "LayoutError", "compile_layouts"]


class Computed(NamedTuple):
    """A value of a header that is computed over what it stands before."""

    field: str
    spec: ComputedSpec


class Layout:
    """A compiled layout; made by `compile_layouts`."""

    def __init__(self, name: str, spec: LayoutSpec, known: Mapping[str, Layout]) -> None:
        self.name = name
        self._steps = _steps_of(spec, known)
        self._computing = Computing(spec)
        self._placed = bool(self._computing.fields)
        self._parts = [step for step in self._steps if isinstance(step, Parts)]
        self.fast = compile_fast(spec)
        """Reads and writes many at once, where it can; what does not fit is told by `read`."""
        self.needed = tuple(
            name
            for field in spec.fields
            if (name := str(getattr(field, "name", "")))
            and getattr(field, "equals", None) is None
            and getattr(field, "usual", None) is None
            and (getattr(field, "computed", None) is None or _outside(field))
        )
        """The fields that writing needs a value for."""
        valued = [f for f in spec.fields if isinstance(f, NumberSpec | BytesSpec)]
        self.numbers = frozenset(f.name for f in valued if isinstance(f, NumberSpec))
        texts = [f for f in spec.fields if isinstance(f, TextSpec)]
        self.texts = frozenset(f.name for f in texts)
        self._fields = {str(name): f for f in spec.fields if (name := getattr(f, "name", ""))}
        self.plain = frozenset(
            name for name, one in self._fields.items() if getattr(one, "computed", None) is None
            and isinstance(one, NumberSpec | BytesSpec | TextSpec | IdentifierSpec | TimeSpec)
        )  # fmt: skip
        """The fields of one value that follows from nothing else in it."""
        self.times = frozenset(f.name for f in spec.fields if isinstance(f, TimeSpec))
        self.bound: dict[str, str] = {f.name: f.bound for f in (*valued, *texts) if f.bound}
        """Fields that repeat a name field: own name -> the name field's."""
        self.plus = {f.name: f.plus for f in valued if isinstance(f, NumberSpec) and f.plus}
        """What is added to those that count otherwise."""
        self.computed: tuple[Computed, ...] = tuple(
            Computed(field.name, field.computed)
            for field in valued
            if field.computed and field.computed.outside
        )
        """Fields that are computed over what follows this layout."""
        self.checks = tuple(
            field.computed.what for field in valued
            if field.computed is not None and field.computed.what not in ("size", "count", "offset")
            and (field.computed.of == "all"
                 or (field.computed.of == "before" and field is spec.fields[-1]))
        )  # fmt: skip
        """The checksums in it that speak of all of its bytes."""
        self.outside = tuple(one.field for one in self.computed if one.field in self.numbers)
        self.zeros: dict[str, int | bytes] = {
            f.name: bytes(f.size) if isinstance(f, BytesSpec) and isinstance(f.size, int) else 0
            for f in valued
            if f.computed and f.computed.outside
        }
        """Zeros for the fields that are computed over what follows this layout."""

    def read(
        self, data: bytes, at: int = 0, *, end: int | None = None, depth: int = 0
    ) -> tuple[dict[str, Any], int]:
        """Read one value that starts at byte `at`; return it and the position after it.

        Raises LayoutError with the field's path and offset where the bytes do not fit.
        """
        end = len(data) if end is None else end
        if depth > DEEPEST:
            raise LayoutError(self.name, "", at, f"layouts are nested more than {DEEPEST} deep")
        if self.fast is not None:
            done = self.fast.read_many(data, at, end, 1)
            if done is not None:
                return done[0][0], done[1]
        frame = Frame(self.name, data, at, end, depth)
        values: dict[str, Any] = {}
        if not self._placed:
            for step in self._steps:
                at = step.read(frame, at, values)
            return values, at
        for step in self._steps:
            first, at = at, step.read(frame, at, values)
            frame.places[step.name] = (first, at)
        self._computing.check(frame, at, values)
        return values, at

    @property
    def size(self) -> int | None:
        """Bytes of a value, where all have as many and that is plain to see; else None."""
        return self.fast.size if self.fast is not None else None

    def read_whole(self, data: bytes) -> dict[str, Any]:
        """Read bytes that must hold one value and nothing more."""
        value, after = self.read(data)
        if after != len(data):
            raise LayoutError(self.name, "", after, f"{len(data) - after} bytes are left over")
        return value

    def repeated(self, values: Mapping[str, Any]) -> dict[str, int | str]:
        """Return what a value of this layout says of name fields; bytes are hex digits."""
        said: dict[str, int | str] = {}
        for own, field in self.bound.items():
            value = values[own]
            if type(value) is bytes:
                value = value.hex()
            elif own in self.plus:
                value -= self.plus[own]
            said[field] = value
        return said

    def made(self, name: str, random: Callable[[int], bytes]) -> int | bytes | str:
        """Return a value for a field that can be made out of `random` bytes."""
        return made(self._fields[name], random)

    def as_written(self, name: str, value: Any) -> Any:
        """Return a field's value as it is read again: a time is no finer than its unit."""
        field = self._fields[name]
        if isinstance(field, TimeSpec) and value is not None:
            with suppress(ValueError):  # which writing tells, with the field's place
                return to_ns(from_ns(value, field.unit), field.unit)
        return value

    def parsed(self, name: str, text: str) -> int | float | bytes | str:
        """Return what a user has stated for a field; raises ValueError where it is none."""
        return parsed(self._fields[name], text)

    def lacks(self, values: Mapping[str, Any]) -> str:
        """Return the first field that writing needs a value for and has none, or nothing."""
        return next((name for name in self.needed if name not in values), "")

    def counted(self, data: bytes, name: str, of: str | SpanSpec) -> bytes:
        """Return the bytes of one value of this layout of which a field of it speaks, too.

        `onward` are those behind the field; the `whole` are all, the field as zeros.
        """
        if of not in ("onward", "whole"):
            return b""
        frame = Frame(self.name, data, 0, len(data), 0)  # free: how deep, of one that was read
        values: dict[str, Any] = {}
        at, begin, end = 0, 0, len(data)
        for step in self._steps:
            before, at = at, step.read(frame, at, values)
            if step.name == name:
                begin, end = before, at
        if of == "onward":
            return data[end:at]
        return data[:begin] + bytes(end - begin) + data[end:at]

    def blank(self) -> dict[str, Any]:
        """Return a value with nothing in it: zeros, empty text and bytes, empty lists."""
        values: dict[str, Any] = {}
        for step in self._steps:
            step.blank(values)
        return values

    def write(self, values: Mapping[str, Any]) -> bytes:
        """Return the bytes for values; raises LayoutError where one does not fit."""
        if self._parts:
            placed = copy.deepcopy(dict(values))
            for parts in self._parts:
                parts.place(self._place_of(parts, placed), placed)
            values = placed
        out = Output(self.name)
        for step in self._steps:
            first = len(out.data)
            step.write(out, values)
            if self._placed:
                out.places[step.name] = (first, len(out.data))
        if self._placed:
            self._computing.fill(out, values)
        return bytes(out.data)

    def _place_of(self, parts: Parts, values: Mapping[str, Any]) -> int:
        """Return where parts begin; their table's numbers are of fixed size, whatever they say."""
        out = Output(self.name)
        for step in self._steps:
            if step is parts:
                break
            step.write(out, values)
        return len(out.data)

    def edit(self, data: bytes, path: str, new: Any) -> bytes:
        """Return the bytes with one value changed; all that does not depend on it stays."""
        value = self.read_whole(data)
        set_at(value, path, new)
        return self.write(value)


def _outside(field: FieldSpec) -> bool:
    computed = getattr(field, "computed", None)
    return computed is not None and bool(computed.outside)


def _steps_of(spec: LayoutSpec, known: Mapping[str, Layout]) -> tuple[Step, ...]:
    steps: list[Step] = []
    run: list[NumberSpec] = []

    def close_run() -> None:
        if run:
            steps.append(Numbers(tuple(run), run[0].order or spec.order))
            run.clear()

    computed = frozenset(
        str(getattr(field, "name", ""))
        for field in spec.fields
        if getattr(field, "computed", None) is not None
    )
    for number, field in enumerate(spec.fields):
        if isinstance(field, NumberSpec):
            order = field.order or spec.order
            if run and (computed or (run[0].order or spec.order) != order):
                close_run()
            run.append(field)
            continue
        close_run()
        steps.append(_step_of(field, number, spec.order, known, computed))
    close_run()
    return tuple(steps)


def _step_of(
    field: FieldSpec, number: int, order: str, known: Mapping[str, Layout], computed: frozenset[str]
) -> Step:
    match field:
        case NumberSpec():
            return Numbers([field], field.order or order)
        case VarintSpec():
            return Varint(field)
        case BitsSpec():
            return Bits(field, order)
        case TimeSpec():
            return Time(field, order)
        case MagicSpec():
            return Magic(field)
        case PaddingSpec():
            return Padding(field, number)
        case IdentifierSpec():
            return Identifier(field)
        case BytesSpec():
            return Bytes(field, order, computed)
        case TextSpec():
            return Text(field, order, computed)
        case NestedSpec():
            return Nested(field, order, known)
        case ListSpec():
            return List(field, order, known, computed)
        case ChoiceSpec():
            return Choice(field, order, known)
        case PartsSpec():
            return Parts(field)


def compile_layouts(specs: Mapping[str, LayoutSpec]) -> dict[str, Layout]:
    """Compile layouts that may refer to each other by name."""
    known: dict[str, Layout] = {}
    for name, spec in specs.items():
        known[name] = Layout(name, spec, known)
    return known
