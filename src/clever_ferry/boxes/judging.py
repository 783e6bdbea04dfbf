"""What is wrong with a box's description: places that lead nowhere, names that are no names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from clever_ferry.boxes.spec import (
    ArchiveSpec,
    BoxSpec,
    IndexedSpec,
    IndexSpec,
    PackedSpec,
    ShelvesSpec,
    StampSpec,
    TableSpec,
    TopSpec,
)
from clever_ferry.errors import FerryError
from clever_ferry.layouts import LayoutSpec
from clever_ferry.layouts.spec import ListSpec, NestedSpec
from clever_ferry.layouts.tracing import field_of, trace
from clever_ferry.naming import FieldSpec, compile_pattern
from clever_ferry.wording import known

__all__ = ["box_faults", "layouts_of_box"]

_Fault = tuple[str, str]
_Layouts = Mapping[str, LayoutSpec]
_NAMES = {"text", "number", "identifier"}


def box_faults(spec: BoxSpec, layouts: _Layouts) -> list[str]:
    """Say where a box's description names what is not there, and which keys would be idle."""
    return [f"format.{key}: {what}" for key, what in _faults(spec, layouts)]


def layouts_of_box(spec: BoxSpec) -> dict[str, str]:
    """Return the layouts that a box names, and as what: `index`, whose `bound` count, or `box`."""
    match spec:
        case IndexedSpec():
            return _of_index(spec, "index")
        case ShelvesSpec():
            top = {spec.top.layout: "box", spec.top.record: "box"} if spec.top else {}
            return {**top, **_of_index(spec.shelf, "box")}
        case PackedSpec():
            return {spec.layout: "box", spec.record: "box"}
    return {}


def _of_index(spec: IndexSpec, use: str) -> dict[str, str]:
    head = {spec.head.layout: "box"} if spec.head else {}
    return {**head, spec.record: "box", spec.layout: use}


def _faults(spec: BoxSpec, layouts: _Layouts) -> Iterator[_Fault]:
    missing = [name for name in layouts_of_box(spec) if name not in layouts]
    if missing:
        yield "layout", f"there is no layout {missing[0]!r}; {known(layouts)}"
        return
    match spec:
        case IndexedSpec():
            yield from _index(spec, layouts, "")
        case ShelvesSpec():
            yield from _shelves(spec, layouts)
        case PackedSpec():
            yield from _literal("file", spec.file)
            yield from _records(spec, layouts, "entries", spec.entries)
            yield from _place(layouts, spec.record, "name", spec.name, _NAMES)
            yield from _place(layouts, spec.layout, "data", spec.data, {"list"})
            yield from _counted(spec, layouts, "")
        case ArchiveSpec():
            yield from _literal("file", spec.file)
            if spec.file.count("*") > 1:
                yield "file", "one `*` can stand for what differs between parts"
        case TableSpec():
            yield from _literal("file", spec.file)
            if spec.stamp is None and spec.unit != "s":
                yield "unit", "there is no `stamp` that it would be the unit of"


def _literal(key: str, name: str) -> Iterator[_Fault]:
    """A file's own name is a literal: a field in it would be looked for letter by letter."""
    if "{" in name or "<" in name:
        yield key, f"{name!r} is taken literally; no field can stand in it"


def _place(
    layouts: _Layouts, layout: str, key: str, path: str | None, kinds: set[str]
) -> Iterator[_Fault]:
    if path is None:
        return
    found = trace(layouts, layout, path)
    if not found & kinds:
        what = f"a {' or '.join(sorted(found))} stands" if found else "nothing stands"
        yield key, f"{what} at {path} in {layout}, where a {' or '.join(sorted(kinds))} should"


def _records(
    spec: IndexSpec | PackedSpec | TopSpec, layouts: _Layouts, key: str, path: str
) -> Iterator[_Fault]:
    above, _, name = path.rpartition("/")
    owner = spec.layout if not above else ""
    field = field_of(layouts, owner, name) if owner else None
    if isinstance(field, NestedSpec) or "list" not in trace(layouts, spec.layout, path):
        yield key, f"no list stands at {path} in {spec.layout}"
    elif isinstance(field, ListSpec) and field.of != spec.record:
        yield "record", f"the list at {path} is of {field.of!r}, and not of {spec.record!r}"


def _counted(
    spec: IndexSpec | PackedSpec | TopSpec, layouts: _Layouts, above: str
) -> Iterator[_Fault]:
    for number, path in enumerate(spec.counts, 1):
        yield from _place(layouts, spec.layout, f"{above}counts[{number}]", path, {"number"})
    for key, layout, stamp in (
        ("stamp", spec.record, spec.stamp),
        ("written", spec.layout, spec.written),
    ):
        if isinstance(stamp, StampSpec):
            yield from _place(layouts, layout, f"{above}{key}.at", stamp.at, {"number"})


def _index(spec: IndexSpec, layouts: _Layouts, above: str) -> Iterator[_Fault]:
    yield from _literal(f"{above}index", spec.index)
    yield from _records(spec, layouts, f"{above}entries", spec.entries)
    record = spec.record
    for key, path, kinds in (
        ("name", spec.name, _NAMES),
        ("identifier", spec.identifier, {*_NAMES, "bytes"}),
        ("size", spec.size, {"number"}),
        ("generation", spec.generation, {"number"}),
        ("parts.at", spec.parts.at, {"list"}),
        ("parts.size", f"{spec.parts.at}/0{spec.parts.size}", {"number"}),
    ):
        yield from _place(layouts, record, f"{above}{key}", path, set(kinds))
    if spec.parts.check is not None:
        path = f"{spec.parts.at}/0{spec.parts.check.at}"
        yield from _place(layouts, record, f"{above}parts.check.at", path, {"number", "bytes"})
    if spec.head is not None:
        yield from _place(layouts, spec.head.layout, f"{above}head.name", spec.head.name, {"text"})
    for number, tally in enumerate(spec.tallies, 1):
        yield from _place(
            layouts, spec.layout, f"{above}tallies[{number}].at", tally.at, {"number"}
        )
    yield from _counted(spec, layouts, above)
    yield from _names(f"{above}blob", spec.blob, spec.fields, {"id", "part"}, above)


def _shelves(spec: ShelvesSpec, layouts: _Layouts) -> Iterator[_Fault]:
    if spec.top is not None:
        yield from _literal("top.index", spec.top.index)
        yield from _records(spec.top, layouts, "top.shelves", spec.top.shelves)
        for key, path, kinds in (
            ("name", spec.top.name, _NAMES),
            ("identifier", spec.top.identifier, {*_NAMES, "bytes"}),
            ("size", spec.top.size, {"number"}),
        ):
            yield from _place(layouts, spec.top.record, f"top.{key}", path, set(kinds))
        yield from _counted(spec.top, layouts, "top.")
    yield from _names("folder", spec.folder, spec.fields, {"id"}, "")
    yield from _index(spec.shelf, layouts, "shelf.")


def _names(
    key: str, text: str, fields: Mapping[str, FieldSpec], own: set[str], above: str
) -> Iterator[_Fault]:
    """A blob's or folder's name is made of its own fields alone, and of all of them."""
    try:
        pattern = compile_pattern(text, fields)
    except FerryError as error:
        yield key, error.what
        return
    for name in sorted({*pattern.fields} - own):
        yield key, f"nothing fills {{{name}}}; {known(own)}"
    for name, field in fields.items():
        if name not in pattern.fields:
            yield f"{above}fields.{name}", "no path has this field, so it is never filled"
        elif field.on_arrival != ("kept",):
            yield f"{above}fields.{name}.on_arrival", "the box makes its own names"
