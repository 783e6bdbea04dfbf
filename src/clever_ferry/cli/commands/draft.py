"""`cferry draft`: a recipe written from folders of saves."""

from __future__ import annotations

import re
from pathlib import Path

import click

from clever_ferry.cli.commands.study import known_values, shown
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, counted, escape, place
from clever_ferry.cli.trials import print_trials, trials_data
from clever_ferry.errors import FerryError, NotFoundError, UnsupportedError, WrongUseError
from clever_ferry.moving.outputs import new_file

__all__ = ["command"]


@click.command("draft")
@click.argument(
    "folders", metavar="FOLDER [FOLDER]", nargs=-1, required=True, type=click.Path(path_type=Path)
)
@click.option(
    "-o", "--output", "target", required=True, type=click.Path(path_type=Path, dir_okay=False),
    metavar="GAME.toml",
    help="The recipe to write; its name is the game's id. There must be none yet.",
)  # fmt: skip
@click.option(
    "--known", "told", multiple=True, metavar="[FILE:]NAME=VALUE",
    help="What the game's menu shows, as `cferry study` takes it: it becomes a fact.",
)  # fmt: skip
@click.option(
    "--known-from", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.csv",
    help="The same as a table: a column `file`, and one for each value.",
)  # fmt: skip
@click.option(
    "--seconds", type=click.FloatRange(1, 3600), default=60, show_default=True,
    help="How long looking may take.",
)  # fmt: skip
@json_option
@click.pass_obj
def command(
    computer: Path | None, folders: tuple[Path, ...], target: Path, told: tuple[str, ...],
    known_from: Path | None, seconds: float, as_json: bool,
) -> None:  # fmt: skip
    """Draft a recipe from the saves of a game that has none.

    FOLDER is where one edition keeps its saves: name two editions' folders, with two or three
    saves each, the same ones on both sides if you can. How files are named, what they are wrapped
    in, what corresponds to what, and what players know saves by is written down with its evidence.
    Then the recipe is tried on the folders, and on copies of them one save goes there and back.
    """
    try:
        from clever_ferry.drafting.draft import draft
        from clever_ferry.studying.budget import Budget
    except ImportError:
        raise UnsupportedError(
            "Drafting needs packages that are not installed.",
            advice="Say: pip install 'clever-ferry[study]'",
        ) from None
    if not re.fullmatch(r"[a-z][a-z0-9-]*\.toml", target.name):
        raise WrongUseError(
            f"{target.name} can't be a recipe's file.",
            advice="It is the game's id in small letters and .toml: -o my-game.toml",
        )
    if target.exists():
        raise WrongUseError(f"{target} is there already.", advice="Name another file.")
    for folder in folders:
        if not folder.is_dir():
            raise NotFoundError(f"There is no folder {folder}.")
    ferry = ferry_here(computer)
    known = known_values(told, known_from)
    with shown(as_json) as show:
        drafted = draft(target.stem, folders, known, ferry.computer, Budget(seconds, show))
    with new_file(target) as part:
        part.write_text(drafted.text, "utf-8", newline="\n")
    faults: FerryError | None = None
    tried = None
    try:
        tried = ferry.try_recipe(target, folders)
    except FerryError as error:
        faults = error
    doubts = [f"{side.ident}: {doubt}" for side in drafted.sides for doubt in side.doubts]
    if as_json:
        echo_json({
            "file": str(target), "right": faults is None,
            "faults": list(faults.details) if faults is not None else [], "doubts": doubts,
            "stopped": drafted.stopped or None,
            **(trials_data(tried) if tried is not None else {"tried": [], "rehearsed": []}),
        })  # fmt: skip
        return
    out = console()
    out.print(f"[good]✓[/] Written: {escape(str(target))}", soft_wrap=True)
    for side in drafted.sides:
        pieces = ", ".join(piece.role for piece in side.pieces)
        out.print(
            f"  [save]{side.ident}[/]: {counted(len(side.pieces), 'piece')} ({escape(pieces)}) in "
            f"{escape(place(side.root))}", soft_wrap=True,
        )  # fmt: skip
    for one in drafted.pairs:
        line = f"{one.first.role}: {one.first.path} = {one.second.path}; {one.why}"
        out.print(f"  {escape(line)}", soft_wrap=True)
    if drafted.facts:
        names = ", ".join(fact.name for fact in drafted.facts)
        out.print(f"  Known by: {escape(names)}")
    for doubt in doubts:
        out.print(f"[care]In doubt:[/] {escape(doubt)}.", soft_wrap=True)
    if drafted.stopped:
        out.print(f"[care]Stopped before all was looked at[/] ({escape(drafted.stopped)}).")
    if tried is not None:
        print_trials(tried)
    else:
        assert faults is not None
        out.print(f"[care]It is not right yet:[/] {escape(faults.what)}")
        for line in faults.details[:10]:
            out.print(f"  {escape(line)}", soft_wrap=True)
    named = " ".join(f'--try "{folder}"' for folder in folders)
    out.print(f"Next: read it, mend it, and try again: cferry recipe check {escape(str(target))} "
              f"{escape(named)}", soft_wrap=True)  # fmt: skip
