"""Two sides' pieces brought together: those that hold the same get one role."""

from __future__ import annotations

import base64
import zlib
from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from scipy.optimize import linear_sum_assignment

from clever_ferry.drafting.sides import Piece, Side
from clever_ferry.studying.guess import PRINTABLE
from clever_ferry.studying.keys import Key, key_between, turned
from clever_ferry.studying.looks import density_of
from clever_ferry.studying.peeling import Hint

__all__ = ["Paired", "hints_between", "pair"]

_LEAST, _BY_NAME = 3.0, 3.0
"""How alike two pieces must be to be taken for one; as alike are two that are only called so."""


class Paired(Struct, frozen=True):
    """Two pieces that are one role, and why."""

    first: Piece
    second: Piece
    why: str
    shown: bool
    """Whether what they hold says so, and not their names alone."""


def pair(first: Side, second: Side) -> list[Paired]:
    """Bring the pieces of two sides together as well as it goes, and give pairs one role."""
    if not first.pieces or not second.pieces:
        return []
    scored = [[_alike(one, other) for other in second.pieces] for one in first.pieces]
    points = np.array([[score for score, _ in row] for row in scored])
    found: list[Paired] = []
    for at, to in zip(*linear_sum_assignment(-points), strict=True):
        if points[at, to] < _LEAST:
            continue
        one, other = first.pieces[at], second.pieces[to]
        found.append(Paired(one, other, scored[at][to][1], bool(points[at, to] > _BY_NAME)))
    _name(found, first.pieces, second.pieces)
    return found


def _alike(one: Piece, other: Piece) -> tuple[float, str]:
    if bool(one.each) != bool(other.each) or one.shared != other.shared:
        return 0.0, ""
    if not (one.wrapped.whole and other.wrapped.whole):
        return 0.0, ""  # what one of them is within, a recipe does not reach
    same = len(set(one.kind.digests) & set(other.kind.digests))
    if same and one.kind.inside[-1][0]:
        return 10.0 + same, f"{same} of them hold the very same within"
    score, why = 0.0, ""
    if one.holds and one.holds == other.holds:
        both, every = set(one.places) & set(other.places), set(one.places) | set(other.places)
        share = len(both) / max(1, len(every))
        score, why = 2 + 3 * share, f"both are {one.holds}, with {len(both)} places in common"
    elif not one.holds and not other.holds:
        marks = [side.kind.stages[-1].begins[:4] for side in (one, other)]
        if marks[0] == marks[1] and marks[0].isalnum():
            score, why = 5.0, f"both begin with {marks[0].decode()} within"
        elif one.shared == other.shared:
            score = 1.0
    if one.role == other.role:
        score += 2
        why = why or "both are called so"
    return score, why


def hints_between(first: Side, second: Side, pairs: Sequence[Paired]) -> dict[str, Hint]:
    """Return how a piece of one side is within what an unpaired one of the other is.

    They are told by the patterns of their files' names. It may be turned by a key, have a header
    before it, and may have been packed by zlib first; what is not turned may have some more behind.
    """
    clear = [one for one in pairs if one.shown]
    paired = {id(one.first) for one in clear} | {id(one.second) for one in clear}
    found: dict[str, Hint] = {}
    for here, there in ((first, second), (second, first)):
        plain = [one for one in here.pieces if id(one) not in paired and not one.shared]
        other = [one for one in there.pieces if id(one) not in paired and not one.shared]
        for piece in other:
            if piece.kind.stages[-1].what != "bytes" or piece.kind.names.pattern in found:
                continue
            for one in (*plain, *(side.first for side in clear), *(side.second for side in clear)):
                if one in here.pieces and (hint := _within(one, piece)) is not None:
                    found[piece.kind.names.pattern] = hint
                    paired |= {id(one), id(piece)}
                    break
    return found


_LONGEST_FRONT = 64
_LEVELS = (6, 9, 1)


def _within(plain: Piece, other: Piece) -> Hint | None:
    """Return where one piece's bytes, perhaps packed, are in the other's, and by which key."""
    both = _same_saves(plain, other)
    if len(both) < 2:
        return None
    plain_ones = [one for one, _ in both]
    spelled = [[how(one) for one in plain_ones] for how in (base64.b64encode, base64.b16encode)]
    for inside in (plain_ones, *spelled, [one.lower() for one in spelled[1]]):
        found = {
            (packed.find(one), len(packed) - len(one))
            for one, (_, packed) in zip(inside, both, strict=True)
        }
        at, around = found.pop()
        if not found and 0 <= at <= around <= _LONGEST_FRONT and min(map(len, inside)) > 8:
            return Hint(None, at, around - at)
    ways = [plain_ones]
    ways += [[zlib.compress(one, level) for one in plain_ones] for level in _LEVELS]
    for inside in ways:
        more = {len(packed) - len(one) for one, (_, packed) in zip(inside, both, strict=True)}
        if len(more) != 1 or not 0 <= (front := more.pop()) <= _LONGEST_FRONT:
            continue
        key = key_between([packed[front:] for _, packed in both], inside)
        if key is None or len(key.data) * 4 > min(map(len, inside)):
            continue
        size = len(key.data)
        raw = bytes((key.data[(at - front) % size] - front * key.step) & 0xFF for at in range(size))
        whole = Key(raw, key.step)
        if inside is plain_ones and not front and _is_turned(inside, [out for _, out in both]):
            return None  # the other way round
        back = [turned(packed, whole) for _, packed in both]
        fronts = [packed[:front] for _, packed in both]
        own = _is_text(key.data), _clear(fronts)
        if front and own > (_is_text(raw), _clear([one[:front] for one in back])):
            return Hint(key, front, behind=True)
        if [one[front:] for one in back] == inside:
            return Hint(whole, front)
    return None


def _is_text(key: bytes) -> bool:
    return len(key) > 2 and all(byte in PRINTABLE for byte in key)


def _is_turned(some: Sequence[bytes], others: Sequence[bytes]) -> bool:
    """Tell which of two, of which each is the other turned by a key, that seems to be.

    A key of several bytes makes more different bytes of them; one makes fewer letters and zeros.
    """
    first, second = (round(density_of(b"".join(ones)), 2) for ones in (some, others))
    return first > second if first != second else _clear(some) < _clear(others)


def _clear(fronts: Sequence[bytes]) -> int:
    """Return how many bytes of fronts are letters or zeros, as most are where nothing is turned."""
    return sum(byte == 0 or byte in PRINTABLE for one in fronts for byte in one)


def _same_saves(plain: Piece, other: Piece) -> list[tuple[bytes, bytes]]:
    """Return the bytes of saves that both have: by their numbers, or by their order."""
    own, theirs = _by_save(plain), _by_save(other)
    return [(own[one], theirs[one]) for one in own if one in theirs]


def _by_save(piece: Piece) -> dict[object, bytes]:
    """Return files' innermost bytes by what their names have, numbers as numbers."""
    at = {path: number for number, path in enumerate(piece.kind.names.paths)}
    columns = list(piece.kind.names.fields.values())
    found: dict[object, bytes] = {}
    for sample, data in zip(piece.kind.samples, piece.kind.inside[-1], strict=True):
        own = (column[at[sample.path]] for column in columns)
        found[tuple(int(one) if one.isdecimal() else one for one in own)] = data
    return found


def _name(pairs: Sequence[Paired], first: Sequence[Piece], second: Sequence[Piece]) -> None:
    """Have both of a pair be called by the longer of their names; nobody else is called so."""
    taken: set[str] = set()
    paired = {id(one.first) for one in pairs} | {id(one.second) for one in pairs}
    for one in pairs:
        wish = max((one.first.role, one.second.role), key=lambda role: (len(role) > 3, len(role)))
        one.first.role = one.second.role = _free(wish, taken)
    for piece in (*first, *second):
        if id(piece) not in paired:
            piece.role = _free(piece.role, taken)


def _free(wish: str, taken: set[str]) -> str:
    name, more = wish, 2
    while name in taken:
        name, more = f"{wish}{more}", more + 1
    taken.add(name)
    return name
