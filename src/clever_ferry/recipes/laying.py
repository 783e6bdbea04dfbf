"""Laying: a save's neutral pieces dressed as an edition keeps them, with the slips it wants."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from clever_ferry.boxes import Put
from clever_ferry.cargo import DigestedPayload, Piece, Save
from clever_ferry.errors import RefusedError
from clever_ferry.naming import Value
from clever_ferry.payload import BytesPayload
from clever_ferry.recipes.edition import Edition, values_of
from clever_ferry.recipes.parts import PieceFile

__all__ = ["Laid", "lay", "lay_shared"]


class Laid(NamedTuple):
    """One piece as it will stand in the target; its payload's digest is known once it is read."""

    piece: Piece
    payload: DigestedPayload
    put: Put


def lay(
    edition: Edition,
    save: Save,
    fields: Mapping[str, Value],
    berth_fields: Mapping[str, Value],
    replaced: Save | None = None,
    turn: int = 1,
) -> list[Laid]:
    """Dress a save's pieces for an edition, under the names that `fields` give.

    What a header must say and the source does not, it takes from the save `replaced`.
    Pieces that this edition has no name for are left out; slips are made anew. `turn` is the
    save's generation, where the edition counts them. Raises NamingError where a
    name can't hold its fields, and RefusedError where two pieces would have one name.
    """
    known = {**berth_fields, **fields, **({edition.newest: turn} if edition.newest else {})}
    laid: list[Laid] = []
    names: dict[str, str] = {}
    said = {piece.key: piece.said for piece in (replaced.pieces if replaced else ())}
    for piece in save.pieces:
        file = edition.file_of(piece.role)
        if file is None or file.slip is not None or piece.describes:
            continue
        name = file.write({**known, **piece.fields})
        other = names.setdefault(name.casefold(), piece.title)
        if other != piece.title:
            raise RefusedError(f"The {piece.title} and the {other} would both be {name!r}.")
        if edition.barred(name):
            raise RefusedError(
                f"The {piece.title} would become {name!r}, which the recipe says is never "
                "to be touched."
            )
        payload = DigestedPayload(piece.payload)
        dressed = file.chain.dress(
            payload,
            {**known, **piece.fields},
            said={**said.get(piece.key, {}), **piece.said},
        )
        laid.append(Laid(piece, payload, Put(name, dressed, piece.stamp or 0)))
    for file in edition.files:
        for item in [one for one in laid if file.slip and one.piece.role == file.slip.of]:
            laid.append(_slip(file, item, {**values_of(save), **known}, said))
    return laid


def lay_shared(edition: Edition, piece: Piece, berth_fields: Mapping[str, Value]) -> Laid | None:
    """Dress a piece that all saves share; None where this edition has no such piece."""
    file = edition.file_of(piece.role)
    if file is None or not edition.pieces[piece.role].shared:
        return None
    known = {**berth_fields, **piece.fields}
    name = file.patterns[0].write(known)
    if edition.barred(name):
        raise RefusedError(f"{name} is never to be touched, as the recipe says.")
    payload = DigestedPayload(piece.payload)
    dressed = file.chain.dress(payload, known, said=piece.said)
    return Laid(piece, payload, Put(name, dressed, piece.stamp or 0))


def _slip(
    file: PieceFile, item: Laid, known: Mapping[str, Value],
    said: Mapping[Any, Mapping[str, Mapping[str, Any]]],
) -> Laid:  # fmt: skip
    """Make the slip of a piece that is laid."""
    assert file.slip is not None
    of = item.piece
    known = {**known, **of.fields}
    name = file.patterns[0].write(known)
    piece = Piece(
        file.role, of.fields, BytesPayload(b""), None, of.stamp, name, (), describes=of.role
    )
    values = said.get(piece.key, {})
    payload = DigestedPayload(file.slip.made(item.put.payload, of.payload, known, values))
    dressed = file.chain.dress(payload, known, said=values)
    return Laid(piece, payload, Put(name, dressed, of.stamp or 0))
