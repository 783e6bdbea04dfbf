"""`cferry study`: what files that no recipe knows are, and what stands in them."""

from __future__ import annotations

import csv
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, escape
from clever_ferry.errors import NotFoundError, UnsupportedError, WrongUseError

if TYPE_CHECKING:
    from clever_ferry.studying.study import Known

__all__ = ["command", "known_values", "shown"]

_MOST_ROWS, _MOST_TABLE = 10_000, 4 << 20


@click.command("study")
@click.argument(
    "paths", metavar="FILE|FOLDER", nargs=-1, required=True, type=click.Path(path_type=Path)
)
@click.option(
    "--known", "told", multiple=True, metavar="[FILE:]NAME=VALUE",
    help="What the game's menu shows: it is said where that stands. Once for each; FILE (a file, a "
    "folder, or a part of their names) where it is of one save only.",
)  # fmt: skip
@click.option(
    "--known-from", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.csv",
    help="The same as a table: a column `file`, and one for each value.",
)  # fmt: skip
@click.option(
    "--seconds", type=click.FloatRange(1, 3600), default=60, show_default=True,
    help="How long it may take; what is known by then is told. So it is at Ctrl-C.",
)  # fmt: skip
@click.option(
    "--picture", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.png",
    help="Also draw how the files are built; there must be none of that name yet.",
)  # fmt: skip
@json_option
def command(
    paths: tuple[Path, ...], told: tuple[str, ...], known_from: Path | None, seconds: float,
    picture: Path | None, as_json: bool,
) -> None:  # fmt: skip
    """Look into saves that no recipe knows: how they are wrapped, and what stands in them.

    Files whose names are alike are laid over each other: what is the same in all, what grows, which
    numbers are sizes, checksums, times, the account. Name several saves of one game, or their
    folder. Nothing is written.

    Say what the game's menu shows, and it says where that stands:

    cferry study saves --known isle1:day=31 --known isle2:day=57 --known "isle1:played=11h46"
    """
    try:
        from clever_ferry.studying.budget import Budget
        from clever_ferry.studying.study import study
    except ImportError:
        raise UnsupportedError(
            "Studying saves needs packages that are not installed.",
            advice="Say: pip install 'clever-ferry[study]'",
        ) from None
    for path in paths:
        if not path.exists():
            raise NotFoundError(f"There is nothing at {path}.")
    known = known_values(told, known_from)
    with shown(as_json) as show:
        found = study([one.expanduser() for one in paths], known, Budget(seconds, show))
    from clever_ferry.cli.studies import print_study, study_data

    if picture is not None:
        try:
            from clever_ferry.cli.structures import draw_study
        except ImportError:
            raise UnsupportedError(
                "Drawing needs packages that are not installed.",
                advice="Say: pip install 'clever-ferry[pictures]'",
            ) from None
        draw_study(found, picture)
        console(err=as_json).print(f"[good]✓[/] Drawn in {escape(str(picture))}", soft_wrap=True)
    if as_json:
        echo_json(study_data(found))
    else:
        print_study(found)


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
