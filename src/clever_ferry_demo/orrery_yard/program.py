"""The stand-in's program, and how its yards lie on a described computer."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path

from clever_ferry_demo.computers import folders_of, system_of
from clever_ferry_demo.orrery_yard.yard import MAPS, Yard, YardStore, begin, play_on, told
from clever_ferry_demo.playing import GameProgram, RefusalError, Store, write

__all__ = ["ACCOUNTS", "PROGRAM", "demo_yards", "lay_orrery_yard", "run"]

ACCOUNTS = {"wren": "Wren", "isa": "Isa"}
"""Accounts and what their players are called in the game."""
_EDITIONS = {"windows": "windows", "linux": "linux", "macos": "macos"}
_HOUR = 3600 * 10**9


def _store(top: Path, edition: str, account: str) -> YardStore:
    folders = folders_of(top)
    above = {
        "windows": lambda: folders["documents"] / "My Yards" / "Orrery Yard",
        "linux": lambda: folders["xdg-data"] / "orrery-yard",
        "macos": lambda: folders["app-support"] / "Orrery Yard",
    }[edition]()
    return YardStore(above / account, edition, ACCOUNTS.get(account, account.title()))


def _find(top: Path, edition: str, account: str | None) -> Store:
    usual = {"windows": "wren", "linux": "isa", "macos": "oona"}
    found = _store(top, edition, account or usual[edition])
    if not found.folder.is_dir():
        raise RefusalError("the game was never started here")
    return found


def lay_orrery_yard(
    top: Path, account: str, yards: tuple[Yard, ...], now_ns: int | None = None
) -> Path:
    """Lay yards, settings and a pack onto a described computer; return the account's folder."""
    now_ns = now_ns or time.time_ns()
    store = _store(top, system_of(top), account)
    for number, yard in enumerate(yards):
        store.save(yard.name, yard, now_ns - (5 + number) * 24 * _HOUR)
    pictures, other = {
        "windows": (r"C:\Users\Wren\Documents\Yard pictures", r"E:\Music"),
        "linux": ("/home/isa/Documents/Yard pictures", "/media/games/music"),
        "macos": ("/Users/oona/Documents/Yard pictures", "/Volumes/Music"),
    }[store.system]
    lines = ["[folders]", f"pictures = {pictures}", f"music = {other}", "[sound]", "bells = 4", ""]
    write(store.folder / "settings.ini", store.line.join(lines).encode(), now_ns - 90 * _HOUR)
    write(store.folder / "packs" / "comets.pack", b"PACK comets\n", now_ns - 300 * _HOUR)
    return store.folder


def demo_yards() -> tuple[Yard, ...]:
    """Return the demo's yards: one that friends build together, and one that needs a pack."""
    brass = play_on(replace(begin("Brass Court"), friends=("Isa", "Oona")), 30)
    comet = play_on(replace(begin("Comet Lane"), packs=("comets",)), 4)
    return brass, comet


PROGRAM = GameProgram(
    "orrery-yard", "Orrery Yard", tuple(_EDITIONS), _find, begin, play_on, told,
    lambda yard, ground: replace(yard, map=ground), tuple(MAPS),
)  # fmt: skip


def run() -> None:
    """Run the program."""
    PROGRAM.run()


if __name__ == "__main__":
    run()
