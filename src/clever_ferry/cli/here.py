"""What every command begins with: the ferry for this computer, and what was left half-way."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import click

from clever_ferry.boarding import open_ferry
from clever_ferry.cli.screen import console, escape
from clever_ferry.errors import ChoiceNeededError, FerryError, WrongUseError
from clever_ferry.ferry import Ferry
from clever_ferry.links.opening import Asked
from clever_ferry.visible import visible

__all__ = ["agree", "can_ask", "choose", "ferry_here", "told_after_fault"]

_T = TypeVar("_T")
_begun: list[tuple[Ferry, int]] = []
"""The ferry of this run, and when it began (ns): for what is to be said of an unforeseen fault."""


def ferry_here(computer: Path | None, *, remind: bool = True) -> Ferry:
    """Return the ferry; what was cut short is set right first, and that is said.

    With `remind`, so is that a crossing was made whose game was not seen to go on from it.
    """
    began = time.time_ns()
    ferry = open_ferry(computer, _asked())
    _begun[:] = [(ferry, began)]
    for one in ferry.recovered:
        what = _upper(one.what)
        if one.trouble:
            told, style = f"{what} was cut short and can't be set right yet: {one.trouble}", "red"
        elif one.finished:
            told, style = f"{what} was cut short after it was read back. It is done.", "yellow"
        else:
            told = (
                f"{what} was cut short before it was read back. Its target is now as it was before."
            )
            style = "yellow"
        click.secho(told, fg=style, err=True)
    if remind:
        _remind(ferry)
    return ferry


def _asked() -> Asked:
    """Return what can be asked about servers: at a terminal, the one who sits there."""
    if not can_ask():
        return Asked()

    def password(name: str) -> str:
        return str(click.prompt(f"Password for {visible(name)}", hide_input=True, err=True))

    def confirm(about: str, question: str) -> bool:
        click.echo(visible(about), err=True)
        return click.confirm(question, err=True)

    return Asked(password, confirm)


def _remind(ferry: Ferry) -> None:
    if not ferry.keeps.launches.file.exists():
        return
    try:
        every = ferry.watching.still()
    except (FerryError, OSError):
        return  # what is only a reminder stops nothing
    if not every:
        return
    one, looks = every[0]
    more = f" (and {len(every) - 1} more)" if len(every) > 1 else ""
    told = {
        "as left": "nothing was written there since",
        "written": "it was written since",
        "gone": "some of it is gone",
        "away": "its place is not here now",
        "far": "it is on a server, which was not asked",
    }[looks]
    if one.verdict and looks != "as left":
        told += f"; when last looked at: {one.verdict}"
    look = f"cferry watch {one.number}" + (" --once" if looks in ("written", "gone", "far") else "")
    what = f"Not yet seen to go on: crossing {one.number}, {one.what} to {one.address}{more}"
    line = f"[dim]{escape(f'{what}; {told}.')}[/] {look}"
    console(err=True).print(line, style="dim")


def told_after_stop() -> str:
    """Say what became of the saves in this run, by the records."""
    told = "No save was changed."
    for ferry, begun in _begun:
        try:
            if ferry.keeps.half_way():
                told = (
                    "A change was under way. The next cferry command sets that right before "
                    "anything else; don't start the game until then."
                )
                continue
            ended = next((one for one in ferry.log() if (one.ended or 0) >= begun), None)
        except (FerryError, OSError):
            told = "`cferry log` says what was changed, if anything was."
            continue
        if ended is not None and ended.state == "proved":
            told = f"{_upper(ended.what)} was done before that: `cferry undo {ended.number}` "
            told += "takes it back."
        elif ended is not None and ended.state == "undone":
            told = f"{_upper(ended.what)} was undone before that."
        elif ended is not None and ended.state == "put back":
            told = f"{_upper(ended.what)} was not done: its target is as it was before."
    return told


def told_after_fault(details: str) -> tuple[str, Path | None]:
    """Keep the details of an unforeseen fault; say what became of the saves, and where they are."""
    import tempfile

    told, folder = told_after_stop(), Path(tempfile.gettempdir())
    for ferry, _ in _begun:
        folder = ferry.keeps.folder / "faults"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        file = folder / time.strftime("%Y%m%d-%H%M%S.txt", time.gmtime())
        file.write_text(details, "utf-8", "backslashreplace")
    except OSError:
        return told, None
    return told, file


def _upper(text: str) -> str:
    return text[0].upper() + text[1:]


def can_ask() -> bool:
    """Tell whether somebody sits at a terminal and can be asked."""
    return sys.stdin.isatty() and sys.stdout.isatty()


def agree(
    question: str,
    done: str,
    *,
    yes: bool,
    ask: bool,
    refused: FerryError | None = None,
    advice: str = "Add --yes to do it.",
    again: tuple[str, ...] = (),
) -> None:
    """Have the user's word before a change, by `--yes` or by an answer; raises where there is none.

    `done` is what would be done, such as `carried`; `refused` what `--yes` alone does not allow.
    """
    if yes and refused is not None:
        raise refused
    if yes:
        return
    if not ask:
        raise WrongUseError(
            f"Nothing was {done}: there is nobody to ask here.", advice=advice, again=again
        )
    if not click.confirm(question):
        raise click.Abort


def choose(attempt: Callable[[dict[str, str]], _T], *, ask: bool) -> _T:
    """Run a job; where a choice is needed, ask for it and run the job again with the answer.

    `attempt` gets the answers so far by option (such as `--to-account`).
    """
    answers: dict[str, str] = {}
    while True:
        try:
            return attempt(answers)
        except ChoiceNeededError as error:
            if not ask or not error.choices or error.option in answers:
                raise
            click.secho(error.what, bold=True)
            for number, (label, _) in enumerate(error.choices, 1):
                click.echo(f"  {number}  {label.strip()}")
            picked = click.prompt("Which one", type=click.IntRange(1, len(error.choices)))
            answers[error.option] = error.choices[picked - 1][1]
