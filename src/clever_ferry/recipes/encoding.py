"""Encoding: a save's neutral pieces wrapped as an edition keeps them, with its sidecars."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from clever_ferry.boxes import Put
from clever_ferry.cargo import DigestedPayload, Piece, Save
from clever_ferry.errors import RefusedError
from clever_ferry.layers import Known
from clever_ferry.naming import Value
from clever_ferry.payload import BytesPayload
from clever_ferry.recipes.edition import Edition, values_of
from clever_ferry.recipes.parts import PieceFile

__all__ = ["Encoded", "Encoding", "encode", "encode_shared"]


class Encoding(NamedTuple):
    """How one save is to be encoded: plain data, that can be carried out as often as one likes.

    Its pieces get the names that `fields` and what is `known` of the berth give. What a header must
    say and the source does not, it takes from the save `replaced`. `generation` is the
    save's, where the edition counts them.
    """

    edition: Edition
    save: Save
    fields: Mapping[str, Value]
    known: Known
    replaced: Save | None = None
    generation: int = 1


class Encoded(NamedTuple):
    """One piece as it will stand in the target; its payload's digest is known once it is read."""

    piece: Piece
    payload: DigestedPayload
    put: Put


def encode(asked: Encoding) -> list[Encoded]:
    """Wrap a save's pieces as its new edition keeps them; nothing is read yet.

    Pieces that the edition has no name for are left out; sidecars are made anew. Raises NamingError
    where a name can't hold its fields, and RefusedError where two pieces would have one name.
    """
    edition, save, fields, known, replaced, generation = asked
    known = known.of(fields, {edition.newest: generation} if edition.newest else {})
    encoded: list[Encoded] = []
    names: dict[str, str] = {}
    headers = {piece.key: piece.headers for piece in (replaced.pieces if replaced else ())}
    for piece in save.pieces:
        file = edition.file_of(piece.role)
        if file is None or file.sidecar is not None or piece.describes:
            continue
        own = known.of(piece.fields)
        name = file.write(own.fields)
        other = names.setdefault(name.casefold(), piece.title)
        if other != piece.title:
            raise RefusedError(f"The {piece.title} and the {other} would both be {name!r}.")
        if edition.barred(name):
            raise RefusedError(
                f"The {piece.title} would become {name!r}, which the recipe says is never "
                "to be touched."
            )
        payload = DigestedPayload(piece.payload)
        said = {**headers.get(piece.key, {}), **piece.headers}
        wrapped = file.chain.wrap(payload, own, headers=said)
        encoded.append(Encoded(piece, payload, Put(name, wrapped, piece.stamp or 0)))
    for file in edition.files:
        for item in [one for one in encoded if file.sidecar and one.piece.role == file.sidecar.of]:
            encoded.append(_sidecar(file, item, known, values_of(save), headers))
    return encoded


def encode_shared(edition: Edition, piece: Piece, known: Known) -> Encoded | None:
    """Wrap a piece that all saves share; None where this edition has no such piece."""
    file = edition.file_of(piece.role)
    if file is None or not edition.pieces[piece.role].shared:
        return None
    known = known.of(piece.fields)
    name = file.patterns[0].write(known.fields)
    if edition.barred(name):
        raise RefusedError(f"{name} is never to be touched, as the recipe says.")
    payload = DigestedPayload(piece.payload)
    wrapped = file.chain.wrap(payload, known, headers=piece.headers)
    return Encoded(piece, payload, Put(name, wrapped, piece.stamp or 0))


def _sidecar(
    file: PieceFile, item: Encoded, known: Known, facts: Mapping[str, Value],
    headers: Mapping[Any, Mapping[str, Mapping[str, Any]]],
) -> Encoded:  # fmt: skip
    """Make the sidecar of a piece that is encoded."""
    assert file.sidecar is not None
    of = item.piece
    known = known.of(of.fields)
    name = file.patterns[0].write(known.fields)
    piece = Piece(
        file.role, of.fields, BytesPayload(b""), None, of.stamp, name, (), describes=of.role
    )
    values = headers.get(piece.key, {})
    payload = DigestedPayload(
        file.sidecar.made(item.put.payload, of.payload, {**facts, **known.fields}, values)
    )
    wrapped = file.chain.wrap(payload, known, headers=values)
    return Encoded(piece, payload, Put(name, wrapped, of.stamp or 0))
