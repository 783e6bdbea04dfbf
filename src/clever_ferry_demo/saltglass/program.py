"""The stand-in for Saltglass: a program that lists, loads, plays and saves, or refuses."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import click

from clever_ferry_demo.saltglass.launching import HOWS, launch
from clever_ferry_demo.saltglass.pieces import RefusalError, World, make_world, play_on
from clever_ferry_demo.saltglass.server import ServerStore
from clever_ferry_demo.world import find_store, store_at

__all__ = ["run"]


@click.group(name="saltglass")
@click.option(
    "--store",
    type=click.Choice(["depot", "tern", "finch", "server"]),
    required=True,
    help="Whose edition.",
)
@click.option("--account", help="Whose saves, where not the usual ones.")
@click.option(
    "--folder", type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="The account's own folder, where it is no usual one, as in a prefix.",
)  # fmt: skip
@click.option(
    "--computer", envvar="CFERRY_COMPUTER", required=True,
    type=click.Path(path_type=Path), help="The described computer (a folder).",
)  # fmt: skip
@click.pass_context
def game(
    context: click.Context, store: str, account: str | None, folder: Path | None, computer: Path
) -> None:
    """Play Saltglass, a made-up game, on a simulated computer."""
    context.obj = store_at(folder, store) if folder else find_store(computer, store, account)


@game.command("list")
@click.pass_context
def list_(context: click.Context) -> None:
    """Show the load menu."""
    store = context.obj
    for slot in store.list():
        try:
            click.echo(f"{slot}  {_told(store.load(slot))}")
        except RefusalError as refusal:
            click.echo(f"{slot}  (can't be loaded: {refusal})")


@game.command()
@click.option("--slot", type=int, required=True)
@click.pass_context
def load(context: click.Context, slot: int) -> None:
    """Load a slot, or refuse with a reason."""
    click.echo(f"Loaded slot {slot}: {_told(context.obj.load(slot))}")


@game.command()
@click.option("--slot", type=int, required=True)
@click.option("--name", required=True)
@click.option("--player", "players", multiple=True, default=("Wren",))
@click.pass_context
def new(context: click.Context, slot: int, name: str, players: tuple[str, ...]) -> None:
    """Begin a new world in a free slot."""
    store = context.obj
    if slot in store.list() or not 1 <= slot <= store.slots:
        raise RefusalError(f"slot {slot} is taken, or there is no such slot")
    world = make_world(name, time.time_ns() % 100_000, players)
    store.save(slot, world, time.time_ns())
    click.echo(f"Began slot {slot}: {_told(world)}")


@game.command()
@click.option("--slot", type=int, required=True)
@click.option("--days", type=click.IntRange(1, 1000), default=1, show_default=True)
@click.pass_context
def play(context: click.Context, slot: int, days: int) -> None:
    """Load a slot, play some days, and save."""
    world = play_on(context.obj.load(slot), days)
    context.obj.save(slot, world, time.time_ns())
    click.echo(f"Played and saved slot {slot}: {_told(world)}")


@game.command()
@click.option("--slot", type=int, required=True)
@click.option("--as", "other", type=int, help="The slot to save into; the same if not given.")
@click.pass_context
def save(context: click.Context, slot: int, other: int | None) -> None:
    """Load a slot and save it again, into the same or another slot."""
    world = context.obj.load(slot)
    if other is not None and not 1 <= other <= context.obj.slots:
        raise RefusalError(f"there is no slot {other}")
    context.obj.save(other or slot, world, time.time_ns())
    click.echo(f"Saved slot {other or slot}: {_told(world)}")


@game.command()
@click.option("--check", is_flag=True, help="End once the isle is loaded.")
@click.pass_context
def serve(context: click.Context, check: bool) -> None:
    """Start the dedicated server: load the isle that its config names, or refuse."""
    store = context.obj
    if not isinstance(store, ServerStore):
        raise RefusalError("only --store server is a server")
    slot, seats = store.served()
    world = store.load(slot)
    if len(world.travellers) > seats:
        raise RefusalError(f"isle-{slot} has more players than the server has seats ({seats})")
    click.echo(f"Serving isle-{slot} to {seats} players: {_told(world)}")
    if not check:
        with store.open_for_players():
            while True:
                time.sleep(1)


@game.command("launch")
@click.option("--slot", type=int, required=True)
@click.option("--how", type=click.Choice(list(HOWS)), default="goes-on", show_default=True)
@click.option("--old", type=click.Path(path_type=Path, exists=True), help="The cloud's copy.")
@click.pass_context
def launch_(context: click.Context, slot: int, how: str, old: Path | None) -> None:
    """Start once after a crossing, and behave or misbehave."""
    click.echo(f"Started and ended: {launch(context.obj, slot, how, old)}")


def _told(world: World) -> str:
    hours, minutes = divmod(world.seconds // 60, 60)
    return (
        f"{world.name}, day {world.day}, {hours} h {minutes:02} min, {world.coins} coins, "
        f"{len(world.buildings)} buildings, with {', '.join(t.name for t in world.travellers)}"
    )


def run() -> None:
    """Run the program; a refusal ends with status 1."""
    try:
        game(prog_name="saltglass")
    except RefusalError as refusal:
        click.echo(f"Saltglass can't do this: {refusal}.", err=True)
        sys.exit(1)


if __name__ == "__main__":
    run()
