"""What a recipe may say of a box."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from clever_ferry.layouts.digests import DigestName
from clever_ferry.layouts.times import StampUnit
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

SqlName = Annotated[str, Field(pattern=r"^[A-Za-z_][A-Za-z0-9_]{0,62}$")]


class _Spec(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)


class StampSpec(_Spec):
    """Where a time stamp stands, and what it counts."""

    at: str
    unit: StampUnit


class CheckSpec(_Spec):
    """Where a checksum of a part stands."""

    at: str
    what: DigestName


class PartsSpec(_Spec):
    """How an entry's bytes are cut into blobs; paths are those within one part's record."""

    at: str = Field(description="the path of the list of parts in an entry's record")
    size: str = Field(description="the path of a part's size")
    most: int = Field(ge=1, description="bytes in one part at the most")
    check: CheckSpec | None = None


class HeadSpec(_Spec):
    """A layout in front of an entry's bytes that says its name."""

    layout: str
    name: str = Field(description="in it: the path of the entry's name")


class TallySpec(_Spec):
    """A number in the index that must agree with all its entries."""

    at: str
    what: Literal["entries", "size", "parts"]


class IndexSpec(_Spec):
    """An index file over blob files, on its own or on a shelf."""

    index: str = Field(description="the index file's name")
    layout: str = Field(description="the layout of the index file")
    record: str = Field(description="the layout of one entry's record in it")
    entries: str = Field(description="the path of the list of records")
    name: str | None = Field(default=None, description="in a record: the path of the entry's name")
    head: HeadSpec | None = Field(
        default=None, description="what stands in an entry's blob before its bytes: its name"
    )
    identifier: str = Field(description="in a record: the path of the blob's identifier")
    identifier_size: int = Field(ge=4, le=64, description="bytes in a new identifier")
    size: str | None = Field(default=None, description="in a record: the path of the whole size")
    stamp: StampSpec | None = Field(default=None, description="in a record: last change")
    parts: PartsSpec
    blob: str = Field(description="the name pattern of a blob, with its fields")
    fields: dict[str, FieldSpec]
    counts: tuple[str, ...] = Field(default=(), description="paths that go up by 1 per writing")
    written: StampSpec | None = Field(default=None, description="when the index was written")
    generation: str | None = Field(
        default=None, description="in a record: of several with one name, the highest counts"
    )
    tallies: tuple[TallySpec, ...] = ()

    @model_validator(mode="after")
    def _named(self) -> Self:
        if self.name is None and self.head is None:
            raise ValueError("an entry's name stands in its record (`name`) or its blob (`head`)")
        if self.name is None and self.generation is not None:
            raise ValueError("a `generation` needs the `name` in the record")
        return self


class IndexedSpec(IndexSpec):
    """An index file over blob files."""

    kind: Literal["indexed"]


class TopSpec(_Spec):
    """An index of shelves."""

    index: str = Field(description="the index file's name")
    layout: str = Field(description="the layout of the index file")
    record: str = Field(description="the layout of one shelf's record in it")
    shelves: str = Field(description="the path of the list of records")
    name: str = Field(description="in a record: the path of the shelf's name")
    identifier: str = Field(description="in a record: the path of the folder's identifier")
    identifier_size: int = Field(ge=4, le=64, description="bytes in a new identifier")
    size: str | None = Field(default=None, description="in a record: the bytes of its entries")
    stamp: StampSpec | None = Field(default=None, description="in a record: last change")
    counts: tuple[str, ...] = Field(default=(), description="paths that go up by 1 per writing")
    written: StampSpec | None = Field(default=None, description="when the index was written")


class ShelvesSpec(_Spec):
    """Shelves: folders, each with an index of its own over its blobs.

    An entry's name is the shelf's, a slash, and its own there.
    """

    kind: Literal["shelves"]
    top: TopSpec | None = Field(
        default=None, description="the index of shelves; without it, their folders name them"
    )
    folder: str = Field(description="the name pattern of a shelf's folder, of the field `id`")
    fields: dict[str, FieldSpec]
    shelf: IndexSpec = Field(description="the box that each shelf is")


class PackedSpec(_Spec):
    """One file, whole in one layout: a list of records, and one of their bytes beside it."""

    kind: Literal["packed"]
    file: str = Field(description="the file's name")
    layout: str = Field(description="the layout of the file")
    record: str = Field(description="the layout of one entry's record in it")
    entries: str = Field(description="the path of the list of records")
    name: str = Field(description="in a record: the path of the entry's name")
    data: str = Field(description="the path of the list of bytes, one for each record")
    stamp: StampSpec | None = Field(default=None, description="in a record: last change")
    counts: tuple[str, ...] = Field(default=(), description="paths that go up by 1 per writing")
    written: StampSpec | None = Field(default=None, description="when the file was written")


class ArchiveSpec(_Spec):
    """Zip or tar files; several are read as one, and archives in archives may be opened."""

    kind: Literal["zip", "tar"]
    file: str = Field(description="the archive's name; `*` stands for what differs between parts")
    nested: bool = Field(
        default=False, description="a `.zip` in it is opened: its entries are named `it.zip/entry`"
    )
    packed: bool = Field(default=True, description="new entries are compressed (tar: gzip)")


class TableSpec(_Spec):
    """An SQLite database with a table of named blobs."""

    kind: Literal["sqlite"]
    file: str
    table: SqlName
    name: SqlName
    data: SqlName
    stamp: SqlName | None = None
    unit: StampUnit = "s"


BoxSpec = Annotated[
    IndexedSpec | ShelvesSpec | PackedSpec | ArchiveSpec | TableSpec, Field(discriminator="kind")
]
