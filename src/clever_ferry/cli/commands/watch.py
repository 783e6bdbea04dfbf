"""`cferry watch`: the game's first start after a crossing, live, and whether it goes on from it."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Console

from clever_ferry.cli.described import berth_data, save_data
from clever_ferry.cli.exits import NOT_LOADED, echo_json
from clever_ferry.cli.here import can_ask, choose, ferry_here
from clever_ferry.cli.options import account_option, give_option, json_option
from clever_ferry.cli.screen import (
    called,
    console,
    counted,
    escape,
    facts_line,
    heading,
    indented,
    iso,
    numbered,
    steps,
    table,
)
from clever_ferry.errors import WrongUseError
from clever_ferry.launches.live import Patience

if TYPE_CHECKING:
    from clever_ferry.launches.live import Happening
    from clever_ferry.launches.verdict import Launch
    from clever_ferry.watching import Carried, Watched

__all__ = ["command"]

_MARKS = {"goes on": "[good]✓[/]", "not loaded": "[care]–[/]", "unclear": "[care]?[/]"}
_TOLD = {
    "not loaded": "not loaded, as far as its files tell",
    "old save back": "the old save is back",
}
_HAPPENS = {
    "opened": "[dim]{}[/]",
    "writing": "[dim]is being written: {}[/]",
    "saved": "[good]saved:[/] {}",
    "new": "[care]a new save:[/] {}",
    "gone": "[bad]is gone:[/] {}",
    "half": "[care]{}[/]",
    "cloud": "[care]{}[/]",
    "other": "[dim]no save's: {}[/]",
    "unkept": "[bad]{}[/]",
    "game": "[bold]{}[/]",
}
_LONG = 86_400.0


@click.command("watch")
@click.argument("what", required=False, metavar="[NUMBER | GAME/EDITION[:SLOT]]")
@click.option(
    "--once", is_flag=True,
    help="Don't wait: say how it stands now. For when you have played already.",
)  # fmt: skip
@click.option(
    "--quiet-for", type=click.FloatRange(1, _LONG), metavar="SECONDS",
    help="Where the game is not seen to run: end so long after the last file was written (30).",
)  # fmt: skip
@click.option(
    "--at-most", type=click.FloatRange(1, _LONG), metavar="SECONDS",
    help="End after so long, whatever happens.",
)  # fmt: skip
@account_option
@give_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, what: str | None, once: bool, quiet_for: float | None,
    at_most: float | None, account: str | None, given: dict[str, str], as_json: bool,
) -> None:  # fmt: skip
    """Watch what the game does with what was carried, and say whether it goes on from it.

    Start this, then the game: load what was carried, play a little, save, and close the game.
    NUMBER is a crossing of the log, the newest if you say nothing; a place is held against the
    newest crossing into it.

    Every state that passes by is kept in the locker, so that nothing is lost whatever the game
    does. Nothing of the game's is written. Ctrl-C ends it, with what is known by then. The exit
    code is 0 where the game goes on from what was carried, 12 where it does not or nobody can tell.
    """
    if once and (quiet_for is not None or at_most is not None):
        raise WrongUseError("--once does not wait: --quiet-for and --at-most do not go with it.")
    if account is not None and (what is None or what.isdecimal()):
        raise WrongUseError("--account goes with a place: a crossing knows whose saves it wrote.")
    ferry = ferry_here(computer, remind=False)
    ask = can_ask() and not as_json
    carried = choose(
        lambda answers: ferry.watching.carried(
            what, answers.get("--account", account), given, live=not once
        ),
        ask=ask,
    )
    out = console()
    if once:
        watched = ferry.watching.once(carried, given)
    else:
        patience = Patience(at_most=at_most)
        if quiet_for is not None:
            patience = Patience(closed=min(3.0, quiet_for), quiet=quiet_for, at_most=at_most)
        if not as_json:
            _print_begin(out, carried)
        watched = ferry.watching.live(
            carried, given, _teller(out, carried, silent=as_json),
            lambda told: None if as_json else _print_ready(out, patience, told), patience,
        )  # fmt: skip
    if as_json:
        echo_json(_data(watched))
    else:
        _print_end(out, watched)
    if not watched.goes_on:
        raise click.exceptions.Exit(NOT_LOADED)


def _print_begin(out: Console, carried: Carried) -> None:
    berth = carried.berth
    out.print(f"{heading(f'{berth.game.title}: {berth.title}')}  [place]{escape(berth.address)}[/]",
              soft_wrap=True)  # fmt: skip
    for one in carried.saves[:8]:
        name = next((fact.text for fact in one.facts if fact.key == "name"), "")
        told = " · ".join(f"{f.label} {f.text}" for f in one.facts if f.shown and f.key != "name")
        where = numbered(one.slot, berth.edition)
        out.print(indented(f"{where}  [save]{escape(name)}[/]  [dim]{escape(told)}[/]", 2))
    if len(carried.saves) > 8:
        out.print(f"  … and {len(carried.saves) - 8:,} more")
    since = "they stand now" if carried.record is None else f"{carried.record.what} has left it"
    out.print(f"[dim]Held against how {since}.[/]")


def _print_ready(out: Console, patience: Patience, told: bool) -> None:
    out.print("\n[bold]Now start the game:[/] load it, play a little, save, and close the game.")
    wait = f"{patience.quiet:g} seconds"
    out.print(f"[dim]This ends by itself when the game is closed, or {wait} after the last save "
              "where that does not show. Ctrl-C ends it at once.[/]")  # fmt: skip
    if not told:
        out.print("[dim]Here it does not show at once when files are written: they are looked at "
                  "every half second or (many files) less often. What comes and goes in between is "
                  "not seen.[/]")  # fmt: skip


def _teller(out: Console, carried: Carried, *, silent: bool) -> Callable[[Happening], None]:
    def tell(one: Happening) -> None:
        clock = time.strftime("%H:%M:%S", time.localtime(one.at / 1e9))
        who = ""
        if one.slot is not None:
            who = f"{called(one.title, one.slot, carried.berth.edition)}  "
        told = _HAPPENS[one.kind].format(escape(one.told))
        out.print(f"  [dim]{clock}[/]  {who}{told}", soft_wrap=True)

    return (lambda one: None) if silent else tell


def _print_end(out: Console, watched: Watched) -> None:
    edition = watched.berth.edition
    out.print()
    for one in watched.launches:
        mark = _MARKS.get(one.word, "[bad]✗[/]")
        told = _TOLD.get(one.word, one.word)
        out.print(f"{mark} {called(one.title, one.slot, edition)}: [bold]{told}[/]")
        out.print(indented(f"{escape(one.why)}.", 4))
        if one.word in ("started anew", "old save back", "unclear") and one.facts and not one.half:
            shown = table("", "As carried", "Now")
            for fact in one.facts:
                shown.add_row(fact.label, escape(fact.carried or "?"), escape(fact.now or "?"))
            out.print(indented(shown, 4))
    if watched.generations:
        kept = counted(len(watched.generations), "state")
        out.print(f"[dim]{kept} of it {'is' if len(watched.generations) == 1 else 'are'} kept: "
                  f"{', '.join(watched.generations[-4:])}[/]", soft_wrap=True)  # fmt: skip
    lines = list(_next_steps(watched))
    if lines:
        out.print("\n" + heading("Next"))
        out.print(steps(lines), soft_wrap=True)


def _next_steps(watched: Watched) -> list[str]:
    """Return what to do now, in order, by the worst that was seen."""
    words = {one.word for one in watched.launches}
    number, found = watched.number, []
    half = any(one.half for one in watched.launches)
    bad = half or words & {"started anew", "old save back", "gone"}
    if watched.goes_on:
        return []
    if half:
        found.append("See that the game is closed, and has not only not finished saving yet.")
    if "old save back" in words:
        found += [line for cloud in watched.clouds for line in cloud.answer]
        if not watched.clouds:
            found.append("If the store keeps its own copy of the saves, turn that off for once.")
    if bad and any(one.now is not None and one.now.generation for one in watched.launches):
        found.append("Where the game wrote its own in front of it: cferry tidy "
                     f"{watched.berth.address}")  # fmt: skip
    for one in watched.further:
        slot = f" --slot {one.save.slot}" if watched.berth.edition.numbered else ""
        found.append(f"Bring it back as you have played it ({facts_line(one.save, most=1)}): "
                     f"cferry restore {one.backup}{slot}")  # fmt: skip
    if bad and len(watched.again) == 2 and not watched.further:
        found.append(f"Carry it again: cferry cross {' '.join(watched.again)}")
    if bad and watched.generations:
        found.append("Or bring back how it stood when this began: cferry restore "
                     f"{watched.generations[0]}")  # fmt: skip
    if bad and number is not None:
        found.append(f"Or put the target back as it was before: cferry undo {number}")
    if not bad:
        again = f"cferry watch {number} --once" if number is not None else "the same command"
        found.append(f"Load it in the game, play on a little, and save. Then: {again}")
    return found


def _data(watched: Watched) -> dict[str, Any]:
    return {
        **berth_data(watched.berth),
        "crossing": watched.number,
        "goes_on": watched.goes_on,
        "saves": [_launch_data(one) for one in watched.launches],
        "happened": [
            {
                "at": iso(one.at), "kind": one.kind, "title": one.title or None,
                "slot": one.slot, "told": one.told,
            }
            for one in watched.happened
        ],
        "generations": list(watched.generations),
        "told_at_once": watched.told_at_once,
        "further": [{"backup": one.backup, "save": save_data(one.save)} for one in watched.further],
        "next": list(_next_steps(watched)),
    }  # fmt: skip


def _launch_data(one: Launch) -> dict[str, Any]:
    return {
        "slot": one.slot,
        "title": one.title,
        "verdict": one.word,
        "why": one.why,
        "level": "goes on" if one.word == "goes on" else None,
        "facts": [
            {"label": fact.label, "carried": fact.carried, "now": fact.now} for fact in one.facts
        ],
        "now": save_data(one.now) if one.now is not None else None,
        "beside": [save_data(save) for save in one.beside],
    }
