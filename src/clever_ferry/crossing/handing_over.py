"""Handing a world over: a guest takes the host's place in it, and the host becomes a guest."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence

from msgspec.structs import replace

from clever_ferry.cargo import Piece, Save
from clever_ferry.errors import NotFoundError, RefusedError, UnsupportedError
from clever_ferry.layers.places import find_places, read_text, replaced
from clever_ferry.payload import Payload, StreamPayload
from clever_ferry.recipes import Game
from clever_ferry.recipes.models import HandoverInfo

__all__ = ["guests_of", "handed_over", "host_of"]


def host_of(game: Game, save: Save) -> str:
    """Return who hosts a world, as its pieces say; raises UnsupportedError, RefusedError."""
    info = _info(game)
    if info.says is not None:
        piece = next((one for one in save.pieces if one.role == info.says.piece), None)
        names = _names(piece.payload, info.says.at) if piece else []
    else:
        said = (piece.said.get(f"identity {info.named}", {}) for piece in save.pieces)
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
            piece = _renamed(piece, info, host, name)
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


def _renamed(piece: Piece, info: HandoverInfo, host: str, guest: str) -> Piece:
    """Return a piece in which the new host and the old one have changed places."""
    key = f"identity {info.named}"
    if key in piece.said:
        piece = replace(piece,
            said={**piece.said, key: {**piece.said[key], "value": guest}}
        )  # fmt: skip
    at = [one.at for one in info.places if one.piece == piece.role]
    if at:
        piece = replace(piece, payload=_exchanged(piece.payload, at, {host: guest, guest: host}))
    return piece


def _names(payload: Payload, at: str) -> list[str]:
    return [str(place.value) for place in find_places(read_text(payload), "json", [at])]


def _exchanged(payload: Payload, at: Sequence[str], names: Mapping[str, str]) -> Payload:
    """Return a JSON text in which some names at some places stand for each other."""

    def written() -> Iterator[bytes]:
        text = read_text(payload)
        places = [one for one in find_places(text, "json", at) if one.value in names]
        new = [json.dumps(names[str(one.value)], ensure_ascii=False) for one in places]
        yield replaced(text, places, new)

    return StreamPayload(written)
