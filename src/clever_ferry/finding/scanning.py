"""Which files below some folders are new: a quick walk, alone or by several processes at once."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from clever_ferry.finding import walking
from clever_ferry.finding.walking import walk

__all__ = ["New", "scan"]

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
    found: list[tuple[str, int, int]] = []
    while waiting and len(waiting) < _ENOUGH:
        waiting += walk(waiting.pop(0), since, aside, found)
    workers = min(4, os.cpu_count() or 1)  # free: any number does
    if len(waiting) < _ENOUGH or workers < 2:  # free: how quick it is
        while waiting:
            waiting += walk(waiting.pop(), since, aside, found)
        return (New(*one) for one in found)
    return _collected(found, _begun(waiting, since, aside, workers))


def _begun(
    folders: list[str], since: int, aside: frozenset[str], workers: int
) -> list[subprocess.Popen[bytes]]:
    running = []
    for number in range(workers):
        process = subprocess.Popen(
            [sys.executable, "-I", "-S", walking.__file__, str(since)],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        )  # fmt: skip
        assert process.stdin is not None
        own = folders[number::workers]
        request = "\0".join([str(len(aside)), *aside, *own])
        process.stdin.write(os.fsencode(request))
        process.stdin.close()
        running.append(process)
    return running


def _collected(
    found: list[tuple[str, int, int]], running: list[subprocess.Popen[bytes]]
) -> Iterator[New]:
    yield from (New(*one) for one in found)
    for process in running:
        assert process.stdout is not None
        parts = os.fsdecode(process.stdout.read()).split("\0")
        for path, stamp, size in zip(parts[::3], parts[1::3], parts[2::3], strict=False):
            yield New(path, int(stamp), int(size))
        if process.wait():
            raise OSError(f"the search ended with {process.returncode}")
