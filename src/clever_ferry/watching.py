"""Watching the first launch: does the game go on from what was carried? As `Ferry.watching`."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from functools import partial
from typing import Literal, NamedTuple

from msgspec import Struct

from clever_ferry.backups import Backups
from clever_ferry.cargo import Save
from clever_ferry.crossing.backing_up import back_up, files_of
from clever_ferry.errors import FerryError, NotFoundError, RefusedError, UnknownNameError
from clever_ferry.finding import Berth, Computer, open_berth, parse_address
from clever_ferry.finding.addresses import parse_slots
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.signs import CloudOn, running_of, signs_of
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.launches import Awaited, AwaitedFile
from clever_ferry.keeping.logbook import Arrived, Record
from clever_ferry.launches.live import Happening, Live, Patience
from clever_ferry.launches.verdict import Launch, judge_launch, place_of
from clever_ferry.moving.waking import Waker
from clever_ferry.places import Places
from clever_ferry.proving.contents import content_of

__all__ = ["Looks", "Still", "Watched", "Watching"]

Looks = Literal["as left", "written", "gone", "away", "far"]
"""How a crossing's target looks by its files: as the crossing left it, written since, some of it
gone, not to be reached, or on a server that is not asked for that."""
_FILES = 50
_STATES = 30
"""So many of the newest states are looked through for one that goes on."""
_REMEMBERED = 14 * 86400 * 10**9
"""So long (ns) it is said of every crossing that its game was not seen to go on."""


class Still(NamedTuple):
    """A crossing that its game was not seen to go on from, and how it looks now."""

    awaited: Awaited
    looks: Looks


class Carried(NamedTuple):
    """A berth that is watched, and what its saves are held against."""

    berth: Berth
    record: Record | None
    """The crossing; None where they are held against how they stood when the watch began."""
    saves: tuple[Arrived, ...]
    since: int
    """From when on what is written counts (ns since 1970)."""


class Further(NamedTuple):
    """A backup with a save that goes on from what was carried."""

    backup: str
    save: Save


class Watched(Struct, frozen=True):
    """What was seen of a first launch."""

    berth: Berth
    number: int | None
    """The crossing's."""
    launches: tuple[Launch, ...]
    happened: tuple[Happening, ...] = ()
    generations: tuple[str, ...] = ()
    """Backups of how the saves stood as it passed by, the oldest first."""
    clouds: tuple[CloudOn, ...] = ()
    further: tuple[Further, ...] = ()
    """Of saves that were lost again: where the locker has them as they were played on."""
    again: tuple[str, ...] = ()
    """The addresses from and to which all of it would be carried again."""
    told_at_once: bool = True
    """Whether the system said when something changed; else it was looked every so often."""

    @property
    def goes_on(self) -> bool:
        """Whether the game goes on from what was carried, and nothing speaks against it."""
        words = {one.word for one in self.launches}
        return "goes on" in words and words <= {"goes on", "not loaded"}


class Watching:
    """First launches after crossings."""

    def __init__(self, computer: Computer, places: Places, backups: Backups, keeps: Keeps) -> None:
        self._computer, self._places = computer, places
        self._backups, self._keeps = backups, keeps

    # What is still to be watched -----------------------------------------------------------

    def expect(self, number: int) -> None:
        """Remember that a crossing was made whose game was not started yet."""
        record = self._keeps.logbook.record(number)
        if record is None or record.state != "proved":
            return
        moves = record.details.moves
        more = f" and {len(moves) - 1} more" if len(moves) > 1 else ""
        files = tuple(
            AwaitedFile(one.path, one.size, one.stamp)
            for one in record.details.left
            if one.digest is not None
        )
        target = record.details.target
        what = (moves[0].save.name if moves else record.what) + more
        self._keeps.launches.add(
            Awaited(number, what, target.address, target.root, record.ended or 0, files[:_FILES])
        )

    def still(self) -> list[Still]:
        """Return the crossings that are still to be watched, the newest first, as they look."""
        now = time.time_ns()
        every = [one for one in self._keeps.launches.all() if now - one.since < _REMEMBERED]
        return [Still(one, self._looks(one)) for one in every]

    def _looks(self, one: Awaited) -> Looks:
        if self._keeps.shores.remote(one.root) is not None:
            return "far"  # a reminder connects to no server
        try:
            files = self._keeps.shores.folder(one.root)
            found = [(file, files.info(file.path)) for file in one.files]
            there = files.shore.kind(files.root) == "folder"
        except (FerryError, OSError):
            return "away"
        if not there:
            return "away"
        if any(info is None for _, info in found):
            return "gone"
        same = all(
            info is not None and (info.size, info.stamp) == (file.size, file.stamp)
            for file, info in found
        )
        return "as left" if same else "written"

    # Watching ------------------------------------------------------------------------------

    def carried(
        self, where: str | None, account: str | None = None,
        given: Mapping[str, str] | None = None, *, live: bool = True,
    ) -> Carried:  # fmt: skip
        """Return what a watch is of: a crossing by its number, a place, or the newest crossing.

        A place is held against the newest crossing into it or, `live`, against how it stands now.
        """
        if where is None or where.isdecimal():
            return self._crossing(None if where is None else int(where))
        address = parse_address(where)
        berth = self._places.berth(address, account, writing=True)
        for record in self._keeps.logbook.records():
            if record.state == "proved" and record.details.target.root == berth.place:
                saves = _arrived(record, address.slots)
                if saves:
                    return Carried(berth, record, saves, record.ended or record.started)
                if record.details.kind == "restore":
                    break  # what was carried before that no longer stands there
        if not live:
            raise NotFoundError(
                f"Nothing was carried to {where}, so there is nothing to hold it against.",
                advice="Without --once it is held against how it stands as you start.",
            )
        opened = open_berth(berth, given=given, keyless=True)
        now = tuple(
            Arrived(save.slot, dict(save.fields), save.facts, content_of(save))
            for save in opened.chosen(address.slots)
        )
        return Carried(berth, None, now, time.time_ns())

    def _crossing(self, number: int | None) -> Carried:
        records = self._keeps.logbook.records()
        if number is None:
            fitting = [one for one in records if one.state == "proved" and _arrived(one, None)]
        else:
            fitting = [one for one in records if one.number == number]
        if not fitting:
            if number is not None:
                raise UnknownNameError(
                    f"There is no crossing {number}.", advice="`cferry log` lists all crossings."
                )
            raise NotFoundError(
                "Nothing was carried yet, so there is nothing to watch.",
                advice="Carry something first (cferry cross), or name a place: cferry watch "
                "GAME/EDITION",
            )
        record = fitting[0]
        if record.state != "proved":
            raise RefusedError(f"{record.what.capitalize()} is {record.state}.")
        saves = _arrived(record, None)
        if not saves:
            raise RefusedError(
                f"Of {record.what} it is not written down how each save arrived.",
                advice=f"Name the place instead: cferry watch {record.details.target.address}",
            )
        snapshot = self._keeps.locker.snapshot(record.backup)
        berth = self._backups.berth_of(snapshot)
        if berth is None:
            raise NotFoundError(f"The place of {record.what} is not here: {snapshot.root}")
        return Carried(berth, record, saves, record.ended or record.started)

    def once(self, carried: Carried, given: Mapping[str, str] | None = None) -> Watched:
        """Say how it stands now against how the crossing has left it; nothing is kept."""
        return self._judged(carried, _read(carried.berth, given))

    def live(
        self,
        carried: Carried,
        given: Mapping[str, str] | None = None,
        tell: Callable[[Happening], None] = lambda happening: None,
        ready: Callable[[bool], None] = lambda told: None,
        patience: Patience | None = None,
    ) -> Watched:
        """Watch until the game is closed; every state that passes by is kept in the locker.

        `tell` is called with what happens, `ready` once, when the game may be started, with
        whether the system says at once what changes. Ctrl-C ends it as the game's end does.
        """
        berth = carried.berth
        live = Live(
            lambda: _read(berth, given), self._keep, running_of(self._computer, berth), tell,
            lambda path: _cloud_of(berth, path), patience or Patience(),
        )  # fmt: skip
        with Waker(berth.folder) as waker:
            told = waker.told
            with suppress(KeyboardInterrupt):
                live.watch(waker, lambda: ready(told))
            live.finish(waker)
        opened = _read(berth, given)
        found = self._judged(carried, opened)
        return Watched(
            berth, found.number, found.launches, tuple(live.happened), tuple(live.generations),
            found.clouds, found.further, found.again, told,
        )  # fmt: skip

    def _keep(self, opened: OpenBerth) -> str | None:
        if not files_of(opened, opened.listing.saves, whole=True):
            return None
        kept = back_up(
            opened, opened.listing.saves, self._keeps, whole=True, watched=True,
            note="as it passed by while it was watched",
        )  # fmt: skip
        return kept.snapshot.id

    def _judged(self, carried: Carried, opened: OpenBerth) -> Watched:
        berth, record = carried.berth, carried.record
        launches = tuple(
            judge_launch(
                one, carried.since, opened.listing, berth.game, berth.edition,
                partial(self._before, record, one),
            )
            for one in carried.saves
        )  # fmt: skip
        further = tuple(
            one
            for arrived, launch in zip(carried.saves, launches, strict=True)
            if launch.word not in ("goes on", "not loaded")
            and (one := self._further(carried, arrived)) is not None
        )
        clouds = signs_of(self._computer, berth).clouds
        found = Watched(
            berth, record.number if record is not None else None, launches, clouds=clouds,
            further=further, again=tuple(_again(record)) if record is not None else (),
        )  # fmt: skip
        if record is not None:
            with suppress(FerryError, OSError):  # it is only for saying so later
                self._keeps.logbook.saw(record.number, time.time_ns(), launch=_worst(launches))
                if found.goes_on:
                    self._keeps.launches.done(record.number)
                else:
                    self._keeps.launches.judged(record.number, _worst(launches))
        return found

    def _further(self, carried: Carried, arrived: Arrived) -> Further | None:
        """Return the newest state that passed by in which a save goes on from what was carried."""
        berth = carried.berth
        watched = [
            one
            for one in self._keeps.locker.listed()[0]
            if one.kind == "watched" and one.root == berth.place and one.made >= carried.since
        ]
        for kept in watched[:_STATES]:
            with suppress(FerryError, OSError):
                then = self._backups.then(self._keeps.locker.snapshot(kept.id))
                if then is None:
                    continue
                found = judge_launch(
                    arrived, carried.since, then.listing, berth.game, berth.edition, lambda: None
                )
                if found.word == "goes on" and found.now is not None:
                    return Further(kept.id, found.now)
        return None

    def _before(self, record: Record | None, arrived: Arrived) -> Save | None:
        """Return the save that a crossing has replaced by one, where it can be read."""
        if record is None:
            return None
        with suppress(FerryError):
            then = self._backups.then(self._keeps.locker.snapshot(record.backup))
            if then is not None:
                return place_of(arrived, then.listing, then.berth.edition)
        return None


def _read(berth: Berth, given: Mapping[str, str] | None) -> OpenBerth:
    return open_berth(berth, given=given, keyless=True)


def _arrived(record: Record, slots: str | None) -> tuple[Arrived, ...]:
    """Return the saves of a crossing as they arrived: all, or those of some slots."""
    every = [(move, move.arrived) for move in record.details.moves if move.arrived is not None]
    if slots is None:
        return tuple(one for _, one in every)
    numbers = set(parse_slots(slots).numbers)
    return tuple(
        one
        for move, one in every
        if one.slot in numbers or move.save.name.casefold() == slots.casefold()
    )


def _again(record: Record) -> Iterator[str]:
    """Return from where and to where a crossing went, if that can be said by addresses."""
    details = record.details
    with suppress(FerryError):
        for side in (details.source, details.target):
            parse_address(side.address)
        slots = [
            [getattr(move, name) for move in details.moves] for name in ("from_slot", "to_slot")
        ]
        for side, numbers in zip((details.source, details.target), slots, strict=True):
            known = all(number is not None for number in numbers)
            yield side.address + (f":{','.join(map(str, numbers))}" if known else "")


def _worst(launches: Sequence[Launch]) -> str:
    order = ("started anew", "old save back", "gone", "unclear", "not loaded", "goes on")
    return min((one.word for one in launches), key=order.index, default="unclear")


def _cloud_of(berth: Berth, path: str) -> str | None:
    """Return the cloud whose own file this is, where it lies among the saves."""
    for cloud in berth.edition.clouds:
        sign = cloud.sign if cloud.info.under is None else None
        if sign is not None and isinstance(sign.match(path, fold=berth.fold), dict):
            return cloud.info.title
    return None
