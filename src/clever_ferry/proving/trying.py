"""A recipe tried on real examples: what is read and what not, and what writing would give."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from clever_ferry.cargo import Piece, Save, digest_of
from clever_ferry.certainty import Level
from clever_ferry.errors import FerryError
from clever_ferry.finding import at_place
from clever_ferry.finding.berths import OpenBerth, open_berth
from clever_ferry.finding.computers import Computer
from clever_ferry.naming import Value
from clever_ferry.recipes import Edition, Game
from clever_ferry.recipes.establishing import Examiner

__all__ = ["Tried", "TriedPiece", "try_recipe"]


@dataclass(frozen=True)
class TriedPiece:
    """One piece, and how writing it again would come out."""

    entry: str
    role: str
    outcome: str
    """`same bytes`, `same content, packed otherwise`, or what goes wrong."""
    level: Level | None = None
    """What reading it has established; None where it is not a save's own."""
    by: str = ""
    """By what."""
    suspicions: tuple[str, ...] = ()
    """What only looks wrong."""


@dataclass(frozen=True)
class Tried:
    """What one edition makes of a folder."""

    edition: Edition
    saves: tuple[Save, ...]
    pieces: tuple[TriedPiece, ...]
    unread: tuple[str, ...]
    problems: tuple[str, ...]
    left: int = 0
    """Saves that were not looked at, as there are more than were asked for."""


def try_recipe(
    game: Game, computer: Computer, folder: Path, most: int | None = None
) -> Iterator[Tried]:
    """Try each edition of a game on a folder, on its newest saves where `most` of them are enough.

    Those editions that read nothing of it are left out.
    """
    for edition in game.editions.values():
        for berth in at_place(computer, game, edition, folder).berths:
            try:
                opened = open_berth(berth)
            except FerryError as error:
                yield Tried(edition, (), (), (), (error.what,))
                continue
            listing = opened.listing
            examiner = Examiner(edition, opened.contents, opened.known, berth.files, listing.saves)
            saves: Sequence[Save] = listing.saves
            if most is not None and len(saves) > most:
                newest = sorted(saves, key=lambda save: save.stamp or 0, reverse=True)[:most]
                own = set(map(id, newest))
                saves = [save for save in saves if id(save) in own]
            examined = tuple(examiner.examine(save) for save in saves)
            originals = {entry.name: entry for entry in opened.contents.entries}
            pieces = [
                TriedPiece(
                    found.piece.entry, found.piece.role,
                    _outcome(opened, one.save.fields, found.piece, originals),
                    found.level, found.by, found.suspicions,
                )
                for one in examined
                for found in one.pieces
            ]  # fmt: skip
            pieces += [TriedPiece(p.entry, p.role, "shared, left alone") for p in listing.shared]
            yield Tried(
                edition,
                tuple(one.save for one in examined),
                tuple(pieces),
                listing.unread,
                listing.problems,
                len(listing.saves) - len(saves),
            )


def _outcome(
    opened: OpenBerth, fields: Mapping[str, Value], piece: Piece, originals: Mapping[str, object]
) -> str:
    berth = opened.berth
    file = berth.edition.file_of(piece.role)
    assert file is not None
    parts = berth.edition.parts_of({**opened.known.fields, **fields})
    known = opened.known.of(fields, parts, piece.fields)
    try:
        name = file.write(known.fields)
        if piece.problem:
            return piece.problem
        original = getattr(originals[piece.entry], "payload", None)
        wrapped = file.chain.wrap(piece.payload, known, headers=piece.headers)
        other = name != piece.entry and not berth.fold
        renamed = f", under the name {name}" if other else ""
        if original is not None and digest_of(wrapped) == digest_of(original):
            return f"same bytes{renamed}"
        if digest_of(file.chain.unwrap(wrapped).payload) == digest_of(piece.payload):
            return f"same content, packed otherwise{renamed}"
    except FerryError as error:
        return error.what
    return "writing gives something else"
