"""Versions: a save that is newer than its target's game would not load, or load as nothing."""

from __future__ import annotations

import re
from collections.abc import Sequence

from clever_ferry.cargo import Save
from clever_ferry.errors import RefusedError
from clever_ferry.finding.berths import OpenBerth

__all__ = ["version_notes"]

_PARTS = re.compile(r"\d{1,9}")


def version_notes(saves: Sequence[Save], target: OpenBerth, *, newer_ok: bool) -> tuple[str, ...]:
    """Return what is to be said of the versions of saves that are to be carried.

    The target's version is the newest that its own saves are of. Raises RefusedError where a
    save is newer, unless `newer_ok` says that the game was updated since.
    """
    key = target.berth.edition.not_newer
    if key is None:
        return ()
    label = target.berth.game.fact_labels[key]
    known = [fact for save in target.listing.saves if (fact := save.fact(key))]
    newest = max(known, key=lambda fact: _parts(fact.value), default=None)
    notes = []
    for save in saves:
        own = save.fact(key)
        if own is None:
            continue
        if newest is None:
            notes.append(
                f"{save.title} is of {label} {own.text}. Nothing is known of the target's: see "
                "that its game is not older."
            )
        elif _parts(own.value) > _parts(newest.value) and not newer_ok:
            raise RefusedError(
                f"{save.title} was saved by a newer game ({label} {own.text}) than the target's "
                f"({newest.text}), which would not load it.",
                advice="Update the target's game, save once in it (a throwaway will do), and try "
                "again. If it is updated already, add --newer-ok.",
                again=("--newer-ok",),
            )
        elif _parts(own.value) < _parts(newest.value):
            notes.append(
                f"{save.title} is of {label} {own.text}, the target's game of {newest.text}: it "
                "will bring the save up to date, and then the older game may not load it."
            )
    return tuple(notes)


def _parts(value: object) -> tuple[int, ...]:
    return tuple(int(part) for part in _PARTS.findall(str(value)))
