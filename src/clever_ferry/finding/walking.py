"""Walking through folders for files that are new; also a program of its own, for `scanning`.

It imports next to nothing, so that it begins at once: the walk asks the disk for every file,
and one Python at a time is slower than the disk. No link is followed.
"""

from __future__ import annotations

import os
import sys

__all__ = ["walk"]

_HANDLES = os.scandir in os.supports_fd and hasattr(os, "O_DIRECTORY")


def walk(
    folder: str, since: int, aside: frozenset[str], found: list[tuple[str, int, int]]
) -> list[str]:
    """Look through one folder, and return its folders.

    Adds to `found` the path, last change (ns since 1970) and size of each file that was written
    at `since` (ns) or later; a folder that can't be read has a size of -1. One that is in `aside`
    is passed by.
    """
    inner: list[str] = []
    if folder in aside:
        return inner
    try:
        # By a handle, the disk is asked for names and not for whole paths.
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW) if _HANDLES else -1
        try:
            with os.scandir(handle if _HANDLES else folder) as listed:
                for entry in listed:
                    try:
                        if entry.is_dir(follow_symlinks=False):
                            inner.append(f"{folder}{os.sep}{entry.name}")
                            continue
                        data = entry.stat(follow_symlinks=False)
                    except OSError:
                        continue  # it has vanished
                    if data.st_mtime_ns >= since or data.st_ctime_ns >= since:
                        path = f"{folder}{os.sep}{entry.name}"
                        found.append((path, max(data.st_mtime_ns, 0), data.st_size))
        finally:
            if _HANDLES:
                os.close(handle)
    except FileNotFoundError:
        pass
    except OSError:
        found.append((folder, 0, -1))
    return inner


def _run() -> None:
    """Walk through the folders that standard input names, and write what is found."""
    since = int(sys.argv[1])
    count, *paths = os.fsdecode(sys.stdin.buffer.read()).split("\0")
    aside, waiting = frozenset(paths[: int(count)]), paths[int(count) :]
    found: list[tuple[str, int, int]] = []
    while waiting:
        waiting += walk(waiting.pop(), since, aside, found)
    out = "".join(f"{path}\0{stamp}\0{size}\0" for path, stamp, size in found)
    sys.stdout.buffer.write(os.fsencode(out))


if __name__ == "__main__":
    _run()
