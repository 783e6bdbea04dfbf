"""The journal: what is about to be changed, written down before it is, one file per change.

An entry is there from before the first file is staged until the target is wholly new or
wholly old again. What it says is enough to bring the target back: nothing else is asked
but the locker.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from msgspec import Struct
from msgspec.structs import asdict, replace

from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.moving import disk

if TYPE_CHECKING:
    from clever_ferry.keeping.logbook import State

__all__ = ["Entry", "Journal", "Phase"]

Phase = Literal["staging", "replacing"]
"""Until all is staged and backed up, nothing of the target has changed; then it may have."""


class Entry(Struct, frozen=True):
    """One change that is under way."""

    id: str
    what: str
    """In words, such as `crossing 4` or `undoing crossing 4`."""
    number: int
    """The logbook's number of the crossing or restore that it belongs to."""
    done: State
    """The state that the logbook gives to the number once the change is done for good."""
    before: State
    """The state that it has otherwise."""
    root: str
    anchor: str
    """The folder that was there before: the root, or one above it."""
    anchor_stamp: int
    stages: tuple[tuple[str, int], ...] = ()
    """Folders that have a staging folder in them, and their time stamps before."""
    phase: Phase = "staging"


class Journal(Struct, frozen=True):
    """The changes that are under way, or were when the tool was killed."""

    folder: Path

    def write(self, entry: Entry) -> None:
        """Write an entry, in place of an earlier state of it; it lasts when this returns."""
        if not self.folder.is_dir():
            disk.make_folder(self.folder)
            disk.sync_folder(self.folder.parent)
        data = {"journal": 1, **asdict(entry), "stages": list(entry.stages)}
        disk.write_synced(self._file(entry.id), json.dumps(data).encode())

    def staging_at(self, entry: Entry, place: Path, stamp: int) -> Entry:
        """Write down that files are staged at one more place."""
        if any(known == str(place) for known, _ in entry.stages):
            return entry
        entry = replace(entry, stages=(*entry.stages, (str(place), stamp)))
        self.write(entry)
        return entry

    def close(self, entry: Entry) -> None:
        """Take an entry away: its change is done, or taken back."""
        disk.unlink(self._file(entry.id))
        disk.sync_folder(self.folder)

    def open(self) -> list[str]:
        """Return the ids of all entries."""
        if not self.folder.is_dir():
            return []
        return sorted(path.stem for path in self.folder.glob("*.json"))

    def holds(self, ident: str) -> bool:
        """Tell whether an entry is there."""
        return self._file(ident).exists()

    def read(self, ident: str) -> Entry | None:
        """Return an entry, None where it is gone by now; raises DamagedError where it is unread."""
        try:
            data: dict[str, Any] = json.loads(self._file(ident).read_bytes())
            data.pop("journal")
            stages = tuple((str(place), int(stamp)) for place, stamp in data["stages"])
            return Entry(**{**data, "stages": stages})
        except FileNotFoundError:
            return None
        except (OSError, ValueError, TypeError, KeyError) as error:
            raise DamagedError(
                f"The journal {self._file(ident)} can't be read: {error}.",
                advice="It says what an interrupted crossing was about to change. `cferry backup "
                "list` shows the backup made before it, and `cferry restore` brings that back; "
                "then remove the file.",
            ) from None

    def refuse_open(self, root: Path) -> None:
        """Raise RefusedError where a change of this folder was interrupted and not set right."""
        for ident in self.open():
            entry = self.read(ident)
            if entry is not None and entry.root == str(root):
                raise RefusedError(
                    f"An earlier change there ({entry.what}) was cut short and could not be "
                    "taken back yet.",
                    details=(f"Folder: {root}",),
                    advice="See that the folder may be written to and that its disk has room; "
                    "any cferry command then takes it back first.",
                )

    def _file(self, ident: str) -> Path:
        return self.folder / f"{ident}.json"
