"""Pruning: which backups may go, what that frees, and taking them away.

Kept in any case: of every save the newest backup that has it, and what an undo or an
interrupted change still needs. Objects go only once no snapshot names them.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple

from clever_ferry.errors import DamagedError
from clever_ferry.keeping.locker import Locker
from clever_ferry.keeping.snapshots import Kept

__all__ = ["Pruning", "Rules", "plan_pruning", "prune"]


class Rules(NamedTuple):
    """How many backups to keep of each folder of saves."""

    last: int = 5
    """The newest ones."""
    daily: int = 14
    """Of each of so many days (that have any), the newest; so too for weeks and months."""
    weekly: int = 8
    monthly: int = 12


@dataclass(frozen=True)
class Pruning:
    """What pruning will do."""

    goes: tuple[Kept, ...]
    stays: Mapping[str, str]
    """The ids of those that stay, and why."""
    objects: tuple[str, ...]
    """Contents that nothing will name any more."""
    frees: int
    """Bytes on the disk."""


def plan_pruning(locker: Locker, rules: Rules, needed: Collection[str]) -> Pruning:
    """Say what may go; `needed` are ids that an undo or an interrupted change still needs.

    Raises DamagedError where a snapshot can't be read: what it names is not known, so nothing
    can be said to be needed no more.
    """
    every, _, faults = locker.listed()
    if faults:
        raise DamagedError(
            "A backup's record can't be read, so nothing is pruned.",
            details=tuple(faults),
            advice="Move that file out of the locker's `snapshots` folder if you can do without "
            "it, then prune again.",
        )
    stays = _stays(every, rules, needed)
    goes = tuple(one for one in every if one.id not in stays)
    used: set[str] = set()
    for ident in stays:
        used.update(kept.digest for kept in locker.snapshot(ident).files)
    spare = [one for one in locker.objects.stored() if one.digest not in used]
    return Pruning(goes, stays, tuple(one.digest for one in spare), sum(one.size for one in spare))


def _stays(every: Iterable[Kept], rules: Rules, needed: Collection[str]) -> dict[str, str]:
    """`every` has the newest first. States that passed by are counted apart from backups."""
    stays: dict[str, str] = {}
    saves: set[object] = set()
    counts: dict[tuple[str, bool, str], dict[str, None]] = {}
    periods: tuple[tuple[str, int, Callable[[datetime], str]], ...] = (
        ("day", rules.daily, lambda day: f"{day:%Y-%m-%d}"),
        ("week", rules.weekly, lambda day: f"{day:%G-%V}"),
        ("month", rules.monthly, lambda day: f"{day:%Y-%m}"),
    )
    for one in every:
        keys: list[object] = [(one.root, save.key) for save in one.saves] or [one.root]
        if any(key not in saves for key in keys):
            stays[one.id] = "the newest of a save"
        saves.update(keys)
        if one.id in needed:
            stays.setdefault(one.id, "an undo needs it")
        passing = one.kind == "watched"
        seen = counts.setdefault((one.root, passing, "last"), {})
        if len(seen) < rules.last:
            seen[one.id] = None
            stays.setdefault(one.id, "one of the last")
        day = datetime.fromtimestamp(one.made / 1e9)
        for name, most, period in periods:
            seen = counts.setdefault((one.root, passing, name), {})
            label = period(day)
            if label not in seen and len(seen) < most:
                seen[label] = None
                stays.setdefault(one.id, f"the {name}'s newest")
    return stays


def prune(locker: Locker, rules: Rules, needed: Collection[str]) -> Pruning:
    """Take away what may go; what is to go is reckoned again while the locker is held.

    A kill in between leaves contents that nothing names; the next pruning takes them.
    """
    with locker.writing("pruning the locker"):
        plan = plan_pruning(locker, rules, needed)
        for one in plan.goes:
            locker.snapshots.remove(one.id)
        locker.snapshots.sync()
        for digest in plan.objects:
            locker.objects.remove(digest)
    return plan
