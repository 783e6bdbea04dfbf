"""The stand-in's program, and how it lies on a described computer."""

from __future__ import annotations

from pathlib import Path

from clever_ferry_demo.computers import folders_of, installed_at
from clever_ferry_demo.kingfisher_dynamo.origin import (
    OriginStore,
    begin,
    install,
    play_on,
    told,
)
from clever_ferry_demo.playing import GameProgram, RefusalError, Store

__all__ = ["PROGRAM", "lay_kingfisher_dynamo", "run"]


def lay_kingfisher_dynamo(top: Path) -> Path:
    """Install the game on a described computer; return the folder of its origins."""
    install(installed_at(top, "Kingfisher Dynamo"))
    folder = _folder(top)
    folder.mkdir(parents=True)
    return folder


def _folder(top: Path) -> Path:
    return folders_of(top)["documents"] / "Kingfisher Dynamo" / "origins"


def _find(top: Path, _: str, __: str | None) -> Store:
    if not _folder(top).is_dir():
        raise RefusalError("the game was never started here")
    return OriginStore(_folder(top), installed_at(top, "Kingfisher Dynamo"))


PROGRAM = GameProgram(
    "kingfisher-dynamo", "Kingfisher Dynamo", ("origins",), _find, begin, play_on, told
)  # fmt: skip


def run() -> None:
    """Run the program."""
    PROGRAM.run()


if __name__ == "__main__":
    run()
