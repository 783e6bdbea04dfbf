"""What all kinds of boxes say alike, and what is wrong with it."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, ClassVar

from clever_ferry.errors import FerryError
from clever_ferry.layouts import LayoutSpec
from clever_ferry.layouts.spec import ListSpec, NestedSpec
from clever_ferry.layouts.times import StampUnit
from clever_ferry.layouts.tracing import field_of, trace
from clever_ferry.model import Model, hint
from clever_ferry.naming import FieldSpec, compile_pattern
from clever_ferry.wording import known

__all__ = [
    "NAMES",
    "BoxModel",
    "Fault",
    "Layouts",
    "StampSpec",
    "at_place",
    "counted",
    "literal",
    "named",
    "records",
]

Fault = tuple[str, str]
Layouts = Mapping[str, LayoutSpec]
NAMES = {"text", "number", "identifier"}


class BoxModel(Model, tag_field="kind"):
    """What all kinds say of themselves."""

    MADE_BY: ClassVar[str] = ""
    """The box's class, behind the room of this package that it is in."""

    WORDS: ClassVar[str] = ""

    @property
    def within(self) -> set[str]:
        """The names of the layers that it takes off and puts on."""
        return {*getattr(self, "layers", ())}

    @property
    def words(self) -> str:
        """What it is, where no recipe of its own gives it a title."""
        return self.WORDS

    @property
    def layouts(self) -> dict[str, str]:
        """The layouts that it names, and as what: `index`, whose `bound` count, or `box`."""
        return {}

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield which of its keys lead nowhere or would be idle, and why; all layouts are there."""
        yield from ()


class StampSpec(Model):
    """Where a time stamp stands, and what it counts."""

    at: Annotated[str, hint("its place")]
    unit: Annotated[StampUnit, hint("what it counts, and from when")]


def literal(key: str, name: str) -> Iterator[Fault]:
    """A file's own name is a literal: a field in it would be looked for letter by letter."""
    if "{" in name or "<" in name:
        yield key, f"{name!r} is taken literally; no field can stand in it"


def at_place(
    layouts: Layouts, layout: str, key: str, path: str | None, kinds: set[str]
) -> Iterator[Fault]:
    """Yield where a layout has at a place nothing of these kinds."""
    if path is None:
        return
    found = trace(layouts, layout, path)
    if not found & kinds:
        what = f"a {' or '.join(sorted(found))} stands" if found else "nothing stands"
        yield key, f"{what} at {path} in {layout}, where a {' or '.join(sorted(kinds))} should"


def records(spec: Any, layouts: Layouts, key: str, path: str) -> Iterator[Fault]:
    """Yield where a layout has no list of the box's records at a place."""
    above, _, name = path.rpartition("/")
    owner = spec.layout if not above else ""
    field = field_of(layouts, owner, name) if owner else None
    if isinstance(field, NestedSpec) or "list" not in trace(layouts, spec.layout, path):
        yield key, f"no list stands at {path} in {spec.layout}"
    elif isinstance(field, ListSpec) and field.of != spec.record:
        yield "record", f"the list at {path} is of {field.of!r}, and not of {spec.record!r}"


def counted(spec: Any, layouts: Layouts, above: str) -> Iterator[Fault]:
    """Yield where no number stands that a box's counters and times are."""
    for number, path in enumerate(spec.counts, 1):
        yield from at_place(layouts, spec.layout, f"{above}counts[{number}]", path, {"number"})
    for key, layout, stamp in (
        ("stamp", spec.record, spec.stamp),
        ("written", spec.layout, spec.written),
    ):
        if isinstance(stamp, StampSpec):
            yield from at_place(layouts, layout, f"{above}{key}.at", stamp.at, {"number"})


def named(
    key: str, text: str, fields: Mapping[str, FieldSpec], own: set[str], above: str
) -> Iterator[Fault]:
    """A blob's or folder's name is made of its own fields alone, and of all of them."""
    try:
        pattern = compile_pattern(text, fields)
    except FerryError as error:
        yield key, error.what
        return
    for name in sorted({*pattern.fields} - own):
        yield key, f"nothing fills {{{name}}}; {known(own)}"
    for name, one in fields.items():
        if name not in pattern.fields:
            yield f"{above}fields.{name}", "no path has this field, so it is never filled"
        elif one.on_arrival != ("kept",):
            yield f"{above}fields.{name}.on_arrival", "the box makes its own names"
