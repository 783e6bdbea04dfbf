"""The journal: what is about to be changed, written down before it is, one file per change.

An entry is there from before the first file is staged until the target is wholly new or
wholly old again. What it says is enough to bring the target back: nothing else is asked
but the locker.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct, convert, json
from msgspec.structs import asdict, replace

from clever_ferry.errors import DamagedError, RefusedError, UnsupportedError
from clever_ferry.keeping.logbook import State
from clever_ferry.moving import disk
from clever_ferry.moving.presence import folder_stands, same_place, stands

__all__ = ["Entry", "Journal", "Phase"]

Phase = Literal["staging", "replacing", "putting back", "put back", "done"]
"""How far a change is, which is for its journal's entry alone to say.

Until all is `staging` and backed up, nothing of the target has changed; then it may have. `done`
and `put back` are written once the target is so for good, and only the other records are to
follow; `putting back` is written before its first step, and no later start may end otherwise.
"""
_MOST = 256 << 20
_Time = Annotated[int, Meta(ge=-(1 << 63), le=(1 << 63) - 1)]


class Entry(Struct, frozen=True):
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
    anchor_stamp: _Time
    stages: tuple[tuple[str, _Time], ...] = ()
    """Folders that have a staging folder in them, and their time stamps before."""
    phase: Phase = "staging"
    ended: _Time | None = None
    """When the change was done or taken back, in ns since 1970."""
    story: dict[str, Any] | None = None
    """What the logbook is to tell of it then, where that differs from what it tells already."""


class Journal(Struct, frozen=True):
    """The changes that are under way, or were when the tool was killed."""

    folder: Path

    def write(self, entry: Entry) -> None:
        """Write an entry, in place of an earlier state of it; it lasts when this returns."""
        if not folder_stands(self.folder):
            disk.make_folder(self.folder)
            disk.sync_folder(self.folder.parent)
        disk.write_synced(self._file(entry.id), json.encode({"journal": 1, **asdict(entry)}))

    def staging_at(self, entry: Entry, place: Path, stamp: int) -> Entry:
        """Write down that files are staged at one more place."""
        if any(known == str(place) for known, _ in entry.stages):
            return entry
        entry = replace(entry, stages=(*entry.stages, (str(place), stamp)))
        self.write(entry)
        return entry

    def turn(
        self, entry: Entry, phase: Phase, ended: int | None = None,
        story: dict[str, Any] | None = None,
    ) -> Entry:  # fmt: skip
        """Write down that a change is one phase further."""
        entry = replace(entry, phase=phase, ended=ended, story=story)
        self.write(entry)
        return entry

    def close(self, entry: Entry) -> None:
        """Take an entry away: its change is done, or taken back."""
        disk.unlink(self._file(entry.id))
        disk.sync_folder(self.folder)

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
            data = json.decode(disk.read_whole(file, _MOST), type=dict[str, Any])
            version = data.pop("journal", None)
            if isinstance(version, int) and version > 1:
                raise UnsupportedError(
                    f"A newer cferry has a change under way: {file}",
                    details=(f"Folder: {data.get('root', 'not told')}",),
                    advice="Run any command of that newer cferry: it sets this right. Until then "
                    "nothing is changed there.",
                )
            if version != 1 or data.get("id") != ident:
                raise ValueError("it is not of that name and kind")
            return convert(data, Entry)
        except FileNotFoundError:
            return None
        except (OSError, ValueError, RecursionError) as error:
            told = error.strerror if isinstance(error, OSError) else str(error)
            raise DamagedError(f"The journal's entry {file} can't be read: {told}.") from None

    def set_aside(self, ident: str) -> Path:
        """Move an entry that can't be read out of the way; return where it is kept."""
        kept = self.folder / "unread" / f"{ident}.json"
        disk.make_folder(kept.parent)
        disk.rename(self._file(ident), kept)
        disk.sync_folder(self.folder)
        return kept

    def open_at(self, root: Path) -> Entry | None:
        """Return the change of a folder that is under way, under whatever name it is reached.

        Entries that can't be read are passed over: a start has said already what became of them.
        """
        for ident in self.open():
            with suppress(DamagedError):
                entry = self.read(ident)
                if entry is not None and same_place(Path(entry.root), root):
                    return entry
        return None

    def refuse_open(self, root: Path) -> None:
        """Raise RefusedError where a change of this folder was interrupted and not set right."""
        entry = self.open_at(root)
        if entry is not None:
            raise RefusedError(
                f"An earlier change there ({entry.what}) was cut short and could not be "
                "set right yet, so what is there may be half.",
                details=(f"Folder: {root}",),
                advice="See that the folder may be written to and that its disk has room; "
                f"any cferry command then sets it right first. If that can't be: cferry log "
                f"--give-up {entry.number}",
            )

    def _file(self, ident: str) -> Path:
        return self.folder / f"{ident}.json"
