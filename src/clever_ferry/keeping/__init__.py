"""What the tool keeps of its own: the locker (backups), the journal, the logbook (crossings)."""

from clever_ferry.keeping.journal import Entry, Journal
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Locker, Packing, Reason
from clever_ferry.keeping.logbook import Logbook, Record
from clever_ferry.keeping.snapshots import About, Kept, KeptFile, KeptSave, Snapshot, kept_save

__all__ = [
    "About",
    "Entry",
    "Journal",
    "Keeps",
    "Kept",
    "KeptFile",
    "KeptSave",
    "Locker",
    "Logbook",
    "Packing",
    "Reason",
    "Record",
    "Snapshot",
    "kept_save",
]
