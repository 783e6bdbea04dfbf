"""What the logbook tells of saves and places."""

from __future__ import annotations

from clever_ferry.cargo import Save
from clever_ferry.finding.berths import Berth
from clever_ferry.keeping.logbook import SaveNote, Side
from clever_ferry.keeping.snapshots import KeptSave, kept_save

__all__ = ["note_of", "side_of"]


def note_of(save: Save | KeptSave) -> SaveNote:
    """Return what the logbook tells of a save."""
    kept = kept_save(save) if isinstance(save, Save) else save
    return SaveNote(kept.title, dict(kept.facts))


def side_of(berth: Berth) -> Side:
    """Return what the logbook tells of a berth."""
    return Side(berth.address, berth.title, berth.place)
