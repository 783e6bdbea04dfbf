"""What a user wants of a save: parts by name, some of their rows, and whose they become."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Annotated, Literal

from msgspec import Struct, field

from clever_ferry.errors import UnknownNameError, WrongUseError
from clever_ferry.model import Model, hint
from clever_ferry.recipes.part_models import PartInfo
from clever_ferry.recipes.table_models import TableInfo
from clever_ferry.wording import known

__all__ = ["HOW", "OWNER", "Choices", "How", "Wish", "Wishes", "wishes_of"]

How = Literal["replace", "add", "merge"]
HOW: tuple[How, ...] = ("replace", "add", "merge")
OWNER = "owner"
"""What stands for whose a row is, wherever that is told."""
Value = str | int | float | bool


class Choices(Model):
    """All that decides what is taken; a file of choices has these keys."""

    parts: Annotated[
        tuple[str, ...], hint("the parts: NAME, or NAME:COLUMN=VALUE,…,as=replace|add|merge")
    ] = ()
    whole: Annotated[tuple[str, ...], hint("roles of pieces that go as a whole")] = ()
    owners: Annotated[tuple[str, ...], hint("OLD=NEW: whose things become whose")] = ()
    maps: Annotated[tuple[str, ...], hint("TABLE:OLD=NEW: which row there is which here")] = ()
    sets: Annotated[tuple[str, ...], hint("TABLE.COLUMN=VALUE: what all rows that come get")] = ()
    leave_lost: Annotated[bool, hint("rows that would lead to nothing are left out")] = False


class Wish(Struct, frozen=True):
    """What is wanted of one table's rows."""

    table: str
    part: str
    how: How = "replace"
    only: Mapping[str, frozenset[str]] = field(default_factory=dict)
    """The values that a column must have, `owner` among them; nothing: all rows."""
    lost: bool = False
    """Whether rows that would lead to nothing are left out."""


class Wishes(Struct, frozen=True):
    """What is wanted of a save."""

    tables: Mapping[str, Wish]
    pieces: tuple[str, ...]
    owners: Mapping[str, str]
    maps: Mapping[tuple[str, str], str]
    sets: Mapping[tuple[str, str], str]
    elsewhere: Mapping[tuple[str, str], Value]
    """What rows get where the maps are two."""
    leave_lost: bool


def wishes_of(
    choices: Choices, parts: Mapping[str, PartInfo], tables: Mapping[str, TableInfo],
    roles: Collection[str],
) -> Wishes:  # fmt: skip
    """Return what choices say of a game's parts; a table is a part of its own name, too.

    Raises WrongUseError, UnknownNameError where they say what can't be.
    """
    found: dict[str, Wish] = {}
    pieces: list[str] = []
    elsewhere: dict[tuple[str, str], Value] = {}
    waiting = [(_split(text), False) for text in choices.parts]
    for (name, how, only), along in waiting:
        part = parts.get(name) or (PartInfo(tables=(name,)) if name in tables else None)
        if part is None:
            there = [*parts, *(one for one in tables if one not in parts)]
            raise UnknownNameError(
                f"There is no part {name!r}.",
                details=(f"{known(there)[:1].upper()}{known(there)[1:]}.",),
                advice="A whole piece is taken by --whole.",
            )
        for table in part.tables:
            if table in found and along:
                continue
            if table in found:
                raise WrongUseError(f"{table} is asked for twice.")
            _refuse_unknown(table, tables[table], only)
            found[table] = Wish(
                table, name, how or ("add" if only else "replace"), only,
                part.lost or choices.leave_lost,
            )  # fmt: skip
        if only and not part.tables:
            raise WrongUseError(f"{name} has no rows of which some could be chosen.")
        pieces += [role for role in part.pieces if role not in pieces]
        for place, value in part.elsewhere.items():
            table, _, column = place.partition(".")
            elsewhere[table, column] = value
        waiting += [((other, how, {}), True) for other in part.needs]
    for role in choices.whole:
        if role not in roles:
            raise UnknownNameError(
                f"There is no piece {role!r} that could be taken.",
                details=(f"{known(roles)[:1].upper()}{known(roles)[1:]}.",),
            )
        pieces += [role] if role not in pieces else []
    owners = dict(_pair(text, "--owner OLD=NEW") for text in choices.owners)
    maps = {}
    for text in choices.maps:
        table, colon, rest = text.partition(":")
        if not colon or table not in tables:
            raise WrongUseError(f"{text!r} is not as TABLE:OLD=NEW; {known(tables)}.")
        old, new = _pair(rest, "TABLE:OLD=NEW")
        maps[table, old] = new
    sets = {}
    for text in choices.sets:
        place, value = _pair(text, "TABLE.COLUMN=VALUE")
        table, _, column = place.partition(".")
        if table not in found or column not in tables[table].columns:
            raise WrongUseError(
                f"{text!r} sets nothing: {place} is no column of a table whose rows are taken.",
            )
        if tables[table].columns[column].at is None:
            raise WrongUseError(f"{place} is no place in a row that could be changed.")
        sets[table, column] = value
    return Wishes(found, tuple(pieces), owners, maps, sets, elsewhere, choices.leave_lost)


def _split(text: str) -> tuple[str, How | None, dict[str, frozenset[str]]]:
    """Return a part's name, how it goes, and which of its rows."""
    name, colon, rest = text.partition(":")
    how: How | None = None
    only: dict[str, set[str]] = {}
    key = ""
    for token in rest.split(",") if colon else ():
        word, sign, value = token.partition("=")
        if not sign:
            value = token
        elif word == "as":
            how = next((one for one in HOW if one == value), None)
            if how is None:
                raise WrongUseError(f"{text!r}: `as` is one of {', '.join(HOW)}.")
            key = ""
            continue
        else:
            key = word
        if not key or not value:
            raise WrongUseError(f"{text!r} is not as NAME:COLUMN=VALUE,VALUE,…")
        only.setdefault(key, set()).add(value)
    return name, how, {column: frozenset(values) for column, values in only.items()}


def _refuse_unknown(name: str, table: TableInfo, only: Mapping[str, object]) -> None:
    for column in only:
        there = [*table.columns, *([OWNER] if table.owner else ())]
        if column not in there and (column != "id" or table.id is None):
            raise UnknownNameError(
                f"The table {name} has no column {column!r}.",
                details=(f"{known(there)[:1].upper()}{known(there)[1:]}.",),
            )


def _pair(text: str, form: str) -> tuple[str, str]:
    old, sign, new = text.partition("=")
    if not sign or not old or not new:
        raise WrongUseError(f"{text!r} is not as {form}.")
    return old, new
