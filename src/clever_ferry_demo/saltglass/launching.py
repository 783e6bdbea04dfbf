"""What Saltglass may do to a save at its first start: play on, or any of what games do wrong."""

from __future__ import annotations

import shutil
import time
from dataclasses import replace
from pathlib import Path

from clever_ferry_demo.saltglass.depot import DepotStore
from clever_ferry_demo.saltglass.pieces import RefusalError, make_world, play_on
from clever_ferry_demo.saltglass.tern import TernStore

__all__ = ["HOWS", "launch"]

HOWS = {
    "goes-on": "load it, play on, and save",
    "looks": "load it, and save nothing",
    "anew": "begin a new world under the same name, in the same slot",
    "forgets": "remove the slot, as a game does that knows nothing of it",
    "elsewhere": "begin a new world in another slot, and leave this one as it is",
    "breaks-off": "stop in the middle of saving",
    "cloud": "have the store's cloud put an old copy back, at the start and at the end",
}


def launch(store: DepotStore | TernStore, slot: int, how: str, old: Path | None) -> str:
    """Start, do so, and end; return what was done. `old` is the cloud's copy of the folder."""
    now = time.time_ns()
    if how == "cloud":
        if old is None:
            raise RefusalError("its cloud needs an old copy")
        _put_back(store.folder, old)
        if slot in store.list():
            store.save(slot, play_on(store.load(slot), 1), now)
        _put_back(store.folder, old)
        return "the cloud has put its copy back"
    if how == "forgets":
        _forget(store, slot)
        return f"slot {slot} is forgotten"
    world = store.load(slot)
    if how == "goes-on":
        store.save(slot, play_on(world, 1), now)
    elif how in ("anew", "elsewhere"):
        new = make_world(world.name if how == "anew" else "New Shore", world.seed + 1, ("Wren",))
        free = next(one for one in range(1, store.slots + 1) if one not in store.list())
        store.save(slot if how == "anew" else free, new, now)
    elif how == "breaks-off":
        _break_off(store, slot)
    return HOWS[how]


def _put_back(folder: Path, old: Path) -> None:
    shutil.rmtree(folder)
    shutil.copytree(old, folder)


def _forget(store: DepotStore | TernStore, slot: int) -> None:
    if isinstance(store, DepotStore):
        shutil.rmtree(store.folder / store.list()[slot])
        return
    crate = store.crate()
    crate.records = [one for one in crate.records if not one.name.startswith(f"isle{slot}.")]
    crate.write(store.folder, time.time_ns() // 1_000_000)


def _break_off(store: DepotStore | TernStore, slot: int) -> None:
    """Write the first part of a save, and no more."""
    if isinstance(store, DepotStore):
        file = store.folder / store.list()[slot] / "world.sgw"
        file.write_bytes(file.read_bytes()[:100])
        return
    level = next(one for one in store.crate().records if one.name == f"isle{slot}.level")
    blob = store.folder / "stow" / f"{level.ident.hex()}-00.tern"
    blob.write_bytes(replace(level, data=level.data[:100]).data)
