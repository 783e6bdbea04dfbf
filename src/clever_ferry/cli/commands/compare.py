"""`cferry compare`: two saves, a save and a sheet, or a save and a backup against each other."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from msgspec import to_builtins

from clever_ferry.cli.exits import DIFFERENT, echo_json
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.options import give_option, json_option
from clever_ferry.cli.screen import console, counted, escape, heading, table
from clever_ferry.errors import WrongUseError
from clever_ferry.moving.outputs import new_file
from clever_ferry.wording import in_words

if TYPE_CHECKING:
    from clever_ferry.sheets.differing import Difference, Differences, TableDifferences

__all__ = ["command"]

_SHOWN = 20
_LOOKS = {"more": "good", "new": "good", "less": "care", "other": "care", "missing": "bad"}
_WORDS = {"more": "more", "less": "less", "other": "another", "missing": "missing", "new": "new"}


@click.command("compare")
@click.argument("first", metavar="A")
@click.argument("second", metavar="B")
@click.option(
    "--html", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.html",
    help="Also write it as a page; there must be none of that name yet.",
)  # fmt: skip
@give_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, first: str, second: str, html: Path | None, given: dict[str, str],
    as_json: bool,
) -> None:  # fmt: skip
    """Set two saves against each other: facts, and row by row what they have many of.

    A and B are saves (orrery-yard/windows:"Brass Court"), sheets (`cferry sheet` writes them), or
    backups by their id (with :SLOT where they have several saves). What differs comes first. Exits
    with 0 where they are the same in all that both tell, and with 11 where they differ.
    """
    if html is not None and html.suffix.lower() not in (".html", ".htm"):
        raise WrongUseError(f"{html} is no .html file.")
    told = ferry_here(computer).noting.compare(first, second, given)
    if html is not None:
        from clever_ferry.sheets.pages import comparison_page

        with new_file(html) as part:
            part.write_text(comparison_page(told), "utf-8", newline="\n")
    if as_json:
        echo_json(_data(told, html))
    else:
        _print(told, html)
    if not told.same:
        raise click.exceptions.Exit(DIFFERENT)


def _print(told: Differences, html: Path | None) -> None:
    out = console()
    names = [f"{heading(one.title)}  [place]{escape(one.where)}[/]  [dim]{_saved(one.saved)}[/]"
             for one in (told.first, told.second)]  # fmt: skip
    if told.same:
        rows = [f"{one.first:,} {one.label.lower()}" for one in told.tables]
        every = ", ".join([counted(len(told.same_facts), "fact"), *rows])
        line = f"[good]The same:[/] {escape(told.first.title)}, {escape(every)}."
        out.print(line, soft_wrap=True)
    else:
        out.print(f"A  {names[0]}", soft_wrap=True)
        out.print(f"B  {names[1]}", soft_wrap=True)
    if told.facts:
        shown = table("", "Fact", "A", "B", right=("A", "B"))
        for one in told.facts:
            shown.add_row(_sign(one), escape(one.what), *map(_cell, (one.first, one.second)))
        out.print(shown)
    for each in told.tables:
        _print_table(each)
    for one in told.allowed:
        line = f"{one.what} was {one.first} and is {one.second}, as it may be after a move."
        out.print(escape(line), soft_wrap=True)
    for line in told.alone:
        out.print(f"[care]Not compared:[/] {escape(line)}", soft_wrap=True)
    if not told.same and told.same_facts:
        out.print(f"[dim]The same: {escape(' · '.join(told.same_facts))}[/]", soft_wrap=True)
    if html is not None:
        out.print(f"[good]✓[/] {escape(str(html))}", soft_wrap=True)


def _saved(text: str | None) -> str:
    return f"saved {text[:16].replace('T', ' ')} UTC" if text else "saved at an unknown time"


def _print_table(one: TableDifferences) -> None:
    from clever_ferry.sheets.differing import summary

    if not one.differences:
        return
    out = console()
    out.print(f"[bold]{escape(one.label)}[/]: {escape(summary(one))}", soft_wrap=True)
    shown = table("", "Whose", "What", "", "A", "B", right=("A", "B"))
    for each in one.differences[:_SHOWN]:
        below = f"{each.sure:.0%} sure" if each.sure < 1 else ""
        values = each.first, each.second
        if each.how in ("missing", "new"):  # of which there is one, told whole
            below, values = each.first or each.second or "", (None, None)
        what = escape(each.what) + (f"\n[dim]{escape(below)}[/]" if below else "")
        shown.add_row(
            _sign(each), escape(each.owner), what, escape(each.column), *map(_cell, values)
        )
    out.print(shown)
    more = len(one.differences) - _SHOWN + one.more
    if more > 0:
        held = f"the first {len(one.differences):,}" if one.more else "them"
        out.print(f"… and {more:,} more: --html FILE.html and --json have {held}.")


def _sign(one: Difference) -> str:
    return f"[{_LOOKS[one.how]}]{_WORDS[one.how]}[/]"


def _cell(value: Any) -> str:
    numeric = isinstance(value, int | float) and not isinstance(value, bool)
    return "" if value is None else escape(in_words(value, "count" if numeric else None))


def _data(told: Differences, html: Path | None) -> dict[str, Any]:
    sides = {
        name: {"title": one.title, "game": one.game, "edition": one.edition, "where": one.where,
               "saved": one.saved}
        for name, one in (("first", told.first), ("second", told.second))
    }  # fmt: skip
    return {
        "same": told.same,
        **sides,
        "facts": to_builtins(told.facts),
        "same_facts": list(told.same_facts),
        "allowed": to_builtins(told.allowed),
        "tables": to_builtins(told.tables),
        "not_compared": list(told.alone),
        "file": str(html) if html is not None else None,
    }
