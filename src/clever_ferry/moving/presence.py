"""Whether something is there: asked so that nothing fails, or so that a fault is no absence.

What is about to be changed is asked for by the `..._stands` functions: a disk that fails just then
must not have a file look as if it had never been there. (Python's own tests swallow such faults,
some in every version, all in newer ones.)
"""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path

__all__ = [
    "file_stands",
    "folder_stands",
    "identity",
    "is_folder",
    "is_there",
    "stands",
]

_NOTHING = frozenset({errno.ENOENT, errno.ENOTDIR, errno.ENAMETOOLONG, errno.ELOOP})


def stands(path: Path, *, follow: bool = True) -> os.stat_result | None:
    """Return a path's data, None where nothing is there; any other fault is raised as OSError."""
    try:
        return path.stat(follow_symlinks=follow)
    except ValueError:  # a name that no system has
        return None
    except OSError as error:
        if error.errno in _NOTHING or getattr(error, "winerror", 0) in (53, 123, 161):
            return None  # Windows: no such share, no possible name, no such path
        raise


def folder_stands(path: Path) -> bool:
    """Tell whether a folder is there; a fault in asking is raised as OSError."""
    data = stands(path)
    return data is not None and stat.S_ISDIR(data.st_mode)


def file_stands(path: Path) -> bool:
    """Tell whether a plain file is there; a fault in asking is raised as OSError."""
    data = stands(path)
    return data is not None and stat.S_ISREG(data.st_mode)


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
