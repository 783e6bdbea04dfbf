"""What every command begins with: the ferry for this computer, and what was left half-way."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import click

from clever_ferry.api import Ferry, open_ferry
from clever_ferry.errors import ChoiceNeededError

__all__ = ["can_ask", "choose", "ferry_here"]

_T = TypeVar("_T")


def ferry_here(computer: Path | None) -> Ferry:
    """Return the ferry; what was cut short is set right first, and that is said."""
    ferry = open_ferry(computer)
    for one in ferry.recover():
        what = one.what[0].upper() + one.what[1:]
        if one.trouble:
            told, style = f"{what} was cut short and can't be set right yet: {one.trouble}", "red"
        elif one.finished:
            told, style = f"{what} was cut short after it was proved. It is done.", "yellow"
        else:
            told = f"{what} was cut short before it was proved. Its target is now as it was before."
            style = "yellow"
        click.secho(told, fg=style, err=True)
    return ferry


def can_ask() -> bool:
    """Tell whether somebody sits at a terminal and can be asked."""
    return sys.stdin.isatty() and sys.stdout.isatty()


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
