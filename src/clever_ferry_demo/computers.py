"""Described computers, as the stand-in games see them: known folders by name."""

from __future__ import annotations

import tomllib
from pathlib import Path

from clever_ferry_demo.playing import RefusalError

__all__ = ["folders_of", "installed_at", "system_of"]


def _described(top: Path) -> tuple[Path, dict[str, object]]:
    file = top / "computer.toml" if top.is_dir() else top
    if not file.is_file():
        raise RefusalError(f"no described computer is at {top}")
    return file.parent, tomllib.loads(file.read_text("utf-8"))


def folders_of(top: Path) -> dict[str, Path]:
    """Return the known folders of a described computer."""
    place, described = _described(top)
    folders = described["folders"]
    assert isinstance(folders, dict)
    return {name: place / path for name, path in folders.items()}


def system_of(top: Path) -> str:
    """Return what kind of system a described computer has."""
    return str(_described(top)[1]["system"])


def installed_at(top: Path, title: str) -> Path:
    """Return where a game is installed on a described computer."""
    folders = folders_of(top)
    if system_of(top) == "windows":
        return folders["local-data"] / "Programs" / title
    return folders["home"] / "games" / title.lower().replace(" ", "-")
