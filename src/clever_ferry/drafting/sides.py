"""One side of a draft: the files of one edition's saves, as pieces with names and wrappings."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from clever_ferry.drafting.boxed import Boxed
from clever_ferry.drafting.wrapping import Wrapped, wrapped
from clever_ferry.errors import NotFoundError, UnsupportedError
from clever_ferry.studying.leaves import leaves_of
from clever_ferry.studying.names import above
from clever_ferry.studying.study import KindStudied

__all__ = ["Card", "Piece", "Side", "side_of"]

_PLACE = re.compile(r"\{(\w+)\}")
_ROW = re.compile(r"(?<![A-Za-z])([A-Z])\{slot\}")
_HIGHEST_SLOT, _LONGEST_NUMBER = 9_999, 9
_FORMS = {"json", "relaxed-json", "xml", "ini", "properties", "toml", "yaml", "zip", "sqlite"}


@dataclass
class Card:
    """What a document or a layout says of other pieces, and by what its own save is told."""

    of: str = ""
    """The role that it describes, where it is carried by none: it is made anew."""
    fields: list[dict[str, Any]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    values: list[dict[str, Any]] = field(default_factory=list)
    """Of a document: what must stand where."""
    template: str = ""
    spelled: bool = False
    """Whether it is one text, of which the fields are the words."""


@dataclass
class Piece:
    """Files of one kind, as a piece of a save."""

    kind: KindStudied
    path: str
    """Its name pattern, with the recipe's fields."""
    role: str
    each: str = ""
    """The field of which there is one such file each, within a save."""
    shared: bool = False
    needed: bool = False
    saves: set[tuple[str, ...]] = field(default_factory=set)
    """Of which saves there is one: what their names have."""
    holds: str = ""
    wrapped: Wrapped = field(default_factory=Wrapped)
    names: Mapping[str, str] = field(default_factory=dict)
    """The recipe's fields, by what the study calls what differs in names."""
    card: Card | None = None
    """What it says of other pieces and of its save, where it does."""
    places: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Of a document, what stands at each place in the files that were looked at."""


@dataclass
class Side:
    """One edition's folder."""

    root: Path
    ident: str
    pieces: list[Piece]
    fields: dict[str, dict[str, Any]]
    notes: dict[str, str]
    """Remarks on fields."""
    account: str = ""
    doubts: list[str] = field(default_factory=list)
    box: Boxed | None = None
    rebuilt: list[str] = field(default_factory=list)
    """Files that the game makes anew where they are missing."""
    most_slots: int = 0
    """How many the game offers; 0 where nobody has said."""
    firsts: Mapping[str, int] = field(default_factory=dict)
    """What numbers in names count from."""


def side_of(root: Path, ident: str, kinds: Sequence[KindStudied], box: Boxed | None = None) -> Side:
    """Return a folder of saves as an edition keeps them; raises NotFoundError where none show."""
    named = [one for one in kinds if one.names.fields and one.samples]
    if named and not any(sample.size for one in named for sample in one.samples):
        raise NotFoundError(
            f"All files in {root} that may be saves are empty.",
            advice="Name the folder that holds all saves of one edition, with two saves or more.",
        )
    if not named:
        raise NotFoundError(
            f"No saves show in {root}: no two files are named alike.",
            advice="Name the folder that holds all saves of one edition, with two saves or more.",
        )
    odd = next((path for one in named for path in one.names.paths if set("{}<>") & set(path)), None)
    if odd is not None:
        raise UnsupportedError(f"{odd}: name patterns have no way to say braces and angles.")
    variables = _variables(named)
    main = max(named, key=lambda one: sum(sample.size for sample in one.samples))
    values: dict[Variable, set[str]] = {}
    for kind in named:
        for local, var in variables[id(kind)].items():
            values.setdefault(var, set()).update(kind.names.fields[local])
    owners = {
        var for var, seen in values.items() if len(seen) == 1 and len(named[0].names.paths) > 1
    }
    own = set(variables[id(main)].values()) - owners
    saved = own if len(named) == 1 else {
        one for one in own if sum(one in variables[id(kind)].values() for kind in named) > 1
    } or own  # fmt: skip
    side = Side(root, ident, [], {}, {}, box=box)
    if box is not None:
        side.doubts += _of_box(box)
    names = _called(saved, owners, values, side)
    account = above(str(root)).get("account", "")
    side.account = account
    for kind in kinds:
        if not kind.samples:
            continue
        side.pieces.append(_piece(kind, variables.get(id(kind), {}), saved, owners, names))
    every = set[tuple[str, ...]]().union(*(one.saves for one in side.pieces))
    for piece in side.pieces:
        piece.needed = not piece.shared and not piece.each and piece.saves == every
    _roles(side.pieces)
    if account:
        side.fields["account"] = _account(account)
        side.notes["account"] = f"seen: {account}"
    firsts = {
        name: int(spec.get("first", 1)) for name, spec in side.fields.items()
        if spec["type"] == "number"
    }  # fmt: skip
    for piece in side.pieces:
        own_names = {
            local: names[var] for local, var in variables.get(id(piece.kind), {}).items()
            if var in names
        }  # fmt: skip
        if account:
            own_names["account"] = "account"
        piece.names, side.firsts = own_names, firsts
        piece.wrapped = wrapped(piece.role, piece.kind.stages, piece.kind.inside, own_names, firsts)
        side.doubts += piece.wrapped.doubts
        if piece.kind.stages[-1].looks_locked:
            side.doubts.append(
                f"the {piece.role} looks encrypted, or packed in a way that is not known: it is "
                "carried as it is"
            )
        if piece.holds in ("zip", "sqlite") or piece.kind.stages[-1].what in ("tar", "archive"):
            side.doubts.append(
                f"the {piece.role} is {piece.kind.stages[-1].what}: what is in it is not drafted"
            )
    rows = [row[1] for piece in side.pieces if (row := _ROW.search(piece.path))]
    if rows:
        side.doubts.append(
            f"all slots seen are called {rows[0]} and a number: whether there is another letter, "
            "and from which slot on, nothing here shows"
        )
    return side


def _of_box(box: Boxed) -> list[str]:
    """Return what is in doubt about a box."""
    left = [f"{', '.join(box.left[:5])} beside the box: not drafted"] if box.left else []
    return list(dict.fromkeys([*box.doubts, *left]))


Variable = tuple[str, int]


def _variables(kinds: Sequence[KindStudied]) -> dict[int, dict[str, Variable]]:
    """Return, for each kind, which of its name's places are one variable with other kinds'.

    Two are where one's values are all among the other's, and they are the same in rank.
    """
    groups: list[tuple[str, int, set[str]]] = []
    found: dict[int, dict[str, Variable]] = {}
    for kind in sorted(kinds, key=lambda one: -len(one.names.paths)):
        own: dict[str, Variable] = {}
        for name, values in kind.names.fields.items():
            letter = name.rstrip("0123456789")
            mine = set(values)
            likes = (
                at for at, (other, _, seen) in enumerate(groups)
                if other == letter and (mine <= seen or seen <= mine)
            )  # fmt: skip
            at = next((one for one in likes if (letter, one) not in own.values()), None)
            if at is None:
                at = len(groups)
                groups.append((letter, at, set()))
            groups[at][2].update(mine)
            own[name] = (letter, at)
        found[id(kind)] = own
    return found


def _called(
    saved: set[Variable], owners: set[Variable], values: Mapping[Variable, set[str]], side: Side
) -> dict[Variable, str]:  # fmt: skip
    """Return what variables are called in the recipe, and describe them."""
    names: dict[Variable, str] = {}
    for var in sorted(values, key=lambda one: (one not in saved, one[1])):
        letter, every = var[0], sorted(values[var])
        small = letter == "n" and all(int(one) <= _HIGHEST_SLOT for one in every)
        if var in saved:
            wish = {"n": "slot" if small else "number", "x": "world", "id": "world"}.get(
                letter, "name"
            )
        elif var in owners:
            wish = "owner"
        else:
            wish = {"n": "part", "x": "ident", "id": "ident"}.get(letter, "player")
        name, more = wish, 2
        while name in names.values():
            name, more = f"{wish}{more}", more + 1
        names[var] = name
        side.fields[name], side.notes[name] = _field(letter, name, every)
        if var in owners:
            spec = _account(every[0])
            side.fields[name] = {**spec, "on_arrival": ["adopted", "usual", "given"]}
    return names


def _field(letter: str, name: str, values: Sequence[str]) -> tuple[dict[str, Any], str]:
    seen = f"seen: {', '.join(values[:4])}" + (" …" if len(values) > 4 else "")
    lengths = {len(one) for one in values}
    if letter == "n" and max(lengths) <= _LONGEST_NUMBER and not name.startswith("number"):
        spec: dict[str, Any] = {"type": "number"}
        if min(map(int, values)) == 0:
            spec["first"] = 0
        if len(lengths) == 1 and any(one.startswith("0") and len(one) > 1 for one in values):
            spec["width"] = lengths.pop()
        return spec, seen
    arrival = {"on_arrival": ["adopted", "made"]}
    if letter == "n":
        length = {"length": lengths.pop()} if len(lengths) == 1 else {}
        return {"type": "digits", **length, **arrival}, seen
    if letter == "x":
        length = {"length": lengths.pop()} if len(lengths) == 1 else {}
        case = {"case": "upper"} if any(one != one.lower() for one in values) else {}
        return {"type": "hex", **length, **case, **arrival}, seen
    if letter == "id":
        case = {"case": "upper"} if any(one != one.lower() for one in values) else {}
        return {"type": "identifier", **case, **arrival}, seen
    plain = all(re.fullmatch("[A-Za-z0-9_-]+", one) for one in values)
    return {"type": "word" if plain else "text"}, seen


def _account(text: str) -> dict[str, Any]:
    if text.isdecimal():
        return {"type": "digits", "length": len(text)}
    if "-" in text:
        return {"type": "identifier", **({"case": "upper"} if text != text.lower() else {})}
    return {
        "type": "hex",
        "length": len(text),
        **({"case": "upper"} if text != text.lower() else {}),
    }


def _piece(
    kind: KindStudied, own: Mapping[str, Variable], saved: set[Variable],
    owners: set[Variable], names: Mapping[Variable, str],
) -> Piece:  # fmt: skip
    path = _PLACE.sub(lambda match: f"{{{names[own[match[1]]]}}}" if match[1] in own else match[0],
                      re.sub(r" \((?:bytes|[a-z0-9]+)\)$", "", kind.names.pattern))  # fmt: skip
    per_save = saved <= set(own.values())
    beyond = [names[var] for var in own.values() if var not in saved and var not in owners]
    last = kind.stages[-1]
    piece = Piece(
        kind, path, "", shared=not per_save, holds=last.what if last.what in _FORMS else ""
    )
    if per_save and beyond:
        piece.each = beyond[0]
    if per_save:
        order = sorted(saved)
        locals_of = {var: local for local, var in own.items()}
        columns = [kind.names.fields[locals_of[var]] for var in order]
        piece.saves = set(zip(*columns, strict=True))
    if piece.holds:
        rows = [dict(leaves_of(piece.holds, data)) for data in kind.inside[-1]]
        places = rows[0].keys() if rows else []
        piece.places = {
            place: tuple(row[place] for row in rows)
            for place in places if all(place in row for row in rows)
        }  # fmt: skip
    return piece


def _roles(pieces: Sequence[Piece]) -> None:
    """Give each piece a name: the word that its file's name has alone, or its ending."""

    def words(path: str) -> list[str]:
        plain = _PLACE.sub(" ", path).lower()
        folder, _, file = plain.rpartition("/")
        stem, _, ending = file.partition(".")
        found = [
            one for part in (stem, folder, ending) for one in re.findall("[a-z][a-z0-9]+", part)
        ]
        return found or ["piece"]

    every = [words(one.path) for one in pieces]
    taken: set[str] = set()
    for piece, own in zip(pieces, every, strict=True):
        alone = [one for one in own if sum(one in other for other in every) == 1]
        wish = (alone or own)[0][:20]
        name, more = wish, 2
        while name in taken:
            name, more = f"{wish}{more}", more + 1
        taken.add(name)
        piece.role = name
