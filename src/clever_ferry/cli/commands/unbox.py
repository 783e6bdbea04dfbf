"""`cferry unbox`: a container file taken apart into plain pieces."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.exits import DAMAGED, echo_json
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import (
    console,
    counted,
    escape,
    iso,
    place,
    place_word,
    size,
    table,
    when_cell,
)  # fmt: skip
from clever_ferry.errors import WrongUseError

if TYPE_CHECKING:
    from clever_ferry.unboxing.taking_apart import Part

__all__ = ["command"]


@click.command("unbox")
@click.argument("container", type=click.Path(path_type=Path), metavar="FILE|FOLDER")
@click.option("-o", "--out", type=click.Path(path_type=Path), metavar="FOLDER", help="Where to.")
@click.option("--list", "only_list", is_flag=True, help="Only list what is in it.")
@click.option("--as", "name", metavar="RECIPE", help="Open it by this: BOX, or GAME:LAYER.")
@json_option
@click.pass_obj
def command(
    computer: Path | None, container: Path, out: Path | None, only_list: bool, name: str | None,
    as_json: bool,
) -> None:  # fmt: skip
    """Take a container apart into plain pieces: a store's box, an archive, a packed file.

    FOLDER gets the pieces and what `cferry box FOLDER` needs to put it together again. The
    container itself is only read.
    """
    if out is None and not only_list:
        raise WrongUseError(
            "Where are the pieces to go?", advice="Say -o FOLDER, or --list to see them only."
        )
    ferry = ferry_here(computer)
    opened, parts = ferry.unbox(container, None if only_list else out, name)
    bad = [part for part in parts if part.problem]
    if as_json:
        echo_json({"opened_as": opened.how, "pieces": [_data(part) for part in parts]})
    else:
        screen = console()
        screen.print(f"[save]{escape(container.name)}[/], opened as {escape(opened.how)}")
        shown = table("Piece", "Size", "Last change", right=("Size",))
        for part in parts:
            known = "?" if part.size is None else size(part.size)
            stamp = when_cell(part.stamp) if part.stamp else ""
            shown.add_row(escape(part.name), known, stamp)
        screen.print(shown)
        for part in parts:
            if part.file != part.name and opened.unwrapped is None:
                screen.print(
                    f"[care]Named otherwise as a file:[/] {escape(repr(part.name))} is "
                    f"{escape(part.file)}"
                )
        for part in bad:
            screen.print(f"[bad]{escape(part.name)}:[/] {escape(part.problem)}")
        if out is not None and not only_list:
            where = escape(place(out / "pieces"))
            screen.print(f"{counted(len(parts) - len(bad), 'piece')} in {where}")
            again = f"cferry box {escape(place_word(out))} -o NEW"
            screen.print(f"To put it together again: {again}", soft_wrap=True)
    if bad:
        raise click.exceptions.Exit(DAMAGED)


def _data(part: Part) -> dict[str, object]:
    return {
        "name": part.name, "file": part.file, "size": part.size, "saved": iso(part.stamp),
        "problem": part.problem or None,
    }  # fmt: skip
