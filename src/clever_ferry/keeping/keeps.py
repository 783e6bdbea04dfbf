"""The tool's own folder, with all that it keeps: locker, logbook, journal, locks."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

from clever_ferry.keeping.harbour_names import HarbourNames
from clever_ferry.keeping.journal import Journal
from clever_ferry.keeping.locker import Locker
from clever_ferry.keeping.logbook import Logbook
from clever_ferry.keeping.mark import Mark
from clever_ferry.moving import WriteLock

__all__ = ["Keeps"]


class Keeps:
    """What the tool keeps below one folder; the locker may be elsewhere, say on a larger disk."""

    def __init__(self, folder: Path, locker: Path | None = None) -> None:
        self.folder = folder
        self.locker = Locker(locker or folder / "locker")
        self.logbook = Logbook(folder / "logbook.sqlite")
        self.journal = Journal(folder / "journal")
        self.mark = Mark(folder / "mark")
        self.harbours = HarbourNames(folder / "harbours.json")

    def lock(self, root: Path, what: str) -> WriteLock:
        """Return the lock of a folder of saves, under whatever name one reaches it."""
        real = os.path.normcase(os.path.realpath(root))
        name = hashlib.blake2b(os.fsencode(real), digest_size=12).hexdigest()
        return WriteLock(self.folder / "locks" / f"{name}.lock", what)
