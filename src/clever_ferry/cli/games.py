"""The games' own programs on the terminal: the user's word before one starts, and what it said."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click
from rich.console import Console

from clever_ferry.cli.screen import console, escape, indented

if TYPE_CHECKING:
    from clever_ferry.asking import Asking, Starter
    from clever_ferry.judging.verdict import Verdict

__all__ = ["agree_to_start", "print_starter", "print_verdict", "verdict_data"]


def print_starter(out: Console, one: Starter) -> None:
    """Print what would be started, as one would type it, and what it can reach."""
    out.print(indented(escape(" ".join(_quoted(part) for part in one.command)), 4))
    for name, value in one.environment.items():
        out.print(indented(f"[dim]with {escape(name)}={escape(value)}[/]", 4))
    reach = (
        "it can write to nothing but a copy of the save, and reaches no network"
        if one.shut_in
        else f"in a folder with a copy of the save, but not shut in: {one.why_not}"
    )
    out.print(indented(f"[dim]{escape(reach)}[/]", 4))


def agree_to_start(asking: Asking, where: str, *, ask: bool) -> None:
    """Ask for the user's word where a game was not allowed yet; without a terminal, nothing is."""
    one = asking.starter(where)
    if one.allowed or not ask:
        return  # what needs the word refuses without it, with the way to give it
    out = console()
    told = "Its recipe or the program is another than when you allowed it. " if one.changed else ""
    out.print(f"{told}To ask {escape(one.title)} itself, this would be started:", soft_wrap=True)
    print_starter(out, one)
    if not click.confirm("Start it, now and whenever you ask with --with-game?"):
        raise click.Abort
    asking.allow(where)


def print_verdict(out: Console, one: Verdict, by: int) -> None:
    """Print what a game made of a save, with the line that says so."""
    mark = {"loads": "[good]loads[/]", "refused": "[bad]refused[/]", "unlike": "[bad]unlike[/]"}
    told = f"{mark.get(one.how, '[care]not known[/]')}      {escape(one.what)}"
    out.print(indented(told, by))
    if one.told:
        told = ", ".join(
            f"{fact.label} {fact.theirs}{'' if fact.same else f' (and not {fact.ours})'}"
            for fact in one.told
        )
        out.print(indented(f"[dim]it tells   {escape(told)}[/]", by))
    if one.untold:
        out.print(indented(f"[dim]it does not tell {escape(', '.join(one.untold))}[/]", by))
    if one.how not in ("missing", "not asked"):
        for line in one.said if one.how != "loads" else ():
            out.print(indented(f"[dim]it says    {escape(line)}[/]", by))


def verdict_data(one: Verdict | None) -> dict[str, Any] | None:
    """Return the same as data."""
    if one is None:
        return None
    return {
        "verdict": one.how, "what": one.what, "said": list(one.said),
        "told": [
            {"fact": fact.key, "ours": fact.ours, "theirs": fact.theirs, "same": fact.same}
            for fact in one.told
        ],
        "not_told": list(one.untold), "command": list(one.command), "shut_in": one.shut_in,
        "seconds": one.seconds,
    }  # fmt: skip


def _quoted(part: str) -> str:
    return f'"{part}"' if " " in part or not part else part
