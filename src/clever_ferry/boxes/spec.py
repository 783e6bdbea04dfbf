"""What a recipe may say of a box, and what is wrong with it."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Literal

from msgspec import field

from clever_ferry.boxes.one_file_spec import NodesSpec, PackedSpec, PositionsSpec
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
from clever_ferry.boxes.table_spec import TableSpec
from clever_ferry.layouts.digests import DigestName
from clever_ferry.model import Meta, Model, hint, one_of
from clever_ferry.naming import FieldSpec, NumberField

__all__ = [
    "ArchiveSpec",
    "BoxSpec",
    "IndexSpec",
    "IndexedSpec",
    "PartsSpec",
    "ShelvesSpec",
    "StampSpec",
    "TableSpec",
]


class CheckSpec(Model):
    """Where a checksum of a part stands."""

    at: Annotated[str, hint("its place")]
    what: Annotated[DigestName, hint("what is computed")]


class PartsSpec(Model):
    """How an entry's bytes are cut into blobs; paths are those within one part's record."""

    at: Annotated[str, hint("the path of the list of parts in an entry's record")]
    size: Annotated[str | None, hint("the path of a part's size; without it, the blob's own")] = (
        None
    )
    most: Annotated[int, Meta(ge=1, description="bytes in one part at the most")]
    check: Annotated[CheckSpec | None, hint("a part's checksum")] = None


class HeadSpec(Model):
    """A layout in front of an entry's bytes that says its name."""

    layout: Annotated[str, hint("the layout")]
    name: Annotated[str, hint("in it: the path of the entry's name")]


class TallySpec(Model):
    """A number in the index that must agree with all its entries."""

    at: Annotated[str, hint("its place")]
    what: Annotated[Literal["entries", "size", "parts"], hint("what is summed")]


class IndexSpec(Model):
    """An index file over blob files, on its own or on a shelf."""

    index: Annotated[str, hint("the index file's name")]
    layout: Annotated[str, hint("the layout of the index file")]
    record: Annotated[str, hint("the layout of one entry's record in it")]
    entries: Annotated[str, hint("the path of the list of records")]
    name: Annotated[str | None, hint("in a record: the path of the entry's name")] = None
    head: Annotated[
        HeadSpec | None, hint("what stands in an entry's blob before its bytes: its name")
    ] = None
    identifier: Annotated[str, hint("in a record: the path of the blob's identifier")]
    identifier_size: Annotated[int, Meta(ge=4, le=64, description="bytes in a new identifier")]
    size: Annotated[str | None, hint("in a record: the path of the whole size")] = None
    stamp: Annotated[StampSpec | None, hint("in a record: last change")] = None
    parts: Annotated[PartsSpec | None, hint("without, an entry is one blob")] = None
    check: Annotated[CheckSpec | None, hint("in a record without `parts`: its checksum")] = None
    previous: Annotated[
        str | None,
        hint("in a record: the identifier of the bytes before these, whose blob is kept"),
    ] = None
    repeats: Annotated[
        dict[str, str], hint("in a record: place = the fact or name field that stands there")
    ] = field(default_factory=dict)
    blob: Annotated[str, hint("the name pattern of a blob, with its fields")]
    fields: Annotated[dict[str, FieldSpec], hint("the parts of names")]
    counts: Annotated[tuple[str, ...], hint("paths that go up by 1 per writing")] = ()
    written: Annotated[StampSpec | None, hint("when the index was written")] = None
    generation: Annotated[
        str | None, hint("in a record: of several with one name, the highest counts")
    ] = None
    tallies: Annotated[tuple[TallySpec, ...], hint("totals in the index")] = ()

    def __post_init__(self) -> None:
        if self.name is None and self.head is None:
            raise ValueError("an entry's name stands in its record (`name`) or its blob (`head`)")
        if self.name is None and self.generation is not None:
            raise ValueError("a `generation` needs the `name` in the record")
        if self.parts is not None and self.check is not None:
            raise ValueError("with `parts`, each has its own `check`")
        sized = self.size if self.parts is None else self.parts.size
        if sized is None and any(one.what == "size" for one in self.tallies):
            raise ValueError("what all sizes come to can't agree where none stands in the index")
        if self.parts is None and any(one.what == "parts" for one in self.tallies):
            raise ValueError("without `parts` there are none to be counted")

    @property
    def counted(self) -> str | None:
        """The number in the index file's name that goes up, where there is one."""
        return None

    def index_layouts(self, use: str) -> dict[str, str]:
        """Return the layouts that it names, and as what; `use` is that of the index file's."""
        head = {self.head.layout: "box"} if self.head else {}
        return {**head, self.record: "box", self.layout: use}

    def index_faults(self, layouts: Layouts, above: str) -> Iterator[Fault]:
        """Yield what is wrong with it; `above` stands before its keys."""
        yield from records(self, layouts, f"{above}entries", self.entries)
        record, parts = self.record, self.parts
        ident = {*NAMES, "bytes"}
        inner = f"{parts.at}/0" if parts is not None else ""
        size, check = (parts.size, parts.check) if parts is not None else (None, self.check)
        for key, path, kinds in (
            ("name", self.name, NAMES),
            ("identifier", self.identifier, ident),
            ("previous", self.previous, ident),
            ("size", self.size, {"number"}),
            ("generation", self.generation, {"number"}),
            ("parts.at", parts.at if parts is not None else None, {"list"}),
            ("parts.size", None if size is None else inner + size, {"number"}),
            ("parts.check.at" if parts is not None else "check.at",
             None if check is None else inner + check.at, {"number", "bytes"}),
            *((f"repeats.{place}", place, {"number", "text"}) for place in self.repeats),
        ):  # fmt: skip
            yield from at_place(layouts, record, f"{above}{key}", path, set(kinds))
        if self.head is not None:
            yield from at_place(
                layouts, self.head.layout, f"{above}head.name", self.head.name, {"text"}
            )
        for number, tally in enumerate(self.tallies, 1):
            yield from at_place(
                layouts, self.layout, f"{above}tallies[{number}].at", tally.at, {"number"}
            )
        yield from counted(self, layouts, above)
        own = {"id", "part"} if self.parts is not None else {"id"}
        blob = {name: one for name, one in self.fields.items() if name != self.counted}
        yield from named(f"{above}blob", self.blob, blob, own, above)


class IndexedSpec(IndexSpec, BoxModel, tag="indexed"):
    """An index file over blob files."""

    MADE_BY = "indexed.IndexedBox"
    WORDS = "an index over blobs"

    newest: Annotated[
        str | None,
        hint("a number in the index's name: the highest counts, and each writing adds one"),
    ] = None

    @property
    def counted(self) -> str | None:
        """That number."""
        return self.newest

    @property
    def layouts(self) -> dict[str, str]:
        """The index file's, and those in it."""
        return self.index_layouts("index")

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield what is wrong with the index."""
        if self.newest is None:
            yield from literal("index", self.index)
        elif not isinstance(self.fields.get(self.newest), NumberField):
            yield "newest", f"there is no field {self.newest!r} that is a number"
        else:
            number = {self.newest: self.fields[self.newest]}
            yield from named("index", self.index, number, {self.newest}, "")
        yield from self.index_faults(layouts, "")


class TopSpec(Model):
    """An index of shelves."""

    index: Annotated[str, hint("the index file's name")]
    layout: Annotated[str, hint("the layout of the index file")]
    record: Annotated[str, hint("the layout of one shelf's record in it")]
    shelves: Annotated[str, hint("the path of the list of records")]
    name: Annotated[str, hint("in a record: the path of the shelf's name")]
    identifier: Annotated[str, hint("in a record: the path of the folder's identifier")]
    identifier_size: Annotated[int, Meta(ge=4, le=64, description="bytes in a new identifier")]
    size: Annotated[str | None, hint("in a record: the bytes of its entries")] = None
    stamp: Annotated[StampSpec | None, hint("in a record: last change")] = None
    counts: Annotated[tuple[str, ...], hint("paths that go up by 1 per writing")] = ()
    written: Annotated[StampSpec | None, hint("when the index was written")] = None


class ShelvesSpec(BoxModel, tag="shelves"):
    """Shelves: folders, each with an index of its own over its blobs.

    An entry's name is the shelf's, a slash, and its own there.
    """

    MADE_BY = "multi_index.MultiIndexBox"
    WORDS = "shelves of blobs"

    top: Annotated[
        TopSpec | None, hint("the index of shelves; without it, their folders name them")
    ] = None
    folder: Annotated[str, hint("the name pattern of a shelf's folder, of the field `id`")]
    fields: Annotated[dict[str, FieldSpec], hint("the parts of names")]
    shelf: Annotated[IndexSpec, hint("the box that each shelf is")]

    @property
    def layouts(self) -> dict[str, str]:
        """Those of the index of shelves, and of each shelf."""
        top = {self.top.layout: "box", self.top.record: "box"} if self.top else {}
        return {**top, **self.shelf.index_layouts("box")}

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield what is wrong with either."""
        if self.top is not None:
            yield from literal("top.index", self.top.index)
            yield from records(self.top, layouts, "top.shelves", self.top.shelves)
            for key, path, kinds in (
                ("name", self.top.name, NAMES),
                ("identifier", self.top.identifier, {*NAMES, "bytes"}),
                ("size", self.top.size, {"number"}),
            ):
                yield from at_place(layouts, self.top.record, f"top.{key}", path, set(kinds))
            yield from counted(self.top, layouts, "top.")
        yield from named("folder", self.folder, self.fields, {"id"}, "")
        yield from literal("shelf.index", self.shelf.index)
        yield from self.shelf.index_faults(layouts, "shelf.")


class ArchiveSpec(BoxModel):
    """Zip or tar files; several are read as one, and archives in archives may be opened."""

    MADE_BY = "archives.ArchiveBox"
    WORDS = "an archive"
    TAGS = ("zip", "tar")

    file: Annotated[str, hint("the archive's name; `*` stands for what differs between parts")]
    nested: Annotated[
        bool, hint("a `.zip` in it is opened: its entries are named `it.zip/entry`")
    ] = False
    each: Annotated[
        bool, hint("each archive is a folder of its name (`3.zip/world`), and new ones are made")
    ] = False
    packed: Annotated[bool, hint("new entries are compressed (tar: gzip)")] = True
    stored: Annotated[
        tuple[str, ...], hint("in a zip: new entries that are not, by name; `*` for anything")
    ] = ()

    def __post_init__(self) -> None:
        if self.each and self.nested:
            raise ValueError("`each` opens the archives themselves, and none within them")
        if self.stored and not self.packed:
            raise ValueError("nothing is compressed, so all are stored")

    @property
    def words(self) -> str:
        """Whether each save has one of its own."""
        return "an archive for each save" if self.each else self.WORDS

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield a name that no file has."""
        yield from literal("file", self.file)
        if self.file.count("*") > 1:
            yield "file", "one `*` can stand for what differs between parts"
        if self.stored and self.kind != "zip":
            yield "stored", "a tar is compressed as a whole"


_Any = IndexedSpec | ShelvesSpec | PackedSpec | PositionsSpec | NodesSpec | ArchiveSpec | TableSpec
if TYPE_CHECKING:
    BoxSpec = _Any
else:
    BoxSpec = one_of(_Any)
