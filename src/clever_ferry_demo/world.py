"""The simulated computers: folder trees with descriptions, a Windows-like and a Linux-like one."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

from clever_ferry_demo.computers import folders_of
from clever_ferry_demo.saltglass.depot import DepotStore
from clever_ferry_demo.saltglass.finch import FinchStore
from clever_ferry_demo.saltglass.longshore import write_export
from clever_ferry_demo.saltglass.pieces import RefusalError, make_world, play_on
from clever_ferry_demo.saltglass.server import ServerStore
from clever_ferry_demo.saltglass.tern import TernStore

__all__ = [
    "DEPOT_ACCOUNT",
    "FINCH_ACCOUNT",
    "TERN_ACCOUNT",
    "find_store",
    "lay_finch",
    "lay_loft",
    "lay_world",
    "store_at",
]

DEPOT_ACCOUNT = "100200300"
TERN_ACCOUNT = "5a17c0ffee42"
FINCH_ACCOUNT = "00471100"

_HOME = "C/Users/Wren"
_DESCRIPTION = f"""\
# A simulated computer: cferry and the stand-in games take it for a real one.
name = "den"
system = "windows"
keeps = "ferry"

[folders]
home = "{_HOME}"
documents = "{_HOME}/Documents"
saved-games = "{_HOME}/Saved Games"
roaming-data = "{_HOME}/AppData/Roaming"
local-data = "{_HOME}/AppData/Local"
low-data = "{_HOME}/AppData/LocalLow"
"""

_HOUR = 3600 * 10**9

# store, slot, world, seed, players, days played, hours since the last save
_WORLDS = (
    ("depot", 1, "Saltmarsh", 4711, ("Wren", "Isa"), 12, 9 * 24 + 3),
    ("depot", 3, "Heron Point", 815, ("Wren",), 57, 26),
    ("tern", 1, "Heron Point", 2323, ("Wren", "Oona"), 20, 5 * 24 + 7),
    ("tern", 2, "Saltmarsh", 4711, ("Wren", "Isa"), 31, 2),
)


def lay_world(folder: Path, now_ns: int | None = None) -> Path:
    """Lay the demo computer into a folder that is empty or not there; return its top."""
    now_ns = now_ns or time.time_ns()
    top = folder / "den"
    top.mkdir(parents=True)
    (top / "computer.toml").write_text(_DESCRIPTION, "utf-8")
    for path in (
        "Documents",
        "Saved Games",
        "AppData/Roaming",
        "AppData/Local",
        "AppData/LocalLow",
    ):
        (top / _HOME / path).mkdir(parents=True)
    stores: dict[str, Any] = {"depot": _depot(top), "tern": _tern(top)}
    for store in stores.values():
        store.folder.mkdir(parents=True)
    for store, slot, name, seed, players, days, hours in _WORLDS:
        world = play_on(make_world(name, seed, players), days - 1)
        stores[store].save(slot, world, now_ns - hours * _HOUR)
    return top


def lay_finch(top: Path, now_ns: int | None = None) -> Path:
    """Lay the handheld's folder into the documents of a laid computer, with one try of a world."""
    store = _finch(top)
    store.save(1, make_world("Wren's try", 12, ("Wren",)), (now_ns or time.time_ns()) - _HOUR)
    return store.folder


_LOFT = """\
# A simulated Linux computer. Windows games run on it in Lamplight's prefixes, and the disk of an
# older Windows computer is mounted.
name = "loft"
system = "linux"
keeps = "ferry"
mounts = ["media/old-disk"]

[folders]
home = "home/isa"
documents = "home/isa/Documents"
downloads = "home/isa/Downloads"
xdg-data = "home/isa/.local/share"
xdg-config = "home/isa/.config"
"""
_PREFIX_USER = "inside/drive_c/users/player/AppData"


def lay_loft(folder: Path, now_ns: int | None = None) -> Path:
    """Lay the Linux-like computer, with prefixes, a Windows disk and an export; return its top."""
    now_ns = now_ns or time.time_ns()
    top = folder / "loft"
    top.mkdir(parents=True)
    (top / "computer.toml").write_text(_LOFT, "utf-8")
    home = top / "home" / "isa"
    shelf = top / "media" / "games" / "lamplight"
    (home / ".config" / "lamplight").mkdir(parents=True)
    listed = '{"shelves": ["/media/games/lamplight", "/media/gone/lamplight"]}\n'
    (home / ".config" / "lamplight" / "shelves.json").write_text(listed, "utf-8")
    (home / "Documents").mkdir()
    prefix = home / ".local/share/lamplight/prefixes/481516" / _PREFIX_USER
    disk = top / "media" / "old-disk" / "Users" / "Wren" / "AppData"
    (disk.parents[2] / "Windows").mkdir(parents=True)
    depot = DepotStore(prefix / "LocalLow/NineKettles/Saltglass" / "300200100")
    tern = TernStore(
        shelf
        / "prefixes/2342"
        / _PREFIX_USER
        / "Local/TernArcade/Crates"
        / "0ddba11cafe5/saltglass"
    )
    old = DepotStore(disk / "LocalLow/NineKettles/Saltglass" / DEPOT_ACCOUNT)
    saltmarsh, heron = (
        make_world(n, s, ("Wren", "Isa")) for n, s in (("Saltmarsh", 4711), ("Heron Point", 815))
    )
    for store, slot, world, hours in (
        (depot, 1, play_on(make_world("Isa's try", 99, ("Isa",)), 0), 30),
        (tern, 1, play_on(saltmarsh, 17), 80),
        (old, 1, play_on(saltmarsh, 11), 9 * 24),
        (old, 3, play_on(heron, 40), 12 * 24),
    ):
        store.folder.mkdir(parents=True, exist_ok=True)
        store.save(slot, world, now_ns - hours * _HOUR)
    worlds = {
        1: (play_on(heron, 8), now_ns - 60 * 24 * _HOUR),
        2: (play_on(make_world("Gull Rock", 77, ("Isa", "Oona")), 23), now_ns - 50 * 24 * _HOUR),
    }
    write_export(home / "Downloads" / "longshore-export", "isa-4471", worlds)
    return top


def _known(top: Path, name: str) -> Path:
    folders = folders_of(top)
    if name not in folders:
        raise RefusalError("there is no usual place for it on this system: name its --folder")
    return folders[name]


def _depot(top: Path, account: str = DEPOT_ACCOUNT) -> DepotStore:
    return DepotStore(_known(top, "low-data") / "NineKettles" / "Saltglass" / account)


def _tern(top: Path, account: str = TERN_ACCOUNT) -> TernStore:
    return TernStore(_known(top, "local-data") / "TernArcade" / "Crates" / account / "saltglass")


def _finch(top: Path, account: str = FINCH_ACCOUNT) -> FinchStore:
    return FinchStore(_known(top, "documents") / "Pocket Finch" / account / "SALTGLASS")


Store = DepotStore | TernStore | FinchStore | ServerStore


def store_at(folder: Path, store: str) -> Store:
    """Return a store's saves in the folder that an account has."""
    kinds: dict[str, type[Store]] = {
        "depot": DepotStore, "tern": TernStore, "finch": FinchStore, "server": ServerStore
    }  # fmt: skip
    return kinds[store](folder.absolute())


def find_store(top: Path, store: str, account: str | None) -> Store:
    """Return a store's saves on a described computer, for the usual account or another."""
    found: Store
    if store == "depot":
        found = _depot(top, account or DEPOT_ACCOUNT)
    elif store == "server":
        raise RefusalError("a server is where it was set up: name its --folder")
    elif store == "finch":
        found = _finch(top, account or FINCH_ACCOUNT)
    else:
        found = _tern(top, account or TERN_ACCOUNT)
    if not found.folder.is_dir():
        raise RefusalError(f"the game was never started here ({found.folder})")
    return found
