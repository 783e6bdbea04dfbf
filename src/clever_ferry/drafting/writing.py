"""A draft as a recipe's text, laid out as a person would write it, with its evidence."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from clever_ferry.drafting.facts import FactDraft
from clever_ferry.drafting.pairing import Paired
from clever_ferry.drafting.sides import Piece, Side

__all__ = ["recipe_text"]

_WIDE = 96


def recipe_text(
    ident: str, sides: Sequence[Side], pairs: Sequence[Paired], facts: Sequence[FactDraft],
    berths: Mapping[str, dict[str, str]],
) -> str:  # fmt: skip
    """Return a recipe for one game, whose editions are the sides."""
    return "\n".join(_lines(ident, sides, pairs, facts, berths)) + "\n"


def _lines(
    ident: str, sides: Sequence[Side], pairs: Sequence[Paired], facts: Sequence[FactDraft],
    berths: Mapping[str, dict[str, str]],
) -> Iterator[str]:  # fmt: skip
    title = ident.replace("-", " ").title()
    yield f"# {title}, as `cferry draft` saw it. Read it, mend what you know better, and try it:"
    yield f"# cferry recipe check {ident}.toml" + "".join(f' --try "{one.root}"' for one in sides)
    for side in sides:
        for doubt in side.doubts:
            yield f"# In doubt ({side.ident}): {doubt}."
    yield "recipe = 1"
    yield ""
    yield "[game]"
    yield f"id = {_value(ident)}"
    yield f"title = {_value(title)}"
    yield ""
    yield "[pieces]"
    why = {one.first.role: one.why for one in pairs}
    for role, pieces in _by_role(sides).items():
        spec: dict[str, Any] = {}
        if len(pieces) == len(sides) and all(one.needed for one in pieces):
            spec["needed"] = True
        if pieces[0].each:
            spec["each"] = pieces[0].each
        if pieces[0].shared:
            spec["shared"] = True
        holds = {one.holds for one in pieces}
        if len(holds) == 1 and (form := holds.pop()):
            spec["holds"] = form
        note = f"  # {why[role]}" if why.get(role) else ""
        if len(sides) > 1 and len(pieces) == 1:
            note = "  # in one edition alone"
        yield f"{role} = {_value(spec)}{note}"
    if facts:
        yield ""
        yield "[facts]"
        for fact in facts:
            note = f"  # {fact.note}" if fact.note else ""
            yield f"{fact.name} = {_value(fact.spec)}{note}"
    for side in sides:
        yield from _edition(side, berths[side.ident])
    yield from _wrappings(sides, facts)


def _by_role(sides: Sequence[Side]) -> dict[str, list[Piece]]:
    found: dict[str, list[Piece]] = {}
    for side in sides:
        for piece in side.pieces:
            found.setdefault(piece.role, []).append(piece)
    return found


def _edition(side: Side, berth: Mapping[str, str]) -> Iterator[str]:
    yield ""
    yield f"[editions.{side.ident}]"
    yield f"title = {_value(side.ident.replace('-', ' ').title())}"
    yield f"berths = [{_value(dict(berth))}]"
    if side.most_slots:
        yield f"most_slots = {side.most_slots}  # as you said"
    if side.rebuilt:
        yield f"rebuilt = {_value(side.rebuilt)}"
    box = _value(side.box.format) if side.box is not None else ""
    short = side.box is not None and not side.box.layouts and len(box) < _WIDE
    if short:
        yield f"format = {box}"
    yield "files = ["
    for piece in side.pieces:
        spec: dict[str, Any] = {"role": piece.role, "path": piece.path}
        layers = [f"{side.ident}-{piece.role}"] if piece.wrapped.steps else []
        card = piece.card
        if card is not None and card.values:
            layers.append(f"{side.ident}-{piece.role}-says")
        if layers:
            spec["layers"] = layers
        if card is not None and card.of:
            spec["describes"] = card.of
            spec |= (
                {"template": card.template} if card.template
                else {"layout": f"{side.ident}-{piece.role}"}
            )  # fmt: skip
        seen = len(piece.kind.names.paths)
        yield f"  {_value(spec)},  # seen {seen} {'time' if seen == 1 else 'times'}"
    yield "]"
    yield ""
    yield f"[editions.{side.ident}.fields]"
    for name, spec in side.fields.items():
        yield f"{name} = {_value(spec)}  # {side.notes[name]}"
    if side.box is not None and not short:
        yield from _tables(f"editions.{side.ident}.format", side.box.format)


def _tables(title: str, spec: Mapping[str, Any]) -> Iterator[str]:
    """Yield a table of a recipe; those in it that hold others have tables of their own."""
    deep = {
        key: one for key, one in spec.items()
        if isinstance(one, dict) and any(isinstance(inner, dict) for inner in one.values())
    }  # fmt: skip
    yield ""
    yield f"[{title}]"
    for key, one in spec.items():
        if key not in deep:
            yield f"{key} = {_value(one)}"
    for key, one in deep.items():
        yield from _tables(f"{title}.{key}", one)


def _wrappings(sides: Sequence[Side], facts: Sequence[FactDraft]) -> Iterator[str]:
    pieces = [(side, piece) for side in sides for piece in side.pieces]
    every = [(side, piece) for side, piece in pieces if piece.wrapped.steps]
    cards = [(side, piece, piece.card) for side, piece in pieces if piece.card is not None]
    if every or any(card.values for _, _, card in cards):
        yield ""
        yield "[layers]"
    for side, piece, card in cards:
        if card.values:
            name, kind = (
                f"{side.ident}-{piece.role}-says",
                f'kind = "agrees", holds = "{_holds(side, piece)}"',
            )
            yield f"{name} = [{{ {kind}, values = ["
            notes = [""] * len(card.values) if card.spelled else card.notes
            for value, note in zip(card.values, notes, strict=True):
                yield f"  {_value(value)}," + (f"  # {note}" if note else "")
            yield "] }]"
    for side, piece in every:
        prefix = f"{side.ident}-{piece.role}-"
        steps = [
            dict(_told(key, value, prefix) for key, value in one.items())
            for one in piece.wrapped.steps
        ]
        for name, layers in piece.wrapped.inner.items():
            yield f"{prefix}{name} = [{', '.join(map(_value, layers))}]"
        line = f"{side.ident}-{piece.role} = [{', '.join(map(_value, steps))}]"
        if len(line) <= _WIDE:
            yield line
            continue
        yield f"{side.ident}-{piece.role} = ["
        for step in steps:
            yield f"  {_value(step)},"
        yield "]"
    for side, piece in every:
        prefix = f"{side.ident}-{piece.role}-"
        for name, fields in piece.wrapped.layouts.items():
            yield ""
            yield f"[layouts.{prefix}{name}]"
            yield from _fields(fields, piece.wrapped.notes[name])
    for side, piece, card in cards:
        if card.fields:
            yield ""
            yield f"[layouts.{side.ident}-{piece.role}]"
            yield from _fields(card.fields, card.notes)
    for side in sides:
        for name, laid in (side.box.layouts if side.box is not None else {}).items():
            yield ""
            yield f"[layouts.{name}]"
            yield from _fields(laid.fields, laid.notes)
    for fact in facts:
        if fact.layout:
            yield ""
            yield f"[layouts.{fact.spec['layout']}]"
            yield from _fields(fact.layout, [""] * len(fact.layout))


def _holds(side: Side, piece: Piece) -> str:
    """Return of which form a card is: a layout of its own, where it is one text."""
    spelled = piece.card is not None and piece.card.spelled
    return f"{side.ident}-{piece.role}" if spelled else piece.holds


def _told(key: str, value: Any, prefix: str) -> tuple[str, Any]:
    """Return a layer's key as a recipe has it, where it names a layout or layers of this piece."""
    if key == "within":
        return "layers", [f"{prefix}{value}"]
    if key == "layout":
        chunk = str(value).startswith("chunk-")
        return ("header" if chunk else "layout"), f"{prefix}{value}"
    return key, value


def _fields(fields: Sequence[Mapping[str, Any]], notes: Sequence[str]) -> Iterator[str]:
    yield "fields = ["
    for one, note in zip(fields, notes, strict=True):
        said = f"  # {note}" if note else ""
        yield f"  {_value(dict(one))},{said}"
    yield "]"


def _value(value: Any) -> str:
    """Return a value as TOML has it."""
    if isinstance(value, dict):
        return (
            "{ " + ", ".join(f"{key} = {_value(one)}" for key, one in value.items()) + " }"
            if value
            else "{}"
        )
    if isinstance(value, list | tuple):
        return f"[{', '.join(map(_value, value))}]"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    return json.dumps(str(value), ensure_ascii=False).replace("\x7f", "\\u007F")
