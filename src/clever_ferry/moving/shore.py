"""Shores: whatever files lie on and are changed on, be it a local disk, memory or a server.

All that is done to a berth's files is done through these few operations. Paths are pure ones, of
the shore's own kind; what can go wrong is an OSError, as a disk has it.
"""

from __future__ import annotations

from contextlib import AbstractContextManager
from pathlib import Path, PurePath
from typing import Literal, NamedTuple, Protocol, Self, TypeVar

from clever_ferry.moving.system import Attributes, Unkept, same_time
from clever_ferry.tree import FileInfo

__all__ = [
    "Capabilities",
    "Closing",
    "Kind",
    "Node",
    "Reader",
    "Reckoned",
    "Shore",
    "Walker",
    "Writer",
    "anchor_of",
]

Kind = Literal["file", "folder", "link", "other"]
P = TypeVar("P", bound=PurePath)


State = tuple[int, int, int]
"""A file's size, last change (ns since 1970) and the shore's own time of that: other ones are
another content."""


class Node(NamedTuple):
    """What a shore says of one path; links are not followed."""

    kind: Kind
    size: int
    stamp: int
    """Last change, ns since 1970."""
    mode: int
    """Permission bits."""
    change: int = 0
    """When the shore says that it changed last (ns), which no program can set; 0: unknown."""
    number: int = 0
    """The shore's own number of the file; 0 where it has none."""

    @property
    def state(self) -> State:
        """By what a change of its content shows."""
        return self.size, self.stamp, self.change


class Reckoned(NamedTuple):
    """A digest that whatever a file lies on has reckoned itself, so that nobody need read it."""

    kind: Literal["md5", "sha1", "sha256", "sha512"]
    digest: str
    """In hex."""


class Capabilities(NamedTuple):
    """What a shore can and can't."""

    replaces: bool = True
    """Whether a rename takes the place of a file in one step."""
    step: int = 1
    """The steps that its time stamps have at the least, in ns."""
    sets_times: bool = True
    """Whether a file can be given the time of its last change."""
    shared: bool = False
    """Whether other computers may change the same files, so that a folder must be claimed first."""
    at_once: int = 1
    """How many files can be on their way at a time; more than one over a link that lets them."""
    host: str = ""
    """Where programs on that computer are reached by network; '' where that is not known."""

    def same_time(self, now: int, kept: int) -> bool:
        """Tell whether a file's time (ns) is one that was set; where none can be, any is."""
        return not self.sets_times or same_time(now, kept, self.step)


class Closing(Protocol):
    """A file that is open until it is closed, or its `with` block is left."""

    def close(self) -> None:
        """Let go of the file."""

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class Reader(Closing, Protocol):
    """A file that is being read."""

    def read(self, count: int) -> bytes:
        """Return the next bytes, none at the end."""

    def seek(self, offset: int) -> None:
        """Go on reading from another place."""

    def node(self) -> Node:
        """Return the open file's data."""


class Writer(Closing, Protocol):
    """A new file that is being written."""

    def write(self, data: bytes | memoryview) -> None:
        """Write all of it."""

    def finish(self, stamp: int, attributes: Attributes | None = None) -> list[Unkept]:
        """Give the file its time and attributes, have all of it last, and close it.

        Returns the attributes that it could not be given.
        """


class Walker(Protocol):
    """A folder while it is walked through."""

    def listed(self, folder: str) -> tuple[list[FileInfo], list[str]]:
        """Return a folder's plain files, sorted, and the folders in it, by their paths.

        '' is the top itself; links are left out.
        """


class Shore(Protocol):
    """A shore. Where an operation needs a path to be there and it is not, OSError is raised."""

    @property
    def capabilities(self) -> Capabilities:
        """What it can and can't."""

    # Names ------------------------------------------------------------------------------

    def path(self, text: str) -> PurePath:
        """Return the path that a record names; raises ValueError where it is none of this shore."""

    def text(self, path: PurePath) -> str:
        """Return a path as records name it: of all shores at hand, this one alone reads it."""

    def local(self, path: PurePath | str) -> Path | None:
        """Return where a path is on a disk of this computer, None where it is on none."""

    def identity(self, path: PurePath) -> str:
        """Return what is the same for one folder, whatever name it is reached by, there or not."""

    def volume_of(self, path: PurePath) -> int:
        """Return a number that all folders share between which a rename is one step."""

    # Looking ----------------------------------------------------------------------------

    def kind(self, path: PurePath, *, follow: bool = True) -> Kind | None:
        """Return what stands at a path, None for nothing; a fault in asking is raised."""

    def node(self, path: PurePath) -> Node | None:
        """Return what is known of a path, None where nothing stands there."""

    def names(self, folder: PurePath) -> list[str]:
        """Return the names of all that is in a folder, sorted."""

    def folders(self, folder: PurePath, *, follow: bool = True) -> list[str]:
        """Return the names of the folders in a folder, sorted."""

    def walker(self, top: PurePath) -> AbstractContextManager[Walker]:
        """Return what lists a folder and those in it."""

    def attributes(self, path: PurePath) -> Attributes:
        """Return a file's attributes."""

    def now(self) -> int:
        """Return the time by the clock that time stamps here are from, in ns since 1970.

        What is looked at afterwards is looked at anew, where answers are remembered.
        """

    def free_bytes(self, folder: PurePath) -> int | None:
        """Return how many bytes there is room for below a folder; None where nobody knows."""

    # Reading ----------------------------------------------------------------------------

    def open(self, path: PurePath | str) -> Reader:
        """Open a plain file; it is neither locked nor changed."""

    def front(self, path: PurePath | str, count: int) -> tuple[bytes, State]:
        """Return a file's first bytes, fewer where it is shorter, and its state after that."""

    def reckoned(self, path: PurePath) -> Reckoned | None:
        """Return a file's digest by whoever holds it; None where only reading would tell."""

    # Changing ---------------------------------------------------------------------------

    def create(self, path: PurePath) -> Writer:
        """Begin a file that is not there yet."""

    def rename(self, old: PurePath, new: PurePath) -> None:
        """Give a file another name, in place of what has that name."""

    def unlink(self, path: PurePath) -> None:
        """Remove a file; one that is not there is fine."""

    def make_folder(self, path: PurePath, *, new: bool = False) -> None:
        """Make a folder and those above it; those that are there are fine.

        With `new`, those above are there, and FileExistsError is raised where it is, too.
        """

    def remove_folder(self, path: PurePath) -> None:
        """Remove an empty folder."""

    def set_times(self, path: PurePath, stamp: int) -> None:
        """Set the time of the last change, in ns since 1970."""

    def give_attributes(self, path: PurePath, attributes: Attributes) -> list[Unkept]:
        """Give a file or folder permissions and marks; return what it can't be given."""

    def learn_time(self, stamp: int) -> None:
        """Take it that the clock here says this (ns since 1970) now, where it is not known."""

    def sync_folder(self, path: PurePath) -> None:
        """Make renames, new and removed names in a folder last."""


def anchor_of(shore: Shore, folder: P) -> P:
    """Return a folder, or the nearest above it that is there."""
    while not shore.kind(folder):
        folder = folder.parent
    return folder
