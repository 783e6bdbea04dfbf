"""The shores at hand: where a place is that a record names."""

from __future__ import annotations

from contextlib import suppress

from clever_ferry.errors import NotFoundError
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.local import LOCAL
from clever_ferry.moving.shore import Shore

__all__ = ["Shores"]


class Shores:
    """This computer's disks, and whatever else files can be changed on."""

    def __init__(self, *others: Shore) -> None:
        self._all: tuple[Shore, ...] = (*others, LOCAL)

    def folder(self, text: str) -> FolderFiles:
        """Return the folder that a record names; raises NotFoundError where no shore knows it."""
        for shore in self._all:
            with suppress(ValueError):
                return FolderFiles(shore.path(text), shore=shore)
        raise NotFoundError(
            f"Nothing here can reach {text}.",
            advice="Run the command where the place can be reached.",
        )

    def identity(self, text: str) -> str:
        """Return what is the same for one folder by whatever name; the name, if none is known."""
        with suppress(NotFoundError):
            return self.folder(text).identity
        return text
