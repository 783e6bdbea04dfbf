"""A server's files as a shore: crossings, undos and backups work on it as on a disk.

What a server says is believed within bounds only: names that lead elsewhere are not there, a
file has no more bytes than were listed, and whoever does not answer in time is cut off. Links are
never followed. What stands in a folder is remembered for a second, or until `now` is asked.
"""

from __future__ import annotations

import errno
import os
import threading
import time
from contextlib import suppress
from pathlib import PurePath

from clever_ferry.errors import WrongUseError
from clever_ferry.links.pool import FAULTS, Pool
from clever_ferry.links.server import HOME, LinkPath, Server, link_at
from clever_ferry.links.streams import Reading, Writing, node_of
from clever_ferry.links.wire import Abilities, Entry, OpenWire, Wire
from clever_ferry.moving.shore import (
    Capabilities,
    Closing,
    Kind,
    Node,
    Reader,
    Reckoned,
    State,
    Writer,
)
from clever_ferry.moving.system import Attributes, Unkept
from clever_ferry.tree import FileInfo

__all__ = ["LinkShore"]

_FRESH = 1.0
"""Seconds for which a listing is believed."""
_MOST_ENTRIES = 500_000
_LONGEST_NAME = 1_000
_LARGEST = 1 << 50
_FAR = 8_000_000_000 * 10**9
_SECOND = 10**9
_UNSURE = -(1 << 62)
"""The time of a folder in which something was changed since it was listed."""


class LinkShore:
    """The files of one server, as one user sees them."""

    def __init__(self, server: Server, connect: OpenWire) -> None:
        self.server = server
        self.pool = Pool(server.url, connect)
        self._top = LinkPath(f"{server.scheme}:", server.name)
        self._tops: set[LinkPath] = set()
        self._listed: dict[str, tuple[float, dict[str, Entry | None]]] = {}
        self._asked: dict[str, tuple[float, Entry | None]] = {}
        """What was asked for by itself, as its folder was not listed, and until when it counts."""
        self._lock = threading.Lock()
        self._ahead = 0
        self._home: str | None = None
        self._abilities: Abilities | None = None
        self._reckons = True

    @property
    def abilities(self) -> Abilities:
        """What the server can; asks it, if it was not asked yet."""
        if self._abilities is None:
            self._abilities = self.pool.do(lambda wire: wire.abilities)
        return self._abilities

    @abilities.setter
    def abilities(self, found: Abilities) -> None:
        self._abilities = found

    @property
    def capabilities(self) -> Capabilities:
        """What can be done there."""
        can = self.abilities
        return Capabilities(
            can.replaces, _SECOND, can.sets_times, shared=True, at_once=can.at_once,
            host=self.server.host,
        )  # fmt: skip

    # Names ------------------------------------------------------------------------------

    def path(self, text: str) -> LinkPath:
        """Return the path of an address on this server; raises ValueError where it is another's."""
        try:
            server, path = link_at(text)
        except WrongUseError as error:
            raise ValueError(error.what) from None
        if path.parts[:2] != self._top.parts:
            raise ValueError(f"{text!r} is not on {server.url}")
        return path

    def text(self, path: PurePath) -> str:
        """Return a path as an address, from which the same path is read again."""
        from urllib.parse import quote

        inner = "/".join(quote(part, safe="~!$&'()*+,;=@") for part in path.parts[2:])
        return f"{self.server.url}/{inner}"

    def local(self, path: PurePath | str) -> None:
        """Return None: it is on no disk of this computer."""
        return

    def identity(self, path: PurePath) -> str:
        """Return the address; nobody is asked for it."""
        return self.text(path)

    def volume_of(self, path: PurePath) -> int:
        """Return one number for all folders: a server does not say where renames end."""
        return 1

    def enter_at(self, path: PurePath) -> None:
        """Have links be followed on the way to a folder that the user has named, and as itself."""
        self._tops.add(LinkPath(path))

    def real(self, path: PurePath | str) -> str:
        """Return a path as the server itself knows it."""
        parts = LinkPath(path).parts
        if parts[:2] != self._top.parts:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(path))
        inner = list(parts[2:])
        if inner[:1] == [HOME]:
            if self._home is None:
                self._home = self.pool.do(lambda wire: wire.home()).rstrip("/")
            return "/".join([self._home, *inner[1:]]) or "/"
        return "/" + "/".join(inner)

    # Looking ----------------------------------------------------------------------------

    def entry(self, path: PurePath, *, fresh: bool = False, coarse: bool = False) -> Entry | None:
        """Return what stands at a path: by its folder's listing, where that was asked for.

        With `coarse`, its time may be another by now, as something in it has changed.
        """
        real = self.real(path)
        folder, _, name = real.rpartition("/")
        if not name:
            return Entry("", "folder", mode=0o755)
        known = self._known(folder or "/")
        if known is None and not fresh and self._lacks(folder):
            return None
        if known is None and not fresh and any(top in path.parents for top in self._tops):
            try:
                known = self._listing(path.parent)
            except (FileNotFoundError, NotADirectoryError):
                return None
        if known is not None and not fresh:
            if name not in known:
                return None
            sure = known[name]
            if sure is not None and (coarse or sure.stamp != _UNSURE):
                return sure
        if known is None and not fresh and real in self._asked:
            until, sure = self._asked[real]
            unsure = sure is not None and sure.stamp == _UNSURE and not coarse
            if time.monotonic() < until and not unsure:
                return sure
        found = self.pool.do(lambda wire: wire.entry(real))
        entry = _bounded(found._replace(name=name)) if found is not None else None
        with self._lock:
            if known is None:
                self._asked[real] = (time.monotonic() + _FRESH, entry)
            else:
                if entry is None:
                    known.pop(name, None)
                else:
                    known[name] = entry
        return entry

    def _known(self, folder: str) -> dict[str, Entry | None] | None:
        with self._lock:
            until, entries = self._listed.get(folder, (0.0, {}))
            return entries if time.monotonic() < until else None

    def _lacks(self, folder: str) -> bool:
        """Tell whether what was listed says that there is no such folder."""
        while folder:
            folder, _, name = folder.rpartition("/")
            known = self._known(folder or "/")
            if known is not None:
                return name not in known
        return False

    def _listing(self, folder: PurePath) -> dict[str, Entry | None]:
        real = self.real(folder)
        known = self._known(real)
        if known is None:
            found = self.pool.do(lambda wire: wire.listing(real))
            if len(found) > _MOST_ENTRIES:
                raise OSError(
                    errno.EFBIG, f"it lists more than {_MOST_ENTRIES:,} names", str(folder)
                )
            known = {one.name: _bounded(one) for one in found if _can_be(one.name)}
            with self._lock:
                self._listed[real] = (time.monotonic() + _FRESH, known)
        return known

    def _sure(self, folder: PurePath) -> list[tuple[str, Entry]]:
        """Return what is in a folder, sorted; what was changed since it was listed is asked for."""
        known = self._listing(folder)
        if None in known.values():
            with self._lock:
                self._listed.pop(self.real(folder), None)
            known = self._listing(folder)
        return sorted((name, one) for name, one in known.items() if one is not None)

    def changed(self, path: PurePath, *, gone: bool = False) -> None:
        """Note that what stands at a path is no longer what was listed, nor its folder's time."""
        for here, missing in ((path, gone), (path.parent, False)):
            real = self.real(here)
            above, _, name = real.rpartition("/")
            known = self._known(above or "/")
            with self._lock:
                until, entry = self._asked.pop(real, (0.0, None))
                if entry is not None and here is not path:
                    self._asked[real] = until, entry._replace(stamp=_UNSURE)
            if known is not None:
                with self._lock:
                    if missing:
                        known.pop(name, None)
                    elif here is path:
                        known[name] = None
                    elif (was := known.get(name)) is not None:
                        known[name] = was._replace(stamp=_UNSURE)
        if gone:
            with self._lock:
                self._listed.pop(self.real(path), None)

    def forget(self) -> None:
        """Believe no listing that was asked for before."""
        with self._lock:
            self._listed.clear()
            self._asked.clear()

    def kind(self, path: PurePath, *, follow: bool = True) -> Kind | None:
        """Ask the server. Links are followed to what the user has named alone."""
        entry = self.entry(path, coarse=True)
        if entry is None:
            return None
        if entry.kind == "link" and any(top.is_relative_to(path) for top in self._tops):
            return "folder"
        return entry.kind

    def node(self, path: PurePath) -> Node | None:
        """Ask the server."""
        entry = self.entry(path)
        return None if entry is None else node_of(entry)

    def names(self, folder: PurePath) -> list[str]:
        """List the server's folder."""
        return sorted(self._listing(folder))

    def folders(self, folder: PurePath, *, follow: bool = True) -> list[str]:
        """List the server's folder."""
        return [name for name, one in self._sure(folder) if one.kind == "folder"]

    def walker(self, top: PurePath) -> _Top:
        """Return what lists a folder and those in it."""
        return _Top(self, top)

    def attributes(self, path: PurePath) -> Attributes:
        """Return a file's permissions."""
        return Attributes(self.there(path).mode & 0o777)

    def there(self, path: PurePath, *, fresh: bool = False) -> Entry:
        """Return what stands at a path; raises FileNotFoundError."""
        entry = self.entry(path, fresh=fresh)
        if entry is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(path))
        return entry

    def now(self) -> int:
        """Return the server's time, as far as it was told; what is asked next is asked anew."""
        self.forget()
        return time.time_ns() + self._ahead

    def free_bytes(self, folder: PurePath) -> int | None:
        """Ask the server."""
        real = self.real(folder)
        return self.pool.do(lambda wire: wire.free(real))

    # Reading ----------------------------------------------------------------------------

    def open(self, path: PurePath | str) -> Reader:
        """Open a plain file."""
        return Reading(self, LinkPath(path))

    def front(self, path: PurePath | str, count: int) -> tuple[bytes, State]:
        """Return a file's first bytes and its state after that."""
        with Reading(self, LinkPath(path), count) as file:
            found = b""
            while len(found) < count and (more := file.read(count - len(found))):
                found += more
            return found, file.node().state

    def reckoned(self, path: PurePath) -> Reckoned | None:
        """Ask the server, once; one that can't, or takes too long, is not asked again."""
        if not self._reckons:
            return None
        real, wire = self.real(path), self.pool.take()
        try:
            found = wire.reckoned(real)
        except FAULTS:
            self.pool.drop(wire)
            found = None
        except BaseException as error:
            (self.pool.give if isinstance(error, OSError) else self.pool.drop)(wire)
            raise
        else:
            self.pool.give(wire)
        self._reckons = found is not None
        return found

    # Changing ---------------------------------------------------------------------------

    def create(self, path: PurePath) -> Writer:
        """Begin a file that is not there yet."""
        if self.entry(path) is not None:
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(path))
        return Writing(self, path)

    def rename(self, old: PurePath, new: PurePath) -> None:
        """Rename; in one step where the server has that."""
        one, other = self.real(old), self.real(new)

        def again(wire: Wire) -> None:
            """It may have been done before the link broke: then the old name is gone."""
            if wire.entry(one) is not None or wire.entry(other) is None:
                wire.rename(one, other)

        try:
            self.pool.do(lambda wire: wire.rename(one, other), again)
        except FAULTS:
            raise
        except OSError as error:
            if error.errno not in (errno.EIO, errno.EEXIST) or not self._both_stand(old, new):
                raise
            # Some servers put nothing in the place of a file.
            self.pool.do(lambda wire: wire.remove(other))
            self.pool.do(lambda wire: wire.rename(one, other), again)
        finally:
            self.changed(old, gone=True)
            self.changed(new)

    def _both_stand(self, old: PurePath, new: PurePath) -> bool:
        there = [self.entry(one, fresh=True) for one in (old, new)]
        return all(one is not None and one.kind == "file" for one in there)

    def unlink(self, path: PurePath) -> None:
        """Remove a file."""
        real = self.real(path)
        with suppress(FileNotFoundError):
            self.pool.do(lambda wire: wire.remove(real))
        self.changed(path, gone=True)

    def make_folder(self, path: PurePath, *, new: bool = False) -> None:
        """Make a folder and those above it; with `new`, it must not be there."""
        if new:
            real = self.real(path)
            try:
                self.pool.do(lambda wire: wire.make_folder(real))
            except FAULTS:
                raise
            except OSError as error:  # most services do not say why
                if self.entry(path, fresh=True) is None:
                    raise
                raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(path)) from error
            self.changed(path)
            return
        missing = []
        while self.kind(path) != "folder":
            missing.append(path)
            path = path.parent
        for one in reversed(missing):
            with suppress(FileExistsError):
                self.make_folder(one, new=True)

    def remove_folder(self, path: PurePath) -> None:
        """Remove an empty folder."""
        real = self.real(path)

        def again(wire: Wire) -> None:
            if wire.entry(real) is not None:
                wire.remove_folder(real)

        self.pool.do(lambda wire: wire.remove_folder(real), again)
        self.changed(path, gone=True)

    def set_times(self, path: PurePath, stamp: int) -> None:
        """Set the time of the last change, where the server lets one."""
        if self.abilities.sets_times:
            real = self.real(path)
            try:
                self.pool.do(lambda wire: wire.set_time(real, stamp))
            except FAULTS:
                raise
            except OSError:
                if self.kind(path) != "folder":  # many servers set those of files alone
                    raise
            self.changed(path)

    def give_attributes(self, path: PurePath, attributes: Attributes) -> list[Unkept]:
        """Give a file its permissions, where the server has any."""
        if self.abilities.has_modes and self.there(path).mode & 0o777 != attributes.mode:
            real = self.real(path)
            try:
                self.pool.do(lambda wire: wire.set_mode(real, attributes.mode))
            except FAULTS:
                raise
            except OSError as error:
                return [Unkept("its permissions", error.strerror or str(error), True)]
            self.changed(path)
        return []

    def sync_folder(self, path: PurePath) -> None:
        """Leave it to the server: no file service has a word for it."""

    def learn_time(self, stamp: int) -> None:
        """Take it that the server's clock says this now."""
        ahead = stamp - time.time_ns()
        self._ahead = ahead if abs(ahead) > 2 * _SECOND else 0


def _can_be(name: str) -> bool:
    bad = name in ("", ".", "..") or "/" in name or "\0" in name
    return not bad and len(name) <= _LONGEST_NAME


def _bounded(entry: Entry) -> Entry:
    """Return what a server says, as far as it can be."""
    size = entry.size if 0 <= entry.size <= _LARGEST else 0
    stamp = max(-_FAR, min(entry.stamp, _FAR))
    return entry._replace(size=size, stamp=stamp, mode=entry.mode & 0o7777)


class _Top(Closing):
    """A folder while it is walked through."""

    def __init__(self, shore: LinkShore, top: PurePath) -> None:
        self._shore, self._path = shore, top

    def close(self) -> None:
        """Nothing is held."""

    def listed(self, folder: str) -> tuple[list[FileInfo], list[str]]:
        """Return a folder's plain files, and the folders in it."""
        front = f"{folder}/" if folder else ""
        every = self._shore._sure(self._path / folder if folder else self._path)
        files = [FileInfo(front + n, e.size, e.stamp) for n, e in every if e.kind == "file"]
        return files, [front + name for name, entry in every if entry.kind == "folder"]
