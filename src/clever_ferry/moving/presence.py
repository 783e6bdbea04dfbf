"""Whether something is there, asked so that nothing fails."""

from __future__ import annotations

import os
from pathlib import Path

__all__ = ["identity", "is_folder", "is_there", "same_place"]


def identity(path: Path) -> str:
    """Return what is the same for one folder, whatever name it is reached by, there or not.

    A folder that is there is known by the disk's own numbers; one that is not, by the nearest
    above it that is.
    """
    real, missing = os.path.realpath(path), ""
    while True:
        try:
            data = os.stat(real)  # noqa: PTH116
            return f"{data.st_dev}:{data.st_ino}{missing}"
        except (OSError, ValueError):
            above, name = os.path.split(real)
            if above == real:
                return os.path.normcase(f"{real}{missing}")
            real, missing = above, f"/{os.path.normcase(name)}{missing}"


def same_place(one: Path, other: Path) -> bool:
    """Tell whether two paths name one folder, there or not."""
    return one == other or identity(one) == identity(other)


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
