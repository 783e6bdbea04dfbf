"""Tidying: a generation that a game wrote over what was carried, and that hides it, goes.

Many games write a save of their own at the first start after a crossing. Where an edition keeps
generations, that one counts, and what was carried lies unseen behind it.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from clever_ferry.boxes import Making
from clever_ferry.cargo import Save, digest_of
from clever_ferry.crossing.changing import Aim, Changed, change, new_token
from clever_ferry.crossing.guarding import await_quiet, left_by_us, refuse_changed
from clever_ferry.crossing.progress import Progress, silent
from clever_ferry.crossing.recording import recorded, save_story
from clever_ferry.errors import FerryError, NotProvenError
from clever_ferry.finding.berths import OpenBerth, open_berth
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Reason
from clever_ferry.keeping.logbook import Record
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
        turns = sorted((*behind, save), key=lambda one: one.turn or 0)
        for place in range(len(turns) - 2, -1, -1):
            carried, number = turns[place], _carried_by(turns[place], opened, records)
            if number:
                own = [at for at in range(place + 1, len(turns))
                       if _goes_on(turns[at], carried, game)]  # fmt: skip
                front = max(own, default=place)
                found.append(Hidden(carried, turns[front], tuple(turns[front + 1 :]), number))
                break
    return found


def _goes_on(save: Save, carried: Save, game: Game) -> bool:
    """Tell whether a save is what was carried, played on or just as it was."""
    told = relate([save], [carried], game)
    return len(told) == 1 and told[0].relation in ("newer", "the same")


def _carried_by(save: Save, opened: OpenBerth, records: list[Record]) -> int:
    """Return the number of the crossing that has left a save just as it is; 0 for none."""
    files = opened.berth.files
    for record in records:
        if record.state != "proved" or record.story["to"]["root"] != str(opened.berth.root):
            continue
        left = {item["path"]: item["digest"] for item in record.story.get("left", [])}
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
    *,
    progress: Progress = silent,
    clock: Callable[[], int] = time.time_ns,
) -> Tidied:
    """Remove what stands before carried saves; what goes is kept first, and `undo` brings it back.

    Raises PutBackError and NotProvenError as a crossing does; the berth is then as it was.
    """
    berth, started = opened.berth, clock()
    token = new_token(started)
    goes = [save for one in hidden for save in one.before]
    removes = [piece.entry for save in goes for piece in save.pieces]
    going = tuple(path for save in goes for path in save.files)
    with keeps.lock(berth.root, f"tidying {berth.address}"):
        keeps.journal.refuse_open(berth.root)
        await_quiet(berth.files, opened.contents.files, left_by_us(keeps, berth.root))
        now = open_berth(berth, facts=False, keyless=True).contents
        refuse_changed(changed=_state(now.entries) != _state(opened.contents.entries))
        story = _story(opened, hidden)
        with recorded(keeps, token, started, story, clock) as number:
            aim = Aim(
                berth.folder, f"tidying {number}", number, "proved", "put back",
                Reason(token, "crossing", started, f"before tidying {berth.address}", berth.about,
                       tuple(kept_save(save) for save in goes)),
                likely=going, story=story,
            )  # fmt: skip

            def outputs() -> Iterator[Output]:
                making = Making(started, os.urandom)
                yield from berth.edition.box.write(opened.contents, [], removes, making)

            def settle(made: Changed) -> Tidied:
                left = open_berth(berth, facts=False, keyless=True).listing
                turns = {save.slot: save.turn for save in left.saves}
                if any(turns.get(one.front.slot) != one.front.turn for one in hidden):
                    raise NotProvenError(
                        "What was carried does not come to the front, so it was put back.",
                        advice="Close the game and its store's program, then try again.",
                    )
                return Tidied(number, token)

            return change(aim, keeps, outputs, settle, progress, clock)


def _state(entries: tuple[Any, ...]) -> list[tuple[str, int | None, int | None]]:
    return [(entry.name, entry.size, entry.stamp) for entry in entries]


def _story(opened: OpenBerth, hidden: list[Hidden]) -> dict[str, Any]:
    berth = opened.berth
    here = {"address": berth.address, "title": berth.title, "root": str(berth.root)}
    return {
        "kind": "tidying",
        "game": berth.game.title,
        "from": here,
        "to": here,
        "moves": [
            {
                "from_slot": one.front.slot, "to_slot": one.front.slot,
                "save": save_story(one.front), "replaced": save_story(one.before[-1]),
            }
            for one in hidden
        ],
    }  # fmt: skip
