"""`cferry parcel`: one save in a file, for a friend."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import click
from msgspec import to_builtins

from clever_ferry.cli.described import save_data
from clever_ferry.cli.exits import DAMAGED, echo_json
from clever_ferry.cli.here import ferry_here
from clever_ferry.cli.options import account_option, give_option, json_option
from clever_ferry.cli.screen import console, counted, escape, facts_line, heading, place, size
from clever_ferry.parcels import Label, Parcel

__all__ = ["command"]


@click.group("parcel")
def command() -> None:
    """Send one save to a friend, as one file, from any edition to any.

    A parcel has the save's pieces without any store's wrapping, what it is known by, and your note.
    Nothing of your folders and your computer is in it; of your account, what `pack` says.
    """


@command.command("pack")
@click.argument("where", metavar="GAME/EDITION[:SLOT]")
@click.option(
    "-o", "--output", type=click.Path(path_type=Path), metavar="FILE.zip", required=True,
    help="The file to be made.",
)  # fmt: skip
@click.option("--note", default="", metavar="TEXT", help="What you want to say with it.")
@account_option
@give_option
@json_option
@click.pass_obj
def pack(
    computer: Path | None, where: str, output: Path, note: str, account: str | None,
    given: Mapping[str, str], as_json: bool,
) -> None:  # fmt: skip
    """Pack one save, and say what is in the file. The save itself stays as it is."""
    ferry = ferry_here(computer)
    opened = ferry.slots(where, account, given, lenient=False)[0]
    done = ferry.parcels.pack(opened, output, note)
    if as_json:
        pieces = [{"piece": name, "size": count} for name, count in done.pieces]
        echo_json({
            "file": str(output), "save": save_data(done.save), "label": to_builtins(done.label),
            "pieces": pieces, "left": list(done.left), "shows": list(done.shows),
        })  # fmt: skip
        return
    out = console()
    out.print(f"[good]✓[/] {escape(done.save.title)} is packed: {escape(place(output))}")
    for name, count in done.pieces:
        out.print(f"    {escape(name)}  [dim]{size(count)}[/]")
    if done.left:
        out.print(f"  Left at home: {escape(', '.join(done.left))}", soft_wrap=True)
    for one in done.shows:
        out.print(
            f"  [care]Take care:[/] {escape(one)}, so your friend can read it.", soft_wrap=True
        )
    if not done.shows:
        out.print("  Whose it was stands nowhere in it as text. It read back as it should.")
    out.print(f"Your friend takes it in with: cferry cross {escape(output.name)} "
              f"{escape(done.label.game)}/EDITION", soft_wrap=True)  # fmt: skip


@command.command("show")
@click.argument("file", type=click.Path(path_type=Path), metavar="FILE.zip")
@json_option
@click.pass_obj
def show(computer: Path | None, file: Path, as_json: bool) -> None:
    """Tell what a parcel has in it."""
    _tell(computer, file, as_json, close=False)


@command.command("check")
@click.argument("file", type=click.Path(path_type=Path), metavar="FILE.zip")
@json_option
@click.pass_obj
def check(computer: Path | None, file: Path, as_json: bool) -> None:
    """Hold every byte of a parcel against the digests that it was packed with."""
    _tell(computer, file, as_json, close=True)


def _tell(computer: Path | None, file: Path, as_json: bool, *, close: bool) -> None:
    parcel = ferry_here(computer).parcels.read(file)
    if as_json:
        save = save_data(parcel.save) if not parcel.faults else None
        echo_json({
            "file": str(file), "label": to_builtins(parcel.label), "save": save,
            "faults": list(parcel.faults), "same_recipe": parcel.known_recipe,
        })  # fmt: skip
    else:
        _print(parcel, file, close)
    if parcel.faults:
        raise click.exceptions.Exit(DAMAGED)


def _print(parcel: Parcel, file: Path, close: bool) -> None:
    out, label = console(), parcel.label
    out.print(
        f"{heading(label.title)}  from {escape(label.edition_title)}, packed on {label.packed}"
    )
    if parcel.faults:
        out.print(f"[bad]✗[/] {escape(place(file))} is not as it was packed:")
        for one in parcel.faults[:20]:
            out.print(f"    {escape(one)}", soft_wrap=True)
        out.print("Have it sent once more.")
        return
    save = parcel.save
    out.print(f"{escape(save.title)}  {facts_line(save)}", soft_wrap=True)
    _note(label)
    if close:
        what = counted(len(save.pieces), "piece")
        out.print(f"[good]✓[/] {what}, each to the byte as packed (SHA-256).")
    else:
        for piece in save.pieces:
            out.print(f"    {escape(piece.title)}  [dim]{size(piece.size or 0)}[/]")
    if not parcel.known_recipe:
        out.print(
            "[care]It was packed by another form of this game's recipe; it reads all the same.[/]"
        )
    out.print(f"Next: cferry cross {escape(str(file))} {label.game}/EDITION --dry-run")


def _note(label: Label) -> None:
    if label.note:
        console().print(f"“{escape(label.note)}”", soft_wrap=True)
