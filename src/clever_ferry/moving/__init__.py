"""Files as they are touched: read in confinement, staged, replaced, named as each OS allows."""

from clever_ferry.moving.files import FilePayload, FolderFiles
from clever_ferry.moving.names import refuse_forbidden
from clever_ferry.moving.replacing import Replacement, Staged, sweep
from clever_ferry.moving.system import WriteLock

__all__ = [
    "FilePayload",
    "FolderFiles",
    "Replacement",
    "Staged",
    "WriteLock",
    "refuse_forbidden",
    "sweep",
]
