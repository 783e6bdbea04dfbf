"""What a target asks of saves beyond a slot: room, add-ons, and a host who is the player there."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from clever_ferry.cargo import Piece, Save
from clever_ferry.crossing.handing_over import guests_of, host_of
from clever_ferry.errors import FerryError, RefusedError
from clever_ferry.finding.addresses import address_of
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.installed import installed_packs
from clever_ferry.moving.names import folded
from clever_ferry.recipes.models import LimitInfo

__all__ = ["pack_notes", "refusals", "refuse_other_host", "refuse_too_large"]


def refusals(opened: OpenBerth, saves: Sequence[Save]) -> list[RefusedError]:
    """Return why the game of a berth is known to refuse saves that stand there already."""
    demands: tuple[Callable[[Save], object], ...] = (
        lambda save: refuse_too_large([save], opened),
        lambda save: pack_notes([save], opened, packs_ok=False),
        lambda save: refuse_other_host([save], opened.berth.address, opened),
    )
    found = []
    for save in saves:
        for demand in demands:
            try:
                demand(save)
            except RefusedError as error:
                found.append(error)
    return found


def refuse_other_host(saves: Sequence[Save], where: str, target: OpenBerth) -> None:
    """Raise RefusedError where another than the target's player hosts a world.

    Who plays there is told by the target's own worlds, where one hosts them all. `where` is the
    address of the saves.
    """
    info = target.berth.game.handover
    if info is None or not info.own_only:
        return
    own = [save for save in target.listing.saves if save not in saves]
    hosts = {host for save in own if (host := _host(target, save))}
    if len(hosts) != 1:
        return
    player = hosts.pop()
    for save in saves:
        host = _host(target, save)
        if not host or host.casefold() == player.casefold():
            continue
        file = f"{save.title.casefold().replace(' ', '-')}.zip"
        guest = player.casefold() in map(str.casefold, guests_of(target.berth.game, save))
        raise RefusedError(
            f"{host} hosts {save.title}, and the game in {target.berth.address} loads only worlds "
            f"that {player} hosts.",
            details=(
                "Hand it over first:",
                f"  cferry handover {address_of(where, save)} --to {player} -o {file}",
                f"  cferry handover {target.berth.address} --take {file}",
            )
            if guest
            else (),
            advice=(
                ""
                if guest
                else f"Have {player} join that world once and save; then hand it over with `cferry "
                "handover`. "
            )
            + f"If {host} plays there, add --host-ok.",
            again=("--host-ok",),
        )


def _host(berth: OpenBerth, save: Save) -> str:
    try:
        return host_of(berth.berth.game, save)
    except FerryError:
        return ""


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
                again=("--packs-ok",),
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
