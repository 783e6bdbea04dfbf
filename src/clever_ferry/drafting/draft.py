"""A recipe drafted from one folder of saves, or from two editions'."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path, PurePath

from msgspec import Struct

from clever_ferry.drafting.asking import Ask, asked, likeliest
from clever_ferry.drafting.boxed import Boxed
from clever_ferry.drafting.boxing import box_in
from clever_ferry.drafting.cards import cards_in
from clever_ferry.drafting.facts import FactDraft, facts_of
from clever_ferry.drafting.pairing import Paired, hints_between, pair
from clever_ferry.drafting.repeats import repeated
from clever_ferry.drafting.sides import Side, side_of
from clever_ferry.drafting.wrapping import Wrapped
from clever_ferry.drafting.writing import recipe_text
from clever_ferry.errors import WrongUseError
from clever_ferry.finding.computers import Computer
from clever_ferry.moving.files import FolderFiles
from clever_ferry.studying.budget import Budget, OverError
from clever_ferry.studying.names import above
from clever_ferry.studying.peeling import Hint
from clever_ferry.studying.study import Known, study_files

__all__ = ["Drafted", "draft"]


class Drafted(Struct, frozen=True):
    """A draft, and what it goes by."""

    text: str
    sides: tuple[Side, ...]
    pairs: tuple[Paired, ...]
    facts: tuple[FactDraft, ...]
    stopped: str = ""


def draft(
    ident: str, folders: Sequence[Path], known: Sequence[Known], computer: Computer, budget: Budget,
    ask: Ask = likeliest,
) -> Drafted:  # fmt: skip
    """Draft the recipe `ident` from the folders of one or two editions; `ask` is asked the rest.

    Raises NotFoundError where one shows no saves, WrongUseError for more folders.
    """
    if not 1 <= len(folders) <= 2:
        raise WrongUseError("A draft is made of one folder of saves, or of two editions'.")
    roots = [one.absolute() for one in folders]
    idents: list[str] = []
    for at, root in enumerate(roots):
        idents.append(_ident(root, at, idents))
    stopped: list[str] = []

    boxes = [_box(root, own, budget, stopped) for root, own in zip(roots, idents, strict=True)]

    def look(hints: Mapping[str, Hint]) -> list[Side]:
        found = []
        for root, own, box in zip(roots, idents, boxes, strict=True):
            files = box.inside if box is not None else FolderFiles(root)
            seen = study_files(files, str(root), known, budget, hints=hints)
            stopped.append(seen.stopped)
            found.append(side_of(root, own, seen.kinds, box))
        return found

    sides = look({})
    pairs = pair(*sides) if len(sides) == 2 else []
    if len(sides) == 2 and (hints := hints_between(sides[0], sides[1], pairs)):
        sides = look(hints)  # what one side has plain tells the other side's key
        pairs = pair(*sides)
    facts = facts_of(sides)
    paired = {id(one.first) for one in pairs} | {id(one.second) for one in pairs}
    every = paired if len(sides) == 2 else {id(one) for side in sides for one in side.pieces}
    for side in sides:
        repeated(side, facts)
        try:
            facts += cards_in(side, every, facts, budget)
        except OverError:
            stopped.append(budget.stopped_at)
    _as_they_lie(pairs, facts)
    asked(sides, every, facts, ask)
    _doubt_unpaired(sides, paired)
    for side in sides if not any(one.shown for one in pairs) else ():
        if side.box is not None and side.box.format["kind"] in ("nodes", "sqlite"):
            side.doubts.append(
                f"whether what is in {side.box.format['file']} are saves, nothing here shows"
            )
    sides[-1].doubts += [
        f"the {one.first.role} of both sides is taken for the same as both are called so: "
        "nothing in them shows it"
        for one in pairs
        if not one.shown
    ]
    berths = {one.ident: _berth(one, computer) for one in sides}
    text = recipe_text(ident, sides, pairs, facts, berths)
    return Drafted(text, tuple(sides), tuple(pairs), tuple(facts), next(filter(None, stopped), ""))


def _box(root: Path, ident: str, budget: Budget, stopped: list[str]) -> Boxed | None:
    try:
        return box_in(FolderFiles(root), str(root), f"{ident}-", budget)
    except OverError:
        stopped.append(budget.stopped_at)
    except KeyboardInterrupt:
        stopped.append("as you said")
    return None


def _as_they_lie(pairs: Sequence[Paired], facts: Sequence[FactDraft]) -> None:
    """Have what is the same file on both sides be carried so, where nobody looks into it."""
    looked = {str(one.spec["from"]) for one in facts}
    for one in pairs:
        first, second = (set(side.kind.inside[0]) for side in (one.first, one.second))
        same = one.first.wrapped.layers == one.second.wrapped.layers
        if same and first & second and one.first.role not in looked:
            for piece in (one.first, one.second):
                piece.wrapped = Wrapped()


def _doubt_unpaired(sides: Sequence[Side], paired: set[int]) -> None:
    for side in sides if len(sides) == 2 else ():
        for piece in side.pieces:
            is_card = piece.card is not None and piece.card.of
            if id(piece) not in paired and not piece.shared and not is_card:
                side.doubts.append(
                    f"the {piece.role} ({piece.path}) has no like on the other side, so what comes "
                    "from there has none"
                )


def _ident(root: Path, at: int, taken: Sequence[str]) -> str:
    """Return an edition's id: by the folder's name, where that is a word."""
    for part in reversed(root.parts):
        if above(part):
            continue
        word = re.sub("[^a-z0-9]+", "-", part.lower()).strip("-")[:20]
        if re.fullmatch("[a-z][a-z0-9-]*", word) and word not in taken:
            return word
        break
    return ("first", "second")[at]


def _berth(side: Side, computer: Computer) -> dict[str, str]:
    """Return where an edition keeps its saves: below a known folder, else below a given one."""
    best: tuple[int, str, PurePath] | None = None
    for name, folder in computer.folders.items():
        if name != "home" and side.root.is_relative_to(Path(folder)):
            inner = side.root.relative_to(Path(folder))
            if inner.parts and (best is None or len(inner.parts) < best[0]):
                best = len(inner.parts), name, inner
    parts: Sequence[str] = [side.root.name]
    where = {"on": "any", "under": "given"}
    if best is not None:
        parts = best[2].parts
        where = {"on": computer.system, "under": best[1]}
    elif side.account and side.account not in parts:
        at = side.root.parts.index(side.account) if side.account in side.root.parts else -1
        parts = side.root.parts[at:]
    path = "/".join("{account}" if part == side.account else _plain(part) for part in parts)
    return {**where, "path": path}


def _plain(part: str) -> str:
    return part.replace("{", "{{").replace("}", "}}")
