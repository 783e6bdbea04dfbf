"""`cferry log`: what was carried, when, and what became of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.described import found_of, record_data, told_state
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import agree, can_ask, ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import (
    console,
    escape,
    heading,
    table,
    told_facts,
    when,
    when_cell,
)
from clever_ferry.errors import UnknownNameError, WrongUseError

if TYPE_CHECKING:
    from clever_ferry.ferry import Ferry
    from clever_ferry.keeping.logbook import Record

__all__ = ["command"]

_STYLES = {"proved": "good", "undone": "dim", "put back": "care"}


@click.group("log", invoke_without_command=True)
@click.option(
    "--give-up", "given_up", type=int, metavar="NUMBER",
    help="Give up a change that was cut short and can't be set right: its target stays as it is.",
)  # fmt: skip
@click.option("--yes", is_flag=True, help="With --give-up: do it without asking.")
@json_option
@click.pass_context
def command(context: click.Context, given_up: int | None, yes: bool, as_json: bool) -> None:
    """List what was carried, when, and what became of it. The newest comes first."""
    if context.invoked_subcommand is not None:
        if given_up is not None or yes or as_json:
            raise WrongUseError("Options of the list do not go with a command behind `log`.")
        return
    ferry = ferry_here(context.obj)
    if given_up is not None:
        _give_up(ferry, given_up, yes=yes, as_json=as_json)
        return
    if yes:
        raise WrongUseError("--yes goes with --give-up alone.")
    records = ferry.log()
    unread = ferry.keeps.logbook.unread
    if as_json:
        more = {"unread": unread} if unread else {}
        echo_json({"crossings": [record_data(record) for record in records], **more})
        return
    out = console()
    if unread:
        numbers = ", ".join(map(str, unread))
        out.print(f"[bad]Lines of the logbook that make no sense are left out: {numbers}[/]")
    if not records:
        out.print("Nothing was carried yet.")
        return
    shown = table("No.", "When", "What", "From", "To", "State", right=("No.",))
    for record in records:
        details = record.details
        what = "\n".join(
            f"[save]{escape(move.save.name)}[/] "
            f"[dim]{escape(told_facts(_some(move.save.facts)))}[/]"
            for move in details.moves
        )
        shown.add_row(
            str(record.number), when_cell(record.started), what,
            escape(details.source.address) + _slots(move.from_slot for move in details.moves),
            escape(details.target.address) + _slots(move.to_slot for move in details.moves),
            _state(record, "\n"),
        )  # fmt: skip
    out.print(shown)
    for record in records:
        if reason := record.details.reason:
            out.print(f"  {record.number}: {escape(reason)}")
    last = next((record for record in records if record.state == "proved"), None)
    if last:
        out.print(f"\nTo take one back: cferry undo {last.number}")


@command.command("show")
@click.argument("number", type=int)
@click.option(
    "--html", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.html",
    help="Write it as a page; there must be none of that name yet.",
)  # fmt: skip
@json_option
@click.pass_obj
def show(computer: Path | None, number: int, html: Path | None, as_json: bool) -> None:
    """Show one crossing: which saves went where, what they replaced, and what became of it."""
    if html is not None:
        from clever_ferry.cli.reports import refuse_no_page, write_record

        refuse_no_page(html)
    records = ferry_here(computer).log()
    record = next((one for one in records if one.number == number), None)
    if record is None:
        raise UnknownNameError(
            f"There is no crossing {number} in the logbook.",
            advice="`cferry log` lists them.",
        )
    if html is not None:
        write_record(record, html)
    if as_json:
        echo_json({**record_data(record), "file": str(html) if html is not None else None})
        return
    out, details = console(), record.details
    out.print(f"{heading(record.what.capitalize())}  {_state(record, '; ')}  "
              f"[dim]{when(record.started)}[/]", soft_wrap=True)  # fmt: skip
    for label, side in (("from", details.source), ("to", details.target)):
        out.print(f"  {label:<5} {escape(side.title)}  [place]{escape(side.address)}[/]",
                  soft_wrap=True)  # fmt: skip
    for move in details.moves:
        out.print(f"  [save]{escape(move.save.name)}[/]{_slots([move.from_slot])} → "
                  f"{_slots([move.to_slot]) or 'new'}  "
                  f"[dim]{escape(told_facts(list(move.save.facts.items())))}[/]",
                  soft_wrap=True)  # fmt: skip
        if move.replaced is not None:
            told = told_facts(list(move.replaced.facts.items()))
            out.print(f"    in place of {escape(move.replaced.name)}  [dim]{escape(told)}[/]",
                      soft_wrap=True)  # fmt: skip
    if details.reason:
        out.print(f"  {escape(details.reason)}", soft_wrap=True)
    if record.backup:
        out.print(f"  What stood there before: cferry backup show {record.backup}", soft_wrap=True)
    if html is not None:
        out.print(f"[good]✓[/] {escape(str(html))}", soft_wrap=True)
    if record.state == "proved":
        out.print(f"To take it back: cferry undo {record.number}")


def _give_up(ferry: Ferry, number: int, *, yes: bool, as_json: bool) -> None:
    ask = can_ask() and not as_json
    if ask and not yes:
        click.echo(
            f"Change {number} stays half-way as it stands. What was there before stays in the "
            "locker (`cferry backup list`)."
        )
    agree("Give it up?", "given up", yes=yes, ask=ask)
    root = ferry.give_up(number)
    if as_json:
        echo_json({"given_up": number, "folder": root})
    else:
        console().print(
            f"Change {number} is given up. Look whether the saves there load: {escape(root)}",
            soft_wrap=True,
        )


def _state(record: Record, between: str) -> str:
    """Return a crossing's state, and what its game has made of it, each in its colour."""
    found, style = found_of(record)
    more = f"{between}[{style}]{found}[/]" if found else ""
    return f"[{_STYLES.get(record.state, 'bad')}]{told_state(record)}[/]{more}"


def _some(facts: Mapping[str, str]) -> list[tuple[str, str]]:
    return list(facts.items())[:2]


def _slots(slots: Iterable[int | None]) -> str:
    numbers = [str(slot) for slot in slots if slot]
    return ":" + ",".join(numbers) if numbers else ""
