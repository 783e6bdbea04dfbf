"""Which games' own programs may be started to ask whether a save loads: the user's word on each."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from clever_ferry.errors import DamagedError
from clever_ferry.keeping.records import Format, Time
from clever_ferry.moving.disk import read_whole
from clever_ferry.moving.local import LOCAL, LocalShore

__all__ = ["Allowed", "LoaderWords"]

_MOST = 1 << 20


class Allowed(Struct, frozen=True, forbid_unknown_fields=True):
    """That the user has said yes to what a recipe starts, as it stood then."""

    digest: str
    """Of the recipe's text: what it says now may be something else."""
    when: Time
    program: str | None = None
    """The program's file that was meant; None where there was none here."""
    named: bool = False
    """Whether the user has named it, so that it is not looked for."""


class _Words(Struct, frozen=True, forbid_unknown_fields=True):
    allowed: dict[str, Allowed]


_FORMAT = Format("loaders", _Words)


class LoaderWords(Struct, frozen=True):
    """What the user has allowed, by `GAME/EDITION`, in one small file."""

    file: Path
    shore: LocalShore = LOCAL

    def all(self) -> dict[str, Allowed]:
        """Return all; raises DamagedError where the file can't be read."""
        try:
            return dict(_FORMAT.read(read_whole(self.file, _MOST)).allowed)
        except FileNotFoundError:
            return {}
        except (OSError, ValueError) as error:
            raise DamagedError(
                f"The list of games that may be started, {self.file}, can't be read: {error}.",
                advice="Remove the file, then allow them again: cferry loader allow GAME/EDITION",
            ) from None

    def allow(self, edition: str, word: Allowed) -> None:
        """Keep the user's yes to an edition's program."""
        self._write({**self.all(), edition: word})

    def forget(self, edition: str) -> bool:
        """Take it back; tell whether there was any."""
        known = self.all()
        there = known.pop(edition, None) is not None
        if there:
            self._write(known)
        return there

    def _write(self, allowed: dict[str, Allowed]) -> None:
        self.shore.make_folder(self.file.parent)
        self.shore.write_synced(self.file, _FORMAT.written(_Words(dict(sorted(allowed.items())))))
