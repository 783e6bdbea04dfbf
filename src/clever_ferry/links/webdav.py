"""WebDAV, by httpx: folders and files of a web server."""

from __future__ import annotations

import errno
import os
import posixpath
import socket
import ssl
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from email.utils import parsedate_to_datetime
from typing import IO, TYPE_CHECKING
from urllib.parse import quote, unquote, urlsplit

import httpx
from defusedxml import ElementTree

from clever_ferry.links.wire import Abilities, Entry, nothing

if TYPE_CHECKING:
    from collections.abc import Mapping
    from xml.etree.ElementTree import Element

    from clever_ferry.links.secrets import Secrets
    from clever_ferry.links.server import Server

__all__ = ["DavService"]

_TIMEOUT = httpx.Timeout(20.0, connect=20.0)
_LAST = httpx.Timeout(20.0, read=60.0)
"""Where a file was sent: what the system still holds of it goes first, over slow lines too."""
_HELD = [(socket.SOL_SOCKET, socket.SO_SNDBUF, 1 << 20)]
_LARGEST_ANSWER = 256 << 20
_BLOCK = 1 << 16
"""Bytes that are sent at once: each must go within the time limit, over slow lines too."""
_TRIES, _PAUSE = 3, 0.3
_IN_MEMORY = 1 << 20
_ASKED = b"""<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/>\
<getcontentlength/><getlastmodified/></prop></propfind>"""
_ASKED_ROOM = b"""<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop>\
<quota-available-bytes/></prop></propfind>"""


class DavService:
    """One server; each connection logs in for itself."""

    def __init__(self, server: Server, secrets: Secrets) -> None:
        self._server, self._secrets = server, secrets

    def connect(self) -> DavWire:
        """Connect, and see that the server answers; raises OSError, or KeyNeededError."""
        server, password = self._server, None
        scheme = "https" if server.scheme == "webdavs" else "http"
        base = f"{scheme}://{server.name.rpartition('@')[2]}"
        while True:
            login = (server.user, password) if password is not None else None
            client = httpx.Client(
                base_url=base, timeout=_TIMEOUT, auth=login, follow_redirects=False,
                transport=httpx.HTTPTransport(verify=scheme == "https", socket_options=_HELD),
                headers={"Accept-Encoding": "identity"},
            )  # fmt: skip
            try:
                with _spoken():
                    answer = client.options("/")
                if (
                    answer.status_code == 401
                    and "digest" in answer.headers.get("www-authenticate", "").lower()
                    and password is not None
                ):
                    client.auth = httpx.DigestAuth(server.user, password)
                    with _spoken():
                        answer = client.options("/")
                if answer.status_code != 401:
                    if password is not None:
                        self._secrets.worked(server)
                    return DavWire(client)
            except BaseException:
                client.close()
                raise
            client.close()
            password = self._secrets.password(server, wrong=password)


@contextmanager
def _spoken() -> Iterator[None]:
    """Have httpx's faults be those of a link."""
    try:
        yield
    except httpx.TimeoutException as error:
        raise TimeoutError(errno.ETIMEDOUT, "it did not answer in time") from error
    except (httpx.TransportError, httpx.StreamError, RuntimeError) as error:
        told = str(error) or "the link broke"
        if isinstance(error.__cause__, ssl.SSLCertVerificationError) or "CERTIFICATE" in told:
            told = "its certificate can't be trusted (" + told.partition("failed: ")[2][:80] + ")"
        raise ConnectionError(errno.ECONNABORTED, told) from error


def _refuse(code: int, path: str) -> None:
    """Raise what a disk would say in the place of an HTTP status."""
    if code < 300:
        return
    known = {
        401: errno.EACCES, 403: errno.EACCES, 404: errno.ENOENT, 405: errno.EEXIST,
        409: errno.ENOENT, 410: errno.ENOENT, 412: errno.EEXIST, 423: errno.EBUSY,
        507: errno.ENOSPC, 413: errno.ENOSPC,
    }  # fmt: skip
    number = known.get(code)
    if number is None:
        if code in (429, 502, 503, 504):
            raise ConnectionError(errno.ECONNABORTED, f"it answered {code}")
        raise OSError(errno.EIO, f"the server answered {code}", path)
    raise OSError(number, os.strerror(number), path)


class DavWire:
    """One connection."""

    abilities = Abilities(True, False, False, False, 4)

    def __init__(self, client: httpx.Client) -> None:
        self._client = client
        self.stepped: Callable[[], None] = nothing

    def home(self) -> str:
        """Return the root: there is no other."""
        return "/"

    def _ask(
        self, method: str, path: str, headers: Mapping[str, str] | None = None, body: bytes = b""
    ) -> bytes:
        with (
            _spoken(),
            self._client.stream(method, quote(path), headers=headers, content=body) as answer,
        ):
            _refuse(answer.status_code, path)
            found = bytearray()
            for block in answer.iter_raw(_BLOCK):
                found += block
                if len(found) > _LARGEST_ANSWER:
                    raise OSError(errno.EFBIG, "the server's answer is endless", path)
            return bytes(found)

    def _found(self, path: str, depth: str, asked: bytes = _ASKED) -> list[tuple[str, Element]]:
        headers = {"Depth": depth, "Content-Type": "application/xml"}
        try:
            tree = ElementTree.fromstring(self._ask("PROPFIND", path, headers, asked))
        except (ElementTree.ParseError, ValueError) as error:
            raise OSError(errno.EIO, "the server's answer is no WebDAV", path) from error
        found = []
        for one in tree.findall("{DAV:}response"):
            href = one.findtext("{DAV:}href") or ""
            found.append((unquote(urlsplit(href.strip()).path).rstrip("/"), one))
        return found

    def listing(self, folder: str) -> list[Entry]:
        """List a folder."""
        top = folder.rstrip("/")
        found = self._found(f"{top}/", "1")
        if any(path == top and _entry("", one).kind == "file" for path, one in found):
            raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), folder)
        return [
            _entry(path.rpartition("/")[2], one)
            for path, one in found
            if path != top and path.rpartition("/")[0] == top
        ]

    def entry(self, path: str) -> Entry | None:
        """Ask for a path."""
        try:
            found = self._found(path, "0")
        except OSError as error:
            if error.errno in (errno.ENOENT, errno.ENOTDIR):
                return None
            if error.strerror == "the server answered 301":  # a folder without its slash
                return Entry(posixpath.basename(path), "folder", mode=0o755)
            raise
        return _entry(posixpath.basename(path), found[0][1]) if found else None

    def reader(self, path: str, offset: int, count: int) -> _Source:
        """Open a file."""
        headers = {"Range": f"bytes={offset}-"} if offset else {}
        with _spoken():
            request = self._client.build_request("GET", quote(path), headers=headers)
            answer = self._client.send(request, stream=True)
        try:
            _refuse(answer.status_code, path)
        except BaseException:
            answer.close()
            raise
        return _Source(answer, offset if answer.status_code != 206 else 0)

    def writer(self, path: str, offset: int) -> _Sink:
        """Begin a file."""
        return _Sink(self, path)

    def put(self, path: str, file: IO[bytes], size: int) -> None:
        """Send a file whole."""

        def blocks() -> Iterator[bytes]:
            while block := file.read(_BLOCK):
                yield block
                self.stepped()

        with _spoken():
            answer = self._client.put(
                quote(path),
                content=blocks(),
                headers={"Content-Length": str(size)},
                timeout=_LAST,
            )
        _refuse(answer.status_code, path)

    def rename(self, old: str, new: str) -> None:
        """Rename, in place of what is there."""
        target = str(self._client.base_url).rstrip("/") + quote(new)
        self._ask("MOVE", old, {"Destination": target, "Overwrite": "T"})

    def remove(self, path: str) -> None:
        """Remove a file."""
        self._ask("DELETE", path)

    def make_folder(self, path: str) -> None:
        """Make a folder."""
        self._ask("MKCOL", path)

    def remove_folder(self, path: str) -> None:
        """Remove an empty folder: the service would remove a full one, too, so it is looked."""
        if self.listing(path):
            raise OSError(errno.ENOTEMPTY, os.strerror(errno.ENOTEMPTY), path)
        self._ask("DELETE", f"{path.rstrip('/')}/")

    def set_time(self, path: str, stamp: int) -> None:
        """Do nothing: the service has no word for it (`sets_times`)."""

    def set_mode(self, path: str, mode: int) -> None:
        """Do nothing: the service has no word for it (`has_modes`)."""

    def reckoned(self, path: str) -> None:
        """Return None: the service has no word for it."""

    def free(self, folder: str) -> int | None:
        """Ask for what is left of the quota."""
        with suppress(OSError, ValueError):
            for _, one in self._found(folder, "0", _ASKED_ROOM):
                told = one.findtext(".//{DAV:}quota-available-bytes")
                return int(told) if told else None
        return None

    def close(self) -> None:
        """Close the connection."""
        self._client.close()

    def abort(self) -> None:
        """Close the connection."""
        with suppress(Exception):  # whatever the transport is at
            self._client.close()


def _entry(name: str, answer: Element) -> Entry:
    folder = answer.find(".//{DAV:}resourcetype/{DAV:}collection") is not None
    size, stamp = 0, 0
    with suppress(ValueError, TypeError):
        size = int(answer.findtext(".//{DAV:}getcontentlength") or "0")
    with suppress(ValueError, TypeError, OverflowError):
        told = answer.findtext(".//{DAV:}getlastmodified")
        stamp = int(parsedate_to_datetime(told).timestamp()) * 10**9 if told else 0
    return Entry(name, "folder" if folder else "file", size, stamp, 0o755 if folder else 0o644)


class _Source:
    def __init__(self, answer: httpx.Response, skip: int) -> None:
        self._answer, self._rest = answer, b""
        self._blocks = answer.iter_raw(_BLOCK)
        while skip:
            gone = self.read(min(skip, _BLOCK))
            if not gone:
                break
            skip -= len(gone)

    def read(self, count: int) -> bytes:
        if not self._rest:
            with _spoken():
                self._rest = next(self._blocks, b"")
        found, self._rest = self._rest[:count], self._rest[count:]
        return found

    def close(self) -> None:
        self._answer.close()


class _Sink:
    """What is sent is sent whole: until then it waits on this computer's disk."""

    def __init__(self, wire: DavWire, path: str) -> None:
        self._wire, self._path, self._size = wire, path, 0
        self._file = tempfile.SpooledTemporaryFile(_IN_MEMORY)  # noqa: SIM115

    def write(self, data: bytes) -> None:
        self._file.write(data)
        self._size += len(data)

    def close(self) -> None:
        for attempt in range(_TRIES):  # it is all here still, which who sends it may not have
            self._file.seek(0)
            try:
                self._wire.put(self._path, self._file, self._size)
                break
            except (ConnectionError, TimeoutError):
                if attempt == _TRIES - 1:
                    raise
                time.sleep(_PAUSE)
        self._file.close()

    def drop(self) -> None:
        self._file.close()
