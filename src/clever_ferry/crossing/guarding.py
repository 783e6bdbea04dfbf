"""Guards before writing: the game must not be at work on what is to be changed."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import PurePath

from clever_ferry.errors import RefusedError
from clever_ferry.finding.berths import Berth
from clever_ferry.finding.computers import Computer
from clever_ferry.finding.signs import Signs, signs_of
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.moving.claims import Claim, claim, here, home_of, release
from clever_ferry.moving.files import FolderFiles

__all__ = [
    "AtWork",
    "at_work",
    "await_quiet",
    "give_free",
    "held",
    "refuse_busy",
    "refuse_changed",
    "take_claim",
]

AtWork = Callable[[], Signs]
"""Looks for who is at work on a folder that is to be changed."""

_QUIET = 2 * 10**9
"""A file that changed less than 2 s ago may be one of several that a game is writing."""
_LONGEST = 6.0


def at_work(computer: Computer, berth: Berth | None, *, closed: bool = False) -> AtWork:
    """Return what looks for a berth's game; `closed` is the user's word that it does not run.

    Where the berth is not known, there is no game to look for.
    """
    return lambda: Signs() if closed or berth is None else signs_of(computer, berth)


def refuse_busy(signs: Signs) -> None:
    """Raise RefusedError where the game runs, or a program has a file of the target open."""
    if not signs.busy:
        return
    raise RefusedError(
        "The target's game seems to be running, so nothing was changed."
        if signs.running
        else "A program has files of the target open, so nothing was changed.",
        details=(
            *(f"  {one}" for one in (*signs.running, *signs.opened[:5])),
            *(f"To stop it: {step}" for step in signs.stop),
        ),
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


@contextmanager
def held(keeps: Keeps, folder: FolderFiles, doing: str) -> Iterator[None]:
    """Hold the lock of a folder on which no change is under way, nor was cut short."""
    with keeps.lock(folder, doing):
        keeps.journal.refuse_open(folder)
        yield


def take_claim(keeps: Keeps, folder: FolderFiles, anchor: PurePath, token: str, doing: str) -> None:
    """Claim a folder that other computers reach, too, for the change of that token.

    The journal must know of the change by then: what is cut short keeps its claim. `anchor` is the
    folder, or what is there above it. Raises RefusedError where another computer has it.
    """
    own = Claim(token, home_of(keeps.folder), here(), doing)
    claim(folder.shore, anchor, own, lambda other: not keeps.journal.holds(other))


def give_free(folder: FolderFiles, anchor: PurePath, token: str) -> None:
    """Give a folder free that a change has claimed; its entry in the journal may go after that."""
    if folder.shore.capabilities.shared:
        release(folder.shore, anchor, token)


def await_quiet(
    files: FolderFiles,
    paths: Sequence[str],
    own: Mapping[str, int],
    *,
    sleep: Callable[[float], None] = time.sleep,
) -> None:
    """Wait until none of these files was changed for 2 s; `own` are stamps that mean nothing.

    Raises RefusedError where files still change after 6 s.
    """
    can = files.shore.capabilities
    deadline = files.shore.now() + int(_LONGEST * 1e9)
    while True:
        now = files.shore.now()
        fresh = [
            path
            for path in paths
            if (info := files.info(path)) is not None
            and 0 <= now - info.stamp < _QUIET
            and not (path in own and can.same_time(info.stamp, own[path]))
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
