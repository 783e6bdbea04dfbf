"""Progress bars: on a terminal, and none in a pipe."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from rich.progress import (
    BarColumn,
    DownloadColumn,
    MofNCompleteColumn,
    Progress,
    ProgressColumn,
    SpinnerColumn,
    TaskID,
    TextColumn,
    TimeElapsedColumn,
    TimeRemainingColumn,
    TransferSpeedColumn,
)

from clever_ferry.cli.screen import console
from clever_ferry.crossing.progress import Progress as Telling
from clever_ferry.crossing.progress import Step, silent

__all__ = ["bar", "one_by_one", "phases", "telling"]

_WORDS: dict[Step, str] = {
    "reading": "Reading and staging",
    "backing up": "Backing up",
    "replacing": "Replacing",
    "proving": "Reading back",
    "putting back": "Putting back",
}

_WIDE = 100


def _columns() -> tuple[ProgressColumn, ...]:
    """Return what a bar shows: its rate and the time that is left, too, where there is room."""
    shown = TextColumn("{task.description:<20}"), BarColumn(), DownloadColumn()
    if console(err=True).width < _WIDE:
        return shown
    return *shown, TransferSpeedColumn(), TimeRemainingColumn()


@contextmanager
def telling(as_json: bool) -> Iterator[Telling]:
    """Give a callback that shows where long work is."""
    if as_json or not sys.stderr.isatty():
        yield silent
        return
    with Progress(*_columns(), console=console(err=True), transient=True) as bars:
        tasks: dict[Step, TaskID] = {}

        def tell(step: Step, done: int, total: int | None) -> None:
            if step not in tasks:
                tasks[step] = bars.add_task(_WORDS[step], total=total)
            bars.update(tasks[step], completed=done)

        yield tell


@contextmanager
def bar(what: str, as_json: bool) -> Iterator[Callable[[int, int], None]]:
    """Give a callback for one step: bytes done, and all of them."""
    if as_json or not sys.stderr.isatty():
        yield lambda done, total: None
        return
    with Progress(*_columns(), console=console(err=True), transient=True) as bars:
        task = bars.add_task(what)
        yield lambda done, total: bars.update(task, completed=done, total=total)


@contextmanager
def phases(as_json: bool) -> Iterator[Callable[[str], None]]:
    """Give a callback that shows what is being done, in words, and for how long."""
    if as_json or not sys.stderr.isatty():
        yield lambda phase: None
        return
    columns = SpinnerColumn("line"), TextColumn("{task.description}"), TimeElapsedColumn()
    with Progress(*columns, console=console(err=True), transient=True) as bars:
        task = bars.add_task("")

        def tell(phase: str) -> None:
            bars.update(task, description=phase[:1].upper() + phase[1:])

        yield tell


@contextmanager
def one_by_one(what: str, as_json: bool) -> Iterator[Callable[[int, int], None]]:
    """Give a callback for work on one thing after the other: how many are done, of how many.

    Nothing is drawn before it is called, so that questions can be asked until then.
    """
    if as_json or not sys.stderr.isatty():
        yield lambda done, total: None
        return
    columns = TextColumn("{task.description:<20}"), BarColumn(), MofNCompleteColumn()
    bars = Progress(*columns, console=console(err=True), transient=True)
    tasks: list[TaskID] = []

    def tell(done: int, total: int) -> None:
        if not tasks:
            tasks.append(bars.add_task(what, total=total))
            bars.start()
        bars.update(tasks[0], completed=done)

    try:
        yield tell
    finally:
        bars.stop()
