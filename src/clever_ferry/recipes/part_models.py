"""What a recipe may say of the parts of a save that go into another one."""

from collections.abc import Collection, Iterator, Mapping
from typing import Annotated

from clever_ferry.model import Model, hint
from clever_ferry.recipes.spellings import Id, Line
from clever_ferry.recipes.table_models import TableInfo
from clever_ferry.wording import known

__all__ = ["PartInfo", "part_faults"]

Fault = tuple[str, str]


class PartInfo(Model):
    """A part of a save that a player would take along: rows of tables, and whole pieces."""

    label: Annotated[Line | None, hint("what a player calls it")] = None
    tables: Annotated[tuple[Id, ...], hint("the tables whose rows go")] = ()
    pieces: Annotated[tuple[Id, ...], hint("the roles of pieces that go as a whole")] = ()
    needs: Annotated[tuple[Id, ...], hint("other parts that go along")] = ()
    usual: Annotated[bool, hint("it goes where nobody says which parts do")] = False
    lost: Annotated[
        bool, hint("its rows that would lead to nothing there are left out; else it is refused")
    ] = False
    elsewhere: Annotated[
        dict[str, str | int | float | bool],
        hint("values that its rows get on another map, by `table.column`: a place for all"),
    ] = {}

    def __post_init__(self) -> None:
        if not self.tables and not self.pieces:
            raise ValueError("a part has `tables` or `pieces`")


def part_faults(
    parts: Mapping[str, PartInfo], tables: Mapping[str, TableInfo], roles: Collection[str],
    shared: Collection[str], *, mapped: bool,
) -> Iterator[Fault]:  # fmt: skip
    """Yield where parts lead nowhere; `mapped`: whether a fact says on which map a save is."""
    for name, part in parts.items():
        key = f"parts.{name}"
        if name in tables and part.tables != (name,):
            yield key, f"tables.{name} is a part of that name already, and has those rows alone"
        for table in part.tables:
            if table not in tables:
                yield f"{key}.tables", f"there is no table {table!r}; {known(tables)}"
        for role in part.pieces:
            if role not in roles or role in shared:
                own = [one for one in roles if one not in shared]
                yield f"{key}.pieces", f"no piece of single saves is {role!r}; {known(own)}"
        for other in part.needs:
            if other not in parts or other == name:
                yield f"{key}.needs", f"there is no other part {other!r}; {known(parts)}"
        if part.lost and not any(
            column.refers for table in part.tables if table in tables
            for column in tables[table].columns.values()
        ):  # fmt: skip
            yield f"{key}.lost", "its rows refer to nothing"
        for place in part.elsewhere:
            table, _, column = place.partition(".")
            if table not in part.tables or table not in tables:
                yield f"{key}.elsewhere", f"it has no table {table!r}"
            elif column not in tables[table].columns:
                yield f"{key}.elsewhere", f"it has no table and column {place!r}"
            elif tables[table].columns[column].at is None:
                yield f"{key}.elsewhere", f"{place} is no place in a row that could be changed"
        if part.elsewhere and not mapped:
            yield f"{key}.elsewhere", "no fact says which map a save is on: `map` in [game]"
