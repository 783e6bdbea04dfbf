"""The recipe language's outer frame, as models: what a recipe file may say.

The format languages' own parts (layouts, layers, boxes, name fields) are defined in
their rooms; here they are put together.
"""

import re
from typing import Annotated, Literal, get_args

from clever_ferry.boxes import BoxSpec
from clever_ferry.documents.spec import FormSpec
from clever_ferry.layers import LayerSpec
from clever_ferry.layouts import LayoutSpec
from clever_ferry.model import HexBytes, Meta, Model, hint
from clever_ferry.naming import FieldSpec
from clever_ferry.recipes.fact_models import FactInfo, FactPlace
from clever_ferry.recipes.loader_models import LoaderInfo, RunningInfo
from clever_ferry.recipes.part_models import PartInfo
from clever_ferry.recipes.spellings import FieldName, Id, Line
from clever_ferry.recipes.table_models import TableInfo

__all__ = [
    "KNOWN_FOLDERS",
    "BerthInfo",
    "BoxRecipe",
    "CloudInfo",
    "ConfigInfo",
    "EditionInfo",
    "FileInfo",
    "GameRecipe",
    "LibraryPlace",
    "LibraryRecipe",
    "MarkInfo",
    "PieceInfo",
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
    "shared-games",
    "shared-state",
    "export",
    "given",
]
KNOWN_FOLDERS: tuple[str, ...] = get_args(Under)


class GameInfo(Model):
    """What the game is called."""

    id: Annotated[Id, hint("its name in addresses, and of its file")]
    title: Annotated[Line, hint("what players call it")]
    studio: Annotated[Line | None, hint("who made it")] = None
    map: Annotated[Id | None, hint("the fact that says on which map a save is played")] = None
    replaces_shipped: Annotated[
        bool, hint("your own recipe is to be used in place of the shipped one")
    ] = False


class ReachInfo(Model):
    """A position in a piece that must lie within it: how far it speaks of itself."""

    layout: Annotated[Id, hint("the layout to read the piece's beginning by")]
    at: Annotated[str, hint("in it: the path of the position, in bytes from the start")]


class PieceInfo(Model):
    """One role that a file of a save can have."""

    label: Annotated[Line | None, hint("what a player calls it")] = None
    needed: Annotated[bool, hint("a save without it is not whole")] = False
    each: Annotated[FieldName | None, hint("there is one per value of this field")] = None
    shared: Annotated[bool, hint("there is one per account, not per save")] = False
    holds: Annotated[
        str | None, hint("the form that its bytes have: facts are read by it, and it is verified")
    ] = None
    opens: Annotated[
        tuple[Id, ...],
        hint("layers that stay on when it is carried, and come off to check it and to read facts"),
    ] = ()
    reaches: Annotated[
        tuple[ReachInfo, ...], hint("positions that stand in it; one beyond its end is suspicious")
    ] = ()


class PacksInfo(Model, rename={"source": "from"}):
    """Where a save says which add-ons it uses."""

    label: Annotated[Line, hint("what a player calls them")] = "Packs"
    source: Annotated[Id, hint("the piece's role")]
    at: Annotated[str, hint("the path of their names in the piece; `*` is every one in a list")]
    opens: Annotated[tuple[Id, ...] | None, hint("as in facts")] = None


class PacksHere(Model):
    """How an edition keeps add-ons, and what it does without one."""

    under: Annotated[
        Under | None, hint("the known folder that `path` is below; without it, the berth")
    ] = None
    path: Annotated[str, hint("a file or folder that each add-on has, as a name pattern")]
    field: Annotated[FieldName, hint("the field of `path` that names it")] = "pack"
    says: Annotated[Line, hint("what the game says where one is missing")]
    passable: Annotated[bool, hint("the save can be loaded all the same")] = False


class GuestList(Model):
    """Where a JSON piece names players."""

    piece: Annotated[Id, hint("the role of the piece that has the list")]
    at: Annotated[str, hint("the paths of the names; `*` is every one in a list")]


class HandoverInfo(Model):
    """How a world that friends play together changes its host."""

    host: Annotated[
        Id | None, hint("the role of the host's own piece, where it has a place apart")
    ] = None
    guest: Annotated[Id, hint("the role of a guest's, one per player")]
    named: Annotated[
        FieldName | None,
        hint("the `bound` of the identity layer that says who hosts (with `kept`)"),
    ] = None
    says: Annotated[GuestList | None, hint("or the place that says who hosts")] = None
    own_only: Annotated[bool, hint("the game loads only worlds that the player there hosts")] = (
        False
    )
    lists: Annotated[tuple[GuestList, ...], hint("lists of players in it")] = ()

    def __post_init__(self) -> None:
        if (self.named is None) == (self.says is None):
            raise ValueError("who hosts is said either by `named` or by `says`")

    @property
    def places(self) -> tuple[GuestList, ...]:
        """Where names of players stand."""
        return (*self.lists, *filter(None, [self.says]))


class LimitInfo(Model):
    """How large what a save holds may be."""

    piece: Annotated[Id | None, hint("the piece whose bytes are bounded")] = None
    fact: Annotated[Id | None, hint("the fact (a number) that is bounded")] = None
    most: Annotated[
        int, Meta(description="bytes of the piece, or the fact's value, at the most", ge=0)
    ]
    says: Annotated[Line, hint("why, and the way out")]

    def __post_init__(self) -> None:
        if (self.piece is None) == (self.fact is None):
            raise ValueError("a limit is of either a `piece` or a `fact`")


class ArrivingInfo(Model):
    """What is special about saves that come from one other edition."""

    notes: Annotated[tuple[Line, ...], hint("what this edition does differently")] = ()
    after: Annotated[
        tuple[Line, ...], hint("what to do in the game first, before all else of `after`")
    ] = ()


VERSION = "{version}"
"""What stands for a version where a recipe says how a file states one."""


class BerthInfo(Model):
    """A place where an edition keeps its saves."""

    on: Annotated[Literal["windows", "linux", "macos", "any"], hint("the system")]
    under: Annotated[Under, hint("the known folder that it is below")]
    path: Annotated[str | None, hint("the folder below, as a name pattern")] = None
    archives: Annotated[
        tuple[str, ...],
        hint(
            "how an export's zips are named, as patterns, so that they are found where "
            "downloads are kept"
        ),
    ] = ()

    def __post_init__(self) -> None:
        if self.archives and self.under != "export":
            raise ValueError('only a place `under = "export"` has `archives`')


class MarkInfo(Model):
    """A file in a berth that shows which store or release made it."""

    path: Annotated[str, hint("the file, as a name pattern")]
    says: Annotated[Line | None, hint("text that must stand in it")] = None
    means: Annotated[Line, hint("what it shows, in words")]


class LooksInfo(Model):
    """What tells a file from others of like names: how it begins, and how large it is."""

    text: Annotated[str | None, hint("it begins with this text")] = None
    hex: Annotated[
        HexBytes | None,
        hint("it begins with these bytes"),
    ] = None
    least: Annotated[int, Meta(ge=0, description="it has at least so many bytes")] = 0
    most: Annotated[Annotated[int, Meta(ge=0)] | None, hint("it has at most so many bytes")] = None

    def __post_init__(self) -> None:
        if self.text is not None and self.hex is not None:
            raise ValueError("say either `text` or `hex`")
        if not (self.text or self.hex or self.least or self.most is not None):
            raise ValueError("say how the file begins, or how large it is")

    @property
    def start(self) -> bytes:
        """The bytes that it begins with."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode()


class FileInfo(Model):
    """How an edition names and wraps one role."""

    role: Annotated[Id, hint("the piece that it is")]
    path: Annotated[
        str | tuple[str, ...],
        hint("name pattern; of several, the first is written and the others are still read"),
    ]
    layers: Annotated[tuple[Id, ...], hint("its wrapping, the outermost first")] = ()
    needed: Annotated[bool, hint("here a save without it is not whole, though elsewhere it is")] = (
        False
    )
    told: Annotated[LooksInfo | None, hint("what tells it from others, where names do not")] = None
    describes: Annotated[
        Id | None,
        hint("the role that this file only describes; it is made anew by `layout`, or a layer"),
    ] = None
    layout: Annotated[Id | None, hint("the layout of a file that describes")] = None
    template: Annotated[
        str | None,
        hint("a document that describes, where the target has none yet; `agrees` layers fill it"),
    ] = None
    tree: Annotated[
        bool, hint("`path` is a folder of the save, and the piece is all else that lies in it")
    ] = False
    without: Annotated[
        tuple[Line, ...], hint("in a tree: files and folders that are left out, such as caches")
    ] = ()
    old: Annotated[
        tuple[Line, ...],
        hint(
            "endings of the old copies that the game leaves; one serves where the file "
            "itself is missing"
        ),
    ] = ()

    def __post_init__(self) -> None:
        if self.describes is None and not (self.layout is None and self.template is None):
            raise ValueError("`layout` and `template` are of a file that `describes` another")
        if self.layout is not None and self.template is not None:
            raise ValueError("say either `layout` or `template`")
        if self.without and not self.tree:
            raise ValueError("`without` is about a `tree`")
        if self.tree and (self.layers or self.old or self.told or self.describes or self.needed):
            raise ValueError("what is in a `tree` is kept as it is, with no key but `without`")

    @property
    def paths(self) -> tuple[str, ...]:
        """All patterns."""
        return (self.path,) if isinstance(self.path, str) else self.path


class CloudInfo(Model):
    """A store's own copy of the saves, which may put an old one back."""

    title: Annotated[Line, hint("what players call the store's copy")]
    sign: Annotated[str | None, hint("the file that shows that it is on, as a name pattern")] = None
    under: Annotated[
        Under | None, hint("the known folder that `sign` is below; without it, the berth")
    ] = None
    says: Annotated[Line | None, hint("text that must stand in that file")] = None
    answer: Annotated[
        tuple[Line, ...], Meta(min_length=1, description="what to do about it, in order")
    ]

    def __post_init__(self) -> None:
        if self.sign is None and (self.under or self.says):
            raise ValueError("`under` and `says` are about the file that `sign` names")


class InstalledInfo(Model):
    """A file that says of which version the game is that is there, a server mostly."""

    file: Annotated[Line, hint("its path in the saves' folder")]
    says: Annotated[
        Line, hint("what stands around the version in it; the first that fits counts")
    ] = VERSION

    def __post_init__(self) -> None:
        if self.says.count(VERSION) != 1:
            raise ValueError(f"`says` has {VERSION} in it, once")

    def version_in(self, text: str) -> str | None:
        """Return the version that the file's text states; None where it states none."""
        before, _, after = self.says.partition(VERSION)
        form = re.escape(before) + r"(\d{1,9}(?:\.\d{1,9})*)" + re.escape(after)
        found = re.search(form, text)
        return found[1] if found else None


class ConfigInfo(Model):
    """A file beside the saves in which a game, a server mostly, is told which save to load."""

    file: Annotated[Line, hint("its path in the saves' folder")]
    holds: Annotated[Line, hint("its form: one of documents, or one of `forms`")]
    set: Annotated[
        dict[Line, Line],
        hint(
            "by place, what must stand there; `{name}` is a field of the save that is "
            "carried, spelled as in its file's name, or of its folder",
        ),
    ] = {}
    add: Annotated[
        dict[Line, Line],
        hint("by the place of a list, what must be one of its values, such as what is enabled"),
    ] = {}

    def __post_init__(self) -> None:
        if not self.set and not self.add:
            raise ValueError("say what must stand in it: `set`, or `add`")


class EditionInfo(Model):
    """One form in which the game is out."""

    title: Annotated[Line, hint("what players call it")]
    box: Annotated[Id | None, hint("the kind of box, by its recipe's id")] = None
    format: Annotated[BoxSpec | None, hint("the box itself, where no other game has its like")] = (
        None
    )
    berths: Annotated[tuple[BerthInfo, ...], Meta(description="where its saves are", min_length=1)]
    fields: Annotated[dict[FieldName, FieldSpec], hint("the parts of names")] = {}
    apps: Annotated[
        tuple[Line, ...], hint("the game's numbers in libraries, which name its own prefix")
    ] = ()
    marks: Annotated[
        tuple[MarkInfo, ...], hint("files that show that a folder is this edition's")
    ] = ()
    files: Annotated[
        tuple[FileInfo, ...], Meta(description="how each piece is named and wrapped", min_length=1)
    ]
    most_slots: Annotated[Annotated[int, Meta(ge=1)] | None, hint("what the game's menu shows")] = (
        None
    )
    start: Annotated[Line | None, hint("how one makes the game keep saves here")] = None
    before: Annotated[
        tuple[Line, ...], hint("what to do before a crossing, such as fetching a device's copy")
    ] = ()
    after: Annotated[tuple[Line, ...], hint("what to do in the game now")] = ()
    runs_as: Annotated[
        tuple[Line, ...], hint("names of the programs that write these saves while they run")
    ] = ()
    running: Annotated[
        RunningInfo | None, hint("what else shows that it runs, and how one stops it")
    ] = None
    never: Annotated[
        tuple[str, ...], hint("name patterns of files that are never written nor removed")
    ] = ()
    not_newer: Annotated[
        Id | None,
        hint(
            "the fact (a version) that must not be newer in what is carried than in what "
            "the target itself has saved"
        ),
    ] = None
    installed: Annotated[
        InstalledInfo | None,
        hint("the file that says of which version the game is, for `not_newer`"),
    ] = None
    rebuilt: Annotated[
        tuple[str, ...],
        hint(
            "name patterns of files that the game makes anew, and that a crossing removes "
            "so that they do not contradict what it carries"
        ),
    ] = ()
    cloud: Annotated[tuple[CloudInfo, ...], hint("copies that a store keeps")] = ()
    newest: Annotated[
        FieldName | None,
        hint("the number in the names that goes up when the game saves: the highest counts"),
    ] = None
    facts: Annotated[
        dict[Id, FactPlace], hint("facts that stand elsewhere in this edition, and where")
    ] = {}
    packs: Annotated[PacksHere | None, hint("how it keeps add-ons")] = None
    loader: Annotated[
        LoaderInfo | Id | None,
        hint(
            "how its game is asked, without a screen, whether a save loads; or the edition whose "
            "loader it has, too"
        ),
    ] = None
    limits: Annotated[tuple[LimitInfo, ...], hint("what its game has no room for")] = ()
    config: Annotated[
        tuple[ConfigInfo, ...], hint("files that tell its game which save to load: a crossing does")
    ] = ()
    arriving: Annotated[dict[Id, ArrivingInfo], hint("by the edition that saves come from")] = {}


class GameRecipe(Model):
    """A recipe for one game."""

    recipe: Annotated[Literal[1], hint("the version of the language")]
    game: Annotated[GameInfo, hint("what it is called")]
    pieces: Annotated[
        dict[Id, PieceInfo], Meta(description="what a save consists of, by role", min_length=1)
    ]
    facts: Annotated[dict[Id, FactInfo], hint("what a player knows a save by")] = {}
    forms: Annotated[dict[Id, FormSpec], hint("documents of forms without a standard")] = {}
    tables: Annotated[dict[Id, TableInfo], hint("like things in a save, as rows")] = {}
    parts: Annotated[
        dict[Id, PartInfo], hint("what can be taken of a save into another one, by name")
    ] = {}
    packs: Annotated[PacksInfo | None, hint("the add-ons that a save uses")] = None
    handover: Annotated[HandoverInfo | None, hint("how a world changes hands")] = None
    layouts: Annotated[dict[Id, LayoutSpec], hint("binary forms, by name")] = {}
    layers: Annotated[
        dict[Id, tuple[LayerSpec, ...]],
        hint("wrappings, by name: steps in the order in which they come off"),
    ] = {}
    editions: Annotated[
        dict[Id, EditionInfo], Meta(description="the forms in which the game is out", min_length=1)
    ]


class BoxInfo(Model):
    """What a kind of box is called."""

    id: Annotated[Id, hint("its name in recipes, and of its file")]
    title: Annotated[Line, hint("what players call it")]
    replaces_shipped: Annotated[
        bool, hint("your own recipe is to be used in place of the shipped one")
    ] = False


class BoxRecipe(Model):
    """A recipe for one kind of box."""

    recipe: Annotated[Literal[1], hint("the version of the language")]
    box: Annotated[BoxInfo, hint("what it is called")]
    format: Annotated[BoxSpec, hint("how it holds its entries")]
    layers: Annotated[dict[Id, tuple[LayerSpec, ...]], hint("wrappings, by name")] = {}
    layouts: Annotated[dict[Id, LayoutSpec], hint("binary forms, by name")] = {}
    forms: Annotated[dict[Id, FormSpec], hint("documents of forms without a standard")] = {}


class LibraryPlace(Model):
    """A place of a game library: below a known folder, or below a folder that `lists` name."""

    on: Annotated[Literal["windows", "linux", "macos"], hint("the system")] = "linux"
    under: Annotated[Under | Literal["listed"], hint("the known folder that it is below")]
    path: Annotated[str, hint("as a name pattern")]


class LibraryInfo(Model):
    """What a game library is called."""

    id: Annotated[Id, hint("its name, and of its file")]
    title: Annotated[Line, hint("what players call it")]
    replaces_shipped: Annotated[
        bool, hint("your own recipe is to be used in place of the shipped one")
    ] = False


class LibraryRecipe(Model):
    """A recipe for a game library: where it keeps compatibility prefixes."""

    recipe: Annotated[Literal[1], hint("the version of the language")]
    library: Annotated[LibraryInfo, hint("what it is called")]
    prefixes: Annotated[
        tuple[LibraryPlace, ...],
        Meta(min_length=1, description="the folders that hold `drive_c`, or one folder between"),
    ]
    lists: Annotated[
        tuple[LibraryPlace, ...], hint("files in which it writes down folders on other disks")
    ] = ()
    fields: Annotated[dict[FieldName, FieldSpec], hint("the parts of names")] = {}
