"""What a target asks of saves beyond a slot: room for them, and the add-ons that they use."""

from __future__ import annotations

from collections.abc import Sequence

from clever_ferry.cargo import Piece, Save
from clever_ferry.errors import RefusedError
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.installed import installed_packs
from clever_ferry.moving.names import folded
from clever_ferry.recipes.models import LimitInfo

__all__ = ["pack_notes", "refuse_too_large"]


def pack_notes(saves: Sequence[Save], target: OpenBerth, *, packs_ok: bool) -> tuple[str, ...]:
    """Return what is to be said of add-ons that saves use and the target lacks.

    Raises RefusedError where its game would not load such a save, unless `packs_ok` says that
    they are there.
    """
    packs = target.berth.edition.packs
    there = installed_packs(target.berth) if packs is not None else None
    if packs is None or there is None or packs_ok:
        return ()
    notes = []
    for save in saves:
        missing = [name for name in save.packs if folded(name) not in there]
        if not missing:
            continue
        told = ", ".join(missing)
        if not packs.info.passable:
            raise RefusedError(
                f"{save.title} uses what the target's game does not have: {told}.",
                details=(f"The game will say: {packs.info.says}",),
                advice="Install it there first (the same version, if it has one), then try again. "
                "If it is installed already, add --packs-ok.",
            )
        notes.append(
            f"{save.title} uses what the target's game does not have: {told}. The game will say: "
            f"{packs.info.says} That can be passed."
        )
    return tuple(notes)


def refuse_too_large(saves: Sequence[Save], target: OpenBerth) -> None:
    """Raise RefusedError where a save is larger than the target's game takes."""
    for save in saves:
        for limit in target.berth.edition.limits:
            for what, size in _measured(save, limit):
                if size > limit.most:
                    raise RefusedError(
                        f"{save.title} is too large for {target.berth.edition.title}: "
                        f"{what.format(f'{size:,}')}, and {limit.most:,} are the most.",
                        advice=limit.says,
                    )


def _measured(save: Save, limit: LimitInfo) -> list[tuple[str, int | float]]:
    if limit.fact is not None:
        fact = save.fact(limit.fact)
        if fact is None or not isinstance(fact.value, int | float):
            return []
        return [(f"its {fact.label} is {{}}", fact.value)]
    return [
        (f"its {piece.title} has {{}} bytes", _bytes_of(piece))
        for piece in save.pieces
        if piece.role == limit.piece
    ]


def _bytes_of(piece: Piece) -> int:
    """Return the size of a piece without any edition's wrapping; that may mean to unpack it."""
    size = piece.payload.size
    return size if size is not None else sum(map(len, piece.payload.chunks()))
