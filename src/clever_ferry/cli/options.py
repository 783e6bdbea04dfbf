"""The options that several commands have, each said once."""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, TypeVar

import click

from clever_ferry.errors import WrongUseError

__all__ = ["account_option", "change_options", "closed_option", "give_option", "json_option"]

_C = TypeVar("_C", bound=Callable[..., Any])
_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_.-]{0,99}")
_MOST = 65_536


def json_option(command: _C) -> _C:
    """Add the option by which a command prints what it found for programs."""
    return click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")(command)


def account_option(command: _C) -> _C:
    """Add the option by which a user says whose saves are meant."""
    told = "Whose saves, where several accounts have some."
    return click.option("--account", metavar="NAME", help=told)(command)


def change_options(command: _C) -> _C:
    """Add the options of whatever changes something: only to show it, and not to ask."""
    command = click.option("--yes", is_flag=True, help="Do it without asking.")(command)
    told = "Show what would be done and change nothing."
    return click.option("--dry-run", is_flag=True, help=told)(command)


def closed_option(command: _C) -> _C:
    """Add the option by which a user states that the game does not run."""
    told = "The game is closed: don't stop at signs that it runs."
    return click.option("--game-closed", is_flag=True, help=told)(command)


def give_option(command: _C) -> _C:
    """Add the options by which a user states what no recipe can know."""

    told = "The same, read from a file (- for standard input, fd:N for an open descriptor)."
    command = click.option(
        "--give-from", multiple=True, metavar="NAME=FILE", callback=_read_all, help=told,
        is_eager=True, expose_value=False,
    )(command)  # fmt: skip
    told = (
        "State what no recipe can know: a key, or a part of the name the target is to have. "
        "With NAME alone it is asked for, and does not show."
    )
    return click.option(
        "--give", "given", multiple=True, metavar="NAME[=VALUE]", callback=_given, help=told
    )(command)


_READ = f"{__name__}.given"
"""Under what click keeps, for this run, what was read from files."""


def _read_all(context: click.Context, option: object, places: Sequence[str]) -> None:
    found = context.meta.setdefault(_READ, {})
    for text in places:
        name, _, place = text.partition("=")
        if not place or not _NAME.fullmatch(name):
            raise WrongUseError("--give-from takes NAME=FILE, such as key=key.txt.")
        found[name] = _read(place)


def _given(context: click.Context, option: object, texts: Sequence[str]) -> dict[str, str]:
    """Return what was stated by its names. No value is ever shown: it may be a key."""
    found: dict[str, str] = dict(context.meta.get(_READ, {}))
    for text in texts:
        name, sign, value = text.partition("=")
        if not name or (sign and not value) or not _NAME.fullmatch(name):
            raise WrongUseError(
                "--give takes NAME=VALUE, such as key=00ff, or NAME alone to be asked for it."
            )
        found[name] = value if sign else _asked()
    return found


def _asked() -> str:
    if not sys.stdin.isatty():
        raise WrongUseError(
            "A value that --give is to ask for can't be asked for: nobody sits here.",
            advice="--give-from NAME=FILE reads it from a file, --give-from NAME=- from a pipe.",
        )
    value: str = click.prompt("What --give asks for (it does not show)", hide_input=True, err=True)
    return value


def _read(place: str) -> str:
    try:
        number = int(place.removeprefix("fd:")) if place.startswith("fd:") else None
        source = 0 if place == "-" else Path(place) if number is None else number
        with open(source, "rb", closefd=number is None and place != "-") as file:
            raw = file.read(_MOST + 1)
        text = raw.decode("utf-8").removesuffix("\n").removesuffix("\r")
    except (OSError, ValueError) as error:
        told = error.strerror if isinstance(error, OSError) else "it is no text"
        raise WrongUseError(f"--give-from can't read {place}: {told}.") from None
    if not text or len(raw) > _MOST:
        raise WrongUseError(f"--give-from: {place} holds no value of 1 to {_MOST:,} bytes.")
    return text
