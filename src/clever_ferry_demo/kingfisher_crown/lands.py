"""Kingfisher Crown as it is installed: its map, and an add-on that has a land more."""

from __future__ import annotations

from pathlib import Path

__all__ = ["ACROSS", "ADDON", "DOWN", "install"]

ACROSS, DOWN = 30, 20
ADDON = "Deep Winter"
"""An add-on: beyond the map there is one more land, of ice."""


def install(folder: Path) -> Path:
    """Lay the installed game into a folder, and return it."""
    lands = [(number, (number - 1) % ACROSS, (number - 1) // ACROSS)
             for number in range(1, ACROSS * DOWN + 1)]  # fmt: skip
    _lands(folder, lands)
    _lands(folder / "add-ons" / ADDON, [(ACROSS * DOWN + 1, ACROSS - 1, DOWN)])
    (folder / "version.txt").write_text("Kingfisher Crown 1.4\n", "utf-8", newline="\n")
    return folder


def _lands(folder: Path, lands: list[tuple[int, int, int]]) -> None:
    (folder / "map").mkdir(parents=True)
    lines = ["; where each land lies"]
    for number, across, down in lands:
        lines += [f"land {number} [", f"  across: {across}", f"  down: {down}", "]"]
    (folder / "map" / "lands.txt").write_text("\n".join(lines) + "\n", "utf-8", newline="\n")
