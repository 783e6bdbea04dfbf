"""The tool's own folder, with all that it keeps: locker, logbook, journal, locks."""

from __future__ import annotations

import os
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from clever_ferry.errors import FerryError
from clever_ferry.keeping.harbour_names import HarbourNames
from clever_ferry.keeping.journal import Journal
from clever_ferry.keeping.launches import Launches
from clever_ferry.keeping.loaders import LoaderWords
from clever_ferry.keeping.logbook import Logbook
from clever_ferry.keeping.mark import Mark
from clever_ferry.keeping.readings import Readings
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.local import LOCAL, LocalShore
from clever_ferry.moving.shores import Shores
from clever_ferry.moving.system import WriteLock

if TYPE_CHECKING:
    from clever_ferry.keeping.locker import Locker

__all__ = ["Keeps"]


class Keeps:
    """What the tool keeps below one folder; the locker may be elsewhere, say on a larger disk."""

    def __init__(
        self,
        folder: Path,
        locker: Path | None = None,
        *,
        shore: LocalShore = LOCAL,
        shores: Shores | None = None,
    ) -> None:
        self.folder = folder
        self.shore = shore
        self.shores = shores or Shores(shore)
        self.locker_folder = locker or folder / "locker"
        self.logbook = Logbook(folder / "logbook.sqlite")
        self.journal = Journal(folder / "journal", self.shores, shore)
        self.mark = Mark(folder / "mark", shore)
        self.readings = Readings(folder / "readings", shore)
        self.harbours = HarbourNames(folder / "harbours.json", shore)
        self.launches = Launches(folder / "launches.json", shore)
        self.loaders = LoaderWords(folder / "loaders.json", shore)

    @cached_property
    def locker(self) -> Locker:
        """The backups."""
        from clever_ferry.keeping.locker import Locker

        return Locker(self.locker_folder, self.shore)

    def half_way(self) -> bool:
        """Tell whether anything here says of a change that it has begun and not ended."""
        with suppress(FerryError):  # a damaged logbook is told by what needs it
            return bool(self.journal.open() or self.logbook.begun())
        return bool(self.journal.open())

    def sweep(self) -> None:
        """Remove what killed runs had begun to write here, where none is at work now."""
        if parts := _parts(self.journal.folder):
            locks = [WriteLock(one) for one in (self.folder / "locks").glob("*.lock")]
            try:  # whoever writes the journal holds the lock of its folder
                if all(lock.take() for lock in locks):
                    _remove(parts)
            finally:
                for lock in locks:
                    lock.release()
        locker = self.locker_folder
        if parts := _parts(locker / "objects") + _parts(locker / "snapshots"):
            lock = WriteLock(locker / "writing.lock", "sweeping")
            if lock.take():
                _remove(parts)
                lock.release()

    def refuse_half(self, folder: FolderFiles) -> None:
        """Raise RefusedError where a change of a folder is under way, or was cut short."""
        if self.journal.open_at(folder) is not None:
            with self.lock(folder, "looking"):  # refused where another is at work there
                self.journal.refuse_open(folder)

    def lock(self, folder: FolderFiles, what: str) -> WriteLock:
        """Return the lock of a folder of saves, under whatever name one reaches it."""
        import hashlib

        name = hashlib.blake2b(os.fsencode(folder.identity), digest_size=12).hexdigest()
        return WriteLock(self.folder / "locks" / f"{name}.lock", what)


def _parts(folder: Path) -> list[Path]:
    try:
        names = os.listdir(folder)  # noqa: PTH208
    except OSError:
        return []
    return [folder / one for one in names if one.startswith(".new-") or one.endswith(".part")]


def _remove(paths: list[Path]) -> None:
    for path in paths:
        with suppress(OSError):
            path.unlink()
