"""What players know a save by, found in its texts by names that people give it, or by its value."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from clever_ferry.drafting.sides import Piece, Side

__all__ = ["FactDraft", "facts_of"]

_WORDS: tuple[tuple[str, str, str | None, tuple[str, ...]], ...] = (
    ("name", "Name", None, ("name", "title", "save_name", "world_name")),
    ("day", "Day", "count", ("day", "days", "date")),
    ("level", "Level", "count", ("level", "lvl", "chapter")),
    ("time", "Played", "s", ("seconds", "played", "playtime", "play_time", "time_played")),
    ("money", "Money", "count", ("money", "coins", "gold", "credits", "cash")),
    ("version", "Version", "version", ("version", "game_version", "made_by", "game")),
)  # fmt: skip
_FURTHEST = 60_000
"""Bytes that a fact's layout sees, and some to spare."""


class FactDraft(Struct, frozen=True):
    """A fact, as a recipe says it."""

    name: str
    spec: Mapping[str, Any]
    note: str
    layout: tuple[dict[str, Any], ...] = ()
    """The fields of its layout, where it stands in no document."""


def facts_of(sides: Sequence[Side]) -> list[FactDraft]:
    """Return facts: those that the player has told first, then those that texts call so.

    They are read from roles that all sides have, at places at which all of them have something.
    """
    found: dict[str, FactDraft] = {}
    for side in sides:
        for piece in side.pieces:
            for value in piece.kind.values:
                name = re.sub("[^a-z0-9_]", "_", value.name.lower()).strip("_") or "fact"
                way = value.ways[0]
                if (
                    name in found
                    or not way.sure
                    or not _everywhere(piece, sides, way.spec.get("at"))
                ):
                    continue
                seen = f"as the menu shows it: {', '.join(value.shown[:3])}"
                if "at" in way.spec:
                    spec = {
                        "label": value.name.capitalize(),
                        "from": piece.role,
                        "at": way.spec["at"],
                    }
                    unit = {"unit": way.spec["unit"]} if "unit" in way.spec else {}
                    found[name] = FactDraft(name, {**spec, **unit}, seen)
                elif made := _in_layout(name, value.name, piece, way.spec, seen):
                    found[name] = made
    for name, label, told, words in _WORDS:
        if name not in found and (made := _by_word(name, label, told, words, sides)):
            found[name] = made
    return list(found.values())


def _everywhere(piece: Piece, sides: Sequence[Side], place: object) -> bool:
    others = [one for side in sides for one in side.pieces if one.role == piece.role]
    return len(others) == len(sides) and (
        place is None or all(not one.places or place in one.places for one in others)
    )


def _in_layout(
    name: str, label: str, piece: Piece, spec: Mapping[str, Any], seen: str
) -> FactDraft | None:
    at, kind = int(spec.get("byte", -1)), str(spec.get("type", ""))
    if not 0 <= at < _FURTHEST or not re.fullmatch("[uf][0-9]+", kind):
        return None
    fields: list[dict[str, Any]] = []
    if at:
        fields.append({"type": "bytes", "name": "before", "size": at})
    order = {"order": spec["order"]} if kind != "u8" else {}
    fields.append({"type": kind, "name": name, **order})
    unit = {"unit": spec["unit"]} if "unit" in spec else {}
    told = {
        "label": label.capitalize(),
        "from": piece.role,
        "layout": f"{name}-place".replace("_", "-"),
        "at": f"/{name}",
        **unit,
    }
    return FactDraft(name, told, seen, tuple(fields))


def _by_word(
    name: str, label: str, unit: str | None, words: Sequence[str], sides: Sequence[Side]
) -> FactDraft | None:
    for word in words:
        for piece in sides[0].pieces:
            if piece.shared or piece.each:
                continue
            places = [
                one for one in piece.places if one.rpartition("/")[2].lower().lstrip("@") == word
            ]
            for place in sorted(places, key=lambda one: (one.count("/"), len(one))):
                values = piece.places[place]
                if _fits(name, values) and _everywhere(piece, sides, place):
                    more = {"unit": unit} if unit else {}
                    spec = {"label": label, "from": piece.role, "at": place, **more}
                    return FactDraft(name, spec, f"by its name; seen: {', '.join(values[:3])}")
    return None


def _fits(name: str, values: Sequence[str]) -> bool:
    if name == "name":
        return all(values)
    if name == "version":
        return all(re.fullmatch(r"v?\d+(\.\d+)+", one) for one in values)
    return all(re.fullmatch(r"\d+(\.\d+)?", one) for one in values)
