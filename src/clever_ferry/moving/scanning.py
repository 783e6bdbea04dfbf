"""Which files below some folders are new: a quick walk, alone or by several processes at once.

This file is also run as a program of its own, which is why it imports so little: the walk asks
the disk for every file, and one Python at a time is slower than the disk. No link is followed.
"""

from __future__ import annotations

import os
import sys

if __name__ != "__main__":
    import subprocess

from collections.abc import Iterable, Iterator
from typing import NamedTuple

__all__ = ["New", "scan"]

_HANDLES = os.scandir in os.supports_fd and hasattr(os, "O_DIRECTORY")
_ENOUGH = 48
"""Folders among which the work is dealt out; fewer are walked at once."""


class New(NamedTuple):
    """A file that was written since; or, with a size of -1, a folder that can't be read."""

    path: str
    stamp: int
    """Last change, ns since 1970."""
    size: int


def scan(folders: Iterable[str], since: int, aside: frozenset[str] = frozenset()) -> Iterator[New]:
    """Begin to look for files below folders that were written at `since` (ns) or later.

    Returns them as they are found; where there is much to look through, other processes have
    begun when this returns. `aside` are paths of folders that are passed by.
    """
    waiting = list(folders)
    found: list[New] = []
    while waiting and len(waiting) < _ENOUGH:
        waiting += _one(waiting.pop(0), since, aside, found)
    workers = min(4, os.cpu_count() or 1)
    if len(waiting) < _ENOUGH or workers < 2:
        while waiting:
            waiting += _one(waiting.pop(), since, aside, found)
        return iter(found)
    return _collected(found, _begun(waiting, since, aside, workers))


def _begun(
    folders: list[str], since: int, aside: frozenset[str], workers: int
) -> list[subprocess.Popen[bytes]]:
    running = []
    for number in range(workers):
        process = subprocess.Popen(
            [sys.executable, "-I", "-S", __file__, str(since)],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        )  # fmt: skip
        assert process.stdin is not None
        own = folders[number::workers]
        told = "\0".join([str(len(aside)), *aside, *own])
        process.stdin.write(os.fsencode(told))
        process.stdin.close()
        running.append(process)
    return running


def _collected(found: list[New], running: list[subprocess.Popen[bytes]]) -> Iterator[New]:
    yield from found
    for process in running:
        assert process.stdout is not None
        parts = os.fsdecode(process.stdout.read()).split("\0")
        for path, stamp, size in zip(parts[::3], parts[1::3], parts[2::3], strict=False):
            yield New(path, int(stamp), int(size))
        if process.wait():
            raise OSError(f"the search ended with {process.returncode}")


def _one(folder: str, since: int, aside: frozenset[str], found: list[New]) -> list[str]:
    """Look through one folder, and return its folders."""
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
                        found.append(New(path, max(data.st_mtime_ns, 0), data.st_size))
        finally:
            if _HANDLES:
                os.close(handle)
    except FileNotFoundError:
        pass
    except OSError:
        found.append(New(folder, 0, -1))
    return inner


def _run() -> None:
    since = int(sys.argv[1])
    count, *told = os.fsdecode(sys.stdin.buffer.read()).split("\0")
    aside, waiting = frozenset(told[: int(count)]), told[int(count) :]
    found: list[New] = []
    while waiting:
        waiting += _one(waiting.pop(), since, aside, found)
    out = "".join(f"{one.path}\0{one.stamp}\0{one.size}\0" for one in found)
    sys.stdout.buffer.write(os.fsencode(out))


if __name__ == "__main__":
    _run()
