"""What is wrong with layouts that models alone can't tell: names that lead nowhere, idle keys.

A key is idle where it would change nothing: nobody may write it and believe that it does.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from clever_ferry.layouts.digests import DIGEST_BYTES
from clever_ferry.layouts.spec import (
    LENGTH_TYPES,
    NUMBER_TYPES,
    BitsSpec,
    BytesSpec,
    ChoiceSpec,
    ComputedSpec,
    LayoutSpec,
    LengthSpec,
    ListSpec,
    NestedSpec,
    NumberSpec,
    PartsSpec,
    SpanSpec,
    TextSpec,
    TimeSpec,
    VarintSpec,
)
from clever_ferry.layouts.tracing import field_of, trace
from clever_ferry.wording import known

__all__ = ["layout_faults"]

_SMALL = ("u8", "i8")
_MEASURES = ("size", "count", "offset")
_WORDS = ("before", "after", "all", "inside", "onward", "whole", "payload")


def layout_faults(layouts: Mapping[str, LayoutSpec]) -> list[str]:
    """Say where layouts refer to what is not there, and which of their keys would be idle."""
    faults: list[str] = []
    for name, spec in layouts.items():
        earlier: list[str] = []
        every = {getattr(field, "name", "") for field in spec.fields}
        for number, field in enumerate(spec.fields, 1):
            found = [
                *_field_faults(field, layouts, earlier, every),
                *_idle(field),
                *_inner_faults(field, layouts, name),
            ]
            faults += [f"layouts.{name}.fields[{number}].{key}: {what}" for key, what in found]
            earlier.append(getattr(field, "name", ""))
        if spec.order == "big" and not any(map(_ordered, spec.fields)):
            faults.append(f"layouts.{name}.order: nothing in it has more than one byte to order")
    return faults


def _ordered(field: Any) -> bool:
    """Tell whether the layout's order is that of a field's bytes."""
    lengths = [getattr(field, "length", None), getattr(field, "count", None)]
    if any(_length_ordered(one) for one in lengths):
        return True
    match field:
        case NumberSpec():
            return field.order is None and field.kind not in _SMALL
        case BitsSpec() | TimeSpec():
            return field.order is None and field.within not in _SMALL
        case ListSpec():
            return field.of in NUMBER_TYPES and field.of not in _SMALL
        case ChoiceSpec():
            of = {*field.of.values(), field.otherwise}
            return bool(of & (NUMBER_TYPES - set(_SMALL)))
    return False


def _length_ordered(length: object) -> bool:
    if isinstance(length, LengthSpec):
        return length.order is None and length.type not in (*_SMALL, "varint")
    return isinstance(length, str) and length in LENGTH_TYPES - {*_SMALL, "varint"}


def _field_faults(
    field: object, layouts: Mapping[str, LayoutSpec], earlier: list[str], every: set[str]
) -> Iterator[tuple[str, str]]:
    match field:
        case NestedSpec() if field.of not in layouts:
            yield "of", f"there is no layout {field.of!r}; {known(layouts)}"
        case ListSpec() if field.of not in layouts and field.of not in NUMBER_TYPES:
            yield "of", f"there is no layout {field.of!r}; {known(layouts)}"
        case ChoiceSpec():
            for of in (*field.of.values(), *filter(None, [field.otherwise])):
                if of not in layouts and of not in NUMBER_TYPES:
                    yield "of", f"there is no layout {of!r}; {known(layouts)}"
    references = {
        "size": getattr(field, "size", None) if not isinstance(field, PartsSpec) else None,
        "count": getattr(field, "count", None),
        "by": getattr(field, "by", None),
        "table": getattr(field, "table", None),
    }
    for key, value in references.items():
        own_words = ("rest", *LENGTH_TYPES) if key == "count" else ("rest",)
        name = value
        if key == "by" and isinstance(value, str) and value.startswith("/"):
            name = value.split("/")[1]
        if isinstance(name, str) and name not in own_words and name not in earlier:
            yield key, f"no earlier field is named {value!r}; {known(earlier)}"
    computed = getattr(field, "computed", None)
    if computed is not None:
        yield from _computed_faults(computed, field, every)


def _computed_faults(
    spec: ComputedSpec, field: object, every: set[str]
) -> Iterator[tuple[str, str]]:
    names = [spec.of.from_, spec.of.to] if isinstance(spec.of, SpanSpec) else [spec.of]
    if spec.at_stage is not None:  # which is in the layers, if anywhere
        names = []
        if spec.what in ("count", "offset"):
            yield "computed.what", f"a {spec.what} is that of one field"
    for name in names:
        if name not in every and (isinstance(spec.of, SpanSpec) or name not in _WORDS):
            yield "computed.of", f"no field is named {name!r}; {known(every)}, and {_WORDS}"
    wanted = DIGEST_BYTES.get(spec.what)
    if isinstance(field, BytesSpec) and field.size != wanted:
        yield "computed.what", f"{spec.what} needs a `bytes` of `size` {wanted}, or a number"
    elif not isinstance(field, BytesSpec) and wanted is not None:
        yield "computed.what", f"{spec.what} is {wanted} bytes, so it needs a `bytes` field"


def _idle(field: Any) -> Iterator[tuple[str, str]]:
    """Yield keys that would change nothing, with why."""
    kind = getattr(field, "within", getattr(field, "kind", ""))
    if kind in _SMALL and getattr(field, "order", None) is not None:
        yield "order", "a single byte has no order"
    for key in ("length", "count"):
        length = getattr(field, key, None)
        if isinstance(length, LengthSpec):
            if length.order is not None and length.type in (*_SMALL, "varint"):
                yield f"{key}.order", f"a {length.type} has no order"
            if length.style != "sevens" and length.type != "varint":
                yield f"{key}.style", f"a {length.type} has no style, only a varint has"
    said = [key for key in ("equals", "computed", "bound") if getattr(field, key, None) is not None]
    if len(said) > 1:
        yield said[1], f"`{said[0]}` says its value already"
    usual = getattr(field, "usual", None) is not None
    if usual and ("equals" in said or "computed" in said):
        yield "usual", f"`{said[0]}` says its value already"
    computed = getattr(field, "computed", None)
    if computed is not None:
        yield from _idle_computed(computed)
    match field:
        case TextSpec():
            yield from _idle_text(field)
        case PartsSpec() if field.fill and field.align == 1:
            yield "fill", "nothing is filled without `align`"
        case ChoiceSpec() if field.size is not None and field.length is not None:
            yield "size", "`length` says it already"
        case ListSpec() if field.until is not None and field.of in NUMBER_TYPES:
            yield "until", "it names values of a layout, and this is a list of numbers"


def _idle_text(field: TextSpec) -> Iterator[tuple[str, str]]:
    if field.counts == "characters" and not field.encoding.startswith("utf-16"):
        yield "counts", f"only UTF-16's characters can be counted, not those of {field.encoding}"

    elif field.counts == "characters" and field.length is None:
        yield "counts", "there is no `length` that could count them"
    if field.zero is not None and field.ends is not None:
        yield "zero", "`ends` says so already"
    if field.number is None and field.digits is not None:
        yield "digits", "there is no `number` that would have them"
    if field.number is not None and (field.equals is not None or field.usual is not None):
        yield "number", "`equals` and `usual` are texts; leave it out"
    if field.number is not None and field.bound is not None:
        yield "number", "what is `bound` is written as text; leave it out"
    if field.pad is not None and not isinstance(field.size, int):
        yield "pad", "only a fixed `size` is filled"


def _idle_computed(spec: ComputedSpec) -> Iterator[tuple[str, str]]:
    if spec.plus and spec.what not in _MEASURES:
        yield "computed.plus", f"a {spec.what} is not added to"
    if spec.seed is not None and spec.what in _MEASURES:
        yield "computed.seed", f"a {spec.what} has none"
    if spec.xor is not None and (spec.what in _MEASURES or spec.what in DIGEST_BYTES):
        yield "computed.xor", f"a {spec.what} has none"
    if spec.what in ("count", "offset") and (isinstance(spec.of, SpanSpec) or spec.of in _WORDS):
        yield "computed.of", f"a {spec.what} is that of one field"


def _inner_faults(
    field: Any, layouts: Mapping[str, LayoutSpec], own: str
) -> Iterator[tuple[str, str]]:
    """Yield what names nothing in the layouts that a field refers to."""
    match field:
        case ListSpec() if field.until is not None and field.of in layouts:
            for name, value in field.until.items():
                kinds = trace(layouts, field.of, name if name.startswith("/") else f"/{name}")
                wanted = {"number", "time"} if isinstance(value, int) else {"text", "identifier"}
                if not kinds & wanted:
                    yield "until", f"{field.of} has no {name!r} that could be {value!r}"
        case ChoiceSpec():
            by = field_of(layouts, own, field.by)
            deep = trace(layouts, own, field.by) if field.by.startswith("/") else None
            if deep is not None and not deep & {"number", "text", "identifier"}:
                yield "by", f"no single value stands at {field.by}"
            if isinstance(by, NumberSpec | VarintSpec) or deep == frozenset({"number"}):
                for key in field.of:
                    if not key.removeprefix("-").isdecimal() or str(int(key)) != key:
                        yield "of", f"{key!r} is no number, so {field.by!r} never has it"
        case PartsSpec():
            table = field_of(layouts, own, field.table)
            of = table.of if isinstance(table, ListSpec) else ""
            for key in ("offset", "size"):
                named = getattr(field, key)
                if "number" not in trace(layouts, of, f"/{named}"):
                    yield key, f"the records of {field.table!r} have no number {named!r}"
        case NumberSpec() | BytesSpec() if field.computed and field.computed.what == "count":
            if "list" not in trace(layouts, own, f"/{field.computed.of}"):
                yield "computed.of", f"{field.computed.of!r} is no list that could be counted"
