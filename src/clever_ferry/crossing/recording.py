"""The logbook's line of a change: begun before it, and ended with what became of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

from clever_ferry.cargo import Save
from clever_ferry.errors import DamagedError, FerryError
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.snapshots import KeptSave, kept_save
from clever_ferry.moving.system import undisturbed

__all__ = ["recorded", "save_story"]


@contextmanager
def recorded(
    keeps: Keeps, token: str, started: int, story: dict[str, Any], clock: Callable[[], int]
) -> Iterator[int]:
    """Begin a line of the logbook; where the work fails before its change, that is written down.

    Once the journal has an entry, the change itself has the line follow that.
    """
    number = keeps.logbook.begin(started=started, manifest=token, story=story)
    try:
        yield number
    except BaseException as error:
        with undisturbed(), suppress(DamagedError):
            record = keeps.logbook.record(number)
            if record is not None and record.state == "begun" and not keeps.journal.holds(token):
                reason = error.what if isinstance(error, FerryError) else str(error) or "stopped"
                told = {**story, "reason": reason}
                keeps.logbook.turn(number, "put back", ended=clock(), story=told)
        raise


def save_story(save: Save | KeptSave) -> dict[str, Any]:
    """Return what the logbook tells of a save."""
    kept = kept_save(save) if isinstance(save, Save) else save
    return {"name": kept.title, "facts": dict(kept.facts)}
