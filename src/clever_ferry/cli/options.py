"""The options that several commands have, each said once."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from clever_ferry.errors import WrongUseError

__all__ = ["account_option", "change_options", "closed_option", "give_option", "json_option"]

_C = TypeVar("_C", bound=Callable[..., Any])


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
    """Add the option by which a user states what no recipe can know."""
    told = "State what no recipe can know: a key, or a part of the name the target is to have."
    return click.option(
        "--give", "given", multiple=True, metavar="NAME=VALUE", callback=_pairs, help=told
    )(command)


def _pairs(context: click.Context, option: object, texts: tuple[str, ...]) -> dict[str, str]:
    pairs = {}
    for text in texts:
        name, sign, value = text.partition("=")
        if not sign or not name or not value:
            raise WrongUseError(f"--give {text}: it must be NAME=VALUE.")
        pairs[name] = value
    return pairs
