"""`cferry draft`: a recipe written from folders of saves."""

from __future__ import annotations

import re
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import can_ask, ferry_here
from clever_ferry.cli.knowing import known_options, known_values, lacking, shown
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, counted, escape, place
from clever_ferry.cli.trials import print_trials, trials_data
from clever_ferry.errors import FerryError, NotFoundError, WrongUseError
from clever_ferry.moving.outputs import new_file

if TYPE_CHECKING:
    from clever_ferry.drafting.asking import Question
    from clever_ferry.drafting.draft import Drafted
    from clever_ferry.results import RecipeTried

__all__ = ["command"]

_MOST_TRIED = 200
"""Saves of each edition that a draft is tried on: the newest."""


@click.command("draft")
@click.argument("folders", metavar="FOLDER [FOLDER]", nargs=-1, type=click.Path(path_type=Path))
@click.option(
    "-o", "--output", "target", required=True, type=click.Path(path_type=Path, dir_okay=False),
    metavar="GAME.toml",
    help="The recipe to write; its name is the game's id. There must be none yet, but for --more.",
)  # fmt: skip
@click.option(
    "--more", multiple=True, type=click.Path(path_type=Path), metavar="FOLDER",
    help="Hold further saves against the recipe that is there: it is said what they confirm and "
    "what they refute, and the recipe stays as it is.",
)  # fmt: skip
@known_options
@click.option("--yes", is_flag=True, help="Ask nothing: what is likeliest is taken, and marked.")
@json_option
@click.pass_obj
def command(
    computer: Path | None, folders: tuple[Path, ...], target: Path, more: tuple[Path, ...],
    told: tuple[str, ...], known_from: Path | None, seconds: float, yes: bool, as_json: bool,
) -> None:  # fmt: skip
    """Draft a recipe from the saves of a game that has none.

    FOLDER is where one edition keeps its saves: name two editions' folders, with three saves each
    or more, the same ones on both sides if you can. How files are named, what they are wrapped in
    or kept in, what corresponds to what, and what players know saves by is written down with its
    evidence. What can't be told is asked, at a terminal. Then the recipe is tried on the folders,
    and on copies of them one save goes there and back.
    """
    try:
        from clever_ferry.drafting.asking import likeliest
        from clever_ferry.drafting.draft import draft
        from clever_ferry.studying.budget import Budget
    except ImportError:
        raise lacking("Drafting", "study") from None
    if not re.fullmatch(r"[a-z][a-z0-9-]*\.toml", target.name):
        raise WrongUseError(
            f"{target.name} can't be a recipe's file.",
            advice="It is the game's id in small letters and .toml: -o my-game.toml",
        )
    if more:
        _further(computer, folders, target, more, as_json=as_json)
        return
    if not folders:
        raise WrongUseError(
            "Name the folder of one edition's saves, or those of two.",
            advice=f"cferry draft FOLDER FOLDER -o {target}",
        )
    if target.exists():
        raise WrongUseError(
            f"{target} is there already.",
            advice="Name another file; or say what further saves there are: --more FOLDER",
        )
    _there(folders)
    ferry = ferry_here(computer)
    known = known_values(told, known_from)
    with ExitStack() as looking:
        show = looking.enter_context(shown(as_json))

        def ask(question: Question) -> str:
            looking.close()  # what is looked at is shown no more
            return _ask(question)

        asks = ask if not (yes or as_json) and can_ask() else likeliest
        drafted = draft(target.stem, folders, known, ferry.computer, Budget(seconds, show), asks)
    with new_file(target) as part:
        part.write_text(drafted.text, "utf-8", newline="\n")
    faults: FerryError | None = None
    tried = None
    try:
        tried = ferry.try_recipe(target, folders, _MOST_TRIED)
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
    _print(drafted, doubts, target)
    _print_tried(tried, faults, target, folders)


def _there(folders: tuple[Path, ...]) -> None:
    for folder in folders:
        if not folder.is_dir():
            raise NotFoundError(f"There is no folder {folder}.")


def _ask(question: Question) -> str:
    """Ask at the terminal; an empty answer is the usual one, or none."""
    if question.choices:
        return str(click.prompt(
            question.says, type=click.Choice(question.choices), default=question.usual or None
        ))  # fmt: skip
    return str(click.prompt(question.says, default="", show_default=False))


def _further(
    computer: Path | None, folders: tuple[Path, ...], target: Path, more: tuple[Path, ...], *,
    as_json: bool,
) -> None:  # fmt: skip
    from clever_ferry.drafting.more import further

    if folders:
        raise WrongUseError("With --more, the folders stand behind it: --more FOLDER.")
    if not target.is_file():
        raise NotFoundError(
            f"There is no recipe {target}.", advice=f"cferry draft FOLDER FOLDER -o {target}"
        )
    _there(more)
    tried = ferry_here(computer).try_recipe(target, more)
    found = further(target.read_text("utf-8"), tried.tried)
    if as_json:
        echo_json({"file": str(target), "confirmed": list(found.confirmed),
                   "refuted": list(found.refuted)})  # fmt: skip
        return
    out = console()
    if not found.confirmed and not found.refuted:
        out.print("[care]No edition of it reads a save there[/], so nothing is said of the recipe.")
    for one in found.confirmed:
        out.print(f"[good]✓[/] {escape(one)}", soft_wrap=True)
    for one in found.refuted:
        out.print(f"[bad]✗[/] {escape(one)}", soft_wrap=True)
    if found.refuted:
        named = " ".join(f'--try "{one}"' for one in more)
        told = escape(str(target))
        out.print(f"Next: mend {told}, which is as it was, and try it: cferry recipe check {told} "
                  f"{escape(named)}", soft_wrap=True)  # fmt: skip
    elif found.confirmed:
        out.print(f"{escape(str(target))} stays as it is.", soft_wrap=True)


def _print(drafted: Drafted, doubts: list[str], target: Path) -> None:
    out = console()
    out.print(f"[good]✓[/] Written: {escape(str(target))}", soft_wrap=True)
    for side in drafted.sides:
        pieces = ", ".join(piece.role for piece in side.pieces)
        within = f", {side.box.title}" if side.box is not None else ""
        out.print(
            f"  [save]{side.ident}[/]: {counted(len(side.pieces), 'piece')} ({escape(pieces)}) in "
            f"{escape(place(side.root))}{within}", soft_wrap=True,
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


def _print_tried(
    tried: RecipeTried | None, faults: FerryError | None, target: Path, folders: tuple[Path, ...]
) -> None:
    out = console()
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
