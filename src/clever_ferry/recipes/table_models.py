"""What a recipe may say of tables in saves, and what is wrong with it."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Literal

from clever_ferry.documents.places import place_fault
from clever_ferry.model import Meta, Model, hint
from clever_ferry.recipes.spellings import FieldName, Id, Line
from clever_ferry.wording import known

__all__ = ["WHOSE", "ColumnInfo", "CountedAt", "TableFact", "TableInfo", "table_faults"]

Fault = tuple[str, str]
WHOSE = "whose"
"""The column that says whose a row is, where that is looked up in other tables."""


class ColumnInfo(Model):
    """One column, and where in a row its value stands."""

    at: Annotated[
        str | None,
        hint("the place in the row; empty: the row itself; without it, the row's name"),
    ] = None
    field: Annotated[
        FieldName | None, hint("instead: a name field of the piece, such as whose it is")
    ] = None
    label: Annotated[Line | None, hint("what a player calls it")] = None
    unit: Annotated[Literal["s", "count", "days-0"] | None, hint("what a number counts")] = None
    what: Annotated[
        Literal["number", "text", "yes-no"] | None, hint("what stands there; else as it stands")
    ] = None
    refers: Annotated[Id | None, hint("the table whose rows its values name, by their id")] = None

    def __post_init__(self) -> None:
        if self.at is not None and self.field is not None:
            raise ValueError("say either `at` or `field`")


class CountedAt(Model):
    """A place that says how many rows a table has."""

    piece: Annotated[Id, hint("the role of the piece that it stands in")]
    at: Annotated[str, hint("the place")]


class TableInfo(Model, rename={"source": "from"}):
    """Like things in a save: what each house owns, which machines stand where."""

    label: Annotated[Line | None, hint("what a player calls them")] = None
    source: Annotated[Id | tuple[Id, ...], hint("the role of the piece, or several")]
    rows: Annotated[str, hint("the place of the rows: `/list/*`, or that of like elements")]
    columns: Annotated[dict[Id, ColumnInfo], Meta(description="by name", min_length=1)]
    id: Annotated[Id | None, hint("the column that tells rows apart")] = None
    named: Annotated[Id | None, hint("the column that says what a row is called")] = None
    numbered: Annotated[
        bool, hint("its ids count from 1 in the order of the rows, and always do")
    ] = False
    counted: Annotated[
        tuple[CountedAt, ...], hint("where the save says how many rows there are")
    ] = ()
    owner: Annotated[
        Line | None,
        hint(
            "the column that says whose a row is; or several with slashes between, each of the "
            "table that the one before `refers` to: `building/plot/house`"
        ),
    ] = None

    def __post_init__(self) -> None:
        if self.numbered and self.id is None:
            raise ValueError("`numbered` is about the ids of rows: name the column by `id`")

    @property
    def owner_path(self) -> tuple[str, ...]:
        """The columns that lead to whose a row is: its own first."""
        return tuple(self.owner.split("/")) if self.owner else ()

    def far(self, tables: "Mapping[str, TableInfo]") -> bool:
        """Tell whether whose a row is stands in another table, or is called something there."""
        first = tables.get(self.columns[self.owner_path[0]].refers or "")
        return len(self.owner_path) > 1 or (first is not None and first.named is not None)

    def adds_up(self, column: str) -> bool:
        """Tell whether a column's numbers count something, and are added up."""
        info = self.columns[column]
        apart = column in (self.id, *self.owner_path[:1]) or info.refers is not None
        return not apart and (info.what is None if info.unit is None else info.unit != "days-0")

    @property
    def roles(self) -> tuple[str, ...]:
        """The pieces that have rows."""
        return (self.source,) if isinstance(self.source, str) else self.source


class TableFact(Model):
    """What a fact is told by a table."""

    table: Annotated[Id, hint("the table")]
    sum: Annotated[Id | None, hint("the column that is added up; without it, rows are counted")] = (
        None
    )
    of: Annotated[str | None, hint("only rows of this owner")] = None


def table_faults(
    tables: Mapping[str, TableInfo], facts: Mapping[str, TableFact], roles: Mapping[str, bool],
    fields: frozenset[str],
) -> Iterator[Fault]:  # fmt: skip
    """Yield where tables and facts of them lead nowhere.

    `roles` says of each piece whether it holds a document, `fields` are the names' fields.
    """
    for name, table in tables.items():
        key = f"tables.{name}"
        for role in table.roles:
            if role not in roles:
                yield f"{key}.from", f"there is no piece {role!r}; {known(roles)}"
            elif not roles[role]:
                yield f"{key}.from", f"pieces.{role} does not say what document it `holds`"
        if why := place_fault(table.rows):
            yield f"{key}.rows", why
        for column, info in table.columns.items():
            own = f"{key}.columns.{column}"
            if info.at and (why := place_fault(info.at)):
                yield f"{own}.at", why
            if info.field is not None and info.field not in fields:
                yield f"{own}.field", f"no edition has a field {info.field!r}; {known(fields)}"
            if info.refers is not None and info.refers not in tables:
                yield f"{own}.refers", f"there is no table {info.refers!r}; {known(tables)}"
            elif info.refers is not None and tables[info.refers].id is None:
                yield f"{own}.refers", f"tables.{info.refers} has no `id`"
            if info.unit is not None and info.what in ("text", "yes-no"):
                yield f"{own}.unit", f"{info.what} counts nothing"
        for number, place in enumerate(table.counted, 1):
            own = f"{key}.counted[{number}]"
            if not roles.get(place.piece, False):
                yield f"{own}.piece", f"no piece {place.piece!r} says what document it `holds`"
            if why := place_fault(place.at):
                yield f"{own}.at", why
        for key_of in ("id", "named"):
            value = getattr(table, key_of)
            if value is not None and value not in table.columns:
                yield f"{key}.{key_of}", f"no such column; {known(table.columns)}"
        if table.owner is not None:
            yield from _owner_faults(f"{key}.owner", table, tables)
            if WHOSE in table.columns:
                yield f"{key}.columns.{WHOSE}", f"{WHOSE} is what the owner's column is called"
    for name, fact in facts.items():
        there = tables.get(fact.table)
        if there is None:
            yield f"facts.{name}.table", f"there is no table {fact.table!r}; {known(tables)}"
            continue
        if fact.sum is not None and fact.sum not in there.columns:
            yield f"facts.{name}.sum", f"no such column; {known(there.columns)}"
        elif fact.sum is not None and not there.adds_up(fact.sum):
            yield (
                f"facts.{name}.sum",
                "its numbers count nothing, as no `unit` says so",
            )
        if fact.of is not None and there.owner is None:
            yield f"facts.{name}.of", f"tables.{fact.table} has no `owner`"


def _owner_faults(key: str, table: TableInfo, tables: Mapping[str, TableInfo]) -> Iterator[Fault]:
    at = table
    for step, name in enumerate(table.owner_path):
        if name not in at.columns:
            yield key, f"there is no column {name!r}; {known(at.columns)}"
            return
        further = at.columns[name].refers
        if step + 1 < len(table.owner_path):
            if further is None or further not in tables:
                yield key, f"the column {name!r} refers to no table, so that nothing leads further"
                return
            at = tables[further]
