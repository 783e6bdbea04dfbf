"""What a recipe may say of a box that is one file: a table, slots by position, a document."""

from collections.abc import Iterator
from typing import Annotated

from msgspec import field

from clever_ferry.boxes.spec_base import (
    NAMES,
    BoxModel,
    Fault,
    Layouts,
    StampSpec,
    at_place,
    counted,
    literal,
    named,
    records,
)
from clever_ferry.documents.places import place_fault
from clever_ferry.layouts.spec import MOST_BYTES
from clever_ferry.model import HexBytes, Meta, Model, hint
from clever_ferry.naming import FieldSpec

__all__ = ["NodesSpec", "PackedSpec", "PartSpec", "PositionsSpec", "StartsSpec", "UsedSpec"]


class PackedSpec(BoxModel, tag="packed"):
    """One file, whole in one layout: a list of records, and one of their bytes beside it."""

    MADE_BY = "packed.PackedBox"
    WORDS = "one file with a table of what is in it"

    file: Annotated[str, hint("the file's name")]
    layout: Annotated[str, hint("the layout of the file")]
    record: Annotated[str, hint("the layout of one entry's record in it")]
    entries: Annotated[str, hint("the path of the list of records")]
    name: Annotated[str, hint("in a record: the path of the entry's name")]
    data: Annotated[str, hint("the path of the list of bytes, one for each record")]
    stamp: Annotated[StampSpec | None, hint("in a record: last change")] = None
    counts: Annotated[tuple[str, ...], hint("paths that go up by 1 per writing")] = ()
    written: Annotated[StampSpec | None, hint("when the file was written")] = None

    @property
    def layouts(self) -> dict[str, str]:
        """The file's, and that of its records."""
        return {self.layout: "box", self.record: "box"}

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield places that the file does not have."""
        yield from literal("file", self.file)
        yield from records(self, layouts, "entries", self.entries)
        yield from at_place(layouts, self.record, "name", self.name, NAMES)
        yield from at_place(layouts, self.layout, "data", self.data, {"list"})
        yield from counted(self, layouts, "")


class UsedSpec(Model):
    """What stands in front of a slot's bytes and says how many of them count."""

    layout: Annotated[str, hint("the layout at a slot's beginning")]
    at: Annotated[str, hint("in it: the path of the number")]
    plus: Annotated[int, hint("by how much more of the slot's bytes count")] = 0


class StartsSpec(Model):
    """How bytes begin."""

    text: Annotated[str | None, hint("the bytes, as text")] = None
    hex: Annotated[HexBytes | None, hint("the bytes, as hexadecimal digits")] = None

    def __post_init__(self) -> None:
        if (self.text is None) == (self.hex is None):
            raise ValueError("say either `text` or `hex`")

    @property
    def data(self) -> bytes:
        """The bytes themselves."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode()


class PositionsSpec(BoxModel, tag="positions"):
    """One file in which each of a fixed number of slots has its place, all of one size."""

    MADE_BY = "positions.PositionsBox"
    WORDS = "one file with a place for each slot"

    file: Annotated[str, hint("the file's name")]
    layers: Annotated[tuple[str, ...], hint("what the whole file is wrapped in")] = ()
    layout: Annotated[str | None, hint("the layout of what stands before the slots")] = None
    first: Annotated[
        Annotated[int, Meta(ge=0, le=MOST_BYTES)] | None,
        hint("the byte where the first begins; without it, right behind the layout"),
    ] = None
    count: Annotated[int, Meta(ge=1, le=65536, description="how many slots there are")]
    size: Annotated[int, Meta(ge=1, le=MOST_BYTES, description="bytes of each")]
    name: Annotated[str, hint("an entry's name, with the field `slot`")]
    fields: Annotated[dict[str, FieldSpec], hint("the parts of names")]
    bits: Annotated[
        str | None, hint("in the layout: a number with a bit for each that is taken, lowest first")
    ] = None
    flags: Annotated[
        str | None, hint("in the layout: a list with a number for each, 0 where it is free")
    ] = None
    sizes: Annotated[
        str | None, hint("in the layout: a list with the bytes used of each, 0 where it is free")
    ] = None
    starts: Annotated[StartsSpec | None, hint("how a slot that is taken begins")] = None
    used: Annotated[UsedSpec | None, hint("where in a slot the bytes used of it stand")] = None
    fill: Annotated[int, Meta(ge=0, le=255, description="what free bytes are")] = 0
    beside: Annotated[bool, hint("the folder's other files are entries, too")] = False

    def __post_init__(self) -> None:
        if sum(way is not None for way in (self.bits, self.flags, self.starts)) > 1:
            raise ValueError("say one of `bits`, `flags` and `starts`")
        if self.sizes is not None and self.used is not None:
            raise ValueError("say either `sizes` or `used`")
        if self.layout is None and (self.bits or self.flags or self.sizes):
            raise ValueError("`bits`, `flags` and `sizes` stand in a `layout`")

    @property
    def layouts(self) -> dict[str, str]:
        """That of the front, and that of each slot's."""
        front = {self.layout: "index"} if self.layout is not None else {}
        return front | ({self.used.layout: "box"} if self.used is not None else {})

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield places that the layouts do not have."""
        yield from literal("file", self.file)
        if self.layout is not None:
            yield from at_place(layouts, self.layout, "bits", self.bits, {"number"})
            for key, path in (("flags", self.flags), ("sizes", self.sizes)):
                inner = None if path is None else f"{path}/0"
                yield from at_place(layouts, self.layout, key, inner, {"number"})
        elif self.first is None:
            yield "first", "without a `layout`, nothing else says where the slots begin"
        if self.used is not None:
            yield from at_place(layouts, self.used.layout, "used.at", self.used.at, {"number"})
        if self.bits is not None and self.count > 64:
            yield "bits", "a number has 64 at the most"
        yield from named("name", self.name, self.fields, {"slot"}, "")


class PartSpec(Model):
    """One of the entries that an element of a document makes."""

    at: Annotated[str, hint("its place in the element")]
    text: Annotated[
        bool, hint("the entry's bytes are the text that stands there, and not its spelling")
    ] = False


class NodesSpec(BoxModel, tag="nodes"):
    """One document in which each save is an element of a list, a section, or a member."""

    MADE_BY = "nodes.NodesBox"
    WORDS = "one document for all"

    file: Annotated[str, hint("the document's file")]
    layers: Annotated[tuple[str, ...], hint("what the whole file is wrapped in")] = ()
    holds: Annotated[str, hint("the form of the document")]
    entries: Annotated[
        str, hint("where the elements stand; without `name`, `*` at its end is each one's name")
    ]
    name: Annotated[str | None, hint("in an element: the place of its name")] = None
    parts: Annotated[
        dict[str, PartSpec], hint("the entries that an element makes; without, it is one itself")
    ] = field(default_factory=dict)
    template: Annotated[str | None, hint("a new element, into which name and parts are put")] = None
    beside: Annotated[bool, hint("the folder's other files are entries, too")] = False

    def __post_init__(self) -> None:
        if self.name is None and not self.entries.endswith("/*"):
            raise ValueError("elements without `name` are all those in something: end with `/*`")
        if (self.template is None) == bool(self.parts):
            raise ValueError("a `template` is needed with `parts`, and only there")
        if "" in self.parts or "name" in self.parts:
            raise ValueError("a part needs a name of its own, other than `name`")

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield what is written as no place."""
        yield from literal("file", self.file)
        every = {"entries": self.entries, "name": self.name or ""}
        inner = {f"parts.{part}.at": one.at for part, one in self.parts.items()}
        for key, place in (every | inner).items():
            if why := place_fault(place):
                yield key, why
        for key, place in inner.items():
            above = [self.name or "/", *(at for other, at in inner.items() if other != key)]
            if not place or any(f"{at}/".startswith(f"{place}/") for at in above):
                yield key, "another part, the name or the whole element stands there"
