"""How the program ends: each error's exit code, and its words on the terminal."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from typing import Any

import click

from clever_ferry.cli.again import command_again
from clever_ferry.errors import (
    ChoiceNeededError,
    DamagedError,
    FerryError,
    HalfDoneError,
    KeyNeededError,
    NotFoundError,
    NotMadeError,
    NotProvenError,
    PutBackError,
    RecipeError,
    RefusedError,
    UnknownNameError,
    UnsupportedError,
    WrongUseError,
)
from clever_ferry.visible import escaped, visible

__all__ = [
    "CODES",
    "DAMAGED",
    "DIFFERENT",
    "FORMAT",
    "IN_PART",
    "NOTHING",
    "NOT_LOADED",
    "READER_GONE",
    "REFUSED",
    "STOPPED",
    "WRONG_USE",
    "echo_json",
    "explain_exit",
]

FORMAT = 1
"""The version of what `--json` prints; docs/json.md states it."""
FAULT = 1
WRONG_USE = 2
NOTHING = 3
REFUSED = 4
DAMAGED = 5
NOT_PROVEN = 6
PUT_BACK = 7
IN_PART = 8
HALF_DONE = 9
NOT_MADE = 10
DIFFERENT = 11
NOT_LOADED = 12
STOPPED = 130
READER_GONE = 141

CODES: Mapping[type[FerryError], int] = {
    FerryError: FAULT,
    WrongUseError: WRONG_USE,
    UnknownNameError: WRONG_USE,
    ChoiceNeededError: WRONG_USE,
    KeyNeededError: WRONG_USE,
    NotFoundError: NOTHING,
    RefusedError: REFUSED,
    DamagedError: DAMAGED,
    RecipeError: DAMAGED,
    UnsupportedError: DAMAGED,
    NotProvenError: NOT_PROVEN,
    PutBackError: PUT_BACK,
    NotMadeError: NOT_MADE,
    HalfDoneError: HALF_DONE,
}
"""Every error's own; what a room adds to one for itself has that of its kind."""


def explain_exit(error: BaseException, *, as_json: bool) -> int:
    """Say what went wrong on standard error (as JSON on standard output) and return the code."""
    match error:
        case click.exceptions.Exit():
            return error.exit_code
        case click.Abort() | KeyboardInterrupt():
            from clever_ferry.cli.here import told_after_stop

            click.echo(f"\nStopped. {told_after_stop()}", err=True)
            return STOPPED
        case FerryError():
            code = next(CODES[kind] for kind in type(error).__mro__ if kind in CODES)
            _say(error.what, error.details, error.advice, code, as_json, error.again)
            return code
        case click.UsageError():
            _say(error.format_message(), (), _usage_advice(error), WRONG_USE, as_json)
            return WRONG_USE
        case click.ClickException():
            _say(error.format_message(), (), "", WRONG_USE, as_json)
            return WRONG_USE
        case BrokenPipeError():
            return READER_GONE
        case OSError():
            where = f": {error.filename}" if error.filename else ""
            _say(f"The system says: {error.strerror or error}{where}", (), "", FAULT, as_json)
            return FAULT
        case _:
            _say(*_unforeseen(error), FAULT, as_json)
            return FAULT


def echo_json(value: Mapping[str, Any]) -> None:
    """Print what a command found as JSON, as docs/json.md states it."""
    answer = {"format": FORMAT, **value}
    try:
        text = json.dumps(answer, indent=2, ensure_ascii=False, allow_nan=False)
    except ValueError:  # a save says that something is endless, which JSON has no word for
        text = json.dumps(_finite(answer), indent=2, ensure_ascii=False)
    click.echo(escaped(text))


def _finite(value: Any) -> Any:
    """Return plain data with null in the place of every number that is none."""
    if isinstance(value, Mapping):
        return {key: _finite(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(one) for one in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


def _unforeseen(error: BaseException) -> tuple[str, tuple[str, ...], str]:
    """Return what is said of a fault that nobody has foreseen: never a traceback."""
    import traceback

    from clever_ferry.cli.here import told_after_fault

    lines = "".join(traceback.format_exception(error))
    try:
        told, file = told_after_fault(lines)
    except Exception:  # also the records can't be read
        told, file = "`cferry log` says what was changed, if anything was.", None
    place = (f"The details are in {file}",) if file else tuple(lines.splitlines()[-4:])
    what = f"Something went wrong that nobody foresaw: {type(error).__name__}: {error}"
    return what, (told, *place), "Please report it with that file; it names paths of your saves."


def _usage_advice(error: click.UsageError) -> str:
    path = error.ctx.command_path if error.ctx else "cferry"
    return f"`{path} --help` shows how it is used."


def _say(
    what: str, details: tuple[str, ...], advice: str, code: int, as_json: bool,
    again: tuple[str, ...] = (),
) -> None:  # fmt: skip
    if as_json:
        answer = {
            "code": code, "what": what, "details": list(details), "advice": advice,
            "again": list(again),
        }  # fmt: skip
        echo_json({"error": answer})
        return
    click.secho(visible(what), fg="red", bold=True, err=True)
    for line in details:
        click.echo(visible(line), err=True)
    if advice:
        click.echo(visible(advice), err=True)
    line = command_again(add=again) if again else ""
    if line:
        click.echo(visible(f"Then: {line}"), err=True)
