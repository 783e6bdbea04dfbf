"""The stand-in's program, and how it lies on a described computer."""

from __future__ import annotations

from pathlib import Path

from clever_ferry_demo.computers import folders_of, installed_at
from clever_ferry_demo.kingfisher_age.campaign import (
    AgeStore,
    Heritages,
    begin,
    install,
    play_on,
    told,
)
from clever_ferry_demo.playing import GameProgram, RefusalError, Store

__all__ = ["PROGRAM", "lay_kingfisher_age", "run"]


def lay_kingfisher_age(top: Path) -> Path:
    """Install the game on a described computer; return its player's folder."""
    install(installed_at(top, "Kingfisher Age"))
    folder = _folder(top)
    for name in ("campaigns", "heritage"):
        (folder / name).mkdir(parents=True)
    (folder / "heritage" / "enabled.json").write_text(
        '{\n  "enabled": []\n}\n', "utf-8", newline="\n"
    )
    return folder


def _folder(top: Path) -> Path:
    return folders_of(top)["documents"] / "Kingfisher Age"


def _find(top: Path, edition: str, _: str | None) -> Store:
    kind = {"campaigns": AgeStore, "heritage": Heritages}[edition]
    if not _folder(top).is_dir():
        raise RefusalError("the game was never started here")
    return kind(_folder(top), installed_at(top, "Kingfisher Age"))


PROGRAM = GameProgram(
    "kingfisher-age", "Kingfisher Age", ("campaigns", "heritage"), _find, begin, play_on, told
)  # fmt: skip


def run() -> None:
    """Run the program."""
    PROGRAM.run()


if __name__ == "__main__":
    run()
