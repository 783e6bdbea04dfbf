"""Layouts within layouts: nested, in lists, by choice, and as parts that a table places."""

from __future__ import annotations

import struct
from collections.abc import Mapping
from typing import Any, Protocol

from clever_ferry.documents.places import PlaceError, value_at
from clever_ferry.layouts.fast import Fast
from clever_ferry.layouts.frame import Frame, LayoutError, Output, value_of
from clever_ferry.layouts.numbers import CODES, Length, struct_for
from clever_ferry.layouts.spec import LENGTH_TYPES, ChoiceSpec, ListSpec, NestedSpec, PartsSpec
from clever_ferry.layouts.texts import framed_size

__all__ = ["Choice", "List", "Nested", "Parts"]


class Inner(Protocol):
    """A layout that stands within another."""

    name: str
    fast: Fast | None

    def read(
        self, data: bytes, at: int = 0, *, end: int | None = None, depth: int = 0
    ) -> tuple[dict[str, Any], int]:
        """Return the value that starts at a byte, and the position after it."""

    def write(self, values: Mapping[str, Any]) -> bytes:
        """Return the bytes for values."""

    def blank(self) -> dict[str, Any]:
        """Return a value with nothing in it."""


def _read_inner(
    layout: Inner, frame: Frame, at: int, end: int, path: str
) -> tuple[dict[str, Any], int]:
    try:
        return layout.read(frame.data, at, end=end, depth=frame.depth + 1)
    except LayoutError as error:
        raise error.under(frame.layout, path) from None


def _write_inner(layout: Inner, out: Output, value: Any, path: str) -> bytes:
    if not isinstance(value, Mapping):
        raise out.fail(path, f"{value!r} is no value of the layout {layout.name}")
    try:
        return layout.write(value)
    except LayoutError as error:
        raise error.under(out.layout, path) from None


class Nested:
    """Another layout."""

    def __init__(self, spec: NestedSpec, order: str, known: Mapping[str, Inner]) -> None:
        self.name, self.known, self.of = spec.name, known, spec.of
        self.length = Length(spec.length, order, spec.name) if spec.length else None

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read it; a length in front must be used up."""
        end = frame.end
        if self.length is not None:
            size, at = self.length.read(frame, at)
            end = frame.need(self.name, at, size)
        value, after = _read_inner(self.known[self.of], frame, at, end, self.name)
        if self.length is not None and after != end:
            raise frame.fail(self.name, after, f"{end - after} bytes are left over")
        values[self.name] = value
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write it."""
        data = _write_inner(self.known[self.of], out, value_of(out, values, self.name), self.name)
        if self.length is not None:
            self.length.write(out, len(data))
        out.data += data

    def blank(self, values: dict[str, Any]) -> None:
        """Set a blank one."""
        values[self.name] = self.known[self.of].blank()


def _said(values: Mapping[str, Any], name: str) -> Any:
    """Return what a field says, or what stands at a place in one; None where nothing does."""
    if not name.startswith("/"):
        return values.get(name)
    try:
        return value_at(values, name)
    except PlaceError:
        return None


class List:
    """Many of one layout, or of one type of number."""

    def __init__(
        self, spec: ListSpec, order: str, known: Mapping[str, Inner], computed: frozenset[str]
    ) -> None:
        self.spec, self.name, self.known = spec, spec.name, known
        self.follows = spec.count in computed
        """Whether its count is filled in by what is written, and so is never wrong."""
        self.number = struct_for([spec.of], order) if spec.of in CODES else None
        self.code = CODES.get(spec.of, "")
        self.sign = "<" if order == "little" else ">"
        self.length = Length(spec.length, order, spec.name) if spec.length else None
        self.count: Length | None = None
        self.counted: int | str | None = None
        if isinstance(spec.count, int) or spec.count is None:
            self.counted = spec.count
        elif not isinstance(spec.count, str) or spec.count in LENGTH_TYPES:
            self.count = Length(spec.count, order, spec.name)
        elif spec.count != "rest":
            self.counted = spec.count

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read as many as there are."""
        left, end = None, frame.end
        if self.count is not None:
            left, at = self.count.read(frame, at)
        elif self.counted is not None:
            left = framed_size(self.counted, frame, at, values)
        elif self.length is not None:
            size, at = self.length.read(frame, at)
            end = frame.need(self.name, at, size)
        if left is not None and left > end - at:  # every item has at least one byte
            raise frame.fail(self.name, at, f"{left} items can't be in {end - at} bytes")
        if self.number is not None:
            return self._read_numbers(frame, at, end, left, values)
        layout, until = self.known[self.spec.of], self.spec.until
        if left is not None and layout.fast is not None:
            done = layout.fast.read_many(frame.data, at, end, left)
            if done is not None:
                values[self.name], after = done
                return after
        items: list[dict[str, Any]] = []
        while len(items) != left and (left is not None or until is not None or at < end):
            value, after = _read_inner(layout, frame, at, end, f"{self.name}/{len(items)}")
            if after == at:
                raise frame.fail(self.name, at, "an item of no bytes repeats without end")
            items.append(value)
            at = after
            if until is not None and all(
                _said(value, key) == right for key, right in until.items()
            ):
                break
        values[self.name] = items
        return at

    def _read_numbers(
        self, frame: Frame, at: int, end: int, left: int | None, values: dict[str, Any]
    ) -> int:
        assert self.number is not None
        size = self.number.size
        if left is None and (end - at) % size:
            raise frame.fail(self.name, end, f"{(end - at) % size} bytes are left over")
        count = (end - at) // size if left is None else left
        after = frame.need(self.name, at, count * size)
        found = struct.unpack_from(f"{self.sign}{count}{self.code}", frame.data, at)
        values[self.name] = list(found)
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write them."""
        items = value_of(out, values, self.name)
        if self.count is not None:
            self.count.write(out, len(items))
        elif self.counted is not None and not self.follows:
            right = values.get(self.counted) if isinstance(self.counted, str) else self.counted
            if right != len(items):
                raise out.fail(self.name, f"{len(items)} items are given where {right} must stand")
        if self.number is not None:
            try:
                data = b"".join(map(self.number.pack, items))
            except struct.error as error:
                raise out.fail(self.name, str(error)) from None
        else:
            inner = self.known[self.spec.of]
            quick = inner.fast.write_many(items) if inner.fast is not None else None
            data = (
                quick
                if quick is not None
                else b"".join(
                    _write_inner(inner, out, item, f"{self.name}/{number}")
                    for number, item in enumerate(items)
                )
            )
        if self.length is not None:
            self.length.write(out, len(data))
        out.data += data

    def blank(self, values: dict[str, Any]) -> None:
        """Set none, or as many blank ones as there must be."""
        count = self.counted if isinstance(self.counted, int) else 0
        blank = 0 if self.number is not None else None
        values[self.name] = [
            self.known[self.spec.of].blank() if blank is None else blank for _ in range(count)
        ]


class Choice:
    """One of several layouts or numbers, by an earlier value; the bytes of an unknown one."""

    def __init__(self, spec: ChoiceSpec, order: str, known: Mapping[str, Inner]) -> None:
        self.spec, self.name, self.known, self.order = spec, spec.name, known, order
        self.length = Length(spec.length, order, spec.name) if spec.length else None

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read what the earlier value says; keep what it does not say as bytes."""
        of = self.spec.of.get(str(_said(values, self.spec.by)), self.spec.otherwise)
        end, framed = frame.end, True
        if self.length is not None:
            size, at = self.length.read(frame, at)
            end = frame.need(self.name, at, size)
        elif self.spec.size is not None:
            end = frame.need(self.name, at, framed_size(self.spec.size, frame, at, values))
        else:
            framed = False
        if of is None:
            if not framed:
                tag = _said(values, self.spec.by)
                raise frame.fail(self.name, at, f"{tag!r} is unknown, and no size says its bytes")
            values[self.name] = bytes(frame.data[at:end])
            return end
        if of in CODES:
            number = struct_for([of], self.order)
            after = frame.need(self.name, at, number.size)
            (values[self.name],) = number.unpack_from(frame.data, at)
        else:
            values[self.name], after = _read_inner(self.known[of], frame, at, end, self.name)
        if framed and after != end:
            raise frame.fail(self.name, after, f"{end - after} bytes are left over")
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write it."""
        value = value_of(out, values, self.name)
        of = self.spec.of.get(str(_said(values, self.spec.by)), self.spec.otherwise)
        if isinstance(value, bytes):
            data = value
        elif of is None:
            raise out.fail(self.name, f"{_said(values, self.spec.by)!r} names no layout for it")
        elif of in CODES:
            try:
                data = struct_for([of], self.order).pack(value)
            except struct.error as error:
                raise out.fail(self.name, str(error)) from None
        else:
            data = _write_inner(self.known[of], out, value, self.name)
        if self.length is not None:
            self.length.write(out, len(data))
        out.data += data

    def blank(self, values: dict[str, Any]) -> None:
        """Set no bytes."""
        values[self.name] = b""


class Parts:
    """Runs of bytes that an earlier list places; the value is a list of bytes."""

    def __init__(self, spec: PartsSpec) -> None:
        self.spec, self.name = spec, spec.name

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read them; they must follow each other as the description says."""
        spec, parts, here = self.spec, [], at
        base = frame.start if spec.counted == "start" else at
        for number, record in enumerate(values[spec.table]):
            start = here + -(here - base) % spec.align
            path = f"{spec.table}/{number}/{spec.offset}"
            if record[spec.offset] != start - base:
                right = start - base
                raise frame.fail(path, at, f"the offset is {record[spec.offset]}, not {right}")
            after = frame.need(f"{self.name}/{number}", start, record[spec.size])
            if frame.data[here:start].strip(bytes([spec.fill])):
                raise frame.fail(f"{self.name}/{number}", here, "the gap before it is not empty")
            parts.append(bytes(frame.data[start:after]))
            here = after
        values[self.name] = parts
        return here

    def place(self, at: int, values: dict[str, Any]) -> None:
        """Set the offsets and sizes in the table's records, for parts that begin at `at`."""
        spec = self.spec
        base = 0 if spec.counted == "start" else at
        for record, part in zip(values[spec.table], values[self.name], strict=True):
            at += -(at - base) % spec.align
            record[spec.offset], record[spec.size] = at - base, len(part)
            at += len(part)

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write them where the table says."""
        base = 0 if self.spec.counted == "start" else len(out.data)
        for part in value_of(out, values, self.name):
            gap = -(len(out.data) - base) % self.spec.align
            out.data += bytes([self.spec.fill]) * gap + part

    def blank(self, values: dict[str, Any]) -> None:
        """Set none."""
        values[self.name] = []
