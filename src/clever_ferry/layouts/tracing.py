"""Where a path leads in a layout, told from its description alone: to which kinds of value.

>>> from clever_ferry.layouts import LayoutSpec
>>> from clever_ferry.model import convert
>>> spec = convert({"fields": [{"type": "list", "name": "days", "of": "u8", "count": "u8"}]},
...                LayoutSpec)
>>> sorted(trace({"log": spec}, "log", "/days/#")), sorted(trace({"log": spec}, "log", "/day"))
(['number'], [])
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from clever_ferry.documents.places import COUNT, PlaceError, Step, steps_of
from clever_ferry.layouts.spec import (
    NUMBER_TYPES,
    BitsSpec,
    BytesSpec,
    ChoiceSpec,
    FieldSpec,
    IdentifierSpec,
    LayoutSpec,
    ListSpec,
    NestedSpec,
    NumberSpec,
    PartsSpec,
    TextSpec,
    TimeSpec,
    VarintSpec,
)

__all__ = ["field_of", "refers", "trace"]

_Node = str | FieldSpec
"""A layout's name, a number's type, or a field within which the path goes on."""


def trace(layouts: Mapping[str, LayoutSpec], name: str, path: str) -> frozenset[str]:
    """Return the kinds of value that can stand at a path of a layout; none where nothing does.

    They are `number`, `text`, `bytes`, `time`, `identifier`, `list`, `layout`, `bits`.
    """
    nodes: list[_Node] = [name] if name in layouts else []
    try:
        steps = steps_of(path)
    except PlaceError:
        return frozenset()
    for step in steps:
        inner = (one for node in nodes for one in _within(layouts, node, step))
        nodes = list({one if isinstance(one, str) else id(one): one for one in inner}.values())
    return frozenset(kind for node in nodes for kind in _kinds(layouts, node))


def field_of(layouts: Mapping[str, LayoutSpec], name: str, field: str) -> FieldSpec | None:
    """Return a layout's own field of a name."""
    every = layouts[name].fields if name in layouts else ()
    return next((one for one in every if getattr(one, "name", None) == field), None)


def refers(spec: LayoutSpec) -> set[str]:
    """Return the layouts that a layout's fields name."""
    found: set[str] = set()
    for field in spec.fields:
        match field:
            case NestedSpec() | ListSpec():
                found.add(field.of)
            case ChoiceSpec():
                found.update(field.of.values(), filter(None, [field.otherwise]))
    return found - NUMBER_TYPES


def _within(layouts: Mapping[str, LayoutSpec], node: _Node, step: Step) -> Iterator[_Node]:
    if isinstance(node, str):
        fields = layouts[node].fields if node in layouts else ()
        every = {str(name): one for one in fields if (name := getattr(one, "name", None))}
        if isinstance(step, str):
            yield from [every[step]] if step in every else []
        elif step is not COUNT:
            yield from every.values()
        return
    match node:
        case NestedSpec():
            yield from _within(layouts, node.of, step)
        case ListSpec():
            if step is COUNT:
                yield "u64"
            elif not isinstance(step, str) or step.isdecimal():
                yield node.of
        case PartsSpec():
            if step is COUNT:
                yield "u64"
        case ChoiceSpec():
            for of in (*node.of.values(), *filter(None, [node.otherwise])):
                yield from _within(layouts, of, step)
        case BitsSpec():
            if step in node.parts:
                yield "u64"


def _kinds(layouts: Mapping[str, LayoutSpec], node: _Node) -> Iterator[str]:
    match node:
        case str():
            yield "layout" if node in layouts else "number"
        case NumberSpec() | VarintSpec():
            yield "number"
        case TextSpec():
            yield "text" if node.number is None else "number"
        case BytesSpec():
            yield "bytes"
        case TimeSpec():
            yield "time"
        case IdentifierSpec():
            yield "identifier"
        case BitsSpec():
            yield "bits"
        case NestedSpec():
            yield "layout"
        case ListSpec() | PartsSpec():
            yield "list"
        case ChoiceSpec():
            for of in (*node.of.values(), *filter(None, [node.otherwise])):
                yield from _kinds(layouts, of)
            if node.otherwise is None:
                yield "bytes"
