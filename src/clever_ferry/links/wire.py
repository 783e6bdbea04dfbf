"""What is asked of a file service: the few operations by which a shore on a server works.

Paths are the server's own, with `/`, from its root. What can go wrong is an OSError: a
ConnectionError or a TimeoutError where the link itself is at fault, else what a disk would say.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Literal, NamedTuple, Protocol

from clever_ferry.moving.shore import Kind, Reckoned

__all__ = [
    "DIGESTS",
    "Abilities",
    "Entry",
    "OpenWire",
    "Sink",
    "Source",
    "Wire",
    "nothing",
    "reckoned_of",
]


DIGESTS: dict[Literal["sha256", "sha512", "sha1", "md5"], int] = {
    "sha256": 64,
    "sha512": 128,
    "sha1": 40,
    "md5": 32,
}
"""The digests that a server may be asked for, the best first, and how many hex digits they have."""


def nothing() -> None:
    """Do nothing: nobody watches."""


def reckoned_of(kind: str, digest: str) -> Reckoned | None:
    """Return a digest as a server tells it; None where it can't be one.

    >>> reckoned_of("SHA-1", "AB" * 20).kind
    'sha1'
    """
    plain, digest = kind.replace("-", "").lower(), digest.lower()
    if not re.fullmatch("[0-9a-f]+", digest):
        return None
    found = (
        Reckoned(one, digest)
        for one, length in DIGESTS.items()
        if plain == one and len(digest) == length
    )
    return next(found, None)


class Entry(NamedTuple):
    """What a server says of a name; links are not followed."""

    name: str
    kind: Kind
    size: int = 0
    stamp: int = 0
    """Last change, ns since 1970; 0 where it does not say."""
    mode: int = 0o644
    """Permission bits."""


class Abilities(NamedTuple):
    """What a file service can and can't."""

    replaces: bool
    """Whether a rename takes the place of a file in one step."""
    sets_times: bool
    has_modes: bool
    resumes: bool
    """Whether writing can go on where a file ends."""
    at_once: int = 1
    """How many files may be on their way at a time: each has a channel or connection of its own."""
    lists_exactly: bool = True
    """Whether listings are made for programs, and not for people."""


class Source(Protocol):
    """A file on its way from a server."""

    def read(self, count: int) -> bytes:
        """Return some of the next bytes, at most `count`, none at the end."""

    def close(self) -> None:
        """Let go of the file, whether or not it was read to its end."""


class Sink(Protocol):
    """A file on its way to a server."""

    def write(self, data: bytes) -> None:
        """Send it; it need not be there yet when this returns."""

    def close(self) -> None:
        """Have all that was sent be there."""

    def drop(self) -> None:
        """Let go without asking whether it is."""


class Wire(Protocol):
    """One connection to a file service; one operation at a time."""

    abilities: Abilities
    stepped: Callable[[], None]
    """To be called whenever a longer operation has come a step further; who watches sets it."""

    def home(self) -> str:
        """Return the folder where the server puts the user."""

    def listing(self, folder: str) -> list[Entry]:
        """Return what is in a folder, in no order."""

    def entry(self, path: str) -> Entry | None:
        """Return what stands at a path, None for nothing."""

    def reader(self, path: str, offset: int, count: int) -> Source:
        """Open a file for reading from an offset, some `count` bytes."""

    def writer(self, path: str, offset: int) -> Sink:
        """Begin a file that is not there (offset 0), or go on with one of that size."""

    def rename(self, old: str, new: str) -> None:
        """Give a file another name, in place of what has that name if `replaces`."""

    def remove(self, path: str) -> None:
        """Remove a file."""

    def make_folder(self, path: str) -> None:
        """Make a folder; raises an OSError where anything is there, be it only that it can't."""

    def remove_folder(self, path: str) -> None:
        """Remove an empty folder."""

    def set_time(self, path: str, stamp: int) -> None:
        """Set the time of the last change, in ns since 1970."""

    def set_mode(self, path: str, mode: int) -> None:
        """Set the permission bits."""

    def reckoned(self, path: str) -> Reckoned | None:
        """Have the server reckon a file's digest; None where it can't. May take over a minute."""

    def free(self, folder: str) -> int | None:
        """Return how many bytes there is room for; None where the server does not say."""

    def close(self) -> None:
        """End the connection in good order."""

    def abort(self) -> None:
        """Cut the connection, from whatever thread."""


OpenWire = Callable[[], Wire]
