"""`cferry study`: what files that no recipe knows are, and what stands in them."""

from __future__ import annotations

from pathlib import Path

import click

from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.knowing import known_options, known_values, lacking, shown
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, escape
from clever_ferry.errors import NotFoundError

__all__ = ["command"]


@click.command("study")
@click.argument(
    "paths", metavar="FILE|FOLDER", nargs=-1, required=True, type=click.Path(path_type=Path)
)
@known_options
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
        raise lacking("Studying saves", "study") from None
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
            raise lacking("Drawing", "pictures") from None
        draw_study(found, picture)
        console(err=as_json).print(f"[good]✓[/] Drawn in {escape(str(picture))}", soft_wrap=True)
    if as_json:
        echo_json(study_data(found))
    else:
        print_study(found)
