"""`cferry sheet`: what a player would write down of a save before a move."""

from __future__ import annotations

from pathlib import Path

import click

from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import can_ask, choose, ferry_here
from clever_ferry.cli.options import account_option, give_option, json_option
from clever_ferry.cli.screen import console, counted, escape, place_word
from clever_ferry.errors import WrongUseError
from clever_ferry.moving.outputs import new_file

__all__ = ["command"]


@click.command("sheet")
@click.argument("where", metavar="SAVE")
@click.option(
    "-o", "--output", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.html",
    required=True, help="The page to write; there must be none of that name yet.",
)  # fmt: skip
@click.option(
    "--table", "whole", multiple=True, metavar="TABLE",
    help="Keep only this table row by row (also several times); of others, what they add up to.",
)  # fmt: skip
@account_option
@give_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, where: str, output: Path, whole: tuple[str, ...], account: str | None,
    given: dict[str, str], as_json: bool,
) -> None:  # fmt: skip
    """Write down what a save is known by: a page to read, to print, and to compare with later.

    Its facts, its tables with what each owner has, and its picture are on it. `cferry compare`
    sets it against what the save is after a move.
    """
    if output.suffix.lower() not in (".html", ".htm"):
        raise WrongUseError(f"{output} is no .html file.")
    ferry = ferry_here(computer)
    sheet, picture = choose(
        lambda answers: ferry.noting.sheet(
            where, whole or None, answers.get("--account", account), given
        ),
        ask=can_ask() and not as_json,
    )  # fmt: skip
    from clever_ferry.sheets.pages import sheet_page

    with new_file(output) as part:
        part.write_text(sheet_page(sheet, picture), "utf-8", newline="\n")
    if as_json:
        echo_json({"file": str(output), **sheet.data()})
        return
    rows = sum(table.count for table in sheet.tables if table.whole)
    told = f"{counted(len(sheet.facts), 'fact')}, {counted(len(sheet.tables), 'table')}"
    within = f" with {counted(rows, 'row')}" if rows else ""
    out = console()
    out.print(f"[good]✓[/] {escape(sheet.title)} is written down in {escape(str(output))}: {told}"
              f"{within}.",
              soft_wrap=True)  # fmt: skip
    for table in sheet.tables:
        for trouble in table.troubles:
            out.print(f"[care]{escape(table.label)}:[/] {escape(trouble)}", soft_wrap=True)
    word = escape(place_word(output))
    out.print(f"After the move: cferry compare {word} SAVE", soft_wrap=True)
