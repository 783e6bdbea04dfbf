"""Quick reading and writing of one simple layout, many records at a time.

For layouts of plain fields only, this writes out the straight code that one would write by
hand, as functions. Nothing from a recipe gets into that code's text: names, sizes and
constants are handed in as objects; the text holds our own words and index numbers alone.
Where a record does not fit, the functions give up with None, and the ordinary steps,
which know how to tell what is wrong, take over.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple
from uuid import UUID

from clever_ferry.layouts.numbers import struct_for
from clever_ferry.layouts.spec import (
    BytesSpec,
    FieldSpec,
    IdentifierSpec,
    LayoutSpec,
    LengthSpec,
    MagicSpec,
    NumberSpec,
    TextSpec,
    TimeSpec,
)
from clever_ferry.layouts.times import to_ns

__all__ = ["Fast", "compile_fast"]

ReadMany = Callable[[bytes, int, int, int], tuple[list[dict[str, Any]], int] | None]
WriteMany = Callable[[Sequence[Mapping[str, Any]]], bytes | None]


class Fast(NamedTuple):
    """The functions for one layout; each returns None where something does not fit."""

    read_many: ReadMany
    write_many: WriteMany
    size: int | None
    """Bytes of a record, where all have as many."""


_MISFITS = (struct.error, IndexError, UnicodeError, KeyError, TypeError, ValueError)


class _Code:
    """Lines of code, and the objects that they name `k0`, `k1`, …"""

    def __init__(self) -> None:
        self.objects: dict[str, Any] = {"misfits": _MISFITS}
        self.read: list[str] = []
        self.write: list[str] = []
        self.items: list[str] = []
        self.size: int | None = 0

    def keep(self, thing: Any) -> str:
        name = f"k{len(self.objects)}"
        self.objects[name] = thing
        return name

    def fixed(self, size: int) -> None:
        if self.size is not None:
            self.size += size


def compile_fast(spec: LayoutSpec) -> Fast | None:
    """Return the functions, or None where the layout has fields that need more care."""
    code = _Code()
    run: list[NumberSpec | TimeSpec] = []

    def close_run() -> None:
        if run:
            _numbers(code, run, spec.order)
            run.clear()

    for field in spec.fields:
        if isinstance(field, NumberSpec | TimeSpec) and _plain(field, spec.order):
            run.append(field)
            continue
        close_run()
        if not _other(code, field, spec.order):
            return None
    close_run()
    return _built(code)


def _plain(field: NumberSpec | TimeSpec, order: str) -> bool:
    if field.order not in (None, order):
        return False
    if isinstance(field, TimeSpec):
        return field.unit != "dos"
    return field.computed is None or field.computed.outside


def _numbers(code: _Code, run: Sequence[NumberSpec | TimeSpec], order: str) -> None:
    kinds = [field.kind if isinstance(field, NumberSpec) else field.within for field in run]
    packing = struct_for(kinds, order)
    unpack, pack = code.keep(packing.unpack_from), code.keep(packing.pack)
    variables = [f"n{len(code.items) + at}" for at in range(len(run))]
    code.read += [f"{', '.join(variables)}, = {unpack}(data, at)", f"at += {packing.size}"]
    code.fixed(packing.size)
    given = []
    for variable, field in zip(variables, run, strict=True):
        key = code.keep(field.name)
        value = variable
        got = f"item[{key}]"
        if isinstance(field, TimeSpec):
            scale = code.keep(to_ns(1, field.unit) - to_ns(0, field.unit))
            offset = code.keep(to_ns(0, field.unit))
            value = f"({variable} * {scale} + {offset} if {variable} else None)"
            got = f"(0 if (t := item[{key}]) is None else (t - {offset}) // {scale})"
        elif field.equals is not None:
            got = code.keep(field.equals)
            code.read.append(f"if {variable} != {got}: return None")
        elif field.usual is not None:
            got = f"item.get({key}, {code.keep(field.usual)})"
        code.items.append(f"{key}: {value}")
        given.append(got)
    code.write.append(f"add({pack}({', '.join(given)}))")


def _other(code: _Code, field: FieldSpec, order: str) -> bool:
    match field:
        case MagicSpec():
            right, size = code.keep(field.data), len(field.data)
            code.read += [f"if data[at:at + {size}] != {right}: return None", f"at += {size}"]
            code.write.append(f"add({right})")
            code.fixed(size)
        case IdentifierSpec():
            make = code.keep(_mixed_text if field.order == "mixed" else _big_text)
            back = code.keep(_mixed_bytes if field.order == "mixed" else _big_bytes)
            key = code.keep(field.name)
            variable = f"n{len(code.items)}"
            code.read += [f"{variable} = {make}(data[at:at + 16])", "at += 16"]
            code.items.append(f"{key}: {variable}")
            code.write.append(f"add({back}(item[{key}]))")
            code.fixed(16)
        case BytesSpec(size=int(size)) if field.computed is None or field.computed.outside:
            key, count = code.keep(field.name), code.keep(size)
            variable = f"n{len(code.items)}"
            code.read += [f"{variable} = data[at:at + {count}]", f"at += {count}"]
            code.items.append(f"{key}: {variable}")
            code.write += [f"t = item[{key}]", f"if len(t) != {count}: return None", "add(t)"]
            code.fixed(size)
        case (
            BytesSpec(computed=None)
            | TextSpec(equals=None, ends=None, number=None, zero=None, pad=None)
        ):
            return _measured(code, field, order)
        case _:
            return False
    return True


def _measured(code: _Code, field: BytesSpec | TextSpec, order: str) -> bool:
    """Bytes or text with a length of fixed size in front."""
    code.size = None
    if field.length is None:
        return False
    length = field.length
    kind = length.type if isinstance(length, LengthSpec) else length
    plus = length.plus if isinstance(length, LengthSpec) else 0
    own = (length.order if isinstance(length, LengthSpec) else None) or order
    encoding = field.encoding if isinstance(field, TextSpec) else None
    if kind == "varint" or plus or encoding == "shift-jis":
        return False
    packing = struct_for([kind], own)
    unpack, pack = code.keep(packing.unpack_from), code.keep(packing.pack)
    key, variable = code.keep(field.name), f"n{len(code.items)}"
    unit = 2 if encoding in ("utf-16-le", "utf-16-be") else 1
    counted = unit if isinstance(field, TextSpec) and field.counts == "characters" else 1
    code.read += [
        f"t, = {unpack}(data, at)",
        f"at += {packing.size}",
        f"t = at + t * {counted}" if counted > 1 else "t += at",
    ]
    if encoding is not None:
        how = f"{code.keep(encoding)}, {code.keep('surrogatepass' if unit == 2 else 'strict')}"
        code.read.append(f"{variable} = data[at:t].decode({how})")
        code.write.append(f"t = item[{key}].encode({how})")
    else:
        code.read.append(f"{variable} = data[at:t]")
        code.write.append(f"t = item[{key}]")
    code.read.append("at = t")
    code.write.append(
        f"add({pack}(len(t) // {counted}))" if counted > 1 else f"add({pack}(len(t)))"
    )
    code.write.append("add(t)")
    code.items.append(f"{key}: {variable}")
    return True


def _built(code: _Code) -> Fast:
    def block(lines: list[str], depth: int) -> str:
        return "\n".join("    " * depth + line for line in lines)

    text = f"""
def read_many(data, at, end, count):
    found = []
    append = found.append
    try:
        for _ in range(count):
{block(code.read, 3)}
            if at > end:
                return None
            append({{{", ".join(code.items)}}})
    except misfits:
        return None
    return found, at

def write_many(items):
    out = []
    add = out.append
    try:
        for item in items:
{block(code.write, 3)}
        return b"".join(out)
    except misfits:
        return None
"""
    made: dict[str, Any] = dict(code.objects)
    exec(compile(text, "<layout>", "exec"), made)  # our own words and numbers only, see above
    return Fast(made["read_many"], made["write_many"], code.size)


def _big_text(data: bytes) -> str:
    text = data.hex()
    if len(text) != 32:
        raise ValueError("too few bytes")
    return f"{text[:8]}-{text[8:12]}-{text[12:16]}-{text[16:20]}-{text[20:]}"


def _mixed_text(data: bytes) -> str:
    mixed = data[3::-1] + data[5:3:-1] + data[7:5:-1]  # free: what fails here, the steps do
    return _big_text(mixed + data[8:])


def _big_bytes(text: str) -> bytes:
    return UUID(text).bytes


def _mixed_bytes(text: str) -> bytes:
    return UUID(text).bytes_le
