"""What bytes can't tell of a game, as plain questions; and what is taken where nobody answers."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from clever_ferry.drafting.facts import FactDraft
from clever_ferry.drafting.sides import Piece, Side

__all__ = ["Ask", "Question", "asked", "likeliest"]

_MOST_NAMES, _LEAST_SIZE, _MOST_SLOTS = 4, 100, 10_000


class Question(Struct, frozen=True):
    """One thing to be asked. The answer is one of the choices, or a number where there are none."""

    says: str
    choices: tuple[str, ...] = ()
    usual: str = ""
    """What is taken where nobody answers; '' for nothing."""


Ask = Callable[[Question], str]


def likeliest(question: Question) -> str:
    """Answer a question by what is usual."""
    return question.usual


def asked(sides: Sequence[Side], paired: set[int], facts: list[FactDraft], ask: Ask) -> None:
    """Ask what can't be told, and note the answers on sides and facts."""
    for side in sides:
        for piece in [one for one in side.pieces if one.shared and id(one) not in paired]:
            if _is_index(piece, side):
                _ask_rebuilt(side, piece, ask)
    if all(one.name != "name" for one in facts):
        _ask_name(sides, paired, facts, ask)
    for side in sides:
        if side.fields.get("slot", {}).get("type") == "number":
            answer = ask(Question(
                f"{side.ident}: how many saves does the game's menu offer at the most? Nothing, if "
                "there is no limit or you don't know"
            ))  # fmt: skip
            if answer.isdecimal() and 0 < int(answer) < _MOST_SLOTS:
                side.most_slots = int(answer)


def _ask_rebuilt(side: Side, piece: Piece, ask: Ask) -> None:
    answer = ask(Question(
        f"{piece.path} in {side.ident} lists the other files and their sizes. Does the game make "
        "it anew when it is missing?", ("yes", "no"), "yes",
    ))  # fmt: skip
    if answer == "yes":
        side.rebuilt.append(piece.path)
        side.pieces.remove(piece)
        side.doubts.append(
            f"{piece.path} is taken for an index that the game makes anew: a crossing takes it "
            "away (and keeps it in the backup)"
        )
    else:
        side.doubts.append(f"{piece.path} lists the other files: a crossing does not mend it")


def _is_index(piece: Piece, side: Side) -> bool:
    """Tell whether a file says of every save how large its files are, or all of them together."""
    if len(piece.kind.names.paths) != 1 or not piece.kind.inside[0]:
        return False
    raw = piece.kind.inside[0][0]
    told = {int(one) for one in re.findall(rb"\d{1,12}", raw)}
    sizes: dict[tuple[str, ...], list[int]] = {}
    for other in side.pieces:
        if not other.shared:
            for save, size in _sizes(other):
                sizes.setdefault(save, []).append(size)

    def says(size: int) -> bool:
        wide = size.to_bytes(8, "little")
        return size >= _LEAST_SIZE and (size in told or wide[:4] in raw or wide[3::-1] in raw)

    return len(sizes) > 1 and all(any(map(says, (*own, sum(own)))) for own in sizes.values())


def _sizes(piece: Piece) -> Iterator[tuple[tuple[str, ...], int]]:
    """Yield of which save each file is that was looked at, by its slot or name, and its size."""
    at = {path: number for number, path in enumerate(piece.kind.names.paths)}
    for sample in piece.kind.samples:
        yield tuple(
            values[at[sample.path]] for name, values in piece.kind.names.fields.items()
            if piece.names.get(name) in ("slot", "name", "world", "number")
        ), sample.size  # fmt: skip


def _ask_name(sides: Sequence[Side], paired: set[int], facts: list[FactDraft], ask: Ask) -> None:
    """Ask by which of a document's texts the game's menu calls a save."""
    found: list[tuple[Piece, str, tuple[str, ...]]] = []
    for piece in sides[0].pieces:
        if piece.shared or piece.each or (len(sides) > 1 and id(piece) not in paired):
            continue
        others = [one for side in sides[1:] for one in side.pieces if one.role == piece.role]
        for place, values in piece.places.items():
            plain = len(set(values)) > 1 and all(one.strip() and len(one) < 80 for one in values)
            words = not any(re.fullmatch(r"[-\d.:]+|true|false", one) for one in values)
            if plain and words and all(place in one.places for one in others):
                found.append((piece, place, values))
    if not found:
        return
    choices = tuple(dict.fromkeys(values[0] for _, _, values in found))[:_MOST_NAMES]
    answer = ask(Question("How is this save called in the game's menu?", choices, choices[0]))
    for piece, place, values in found:
        if values[0] == answer:
            spec = {"label": "Name", "from": piece.role, "at": place}
            facts.append(FactDraft("name", spec, f"seen: {', '.join(values[:3])}"))
            return
