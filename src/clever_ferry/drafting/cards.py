"""Files that only describe others: cards with their sizes, checksums, slots, owners.

And places in documents at which a slot or an owner stands, which each edition has for its own.
"""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from clever_ferry.drafting.facts import FactDraft
from clever_ferry.drafting.sides import Card, Piece, Side
from clever_ferry.drafting.wrapping import Wrapped, fields_of
from clever_ferry.layouts.digests import DIGEST_BYTES
from clever_ferry.studying.budget import Budget
from clever_ferry.studying.checksums import WIDTHS, digest
from clever_ferry.studying.guess import Guess, Place
from clever_ferry.studying.heads import guess_straight
from clever_ferry.studying.names import above

__all__ = ["cards_in"]

_LONGEST, _FEWEST = 1024, 2
_TEXT = re.compile(rb"[ -~]{1,256}(\r?\n)?")
_LINE = re.compile("([^\r\n]+)")
_WORD = re.compile("([A-Za-z0-9]+)")
_DOCUMENTS = ("json", "relaxed-json", "xml", "ini", "properties", "toml", "yaml")
_TELLING = ("slot", "index", "number", "no", "id", "save", "file")
_LARGEST_SLOW = 1 << 18
_QUICK = ("crc32", "adler32", "md5", "sha1", "sha256")


def cards_in(
    side: Side, paired: set[int], facts: Sequence[FactDraft], budget: Budget
) -> list[FactDraft]:
    """Note on pieces which only describe others, and which say something of their own save.

    `paired` are those that the other side has, too, which are carried (by `id`). Returns the facts
    that a card has to be told and that nobody has named yet.
    """
    told: dict[str, FactDraft] = {}
    for piece in side.pieces:
        if piece.shared or piece.each or len(piece.kind.samples) < _FEWEST:
            continue
        budget.begin(f"what the {piece.role} says of others")
        others = [
            one for one in side.pieces if one is not piece and not one.shared and not one.each
        ]
        alone = id(piece) not in paired
        every = [*facts, *told.values()]
        mine = [one for one in others if id(one) in paired]
        more = _possible(mine, every) if alone else []
        known = _facts(piece, side, [*every, *more])
        card = _of_text(piece, others, mine, side, known) if alone else None
        if card is not None:
            piece.card, piece.holds, piece.wrapped = card, "", Wrapped()
        elif piece.holds in _DOCUMENTS and len(piece.kind.stages) == 1:
            piece.card = _of_document(piece, others if alone else [], side, known)
        elif alone and piece.holds == "" and len(piece.kind.stages) == 1:
            piece.card = _of_bytes(piece, others, side, known, budget)
        if piece.card is not None and piece.card.of:
            piece.needed = False
            used = {one.get("fact") for one in piece.card.values}
            used |= {one.get("bound") for one in piece.card.fields}
            told |= {one.name: one for one in more if one.name in used}
    return list(told.values())


def _possible(pieces: Sequence[Piece], facts: Sequence[FactDraft]) -> list[FactDraft]:
    """Return the numbers of documents that are carried, as facts that a card may repeat."""
    places = {(str(one.spec["from"]), str(one.spec.get("at"))) for one in facts}
    taken = {one.name for one in facts}
    found: list[FactDraft] = []
    for piece in pieces:
        for place, values in piece.places.items():
            name = re.sub("[^a-z0-9]+", "_", place.rpartition("/")[2].lower()).strip("_")
            plain = len(set(values)) > 1 and all(one.isdecimal() for one in values)
            if (
                not plain
                or (piece.role, place) in places
                or name in taken
                or not name[:1].isalpha()
            ):
                continue
            taken.add(name)
            spec = {"label": name.replace("_", " ").capitalize(), "from": piece.role, "at": place,
                    "unit": "count"}  # fmt: skip
            found.append(FactDraft(name, spec, f"seen: {', '.join(values[:3])}"))
    return found


def _facts(piece: Piece, side: Side, facts: Sequence[FactDraft]) -> dict[str, tuple[str, ...]]:
    """Return what facts are in the saves that a piece has, where all of them are known."""
    found: dict[str, tuple[str, ...]] = {}
    for fact in facts:
        for other in side.pieces:
            values = other.places.get(str(fact.spec.get("at")))
            if other is piece or other.role != fact.spec["from"] or values is None:
                continue
            own = dict(zip(_keys(other), values, strict=False))
            if all(key in own for key in _keys(piece)):
                found[fact.name] = tuple(own[key] for key in _keys(piece))
    return found


def _keys(piece: Piece) -> list[tuple[object, ...]]:
    """Return of which save each file is that was looked at: what its name has, by the recipe."""
    at = {path: number for number, path in enumerate(piece.kind.names.paths)}
    columns = [
        (piece.names.get(name, name), values)
        for name, values in sorted(piece.kind.names.fields.items(), key=lambda one: one[0])
    ]
    return [
        tuple(
            (name, int(text) if text.isdecimal() else text)
            for name, values in sorted(columns) for text in [values[at[sample.path]]]
        )
        for sample in piece.kind.samples
    ]  # fmt: skip


# Bytes ----------------------------------------------------------------------------------------


def _of_bytes(
    piece: Piece, others: Sequence[Piece], side: Side, facts: Mapping[str, tuple[str, ...]],
    budget: Budget,
) -> Card | None:  # fmt: skip
    """Return the layout of files of one size that say a size or a checksum of another piece."""
    rows = piece.kind.inside[0]
    size = len(rows[0])
    if not 0 < size <= _LONGEST or any(len(one) != size for one in rows):
        return None
    for other in others:
        own = dict(zip(_keys(other), range(len(other.kind.samples)), strict=True))
        at = [own[key] for key in _keys(piece) if key in own]
        if len(at) < len(rows):
            continue
        bodies = [
            {"payload": other.kind.inside[-1][one], "inside": other.kind.inside[0][one]}
            for one in at
        ]
        known = _place(piece, side, facts, bodies)
        guesses = guess_straight(rows, bodies, known, budget, size)
        spoken = [one for one in guesses if one.kind in ("size", "checksum") and one.sure]
        if not any(one.spec.get("computed") for one in spoken):
            continue
        names = {**piece.names, **{name: name for name in facts}, "account": "account"}
        made = fields_of([_mended(one) for one in guesses], "1", names, side.firsts)
        _doubt(side, piece, [str(one["name"]) for one in made.lost])
        return Card(other.role, made.fields, made.notes)
    return None


def _mended(guess: Guess) -> Guess:
    """Return a guess as a card has it: a size of what there is anyhow is of the payload."""
    spec = dict(guess.spec)
    if spec.get("computed", {}).get("of") not in (None, "payload", "inside", "before"):
        return replace(guess, kind="differs", spec={})
    return guess


def _place(
    piece: Piece, side: Side, facts: Mapping[str, tuple[str, ...]],
    bodies: Sequence[Mapping[str, bytes]],
) -> Place:  # fmt: skip
    kind = piece.kind
    at = {path: number for number, path in enumerate(kind.names.paths)}
    own = [at[one.path] for one in kind.samples]
    texts = {name: tuple(values[one] for one in own) for name, values in kind.names.fields.items()}
    texts |= {name: (text,) * len(own) for name, text in above(str(side.root)).items()}
    every = {**texts, **facts}
    numbers = {
        name: tuple(map(int, values)) for name, values in every.items()
        if all(one.isascii() and one.isdecimal() and len(one) < 19 for one in values)
    }  # fmt: skip
    sizes = {name: tuple(len(body[name]) for body in bodies) for name in ("payload", "inside")}
    return Place(sizes, numbers, texts, {}, tuple(one.stamp for one in kind.samples))


def _doubt(side: Side, piece: Piece, lost: Sequence[str]) -> None:
    if lost:
        side.doubts.append(
            f"what the {piece.role} says at {', '.join(lost[:4])} is not clear: it stays as the "
            "replaced save has it"
        )


# Texts ----------------------------------------------------------------------------------------


def _of_text(
    piece: Piece, others: Sequence[Piece], paired: Sequence[Piece], side: Side,
    facts: Mapping[str, tuple[str, ...]],
) -> Card | None:  # fmt: skip
    """Return the card of files that are one short text, in which words follow from their save."""
    raws = piece.kind.inside[0]
    if not paired or len(set(raws)) < _FEWEST or any(not _TEXT.fullmatch(one) for one in raws):
        return None
    spoken = {value: one for other in others for value, one in _spoken(piece, other).items()}
    for cut in (_LINE, _WORD):  # as a whole, a text may be a name of more words
        every = [cut.split(one.decode()) for one in raws]
        parts = list(zip(*every, strict=False))
        if len({len(one) for one in every}) > 1 or any(len(set(one)) > 1 for one in parts[::2]):
            continue  # what is between the words differs
        if (card := _of_parts(parts, piece, Card(paired[0].role), side, spoken, facts)) is not None:
            return card
    return None


def _of_parts(
    parts: Sequence[tuple[str, ...]], piece: Piece, card: Card, side: Side,
    spoken: Mapping[tuple[str, ...], Spoken], facts: Mapping[str, tuple[str, ...]],
) -> Card | None:  # fmt: skip
    """Return the card of texts that were cut into words and what is between them."""
    lost, before = [], ""
    for values in parts:
        if len(set(values)) == 1:
            before += values[0]
            card.template += values[0]
            continue
        _end(card, before)
        before = ""
        number = all(one.isdecimal() and str(int(one)) == one for one in values)
        name, told = _word(values, piece, side, spoken, facts, number=number)
        taken = {one.get("name") for one in card.fields}
        name = next(one for one in (name, *(f"{name}_{n}" for n in range(2, 99)))
                    if one not in taken)  # fmt: skip
        if told:
            card.values.append({"at": f"/{name}", **told})
            card.of = told.get("piece", card.of)
        else:
            lost.append(name)
        field = {"type": "text", "name": name, "size": "rest"}
        card.fields.append(field | ({"number": "decimal"} if number else {}))
        card.notes.append(f"seen: {', '.join(values[:3])}")
        card.template += "0" if number else re.sub("[0-9A-Fa-f]", "0", values[0])
    _end(card, before)
    if not card.values:
        return None
    card.spelled = True
    _doubt(side, piece, lost)
    return card


def _end(card: Card, text: str) -> None:
    """Put what is between two words into a card's layout: the first sign of it ends the one."""
    if text and card.fields:
        del card.fields[-1]["size"]
        card.fields[-1]["ends"], text = text[0], text[1:]
    if text:
        card.fields.append({"type": "magic", "text": text})
        card.notes.append("")


def _word(
    values: tuple[str, ...], piece: Piece, side: Side, spoken: Mapping[tuple[str, ...], Spoken],
    facts: Mapping[str, tuple[str, ...]], *, number: bool,
) -> tuple[str, dict[str, Any]]:  # fmt: skip
    """Return what a word is called in a layout, and what it follows from; {} where from nothing."""
    if values in spoken:
        other, stage, what, how = spoken[values]
        spelled = {} if number else {"spelled": how}
        return what, {"piece": other.role, "what": what, **_stage(other, stage), **spelled}
    if (own := _own(piece, side, f"/{piece.role}", values, text=not number)) is not None:
        return str(own["field"]), {key: one for key, one in own.items() if key != "at"}
    fact = next((name for name, seen in facts.items() if seen == values), "")
    return fact or "word", {"fact": fact} if fact else {}


# Documents ------------------------------------------------------------------------------------


def _of_document(
    piece: Piece, others: Sequence[Piece], side: Side, facts: Mapping[str, tuple[str, ...]]
) -> Card | None:
    """Return what in a document follows from its save; a card, where it speaks of other pieces."""
    card = Card()
    lost: list[str] = []
    spoken = {value: one for other in others for value, one in _spoken(piece, other).items()}
    for place, values in piece.places.items():
        if len(values) < len(piece.kind.samples) or "," in place:
            continue
        text = _is_text(piece, place)
        said = spoken.get(values)
        if said is not None:
            other, stage, what, how = said
            plain = not text and how == "decimal"
            card.values.append({
                "at": place, "piece": other.role, "what": what, **_stage(other, stage),
                **({} if plain else {"spelled": how}),
            })  # fmt: skip
            card.notes.append(f"seen: {', '.join(values[:3])}")
            card.of = card.of or other.role
        elif (own := _own(piece, side, place, values, text=text)) is not None:
            card.values.append(own)
            card.notes.append(f"seen: {', '.join(values[:3])}")
        elif others and len(set(values)) > 1:
            fact = next((name for name, told in facts.items() if told == values), None)
            if fact is not None:
                spelled = {"spelled": "decimal"} if text and values[0].isdecimal() else {}
                card.values.append({"at": place, "fact": fact, **spelled})
                card.notes.append(f"seen: {', '.join(values[:3])}")
            else:
                lost.append(place)
    if card.of:
        card.template = piece.kind.inside[0][0].decode("utf-8", "replace")
        _doubt(side, piece, lost)
        return card
    if others:  # it stands for itself: nobody has its like, and it speaks of nobody
        card.values = [one for one in card.values if "field" in one]
    return card if card.values else None


def _own(
    piece: Piece, side: Side, place: str, values: Sequence[str], *, text: bool
) -> dict[str, Any] | None:
    """Return which of its save's names stands at a place, as a recipe says it."""
    at = {path: number for number, path in enumerate(piece.kind.names.paths)}
    own = [at[one.path] for one in piece.kind.samples]
    columns = {
        piece.names[name]: [told[one] for one in own]
        for name, told in piece.kind.names.fields.items() if name in piece.names
    }  # fmt: skip
    if side.account:
        columns["account"] = [side.account] * len(own)
    word = place.rpartition("/")[2].lstrip("@").lower()
    for name, told in columns.items():
        spec = side.fields.get(name, {})
        if spec.get("type") == "number":
            if not all(one.isdecimal() for one in values):
                continue
            more = {int(value) - int(one) for value, one in zip(values, told, strict=True)}
            telling = len(set(told)) > 2 or (len(set(told)) > 1 and word in _TELLING)
            if len(more) > 1 or abs(by := more.pop()) > 1 or not telling:
                continue
            plus = by + int(spec.get("first", 1)) - 1
            wide = {"digits": len(values[0])} if values[0].startswith("0") else {}
            spelled = {"spelled": "decimal", **wide} if text else {}
            return {"at": place, "field": name, **({"plus": plus} if plus else {}), **spelled}
        if list(values) == told and min(map(len, told)) > 5:
            return {"at": place, "field": name}
    return None


Spoken = tuple[Piece, tuple[int, bool], str, str]
"""A piece, its stage (and whether within what is around it), what it is, how it is spelled."""


def _spoken(piece: Piece, other: Piece) -> dict[tuple[str, ...], Spoken]:
    """Return what a document may say of another piece: its sizes and checksums, spelled out."""
    own = dict(zip(_keys(other), range(len(other.kind.samples)), strict=True))
    keys = _keys(piece)
    if any(key not in own for key in keys):
        return {}
    found: dict[tuple[str, ...], Spoken] = {}
    for stage, datas in _stages(other):
        data = [datas[own[key]] for key in keys]
        sizes = [len(one) for one in data]
        if len(set(sizes)) > 1 or sizes[0] > 9:
            found.setdefault(tuple(map(str, sizes)), (other, stage, "size", "decimal"))
        slow = max(sizes) > _LARGEST_SLOW
        for what in _QUICK if slow else WIDTHS:
            if WIDTHS[what] < 4:
                continue
            for spelled, told in _spellings(what, data):
                found.setdefault(told, (other, stage, what, spelled))
    return found


def _stages(piece: Piece) -> Iterator[tuple[tuple[int, bool], Sequence[bytes]]]:
    """Yield the bytes of a piece's files at each stage, and within what is around them there."""
    for number, stage in enumerate(piece.kind.stages):
        datas = piece.kind.inside[number]
        yield (number, False), datas
        step = stage.step
        if step is not None and step.fronts and any((*step.fronts, *step.backs)):
            yield (
                (number, True),
                [
                    one[len(front) : len(one) - len(back)]
                    for one, front, back in zip(datas, step.fronts, step.backs, strict=True)
                ],
            )


def _spellings(what: str, data: Sequence[bytes]) -> Iterator[tuple[str, tuple[str, ...]]]:
    values = [digest(what, one) for one in data]
    if what in DIGEST_BYTES:
        raws = [bytes(one) for one in values if isinstance(one, bytes)]
        yield "hex", tuple(one.hex() for one in raws)
        yield "HEX", tuple(one.hex().upper() for one in raws)
        yield "base64", tuple(base64.b64encode(one).decode() for one in raws)
        return
    numbers = [one for one in values if isinstance(one, int)]
    width = 2 * WIDTHS[what]
    yield "decimal", tuple(map(str, numbers))
    yield "hex", tuple(f"{one:0{width}x}" for one in numbers)
    yield "HEX", tuple(f"{one:0{width}X}" for one in numbers)


def _stage(piece: Piece, stage: tuple[int, bool]) -> dict[str, str]:
    """Return how a recipe names a stage; that of the innermost bytes, and of the files, as such."""
    number, within = stage
    if number == len(piece.kind.stages) - 1 and not within:
        return {"stage": "payload"} if number else {}
    return {"stage": piece.wrapped.name_stage(number, within=within)} if number or within else {}


def _is_text(piece: Piece, place: str) -> bool:
    """Tell whether what stands at a place is a text, and no number of the form's own."""
    if piece.holds not in ("json", "relaxed-json"):
        return True
    value = json.loads(piece.kind.inside[0][0])
    for part in place.split("/")[1:]:
        value = value[int(part)] if isinstance(value, list) else value[part]
    return isinstance(value, str)
