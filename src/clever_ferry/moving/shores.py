"""The shores at hand: where a place is that a record names."""

from __future__ import annotations

from contextlib import suppress
from typing import Protocol

from clever_ferry.errors import NotFoundError
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.local import LOCAL
from clever_ferry.moving.shore import Shore

__all__ = ["Remote", "Shores"]


class Remote(Protocol):
    """Servers, whose shores are made when a place on them is named."""

    def knows(self, text: str) -> bool:
        """Tell whether a text names a place on a server."""

    def folder(self, text: str) -> FolderFiles:
        """Return that place; nobody is asked for it yet."""


class Shores:
    """This computer's disks, and whatever else files can be changed on."""

    def __init__(self, *others: Shore, remote: Remote | None = None) -> None:
        self._all: tuple[Shore, ...] = (*others, LOCAL)
        self._remote = remote

    def remote(self, text: str) -> FolderFiles | None:
        """Return the place on a server that a text names, None where it names none."""
        if self._remote is None or not self._remote.knows(text):
            return None
        return self._remote.folder(text)

    def folder(self, text: str) -> FolderFiles:
        """Return the folder that a record names; raises NotFoundError where no shore knows it."""
        if (found := self.remote(text)) is not None:
            return found
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
