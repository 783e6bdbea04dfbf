"""Waking up when files below a folder change: by the system's own word, else by looking again.

Some folders say nothing when another computer writes them, and some systems have no room for one
more listener: then, and every now and then in any case, one is woken to look at everything.
"""

from __future__ import annotations

import os
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Self

from clever_ferry.moving.files import FolderFiles

if TYPE_CHECKING:
    from watchdog.events import FileSystemEvent
    from watchdog.observers.api import BaseObserver

__all__ = ["Waker", "Woken", "told_at_once"]

_OFTEN, _SELDOM = 0.5, 5.0
"""Seconds between looks at everything, without the system's word and with it."""
_SHARE = 60
"""A look at everything may take one part of so many of the time."""
_LATE = 0.3
"""Seconds after which the system has told all that was opened."""
_FAR = ("nfs", "cifs", "smb", "fuse.sshfs", "9p", "afp", "webdav", "davfs", "ceph", "gluster")
_MOST = 10_000
"""So many paths are told by name; with more, everything is looked at."""


class Woken(NamedTuple):
    """Why one was woken. Paths are relative, with `/`."""

    changed: frozenset[str] = frozenset()
    opened: frozenset[str] = frozenset()
    """Files that some program has opened; not all systems tell."""
    everything: bool = False
    """Whether all is to be looked at."""


class Waker:
    """Listens to one folder while its block runs."""

    def __init__(self, files: FolderFiles) -> None:
        self._folder = files.shore.local(files.root)
        self._top = os.path.realpath(self._folder) if self._folder is not None else ""
        self._observer: BaseObserver | None = None
        self._event, self._lock = threading.Event(), threading.Lock()
        self._changed: set[str] = set()
        self._opened: set[str] = set()
        self._everything = self._lost = False
        self._looked, self._took = time.monotonic(), 0.0
        self._deaf = 0.0
        """Until when openings are this program's own, and so nobody's."""

    def __enter__(self) -> Self:
        self._listen()
        return self

    def __exit__(self, *_: object) -> None:
        self._end()

    @property
    def told(self) -> bool:
        """Whether the system says when something changes; else it is only looked every so often."""
        return self._observer is not None and self._observer.is_alive() and not self._lost

    def took(self, seconds: float) -> None:
        """Say how long a look at everything has taken: the longer, the rarer."""
        self._looked, self._took = time.monotonic(), seconds

    @contextmanager
    def reading(self) -> Iterator[None]:
        """Have what is opened in the block, by this program itself, pass by untold."""
        self._deaf = float("inf")
        try:
            yield
        finally:
            self._deaf = time.monotonic() + _LATE

    def wait(self, seconds: float) -> Woken:
        """Return once something has changed, it is time to look at everything, or time is up."""
        step = _SELDOM if self.told else _OFTEN
        due = self._looked + max(step, _SHARE * self._took) - time.monotonic()
        self._event.wait(max(0.0, min(seconds, due)))
        with self._lock:
            self._event.clear()
            found = Woken(frozenset(self._changed), frozenset(self._opened), self._everything)
            self._changed.clear()
            self._opened.clear()
            self._everything = False
        if due <= seconds and time.monotonic() >= self._looked + max(step, _SHARE * self._took):
            if not self.told:
                self._listen()  # the folder may have been away, and be there again
            return found._replace(everything=True)
        return found

    def _listen(self) -> None:
        self._end()
        self._lost = False
        if self._folder is None or not told_at_once(self._folder):
            return
        from watchdog.events import FileSystemEventHandler
        from watchdog.observers import Observer

        waker = self

        class _Handler(FileSystemEventHandler):
            def on_any_event(self, event: FileSystemEvent) -> None:
                waker._hear(event)

        observer = Observer()
        with suppress(OSError, RuntimeError):  # no room for one more listener: it is looked often
            observer.schedule(_Handler(), self._top, recursive=True)
            observer.start()
            self._observer = observer

    def _end(self) -> None:
        if self._observer is not None:
            self._observer.stop()
            with suppress(RuntimeError):
                self._observer.join(5)
            self._observer = None

    def _hear(self, event: FileSystemEvent) -> None:
        kind = event.event_type
        paths = [self._relative(one) for one in (event.src_path, event.dest_path) if one]
        with self._lock:
            if kind in ("opened", "closed_no_write"):
                if time.monotonic() > self._deaf and not event.is_directory:
                    self._opened.update(filter(None, paths))
                    self._event.set()
                return
            if kind in ("deleted", "moved") and paths[0] == "":
                self._lost = True  # the folder itself went: another of its name says nothing
            if event.is_directory and kind == "modified":
                return  # what is new or gone in it is told by itself
            if event.is_directory or len(self._changed) > _MOST:
                self._everything = True
            self._changed.update(filter(None, paths))
            self._event.set()

    def _relative(self, path: bytes | str) -> str:
        text = os.fsdecode(path)
        inner = text[len(self._top) :] if text.startswith(self._top) else ""
        return inner.replace(os.sep, "/").strip("/")


def told_at_once(folder: Path) -> bool:
    """Tell whether the system says when something changes below a folder, whoever changes it.

    Windows does, but only to whoever holds the folder open, and a game that removes its folder to
    make it anew could not do so then: there it is only looked.
    """
    if sys.platform == "win32" or not folder.is_dir():
        return False
    import psutil

    own, best = os.path.realpath(folder), ("", "")
    with suppress(OSError, psutil.Error):
        for part in psutil.disk_partitions(all=True):
            at = part.mountpoint
            if own == at or own.startswith(at.rstrip("/\\") + os.sep):
                best = max(best, (at, part.fstype.casefold()), key=lambda one: len(one[0]))
    return not best[1].startswith(_FAR)
