"""What is wrong with a recipe for a pair of games: what leads nowhere, and what has no effect."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from clever_ferry.bequeathing.bequest import FACTS, Bequest
from clever_ferry.bequeathing.conditions import conditions_of
from clever_ferry.bequeathing.deriving import NAMED
from clever_ferry.bequeathing.mapping import MappingRules, Shares
from clever_ferry.bequeathing.rendering import FORMS
from clever_ferry.documents.document import FORMS as DOCUMENTS
from clever_ferry.documents.places import place_fault
from clever_ferry.errors import FerryError
from clever_ferry.recipes.bequest_models import (
    DerivedInfo,
    MakeInfo,
    RulesInfo,
    SharesInfo,
    SideInfo,
)
from clever_ferry.recipes.table_models import WHOSE, TableInfo, table_faults
from clever_ferry.wording import known

__all__ = ["bequest_faults"]

Fault = tuple[str, str]


def bequest_faults(bequest: Bequest) -> Iterator[Fault]:
    """Yield all that is wrong with a recipe, by key.

    What would be without effect is wrong: an option that nothing asks for, a rule that never
    counts, a table or column that leads nowhere.
    """
    yield from _Checking(bequest).faults()


class _Checking:
    """What looks a recipe through: what each key names, and whether anything names it."""

    def __init__(self, bequest: Bequest) -> None:
        self.bequest, self.recipe = bequest, bequest.recipe
        self._used: set[str] = set()
        self._columns: dict[str, set[str]] = {}
        self._ids: dict[str, str | None] = {}
        self._mappings: dict[str, MappingRules | Shares] = {}

    def faults(self) -> Iterator[Fault]:
        """Yield what is wrong, by key."""
        for name, table in self.bequest.source.tables.items():
            self._add(f"was.{name}", table)
        if FACTS in self._columns:
            yield FACTS, "the save has a table of that name, and its facts are one row so called"
        self._columns[FACTS], self._ids[FACTS] = {*self.bequest.source.fact_labels}, None
        for key, side in (("was", self.recipe.was), ("there", self.recipe.there)):
            yield from self._side(key, side)
        yield from self._others()
        yield from self._mapping_faults()
        asked: set[str] = set()
        for number, output in enumerate(self.recipe.files, 1):
            at = f"files[{number}]"
            if output.form not in {*FORMS, *self.recipe.forms}:
                yield (
                    f"{at}.form",
                    f"there is no form {output.form!r}; " + known([*FORMS, *self.recipe.forms]),
                )
                continue
            self._used.add(f"form {output.form}")
            try:
                asked |= self.bequest.templates.check(output.template, output.form)
            except FerryError as error:
                yield f"{at}.template", error.what
        self._used |= {f"option {one.removeprefix('options.')}" for one in asked
                       if one.startswith("options.")}  # fmt: skip
        yield from self._made(asked)
        yield from self._files()
        yield from self._maps()
        if not asked & {"facts.*", "options.*"}:
            yield from self._unused()

    def _add(self, name: str, table: TableInfo) -> None:
        whose = {WHOSE} if table.owner is not None else set()
        self._columns[name] = {*table.columns} | whose
        self._ids[name] = table.id

    def _side(self, key: str, side: SideInfo) -> Iterator[Fault]:
        for number, need in enumerate(side.needs, 1):
            at = f"{key}.needs[{number}]"
            if key == "there":
                yield at, "only of the predecessor there is a save"
            elif need.fact not in self.bequest.source.fact_labels:
                labels = known(self.bequest.source.fact_labels)
                yield f"{at}.fact", f"it has no fact {need.fact!r}; {labels}"
            yield from _cell_faults(at, {"is": need.is_})
        if (game := side.game) is not None:
            roles = dict.fromkeys(game.files, True)
            for where, what in table_faults(game.tables, {}, roles, frozenset()):
                yield f"{key}.game.{where}", what
            for name, file in game.files.items():
                if file.holds not in {*DOCUMENTS, *self.recipe.forms}:
                    every = known({*DOCUMENTS, *self.recipe.forms})
                    yield f"{key}.game.files.{name}.holds", f"there is no such form; {every}"
                self._used.add(f"form {file.holds}")
                if not any(name in table.roles for table in game.tables.values()):
                    yield f"{key}.game.files.{name}", "no table is read from it"
            for name, table in game.tables.items():
                if f"{key}.{name}" in self._columns:
                    yield f"{key}.game.tables.{name}", "the save has a table of that name"
                for unread in ("counted", "numbered"):
                    if getattr(table, unread):
                        yield f"{key}.game.tables.{name}.{unread}", "nothing is written there"
                self._add(f"{key}.{name}", table)
            yield from _cell_faults(f"{key}.game", {"versions": game.versions or ""})
        if (addons := side.addons) is not None:
            if (addons.folder is not None or addons.enabled is not None) and game is None:
                yield f"{key}.addons", f"that is below the installation: {key}.game"
            if (enabled := addons.enabled) is not None:
                if enabled.holds not in {*DOCUMENTS, *self.recipe.forms}:
                    every = known({*DOCUMENTS, *self.recipe.forms})
                    yield f"{key}.addons.enabled.holds", f"there is no such form; {every}"
                if why := place_fault(enabled.at):
                    yield f"{key}.addons.enabled.at", why
                self._used.add(f"form {enabled.holds}")
            if addons.table is not None:
                names = self._columns.get(f"{key}.{addons.table}")
                if names is None or key == "there":
                    yield f"{key}.addons.table", f"the save has no table {addons.table!r}"
                elif addons.column not in names:
                    yield f"{key}.addons.column", f"it has no such column; {known(names)}"
                self._used.add(f"table {key}.{addons.table}")
            for name, info in addons.known.items():
                for mapping in info.mappings:
                    if mapping not in self.recipe.mappings:
                        told = f"there is no mapping {mapping!r}; {known(self.recipe.mappings)}"
                        yield f"{key}.addons.known.{name}.mappings", told

    def _others(self) -> Iterator[Fault]:
        for name, calendar in self.recipe.calendars.items():
            _, month, day = calendar.first
            if not (1 <= month <= len(calendar.months) and 1 <= day <= calendar.months[month - 1]):
                yield f"calendars.{name}.first", "its year has no such day"
            if calendar.written != "number" and (calendar.first != (1, 1, 1) or
                                                 calendar.counts_from):  # fmt: skip
                yield f"calendars.{name}", "`first` and `counts_from` are of days that are numbers"
        for name, preset in self.recipe.presets.items():
            for option, value in preset.set.items():
                info = self.recipe.options.get(option)
                told = f"there is no option {option!r}; {known(self.recipe.options)}"
                if why := told if info is None else info.fault(value):
                    yield f"presets.{name}.set.{option}", why
        facts = {*self.bequest.source.fact_labels, *self.recipe.options}
        for name, pattern in self.recipe.bequest.fields.items():
            for asked in NAMED.findall(pattern):
                if asked not in facts:
                    yield f"bequest.fields.{name}", f"nothing fills {{{asked}}}; {known(facts)}"
                self._used.add(f"option {asked}")

    def _mapping_faults(self) -> Iterator[Fault]:
        sides = (self.recipe.was.addons, self.recipe.there.addons)
        every = [addon for side in sides if side is not None for addon in side.known]
        for addons in ((), *((one,) for one in every)):
            try:
                found = self.bequest.mappings(addons)
            except FerryError as error:
                details = error.details or (error.what,)
                yield from (("mappings", one) for one in details)
                continue
            self._mappings = self._mappings or found
            for name, one in found.items():
                if isinstance(one, MappingRules):
                    for rule, first in one.unreachable():
                        yield (
                            f"mappings.{name}",
                            f"{rule.line.at}: it never counts, as all that fits it fits "
                            f"{first.line.at} first",
                        )

    def _made(self, asked: set[str]) -> Iterator[Fault]:
        for number, make in enumerate(self.recipe.make, 1):
            at = f"make[{number}]"
            if make.table in self._columns:
                yield f"{at}.table", "it is made already"
            base = self._base(at, make)
            if isinstance(base, tuple):
                yield base
                continue
            above: set[str] = set()
            for name, column in make.columns.items():
                own = above | self._columns[base]
                yield from self._column(f"{at}.columns.{name}", column, make, own, base)
                above.add(name)
            for key in ("id", "named"):
                value = getattr(make, key)
                if value is not None and value not in above:
                    yield f"{at}.{key}", f"no such column; {known(above)}"
            yield from _cell_faults(f"{at}.where", make.where)
            yield from _cell_faults(f"{at}.when", make.when)
            for name in make.where:
                if name not in above:
                    yield f"{at}.where", f"it makes no column {name!r}; {known(above)}"
            for name in make.when:
                yield from self._option(f"{at}.when", name)
            if make.reads is not None:
                there = self.bequest.target.tables.get(make.reads)
                if there is None:
                    tables = known(self.bequest.target.tables)
                    yield f"{at}.reads", f"the successor has no table {make.reads!r}; {tables}"
                elif make.id not in there.columns:
                    yield f"{at}.reads", f"it has no column {make.id!r} to know rows by"
            self._columns[make.table], self._ids[make.table] = above, make.id
        if not any(make.reads for make in self.recipe.make):
            yield "make", "no table of it says as what it `reads` back, so nothing could be proved"
        attributes = {one.partition(".")[2] for one in asked}
        if "*" in attributes:
            return
        for number, make in enumerate(self.recipe.make, 1):
            needed = {make.id, make.named, *make.where, *attributes}
            needed |= {name for one in self.recipe.make for name in _columns_in(one)}
            for rules in self._mappings.values():
                needed |= {*rules.columns} if isinstance(rules, MappingRules) else set()
            if self.recipe.maps is not None:
                for one in (self.recipe.maps.before, self.recipe.maps.after):
                    needed |= {one.x, one.y, one.owner, one.size}
            for name in make.columns:
                if name not in needed:
                    yield f"make[{number}].columns.{name}", "nothing uses it, and no template"
            if (
                make.table not in asked
                and f"table {make.table}" not in self._used
                and not any(output.each == make.table for output in self.recipe.files)
            ):
                yield f"make[{number}].table", "nothing uses it, and no template"

    def _base(self, at: str, make: MakeInfo) -> str | Fault:
        if make.source is not None:
            return self._table(f"{at}.from", make.source) or make.source
        info = self.recipe.mappings.get(make.through or "")
        if not isinstance(info, SharesInfo):
            return f"{at}.through", f"there is no mapping by shares {make.through!r}"
        self._used.add(f"mapping {make.through}")
        for key, name in (("from", info.source), ("to", info.target), ("also", info.also)):
            if name is None:
                continue
            where = f"mappings.{make.through}.{key}"
            if fault := self._table(where, name):
                return fault
            if self._ids[name] is None:
                return where, f"{name} has no `id`"
        return info.target

    def _table(self, at: str, name: str) -> Fault | None:
        self._used.add(f"table {name}")
        if name in self._columns:
            return None
        return at, f"there is no table {name!r} by now; {known(self._columns)}"

    def _option(self, at: str, name: str) -> Iterator[Fault]:
        self._used.add(f"option {name}")
        if name not in self.recipe.options:
            yield at, f"there is no option {name!r}; {known(self.recipe.options)}"

    def _column(
        self, at: str, column: DerivedInfo, make: MakeInfo, own: set[str], base: str
    ) -> Iterator[Fault]:
        """Yield what is wrong with one column; `own` are those that its row has by now."""

        def there(key: str, name: str | None, columns: set[str]) -> Iterator[Fault]:
            if name is not None and name not in columns:
                yield f"{at}.{key}", f"no such column; {known(columns)}"

        shared = self.recipe.mappings.get(make.through or "")
        if column.source in ("total", "largest"):
            if not isinstance(shared, SharesInfo):
                yield f"{at}.{column.source}", "it belongs to a table that is made `through` shares"
                return
            froms = self._columns[shared.source]
            yield from there(column.source, column.total or column.largest, froms)
            yield from there("by", column.by if column.largest else None, froms)
        for key in ("of", "rank", "share", "within"):
            yield from there(key, getattr(column, key), own)
        for name in NAMED.findall(column.text or ""):
            yield from there("text", name, own)
        if column.option is not None:
            yield from self._option(f"{at}.option", column.option)
        if (find := column.find) is not None:
            if fault := self._table(f"{at}.find.table", find.table):
                yield fault
                return
            if self._ids[find.table] is None:
                yield f"{at}.find.table", f"{find.table} has no `id`"
            yield from there("find.by", find.by, own)
            yield from there("find.column", find.column, self._columns[find.table])
        if (goes := column.goes) is not None:
            self._used.add(f"mapping {goes.through}")
            if not isinstance(self.recipe.mappings.get(goes.through), SharesInfo):
                yield f"{at}.goes.through", f"there is no mapping by shares {goes.through!r}"
            yield from there("goes.by", goes.by, own)
        if column.source in ("count", "sum"):
            name, dot, summed = (column.sum or "").rpartition(".")
            name = column.count or name
            if column.sum and not dot:
                yield f"{at}.sum", "it is TABLE.COLUMN"
                return
            if fault := self._table(f"{at}.{column.source}", name):
                yield fault
                return
            yield from there("by", column.by, self._columns[name])
            yield from there("sum", summed or None, self._columns[name])
            if self._ids[base] is None:
                yield at, f"{base} has no `id` by which rows elsewhere could name its rows"
        if column.rules is not None:
            yield from self._ruled(at, column, own)
        for key in ("times", "plus", "least", "most"):
            if isinstance(name := getattr(column, key), str):
                yield from self._number_option(f"{at}.{key}", name)
        if (shift := column.shift) is not None:
            for key, name in (("from", shift.source), ("to", shift.target)):
                self._used.add(f"calendar {name}")
                if name not in self.recipe.calendars:
                    told = f"there is no calendar {name!r}; {known(self.recipe.calendars)}"
                    yield f"{at}.shift.{key}", told
            if isinstance(shift.years, str):
                yield from self._number_option(f"{at}.shift.years", shift.years)

    def _number_option(self, at: str, name: str) -> Iterator[Fault]:
        yield from self._option(at, name)
        info = self.recipe.options.get(name)
        if info is not None and info.kind_ != "number":
            yield at, f"the option {name} is no number"

    def _ruled(self, at: str, column: DerivedInfo, own: set[str]) -> Iterator[Fault]:
        info = self.recipe.mappings.get(column.rules or "")
        self._used.add(f"mapping {column.rules}")
        if not isinstance(info, RulesInfo):
            yield f"{at}.rules", f"there is no mapping by rules {column.rules!r}"
            return
        gives = column.gives or info.gives[0]
        if gives not in info.gives:
            yield f"{at}.gives", f"it gives no {gives!r}; {known(info.gives)}"
        self._used.add(f"gives {column.rules}.{gives}")
        rules = self._mappings.get(column.rules or "")
        for name in rules.columns if isinstance(rules, MappingRules) else ():
            if name not in own:
                yield f"{at}.rules", f"{info.file} asks for a column {name!r}; {known(own)}"

    def _files(self) -> Iterator[Fault]:
        pieces = self.bequest.target.pieces
        roles = [one.role for one in self.bequest.undressed.files if not one.tree]
        written: list[str] = []
        for number, output in enumerate(self.recipe.files, 1):
            at = f"files[{number}]"
            if output.role not in roles:
                yield f"{at}.role", f"nothing is written as {output.role!r}; {known(roles)}"
                continue
            several = pieces[output.role].each
            if (several is None) != (output.name is None) or (several and not output.each):
                told = f"there is one per {several}" if several else "there is one alone"
                yield f"{at}.role", f"of {output.role!r} {told}: `each` and `name` are for several"
            if output.role in written:
                yield f"{at}.role", "it is written already"
            written.append(output.role)
            columns: set[str] = set()
            if output.each is not None:
                if fault := self._table(f"{at}.each", output.each):
                    yield fault
                    continue
                columns = self._columns[output.each]
            for name in NAMED.findall(output.name or ""):
                if name not in columns:
                    yield f"{at}.name", f"nothing fills {{{name}}}; {known(columns)}"
        record = self.recipe.record
        if record is not None and (record not in roles or record in written
                                   or pieces[record].each is not None):  # fmt: skip
            yield "record", f"{record!r} is no piece that is still free; {known(roles)}"

    def _maps(self) -> Iterator[Fault]:
        for key in ("before", "after") if self.recipe.maps is not None else ():
            info = getattr(self.recipe.maps, key)
            wrong = False
            for name in filter(None, (info.table, info.of, info.at)):
                if fault := self._table(f"maps.{key}", name):
                    wrong = True
                    yield fault
                elif self._ids[name] is None:
                    yield f"maps.{key}", f"{name} has no `id`"
            for column, table in (() if wrong else (
                (info.owner, info.table), (info.size, info.table),
                (info.x, info.at or info.table), (info.y, info.at or info.table),
            )):  # fmt: skip
                if column not in self._columns[table]:
                    yield f"maps.{key}", f"{table} has no column {column!r}"

    def _unused(self) -> Iterator[Fault]:
        for name in self.recipe.options:
            if f"option {name}" not in self._used:
                yield f"options.{name}", "nothing asks for it, and no template"
        for name, info in self.recipe.mappings.items():
            if f"mapping {name}" not in self._used:
                yield f"mappings.{name}", "nothing is made by it"
            elif isinstance(info, RulesInfo):
                for gives in info.gives:
                    if f"gives {name}.{gives}" not in self._used:
                        yield f"mappings.{name}.gives", f"nothing takes {gives!r}"
        for name in self.recipe.calendars:
            if f"calendar {name}" not in self._used:
                yield f"calendars.{name}", "nothing is shifted from it or to it"
        for name in self.recipe.forms:
            if f"form {name}" not in self._used:
                yield f"forms.{name}", "no file is read or written by it"
        for key, side in (("was", self.recipe.was), ("there", self.recipe.there)):
            tables = side.game.tables if side.game is not None else {}
            for name in tables:
                if f"table {key}.{name}" not in self._used and not any(
                    name == column.refers
                    for table in tables.values() for column in table.columns.values()
                ):  # fmt: skip
                    yield f"{key}.game.tables.{name}", "nothing is made of it"


def _cell_faults(at: str, cells: Mapping[str, str]) -> Iterator[Fault]:
    for name, cell in cells.items():
        try:
            conditions_of({name: cell})
        except FerryError as error:
            yield f"{at}.{name}", error.what


def _columns_in(make: MakeInfo) -> Iterator[Any]:
    """Yield all columns that a table's making names, its own or others'."""
    for one in make.columns.values():
        yield from (one.of, one.total, one.largest, one.by, one.rank, one.share, one.within)
        yield from NAMED.findall(one.text or "")
        yield from (one.find.by, one.find.column) if one.find is not None else ()
        yield one.goes.by if one.goes is not None else None
        yield (one.sum or "").rpartition(".")[2]
