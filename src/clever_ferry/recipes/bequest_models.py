"""What a recipe for a pair of games may say: how a finished campaign becomes the next one's start.

Tables are named in three ways: `was.NAME` is one of the predecessor's, read from the save or from
its installation; `there.NAME` is one of the successor's installation; any other name is one that
this recipe makes.
"""

from typing import Annotated, Literal

from clever_ferry.documents.spec import FormSpec
from clever_ferry.model import Meta, Model, hint, one_of, spelled
from clever_ferry.recipes.models import InstalledInfo
from clever_ferry.recipes.spellings import FieldName, Id, Line
from clever_ferry.recipes.table_models import TableInfo

__all__ = [
    "AddonsInfo",
    "BequestRecipe",
    "CalendarInfo",
    "ChosenInfo",
    "DerivedInfo",
    "InstallationInfo",
    "MakeInfo",
    "MapInfo",
    "OptionInfo",
    "OutputInfo",
    "PresetInfo",
    "RulesInfo",
    "SharesInfo",
    "SideInfo",
]

TableName = Annotated[
    str,
    spelled(
        r"((was|there)\.)?[a-z][a-z0-9]*(-[a-z0-9]+)*", "a table's name, such as was.provinces", 60
    ),
]
Value = (
    bool
    | int
    | float
    | Annotated[str, spelled(r"[^\x00-\x1f\x7f]*", "a text of one line, 300 at most", 300)]
)
Amount = float | Id


class BequestInfo(Model, rename={"source": "from", "target": "to"}):
    """Which two games it is about."""

    id: Annotated[Id, hint("its name, of its file, and of the folder of its own files beside it")]
    title: Annotated[Line, hint("what players call it")]
    source: Annotated[Id, hint("the predecessor, by its recipe's id")]
    target: Annotated[
        Line, hint("the successor's edition that is written: GAME/EDITION, by its recipe")
    ]
    fields: Annotated[
        dict[FieldName, Line],
        hint("the name fields of what is written; `{name}` is a fact of the save or an option"),
    ] = {}
    replaces_shipped: Annotated[
        bool, hint("your own recipe is to be used in place of the shipped one")
    ] = False


class BoundInfo(Model, rename={"is_": "is"}):
    """What a fact of the save must be."""

    fact: Annotated[Id, hint("the predecessor's fact")]
    is_: Annotated[Line, hint("as in a mapping's cell: `ended`, `>=300`, `1.2..1.9`")]
    says: Annotated[Line, hint("what is wrong where it is not so, and the way out")]


class InstallationPlace(Model):
    """Where a game is installed."""

    on: Annotated[Literal["windows", "linux", "macos", "any"], hint("the system")] = "any"
    under: Annotated[Line, hint("the known folder that it is below")]
    path: Annotated[Line, hint("the folder below")]


class InstalledFile(Model):
    """A file of an installation that has tables."""

    path: Annotated[Line, hint("its path in the installation's folder")]
    holds: Annotated[Line, hint("its form: one of documents, or one of `forms`")]


class AddonInfo(Model):
    """An add-on that the recipe knows."""

    mappings: Annotated[
        dict[Id, Line],
        hint("by mapping, a file of lines that come before the mapping's own, or in their place"),
    ] = {}


class EnabledInfo(Model):
    """A file of an installation that says which add-ons are in use."""

    file: Annotated[Line, hint("its path in the installation's folder")]
    holds: Annotated[Line, hint("its form: one of documents, or one of `forms`")]
    at: Annotated[Line, hint("the place of their names; `*` is every one in a list")]


class AddonsInfo(Model):
    """Add-ons of a game: which are in use, and what they change."""

    enabled: Annotated[
        EnabledInfo | None, hint("the file of the installation that says which are in use")
    ] = None

    table: Annotated[
        Id | None, hint("instead: the table of the save that says which are in use")
    ] = None
    column: Annotated[Id | None, hint("in it, the column of their names")] = None
    folder: Annotated[
        Line | None,
        hint(
            "where each has its own files, below the installation: `add-ons/{name}`; what stands "
            "there as in the installation is laid over that, row by row"
        ),
    ] = None
    known: Annotated[dict[Line, AddonInfo], hint("those that this recipe knows, by name")] = {}

    def __post_init__(self) -> None:
        if (self.table is None) != (self.column is None):
            raise ValueError("`table` and `column` go together")
        if (self.table is None) == (self.enabled is None):
            raise ValueError("which are in use is said either by `enabled` or by `table`")
        if self.folder is not None and self.folder.count("{name}") != 1:
            raise ValueError("`folder` has {name} in it, once")


class InstallationInfo(Model):
    """A game's installation, and the tables that are read from it."""

    places: Annotated[
        tuple[InstallationPlace, ...], hint("where it usually is; else one names its folder")
    ] = ()
    version: Annotated[InstalledInfo | None, hint("the file that says of which version it is")] = (
        None
    )
    versions: Annotated[
        str | None, hint("those that the recipe is made for, as in a mapping's cell: `1.2..1.9`")
    ] = None
    files: Annotated[
        dict[Id, InstalledFile], Meta(min_length=1, description="files that have tables, by name")
    ]
    tables: Annotated[
        dict[Id, TableInfo],
        Meta(min_length=1, description="like things in them; `from` names the file"),
    ]

    def __post_init__(self) -> None:
        if (self.version is None) != (self.versions is None):
            raise ValueError("`version` and `versions` go together")


class SideInfo(Model):
    """What is known of one of the two games."""

    needs: Annotated[
        tuple[BoundInfo, ...], hint("what must be so of the save, such as that it is finished")
    ] = ()
    game: Annotated[InstallationInfo | None, hint("its installation")] = None
    addons: Annotated[AddonsInfo | None, hint("its add-ons")] = None


class CalendarInfo(Model):
    """How a game counts days."""

    months: Annotated[
        tuple[Annotated[int, Meta(ge=1, le=1000)], ...],
        Meta(min_length=1, max_length=100, description="the days of each month of a year"),
    ]
    first: Annotated[
        tuple[int, int, int],
        hint("the year, month and day of the day that has the number `counts_from`"),
    ] = (1, 1, 1)
    counts_from: Annotated[int, hint("the number of that day")] = 0
    written: Annotated[
        Literal["number", "dots", "dashes"],
        hint("how it writes a day: the number, `820.3.7`, or `0820-03-07`"),
    ] = "dots"


class OptionInfo(Model, rename={"kind_": "type"}):
    """Something that the player may choose."""

    kind_: Annotated[Literal["number", "yes-no", "choice", "text"], hint("what it takes")]
    label: Annotated[Line, hint("what it is about, in a few words")]
    help: Annotated[Line | None, hint("more of it")] = None
    default: Annotated[Value, hint("what it is, unless something else is said")]
    least: Annotated[float | None, hint("of a number: the smallest")] = None
    most: Annotated[float | None, hint("of a number: the largest")] = None
    choices: Annotated[tuple[Line, ...], hint("of a choice: what there is")] = ()

    def fault(self, value: object) -> str:
        """Return why a value can't be this option's; '' where it can."""
        number = isinstance(value, int | float) and not isinstance(value, bool)
        if self.kind_ == "yes-no":
            return "" if isinstance(value, bool) else "it is yes or no"
        if self.kind_ == "number":
            if not number:
                return "it is a number"
            assert isinstance(value, int | float)
            if self.least is not None and value < self.least:
                return f"it is {self.least:g} at the least"
            if self.most is not None and value > self.most:
                return f"it is {self.most:g} at the most"
            return ""
        if not isinstance(value, str):
            return "it is a text"
        if self.kind_ == "choice" and value not in self.choices:
            return f"it is one of {', '.join(self.choices)}"
        return ""

    def __post_init__(self) -> None:
        if (self.kind_ == "choice") != bool(self.choices):
            raise ValueError("`choices` belong to the type choice, and it needs them")
        if self.kind_ != "number" and not (self.least is None and self.most is None):
            raise ValueError("`least` and `most` are of a number")
        if why := self.fault(self.default):
            raise ValueError(f"`default`: {why}")


class PresetInfo(Model):
    """Options that go together."""

    label: Annotated[Line, hint("what it is for")]
    set: Annotated[dict[Id, Value], Meta(min_length=1, description="what it sets, by option")]


class SharesInfo(Model, tag_field="kind", tag="shares", rename={"source": "from", "target": "to"}):
    """Which share of each thing goes where: many to many, and the totals stay."""

    file: Annotated[Line, hint("a CSV file with the columns `from`, `to`, and `share` if any")]
    source: Annotated[TableName, hint("the predecessor's table; its `id` stands in the file")]
    target: Annotated[TableName, hint("the successor's table; its `id` stands in the file")]
    also: Annotated[
        TableName | None,
        hint("a table of all that there can be, such as the map's: only what is in neither is odd"),
    ] = None
    rest: Annotated[
        Line | None,
        hint(
            "where all goes of which the file has nothing: the id of a row of `to`; without it, "
            "nothing may be missing there"
        ),
    ] = None


class RulesInfo(Model, tag_field="kind", tag="rules"):
    """What becomes of a thing by what it is: the first rule that fits."""

    file: Annotated[Line, hint("a CSV file: a column per condition, and those of `gives`")]
    gives: Annotated[
        tuple[Id, ...], Meta(min_length=1, description="the columns of what a rule gives")
    ]
    default: Annotated[
        dict[Id, Value], hint("what is given where no rule fits; each such row is told")
    ] = {}

    def __post_init__(self) -> None:
        if set(self.default) != set(self.gives):
            raise ValueError("`default` says something for each of `gives`")


_Mapping = SharesInfo | RulesInfo


class FindInfo(Model):
    """A value that stands in another table."""

    table: Annotated[TableName, hint("the table, which has an `id`")]
    by: Annotated[Id, hint("the column here that names its row")]
    column: Annotated[Id, hint("the column there")]


class GoesInfo(Model):
    """Where something goes that lies in a place."""

    through: Annotated[Id, hint("the mapping by shares")]
    by: Annotated[Id, hint("the column here that names the place where it lies")]


class DerivedInfo(Model):
    """One column of what is made: where its values come from, and what is done to them.

    What is done, is done in the order of these keys: `times`, `plus`, `digits`, `least`, `most`,
    `bins`, `shift`.
    """

    of: Annotated[Id | None, hint("a column made above, or one of the row itself")] = None
    value: Annotated[Value | None, hint("the same in each row")] = None
    option: Annotated[Id | None, hint("what was chosen")] = None
    number: Annotated[bool, hint("the row's number, from 1")] = False
    text: Annotated[
        Line | None, hint("a text with columns in it: `The {name}`; nothing, where one is nothing")
    ] = None
    total: Annotated[
        Id | None, hint("with `through`: the column of which each gets its share; the sum stays")
    ] = None
    largest: Annotated[
        Id | None, hint("with `through`: the column's value that has the largest share, by `by`")
    ] = None
    find: Annotated[FindInfo | None, hint("what stands in another table")] = None
    goes: Annotated[
        GoesInfo | None, hint("where the largest share goes of the place that a column names")
    ] = None
    count: Annotated[
        TableName | None, hint("how many rows of a table name this one in their column `by`")
    ] = None
    sum: Annotated[
        str | None, hint("what a column of those adds up to: `TABLE.COLUMN`, with `by`")
    ] = None
    by: Annotated[Id | None, hint("the column that `largest`, `count` or `sum` goes by")] = None
    rank: Annotated[Id | None, hint("its place by a column made above: 1 has most")] = None
    share: Annotated[Id | None, hint("which part a column made above is of its sum")] = None
    within: Annotated[Id | None, hint("`rank` and `share` among rows alike in this column")] = None
    rules: Annotated[Id | None, hint("what the first rule of a mapping gives that fits")] = None
    gives: Annotated[
        Id | None, hint("which of the columns that it gives, where it has several")
    ] = None
    times: Annotated[Amount | None, hint("multiplied; a number, or the option that says it")] = None
    plus: Annotated[Amount | None, hint("so much more; a number, or the option that says it")] = (
        None
    )
    digits: Annotated[
        Annotated[int, Meta(ge=0, le=9)] | None, hint("rounded to so many digits behind the point")
    ] = None
    least: Annotated[Amount | None, hint("so much at the least")] = None
    most: Annotated[Amount | None, hint("so much at the most")] = None
    bins: Annotated[
        tuple[tuple[float, Line], ...],
        hint("what each range is called: `[[0, 'small'], [1000, 'large']]`, from the number up"),
    ] = ()
    shift: Annotated[
        "ShiftInfo | None", hint("a day of one calendar as a day of the other")
    ] = None  # fmt: skip
    default: Annotated[Value | None, hint("what stands where there is nothing; each is told")] = (
        None
    )
    label: Annotated[Line | None, hint("what a player calls it")] = None

    SOURCES = (
        "of", "value", "option", "number", "text", "total", "largest", "find", "goes",
        "count", "sum", "rank", "share", "rules",
    )  # fmt: skip

    @property
    def source(self) -> str:
        """The key that says where its values come from."""
        return next(key for key in self.SOURCES if getattr(self, key) not in (None, False))

    def __post_init__(self) -> None:
        ways = [key for key in self.SOURCES if getattr(self, key) not in (None, False)]
        if len(ways) != 1:
            raise ValueError(f"a column has one of {', '.join(self.SOURCES)}")
        if (self.by is not None) != (ways[0] in ("largest", "count", "sum")):
            raise ValueError("`by` belongs to `largest`, `count` and `sum`, which need it")
        if self.within is not None and ways[0] not in ("rank", "share"):
            raise ValueError("`within` belongs to `rank` and `share`")
        if self.gives is not None and ways[0] != "rules":
            raise ValueError("`gives` belongs to `rules`")
        if self.default is not None and ways[0] in ("value", "number", "count", "rank", "rules"):
            raise ValueError(f"`{ways[0]}` always gives something, so `default` is for nothing")
        if list(self.bins) != sorted(self.bins):
            raise ValueError("`bins` go up")


class ShiftInfo(Model, rename={"source": "from", "target": "to"}):
    """A day of one calendar as a day of another."""

    source: Annotated[Id, hint("the calendar that it is of")]
    target: Annotated[Id, hint("the calendar that it is to be of")]
    years: Annotated[
        int | Id, hint("so many years later; a number, or the option that says it")
    ] = 0


class MakeInfo(Model, rename={"source": "from"}):
    """One table that is made."""

    table: Annotated[Id, hint("its name")]
    label: Annotated[Line | None, hint("what a player calls its rows")] = None
    source: Annotated[
        TableName | None, hint("the table that it has a row for each row of; or `through`")
    ] = None
    through: Annotated[
        Id | None,
        hint("a mapping by shares: it has a row for each row of that mapping's `to`"),
    ] = None
    columns: Annotated[dict[Id, DerivedInfo], Meta(min_length=1, description="by name, in order")]
    id: Annotated[Id, hint("the column that tells its rows apart")]
    named: Annotated[Id | None, hint("the column that says what a row is called")] = None
    where: Annotated[
        dict[Id, str], hint("only rows of which these columns are so, as in a mapping's cell")
    ] = {}
    when: Annotated[
        dict[Id, str], hint("only if these options are so, as in a mapping's cell; else no rows")
    ] = {}
    reads: Annotated[
        Id | None,
        hint("the successor's table as which it is read back: columns of one name are the same"),
    ] = None

    def __post_init__(self) -> None:
        if (self.source is None) == (self.through is None):
            raise ValueError("a table is made `from` another, or `through` a mapping")


class OutputInfo(Model):
    """A piece of the successor that is written; its edition names and wraps it."""

    role: Annotated[Id, hint("the piece's role")]
    name: Annotated[
        Line | None,
        hint("of a role that has several pieces, what this one is called: `{id}` is a column"),
    ] = None
    template: Annotated[Line, hint("its template (Jinja2), in the folder beside this recipe")]
    form: Annotated[
        Line,
        hint(
            "json, xml, toml, yaml, one of `forms`, or text: how values are written in it, so that "
            "none can be taken for more than a value"
        ),
    ]
    each: Annotated[Id | None, hint("a piece for each row of a table; the row is `row`")] = None
    encoding: Annotated[Literal["utf-8", "utf-16", "latin-1"], hint("how its text is written")] = (
        "utf-8"
    )
    ending: Annotated[Literal["lf", "crlf"], hint("how its lines end")] = "lf"


class MapInfo(Model):
    """How a preview draws one side's map."""

    table: Annotated[TableName, hint("the table of places")]
    x: Annotated[Id, hint("the column of how far to the right each is")]
    y: Annotated[Id, hint("the column of how far down each is")]
    owner: Annotated[Id, hint("the column of whose it is")]
    of: Annotated[TableName, hint("the table of owners")]
    size: Annotated[Id, hint("the column that says how large a place is")]
    at: Annotated[
        TableName | None, hint("the table that `x` and `y` stand in, where it is another one")
    ] = None


class MapsInfo(Model):
    """What a preview draws."""

    before: Annotated[MapInfo, hint("the map as it was")]
    after: Annotated[MapInfo, hint("the map as it will be")]


class ChosenInfo(Model):
    """What was chosen for a bequest, as it is kept with it and given again."""

    bequest: Annotated[Id | None, hint("the recipe that it was made by")] = None
    addons: Annotated[
        tuple[str, ...] | None, hint("the add-ons that were in use then, and must be now")
    ] = None
    options: Annotated[dict[Id, Value], hint("by option")] = {}


class BequestRecipe(Model):
    """A recipe for a pair of games."""

    recipe: Annotated[Literal[1], hint("the version of the language")]
    bequest: Annotated[BequestInfo, hint("which games it is about")]
    was: Annotated[SideInfo, hint("the predecessor")] = SideInfo()
    there: Annotated[SideInfo, hint("the successor")] = SideInfo()
    forms: Annotated[dict[Id, FormSpec], hint("documents of forms without a standard")] = {}
    calendars: Annotated[dict[Id, CalendarInfo], hint("how days are counted")] = {}
    options: Annotated[dict[Id, OptionInfo], hint("what the player may choose")] = {}
    presets: Annotated[dict[Id, PresetInfo], hint("options that go together")] = {}
    mappings: Annotated[
        dict[Id, one_of(_Mapping)], hint("what becomes of what")  # type: ignore[valid-type]
    ] = {}
    make: Annotated[
        tuple[MakeInfo, ...], Meta(min_length=1, description="the tables that are made, in order")
    ]
    files: Annotated[
        tuple[OutputInfo, ...], Meta(min_length=1, description="what is written of them")
    ]
    record: Annotated[
        Line | None,
        hint("the role of the piece that keeps what was chosen, so that it can be done again"),
    ] = None
    maps: Annotated[MapsInfo | None, hint("what a preview draws")] = None
