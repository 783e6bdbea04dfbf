"""Quick reading and writing of many records of one simple layout.

For layouts of plain fields only, this writes out the straight code that one would write by
hand, as functions. Nothing from a recipe gets into that code's text: names, sizes and
constants are handed in as objects; the text holds our own words and index numbers alone.
Where a record does not fit, the functions give up with None, and the ordinary steps,
which know how to tell what is wrong, take over.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Mapping, Sequence
from typing import Any
from uuid import UUID

from clever_ferry.layouts.numbers import struct_for
from clever_ferry.layouts.spec import (
    BytesSpec,
    FieldSpec,
    IdentifierSpec,
    LayoutSpec,
    LengthSpec,
    NumberSpec,
    TextSpec,
    TimeSpec,
)
from clever_ferry.layouts.times import to_ns

__all__ = ["compile_fast"]

ReadMany = Callable[[bytes, int, int, int], tuple[list[dict[str, Any]], int] | None]
WriteMany = Callable[[Sequence[Mapping[str, Any]]], bytes | None]

_MISFITS = (struct.error, IndexError, UnicodeError, KeyError, TypeError, ValueError)


class _Code:
    """Lines of code, and the objects that they name `k0`, `k1`, …"""

    def __init__(self) -> None:
        self.objects: dict[str, Any] = {"misfits": _MISFITS}
        self.read: list[str] = []
        self.write: list[str] = []
        self.items: list[str] = []

    def keep(self, thing: Any) -> str:
        name = f"k{len(self.objects)}"
        self.objects[name] = thing
        return name


def compile_fast(spec: LayoutSpec) -> tuple[ReadMany, WriteMany] | None:
    """Return the functions, or None where the layout has fields that need more care."""
    code = _Code()
    run: list[tuple[str, str]] = []  # (struct code, how to turn the number), by field
    names: list[str] = []

    def close_run() -> None:
        if run:
            _numbers(code, names, run, spec.order)
            run.clear()
            names.clear()

    for field in spec.fields:
        plain = _plain_number(field, spec.order)
        if plain is not None:
            names.append(getattr(field, "name", ""))
            run.append(plain)
            continue
        close_run()
        if not _other(code, field, spec.order):
            return None
    close_run()
    return _built(code)


def _plain_number(field: FieldSpec, order: str) -> tuple[str, str] | None:
    own = getattr(field, "order", None)
    if own not in (None, order):
        return None
    match field:
        case NumberSpec(equals=None, usual=None, computed=None):
            return field.kind, ""
        case TimeSpec() if field.unit != "dos":
            return field.within, field.unit
    return None


def _numbers(code: _Code, names: list[str], run: list[tuple[str, str]], order: str) -> None:
    packing = struct_for([kind for kind, _ in run], order)
    unpack, pack = code.keep(packing.unpack_from), code.keep(packing.pack)
    variables = [f"n{len(code.items) + at}" for at in range(len(run))]
    code.read += [f"{', '.join(variables)}, = {unpack}(data, at)", f"at += {packing.size}"]
    given = []
    for name, variable, (_, unit) in zip(names, variables, run, strict=True):
        key = code.keep(name)
        value = variable
        got = f"item[{key}]"
        if unit:
            scale, offset = code.keep(_scale(unit)), code.keep(to_ns(0, unit))  # type: ignore[arg-type]
            value = f"({variable} * {scale} + {offset} if {variable} else None)"
            got = f"(0 if (t := item[{key}]) is None else (t - {offset}) // {scale})"
        code.items.append(f"{key}: {value}")
        given.append(got)
    code.write.append(f"add({pack}({', '.join(given)}))")


def _scale(unit: str) -> int:
    return to_ns(1, unit) - to_ns(0, unit)  # type: ignore[arg-type]


def _other(code: _Code, field: FieldSpec, order: str) -> bool:
    match field:
        case IdentifierSpec():
            make = code.keep(_mixed_text if field.order == "mixed" else _big_text)
            back = code.keep(_mixed_bytes if field.order == "mixed" else _big_bytes)
            key = code.keep(field.name)
            variable = f"n{len(code.items)}"
            code.read += [f"{variable} = {make}(data[at:at + 16])", "at += 16"]
            code.items.append(f"{key}: {variable}")
            code.write.append(f"add({back}(item[{key}]))")
        case BytesSpec(size=int(), computed=None):
            key, size = code.keep(field.name), code.keep(field.size)
            variable = f"n{len(code.items)}"
            code.read += [f"{variable} = data[at:at + {size}]", f"at += {size}"]
            code.items.append(f"{key}: {variable}")
            code.write += [f"t = item[{key}]", f"if len(t) != {size}: return None", "add(t)"]
        case BytesSpec(computed=None) | TextSpec(equals=None, ends=None, zero=None, pad=None):
            return _measured(code, field, order)
        case _:
            return False
    return True


def _measured(code: _Code, field: BytesSpec | TextSpec, order: str) -> bool:
    """Bytes or text with a length of fixed size in front."""
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


def _built(code: _Code) -> tuple[ReadMany, WriteMany]:
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
    return made["read_many"], made["write_many"]


def _big_text(data: bytes) -> str:
    text = data.hex()
    if len(text) != 32:
        raise ValueError("too few bytes")
    return f"{text[:8]}-{text[8:12]}-{text[12:16]}-{text[16:20]}-{text[20:]}"


def _mixed_text(data: bytes) -> str:
    return _big_text(data[3::-1] + data[5:3:-1] + data[7:5:-1] + data[8:])


def _big_bytes(text: str) -> bytes:
    return UUID(text).bytes


def _mixed_bytes(text: str) -> bytes:
    return UUID(text).bytes_le
