"""Checking as a job: saves read to the last byte, and what their game is known to refuse."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.cargo import Save
from clever_ferry.certainty import SaveLevel
from clever_ferry.crossing.rules import refusals
from clever_ferry.errors import RefusedError
from clever_ferry.finding import Berth
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.recipes.establishing import Examined, Examiner
from clever_ferry.recipes.tables import read_tables

__all__ = ["Checked", "check"]


class Checked(Struct, frozen=True):
    """The saves of a berth, every byte read, with all that is wrong."""

    berth: Berth
    examined: tuple[Examined, ...]
    problems: tuple[str, ...]
    refused: tuple[RefusedError, ...] = ()
    """Why the game there is known to refuse a save, though nothing is wrong with its bytes."""
    strays: tuple[str, ...] = ()
    """What lies in the saves' own folders and was not looked at, as the recipe does not know it."""

    @property
    def saves(self) -> tuple[Save, ...]:
        """The saves, with all that is wrong with each."""
        return tuple(one.save for one in self.examined)

    def level(self, one: Examined) -> SaveLevel | None:
        """Return how far it is right; None where something is wrong with it or what it is in."""
        if one.save.problems or self.problems:
            return None
        return "whole" if self.refused else "fits"

    @property
    def suspicious(self) -> bool:
        """Whether anything only looks wrong."""
        return any(one.suspicions for one in self.examined)

    @property
    def damaged(self) -> bool:
        """Whether anything is wrong."""
        return bool(self.problems) or any(save.problems for save in self.saves)


def _with_tables(examined: Examined, opened: OpenBerth) -> Examined:
    """Return a save with what is odd in its tables, such as a reference that leads nowhere."""
    game, reader = opened.berth.game, opened.berth.edition.reader
    odd: dict[str, list[str]] = {}
    for table in read_tables(game.tables, reader, examined.save, opened.known):
        if table.read:  # else what is wrong with the piece is told already
            odd.setdefault(game.tables[table.name].roles[0], []).extend(
                f"{table.label}: {told}" for told in table.troubles
            )
    pieces = tuple(
        replace(one, suspicions=(*one.suspicions, *odd.pop(one.piece.role, ())))
        for one in examined.pieces
    )
    return replace(examined, pieces=pieces)


def check(opened: OpenBerth, slots: str | None) -> Checked:
    """Read every byte of the chosen saves of a berth as its edition reads them."""
    berth = opened.berth
    chosen = opened.chosen(slots)
    examiner = Examiner(
        berth.edition, opened.contents, opened.known, berth.files, opened.listing.saves
    )
    examined = tuple(_with_tables(examiner.examine(save), opened) for save in chosen)
    problems = list(opened.listing.problems)
    most = berth.edition.most_slots
    if most is not None and berth.edition.numbered:
        problems += [
            f"slot {save.slot} ({save.title}) is beyond the {most} that the game shows"
            for save in chosen
            if save.slot > most
        ]
    highest = getattr(berth.edition.fields.get("slot"), "highest", None)
    if highest is not None and berth.edition.numbered:
        problems += [
            f"slot {save.slot} ({save.title}) is beyond the {highest} that names here go up to"
            for save in chosen
            if save.slot > highest
        ]
    strays = tuple(name for save in chosen for name in opened.strays(save))
    return Checked(berth, examined, tuple(problems), tuple(refusals(opened, chosen)), strays)
