"""Watching a berth while its game runs: what happens to its saves, as it happens, in words.

Files are looked at when the system says that they changed, and every so often. Once they have been
quiet for a moment, the saves are read anew, and how they stand is kept before anything else can
be written over them. It ends when the game is closed and all is quiet.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from msgspec import Struct

from clever_ferry.cargo import Save
from clever_ferry.errors import FerryError, RefusedError
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.launches.standing import FileChange, Standing
from clever_ferry.moving.waking import Waker

__all__ = ["Happening", "Live", "Patience"]

Kind = Literal[
    "opened", "writing", "saved", "new", "gone", "half", "cloud", "other", "unkept", "game"
]  # fmt: skip
"""What happened: a save was opened by a program, is being written, was saved, is new, gone, or
can't be read whole; the store's cloud wrote its own file; another file changed; what was written
could not be kept; the game came or went."""
_SETTLED = 0.5
"""Seconds without a change after which a save counts as written."""
_BROKEN = 3.0
"""Seconds after which one that can't be read is said to be so: a game writes piece by piece."""
_ASKED_EVERY = 3.0
"""Seconds between looks for the game among the running programs."""
_NAMED = 3


class Happening(NamedTuple):
    """One thing that happened."""

    at: int
    """When it was seen (ns since 1970)."""
    kind: Kind
    title: str
    """The save's, '' where it is about none."""
    slot: int | None
    told: str
    """In words: the facts that changed, or which files."""


class Patience(Struct, frozen=True):
    """How long to wait, in seconds."""

    closed: float = 3.0
    """After the game has ended and the last file was written."""
    quiet: float = 30.0
    """After the last file was written, where the game is not seen to run."""
    at_most: float | None = None
    """In all."""


@dataclass
class Live:
    """One watch over a berth."""

    read: Callable[[], OpenBerth]
    """Reads its saves as they are now."""
    keep: Callable[[OpenBerth], str | None]
    """Keeps how they stand; returns what the locker calls that, None where there are none."""
    running: Callable[[], bool] | None
    """Tells whether the game runs; None where nobody knows what it is called."""
    tell: Callable[[Happening], None]
    of_cloud: Callable[[str], str | None] = lambda path: None
    """Returns the cloud whose own file a path is."""
    patience: Patience = field(default_factory=Patience)
    generations: list[str] = field(default_factory=list)
    happened: list[Happening] = field(default_factory=list)
    _saves: dict[tuple[object, ...], Save] = field(default_factory=dict)
    _written: set[str] = field(default_factory=set)
    _said: set[tuple[str, object]] = field(default_factory=set)
    _others: set[str] = field(default_factory=set)
    """Files that are no save's and were told: a game's own log would be told for ever."""
    _changed: float = 0.0
    """When something was last seen to change; 0 for never."""
    _kept: float = -1.0
    """When what was last kept had changed."""
    _unread: bool = False
    """Whether there are changes that are not taken in."""
    _seen_running: bool = False
    _runs: bool = False
    _asked: float = 0.0

    def watch(self, waker: Waker, ready: Callable[[], None] = lambda: None) -> None:
        """Watch until the game is closed and all is quiet, or time is up.

        `ready` is called once all is kept as it stands now. Raises FerryErrors where it can't be,
        and KeyboardInterrupt where the user ends it: `finish` then takes in what there is.
        """
        with waker.reading():
            opened = self.read()
            begun = time.monotonic()
            standing = Standing(opened.berth.folder)
            took = time.monotonic() - begun
            self._add(self.keep(opened))
            self._hold(opened)
        waker.took(took)
        ready()
        begun, again = time.monotonic(), False
        while not self._over(begun):
            woken = waker.wait(0.2 if self._unread else 1.0)
            now = time.monotonic()
            every = woken.everything or again
            try:
                changes = standing.look() if every else standing.look_at(woken.changed)
                again = False
            except OSError:  # a cloud puts one folder in the place of another just now
                changes, again = [], True
            if every:
                waker.took(time.monotonic() - now)
            self._tell_opened(woken.opened)
            if changes:
                self._changed, self._unread = now, True
                self._tell_written(changes)
            elif self._unread and now - self._changed >= _SETTLED:
                self._take_in(waker)
            self._ask()

    def finish(self, waker: Waker) -> None:
        """Take in what was written last."""
        if self._unread:
            self._take_in(waker, last=True)

    def _over(self, begun: float) -> bool:
        now = time.monotonic()
        if self.patience.at_most is not None and now - begun >= self.patience.at_most:
            return True
        if self._unread or self._runs:
            return False
        if self._seen_running:
            return now - self._changed >= self.patience.closed
        return bool(self._changed) and now - self._changed >= self.patience.quiet

    def _ask(self) -> None:
        now = time.monotonic()
        if self.running is None or now - self._asked < _ASKED_EVERY:
            return
        self._asked, before, self._runs = now, self._runs, self.running()
        if self._runs and not self._seen_running:
            self._say("game", "", None, "the game runs")
        if before and not self._runs:
            self._say("game", "", None, "the game was closed")
            self._changed = now  # a store's program may write for a moment more
        self._seen_running |= self._runs

    # What is told ------------------------------------------------------------------------

    def _say(self, kind: Kind, title: str, slot: int | None, told: str) -> None:
        one = Happening(time.time_ns(), kind, title, slot, told)
        self.happened.append(one)
        self.tell(one)

    def _owners(self) -> dict[str, Save]:
        return {path: save for save in self._saves.values() for path in save.files}

    def _tell_opened(self, paths: Iterable[str]) -> None:
        owners = self._owners()
        for save in {owners[path].slot: owners[path] for path in paths if path in owners}.values():
            if self._once("opened", _key(save)):
                self._say("opened", save.title, save.slot, "a program has opened it")

    def _tell_written(self, changes: list[FileChange]) -> None:
        owners = self._owners()
        by_save: dict[int, list[str]] = {}
        saves: dict[int, Save] = {}
        others: list[str] = []
        for one in changes:
            self._written.add(one.path)
            save = owners.get(one.path)
            if save is not None:
                saves[id(save)] = save
                by_save.setdefault(id(save), []).append(one.path)
            elif (cloud := self.of_cloud(one.path)) is not None:
                self._say("cloud", "", None, f"{cloud} has written {one.path}")
            elif one.path not in self._others:
                others.append(f"{one.path} (gone)" if one.how == "gone" else one.path)
                self._others.add(one.path)
        if others:
            more = f" and {len(others) - _NAMED:,} more" if len(others) > _NAMED else ""
            self._say("other", "", None, ", ".join(others[:_NAMED]) + more)
        for number, paths in by_save.items():
            save = saves[number]
            if self._once("writing", _key(save)):
                self._say("writing", save.title, save.slot, _listed(paths))

    def _once(self, kind: str, what: object) -> bool:
        """Tell whether this was not said since the saves were last read."""
        new = (kind, what) not in self._said
        self._said.add((kind, what))
        return new

    def _take_in(self, waker: Waker, *, last: bool = False) -> None:
        """Read the saves anew, keep them, and say what has become of them."""
        rests = time.monotonic() - self._changed
        try:
            with waker.reading():
                opened = self.read()
                if self._kept != self._changed:
                    self._add(self.keep(opened))
        except (FerryError, OSError) as error:
            if isinstance(error, RefusedError) and rests < self.patience.quiet:
                return  # it is being written, or another ferry is at work: again in a moment
            told = error.what if isinstance(error, FerryError) else str(error.strerror or error)
            if self._once("unkept", told):
                self._say("unkept", "", None, f"what was written could not be kept: {told}")
            self._unread = rests < self.patience.quiet
            return
        now = {_key(save): save for save in opened.listing.saves}
        broken = any(save.problems and self._is_new(save) for save in now.values())
        if broken and not last and rests < _BROKEN:
            return  # the rest of it may yet come
        before = self._saves
        self._hold(opened)
        self._tell_saves(before, now)
        self._written.clear()
        self._said.clear()

    def _hold(self, opened: OpenBerth) -> None:
        self._saves = {_key(save): save for save in opened.listing.saves}
        self._unread = False

    def _add(self, ident: str | None) -> None:
        """Note a state that was kept."""
        self._kept = self._changed
        if ident is not None:
            self.generations.append(ident)

    def _is_new(self, save: Save) -> bool:
        return not self._written.isdisjoint(save.files) or _key(save) not in self._saves

    def _tell_saves(
        self, before: dict[tuple[object, ...], Save], now: dict[tuple[object, ...], Save]
    ) -> None:
        for key, save in now.items():
            was = before.get(key)
            if save.problems and (was is None or self._is_new(save)):
                told = f"it can't be read whole: {save.problems[0]}"
                self._say("half", save.title, save.slot, told)
            elif was is None:
                self._say("new", save.title, save.slot, ", ".join(_facts(save)))
            elif not self._written.isdisjoint(save.files):
                told = ", ".join(_turned(was, save)) or "with the same facts"
                self._say("saved", save.title, save.slot, told)
        for key, save in before.items():
            if key not in now:
                self._say("gone", save.title, save.slot, _listed(save.files))


def _key(save: Save) -> tuple[object, ...]:
    return tuple(sorted((name, str(value)) for name, value in save.fields.items()))


def _listed(paths: Iterable[str]) -> str:
    names = list(dict.fromkeys(path.rpartition("/")[2] for path in paths))
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    return ", ".join(names[:_NAMED]) + more


def _facts(save: Save) -> Iterator[str]:
    yield from (f"{fact.label} {fact.text}" for fact in save.shown_facts[:3])


def _turned(was: Save, now: Save) -> Iterator[str]:
    """Yield the facts that are others now."""
    if was.title != now.title:
        yield f"{was.title} is {now.title}"
    for fact in now.shown_facts:
        old = was.fact(fact.key)
        if old is None or old.text != fact.text:
            yield f"{fact.label} {old.text if old is not None else '?'} → {fact.text}"
