"""What columns of a database repeat: fields of a save's names, or facts that it is known by."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from clever_ferry.drafting.facts import FactDraft
from clever_ferry.drafting.sides import Piece, Side

__all__ = ["repeated"]

_Known = dict[str, dict[str, object]]
"""By entries' names, what is known of their saves: fields and facts."""


def repeated(side: Side, facts: Sequence[FactDraft]) -> None:
    """Say which columns repeat a field or a fact, and in doubt which of them nobody knows."""
    box = side.box
    if box is None or not box.repeating:
        return
    known = _fields(side)
    for fact in facts:
        for piece in side.pieces:
            if piece.role == fact.spec["from"] and not fact.layout:
                _note(known, piece, fact)
    for (table, column), values in box.repeating.items():
        rows = box.format if table == box.format["table"] else box.format["beside"][table]
        names = dict.fromkeys(name for path in values for name in known.get(path, {}))
        told = next((name for name in names if all(
            _same(value, known.get(path, {}).get(name)) for path, value in values.items()
        )), None)  # fmt: skip
        if told is not None:
            rows.setdefault("repeats", {})[column] = told
        else:
            side.doubts.append(
                f"the column {column} of the table {table} is not clear: it stays as it is, and "
                "has nothing in what is new"
            )


def _fields(side: Side) -> _Known:
    known: _Known = {}
    for piece in side.pieces:
        for local, name in piece.names.items():
            number = side.fields[name]["type"] == "number"
            texts = piece.kind.names.fields.get(local, ())
            for path, text in zip(piece.kind.names.paths, texts, strict=False):
                known.setdefault(path, {})[name] = int(text) if number else text
    return known


def _note(known: _Known, piece: Piece, fact: FactDraft) -> None:
    """Note a fact of each save with the entries whose names agree with those of its piece."""
    told = piece.places.get(str(fact.spec["at"]), ())
    for sample, value in zip(piece.kind.samples, told, strict=False):
        own = dict(known.get(sample.path, {}))
        for fields in known.values():
            common = fields.keys() & own.keys() - {fact.name}
            if common and all(fields[one] == own[one] for one in common):
                fields[fact.name] = value


def _same(value: Any, told: object) -> bool:
    """Tell whether a column says the same; a fact of a text is known as that text."""
    if isinstance(value, int) and isinstance(told, str):
        return told == str(value)
    return value is not None and value == told
