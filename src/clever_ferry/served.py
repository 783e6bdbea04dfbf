"""Folders of servers as jobs: named, found out about, and given free. `Harbours` has them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import PurePath

from clever_ferry.errors import UnsupportedError, WrongUseError
from clever_ferry.finding.harbours import Harbour, boarded, server_at
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.links.opening import Links
from clever_ferry.links.probing import Probed, probe
from clever_ferry.links.shore import LinkShore
from clever_ferry.moving.claims import CLAIM, claim_of, release
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.replacing import sweep

__all__ = ["Servers"]

_DEEPEST, _MOST_FOLDERS = 6, 500


class Servers:
    """What can be done with a server's folder as such."""

    def __init__(
        self, here: str, keeps: Keeps, links: Links | None, find: Callable[[str], Harbour]
    ) -> None:
        """`here` is this computer's own name; `find` gives the harbour of a name or an address."""
        self._here, self._keeps, self._links, self._find = here, keeps, links, find

    def add(
        self, name: str, text: str, *, trusted: str | None = None, keep: bool = False
    ) -> Harbour:
        """Give a server's folder a name; it must be there, and let the user in.

        `trusted` is the fingerprint of the server's key; with `keep`, the password goes into the
        system's keyring. Raises NotFoundError, or RefusedError where the key is another.
        """
        if name == self._here:
            raise WrongUseError(f"{name!r} is this computer's own name.")
        if self._links is None:
            raise UnsupportedError("Servers can't be reached from here.")
        self._keeps.harbours.refuse_name(name, (text,))
        shore = self._links.try_in(text, trusted=trusted, keep=keep)
        harbour = boarded(server_at(FolderFiles(shore.path(text), shore=shore), name))
        self._keeps.harbours.add(name, (text,))
        return harbour

    def probe(self, name: str) -> list[Probed]:
        """Find out what works at a server's folder; raises WrongUseError where it is none."""
        return probe(*self._at(name))

    def _at(self, name: str) -> tuple[LinkShore, PurePath]:
        if name.casefold() == self._here.casefold():
            raise WrongUseError(f"{name!r} is this computer, and no server's folder.")
        place = self._find(name)
        if place.link is None or self._links is None:
            raise WrongUseError(
                f"{name!r} is {place.title}, and no server's folder.",
                advice="This is for places such as sftp://player@host/srv/saltglass.",
            )
        return self._links.shore(place.link.text)

    def claims(self, name: str) -> list[tuple[str, str]]:
        """Return the folders at a server that a change has claimed, and by whom, in words."""
        shore, top = self._at(name)
        now = shore.now()
        return [
            (shore.text(folder), there.told(now))
            for folder in _claimed(shore, top)
            if (there := claim_of(shore, folder)) is not None
        ]

    def free(self, name: str) -> None:
        """Take all claims at a server away, and what was staged there: nobody may be at work."""
        shore, top = self._at(name)
        for folder in _claimed(shore, top):
            sweep(shore, folder, "")
            release(shore, folder)


def _claimed(shore: LinkShore, top: PurePath) -> list[PurePath]:
    """Return the folders with a claim in them: that one, those above it, and some in it."""
    found = [one for one in (top, *top.parents[:-2]) if shore.kind(one / CLAIM) == "folder"]
    queue = [(top, 0)]
    for folder, depth in queue:
        names = shore.folders(folder)
        found += [folder] if CLAIM in names and folder not in found else []
        if depth < _DEEPEST and len(queue) < _MOST_FOLDERS:
            queue += [(folder / name, depth + 1) for name in names if not name.startswith(".")]
    return found
