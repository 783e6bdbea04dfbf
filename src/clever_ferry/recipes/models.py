"""The recipe language's outer frame, as models: what a recipe file may say.

The format languages' own parts (layouts, layers, boxes, name fields) are defined in
their rooms; here they are put together.
"""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, model_validator

from clever_ferry.boxes import BoxSpec
from clever_ferry.layers import LayerSpec
from clever_ferry.layouts import LayoutSpec
from clever_ferry.naming import FieldSpec

__all__ = [
    "KNOWN_FOLDERS",
    "BerthInfo",
    "BoxRecipe",
    "CloudInfo",
    "EditionInfo",
    "FactInfo",
    "FileInfo",
    "GameRecipe",
    "LibraryPlace",
    "LibraryRecipe",
    "MarkInfo",
    "PieceInfo",
]

Id = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9]*(-[a-z0-9]+)*$", max_length=40)]
FieldName = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9_]*$", max_length=40)]
Line = Annotated[
    str, StringConstraints(min_length=1, max_length=300, pattern=r"^[^\x00-\x1f\x7f]+$")
]

Under = Literal[
    "home",
    "documents",
    "downloads",
    "saved-games",
    "roaming-data",
    "local-data",
    "low-data",
    "xdg-data",
    "xdg-config",
    "sandboxes",
    "snaps",
    "app-support",
    "export",
    "given",
]
KNOWN_FOLDERS: tuple[str, ...] = Under.__args__  # type: ignore[attr-defined]


class _Info(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True, populate_by_name=True)


class GameInfo(_Info):
    """What the game is called."""

    id: Id
    title: Line
    studio: Line | None = None
    replaces_shipped: bool = Field(
        default=False, description="your own recipe is to be used in place of the shipped one"
    )


class PieceInfo(_Info):
    """One role that a file of a save can have."""

    label: Line | None = None
    needed: bool = Field(default=False, description="a save without it is not whole")
    each: FieldName | None = Field(default=None, description="there is one per value of this field")
    shared: bool = Field(default=False, description="there is one per account, not per save")
    holds: Literal["json", "ini", "xml"] | None = Field(
        default=None, description="how facts are read from it"
    )
    opens: tuple[Id, ...] = Field(
        default=(),
        description="layers that stay on when it is carried, and are peeled to check it and "
        "to read facts",
    )


class FactInfo(_Info):
    """Something a player knows a save by, and where it stands."""

    label: Line
    source: Id | None = Field(default=None, alias="from", description="the piece's role")
    at: str | None = Field(default=None, description="the path of the value in the piece")
    layout: Id | None = Field(default=None, description="the layout to read the piece by")
    opens: tuple[Id, ...] = Field(
        default=(), description="layers to peel within those of the piece"
    )
    field: FieldName | None = Field(default=None, description="the name field that is the fact")
    unit: Literal["s", "count", "days-0", "version"] | None = None
    compared: bool = Field(default=True, description="must be the same after a crossing")

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        if (self.source is None) == (self.field is None):
            raise ValueError("a fact has either `from` (a piece) or `field` (a part of the name)")
        if self.source is not None and self.at is None:
            raise ValueError("a fact from a piece needs `at`, the path of the value in it")
        return self


class PacksInfo(_Info):
    """Where a save says which add-ons it uses."""

    label: Line = "Packs"
    source: Id = Field(alias="from", description="the piece's role")
    at: str = Field(description="the path of their names in the piece; `*` is every one in a list")
    opens: tuple[Id, ...] = ()


class PacksHere(_Info):
    """How an edition keeps add-ons, and what it does without one."""

    under: Under | None = Field(
        default=None, description="the known folder that `path` is below; without it, the berth"
    )
    path: str = Field(description="a file or folder that each add-on has, as a name pattern")
    field: FieldName = Field(default="pack", description="the field of `path` that names it")
    says: Line = Field(description="what the game says where one is missing")
    passable: bool = Field(default=False, description="the save can be loaded all the same")


class GuestList(_Info):
    """Where a JSON piece names players."""

    piece: Id
    at: str = Field(description="the paths of the names; `*` is every one in a list")


class HandoverInfo(_Info):
    """How a world that friends play together changes its host."""

    host: Id | None = Field(
        default=None, description="the role of the host's own piece, where it has a place apart"
    )
    guest: Id = Field(description="the role of a guest's, one per player")
    named: FieldName | None = Field(
        default=None,
        description="the `bound` of the identity layer that says who hosts (with `kept`)",
    )
    says: GuestList | None = Field(default=None, description="or the place that says who hosts")
    lists: tuple[GuestList, ...] = ()

    @model_validator(mode="after")
    def _says_who(self) -> Self:
        if (self.named is None) == (self.says is None):
            raise ValueError("who hosts is said either by `named` or by `says`")
        return self

    @property
    def places(self) -> tuple[GuestList, ...]:
        """Where names of players stand."""
        return (*self.lists, *filter(None, [self.says]))


class LimitInfo(_Info):
    """How large what a save holds may be."""

    piece: Id | None = Field(default=None, description="the piece whose bytes are bounded")
    fact: Id | None = Field(default=None, description="the fact (a number) that is bounded")
    most: int = Field(ge=0)
    says: Line = Field(description="why, and the way out")

    @model_validator(mode="after")
    def _of_one(self) -> Self:
        if (self.piece is None) == (self.fact is None):
            raise ValueError("a limit is of either a `piece` or a `fact`")
        return self


class ArrivingInfo(_Info):
    """What is special about saves that come from one other edition."""

    notes: tuple[Line, ...] = Field(default=(), description="what this edition does differently")
    after: tuple[Line, ...] = Field(
        default=(), description="what to do in the game first, before all else of `after`"
    )


class BerthInfo(_Info):
    """A place where an edition keeps its saves."""

    on: Literal["windows", "linux", "macos", "any"]
    under: Under
    path: str | None = Field(default=None, description="the folder below, as a name pattern")
    archives: tuple[str, ...] = Field(
        default=(),
        description="how an export's zips are named, as patterns, so that they are found where "
        "downloads are kept",
    )

    @model_validator(mode="after")
    def _of_an_export(self) -> Self:
        if self.archives and self.under != "export":
            raise ValueError('only a place `under = "export"` has `archives`')
        return self


class MarkInfo(_Info):
    """A file in a berth that shows which store or release made it."""

    path: str = Field(description="the file, as a name pattern")
    says: Line | None = Field(default=None, description="text that must stand in it")
    means: Line = Field(description="what it shows, in words")


class SignInfo(_Info):
    """What tells a file from others of like names: how it begins, and how large it is."""

    text: str | None = Field(default=None, description="it begins with this text")
    hex: str | None = Field(
        default=None, pattern=r"^([0-9a-fA-F]{2})+$", description="it begins with these bytes"
    )
    least: int = Field(default=0, ge=0, description="it has at least so many bytes")
    most: int | None = Field(default=None, ge=0, description="it has at most so many bytes")

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if self.text is not None and self.hex is not None:
            raise ValueError("say either `text` or `hex`")
        if not (self.text or self.hex or self.least or self.most is not None):
            raise ValueError("say how the file begins, or how large it is")
        return self

    @property
    def start(self) -> bytes:
        """The bytes that it begins with."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode()


class FileInfo(_Info):
    """How an edition names and wraps one role."""

    role: Id
    path: str | tuple[str, ...] = Field(
        description="name pattern; of several, the first is written and the others are still read"
    )
    layers: tuple[Id, ...] = ()
    needed: bool = Field(
        default=False, description="here a save without it is not whole, though elsewhere it is"
    )
    told: SignInfo | None = Field(
        default=None, description="what tells it from others, where names do not"
    )
    describes: Id | None = Field(
        default=None,
        description="the role that this file only describes; it is made anew by `layout`",
    )
    layout: Id | None = Field(default=None, description="the layout of a file that describes")
    old: tuple[Line, ...] = Field(
        default=(),
        description="endings of the old copies that the game leaves; one serves where the file "
        "itself is missing",
    )

    @model_validator(mode="after")
    def _described(self) -> Self:
        if (self.describes is None) != (self.layout is None):
            raise ValueError("`describes` and `layout` go together")
        return self

    @property
    def paths(self) -> tuple[str, ...]:
        """All patterns."""
        return (self.path,) if isinstance(self.path, str) else self.path


class CloudInfo(_Info):
    """A store's own copy of the saves, which may put an old one back."""

    title: Line
    sign: str | None = Field(
        default=None, description="the file that shows that it is on, as a name pattern"
    )
    under: Under | None = Field(
        default=None, description="the known folder that `sign` is below; without it, the berth"
    )
    says: Line | None = Field(default=None, description="text that must stand in that file")
    answer: tuple[Line, ...] = Field(min_length=1, description="what to do about it, in order")

    @model_validator(mode="after")
    def _signed(self) -> Self:
        if self.sign is None and (self.under or self.says):
            raise ValueError("`under` and `says` are about the file that `sign` names")
        return self


class EditionInfo(_Info):
    """One form in which the game is out."""

    title: Line
    box: Id | None = None
    berths: tuple[BerthInfo, ...] = Field(min_length=1)
    fields: dict[FieldName, FieldSpec] = {}
    apps: tuple[Line, ...] = Field(
        default=(), description="the game's numbers in libraries, which name its own prefix"
    )
    marks: tuple[MarkInfo, ...] = ()
    files: tuple[FileInfo, ...] = Field(min_length=1)
    most_slots: int | None = Field(default=None, ge=1, description="what the game's menu shows")
    start: Line | None = Field(default=None, description="how one makes the game keep saves here")
    after: tuple[Line, ...] = Field(default=(), description="what to do in the game now")
    runs_as: tuple[Line, ...] = Field(
        default=(), description="names of the programs that write these saves while they run"
    )
    never: tuple[str, ...] = Field(
        default=(), description="name patterns of files that are never written nor removed"
    )
    not_newer: Id | None = Field(
        default=None,
        description="the fact (a version) that must not be newer in what is carried than in what "
        "the target itself has saved",
    )
    rebuilt: tuple[str, ...] = Field(
        default=(),
        description="name patterns of files that the game makes anew, and that a crossing removes "
        "so that they do not contradict what it carries",
    )
    cloud: tuple[CloudInfo, ...] = ()
    newest: FieldName | None = Field(
        default=None,
        description="the number in the names that goes up when the game saves: the highest counts",
    )
    packs: PacksHere | None = None
    limits: tuple[LimitInfo, ...] = ()
    arriving: dict[Id, ArrivingInfo] = Field(
        default={}, description="by the edition that saves come from"
    )


class GameRecipe(_Info):
    """A recipe for one game."""

    recipe: Literal[1]
    game: GameInfo
    pieces: dict[Id, PieceInfo] = Field(min_length=1)
    facts: dict[Id, FactInfo] = {}
    packs: PacksInfo | None = None
    handover: HandoverInfo | None = None
    layouts: dict[Id, LayoutSpec] = {}
    layers: dict[Id, tuple[LayerSpec, ...]] = {}
    editions: dict[Id, EditionInfo] = Field(min_length=1)


class BoxInfo(_Info):
    """What a kind of box is called."""

    id: Id
    title: Line
    replaces_shipped: bool = False


class BoxRecipe(_Info):
    """A recipe for one kind of box."""

    recipe: Literal[1]
    box: BoxInfo
    format: BoxSpec
    layouts: dict[Id, LayoutSpec] = {}


class LibraryPlace(_Info):
    """A place of a game library: below a known folder, or below a folder that `lists` name."""

    on: Literal["windows", "linux", "macos"] = "linux"
    under: Under | Literal["listed"]
    path: str = Field(description="as a name pattern")


class LibraryInfo(_Info):
    """What a game library is called."""

    id: Id
    title: Line
    replaces_shipped: bool = False


class LibraryRecipe(_Info):
    """A recipe for a game library: where it keeps compatibility prefixes."""

    recipe: Literal[1]
    library: LibraryInfo
    prefixes: tuple[LibraryPlace, ...] = Field(
        min_length=1, description="the folders that hold `drive_c`, or `pfx` with it"
    )
    lists: tuple[LibraryPlace, ...] = Field(
        default=(), description="files in which it writes down folders on other disks"
    )
    fields: dict[FieldName, FieldSpec] = {}
