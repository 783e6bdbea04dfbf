"""What the stand-in games share: a program that lists, loads, plays and saves, or refuses."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import click

__all__ = ["GameProgram", "RefusalError", "Store", "write"]


class RefusalError(Exception):
    """The game refuses to load, and says why."""


class Store(Protocol):
    """One account's saves, as one edition of a game reads and writes them."""

    def list(self) -> Mapping[str, str]:
        """Return what the load menu has, by the names that `--slot` takes."""

    def load(self, slot: str) -> Any:
        """Read a save, or refuse."""

    def save(self, slot: str, state: Any, stamp_ns: int) -> None:
        """Write a save."""


def write(path: Path, data: bytes, stamp_ns: int) -> None:
    """Write a file, with its time."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    os.utime(path, ns=(stamp_ns, stamp_ns))


@dataclass(frozen=True)
class GameProgram:
    """A stand-in: its name, where its editions' saves are, and how a save goes on."""

    name: str
    title: str
    stores: tuple[str, ...]
    find: Callable[[Path, str, str | None], Store]
    """Gives an edition's saves on a described computer, for the usual account or another."""
    begin: Callable[[str], Any]
    play_on: Callable[[Any, int], Any]
    told: Callable[[Any], str]
    on_map: Callable[[Any, str], Any] = lambda state, ground: state
    """Moves what has just begun onto one of the `maps`."""
    maps: tuple[str, ...] = ()

    def group(self) -> click.Group:
        """Return its command line."""

        @click.group(name=self.name, help=f"Play {self.title}, a made-up game.")
        @click.option("--edition", type=click.Choice(self.stores), required=True)
        @click.option("--account", help="Whose saves, where not the usual ones.")
        @click.option("--computer", envvar="CFERRY_COMPUTER", required=True,
                      type=click.Path(path_type=Path))  # fmt: skip
        @click.pass_context
        def game(context: click.Context, edition: str, account: str | None, computer: Path) -> None:
            context.obj = self.find(computer, edition, account)

        @game.command("list", help="Show the load menu.")
        @click.pass_obj
        def list_(store: Store) -> None:
            for slot in store.list():
                try:
                    click.echo(f"{slot}  {self.told(store.load(slot))}")
                except RefusalError as refusal:
                    click.echo(f"{slot}  (can't be loaded: {refusal})")

        @game.command(help="Load a save, or refuse with a reason.")
        @click.option("--slot", required=True)
        @click.pass_obj
        def load(store: Store, slot: str) -> None:
            click.echo(f"Loaded {slot}: {self.told(store.load(slot))}")

        @game.command(help="Begin anew.")
        @click.option("--slot", required=True)
        @click.option("--name", default="a try", show_default=True)
        @click.option("--map", "ground", hidden=not self.maps, help=f"One of: {self.maps}.")
        @click.pass_obj
        def new(store: Store, slot: str, name: str, ground: str | None) -> None:
            if slot in store.list():
                raise RefusalError(f"{slot} is taken")
            if ground is not None and ground not in self.maps:
                raise RefusalError(f"there is no map {ground}")
            state = self.begin(name)
            state = self.on_map(state, ground) if ground is not None else state
            store.save(slot, state, time.time_ns())
            click.echo(f"Began {slot}: {self.told(state)}")

        @game.command(help="Load a save, play on, and save.")
        @click.option("--slot", required=True)
        @click.option("--days", type=click.IntRange(1, 1000), default=1, show_default=True)
        @click.pass_obj
        def play(store: Store, slot: str, days: int) -> None:
            state = self.play_on(store.load(slot), days)
            store.save(slot, state, time.time_ns())
            click.echo(f"Played and saved {slot}: {self.told(state)}")

        return game

    def run(self) -> None:
        """Run the program; a refusal ends with status 1."""
        try:
            self.group()(prog_name=self.name)
        except RefusalError as refusal:
            click.echo(f"{self.title} can't do this: {refusal}.", err=True)
            sys.exit(1)
