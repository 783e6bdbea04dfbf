"""`cferry help [COMMAND]`: the same as `--help`, where people look for it."""

from __future__ import annotations

import click

__all__ = ["command"]


@click.command("help")
@click.argument("names", metavar="[COMMAND]...", nargs=-1)
@click.pass_context
def command(context: click.Context, names: tuple[str, ...]) -> None:
    """Show how the program, or one of its commands, is used: `cferry help backup list`."""
    above = context.find_root()
    for name in names:
        group = above.command
        found = group.get_command(above, name) if isinstance(group, click.Group) else None
        if found is None:
            raise click.UsageError(f"There is no command {name!r}.", above)
        above = click.Context(found, info_name=name, parent=above)
    click.echo(above.get_help())
