"""What a player knows of saves that no recipe knows, and what shows while they are looked at."""

from __future__ import annotations

import csv
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from clever_ferry.cli.screen import console, escape
from clever_ferry.errors import NotFoundError, UnsupportedError, WrongUseError

if TYPE_CHECKING:
    from clever_ferry.studying.study import Known

__all__ = ["known_options", "known_values", "lacking", "shown"]

_C = TypeVar("_C", bound=Callable[..., Any])
_MOST_ROWS, _MOST_TABLE = 10_000, 4 << 20


def known_options(command: _C) -> _C:
    """Add the options by which a player says what the menu shows, and how long it may take."""
    command = click.option(
        "--seconds", type=click.FloatRange(1, 3600), default=60, show_default=True,
        help="How long looking may take; what is known by then is told. So it is at Ctrl-C.",
    )(command)  # fmt: skip
    command = click.option(
        "--known-from", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.csv",
        help="The same as a table: a column `file`, and one for each value.",
    )(command)  # fmt: skip
    return click.option(
        "--known", "told", multiple=True, metavar="[FILE:]NAME=VALUE",
        help="What the game's menu shows: it is looked for. Once for each; FILE (a file, a folder, "
        "or a part of their names) where it is of one save only.",
    )(command)  # fmt: skip


def lacking(doing: str, extra: str) -> UnsupportedError:
    """Return what is said where packages are missing that one of the program's extras brings."""
    return UnsupportedError(
        f"{doing} needs packages that are not installed.",
        advice=f"Say: pip install 'clever-ferry[{extra}]'",
    )


def known_values(told: tuple[str, ...], table: Path | None) -> list[Known]:
    """Return what the player knows, as it was typed, and out of a table."""
    return [*_known(told), *_from_table(table)]


def _known(told: tuple[str, ...]) -> Iterator[Known]:
    from clever_ferry.studying.study import Known

    for one in told:
        name, sign, value = one.partition("=")
        file, _, name = name.rpartition(":")
        if not sign or not name.strip() or not value.strip():
            raise WrongUseError(
                f"{one!r} does not say what is known.",
                advice='Such as: --known day=31, or of one save: --known "isle2:played=11h46"',
            )
        yield Known(name.strip(), value.strip(), file)


def _from_table(path: Path | None) -> Iterator[Known]:
    from clever_ferry.studying.study import Known

    if path is None:
        return
    try:
        if path.stat().st_size > _MOST_TABLE:
            raise WrongUseError(f"{path} is too large for such a table.")
        with path.open(encoding="utf-8-sig", newline="") as file:
            rows = list(csv.DictReader(file))[:_MOST_ROWS]
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise NotFoundError(f"{path} can't be read: {error}.") from None
    if rows and "file" not in rows[0]:
        raise WrongUseError(
            f"{path} has no column `file`.", advice="Its first line is such as: file,day,played"
        )
    for row in rows:
        for name, value in row.items():
            if name and name != "file" and isinstance(value, str) and value.strip():
                yield Known(name, value.strip(), row["file"] or "")


@contextmanager
def shown(as_json: bool) -> Iterator[Callable[[str], None]]:
    """Give what shows, at a terminal, what is looked for."""
    if as_json or not sys.stderr.isatty():
        yield lambda _: None
        return
    with console(err=True).status("Looking") as status:

        def show(what: str) -> None:
            status.update(f"Looking: {escape(what)}")

        yield show
