"""Which rows go, come and stay, what they are called then, and what would lead nowhere.

Pure reckoning over tables of two saves: `there` is what rows are taken out of, `here` what they go
into. A reference follows its row: to the row that comes along, or to that which is the same thing
here, or to where the user says. Nothing is guessed: what is neither is lost.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cached_property
from itertools import count
from typing import Any, NamedTuple

from msgspec import Struct, field

from clever_ferry.cargo import is_number
from clever_ferry.errors import NotFoundError
from clever_ferry.grafting.wishes import OWNER, Wish, Wishes
from clever_ferry.recipes.table_models import TableInfo
from clever_ferry.recipes.tables import Table

__all__ = ["Lost", "Merged", "merge"]

_DEEPEST = 20
"""So many tables lead to each other where two rows are held to be the same thing."""


class Lost(NamedTuple):
    """References of like rows that would lead to nothing."""

    table: str
    column: str
    refers: str
    ids: tuple[str, ...]
    """What they name."""
    rows: int
    comes: bool
    """Whether the rows are such as come; else they stand here, and what they name goes."""


class Merged(Struct, frozen=True):
    """What becomes of one table."""

    stay: list[int]
    """Rows here, by number, that stay."""
    taken: list[int]
    """Rows there that come, behind these."""
    here_edits: dict[int, dict[str, Any]] = field(default_factory=dict)
    """New values of rows that stay, by column."""
    there_edits: dict[int, dict[str, Any]] = field(default_factory=dict)
    left_out: int = 0
    """Rows that were asked for and would lead to nothing."""
    gone: list[int] = field(default_factory=list)
    """Rows here that go."""
    fixed: dict[str, list[Any]] = field(default_factory=dict)
    """By column: the value that was set in rows that come, for each of these."""

    @property
    def changes(self) -> bool:
        """Whether anything of it is otherwise afterwards."""
        return bool(self.taken or self.gone or self.here_edits)


def merge(
    infos: Mapping[str, TableInfo], there: Mapping[str, Table], here: Mapping[str, Table],
    wishes: Wishes, *, elsewhere: bool,
) -> tuple[dict[str, Merged], list[Lost]]:  # fmt: skip
    """Return what becomes of each table, and what would lead to nothing.

    `elsewhere`: the two saves are on two maps. Raises NotFoundError where the user names rows that
    are not there.
    """
    return _Merge(infos, _Side(infos, there), _Side(infos, here), wishes, elsewhere).done()


def _text(value: object) -> str:
    return "" if value is None else str(value)


class _Side:
    """The tables of one save, with their rows by id."""

    def __init__(self, infos: Mapping[str, TableInfo], tables: Mapping[str, Table]) -> None:
        self._infos, self.tables = infos, tables

    def values(self, table: str, column: str) -> list[Any]:
        """Return a column."""
        return self.tables[table].column(column).values

    def ids(self, table: str) -> list[str]:
        """Return each row's id, as text; nothing where rows have none."""
        return self._ids.get(table, [])

    @cached_property
    def _ids(self) -> dict[str, list[str]]:
        return {name: [_text(value) for value in self.values(name, info.id)]
                for name, info in self._infos.items() if info.id is not None}  # fmt: skip

    @cached_property
    def _rows(self) -> dict[str, dict[str, int]]:
        found = {}
        for name, ids in self._ids.items():
            found[name] = {ident: at for at, ident in reversed([*enumerate(ids)])}
        return found

    def row(self, table: str, ident: str) -> int | None:
        """Return the number of the row with an id."""
        return self._rows.get(table, {}).get(ident)

    def rows(self, table: str) -> range:
        """Return the numbers of all rows."""
        return range(len(self.tables[table].columns[0].values))

    def owner(self, table: str, row: int) -> tuple[str, str]:
        """Return whose a row is: the id that its way ends at, and what that is called."""
        at, info = table, self._infos[table]
        path, value = info.owner_path, ""
        for step, column in enumerate(path):
            value = _text(self.values(at, column)[row])
            refers = info.columns[column].refers or ""
            found = self.row(refers, value)
            if found is None:
                return (value, value) if step + 1 == len(path) else ("", "")
            at, row, info = refers, found, self._infos[refers]
        named = _text(self.values(at, info.named)[row]) if info.named else value
        return value, named

    def find(self, table: str, word: str) -> str | None:
        """Return the id of the row with that id, or of the only one that is called so."""
        if self.row(table, word) is not None:
            return word
        named = self._infos[table].named
        if named is None:
            return None
        found = [ident for ident, name in zip(self.ids(table), self.values(table, named),
                                              strict=True) if _text(name) == word]  # fmt: skip
        return found[0] if len(found) == 1 else None


class _Merge:
    def __init__(
        self, infos: Mapping[str, TableInfo], there: _Side, here: _Side, wishes: Wishes,
        elsewhere: bool,
    ) -> None:  # fmt: skip
        self._infos, self._there, self._here = infos, there, here
        self._wishes, self._elsewhere = wishes, elsewhere
        self._alike: dict[tuple[str, str], bool] = {}
        self._owners: dict[str, str] = {}
        self._used: set[tuple[str, str]] = set()
        self._given = self._given_rows()
        self._stay = {name: dict.fromkeys(here.rows(name)) for name in infos}
        self._taken: dict[str, dict[int, None]] = {name: {} for name in infos}
        for name, wish in wishes.tables.items():
            self._choose(name, wish)
        self._asked = {name: len(rows) for name, rows in self._taken.items()}

    # What the user says -----------------------------------------------------------------

    def _given_rows(self) -> dict[tuple[str, str], str]:
        """Return which row of which table there is which row here, as the user says."""
        given = {}
        for (table, old), new in self._wishes.maps.items():
            given[table, self._known(self._there, table, old)] = self._known(self._here, table, new)
        ends = [end for name in self._wishes.tables if (end := self._end(name)) is not None]
        for old, new in self._wishes.owners.items():
            for table in dict.fromkeys(ends):
                one = self._known(self._there, table, old)
                other = self._known(self._here, table, new)
                given[table, one] = other
                self._owners[one] = other
            if not ends:
                self._owners[old] = new
                given["", old] = new
        return given

    def _end(self, table: str) -> str | None:
        """Return the table that says who owners are."""
        info, end = self._infos[table], None
        for column in info.owner_path:
            refers = info.columns[column].refers
            if refers is None:
                return None
            end, info = refers, self._infos[refers]
        return end

    def _known(self, side: _Side, table: str, word: str) -> str:
        found = side.find(table, word)
        if found is None:
            where = "what is taken from" if side is self._there else "what it goes into"
            label = side.tables[table].label
            raise NotFoundError(
                f"There is no {word!r} among {label} of {where}.",
                details=(f"There are: {', '.join(side.ids(table)[:20])}.",),
            )
        return found

    def _choose(self, name: str, wish: Wish) -> None:
        """Note which rows there are wanted, and which here make room for them."""
        taken = [row for row in self._there.rows(name) if self._fits(self._there, wish, row)]
        if not taken and wish.only:
            told = ", ".join(f"{c} {' or '.join(sorted(v))}" for c, v in wish.only.items())
            raise NotFoundError(f"No row of {self._there.tables[name].label} has the {told}.")
        self._taken[name] = dict.fromkeys(taken)
        gone = []
        if wish.how == "replace":
            gone = [row for row in self._here.rows(name) if self._fits(self._here, wish, row)]
        elif wish.how == "merge":
            ids = self._there.ids(name)
            for row in taken if ids else ():
                own = self._here.row(name, self._given.get((name, ids[row]), ids[row]))
                self._used.add((name, ids[row]))
                if own is not None and (
                    (name, ids[row]) in self._given or self._same(name, ids[row])
                ):
                    gone.append(own)
        for row in gone:
            self._stay[name].pop(row, None)

    def _fits(self, side: _Side, wish: Wish, row: int) -> bool:
        """Tell whether a row is one of those that are wanted, or stands in their place here."""
        for column, values in wish.only.items():
            wanted = values
            if column == OWNER and self._infos[wish.table].owner:
                if side is self._here:
                    wanted = self._here_owners(wish.table, values)
                if not wanted & {*side.owner(wish.table, row)}:
                    return False
                continue
            name = self._infos[wish.table].id or column if column == "id" else column
            if _text(side.values(wish.table, name)[row]) not in wanted:
                return False
        return True

    def _here_owners(self, table: str, words: frozenset[str]) -> frozenset[str]:
        end = self._end(table)
        ids = {(self._there.find(end, word) if end else None) or word for word in words}
        return frozenset(self._owners.get(one, one) for one in ids)

    # What is the same thing -------------------------------------------------------------

    def _same(self, table: str, ident: str, depth: int = 0) -> bool:
        """Tell whether the rows of one id on both sides are the same thing."""
        known = self._alike.get((table, ident))
        if known is not None:
            return known
        one, other = self._there.row(table, ident), self._here.row(table, ident)
        if one is None or other is None or depth > _DEEPEST:
            return False
        info = self._infos[table]
        if not ident.lstrip("-").isdecimal():
            found = True  # a name is nobody else's
        else:
            self._alike[table, ident] = True  # in a circle, nothing else speaks against it
            compared = [info.named] if info.named else [
                name for name, column in info.columns.items()
                if not column.refers and name != info.id
            ]  # fmt: skip
            found = all(
                _text(a := self._there.values(table, name)[one])
                == _text(b := self._here.values(table, name)[other])
                or (info.adds_up(name) and is_number(a) and is_number(b))
                for name in compared
            ) and all(
                (a := _text(self._there.values(table, name)[one]))
                == _text(self._here.values(table, name)[other])
                and (not a or self._same(column.refers, a, depth + 1))
                for name, column in info.columns.items()
                if column.refers is not None
            )
        self._alike[table, ident] = found
        return found

    # Where references lead --------------------------------------------------------------

    def _leads_from_there(self, refers: str, ident: str) -> tuple[str, int] | None:
        """Return the row that a reference of one that comes leads to, and on which side it is."""
        said = self._given.get((refers, ident))
        if said is not None:
            self._used.add((refers, ident))
            row = self._here.row(refers, said)
            return ("here", row) if row is not None and row in self._stay[refers] else None
        row = self._there.row(refers, ident)
        if row is None:
            return None
        if row in self._taken[refers]:
            return "there", row
        own = self._here.row(refers, ident)
        if own is not None and own in self._stay[refers] and self._same(refers, ident):
            return "here", own
        return None

    def _leads_from_here(self, refers: str, ident: str) -> tuple[str, int] | None:
        row = self._here.row(refers, ident)
        if row is None or row in self._stay[refers]:
            return ("here", row) if row is not None else None
        for (table, old), new in self._given.items():
            own = self._there.row(refers, old)
            if table == refers and new == ident and own is not None and own in self._taken[refers]:
                self._used.add((table, old))
                return "there", own
        own = self._there.row(refers, ident)
        if own is not None and own in self._taken[refers] and self._same(refers, ident):
            return "there", own
        return None

    def _references(self) -> Iterator[tuple[str, str, str, bool]]:
        for name, info in self._infos.items():
            for column, one in info.columns.items():
                if one.refers is not None:
                    for comes in (True, False):
                        yield name, column, one.refers, comes

    def _lost_rows(self) -> Iterator[tuple[str, str, str, bool, int, str]]:
        """Yield each reference that would lead to nothing."""
        for name, column, refers, comes in self._references():
            side = self._there if comes else self._here
            rows = self._taken[name] if comes else self._stay[name]
            if not rows or (comes and self._value_set(name, column) is not None):
                continue
            values = side.values(name, column)
            leads = self._leads_from_there if comes else self._leads_from_here
            known: dict[str, bool] = {}
            for row in rows:
                ident = _text(values[row])
                if ident not in known:
                    free = not comes and self._here.row(refers, ident) is None  # it dangled
                    free |= comes and self._instead(name, column) is not None
                    known[ident] = free or leads(refers, ident) is not None
                if ident and not known[ident]:
                    yield name, column, refers, comes, row, ident

    def _leave_out(self) -> list[Lost]:
        """Leave out what may be left out until nothing changes; return what is lost then."""
        while True:
            lost: dict[tuple[str, str, str, bool], list[str]] = {}
            dropped = False
            for name, column, refers, comes, row, ident in list(self._lost_rows()):
                wish = self._wishes.tables.get(name)
                free = self._wishes.leave_lost or (comes and wish is not None and wish.lost)
                if free:
                    (self._taken if comes else self._stay)[name].pop(row, None)
                    dropped = True
                else:
                    lost.setdefault((name, column, refers, comes), []).append(ident)
            if not dropped:
                return [
                    Lost(name, column, refers, tuple(dict.fromkeys(ids)), len(ids), comes)
                    for (name, column, refers, comes), ids in lost.items()
                ]

    # What rows are called then ----------------------------------------------------------

    def done(self) -> tuple[dict[str, Merged], list[Lost]]:
        """Return all of it."""
        lost = self._leave_out()
        new_here: dict[str, dict[int, Any]] = {}
        new_there: dict[str, dict[int, Any]] = {}
        for name, info in self._infos.items():
            new_here[name], new_there[name] = self._ids_then(name, info)
        found = {}
        for name, info in self._infos.items():
            merged = Merged(
                [*self._stay[name]], [*self._taken[name]],
                left_out=self._asked[name] - len(self._taken[name]),
                gone=[row for row in self._here.rows(name) if row not in self._stay[name]],
            )  # fmt: skip
            self._edit(name, info, merged, new_here, new_there)
            found[name] = merged
        idle = [f"{old}={new}" for (table, old), new in self._given.items()
                if (table, old) not in self._used and not lost]  # fmt: skip
        if idle:
            raise NotFoundError(
                f"{idle[0]} changes nothing: no row that comes names {idle[0].partition('=')[0]}.",
                advice="Leave it out, or see what names it: cferry tables SAVE TABLE",
            )
        return found, lost

    def _ids_then(self, name: str, info: TableInfo) -> tuple[dict[int, Any], dict[int, Any]]:
        """Return the ids that rows have in the end, where they have any."""
        if info.id is None:
            return {}, {}
        stay, taken = self._stay[name], self._taken[name]
        if info.numbered:
            return (
                {row: at for at, row in enumerate(stay, 1)},
                {row: at for at, row in enumerate(taken, len(stay) + 1)},
            )
        here, there = self._here.values(name, info.id), self._there.values(name, info.id)
        kept = {row: here[row] for row in stay}
        used = {_text(value) for value in kept.values()}
        numbers = [int(one) for one in (*map(_text, here), *map(_text, there))
                   if one.lstrip("-").isdecimal()]  # fmt: skip
        fresh = count(max(numbers, default=0) + 1)
        come = {}
        for row in taken:
            value = there[row]
            if _text(value) in used and value is not None:
                if not _text(value).lstrip("-").isdecimal():
                    raise NotFoundError(
                        f"Both saves have a row {value!s:.40} of {self._here.tables[name].label}, "
                        "and a name can't be made up.",
                        advice=f"Take it in the place of the one here: --part {name}:…,as=merge",
                    )
                value = str(next(fresh)) if isinstance(value, str) else next(fresh)
            used.add(_text(value))
            come[row] = value
        return kept, come

    def _value_set(self, table: str, column: str) -> Any:
        """Return what a column of all rows that come is to be; None: what it is."""
        said = self._wishes.sets.get((table, column))
        if said is None and self._infos[table].columns[column].refers is None:
            return self._instead(table, column)
        return said

    def _instead(self, table: str, column: str) -> Any:
        """Return what a column is on another map; a reference, where it would lead to nothing."""
        return self._wishes.elsewhere.get((table, column)) if self._elsewhere else None

    def _edit(
        self, name: str, info: TableInfo, merged: Merged,
        here: Mapping[str, dict[int, Any]], there: Mapping[str, dict[int, Any]],
    ) -> None:  # fmt: skip
        then = {"here": here, "there": there}
        for comes in (False, True):
            side = self._there if comes else self._here
            rows = merged.taken if comes else merged.stay
            edits = merged.there_edits if comes else merged.here_edits
            own = (there if comes else here)[name]
            for column, one in info.columns.items():
                values = side.values(name, column) if rows else []
                fixed = self._value_set(name, column) if comes else None
                for row in rows:
                    value: Any = values[row]
                    new: Any = value
                    if fixed is not None:
                        new = fixed
                        merged.fixed.setdefault(column, []).append(new)
                    elif column == info.id:
                        new = own[row]
                    elif one.refers is not None and value is not None:
                        leads = self._leads_from_there if comes else self._leads_from_here
                        where = leads(one.refers, _text(value))
                        if where is not None:
                            new = then[where[0]][one.refers][where[1]]
                        elif comes and (instead := self._instead(name, column)) is not None:
                            new = instead
                            merged.fixed.setdefault(column, []).append(new)
                    elif comes and info.owner_path == (column,) and _text(value) in self._owners:
                        new = self._owners[_text(value)]
                        self._used.add(("", _text(value)))
                    if _text(new) != _text(value):
                        edits.setdefault(row, {})[column] = _like(new, value)


def _like(new: Any, old: Any) -> Any:
    """Return a new value as what stood there before."""
    if isinstance(old, str):
        return _text(new)
    if isinstance(old, int) and isinstance(new, str) and new.lstrip("-").isdecimal():
        return int(new)
    return new
