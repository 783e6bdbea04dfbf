"""`cferry handover`: a world that friends play together moves to another host."""

from __future__ import annotations

import shlex
from pathlib import Path

import click

from clever_ferry.cli.again import after_dry_run
from clever_ferry.cli.certain import print_reached
from clever_ferry.cli.commands.cross import command as cross
from clever_ferry.cli.described import save_data
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import agree, can_ask, choose, ferry_here
from clever_ferry.cli.options import (
    account_option,
    change_options,
    closed_option,
    give_option,
    json_option,
)
from clever_ferry.cli.progress import telling
from clever_ferry.cli.screen import console, counted, escape, facts_line, heading, numbered, steps
from clever_ferry.errors import WrongUseError
from clever_ferry.handovers import Handover, taking, write_handover

__all__ = ["command"]


@click.command("handover")
@click.argument("where", metavar="GAME/EDITION[:SLOT]")
@click.option("--to", "player", metavar="PLAYER", help="The guest who becomes the host.")
@click.option(
    "-o", "--output", type=click.Path(path_type=Path), metavar="FILE.zip",
    help="Write the world for that player into a file to be sent.",
)  # fmt: skip
@click.option("--here", is_flag=True, help="Have your own copy handed over, too.")
@click.option(
    "--take", type=click.Path(path_type=Path), metavar="FILE.zip",
    help="The other half: take up a world that was handed over to you.",
)  # fmt: skip
@account_option
@change_options
@click.option("--replace", is_flag=True, help="With --take and --yes: a save may be replaced.")
@give_option
@closed_option
@json_option
@click.pass_context
def command(
    context: click.Context, where: str, player: str | None, output: Path | None, here: bool,
    take: Path | None, account: str | None, dry_run: bool, yes: bool, replace: bool,
    given: dict[str, str], game_closed: bool, as_json: bool,
) -> None:  # fmt: skip
    """Hand a world that friends play together over to another host.

    The new host's own character takes the host's place, and the old host's goes among the
    guests. There are two halves. You: cferry handover GAME/EDITION:SLOT --to PLAYER -o FILE.zip.
    Your friend: cferry handover GAME/EDITION:SLOT --take FILE.zip. To have it back, your friend
    hands it over to you in the same way.

    With --here, your own copy is handed over as well (backed up first), so that both are the same.
    """
    if (take is None) == (player is None):
        raise WrongUseError(
            "Say either --to PLAYER (you hand over) or --take FILE.zip (you take up)."
        )
    if take is not None:
        context.invoke(
            cross, places=(where,), from_file=take, to_account=account, dry_run=dry_run, yes=yes,
            replace=replace, given=given, game_closed=game_closed, as_json=as_json,
        )  # fmt: skip
        return
    assert player is not None
    _hand_over(
        context.obj, where, player, output, here, account, dry_run, yes, given, game_closed, as_json
    )


def _hand_over(
    computer: Path | None, where: str, player: str, output: Path | None, here: bool,
    account: str | None, dry_run: bool, yes: bool, given: dict[str, str], game_closed: bool,
    as_json: bool,
) -> None:  # fmt: skip
    ferry = ferry_here(computer)
    ask = can_ask() and not as_json and not yes
    planned = choose(
        lambda answers: ferry.handover(where, player, answers.get("--account", account), given),
        ask=ask,
    )
    if output is None and not here and not dry_run:
        raise WrongUseError(
            "Nothing was done: say where the world goes.",
            advice=f'Add -o "{planned.after.title}.zip" to write a file for {planned.to}, or '
            "--here to hand over your own copy.",
        )
    if not as_json:
        _print(planned, here)
    crossing, files = None, 0
    if not dry_run:
        if here:
            agree("Hand your own copy over (it is backed up first)?", "done", yes=yes, ask=ask)
        if output is not None:
            files = write_handover(planned, output, ferry.parcels)
        if here:
            with telling(as_json) as tell:
                done = ferry.carry_out(planned.here, tell, game_closed=game_closed)
            crossing = done.number
    if as_json:
        echo_json({
            "save": save_data(planned.after), "host_was": planned.host, "host": planned.to,
            "file": str(output) if files else None, "crossing": crossing,
            "level": "same" if crossing is not None else None,
        })  # fmt: skip
    elif dry_run:
        if output is None and not here:
            console().print("This was a dry run: nothing was changed. Say -o FILE.zip to write it.")
        else:
            console().print(escape(after_dry_run("--yes")), soft_wrap=True)
    else:
        _print_done(planned, output if files else None, files, crossing)


def _print(planned: Handover, here: bool) -> None:
    out, berth = console(), planned.opened.berth
    where = numbered(planned.before.slot, berth.edition)
    out.print(f"[save]{escape(planned.before.title)}[/] ({escape(where)})  "
              f"[dim]{escape(facts_line(planned.before))}[/]")  # fmt: skip
    out.print(f"  host      {escape(planned.host)} → [good]{escape(planned.to)}[/]")
    info = berth.game.handover
    if info is not None and info.host is not None:
        out.print(f"  moves     what is {escape(planned.to)}'s goes into the host's place "
                  f"({escape(info.host)})")  # fmt: skip
        out.print(f"  moves     what is {escape(planned.host)}'s goes among the guests "
                  f"({escape(info.guest)})")  # fmt: skip
    if here:
        out.print("[bold]Backed up first:[/] your own copy")
    out.print()


def _print_done(planned: Handover, output: Path | None, files: int, crossing: int | None) -> None:
    out = console()
    if output is not None:
        out.print(f"[good]✓[/] {counted(files, 'file')} in [place]{escape(str(output))}[/]",
                  soft_wrap=True)  # fmt: skip
    if crossing is not None:
        out.print(f"[good]✓[/] Your own copy has {escape(planned.to)} as its host now. "
                  f"To take that back: cferry undo {crossing}")  # fmt: skip
        print_reached(out, "same", crossing)
    out.print("\n" + heading("What comes next"))
    lines = []
    if output is not None:
        take = taking(planned.opened.berth, shlex.quote(output.name))
        lines = [
            f"Send {output.name} to {planned.to}, who says: {take} (or with another edition)",
            f"{planned.to} starts the game, loads {planned.after.title}, and invites you: your "
            "own character is among the guests.",
        ]
    if crossing is None:
        lines.append("Your own copy is as it was. Play on in one of the two only: what is built "
                     "in the other does not come along.")  # fmt: skip
    lines.append(f"To host it again: {planned.to} says cferry handover … --to {planned.host}, and "
                 "you take it up.")  # fmt: skip
    out.print(steps(escape(line) for line in lines), soft_wrap=True)
