"""Encoding: a save's neutral pieces wrapped as an edition keeps them, with its sidecars."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import partial
from types import MappingProxyType
from typing import Any, NamedTuple

from msgspec.structs import replace

from clever_ferry.boxes import Put
from clever_ferry.cargo import DigestedPayload, Piece, Save, new_digest
from clever_ferry.errors import RefusedError
from clever_ferry.layers import Known
from clever_ferry.layers.chain import Blanking
from clever_ferry.layers.known import Arrived, Writing, Written
from clever_ferry.naming import Value
from clever_ferry.payload import BytesPayload, Payload
from clever_ferry.recipes.edition import Edition, values_of
from clever_ferry.recipes.parts import PieceFile

__all__ = ["Arrived", "Encoded", "Encoding", "encode", "encode_shared"]


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
    seed: bytes = b""
    """What new values in headers are made of."""


class Encoded(NamedTuple):
    """One piece as it will stand in the target; its payload's digest is known once it is read."""

    piece: Piece
    payload: DigestedPayload
    put: Put
    said: Mapping[str, Mapping[str, Any]] = MappingProxyType({})
    """What its headers say, by layout, but for what is computed over its bytes."""
    arrived: Sequence[Arrived] = ()
    """Where their fields came from that the recipe says that of."""


def encode(asked: Encoding, now: int) -> list[Encoded]:
    """Wrap a save's pieces as its new edition keeps them; nothing is read yet.

    `now` is the time of writing, in ns since 1970.
    Pieces that the edition has no name for are left out; sidecars are made anew. Raises NamingError
    where a name can't hold its fields, and RefusedError where two pieces would have one name.
    """
    edition, save, fields, known, replaced, generation, seed = asked
    turn = {edition.newest: generation} if edition.newest else {}
    known = known.of(fields, edition.parts_of({**known.fields, **fields}), turn)
    before = {piece.key: piece for piece in (replaced.pieces if replaced else ())}
    written = _Written(known, now, values_of(save), before, save.stamp, seed)
    names: dict[str, str] = {}
    waiting = []
    for piece in save.pieces:
        file = edition.file_of(piece.role)
        if file is None or file.sidecar is not None or piece.describes:
            continue
        name = file.write(known.of(piece.fields).fields)
        other = names.setdefault(name.casefold(), piece.title)
        if other != piece.title:
            raise RefusedError(f"The {piece.title} and the {other} would both be {name!r}.")
        if edition.barred(name):
            raise RefusedError(
                f"The {piece.title} would become {name!r}, which the recipe says is never "
                "to be touched."
            )
        waiting.append((file, piece, name))
    order = edition.in_order
    for file, piece, name in sorted(waiting, key=lambda one: order.index(one[0].role)):
        said = {**written.before_of(piece.key), **piece.headers}
        written.add(file, piece, name, DigestedPayload(piece.payload), said, piece.stamp)
    for file in sorted(edition.files, key=lambda one: order.index(one.role)):
        of = file.sidecar.of if file.sidecar is not None else ""
        for item in [one for one in written.encoded if of and one.piece.role == of]:
            _add_sidecar(written, file, item, known, values_of(save))
    place = {piece.key: at for at, piece in enumerate(save.pieces)}
    return sorted(written.encoded, key=lambda one: place.get(one.piece.key, len(place)))


class _Written:
    """The pieces of one save that are encoded so far; each may speak of those before it."""

    def __init__(
        self, known: Known, now: int, facts: Mapping[str, Value], before: Mapping[Any, Piece],
        stamp: int | None, seed: bytes,
    ) -> None:  # fmt: skip
        self._seed = seed
        self._stamp = now if stamp is None else stamp  # of a piece of which no time is known
        self._known, self._now, self._facts = known, now, facts
        self.before = before
        self._stages: dict[Any, dict[str, Payload]] = {}
        self.encoded: list[Encoded] = []

    def before_of(self, key: Any) -> Mapping[str, Mapping[str, Any]]:
        """Return what the like piece of the save that is replaced has said."""
        return self.before[key].headers if key in self.before else {}

    def add(
        self, file: PieceFile, piece: Piece, name: str, payload: DigestedPayload,
        headers: Mapping[str, Mapping[str, Any]], stamp: int | None,
    ) -> None:  # fmt: skip
        """Wrap one more."""
        stage = partial(self._stage, fields=piece.key[1])
        before = self.before_of(piece.key)
        random = partial(_random, self._seed + str(piece.key).encode())
        writing = Writing(
            self._now, self._facts, stage, self._pieces, before, piece.headers, random
        )
        known = replace(self._known.of(piece.fields), writing=writing)
        stages: dict[str, Payload] = {}
        wrapped = file.chain.wrap_into(payload, stages, known, headers=headers)
        self._stages[piece.key] = {**stages, "file": wrapped}
        put = Put(name, wrapped, self._stamp if stamp is None else stamp, known.values)
        self.encoded.append(Encoded(piece, payload, put, writing.said, writing.arrived))

    def _pieces(self, roles: Collection[str]) -> list[Written]:
        """Return the files of some roles that are encoded by now."""
        return [
            Written(one.put.name, one.piece.entry, self._stages[one.piece.key].__getitem__)
            for one in self.encoded
            if one.piece.role in roles
        ]

    def _stage(self, role: str, stage: str, fields: Any) -> Payload:
        """Return a piece's bytes: that of the same fields, as of the same player, or the only."""
        found = self._stages.get((role, fields)) or self._stages.get((role, ()))
        if found is None:
            raise RefusedError(
                f"The {role} is not among what is carried, and another piece speaks of its bytes."
            )
        return found[stage]


def _random(seed: bytes, what: str, count: int) -> bytes:
    """Return random bytes for a field, always the same for one seed."""
    running = new_digest()
    running.update(seed + what.encode())
    return running.digest(count)


def encode_shared(edition: Edition, piece: Piece, known: Known, now: int) -> Encoded | None:
    """Wrap a piece that all saves share; None where this edition has no such piece.

    `now` is the time of writing, in ns since 1970.
    """
    file = edition.file_of(piece.role)
    if file is None or not edition.pieces[piece.role].shared:
        return None
    known = known.of(piece.fields)
    name = file.patterns[0].write(known.fields)
    if edition.barred(name):
        raise RefusedError(f"{name} is never to be touched, as the recipe says.")
    payload = DigestedPayload(piece.payload)
    wrapped = file.chain.wrap(payload, known, headers=piece.headers)
    return Encoded(piece, payload, Put(name, wrapped, now if piece.stamp is None else piece.stamp))


def _add_sidecar(
    written: _Written, file: PieceFile, item: Encoded, known: Known, facts: Mapping[str, Value]
) -> None:
    """Make the sidecar of a piece that is encoded."""
    assert file.sidecar is not None
    of = item.piece
    known = known.of(of.fields)
    name = file.patterns[0].write(known.fields)
    piece = Piece(
        file.role, of.fields, BytesPayload(b""), None, of.stamp, name, (), describes=of.role
    )
    values, was = written.before_of(piece.key), written.before.get(piece.key)
    before = was.payload if was is not None else None
    payload = file.sidecar.made(
        item.put.payload, of.payload, {**facts, **known.fields}, values, before
    )
    for layer in file.chain.layers:
        if isinstance(layer, Blanking):
            payload = layer.blanked(payload)
    written.add(file, piece, name, DigestedPayload(payload), values, of.stamp)
