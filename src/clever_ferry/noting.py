"""Writing saves down, and setting them against each other, as jobs. `Ferry` has them."""

from __future__ import annotations

import time
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from clever_ferry.backups import Backups
from clever_ferry.cargo import Piece, Save
from clever_ferry.errors import (
    ChoiceNeededError,
    DamagedError,
    NotFoundError,
    UnknownNameError,
    WrongUseError,
)
from clever_ferry.finding import open_berth, parse_address
from clever_ferry.finding.addresses import address_of, slot_text
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.payload import read_all
from clever_ferry.places import Places
from clever_ferry.proving.relating import relate
from clever_ferry.recipes.tables import Table, read_tables, with_referred
from clever_ferry.sheets.differing import Differences, compare
from clever_ferry.sheets.sheet import Sheet, read_sheet, sheet_of
from clever_ferry.wording import known

__all__ = ["Chosen", "Noting"]

_LARGEST_PICTURE = 4 << 20
_LARGEST_SHEET = 64 << 20


class Chosen(NamedTuple):
    """One save, with the place that it is from, and its tables."""

    opened: OpenBerth
    save: Save
    tables: Sequence[Table]

    @property
    def where(self) -> str:
        """Its address."""
        return address_of(self.opened.berth.address, self.save)


class Noting:
    """What a ferry knows of places and backups, for single saves."""

    def __init__(self, places: Places, backups: Backups) -> None:
        self._places, self._backups = places, backups

    def tables(
        self, where: str, names: Collection[str] | None = None, account: str | None = None,
        given: Mapping[str, str] | None = None,
    ) -> Chosen:  # fmt: skip
        """Return the tables of one save, or those of these `names`."""
        address = parse_address(where)
        opened = open_berth(self._places.berth(address, account), given=given)
        return self._read(opened, self.one(opened, address.slots), names)

    def sheet(
        self, where: str, whole: Collection[str] | None = None, account: str | None = None,
        given: Mapping[str, str] | None = None,
    ) -> tuple[Sheet, bytes | None]:  # fmt: skip
        """Return the sheet of one save, and its picture (PNG) if it has one."""
        chosen = self.tables(where, None, account, given)
        self._refuse_unknown(chosen.opened, whole or ())
        return _sheet(chosen, whole), _picture(chosen)

    def sheet_of(self, opened: OpenBerth, save: Save) -> Sheet:
        """Return the whole sheet of a save that was opened."""
        return _sheet(self._read(opened, save, None), None)

    def compare(
        self, first: str, second: str, given: Mapping[str, str] | None = None
    ) -> Differences:
        """Set two saves against each other; each is an address, a sheet's file, or a backup.

        A backup is named by its id (or some of it, or `latest`) and `:SLOT`; without a slot, it is
        the save of it that is of the other side's story.
        """
        one = self._side(first, None, given)
        other = self._side(second, one, given)
        if not isinstance(one, Chosen | Sheet):
            one = self._side(first, other, given)
        sheets = [side if isinstance(side, Sheet) else _sheet(side, None)
                  for side in (one, other) if isinstance(side, Chosen | Sheet)]  # fmt: skip
        if len(sheets) != 2:
            raise ChoiceNeededError(
                "Neither side says which save of a backup is meant.",
                advice="Name its slot: BACKUP:SLOT",
            )
        if sheets[0].game != sheets[1].game:
            raise WrongUseError(
                f"These are saves of two games: {sheets[0].game_title} and {sheets[1].game_title}."
            )
        return compare(*sheets)

    def _side(
        self, text: str, like: object, given: Mapping[str, str] | None
    ) -> Chosen | Sheet | OpenBerth:
        path = Path(text).expanduser()
        if path.is_file():
            with path.open("rb") as file:
                return read_sheet(file.read(_LARGEST_SHEET + 1), text)
        if path.suffix.lower() in (".html", ".htm"):
            raise NotFoundError(f"There is no file {text}.")
        if "/" in text.partition("@")[0].partition(":")[0]:
            return self.tables(text, None, None, given)
        ident, _, slot = text.partition(":")
        opened = self._backups.opened(ident, given)
        if slot or len(opened.listing.saves) == 1:
            return self._read(opened, self.one(opened, slot or None), None)
        if not isinstance(like, Chosen):
            return opened
        (found, *_) = relate([like.save], opened.listing.saves, opened.berth.game)
        save = found.second or found.near
        if save is None:
            raise NotFoundError(f"{opened.berth.address} has no save of {like.save.title}.")
        return self._read(opened, save, None)

    def one(self, opened: OpenBerth, slots: str | None) -> Save:
        """Return the one save that is meant of a berth; raises ChoiceNeededError."""
        berth = opened.berth
        saves = opened.chosen(slots)
        if not saves:
            raise NotFoundError(f"{berth.address} has no saves.")
        if len(saves) > 1:
            raise ChoiceNeededError(
                f"{berth.address} has {len(saves)} saves, and one is meant.",
                details=tuple(f"  {address_of(berth.address, one)}  {one.title}" for one in saves),
                advice=f"Name it, such as: {address_of(berth.address, saves[0])}",
            )
        return saves[0]

    def _read(self, opened: OpenBerth, save: Save, names: Collection[str] | None) -> Chosen:
        self._refuse_unknown(opened, names or ())
        every = opened.berth.game.tables
        wanted = [name for name in every if names is None or name in names]
        # What is referred to is read, too, so that a reference is told right.
        asked = with_referred(every, wanted)
        found = read_tables(asked, opened.berth.edition.reader, save, opened.known)
        return Chosen(opened, save, [table for table in found if table.name in wanted])

    def _refuse_unknown(self, opened: OpenBerth, names: Collection[str]) -> None:
        game = opened.berth.game
        for name in names:
            if name not in game.tables:
                raise UnknownNameError(
                    f"The recipe of {game.title} has no table {name!r}.",
                    details=(f"{known(game.tables)[:1].upper()}{known(game.tables)[1:]}.",),
                )


def _sheet(chosen: Chosen, whole: Collection[str] | None) -> Sheet:
    berth = chosen.opened.berth
    return sheet_of(
        chosen.save, chosen.tables, game=berth.game.id, game_title=berth.game.title,
        edition=berth.title, where=f"{berth.address}:{slot_text(chosen.save)}",
        now=time.time_ns(), compared=berth.game.compared, whole=whole,
    )  # fmt: skip


def _picture(chosen: Chosen) -> bytes | None:
    """Return the first piece that is a PNG, and not too large for a page."""
    pieces = chosen.opened.berth.game.pieces

    def is_picture(piece: Piece) -> bool:
        small = piece.size is not None and piece.size <= _LARGEST_PICTURE
        return pieces[piece.role].holds == "png" and small and not piece.problem

    for piece in filter(is_picture, chosen.save.pieces):
        try:
            raw = read_all(piece.payload, limit=_LARGEST_PICTURE, what=piece.entry)
        except DamagedError:
            continue
        if raw.startswith(b"\x89PNG\r\n\x1a\n"):
            return raw
    return None
