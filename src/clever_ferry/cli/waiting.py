"""Waiting for the target's own game: until it was started, has a throwaway save, and is closed."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.screen import console, escape, steps
from clever_ferry.errors import FerryError

if TYPE_CHECKING:
    from clever_ferry.crossing.plan import Plan

__all__ = ["planned_in_time"]

_LEAST, _SHARE = 1.0, 10
"""Seconds between two looks: so many at the least, and so many times what a look takes."""


def planned_in_time(
    attempt: Callable[[str], Plan], target: str, *, wait: bool, ask: bool, closed: bool
) -> Plan:
    """Return a plan to a target; where only its game can make that possible, wait for that.

    `attempt` plans to an address. With `wait`, the game also has to be closed, but where the user
    says that it is (`closed`). Raises what planning does where nothing is waited for.
    """
    try:
        plan = attempt(target)
    except FerryError as error:
        if not error.in_game:
            raise
        if not wait:
            error.again = ("--wait",)
            if not ask:
                raise
        _say(error)
        if not wait and not click.confirm("Wait here for that, and then go on?"):
            raise click.Abort from None
        plan, target = _waited(attempt, target)
        wait = True
    if wait and plan.signs.busy and not closed:
        console(err=True).print("[bold]Now close the game[/] and its store's program.")
        while plan.signs.busy:
            plan, target = _waited(attempt, target)
    return plan


def _say(error: FerryError) -> None:
    out = console(err=True)
    out.print(f"[bold]{escape(error.what)}[/]", soft_wrap=True)
    for line in error.details:
        out.print(escape(line), soft_wrap=True)
    out.print(steps([error.advice, "Close the game."]), soft_wrap=True)
    out.print("[dim]Waiting for that. Ctrl-C ends it; nothing is changed until then.[/]")


def _waited(attempt: Callable[[str], Plan], target: str) -> tuple[Plan, str]:
    """Try until it can be planned, also onto a throwaway where that is what is needed."""
    took = 0.0
    while True:
        time.sleep(max(_LEAST, _SHARE * took))
        began = time.monotonic()
        try:
            return attempt(target), target
        except FerryError as error:
            if not error.in_game:
                raise
            onto = f"{target}:throwaway" if error.in_game == "throwaway" else ""
        if onto and ":" not in target.rpartition("/")[2]:
            try:
                return attempt(onto), onto
            except FerryError as error:
                if not error.in_game:
                    raise
        took = time.monotonic() - began
