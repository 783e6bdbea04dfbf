"""Guards before writing: the game must not be at work on what is to be changed."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from clever_ferry.errors import RefusedError
from clever_ferry.finding.signs import Signs
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.tree import Files

__all__ = ["await_quiet", "left_by_us", "refuse_busy", "refuse_changed"]

_QUIET = 2 * 10**9
"""A file that changed less than 2 s ago may be one of several that a game is writing."""
_LONGEST = 6.0


def refuse_busy(signs: Signs) -> None:
    """Raise RefusedError where the game runs, or a program has a file of the target open."""
    if not signs.busy:
        return
    raise RefusedError(
        "The target's game seems to be running, so nothing was changed."
        if signs.running
        else "A program has files of the target open, so nothing was changed.",
        details=tuple(f"  {one}" for one in (*signs.running, *signs.opened[:5])),
        advice="Close the game and its store's program, then run the same command again. If it "
        "is closed and only looks as if it ran, add --game-closed.",
    )


def refuse_changed(*, changed: bool) -> None:
    """Raise RefusedError where a target is no longer as the plan that was shown has seen it."""
    if changed:
        raise RefusedError(
            "The target changed after the plan was shown, so nothing was changed.",
            advice="Close the game and its store's program, then run the same command again.",
        )


def left_by_us(keeps: Keeps, root: Path) -> dict[str, int]:
    """Return the files that the last change of a folder has left, with their time stamps."""
    for record in keeps.logbook.records():
        if record.story["to"]["root"] == str(root):
            return {
                item["path"]: item["stamp"]
                for item in record.story.get("left", [])
                if "stamp" in item
            }
    return {}


def await_quiet(
    files: Files,
    paths: Sequence[str],
    own: Mapping[str, int],
    *,
    clock: Callable[[], int] = time.time_ns,
    sleep: Callable[[float], None] = time.sleep,
) -> None:
    """Wait until none of these files was changed for 2 s; `own` are stamps that mean nothing.

    Raises RefusedError where files still change after 6 s.
    """
    deadline = clock() + int(_LONGEST * 1e9)
    while True:
        now = clock()
        fresh = [
            path
            for path in paths
            if (info := files.info(path)) is not None
            and 0 <= now - info.stamp < _QUIET
            and own.get(path) != info.stamp
        ]
        if not fresh:
            return
        if now > deadline:
            raise RefusedError(
                "Files of the target are being written just now, so nothing was changed.",
                details=tuple(f"  {path}" for path in fresh[:5]),
                advice="Close the game and its store's program, wait until they have finished, "
                "then run the same command again.",
            )
        sleep(0.1)
