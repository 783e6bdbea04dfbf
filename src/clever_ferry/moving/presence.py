"""Whether something is there, asked so that nothing fails."""

from __future__ import annotations

from pathlib import Path

__all__ = ["is_folder", "is_there"]


def is_folder(path: Path) -> bool:
    """Tell whether a folder is there; one that may not be asked for is not."""
    try:
        return path.is_dir()
    except (OSError, ValueError):  # ValueError: a name that no system has
        return False


def is_there(path: Path) -> bool:
    """Tell whether anything is there; what may not be asked for is not."""
    try:
        return path.exists()
    except (OSError, ValueError):
        return False
