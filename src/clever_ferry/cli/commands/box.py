"""`cferry box`: pieces put together again."""

from __future__ import annotations

from pathlib import Path

import click

from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, escape, place

__all__ = ["command"]


@click.command("box")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option(
    "-o", "--out", type=click.Path(path_type=Path), metavar="NEW", required=True,
    help="The file or folder to make; it must not be there yet.",
)  # fmt: skip
@json_option
@click.pass_obj
def command(computer: Path | None, folder: Path, out: Path, as_json: bool) -> None:
    """Put together again what `cferry unbox` has taken apart into FOLDER.

    Pieces that you changed, added or removed below FOLDER/pieces are so in the new container;
    all else is as it was. It says so where every byte of the new container is the old one's.
    """
    ferry = ferry_here(computer)
    done = ferry.box(folder, out)
    if as_json:
        echo_json(
            {
                "file": str(done.path),
                "same": done.same,
                "changed": list(done.changed),
                "added": list(done.added),
                "removed": list(done.removed),
            }
        )
        return
    screen = console()
    for word, names in (
        ("changed", done.changed),
        ("added", done.added),
        ("removed", done.removed),
    ):
        for name in names:
            screen.print(f"  {word:<8} {escape(name)}")
    same = ""
    if done.same:
        same = ", the same as it was"
    elif not (done.changed or done.added or done.removed):
        same = "; its pieces are as they were, but its bytes are not: it was packed anew"
    screen.print(f"[good]✓[/] {escape(place(done.path))} is put together{same}.")
