"""The logbook's line of a change: begun before it, and ended with what became of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from clever_ferry.cargo import Save
from clever_ferry.crossing.changing import Changed
from clever_ferry.errors import FerryError
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.snapshots import KeptSave, kept_save

__all__ = ["Line", "recorded", "save_story"]


@dataclass(frozen=True)
class Line:
    """One line of the logbook, not yet ended."""

    number: int
    story: dict[str, Any]
    keeps: Keeps
    clock: Callable[[], int]
    ended: list[int] = field(default_factory=list)

    def proved(self, made: Changed) -> None:
        """Write down that the change is done, and what it has left."""
        self.story["left"] = [
            {
                "path": item.path,
                "digest": item.digest,
                "size": item.size,
                "stamp": item.stamp,
            }
            for item in made.staged
        ]
        self.story["anchor"], self.story["anchor_stamp"] = str(made.anchor), made.anchor_stamp
        self.keeps.logbook.turn(self.number, "proved", ended=self.clock(), story=self.story)
        self.ended.append(self.number)


@contextmanager
def recorded(
    keeps: Keeps, token: str, started: int, story: dict[str, Any], clock: Callable[[], int]
) -> Iterator[Line]:
    """Begin a line; where the work fails and its folder is as it was, that is written down."""
    number = keeps.logbook.begin(started=started, manifest=token, story=story)
    line = Line(number, story, keeps, clock)
    try:
        yield line
    except BaseException as error:
        if not (line.ended or keeps.journal.holds(token)):
            reason = error.what if isinstance(error, FerryError) else str(error) or "stopped"
            keeps.logbook.turn(number, "put back", ended=clock(), story={**story, "reason": reason})
        raise


def save_story(save: Save | KeptSave) -> dict[str, Any]:
    """Return what the logbook tells of a save."""
    kept = kept_save(save) if isinstance(save, Save) else save
    return {"name": kept.title, "facts": dict(kept.facts)}
