"""Handing a world over: a guest takes the host's place in it, and the host becomes a guest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from clever_ferry.cargo import Piece, Save
from clever_ferry.documents.document import FORMS, each_in, held, values_in, with_values
from clever_ferry.documents.form import Form
from clever_ferry.errors import NotFoundError, RefusedError, UnsupportedError
from clever_ferry.forms.recognising import ANY, document_of
from clever_ferry.payload import Payload, head
from clever_ferry.recipes import Game
from clever_ferry.recipes.agreeing import agreed_key
from clever_ferry.recipes.models import HandoverInfo

__all__ = ["guests_of", "handed_over", "host_of"]


def host_of(game: Game, save: Save) -> str:
    """Return who hosts a world, as its pieces say; raises UnsupportedError, RefusedError."""
    info = _info(game)
    if info.says is not None:
        piece = next((one for one in save.pieces if one.role == info.says.piece), None)
        names = _names(game, piece, info.says.at) if piece else []
    else:
        said = (piece.headers.get(agreed_key(info.named or ""), {}) for piece in save.pieces)
        names = [str(one["value"]) for one in said if "value" in one]
    if not names:
        raise RefusedError(f"{save.title} does not say who hosts it.")
    return names[0]


def guests_of(game: Game, save: Save) -> dict[str, Piece]:
    """Return the guests of a world who have a piece of their own, by name."""
    info = _info(game)
    each = game.pieces[info.guest].each or ""
    return {str(p.fields.get(each)): p for p in save.pieces if p.role == info.guest}


def handed_over(game: Game, save: Save, to: str) -> Save:
    """Return a world with the guest `to` in its host's place, and the host among the guests.

    Raises UnsupportedError where the recipe does not say how, NotFoundError where `to` is no
    guest of this world, and RefusedError where it is the host already.
    """
    info, host = _info(game), host_of(game, save)
    each = game.pieces[info.guest].each or ""
    guests = guests_of(game, save)
    if to.casefold() == host.casefold():
        raise RefusedError(f"{host} hosts {save.title} already.")
    name = next((one for one in guests if one.casefold() == to.casefold()), None)
    if name is None:
        others = ", ".join(sorted(guests.keys() - {host}))
        raise NotFoundError(
            f"{to} has never been in {save.title}, so there is no {info.guest} to make its host.",
            details=(f"There are: {others}." if others else "It has no guests.",),
            advice=f"Have {to} join the world once, and save.",
        )
    own = next((piece for piece in save.pieces if piece.role == info.host), None)
    if own is None and info.host is not None:
        raise RefusedError(f"{save.title} has no {info.host}, whose place could be taken.")
    pieces = []
    for piece in save.pieces:
        if own is not None and piece is own:
            piece = replace(guests[name], role=own.role, fields={})
        elif own is not None and piece is guests[name]:
            piece = replace(own, role=info.guest, fields={each: host})
        else:
            piece = _renamed(piece, game, host, name)
        pieces.append(piece)
    return replace(save, pieces=tuple(pieces))


def _info(game: Game) -> HandoverInfo:
    if game.handover is None:
        raise UnsupportedError(
            f"The recipe of {game.title} does not say how a world changes its host.",
            advice="If a world of it has a host, its recipe can say so: see `handover` in "
            "docs/recipes.md.",
        )
    return game.handover


def _renamed(piece: Piece, game: Game, host: str, guest: str) -> Piece:
    """Return a piece in which the new host and the old one have changed places."""
    info = _info(game)
    key = agreed_key(info.named or "")
    if key in piece.headers:
        piece = replace(piece,
            headers={**piece.headers, key: {**piece.headers[key], "value": guest}}
        )  # fmt: skip
    at = [one.at for one in info.places if one.piece == piece.role]
    if at:
        piece = replace(piece, payload=_exchanged(game, piece, at, {host: guest, guest: host}))
    return piece


def _form(game: Game, piece: Piece) -> Form | str:
    holds = game.pieces[piece.role].holds or ""
    if holds == ANY:
        holds = document_of(head(piece.payload, 4096))
    return game.forms.get(holds, holds if holds in FORMS else "json")


def _names(game: Game, piece: Piece, at: str) -> list[str]:
    (found,) = values_in(_form(game, piece), piece.payload, [at])
    return [str(one) for one in found if one is not None]


def _exchanged(game: Game, piece: Piece, at: Sequence[str], names: Mapping[str, str]) -> Payload:
    """Return a document in which some names at some places stand for each other."""
    form, source = _form(game, piece), held(piece.payload)
    every = each_in(form, source, at)
    new = [(node, names[str(node.value)]) for node in every if node.value in names]
    return with_values(form, source, new)
