"""Rehearsing: a save carried there and back between folders of real saves, on copies of them."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.cargo import Save, digest_of
from clever_ferry.crossing.carrying import carry_out
from clever_ferry.crossing.destinations import FREE
from clever_ferry.crossing.planning import make_plan
from clever_ferry.errors import FerryError, RefusedError
from clever_ferry.finding import at_place, open_berth
from clever_ferry.finding.addresses import slot_text
from clever_ferry.finding.berths import Berth, OpenBerth
from clever_ferry.finding.computers import Computer
from clever_ferry.finding.signs import Signs
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.naming import Value
from clever_ferry.recipes import Edition, Game

__all__ = ["Rehearsed", "rehearse"]


_ABOVE = 4
"""So many folders' names, the own one among them."""


class Rehearsed(Struct, frozen=True):
    """What became of one save that went to another edition and came back, both on copies."""

    source: Edition
    target: Edition
    save: Save
    stopped: str = ""
    """What stood in the way, and on which way; '' where it went there and came back."""
    changed: tuple[str, ...] = ()
    """What was not as before when it was back."""


class _Stage(Struct, frozen=True):
    """An edition that reads saves in a folder."""

    edition: Edition
    folder: int
    saves: tuple[Save, ...]


def rehearse(game: Game, computer: Computer, folders: Sequence[Path]) -> Iterator[Rehearsed]:
    """Carry the newest whole save of each edition to each other one in these folders, and back.

    Nothing in the folders is changed: copies of them are.
    """
    stages: dict[str, _Stage] = {}
    for number, folder in enumerate(folders):
        for edition in game.editions.values():
            opened = _opened(computer, game, edition, folder)
            if opened is not None:  # of several folders with saves of one edition, the first serves
                stages.setdefault(edition.id, _Stage(edition, number, opened.listing.saves))
    for one in stages.values():
        save = _newest_whole(one.saves)
        for other in stages.values():
            if save is None or other.edition is one.edition:
                continue
            with tempfile.TemporaryDirectory(prefix="cferry-rehearsal-") as scratch:
                try:
                    # Both may read one folder; each has a copy for itself, as they have in life.
                    first, second = (
                        _copied(folders[side.folder], Path(scratch, way))
                        for side, way in ((one, "here"), (other, "there"))
                    )
                except OSError as error:
                    told = Rehearsed(one.edition, other.edition, save)
                    yield replace(told, stopped=f"the folders can't be copied: {_why(error)}")
                    continue
                here = _opened(computer, game, one.edition, first)
                there = _opened(computer, game, other.edition, second)
                assert here is not None
                assert there is not None
                keeps = Keeps(Path(scratch, "own"))
                yield _both_ways(here.berth, there.berth, save, keeps)


def _newest_whole(saves: Sequence[Save]) -> Save | None:
    """Return the newest save of which all can be read."""
    for save in sorted(saves, key=lambda save: save.stamp or 0, reverse=True):
        if not save.problems:
            with suppress(FerryError):
                _contents(save)
                return save
    return None


def _why(error: OSError) -> str:
    """Return what stood in the way of copying: of several things, the first."""
    if isinstance(error, shutil.Error) and error.args and error.args[0]:
        return str(error.args[0][0][-1])
    return error.strerror or str(error)


def _copied(folder: Path, into: Path) -> Path:
    """Copy a folder under its own name, and those above it: one may say whose the saves are."""
    above = folder.resolve().parts[1:][-_ABOVE:]
    return shutil.copytree(folder, into.joinpath(*above), symlinks=True)


def _opened(computer: Computer, game: Game, edition: Edition, folder: Path) -> OpenBerth | None:
    """Return the first berth of an edition at a folder that can be read and holds saves."""
    for berth in at_place(computer, game, edition, folder).berths:
        try:
            opened = open_berth(berth)
        except FerryError:
            continue  # trying the recipe tells it
        if opened.listing.saves:
            return opened
    return None


def _both_ways(here: Berth, there: Berth, save: Save, keeps: Keeps) -> Rehearsed:
    told = Rehearsed(here.edition, there.edition, save)
    way, fields, before = "there", save.fields, _contents(save)
    try:
        fields = _carry_there(here, there, fields, keeps)
        way = "back"
        fields = _carry(there, here, fields, keeps, slot_text(save))
    except FerryError as error:
        return replace(told, stopped=f"{way}: {' '.join((error.what, *error.details[:3]))}")
    after = _contents(_save_of(open_berth(here), fields))
    changed = [
        f"{title} {'is not there any more' if title not in after else 'is another'}"
        for title, content in before.items()
        if after.get(title) != content
    ]
    changed += [f"{title} is there besides" for title in after if title not in before]
    return replace(told, changed=tuple(changed))


def _carry_there(here: Berth, there: Berth, fields: object, keeps: Keeps) -> dict[str, Value]:
    """Carry one save to a free slot, or onto the first that is there, where it needs one."""
    try:
        return _carry(here, there, fields, keeps, FREE[0])
    except RefusedError:
        first = open_berth(there).listing.saves[0]
        slot = slot_text(first)
        return _carry(here, there, fields, keeps, slot)


def _carry(
    source: Berth, target: Berth, fields: object, keeps: Keeps, slots: str
) -> dict[str, Value]:
    """Carry one save; return the fields of what it became."""
    opened = open_berth(source)
    listing = replace(opened.listing, saves=(_save_of(opened, fields),))
    plan = make_plan(
        replace(opened, listing=listing), open_berth(target), chosen=None, slots=slots, given={}
    )
    carry_out(plan, keeps, Signs)
    return dict(plan.moves[0].fields)


def _save_of(opened: OpenBerth, fields: object) -> Save:
    return next(save for save in opened.listing.saves if save.fields == fields)


def _contents(save: Save) -> dict[str, object]:
    """Return what is to be the same when a save is back: its pieces' bytes, and its facts."""
    found: dict[str, object] = {
        f"the {piece.title}": digest_of(piece.payload)
        for piece in save.pieces
        if not piece.describes
    }
    return {**found, **{f"“{fact.label}”": fact.value for fact in save.facts}}
