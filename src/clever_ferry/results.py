"""What a ferry's jobs return where it is several things: each has its name."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from clever_ferry.crossing.backing_up import BackedUp
    from clever_ferry.crossing.tidying import Hidden
    from clever_ferry.errors import FerryError
    from clever_ferry.finding import Berth
    from clever_ferry.finding.berths import OpenBerth
    from clever_ferry.finding.changes import Changes
    from clever_ferry.proving.pairing import Pairs
    from clever_ferry.proving.trying import Tried
    from clever_ferry.recipes import Game
    from clever_ferry.recipes.telling import EditionTold, RouteTold
    from clever_ferry.rehearsing import Rehearsed
    from clever_ferry.unboxing.opening import Opened
    from clever_ferry.unboxing.taking_apart import Part

__all__ = [
    "BackedUpAll", "ChangesSeen", "Explained", "Failed", "HiddenSaves", "RecipeTried", "SetAgainst",
    "Unboxed",
]  # fmt: skip


class ChangesSeen(NamedTuple):
    """Files that changed lately, and whose saves their folders hold, as far as a recipe knows."""

    changes: Changes
    owners: Mapping[Path, str]


class SetAgainst(NamedTuple):
    """Two editions' saves, file by file."""

    first: OpenBerth
    second: OpenBerth
    pairs: Pairs


class Failed(NamedTuple):
    """A berth with which something could not be done, and why."""

    berth: Berth
    error: FerryError


class BackedUpAll(NamedTuple):
    """The backups of several berths, and the berths that could not be kept."""

    made: list[BackedUp]
    failed: list[Failed]


class HiddenSaves(NamedTuple):
    """A berth, and its carried saves that a newer generation stands before."""

    opened: OpenBerth
    hidden: list[Hidden]


class Unboxed(NamedTuple):
    """A container that was opened, and its pieces; those left out have their problem."""

    opened: Opened
    parts: list[Part]


class Explained(NamedTuple):
    """A recipe in words: editions, and what crossings to and from one of them do."""

    game: Game
    editions: list[EditionTold]
    routes: list[RouteTold]


class RecipeTried(NamedTuple):
    """What a recipe makes of folders of real saves, and what became of saves on their ways."""

    tried: list[Tried]
    rehearsed: list[Rehearsed]
