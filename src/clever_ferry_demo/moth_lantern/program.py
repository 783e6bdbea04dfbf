"""The stand-in's program, and how its saves lie on a described computer."""

from __future__ import annotations

import time
from pathlib import Path

from clever_ferry_demo.computers import folders_of
from clever_ferry_demo.moth_lantern.editions import AnniversaryStore, ClassicStore, FinchStore
from clever_ferry_demo.moth_lantern.tale import Tale, begin, play_on, told
from clever_ferry_demo.playing import GameProgram, RefusalError, Store

__all__ = ["CLASSIC_OWNER", "PROGRAM", "lay_moth_lantern", "run"]

CLASSIC_OWNER = "7700112"
_FINCH_ACCOUNT = "00471100"
_HOUR = 3600 * 10**9


def _store(top: Path, edition: str, account: str | None) -> Store:
    folders = folders_of(top)
    documents = folders["documents"]
    if edition == "classic":
        return ClassicStore(documents / "Moth and Lantern", int(account or CLASSIC_OWNER))
    if edition == "anniversary":
        return AnniversaryStore(folders["saved-games"] / "Moth & Lantern Anniversary")
    return FinchStore(documents / "Pocket Finch" / (account or _FINCH_ACCOUNT) / "MOTHLANT")


def _find(top: Path, edition: str, account: str | None) -> Store:
    found = _store(top, edition, account)
    if not found.folder.is_dir():  # type: ignore[attr-defined]
        raise RefusalError("the game was never started here")
    return found


def lay_moth_lantern(top: Path, now_ns: int | None = None) -> None:
    """Lay saves of all three editions onto a described computer."""
    now_ns = now_ns or time.time_ns()
    for edition, slot, tale, hours in (
        ("classic", "1", play_on(begin("Ada's first"), 9), 90 * 24),
        ("classic", "3", play_on(begin("By candle"), 2), 80 * 24),
        ("anniversary", "1", begin("a try"), 3),
        ("finch", "1", begin("a try"), 4),
    ):
        store: Store = _store(top, edition, None)
        store.save(slot, tale, now_ns - hours * _HOUR)


def _told(tale: Tale) -> str:
    return told(tale)


PROGRAM = GameProgram(
    "moth-lantern", "Moth & Lantern", ("classic", "anniversary", "finch"), _find, begin, play_on,
    _told,
)  # fmt: skip


def run() -> None:
    """Run the program."""
    PROGRAM.run()


if __name__ == "__main__":
    run()
