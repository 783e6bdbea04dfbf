"""What stands in the fronts of files of one kind: marks, sizes, checksums, times, names, the rest.

Several fronts are laid over each other. A guess is one of all of them, or it is none; how sure it
is follows from how unlikely it would be by chance.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import pairwise

import numpy as np
from msgspec.structs import replace

from clever_ferry.studying.budget import Budget
from clever_ferry.studying.fields import checksums, mark, marks, names, sizes, sizes_beside, times
from clever_ferry.studying.guess import (
    ORDERS,
    Guess,
    Place,
    in_order,
    number_at,
    number_spec,
    shown,
    some,
)
from clever_ferry.studying.texts import behind_text, next_text, texts

__all__ = ["guess_front", "guess_straight"]

_MOST_TEXTS = 8


def guess_front(
    fronts: Sequence[bytes], bodies: Sequence[dict[str, bytes]], known: Place, budget: Budget,
    most: int = 512,
) -> list[Guess]:  # fmt: skip
    """Return what fronts hold, in order and without gaps, as far as all of them reach.

    `bodies` are, for each front, bytes of which a checksum may speak, by name.
    """
    found: list[Guess] = []
    for behind in range(_MOST_TEXTS):
        text = next_text([one[:most] for one in fronts])
        upto = text.at if text is not None else most
        own = [one[:upto] for one in fronts] if text is not None else fronts
        found += [
            replace(one, behind=behind) for one in guess_straight(own, bodies, known, budget, upto)
        ]
        if text is None:
            break
        found.append(replace(text, behind=behind))
        fronts = [behind_text(one, text) for one in fronts]
        bodies = [{name: one for name, one in body.items() if name != "inside"} for body in bodies]
    return found


def guess_straight(
    fronts: Sequence[bytes], bodies: Sequence[dict[str, bytes]], known: Place, budget: Budget,
    most: int,
) -> list[Guess]:  # fmt: skip
    """Return the same of fronts of one size, in which no text moves what stands behind it."""
    size = min(min(map(len, fronts), default=0), most)
    if not size:
        return []
    raw = np.array([np.frombuffer(one[:size], np.uint8) for one in fronts])
    cut = [one[:size] for one in fronts]
    found = [
        *marks(raw), *sizes(cut, known), *sizes_beside(cut, known), *names(cut, known),
        *checksums(cut, fronts, bodies, budget), *times(cut, known), *texts(cut),
    ]  # fmt: skip
    return _side_by_side(raw, found, known)


def _side_by_side(raw: np.ndarray, found: Sequence[Guess], known: Place) -> list[Guess]:
    """Return of guesses that contradict each other the surest, and what the other bytes are."""
    taken = np.zeros(raw.shape[1], bool)
    kept: list[Guess] = []
    # A mark is cut where something sure begins in it; and who writes one number in one order of
    # its bytes writes all of them so.
    first = [one for one in found if one.sure and one.kind != "mark"]
    orders = [str(one.spec["order"]) for one in first if "order" in one.spec]
    usual = max(ORDERS, key=orders.count)

    def rank(one: Guess) -> tuple[object, ...]:
        odd = one.spec.get("order", usual) != usual
        return one not in first, -one.bits, odd, -one.size, one.at

    ranked = sorted(found, key=rank)
    for one in ranked:
        if one.kind == "mark" and taken[: one.size].any():
            # What is printable by chance behind it is something else: it ends there.
            end = int(np.flatnonzero(taken[: one.size])[0])
            if end < 2:
                continue
            one = mark(raw[0, :end].tobytes(), one.bits / one.size)
        if not taken[one.at : one.at + one.size].any():
            taken[one.at : one.at + one.size] = True
            kept.append(one)
    return sorted([*kept, *_rest(raw, taken, known)], key=lambda guess: guess.at)


def _rest(raw: np.ndarray, taken: np.ndarray, known: Place) -> Iterator[Guess]:
    """Yield what is told of other bytes: zeros, the same in all, growing with time, differing."""
    same = (raw == raw[0]).all(axis=0)
    zeros = same & (raw[0] == 0)
    label = np.where(zeros, 0, np.where(same, 1, 2))
    at = 0
    size = raw.shape[1]
    while at < size:
        if taken[at]:
            at += 1
            continue
        if label[at] == 2 and (number := _count(raw, taken, at)) is not None:
            yield number
            at += number.size
            continue
        end = at
        while (
            end < size
            and not taken[end]
            and (label[end] == label[at] or (label[end] != 2 and label[at] != 2))
        ):
            end += 1
        yield from _run(raw, at, end, known)
        at = end


def _count(raw: np.ndarray, taken: np.ndarray, at: int) -> Guess | None:
    """Return a number that is small for its width: it differs, and its high bytes are zeros."""
    for width in (4, 2, 8):
        part = raw[:, at : at + width]
        if part.shape[1] < width or taken[at : at + width].any():
            continue
        if len(raw) > 1 and not part[:, -1].any() and part[:, 0].any():
            values = [number_at(row.tobytes(), 0, width, "little") for row in part]
            says = f"a number ({in_order(width, 'little')})"
            spec = number_spec(width, "little")
            return Guess(at, width, "number", says, some(values), 0, spec)
    return None


def _run(raw: np.ndarray, at: int, end: int, known: Place) -> Iterator[Guess]:
    part = raw[:, at:end]
    several = len(raw) > 1
    spec = {"type": "bytes", "size": end - at}
    values = some(shown(row.tobytes()) for row in part)
    if not part.any():
        yield Guess(at, end - at, "zeros", "zeros" + " in all" * several, (), 0, spec)
    elif (part == part[0]).all():
        says = "the same in all" if several else "not told from one file alone"
        yield Guess(at, end - at, "same", says, values[:1], 0, spec, part[0].tobytes())
    elif end - at in (1, 2, 4, 8) and (order := _growing(raw, at, end, known)):
        says = f"a number that grows with time ({in_order(end - at, order)})"
        numbers = some(number_at(row.tobytes(), 0, end - at, order) for row in part)
        yield Guess(at, end - at, "grows", says, numbers, 0, spec)
    else:
        yield Guess(at, end - at, "differs", "differs", values, 0, spec)


def _growing(raw: np.ndarray, at: int, end: int, known: Place) -> str:
    """Return in which order of its bytes a number grows with the files' times; '' for neither."""
    rows = [raw[one, at:end].tobytes() for one in np.argsort(known.stamps, kind="stable")]
    if len(rows) < 3 or len(set(known.stamps)) < len(rows):
        return ""
    for order in ORDERS:
        values = [number_at(one, 0, len(one), order) for one in rows]
        if all(one < other for one, other in pairwise(values)):
            return order
    return ""
