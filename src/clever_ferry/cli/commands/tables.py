"""`cferry tables`: what a save has many of, as rows."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from clever_ferry.cli.described import berth_data
from clever_ferry.cli.exits import NOTHING, echo_json
from clever_ferry.cli.here import can_ask, choose, ferry_here
from clever_ferry.cli.options import account_option, give_option, json_option
from clever_ferry.cli.screen import columns, console, counted, escape, heading, table
from clever_ferry.errors import NotFoundError, WrongUseError
from clever_ferry.moving.outputs import new_file
from clever_ferry.wording import in_words

if TYPE_CHECKING:
    from collections.abc import Sequence

    from clever_ferry.noting import Chosen
    from clever_ferry.recipes.tables import Column, Table

__all__ = ["command"]

_SHOWN = 50
_MANY = 200
"""From here on, rows are printed one under the other, as a table takes long."""


@click.command("tables")
@click.argument("where", metavar="SAVE")
@click.argument("name", metavar="[TABLE]", required=False)
@click.option("--csv", "file", metavar="FILE", help="Write all rows there (- for the screen).")
@click.option("--all", "every", is_flag=True, help="Print all rows, and not only the first 50.")
@account_option
@give_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, where: str, name: str | None, file: str | None, every: bool,
    account: str | None, given: dict[str, str], as_json: bool,
) -> None:  # fmt: skip
    """Show what a save has many of: machines, houses, what each of them owns.

    SAVE is one save, such as orrery-yard/windows:"Brass Court". Without TABLE, its tables are
    listed, with how many rows they have and what these add up to.
    """
    if file is not None and name is None:
        raise WrongUseError("Which table is to be written? Name it before --csv.")
    if as_json and file is not None:
        raise WrongUseError("--csv and --json do not go together.")
    ferry = ferry_here(computer)
    chosen = choose(
        lambda answers: ferry.noting.tables(
            where, None if name is None else [name], answers.get("--account", account), given
        ),
        ask=can_ask() and not as_json,
    )
    game = chosen.opened.berth.game
    if not game.tables:
        raise NotFoundError(
            f"The recipe of {game.title} says nothing of tables.",
            advice="docs/recipes.md shows how a recipe does: see `tables`.",
        )
    if as_json:
        echo_json(_data(chosen, whole=name is not None))
    elif name is None:
        _print_all(chosen)
    elif file is not None:
        _write(chosen.tables[0], file)
    else:
        _print_one(chosen, chosen.tables[0], every)
    if name is not None and not chosen.tables[0].read and not chosen.tables[0].count:
        raise click.exceptions.Exit(NOTHING)


def _print_all(chosen: Chosen) -> None:
    out = console()
    out.print(f"{heading(chosen.save.title)}  [place]{escape(chosen.where)}[/]", soft_wrap=True)
    shown = table("Table", "Rows", "Together", "Whose", right=("Rows",))
    for one in chosen.tables:
        sums = one.sums()
        told = [
            f"{column.label} {told_value(column, sums[column.name])}"
            for column in one.columns
            if column.name in sums
        ]
        whose = [f"{owner or 'nobody'} {count:,}" for owner, count in one.counts().items()]
        more = [f"… and {len(whose) - 6} more"] if len(whose) > 6 else []
        shown.add_row(
            f"{escape(one.label)}\n[dim]{escape(one.name)}[/]", f"{one.count:,}",
            escape("\n".join(told)), escape("\n".join(whose[:6] + more)),
        )  # fmt: skip
    out.print(shown)
    for one in chosen.tables:
        _print_troubles(one)
    first = chosen.tables[0].name
    out.print(f"Next: cferry tables {escape(chosen.where)} {first}", soft_wrap=True)


def _print_troubles(one: Table) -> None:
    for told in one.troubles:
        console().print(f"[care]{escape(one.label)}:[/] {escape(told)}", soft_wrap=True)


def _print_one(chosen: Chosen, one: Table, every: bool) -> None:
    out = console()
    out.print(f"{heading(chosen.save.title)}, {escape(one.label)}: {counted(one.count, 'row')}",
              soft_wrap=True)  # fmt: skip
    there = len(one.columns[0].values)
    most = there if every else min(there, _SHOWN)
    heads = [column.label for column in one.columns]
    cells = [[_cell(column, value) for value in column.values[:most]] for column in one.columns]
    right = [column.label for column in one.columns
             if any(_is_number(value) for value in column.values[:most])]  # fmt: skip
    rows = list(zip(*cells, strict=True))
    if most > _MANY:
        columns(heads, rows, right=right)
    elif rows:
        shown = table(*map(escape, heads), right=tuple(map(escape, right)))
        for row in rows:
            shown.add_row(*map(escape, row))
        out.print(shown)
    _print_troubles(one)
    where = escape(chosen.where)
    if most < there:
        out.print(f"… and {there - most:,} more: --all shows them here.")
    if rows:
        out.print(f"To keep them: cferry tables {where} {one.name} --csv FILE.csv", soft_wrap=True)


def _write(one: Table, file: str) -> None:
    text = io.StringIO(newline="")
    writer = csv.writer(text)
    writer.writerow([column.name for column in one.columns])
    for row in one.rows:
        writer.writerow(["" if value is None else _plain(value) for value in row])
    if file == "-":
        click.echo(text.getvalue(), nl=False)
    else:
        with new_file(Path(file)) as part:
            part.write_bytes(text.getvalue().encode())
        told = f"[good]✓[/] {counted(len(one.columns[0].values), 'row')} in {escape(file)}"
        console().print(told, soft_wrap=True)
    for told in one.troubles:
        console(err=True).print(f"[care]{escape(one.label)}:[/] {escape(told)}", soft_wrap=True)


def _plain(value: Any) -> str:
    return json.dumps(value) if isinstance(value, bool) else str(value)


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def told_value(column: Column, value: Any) -> str:
    """Return a number of a column in a player's words."""
    return in_words(value, column.unit or "count")


def _cell(column: Column, value: Any) -> str:
    return "" if value is None else in_words(value, column.unit)


def _data(chosen: Chosen, *, whole: bool) -> dict[str, object]:
    return {
        **berth_data(chosen.opened.berth),
        "save": {"slot": chosen.save.slot, "name": chosen.save.title},
        "tables": [_table_data(one, whole) for one in chosen.tables],
    }


def _table_data(one: Table, whole: bool) -> dict[str, object]:
    rows: Sequence[Sequence[Any]] = [list(row) for row in one.rows] if whole else []
    return {
        "name": one.name,
        "label": one.label,
        "count": one.count,
        "id": one.id,
        "owner": one.owner,
        "columns": [
            {"name": c.name, "label": c.label, "unit": c.unit, "refers": c.refers}
            for c in one.columns
        ],
        "sums": one.sums(),
        "counts": one.counts(),
        "rows": rows,
        "troubles": list(one.troubles),
        "read": one.read,
    }
