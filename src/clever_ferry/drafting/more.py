"""Further saves held against a recipe: what of it they confirm, and what they refute."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from clever_ferry.proving.trying import Tried

__all__ = ["Further", "further"]


class Further(Struct, frozen=True):
    """What further saves say of a recipe, each as a sentence without its full stop."""

    confirmed: tuple[str, ...]
    refuted: tuple[str, ...]


def further(recipe: str, tried: Sequence[Tried]) -> Further:
    """Return what saves confirm and refute; `recipe` is its text, which is not changed."""
    usual = _usual(tomllib.loads(recipe))
    confirmed: list[str] = []
    refuted: list[str] = []
    for one in tried:
        if not one.saves:
            continue
        name = one.edition.id
        bad = [save for save in one.saves if save.problems]
        wrong = [
            f"{piece.entry} as {name}: {piece.outcome}" for piece in one.pieces
            if not piece.outcome.startswith(("same", "shared"))
        ]  # fmt: skip
        whole = len(one.saves) - len(bad)
        if whole:
            confirmed.append(f"{name}: saves that are read: {whole}")
        if one.pieces and not wrong:
            confirmed.append(
                f"{name}: files that come out the same when written: {len(one.pieces)}"
            )
        refuted += [f"{save.title} as {name}: {save.problems[0]}" for save in bad]
        refuted += [*wrong, *(f"{name}: {problem}" for problem in one.problems)]
        if one.unread:
            shown = ", ".join(one.unread[:5])
            refuted.append(f"no pattern of {name} fits {shown}")
        for said, right in _constants(one, usual):
            (confirmed if right else refuted).append(said)
    return Further(tuple(dict.fromkeys(confirmed)), tuple(dict.fromkeys(refuted)))


def _usual(recipe: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """Return by layouts what a recipe's fields usually are."""
    return {
        name: {one["name"]: one["usual"] for one in layout.get("fields", ()) if "usual" in one}
        for name, layout in recipe.get("layouts", {}).items()
    }


def _constants(tried: Tried, usual: dict[str, dict[str, Any]]) -> Iterator[tuple[str, bool]]:
    """Yield of what was the same in all examples whether it is the same here, too."""
    seen: dict[tuple[str, str], set[Any]] = {}
    for save in tried.saves:
        for piece in save.pieces:
            for layout, values in piece.headers.items():
                for name in usual.get(layout, {}):
                    if name in values:
                        seen.setdefault((layout, name), set()).add(values[name])
    for (layout, name), found in seen.items():
        right = usual[layout][name]
        others = sorted(str(one) for one in found if one != right)
        if others:
            yield f"{name} in {layout} is {right} in the recipe, and {others[0]} here", False
        else:
            yield f"{name} in {layout} is {right} here, too", True
