"""A graft written: rows out of one save's pieces into the other's, and read back against the plan.

Every byte of a piece that no row of it concerns is as it was.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from clever_ferry.cargo import Piece, Save
from clever_ferry.documents.document import Insert, Put, Remove, changed, values_in
from clever_ferry.documents.growing import Growth, TakenRow, grown, rows_out_of
from clever_ferry.errors import FerryError, RefusedError, UnsupportedError
from clever_ferry.grafting.merging import Merged
from clever_ferry.layers import Known
from clever_ferry.payload import BytesPayload, Payload, read_all
from clever_ferry.recipes.edition import Game
from clever_ferry.recipes.facts import FactReader
from clever_ferry.recipes.table_models import TableInfo
from clever_ferry.recipes.tables import Table, read_tables

__all__ = ["differing", "facts_then", "refuse_nested", "with_names", "with_pieces", "written"]

_MOST = 512 << 20
"""Bytes of a piece that rows are taken out of or put into."""


def with_pieces(game: Game, here: Save, there: Save, roles: Sequence[str]) -> Save:
    """Return a save with whole pieces of another; its own owner and headers stay.

    Of a role of which there is one for each player, say, those of others stay, too. Raises
    RefusedError where the other has none of a role of which there is one.
    """
    come = [piece for piece in there.pieces if piece.role in roles]
    own = {piece.key: piece for piece in here.pieces}
    for role in roles:
        if game.pieces[role].each is None and role not in {piece.role for piece in come}:
            raise RefusedError(f"{there.title} has no {role}.")
    gone = {piece.key for piece in come}
    pieces = [piece for piece in here.pieces if piece.key not in gone]
    for role in roles:
        for piece in (one for one in come if one.role == role):
            mine = own.get(piece.key)
            payload = BytesPayload(read_all(piece.payload, limit=_MOST, what=piece.title))
            pieces.append(
                replace(mine, payload=payload) if mine else replace(piece, payload=payload)
            )
    order = {piece.key: at for at, piece in enumerate(here.pieces)}
    pieces.sort(key=lambda piece: order.get(piece.key, len(order)))
    return replace(here, pieces=tuple(pieces))


def refuse_nested(infos: Mapping[str, TableInfo], wanted: Sequence[str]) -> None:
    """Raise UnsupportedError where rows of one table stand within rows of another."""
    for name in wanted:
        for other, info in infos.items():
            if other == name or not {*info.roles} & {*infos[name].roles}:
                continue
            inner, outer = sorted((info.rows, infos[name].rows), key=len, reverse=True)
            if inner.startswith(f"{outer}/") or (outer.endswith("/*") and inner == outer):
                raise UnsupportedError(
                    f"Rows of {name} and of {other} stand within each other, so they can't be "
                    "carried one by one.",
                    advice="Take the whole piece: --whole ROLE",
                )


def with_names(game: Game, reader: FactReader, save: Save, known: Known, was: Save) -> Save:
    """Return a save that lists the players who have a piece in it now, where it lists them."""
    info = game.handover
    each = game.pieces[info.guest].each if info is not None else None
    if info is None or each is None:
        return save
    names = [[str(piece.fields.get(each)) for piece in one.pieces if piece.role == info.guest]
             for one in (was, save)]  # fmt: skip
    books = _Books(game, reader, save, known)
    for place in info.lists if names[0] != names[1] else ():
        above = place.at.rpartition("/")[0]
        for piece in save.pieces:
            if piece.role != place.piece:
                continue
            form = books.form(piece)
            (listed,) = values_in(form, books.inside(piece), [place.at])
            gone = [name for name in names[0] if name not in names[1] and name in listed]
            come = [name for name in names[1] if name not in listed]
            books.put(piece, changed(form, books.inside(piece), [
                *(Remove(f"{above}/{listed.index(name)}") for name in reversed(gone)),
                *(Insert(f"{above}/new", name) for name in come),
            ]))  # fmt: skip
    return books.done()


class _Books:
    """The pieces of a save while rows are taken out of them and put into them."""

    def __init__(self, game: Game, reader: FactReader, save: Save, known: Known) -> None:
        self._game, self._reader, self.save, self._known = game, reader, save, known
        self._payloads: dict[str, Payload] = {}
        self.changed: set[str] = set()

    def piece(self, entry: str) -> Piece:
        """Return a piece by its entry."""
        return next(piece for piece in self.save.pieces if piece.entry == entry)

    def inside(self, piece: Piece) -> Payload:
        """Return its bytes as they are by now."""
        if self._game.pieces[piece.role].opens:
            raise UnsupportedError(
                f"The {piece.title} stays wrapped when it is carried, so no rows go into it.",
                advice=f"Take the whole piece: --whole {piece.role}",
            )
        if piece.entry not in self._payloads:
            raw = read_all(piece.payload, limit=_MOST, what=piece.title)
            self._payloads[piece.entry] = BytesPayload(raw)
        return self._payloads[piece.entry]

    def form(self, piece: Piece) -> Any:
        """Return the form of it."""
        return self._reader.form_of(piece.role, self.inside(piece))

    def put(self, piece: Piece, payload: Payload) -> None:
        """Take it that these are its bytes now."""
        raw = read_all(payload, limit=_MOST, what=piece.title)
        self._payloads[piece.entry] = BytesPayload(raw)
        self.changed.add(piece.entry)

    def done(self) -> Save:
        """Return the save with what was put."""
        return replace(self.save, pieces=tuple(
            replace(piece, payload=self._payloads[piece.entry])
            if piece.entry in self.changed else piece
            for piece in self.save.pieces
        ))  # fmt: skip


def written(
    game: Game, reader: FactReader, there: tuple[Save, Known], here: tuple[Save, Known],
    tables: tuple[Mapping[str, Table], Mapping[str, Table]], merged: Mapping[str, Merged],
    was: Mapping[str, int],
) -> Save:  # fmt: skip
    """Return a save with what becomes of its tables, and with how many rows each then has.

    `tables` are those of both sides; `was` how many rows each had before anything came. Raises
    UnsupportedError where rows of a form can't be carried, RefusedError where a piece that they
    would be in is missing.
    """
    source, target = _Books(game, reader, *there), _Books(game, reader, *here)
    for name, one in merged.items():
        if one.changes:
            _write(name, game.tables[name], one, source, target, tables)
    for name, one in merged.items():
        now = len(one.stay) + len(one.taken)
        for place in game.tables[name].counted if now != was[name] else ():
            for piece in target.save.pieces:
                if piece.role == place.piece:
                    put = changed(target.form(piece), target.inside(piece), [Put(place.at, now)])
                    target.put(piece, put)
    return target.done()


def _write(
    name: str, info: TableInfo, merged: Merged, source: _Books, target: _Books,
    tables: tuple[Mapping[str, Table], Mapping[str, Table]],
) -> None:  # fmt: skip
    there, here = tables[0][name], tables[1][name]
    come: dict[str, list[TakenRow]] = {}
    first = 0
    for entry, count in there.pieces:
        rows = [row - first for row in merged.taken if first <= row < first + count]
        edits = {row - first: _places(info, own) for row, own in merged.there_edits.items()
                 if first <= row < first + count}  # fmt: skip
        if rows:
            piece = source.piece(entry)
            inside = source.inside(piece)
            spelled = rows_out_of(source.form(piece), inside, info.rows, rows, edits)
            found = [
                row._replace(name=str(merged.there_edits[at + first][info.id]))
                if info.id and info.columns[info.id].at is None
                and info.id in merged.there_edits.get(at + first, {}) else row
                for at, row in zip(rows, spelled, strict=True)
            ]  # fmt: skip
            come.setdefault(_like(piece, target.save).entry, []).extend(found)
        first += count
    first = 0
    for entry, count in here.pieces:
        inner = range(first, first + count)
        growth = Growth(
            [row - first for row in merged.gone if row in inner],
            {row - first: _places(info, own, here=True)
             for row, own in merged.here_edits.items() if row in inner},
            come.pop(entry, ()),
        )  # fmt: skip
        first += count
        if growth.gone or growth.edits or growth.added:
            piece = target.piece(entry)
            target.put(piece, grown(target.form(piece), target.inside(piece), info.rows, growth))
    for entry, added in come.items():
        piece = target.piece(entry)
        growth = Growth(added=added)
        target.put(piece, grown(target.form(piece), target.inside(piece), info.rows, growth))


def _places(info: TableInfo, edits: Mapping[str, Any], *, here: bool = False) -> dict[str, Any]:
    """Return new values by their places in a row."""
    found = {}
    for column, value in edits.items():
        at = info.columns[column].at
        if at is None and (here or info.columns[column].field or column != info.id):
            raise UnsupportedError(
                f"The {column} of a row is told by a name, and can't become another."
            )
        if at is not None:
            found[at] = value
    return found


def _like(piece: Piece, save: Save) -> Piece:
    """Return the piece here that rows of a piece there go into."""
    for one in save.pieces:
        if one.key == piece.key:
            return one
    raise RefusedError(
        f"Rows of the {piece.title} have no place: {save.title} has no such piece.",
        advice=f"Take the whole piece along: --whole {piece.role}",
    )


def differing(
    game: Game, reader: FactReader, save: Save, known: Known, merged: Mapping[str, Merged],
    tables: tuple[Mapping[str, Table], Mapping[str, Table]],
) -> tuple[dict[str, Table], list[str]]:  # fmt: skip
    """Read the tables of a save that was written; return them, and where they are not as planned.

    As planned: those rows, each with its values, in whatever order.
    """
    found = {one.name: one for one in read_tables(game.tables, reader, save, known)}
    faults = []
    for name, one in merged.items():
        info, (there, here) = game.tables[name], (tables[0][name], tables[1][name])
        names = [name for name, column in info.columns.items() if column.field is None]
        wanted = [*_rows_then(here, names, one.stay, one.here_edits),
                  *_rows_then(there, names, one.taken, one.there_edits)]  # fmt: skip
        every = range(len(found[name].columns[0].values))
        if sorted(wanted) != sorted(_rows_then(found[name], names, every, {})):
            faults.append(f"{found[name].label}: its rows are not as planned")
    return found, faults


def _rows_then(
    table: Table, names: Sequence[str], rows: Iterable[int], edits: Mapping[int, Mapping[str, Any]]
) -> Iterator[tuple[str, ...]]:
    """Yield some rows with what is edited in them, as texts."""
    columns = {name: table.column(name).values for name in names}
    for row in rows:
        own = edits.get(row, {})
        yield tuple(str(own.get(name, values[row])) for name, values in columns.items())


def facts_then(reader: FactReader, save: Save, known: Known) -> Save:
    """Return a save with its facts as its pieces tell them now."""
    try:
        read = reader.read(save.fields, save.pieces, known)
    except FerryError as error:
        raise RefusedError(f"What it would be can't be read: {error.what}") from error
    return replace(save, facts=read.facts, problems=read.problems, notes=read.notes)
