"""What a recipe may say of a box."""

from typing import TYPE_CHECKING, Annotated, Literal

from clever_ferry.layouts.digests import DigestName
from clever_ferry.layouts.times import StampUnit
from clever_ferry.model import Meta, Model, hint, one_of, spelled
from clever_ferry.naming import FieldSpec

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


class _Spec(Model, tag_field="kind"):
    pass


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


class IndexedSpec(IndexSpec, tag_field="kind", tag="indexed"):
    """An index file over blob files."""


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

    top: Annotated[
        TopSpec | None, hint("the index of shelves; without it, their folders name them")
    ] = None
    folder: Annotated[str, hint("the name pattern of a shelf's folder, of the field `id`")]
    fields: dict[str, FieldSpec]
    shelf: Annotated[IndexSpec, hint("the box that each shelf is")]


class PackedSpec(_Spec, tag="packed"):
    """One file, whole in one layout: a list of records, and one of their bytes beside it."""

    file: Annotated[str, hint("the file's name")]
    layout: Annotated[str, hint("the layout of the file")]
    record: Annotated[str, hint("the layout of one entry's record in it")]
    entries: Annotated[str, hint("the path of the list of records")]
    name: Annotated[str, hint("in a record: the path of the entry's name")]
    data: Annotated[str, hint("the path of the list of bytes, one for each record")]
    stamp: Annotated[StampSpec | None, hint("in a record: last change")] = None
    counts: Annotated[tuple[str, ...], hint("paths that go up by 1 per writing")] = ()
    written: Annotated[StampSpec | None, hint("when the file was written")] = None


class ArchiveSpec(_Spec):
    """Zip or tar files; several are read as one, and archives in archives may be opened."""

    TAGS = ("zip", "tar")

    file: Annotated[str, hint("the archive's name; `*` stands for what differs between parts")]
    nested: Annotated[
        bool, hint("a `.zip` in it is opened: its entries are named `it.zip/entry`")
    ] = False
    packed: Annotated[bool, hint("new entries are compressed (tar: gzip)")] = True


class TableSpec(_Spec, tag="sqlite"):
    """An SQLite database with a table of named blobs."""

    file: str
    table: SqlName
    name: SqlName
    data: SqlName
    stamp: SqlName | None = None
    unit: StampUnit = "s"


_Any = IndexedSpec | ShelvesSpec | PackedSpec | ArchiveSpec | TableSpec
if TYPE_CHECKING:
    BoxSpec = _Any
else:
    BoxSpec = one_of(_Any)
