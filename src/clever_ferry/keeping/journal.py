"""The journal: what is about to be changed, written down before it is, one file per change.

An entry is there from before the first file is staged until the target is wholly new or
wholly old again. What it says is enough to bring the target back: nothing else is asked
but the locker.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct
from msgspec.structs import replace

from clever_ferry.errors import DamagedError, RefusedError, UnsupportedError
from clever_ferry.keeping.logbook import Details, State
from clever_ferry.keeping.records import Format, NewerError, Time
from clever_ferry.moving.disk import read_whole
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.local import LOCAL, LocalShore
from clever_ferry.moving.presence import folder_stands, stands
from clever_ferry.moving.shores import Shores

__all__ = ["Entry", "Journal", "Phase"]

Phase = Literal["staging", "replacing", "putting back", "put back", "done"]
"""How far a change is, which is for its journal's entry alone to say.

Until all is `staging` and backed up, nothing of the target has changed; then it may have. `done`
and `put back` are written once the target is so for good, and only the other records are to
follow; `putting back` is written before its first step, and no later start may end otherwise.
"""
_MOST = 256 << 20


class Entry(Struct, frozen=True, forbid_unknown_fields=True):
    """One change that is under way."""

    id: str
    what: str
    """In words, such as `crossing 4` or `undoing crossing 4`."""
    number: Annotated[int, Meta(ge=0)]
    """The logbook's number of the crossing or restore that it belongs to."""
    done: State
    """The state that the logbook gives to the number once the change is done for good."""
    before: State
    """The state that it has otherwise."""
    root: str
    anchor: str
    """The folder that was there before: the root, or one above it."""
    anchor_stamp: Time
    stages: tuple[tuple[str, Time], ...] = ()
    """Folders that have a staging folder in them, and their time stamps before."""
    phase: Phase = "staging"
    ended: Time | None = None
    """When the change was done or taken back, in ns since 1970."""
    details: Details | None = None
    """What the logbook is to tell of it then, where that differs from what it tells already."""


def _named_details(data: dict[str, Any]) -> dict[str, Any]:
    return {("details" if name == "story" else name): value for name, value in data.items()}


_FORMAT = Format("journal", Entry, steps=(_named_details,))


class Journal(Struct, frozen=True):
    """The changes that are under way, or were when the tool was killed."""

    folder: Path
    shores: Shores
    shore: LocalShore = LOCAL

    def write(self, entry: Entry) -> None:
        """Write an entry, in place of an earlier state of it; it lasts when this returns."""
        if not folder_stands(self.folder):
            self.shore.make_folder(self.folder)
            self.shore.sync_folder(self.folder.parent)
        self.shore.write_synced(self._file(entry.id), _FORMAT.written(entry))

    def staging_at(self, entry: Entry, place: str, stamp: int) -> Entry:
        """Write down that files are staged at one more place."""
        if any(known == place for known, _ in entry.stages):
            return entry
        entry = replace(entry, stages=(*entry.stages, (place, stamp)))
        self.write(entry)
        return entry

    def advance(
        self, entry: Entry, phase: Phase, ended: int | None = None, details: Details | None = None
    ) -> Entry:
        """Write down that a change is one phase further."""
        entry = replace(entry, phase=phase, ended=ended, details=details)
        self.write(entry)
        return entry

    def close(self, entry: Entry) -> None:
        """Take an entry away: its change is done, or taken back."""
        self.shore.unlink(self._file(entry.id))
        self.shore.sync_folder(self.folder)

    def open(self) -> list[str]:
        """Return the ids of all entries."""
        if not folder_stands(self.folder):
            return []
        return sorted(path.stem for path in self.folder.glob("*.json"))

    def holds(self, ident: str) -> bool:
        """Tell whether an entry is there."""
        return stands(self._file(ident)) is not None

    def read(self, ident: str) -> Entry | None:
        """Return an entry, None where it is gone by now.

        Raises UnsupportedError where a newer program has written it, DamagedError where it is
        not as any has.
        """
        file = self._file(ident)
        try:
            entry = _FORMAT.read(read_whole(file, _MOST))
            if entry.id != ident:
                raise ValueError("it is of another name")
            return entry
        except FileNotFoundError:
            return None
        except NewerError as newer:
            raise UnsupportedError(
                f"A newer cferry has a change under way: {file}",
                details=(f"Folder: {newer.data.get('root', 'not told')}",),
                advice="Run any command of that newer cferry: it sets this right. Until then "
                "nothing is changed there.",
            ) from None
        except (OSError, ValueError) as error:
            told = error.strerror if isinstance(error, OSError) else str(error)
            raise DamagedError(f"The journal's entry {file} can't be read: {told}.") from None

    def set_aside(self, ident: str) -> Path:
        """Move an entry that can't be read out of the way; return where it is kept."""
        kept = self.folder / "unread" / f"{ident}.json"
        self.shore.make_folder(kept.parent)
        self.shore.rename(self._file(ident), kept)
        self.shore.sync_folder(self.folder)  # free: else it may come back, and goes once more
        return kept

    def open_at(self, folder: FolderFiles) -> Entry | None:
        """Return the change of a folder that is under way, under whatever name it is reached.

        Entries that can't be read are passed over: a start has said already what became of them.
        """
        for ident in self.open():
            with suppress(DamagedError):
                entry = self.read(ident)
                if entry is not None and self._same(entry.root, folder):
                    return entry
        return None

    def refuse_open(self, folder: FolderFiles) -> None:
        """Raise RefusedError where a change of this folder was interrupted and not set right."""
        entry = self.open_at(folder)
        if entry is not None:
            raise RefusedError(
                f"An earlier change there ({entry.what}) was cut short and could not be "
                "set right yet, so what is there may be half.",
                details=(f"Folder: {folder.root}",),
                advice="See that the folder may be written to and that its disk has room; "
                f"any cferry command then sets it right first. If that can't be: cferry log "
                f"--give-up {entry.number}",
            )

    def _same(self, text: str, folder: FolderFiles) -> bool:
        return text == folder.text or self.shores.identity(text) == folder.identity

    def _file(self, ident: str) -> Path:
        return self.folder / f"{ident}.json"
