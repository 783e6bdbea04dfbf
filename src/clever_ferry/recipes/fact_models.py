"""What a recipe may say of facts: where each stands, and how it may stand after a crossing."""

from typing import Annotated, Literal

from msgspec.structs import replace

from clever_ferry.cargo import Comparison
from clever_ferry.model import Meta, Model, hint
from clever_ferry.recipes.spellings import FieldName, Id, Line
from clever_ferry.recipes.table_models import TableFact

__all__ = ["FactInfo", "FactPlace"]


class FactPlace(Model, rename={"source": "from"}):
    """Where a fact stands; or what a table or the files tell instead."""

    source: Annotated[Id | None, hint("the piece's role")] = None
    at: Annotated[str | None, hint("the path of the value in the piece")] = None
    header: Annotated[
        Id | None, hint("it stands in the piece's header of this layout, and not within")
    ] = None
    layout: Annotated[Id | None, hint("the layout to read the piece by")] = None
    opens: Annotated[
        tuple[Id, ...] | None,
        hint("the layers to unwrap for this fact; those of the piece where it is not said"),
    ] = None
    field: Annotated[FieldName | None, hint("the name field that is the fact")] = None

    table: Annotated[TableFact | None, hint("instead: what a table tells")] = None
    files: Annotated[
        Literal["count", "size", "saved"] | None,
        hint("instead: of the save's files, how many, their bytes, or the newest one's time"),
    ] = None

    def __post_init__(self) -> None:
        ways = (self.source, self.field, self.table, self.files)
        if sum(way is not None for way in ways) != 1:
            raise ValueError(
                "a fact has one of `from` (a piece), `field` (a part of the name), `table` and "
                "`files`"
            )
        if self.source is not None and self.at is None:
            raise ValueError("a fact from a piece needs `at`, the path of the value in it")
        if self.header is not None and (self.layout is not None or self.opens is not None):
            raise ValueError("what stands in a `header` needs no `layout` and no `opens`")


class Within(Model):
    """By how much a fact may differ."""

    within: Annotated[float, Meta(description="so much, more or less", gt=0)]


class FactInfo(FactPlace, rename={"source": "from"}):
    """Something a player knows a save by, and where it stands."""

    label: Annotated[Line, hint("what a player calls it")]
    unit: Annotated[
        Literal["s", "count", "days-0", "version"] | None, hint("what a number counts")
    ] = None
    compared: Annotated[
        bool | Literal["not-less", "not-more"] | Within,
        hint(
            "after a crossing: true, the same; false, it may differ; `not-less` or `not-more` "
            "than it was; or `{ within = N }` of it"
        ),
    ] = True
    story: Annotated[
        Literal["is", "stays", "grows"] | None,
        hint(
            "how it tells one world from another of the same name: it `is` its identity (a seed), "
            "`stays` in one world (its size), or only `grows` (a day); play time does"
        ),
    ] = None
    shown: Annotated[bool, hint("whether lists show it; else it only tells worlds apart")] = True

    @property
    def comparison(self) -> Comparison:
        """How it may stand after a crossing; what the files tell is another's with each edition."""
        if self.files is not None or self.compared is False:
            return Comparison("free")
        if isinstance(self.compared, Within):
            return Comparison("within", self.compared.within)
        return Comparison("same" if self.compared is True else self.compared)

    def standing(self, place: FactPlace) -> "FactInfo":
        """Return the same fact, at another place."""
        return replace(self, **{name: getattr(place, name) for name in FactPlace.__struct_fields__})
