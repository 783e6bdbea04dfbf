"""The `cferry` command: finds each subcommand only when it is asked for, so that help is quick."""

from __future__ import annotations

import gc
import importlib
import os
import sys

import click

from clever_ferry import __version__

__all__ = ["cferry", "main"]

_COMMANDS = {
    "look": "Show which games' saves are on this computer.",
    "study": "Look into saves that no recipe knows: how they are built, what stands where.",
    "draft": "Write the recipe for a game that has none, from its saves.",
    "slots": "List the saves of a game, with what you know them by.",
    "pairs": "Show which file corresponds to which between two editions.",
    "tables": "Show what a save has many of, as rows.",
    "sheet": "Write down what a save is known by, as a page.",
    "compare": "Set two saves, or a save and a sheet, against each other.",
    "explain": "Tell in plain words how a game keeps its saves, and what crossings do.",
    "cross": "Carry saves from one edition of a game to another.",
    "check": "Read saves to the last byte and say what is damaged, and how sure that is.",
    "watch": "Watch the game's first start after a crossing: does it go on from what was carried?",
    "loader": "Say which games may be started to ask them whether a save loads.",
    "backup": "Keep a copy of saves; list, verify, export and prune the copies.",
    "restore": "Bring a backup back.",
    "harbour": "Name other places with saves: a disk, a prefix, a stick.",
    "parcel": "Send one save to a friend, from any edition to any.",
    "handover": "Hand a world that friends play together over to another host.",
    "graft": "Take parts of an old save into a fresh one.",
    "bequeath": "Make the end of a game the start of its successor.",
    "tidy": "Bring what was carried to the front, where the game wrote over it.",
    "undo": "Put a target back as it was before a crossing.",
    "log": "List what was carried, when, and what became of it.",
    "unbox": "Take a container file apart into plain pieces.",
    "box": "Put together again what was taken apart.",
    "recipe": "List, show and check the recipes for games.",
    "demo": "See a crossing on a made-up computer with made-up games.",
    "help": "Show how a command is used.",
}


class _Lazy(click.Group):
    """A group that imports a subcommand when it is used."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the names in the order in which one meets them."""
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """Import one subcommand."""
        if name not in _COMMANDS:
            return None
        module = importlib.import_module(f"clever_ferry.cli.commands.{name}")
        command = module.command
        assert isinstance(command, click.Command)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Resolve a subcommand; an unknown one names the near ones."""
        if args and args[0] not in _COMMANDS and not args[0].startswith("-"):
            import difflib

            near = difflib.get_close_matches(args[0], _COMMANDS, 2, 0.5)
            hint = f" Did you mean {' or '.join(near)}?" if near else ""
            raise click.UsageError(f"There is no command {args[0]!r}.{hint}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the subcommands without importing them."""
        with formatter.section("Commands"):
            formatter.write_dl(list(_COMMANDS.items()))


@click.group(
    cls=_Lazy,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog="Saves are named GAME/EDITION, with :SLOT for some of them: saltglass/depot:2. "
    "Nothing is changed without being shown and asked first; see `cferry cross --help`.",
)
@click.option(
    "--computer",
    envvar="CFERRY_COMPUTER",
    type=click.Path(),
    metavar="FOLDER",
    help="Work on a described computer (a folder with a computer.toml) instead of this one.",
)
@click.version_option(__version__, prog_name="Clever Ferry")
@click.pass_context
def cferry(context: click.Context, computer: str | None) -> None:
    """Carry save games between store editions, releases, servers and systems.

    Backs up first, reads back and compares afterwards, and can undo it all.
    Without a command: what is here, and what you could do next.
    """
    if computer is not None:  # what help alone does not need is not imported for it
        from pathlib import Path

        context.obj = Path(computer)
    if context.invoked_subcommand is None:
        from clever_ferry.cli.overview import overview

        overview(context.obj)


def _help_width() -> int:
    """Return how wide help may be: as the terminal is, and 100 at the most."""
    told = os.environ.get("COLUMNS", "")
    try:
        columns = int(told) if told.isdecimal() else os.get_terminal_size(1).columns
    except (OSError, ValueError):
        columns = 80
    return max(min(columns, 100) - 2, 50)


def main(arguments: list[str]) -> int:
    """Run a command and return its documented exit code; what went wrong is said."""
    gc.set_threshold(50_000, 20, 50)  # a short run makes many objects and frees few
    for stream in (sys.stdout, sys.stderr):
        # A console that lacks a character shows another instead of ending the program.
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    # Stated here, as click would import what only help needs to find it out.
    cferry.context_settings["terminal_width"] = _help_width()
    as_json = "--json" in arguments
    try:
        code = cferry.main(arguments, prog_name="cferry", standalone_mode=False)
    except SystemExit as ended:  # rich ends so where nobody reads on
        return ended.code if isinstance(ended.code, int) and ended.code != 1 else 141
    except (Exception, KeyboardInterrupt) as error:
        from clever_ferry.cli.exits import explain_exit

        return explain_exit(error, as_json=as_json)
    return code if isinstance(code, int) else 0
