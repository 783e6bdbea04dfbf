"""What the tool keeps of its own: the locker (backups) and the logbook (crossings)."""

from clever_ferry.keeping.locker import Locker, Manifest
from clever_ferry.keeping.logbook import Logbook, Record

__all__ = ["Locker", "Logbook", "Manifest", "Record"]
