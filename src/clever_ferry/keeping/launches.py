"""Crossings whose saves their game has not been seen to go on from: what is still to be watched."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.errors import DamagedError
from clever_ferry.keeping.records import Format, Time
from clever_ferry.moving.disk import read_whole
from clever_ferry.moving.local import LOCAL, LocalShore

__all__ = ["Awaited", "AwaitedFile", "Launches"]

_MOST = 1 << 24
_KEPT = 50
"""So many crossings are remembered, the newest."""


class AwaitedFile(Struct, frozen=True, array_like=True, forbid_unknown_fields=True):
    """A file as a crossing has left it."""

    path: str
    size: int
    stamp: Time


class Awaited(Struct, frozen=True, forbid_unknown_fields=True):
    """A crossing that its game has not been seen to go on from."""

    number: int
    """The logbook's."""
    what: str
    """Whose saves, in words."""
    address: str
    root: str
    """The target's folder, as records name it."""
    since: Time
    files: tuple[AwaitedFile, ...]
    """Some of its files, by which it shows whether anything was written since."""
    verdict: str = ""
    """What was made of it when it was last looked at."""


class _Book(Struct, frozen=True, forbid_unknown_fields=True):
    awaited: tuple[Awaited, ...]


_FORMAT = Format("launches", _Book)


class Launches(Struct, frozen=True):
    """What is still to be watched, the newest first, in one small file."""

    file: Path
    shore: LocalShore = LOCAL

    def all(self) -> list[Awaited]:
        """Return all; raises DamagedError where the file can't be read."""
        try:
            return list(_FORMAT.read(read_whole(self.file, _MOST)).awaited)
        except FileNotFoundError:
            return []
        except (OSError, ValueError) as error:
            raise DamagedError(
                f"The list of crossings that are still to be watched, {self.file}, can't be read: "
                f"{error}.",
                advice="Remove the file; nothing but that list is in it.",
            ) from None

    def add(self, one: Awaited) -> None:
        """Remember a crossing; earlier ones over the same files are no longer waited for."""
        own = {file.path for file in one.files}
        others = [
            other
            for other in self.all()
            if other.number != one.number
            and not (other.root == one.root and own & {file.path for file in other.files})
        ]
        self._write([one, *others][:_KEPT])

    def judged(self, number: int, verdict: str) -> None:
        """Remember what was made of a crossing when it was looked at."""
        self._write(
            [replace(one, verdict=verdict) if one.number == number else one for one in self.all()]
        )

    def done(self, number: int) -> None:
        """Wait for a crossing no longer."""
        every = self.all()
        left = [one for one in every if one.number != number]
        if left != every:
            self._write(left)

    def _write(self, awaited: Iterable[Awaited]) -> None:
        self.shore.make_folder(self.file.parent)
        self.shore.write_synced(self.file, _FORMAT.written(_Book(tuple(awaited))))
