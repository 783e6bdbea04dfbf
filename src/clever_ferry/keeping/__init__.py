"""What the tool keeps of its own: the locker (backups), the journal, the logbook (crossings)."""

from clever_ferry.keeping.bagging import export_bag
from clever_ferry.keeping.journal import Entry, Journal
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Locker, Packing, Reason
from clever_ferry.keeping.logbook import Logbook, Record
from clever_ferry.keeping.pruning import Pruning, Rules, plan_pruning, prune
from clever_ferry.keeping.reading import SnapshotFiles
from clever_ferry.keeping.snapshots import About, Kept, KeptFile, KeptSave, Snapshot, kept_save
from clever_ferry.keeping.verifying import Concerned, Verified, verify

__all__ = [
    "About",
    "Concerned",
    "Entry",
    "Journal",
    "Keeps",
    "Kept",
    "KeptFile",
    "KeptSave",
    "Locker",
    "Logbook",
    "Packing",
    "Pruning",
    "Reason",
    "Record",
    "Rules",
    "Snapshot",
    "SnapshotFiles",
    "Verified",
    "export_bag",
    "kept_save",
    "plan_pruning",
    "prune",
    "verify",
]
