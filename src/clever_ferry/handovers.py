"""Handovers as jobs: what one side makes of a world that a friend is to host. `Ferry` has them."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from msgspec.structs import replace

from clever_ferry.cargo import Save
from clever_ferry.crossing.handing_over import handed_over, host_of
from clever_ferry.crossing.plan import Plan
from clever_ferry.crossing.planning import make_plan
from clever_ferry.errors import WrongUseError
from clever_ferry.finding.addresses import address_of
from clever_ferry.finding.berths import Berth, OpenBerth
from clever_ferry.moving.sending import write_zip
from clever_ferry.parcels import Parcels
from clever_ferry.payload import BytesPayload
from clever_ferry.recipes.encoding import Encoding, encode
from clever_ferry.tree import Output

__all__ = ["Handover", "plan_handover", "taking", "write_handover"]


@dataclass(frozen=True)
class Handover:
    """A world as it was, and as it is with its new host."""

    opened: OpenBerth
    before: Save
    after: Save
    host: str
    """Who hosted it until now."""
    to: str
    here: Plan
    """What it takes to have the own copy handed over, too."""


def plan_handover(opened: OpenBerth, to: str, given: Mapping[str, str] | None = None) -> Handover:
    """Plan to hand the one chosen save of a berth over; nothing is written.

    `given` is the key that its saves are encrypted by. Raises WrongUseError where several are
    chosen, and what `handed_over` raises.
    """
    saves = opened.listing.saves
    berth = opened.berth
    if len(saves) != 1:
        raise WrongUseError(
            f"{berth.address} has {len(saves)} saves, and one world is handed over at a time.",
            details=tuple(f"  {save.slot}  {save.title}" for save in saves),
            advice=f"Name it: {address_of(berth.address, saves[0])}" if saves else "",
        )
    before = saves[0]
    after = handed_over(berth.game, before, to)
    source = replace(opened, listing=replace(opened.listing, saves=(after,)))
    here = make_plan(
        source, opened, chosen=None, slots=None, given=given or {},
        as_it_was=True, itself=True,
    )  # fmt: skip
    return Handover(
        opened, before, after, host_of(berth.game, before), host_of(berth.game, after), here
    )  # fmt: skip


def taking(berth: Berth, file: str) -> str:
    """Return the command by which the new host takes a file up, with the keys that it needs."""
    keys = "".join(f" --give {name}=HEX" for name in sorted(berth.edition.secrets))
    return f"cferry handover {berth.address} --take {file}{keys}"


def write_handover(handover: Handover, path: Path, parcels: Parcels) -> int:
    """Write the world with its new host into a zip for the friend; return how many files.

    What its edition keeps in a box goes as a parcel. Raises RefusedError where the file can't be
    written.
    """
    opened = handover.opened
    if opened.berth.edition.box_title is not None:
        after = replace(opened, listing=replace(opened.listing, saves=(handover.after,)))
        note = f"{handover.to} hosts it now: {taking(opened.berth, 'THIS-FILE')}"
        return len(parcels.pack(after, path, note).pieces)
    return write_zip(path, _files(handover, opened.berth))


def _files(handover: Handover, berth: Berth) -> Iterator[Output]:
    pattern = next((place.pattern for place in berth.edition.berths if place.pattern), None)
    depth = len(pattern.segments) if pattern else 1
    above = "/".join(berth.root.parts[-depth:])
    save = handover.after
    known, generation = handover.opened.known, save.generation or 1
    asked = Encoding(berth.edition, save, save.fields, known, handover.before, generation)
    for item in encode(asked, time.time_ns()):
        yield Output(f"{above}/{item.put.name}", item.put.payload, item.put.stamp)
    told = (
        f"{save.title}, a world of {berth.game.title}, with {handover.to} as its host.\n"
        f"{handover.to} takes it up with:\n"
        f"    {taking(berth, 'THIS-FILE')}\n"
    )
    yield Output("READ ME.txt", BytesPayload(told.encode()), save.stamp or 0)
