"""`cferry look`: which games' saves are here, what changed lately, what a folder holds."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.exits import NOTHING
from clever_ferry.cli.options import json_option
from clever_ferry.cli.times import moment
from clever_ferry.errors import UnknownNameError, WrongUseError
from clever_ferry.finding.changes import Watch
from clever_ferry.finding.known_folders import known_folders, this_machine
from clever_ferry.links.server import is_link

if TYPE_CHECKING:
    from clever_ferry.ferry import Ferry
    from clever_ferry.looking import Seen, Sight

__all__ = ["command"]


@click.command("look")
@click.argument("what", metavar="[GAME|PATH]", required=False)
@click.option("--since", metavar="TIME", help="Which files changed since then: 10m, 2h, 18:30.")
@click.option("--mark", is_flag=True, help="Remember this moment, for --since-mark.")
@click.option("--since-mark", is_flag=True, help="Which files changed since the mark.")
@json_option
@click.pass_obj
def command(
    computer: Path | None, what: str | None, since: str | None, mark: bool, since_mark: bool,
    as_json: bool,
) -> None:  # fmt: skip
    """Show which games' saves are on this computer and on all that is mounted, and where.

    With GAME, only that one's, with what shows which store made them. With PATH, what a folder
    or an archive seems to hold, also where no recipe knows it.

    For a game that has no recipe: cferry look --mark, play and save in the game, then
    cferry look --since-mark shows which files it wrote. Caches are passed by.
    """
    if sum(map(bool, (what, since, mark, since_mark))) > 1:
        raise WrongUseError("GAME or PATH, --since, --mark and --since-mark do not go together.")
    watch = Watch(moment(since)) if since else None
    if watch is not None and computer is None:
        # Begun before all else is imported: the search takes its time in other processes.
        watch.add(known_folders(this_machine()))
    from clever_ferry.cli.here import ferry_here
    from clever_ferry.cli.screen import console

    ferry = ferry_here(computer)
    if mark:
        ferry.keeps.mark.set()
        console().print("Marked. Now start the game, save in it, and close it.")
        console().print("Next: cferry look --since-mark")
    elif since or since_mark:
        _changes(ferry, watch or Watch(ferry.keeps.mark.get()), as_json)
    elif what and _is_path(what, ferry):
        _survey(ferry, what, as_json)
    else:
        _look(ferry, what, as_json)


def _is_path(what: str, ferry: Ferry) -> bool:
    return bool({"/", "\\", "."} & set(what)) or (
        Path(what).exists() and what.lower() not in ferry.recipes.game_ids()
    )


def _changes(ferry: Ferry, watch: Watch, as_json: bool) -> None:
    from clever_ferry.cli.described import changes_data
    from clever_ferry.cli.exits import echo_json
    from clever_ferry.cli.surveys import print_changes

    changes, whose = ferry.changes(watch)
    if as_json:
        echo_json(changes_data(changes, whose, watch.since))
    else:
        print_changes(changes, whose, watch.since)
    if not changes.folders:
        raise click.exceptions.Exit(NOTHING)


def _survey(ferry: Ferry, what: str, as_json: bool) -> None:
    from clever_ferry.cli.described import survey_data
    from clever_ferry.cli.exits import echo_json
    from clever_ferry.cli.surveys import print_survey

    path = what if is_link(what) else Path(what).expanduser()
    if isinstance(path, Path) and not path.exists():
        raise UnknownNameError(
            f"There is no folder or file {what}.",
            advice="`cferry look` alone shows where the saves on this computer are.",
        )
    surveyed = ferry.survey(path)
    if as_json:
        echo_json(survey_data(surveyed))
    else:
        print_survey(surveyed, what)


def _look(ferry: Ferry, game: str | None, as_json: bool) -> None:
    from clever_ferry.cli.described import seen_data
    from clever_ferry.cli.exits import echo_json
    from clever_ferry.cli.screen import console, escape, size, table, when_cell

    seen = ferry.look(game.lower() if game else None)
    if as_json:
        echo_json(seen_data(seen, ferry.computer.name))
        return
    out = console()
    if not seen.sights:
        where = escape(ferry.computer.name)
        known = "" if not game else f" of {escape(ferry.recipes.game(game.lower()).title)}"
        out.print(f"No saves{known} were found on {where}.")
        _print_rest(seen)
        out.print(
            "`cferry recipe list` shows which games it knows; `cferry demo` shows it at work; "
            "`cferry look --mark` helps to find where another game saves."
        )
        raise click.exceptions.Exit(NOTHING)
    shown = table("Game", "Edition", "Saves", "Last saved", "Size", right=("Saves", "Size"))
    for sight in seen.sights:
        fields = ", ".join(f"{name} {value}" for name, value in sight.berth.fields.items())
        edition = escape(sight.berth.edition.title)
        shown.add_row(
            escape(sight.berth.game.title),
            f"{edition}\n[dim]{escape(fields)}[/]" if fields else edition,
            str(len(sight.saves)),
            when_cell(max((save.stamp or 0 for save in sight.saves), default=None)),
            size(sum(save.size for save in sight.saves)),
        )
    out.print(shown)
    out.print("[bold]Name them so[/], and where they are:")
    for sight in seen.sights:
        _print_place(sight)
    _print_rest(seen)
    first = next((one for one in seen.sights if one.saves), seen.sights[0])
    berth = first.berth
    out.print(f"\nNext: cferry slots {escape(berth.address if berth.at else berth.game.id)}")


def _print_place(sight: Sight) -> None:
    from clever_ferry.cli.screen import console, escape, indented, place

    out = console()
    out.print(
        f"[place]{escape(sight.berth.address)}[/]  {escape(place(sight.berth.root))}",
        soft_wrap=True,
    )
    if sight.evidence:
        out.print(indented(f"[dim]{escape('; '.join(sight.evidence))}[/]", 2))
    if not sight.saves and not sight.problems:
        out.print("  no saves yet: the game was started, and nothing was saved")
    for problem in sight.problems:
        out.print(f"  [bad]Not in order:[/] {escape(problem)}", soft_wrap=True)


def _print_rest(seen: Seen) -> None:
    from clever_ferry.cli.screen import console, escape, indented

    out = console()
    for error in seen.missing:
        out.print(escape(error.what), soft_wrap=True)
        out.print(indented(f"[dim]{escape(error.advice)}[/]", 2))
    for trouble in seen.troubles:
        out.print(f"[care]Careful:[/] {escape(trouble)}", soft_wrap=True)
    for fault in seen.faults:
        out.print(f"[care]{escape(fault.what)}[/]", soft_wrap=True)
