"""The stand-in's program, and how its reigns lie on a described computer."""

from __future__ import annotations

import time
from pathlib import Path

from clever_ferry_demo.computers import folders_of, installed_at, system_of
from clever_ferry_demo.kingfisher_crown.lands import ADDON, install
from clever_ferry_demo.kingfisher_crown.reign import (
    Reign,
    ReignStore,
    begin,
    beyond_the_map,
    play_on,
    told,
)
from clever_ferry_demo.playing import GameProgram, RefusalError, Store

__all__ = ["ACCOUNTS", "PROGRAM", "demo_reigns", "lay_kingfisher_crown", "long_reign", "run"]

ACCOUNTS = {"windows": "41000017", "linux": "41000023"}
"""The usual account of each system."""
_HOUR = 3600 * 10**9


def _store(top: Path, edition: str, account: str) -> ReignStore:
    folders = folders_of(top)
    above = {
        "windows": lambda: folders["saved-games"] / "Kingfisher Crown",
        "linux": lambda: folders["xdg-data"] / "kingfisher-crown",
    }[edition]()
    return ReignStore(above / account, edition)


def _find(top: Path, edition: str, account: str | None) -> Store:
    found = _store(top, edition, account or ACCOUNTS[edition])
    if not found.folder.is_dir():
        raise RefusalError("the game was never started here")
    return found


def lay_kingfisher_crown(
    top: Path, reigns: tuple[Reign, ...], now_ns: int | None = None, account: str | None = None
) -> Path:
    """Install the game on a described computer, with reigns; return the account's folder."""
    now_ns = now_ns or time.time_ns()
    system = system_of(top)
    store = _store(top, system, account or ACCOUNTS[system])
    if not (installed := installed_at(top, "Kingfisher Crown")).is_dir():
        install(installed)
    for number, reign in enumerate(reigns):
        store.save(reign.name, reign, now_ns - (30 + 40 * number) * _HOUR)
    return store.folder


def demo_reigns() -> tuple[Reign, ...]:
    """Return the demo's reigns: one that is over, and one that has just begun."""
    return play_on(begin("Kelpmark Rising", 8, 24), 410), play_on(begin("A small crown"), 3)


def long_reign() -> Reign:
    """Return a reign over the whole map, and the land beyond it that an add-on has; it is over."""
    return play_on(beyond_the_map(begin("The Long Reign", 24, 25), ADDON), 420)


PROGRAM = GameProgram(
    "kingfisher-crown", "Kingfisher Crown", tuple(ACCOUNTS), _find, begin, play_on, told
)  # fmt: skip


def run() -> None:
    """Run the program."""
    PROGRAM.run()


if __name__ == "__main__":
    run()
