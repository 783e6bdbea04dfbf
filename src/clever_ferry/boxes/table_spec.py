"""What a recipe may say of databases as boxes, and what is wrong with it."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Literal

from msgspec import field

from clever_ferry.boxes.spec_base import BoxModel, Fault, Layouts, literal
from clever_ferry.documents.places import place_fault, steps_of
from clever_ferry.layouts.digests import DigestName
from clever_ferry.layouts.times import StampUnit
from clever_ferry.model import Model, hint, spelled
from clever_ferry.wording import known

__all__ = ["ColumnKind", "NewModel", "RowsModel", "SumModel", "TableSpec", "TotalModel"]

SqlName = Annotated[
    str, spelled("[A-Za-z_][A-Za-z0-9_]{0,62}", "letters, digits and _, 63 at most")
]
ColumnKind = Literal["integer", "real", "text", "blob", "integer key", "text key"]


class SumModel(Model):
    """What a column says of its row's bytes."""

    what: Annotated[DigestName, hint("their `size`, or a checksum")]
    spelled: Annotated[
        Literal["hex", "HEX"] | None, hint("as digits; a number or bytes, without")
    ] = None


Sums = Annotated[
    dict[SqlName, SumModel], hint("columns that say the size or a checksum of the bytes")
]
Repeats = Annotated[
    dict[SqlName, str], hint("columns that repeat a name field or a fact of the save")
]
Fills = Annotated[dict[SqlName, int | str], hint("what other columns have in new rows")]


class RowsModel(Model):
    """A further table, which has a row for each entry."""

    name: Annotated[SqlName, hint("the column of names")]
    sums: Sums = field(default_factory=dict)
    repeats: Repeats = field(default_factory=dict)
    fills: Fills = field(default_factory=dict)


class TotalModel(Model):
    """A value elsewhere in the database that says something of all entries."""

    at: Annotated[str, hint("its place, such as `/about/[key=pages]/value`")]
    what: Annotated[
        Literal["count", "size", "newest"],
        hint("how many there are, their bytes together, or the newest time (in `unit`)"),
    ]


class NewModel(Model):
    """What a database has that is made for a new save."""

    tables: Annotated[
        dict[SqlName, dict[SqlName, ColumnKind]], hint("its tables, and their columns' kinds")
    ]
    rows: Annotated[
        dict[SqlName, tuple[dict[SqlName, int | str], ...]], hint("rows that they begin with")
    ] = field(default_factory=dict)
    application: Annotated[int, hint("its application's number (`application_id`)")] = 0
    version: Annotated[int, hint("its `user_version`")] = 0


class TableSpec(BoxModel, tag="sqlite"):
    """An SQLite database with a table of named blobs; or one for each save."""

    MADE_BY = "tables.TableBox"

    file: Annotated[str, hint("the database; with `each`, `*` stands for what differs")]
    table: Annotated[SqlName, hint("the table")]
    name: Annotated[SqlName, hint("the column of names")]
    data: Annotated[SqlName, hint("the column of bytes")]
    stamp: Annotated[SqlName | None, hint("the column of times")] = None
    unit: Annotated[StampUnit, hint("what that counts, and from when")] = "s"
    sums: Sums = field(default_factory=dict)
    repeats: Repeats = field(default_factory=dict)
    fills: Fills = field(default_factory=dict)
    beside: Annotated[
        dict[SqlName, RowsModel], hint("further tables that have a row for each entry")
    ] = field(default_factory=dict)
    totals: Annotated[
        tuple[TotalModel, ...], hint("values elsewhere in it that speak of all entries")
    ] = ()
    each: Annotated[
        bool, hint("each database is a folder of its name (`3.db/world`), beside other files")
    ] = False
    new: Annotated[
        NewModel | None, hint("with `each`: how one is made; without it, a save goes over others")
    ] = None

    def __post_init__(self) -> None:
        if self.new is not None and not self.each:
            raise ValueError("`new` is for a database for each save (`each`)")
        if "*" in self.file and not self.each:
            raise ValueError("`*` in `file` is for a database for each save (`each`)")

    @property
    def words(self) -> str:
        """Whether each save has one of its own."""
        return "a database for each save" if self.each else "a database"

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield a name that no file has, a unit of nothing, and columns that are two things."""
        yield from literal("file", self.file)
        if self.file.count("*") > 1:
            yield "file", "one `*` can stand for what differs between databases"
        own = [one for one in (self.name, self.data, self.stamp) if one is not None]
        yield from _twice("", own, self)
        for table, rows in self.beside.items():
            if table == self.table:
                yield f"beside.{table}", "that is the table of the bytes itself"
            yield from _twice(f"beside.{table}.", [rows.name], rows)
        if self.stamp is None and self.unit != "s":
            yield "unit", "there is no `stamp` that it would be the unit of"
        for number, total in enumerate(self.totals, 1):
            key = f"totals[{number}]"
            if fault := place_fault(total.at):
                yield f"{key}.at", fault
            elif len(steps_of(total.at)) != 3:
                yield f"{key}.at", "a value in a database has a table, a row and a column"
            if total.what == "newest" and self.stamp is None:
                yield f"{key}.what", "there is no `stamp`, so no entry has a time"
        if self.new is not None:
            yield from self._new_faults(self.new)

    @property
    def _asked(self) -> Mapping[str, list[str]]:
        """The columns that each table must have."""
        own = [self.name, self.data, *([self.stamp] if self.stamp else [])]
        found = {self.table: [*own, *self.sums, *self.repeats, *self.fills]}
        for table, rows in self.beside.items():
            found[table] = [rows.name, *rows.sums, *rows.repeats, *rows.fills]
        return found

    def _new_faults(self, new: NewModel) -> Iterator[Fault]:
        for table, columns in self._asked.items():
            if table not in new.tables:
                yield "new.tables", f"it lacks the table {table}"
            for column in columns if table in new.tables else ():
                if column not in new.tables[table]:
                    yield f"new.tables.{table}", f"it lacks the column {column}"
        for table, rows in new.rows.items():
            if table not in new.tables:
                yield f"new.rows.{table}", f"there is no such table; {known(new.tables)}"
                continue
            for number, row in enumerate(rows, 1):
                for column in row.keys() - new.tables[table].keys():
                    key = f"new.rows.{table}[{number}].{column}"
                    yield key, f"there is no such column; {known(new.tables[table])}"
        for number, total in enumerate(self.totals, 1):
            table = str(steps_of(total.at)[0]) if not place_fault(total.at) else ""
            if table and not new.rows.get(table):
                yield f"totals[{number}].at", f"a new database has no row in {table} (`new.rows`)"


def _twice(above: str, known_ones: list[str], rows: "RowsModel | TableSpec") -> Iterator[Fault]:
    for key, columns in (("sums", rows.sums), ("repeats", rows.repeats), ("fills", rows.fills)):
        for column in columns:
            if column in known_ones:
                yield f"{above}{key}.{column}", "that column is something else already"
            known_ones.append(column)
