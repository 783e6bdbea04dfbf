"""What a recipe may say of a box, and what is wrong with it."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

from clever_ferry.errors import FerryError
from clever_ferry.layouts import LayoutSpec
from clever_ferry.layouts.digests import DigestName
from clever_ferry.layouts.spec import ListSpec, NestedSpec
from clever_ferry.layouts.times import StampUnit
from clever_ferry.layouts.tracing import field_of, trace
from clever_ferry.model import Meta, Model, hint, one_of, spelled
from clever_ferry.naming import FieldSpec, compile_pattern
from clever_ferry.wording import known

__all__ = [
    "ArchiveSpec",
    "BoxSpec",
    "IndexSpec",
    "IndexedSpec",
    "PackedSpec",
    "PartsSpec",
    "ShelvesSpec",
    "StampSpec",
    "TableSpec",
]

SqlName = Annotated[
    str, spelled("[A-Za-z_][A-Za-z0-9_]{0,62}", "letters, digits and _, 63 at most")
]


_Fault = tuple[str, str]
_Layouts = Mapping[str, LayoutSpec]
_NAMES = {"text", "number", "identifier"}


class _Spec(Model, tag_field="kind"):
    MADE_BY: ClassVar[str] = ""
    """The box's class, behind the room of this package that it is in."""

    @property
    def layouts(self) -> dict[str, str]:
        """The layouts that it names, and as what: `index`, whose `bound` count, or `box`."""
        return {}

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield which of its keys lead nowhere or would be idle, and why; all layouts are there."""
        yield from ()


class StampSpec(Model):
    """Where a time stamp stands, and what it counts."""

    at: str
    unit: StampUnit


class CheckSpec(Model):
    """Where a checksum of a part stands."""

    at: str
    what: DigestName


class PartsSpec(Model):
    """How an entry's bytes are cut into blobs; paths are those within one part's record."""

    at: Annotated[str, hint("the path of the list of parts in an entry's record")]
    size: Annotated[str, hint("the path of a part's size")]
    most: Annotated[int, Meta(ge=1, description="bytes in one part at the most")]
    check: CheckSpec | None = None


class HeadSpec(Model):
    """A layout in front of an entry's bytes that says its name."""

    layout: str
    name: Annotated[str, hint("in it: the path of the entry's name")]


class TallySpec(Model):
    """A number in the index that must agree with all its entries."""

    at: str
    what: Literal["entries", "size", "parts"]


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
    parts: PartsSpec
    blob: Annotated[str, hint("the name pattern of a blob, with its fields")]
    fields: dict[str, FieldSpec]
    counts: Annotated[tuple[str, ...], hint("paths that go up by 1 per writing")] = ()
    written: Annotated[StampSpec | None, hint("when the index was written")] = None
    generation: Annotated[
        str | None, hint("in a record: of several with one name, the highest counts")
    ] = None
    tallies: tuple[TallySpec, ...] = ()

    def __post_init__(self) -> None:
        if self.name is None and self.head is None:
            raise ValueError("an entry's name stands in its record (`name`) or its blob (`head`)")
        if self.name is None and self.generation is not None:
            raise ValueError("a `generation` needs the `name` in the record")

    def index_layouts(self, use: str) -> dict[str, str]:
        """Return the layouts that it names, and as what; `use` is that of the index file's."""
        head = {self.head.layout: "box"} if self.head else {}
        return {**head, self.record: "box", self.layout: use}

    def index_faults(self, layouts: _Layouts, above: str) -> Iterator[_Fault]:
        """Yield what is wrong with it; `above` stands before its keys."""
        yield from _literal(f"{above}index", self.index)
        yield from _records(self, layouts, f"{above}entries", self.entries)
        record = self.record
        for key, path, kinds in (
            ("name", self.name, _NAMES),
            ("identifier", self.identifier, {*_NAMES, "bytes"}),
            ("size", self.size, {"number"}),
            ("generation", self.generation, {"number"}),
            ("parts.at", self.parts.at, {"list"}),
            ("parts.size", f"{self.parts.at}/0{self.parts.size}", {"number"}),
        ):
            yield from _place(layouts, record, f"{above}{key}", path, set(kinds))
        if self.parts.check is not None:
            path = f"{self.parts.at}/0{self.parts.check.at}"
            yield from _place(layouts, record, f"{above}parts.check.at", path, {"number", "bytes"})
        if self.head is not None:
            yield from _place(
                layouts, self.head.layout, f"{above}head.name", self.head.name, {"text"}
            )
        for number, tally in enumerate(self.tallies, 1):
            yield from _place(
                layouts, self.layout, f"{above}tallies[{number}].at", tally.at, {"number"}
            )
        yield from _counted(self, layouts, above)
        yield from _names(f"{above}blob", self.blob, self.fields, {"id", "part"}, above)


class IndexedSpec(IndexSpec, _Spec, tag="indexed"):
    """An index file over blob files."""

    MADE_BY = "indexed.IndexedBox"

    @property
    def layouts(self) -> dict[str, str]:
        """The index file's, and those in it."""
        return self.index_layouts("index")

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield what is wrong with the index."""
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


class ShelvesSpec(_Spec, tag="shelves"):
    """Shelves: folders, each with an index of its own over its blobs.

    An entry's name is the shelf's, a slash, and its own there.
    """

    MADE_BY = "multi_index.MultiIndexBox"

    top: Annotated[
        TopSpec | None, hint("the index of shelves; without it, their folders name them")
    ] = None
    folder: Annotated[str, hint("the name pattern of a shelf's folder, of the field `id`")]
    fields: dict[str, FieldSpec]
    shelf: Annotated[IndexSpec, hint("the box that each shelf is")]

    @property
    def layouts(self) -> dict[str, str]:
        """Those of the index of shelves, and of each shelf."""
        top = {self.top.layout: "box", self.top.record: "box"} if self.top else {}
        return {**top, **self.shelf.index_layouts("box")}

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield what is wrong with either."""
        if self.top is not None:
            yield from _literal("top.index", self.top.index)
            yield from _records(self.top, layouts, "top.shelves", self.top.shelves)
            for key, path, kinds in (
                ("name", self.top.name, _NAMES),
                ("identifier", self.top.identifier, {*_NAMES, "bytes"}),
                ("size", self.top.size, {"number"}),
            ):
                yield from _place(layouts, self.top.record, f"top.{key}", path, set(kinds))
            yield from _counted(self.top, layouts, "top.")
        yield from _names("folder", self.folder, self.fields, {"id"}, "")
        yield from self.shelf.index_faults(layouts, "shelf.")


class PackedSpec(_Spec, tag="packed"):
    """One file, whole in one layout: a list of records, and one of their bytes beside it."""

    MADE_BY = "packed.PackedBox"

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

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield places that the file does not have."""
        yield from _literal("file", self.file)
        yield from _records(self, layouts, "entries", self.entries)
        yield from _place(layouts, self.record, "name", self.name, _NAMES)
        yield from _place(layouts, self.layout, "data", self.data, {"list"})
        yield from _counted(self, layouts, "")


class ArchiveSpec(_Spec):
    """Zip or tar files; several are read as one, and archives in archives may be opened."""

    MADE_BY = "archives.ArchiveBox"
    TAGS = ("zip", "tar")

    file: Annotated[str, hint("the archive's name; `*` stands for what differs between parts")]
    nested: Annotated[
        bool, hint("a `.zip` in it is opened: its entries are named `it.zip/entry`")
    ] = False
    packed: Annotated[bool, hint("new entries are compressed (tar: gzip)")] = True

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield a name that no file has."""
        yield from _literal("file", self.file)
        if self.file.count("*") > 1:
            yield "file", "one `*` can stand for what differs between parts"


class TableSpec(_Spec, tag="sqlite"):
    """An SQLite database with a table of named blobs."""

    MADE_BY = "tables.TableBox"

    file: str
    table: SqlName
    name: SqlName
    data: SqlName
    stamp: SqlName | None = None
    unit: StampUnit = "s"

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield a name that no file has, and a unit of nothing."""
        yield from _literal("file", self.file)
        if self.stamp is None and self.unit != "s":
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
    spec: "IndexSpec | PackedSpec | TopSpec", layouts: _Layouts, key: str, path: str
) -> Iterator[_Fault]:
    above, _, name = path.rpartition("/")
    owner = spec.layout if not above else ""
    field = field_of(layouts, owner, name) if owner else None
    if isinstance(field, NestedSpec) or "list" not in trace(layouts, spec.layout, path):
        yield key, f"no list stands at {path} in {spec.layout}"
    elif isinstance(field, ListSpec) and field.of != spec.record:
        yield "record", f"the list at {path} is of {field.of!r}, and not of {spec.record!r}"


def _counted(
    spec: "IndexSpec | PackedSpec | TopSpec", layouts: _Layouts, above: str
) -> Iterator[_Fault]:
    for number, path in enumerate(spec.counts, 1):
        yield from _place(layouts, spec.layout, f"{above}counts[{number}]", path, {"number"})
    for key, layout, stamp in (
        ("stamp", spec.record, spec.stamp),
        ("written", spec.layout, spec.written),
    ):
        if isinstance(stamp, StampSpec):
            yield from _place(layouts, layout, f"{above}{key}.at", stamp.at, {"number"})


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


_Any = IndexedSpec | ShelvesSpec | PackedSpec | ArchiveSpec | TableSpec
if TYPE_CHECKING:
    BoxSpec = _Any
else:
    BoxSpec = one_of(_Any)
