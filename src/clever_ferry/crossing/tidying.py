"""Tidying: a generation that a game wrote over what was carried, and that hides it, goes.

Many games write a save of their own at the first start after a crossing. Where an edition keeps
generations, that one counts, and what was carried lies unseen behind it.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from clever_ferry.boxes import Entry, Making
from clever_ferry.cargo import Save, digest_of
from clever_ferry.crossing.changing import Change, Outcome, Request, make_change, new_token
from clever_ferry.crossing.guarding import AtWork, refuse_changed
from clever_ferry.crossing.notes import note_of, side_of
from clever_ferry.crossing.progress import Progress, silent
from clever_ferry.errors import FerryError, NotProvenError
from clever_ferry.finding.berths import OpenBerth, open_berth
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Reason
from clever_ferry.keeping.logbook import Details, MoveNote, Record
from clever_ferry.keeping.snapshots import kept_save
from clever_ferry.proving.relating import relate
from clever_ferry.recipes import Game
from clever_ferry.tree import Output

__all__ = ["Hidden", "Tidied", "hidden_saves", "tidy"]


@dataclass(frozen=True)
class Hidden:
    """A save that was carried, and the newer generations that stand before it."""

    carried: Save
    front: Save
    """The newest generation that is the carried progress, as it was or played on."""
    before: tuple[Save, ...]
    """Those above it, which have nothing to do with it; the game loads the last."""
    number: int
    """The crossing's."""

    @property
    def goes_on(self) -> bool:
        """Whether what the game loads is the carried progress, played on: nothing is wrong."""
        return not self.before


@dataclass(frozen=True)
class Tidied:
    """What was tidied."""

    number: int
    backup: str


def hidden_saves(opened: OpenBerth, records: list[Record]) -> list[Hidden]:
    """Return the carried saves of a berth that a newer generation stands before."""
    found = []
    game = opened.berth.game
    for save in opened.listing.saves:
        behind = [one for one in opened.listing.behind if one.fields == save.fields]
        generations = sorted((*behind, save), key=lambda one: one.generation or 0)
        for place in range(len(generations) - 2, -1, -1):
            carried, number = generations[place], _carried_by(generations[place], opened, records)
            if number:
                own = [at for at in range(place + 1, len(generations))
                       if _goes_on(generations[at], carried, game)]  # fmt: skip
                front = max(own, default=place)
                found.append(
                    Hidden(carried, generations[front], tuple(generations[front + 1 :]), number)
                )
                break
    return found


def _goes_on(save: Save, carried: Save, game: Game) -> bool:
    """Tell whether a save is what was carried, played on or just as it was."""
    relation = relate([save], [carried], game)
    return len(relation) == 1 and relation[0].relation in ("newer", "the same")


def _carried_by(save: Save, opened: OpenBerth, records: list[Record]) -> int:
    """Return the number of the crossing that has left a save just as it is; 0 for none."""
    files = opened.berth.files
    for record in records:
        if record.state != "proved" or record.details.target.root != opened.berth.place:
            continue
        left = {item.path: item.digest for item in record.details.left}
        try:
            if all(
                path in left and left[path] == digest_of(files.payload(path)) for path in save.files
            ):
                return record.number
        except (FerryError, OSError):
            continue
    return 0


def tidy(
    opened: OpenBerth,
    hidden: list[Hidden],
    keeps: Keeps,
    at_work: AtWork,
    *,
    progress: Progress = silent,
    clock: Callable[[], int] = time.time_ns,
) -> Tidied:
    """Remove what stands before carried saves; what goes is kept first, and `undo` brings it back.

    `at_work` looks whether the game runs. Raises PutBackError and NotProvenError as a crossing
    does; the berth is then as it was.
    """
    return make_change(_Tidying(opened, hidden, clock()), keeps, at_work, progress, clock)


class _Tidying(Change[Tidied]):
    """What tidying does to a berth."""

    def __init__(self, opened: OpenBerth, hidden: list[Hidden], started: int) -> None:
        self._opened, self._hidden, self._started = opened, hidden, started
        berth = opened.berth
        goes = [save for one in hidden for save in one.before]
        self._removes = [piece.entry for save in goes for piece in save.pieces]
        doing = f"tidying {berth.address}"
        self.request = Request(
            berth.folder, doing, tuple(opened.contents.files),
            Reason(new_token(started), "crossing", started, f"before {doing}", berth.about,
                   tuple(kept_save(save) for save in goes)),
            Details(
                berth.game.title, side_of(berth), side_of(berth),
                tuple(
                    MoveNote(one.front.slot, one.front.slot, note_of(one.front),
                             note_of(one.before[-1]))
                    for one in hidden
                ),
                kind="tidying",
            ),
            likely=tuple(path for save in goes for path in save.files),
        )  # fmt: skip

    def refuse_changed(self) -> None:
        """Look whether all entries stand as they were shown."""
        now = open_berth(self._opened.berth, facts=False, keyless=True).contents
        refuse_changed(changed=_state(now.entries) != _state(self._opened.contents.entries))

    def outputs(self) -> Iterator[Output]:
        """Yield what goes, and what the box says of it."""
        making = Making(self._started, os.urandom)
        box = self._opened.berth.edition.box
        return iter(box.write(self._opened.contents, [], self._removes, making))

    def prove(self, outcome: Outcome) -> Tidied:
        """Look whether what was carried is what the game loads now."""
        left = open_berth(self._opened.berth, facts=False, keyless=True).listing
        generations = {save.slot: save.generation for save in left.saves}
        if any(generations.get(one.front.slot) != one.front.generation for one in self._hidden):
            raise NotProvenError(
                "What was carried does not come to the front, so it was put back.",
                advice="Close the game and its store's program, then try again.",
            )
        return Tidied(outcome.number, outcome.before.id)


def _state(entries: Iterable[Entry]) -> list[tuple[str, int | None, int | None]]:
    return [(entry.name, entry.size, entry.stamp) for entry in entries]
