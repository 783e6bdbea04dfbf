"""SFTP, by paramiko: host keys kept and checked; keys of the agent, of files, passwords."""

from __future__ import annotations

import errno
import posixpath
import socket
import stat
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import paramiko
from paramiko import sftp as sftp_words

from clever_ferry.links.trust import HostKeys
from clever_ferry.links.wire import DIGESTS, Abilities, Entry, nothing, reckoned_of
from clever_ferry.moving.shore import Kind, Reckoned

if TYPE_CHECKING:
    from clever_ferry.links.secrets import Secrets
    from clever_ferry.links.server import Server

__all__ = ["SftpService"]

_TIMEOUT, _RECKONING = 20.0, 80.0
"""Seconds for any answer, and for a digest."""
_LARGE, _SMALL = (255 * 1024, 96), (32 * 1024, 256)
"""Bytes that are asked for or sent at once, and requests that may be under way: of OpenSSH's own
server, which takes so many, and of others, of which only what the protocol says is known."""
_AT_ONCE = 4
"""Files that are on their way at a time; OpenSSH's server opens ten channels at the most."""
_ROOM = 32 << 20
"""Bytes that the server may send before they are read."""


def _transport(sock: Any, **options: Any) -> paramiko.Transport:
    """Return a transport that prefers the ciphers that processors have commands for."""
    found = paramiko.Transport(sock, **options)
    chosen = found.get_security_options()
    chosen.ciphers = sorted(chosen.ciphers, key=lambda name: "gcm" not in name)
    return found


def _has_agent() -> bool:
    """Tell whether an agent with keys can be asked; one that is broken is none."""
    try:
        agent = paramiko.Agent()
        found = bool(agent.get_keys())
        agent.close()
    except (OSError, paramiko.SSHException):
        return False
    return found


class SftpService:
    """One server: a connection that is shared, and channels on it."""

    def __init__(self, server: Server, keys: HostKeys, secrets: Secrets) -> None:
        self._server, self._keys, self._secrets = server, keys, secrets
        self._client: paramiko.SSHClient | None = None
        self._lock = threading.Lock()

    def connect(self) -> SftpWire:
        """Open one more channel; raises OSError, or a FerryError where the server is refused."""
        with self._lock:
            transport = self._client.get_transport() if self._client is not None else None
            if transport is None or not transport.is_active():
                transport = self._log_in()
            with _spoken():
                return SftpWire(transport)

    def _log_in(self) -> paramiko.Transport:
        server = self._server
        client = paramiko.SSHClient()
        self._keys.load(client, server)
        client.set_missing_host_key_policy(_Ask(self._keys, server))
        password: str | None = None
        try:
            while True:
                try:
                    client.connect(
                        server.host, server.port, server.user or None, password,
                        timeout=_TIMEOUT, banner_timeout=_TIMEOUT, auth_timeout=_TIMEOUT,
                        channel_timeout=_TIMEOUT, allow_agent=_has_agent(),
                        transport_factory=_transport,
                    )  # fmt: skip
                    break
                except paramiko.BadHostKeyException as error:
                    raise self._keys.changed(server, error.key) from None
                except (paramiko.AuthenticationException, paramiko.PasswordRequiredException):
                    password = self._secrets.password(server, wrong=password)
                except paramiko.SSHException as error:
                    if "No authentication methods" not in str(error):
                        raise ConnectionError(errno.ECONNABORTED, str(error)) from error
                    password = self._secrets.password(server, wrong=password)
                except socket.gaierror as error:
                    raise ConnectionError(
                        errno.EHOSTUNREACH, f"there is no {server.host}"
                    ) from error
        except BaseException:
            client.close()
            raise
        if password is not None:
            self._secrets.worked(server)
        transport = client.get_transport()
        assert transport is not None
        transport.set_keepalive(20)
        self._client = client
        return transport


class _Ask(paramiko.MissingHostKeyPolicy):
    def __init__(self, keys: HostKeys, server: Server) -> None:
        self._keys, self._server = keys, server

    def missing_host_key(
        self, client: paramiko.SSHClient, hostname: str, key: paramiko.PKey
    ) -> None:
        self._keys.first_seen(self._server, key)


@contextmanager
def _spoken() -> Iterator[None]:
    """Have paramiko's faults be those of a link."""
    try:
        yield
    except (paramiko.SSHException, EOFError, TimeoutError) as error:
        raise ConnectionError(errno.ECONNABORTED, str(error) or "the link broke") from error
    except OSError as error:
        if error.errno is None and not isinstance(error, ConnectionError):
            # The protocol has one word for most of what can go wrong.
            told = str(error)
            if "closed" in told.lower():
                raise ConnectionError(errno.ECONNABORTED, told) from error
            raise OSError(errno.EIO, f"the server says: {told or 'no'}") from error
        raise


def _raw(path: str) -> bytes:
    return path.encode("utf-8", "surrogateescape")


class SftpWire:
    """One channel."""

    def __init__(self, transport: paramiko.Transport) -> None:
        found = paramiko.SFTPClient.from_transport(transport, _ROOM, 1 << 18)
        if found is None:
            raise ConnectionError(errno.ECONNREFUSED, "it offers no SFTP")
        self._sftp, self._transport = found, transport
        self.stepped: Callable[[], None] = nothing
        channel = self._sftp.get_channel()
        assert channel is not None
        channel.settimeout(_TIMEOUT)
        self._channel = channel
        self._at_once = _LARGE if "OpenSSH" in transport.remote_version else _SMALL
        self.abilities = Abilities(True, True, True, True, _AT_ONCE)

    def home(self) -> str:
        """Ask for the folder that the server begins in."""
        with _spoken():
            return self._sftp.normalize(".")

    def listing(self, folder: str) -> list[Entry]:
        """List a folder; names that are no text are kept as Python keeps such."""
        attributes: Any = paramiko.SFTPAttributes
        sftp: Any = self._sftp  # whose own listing gives up at the first such name
        found = []
        with _spoken():
            kind, answer = sftp._request(sftp_words.CMD_OPENDIR, _raw(folder))
            handle = answer.get_binary()
            while True:
                try:
                    kind, answer = sftp._request(sftp_words.CMD_READDIR, handle)
                except EOFError:
                    break
                if kind != sftp_words.CMD_NAME:
                    raise ConnectionError(errno.EPROTO, "it lists a folder with another word")
                self.stepped()
                for _ in range(answer.get_int()):
                    name = answer.get_binary().decode("utf-8", "surrogateescape")
                    answer.get_binary()  # the same line once more, for people
                    data = attributes._from_msg(answer)
                    if name not in (".", ".."):
                        found.append(_entry(name, data))
            # Nobody waits for the answer to this one.
            sftp._async_request(type(None), sftp_words.CMD_CLOSE, handle)
        return found

    def entry(self, path: str) -> Entry | None:
        """Ask for a path, and not for what a link leads to."""
        try:
            with _spoken():
                return _entry(posixpath.basename(path), self._sftp.lstat(_raw(path)))
        except (FileNotFoundError, NotADirectoryError):
            return None

    def reader(self, path: str, offset: int, count: int) -> _Source:
        """Open a file; where much is wanted of it, ask ahead."""
        with _spoken():
            file = self._sftp.open(_raw(path), "rb")
            file.MAX_REQUEST_SIZE = self._at_once[0]
            return _Source(file, offset, offset + count, self._at_once)

    def writer(self, path: str, offset: int) -> _Sink:
        """Begin a file that must not be there, or go on with one."""
        with _spoken():
            file = self._sftp.open(_raw(path), "r+b" if offset else "wxb")
            file.MAX_REQUEST_SIZE = self._at_once[0]
            file.seek(offset)
            file.set_pipelined(True)
            return _Sink(file)

    def rename(self, old: str, new: str) -> None:
        """Rename in one step, by the extension that nearly all servers have."""
        try:
            with _spoken():
                self._sftp.posix_rename(_raw(old), _raw(new))
        except ConnectionError:
            raise
        except OSError as error:
            if "unsupported" not in str(error).lower():
                raise
            with _spoken():
                self._sftp.rename(_raw(old), _raw(new))

    def remove(self, path: str) -> None:
        """Remove a file."""
        with _spoken():
            self._sftp.remove(_raw(path))

    def make_folder(self, path: str) -> None:
        """Make a folder."""
        with _spoken():
            self._sftp.mkdir(_raw(path), 0o755)

    def remove_folder(self, path: str) -> None:
        """Remove an empty folder."""
        with _spoken():
            self._sftp.rmdir(_raw(path))

    def set_time(self, path: str, stamp: int) -> None:
        """Set the time of the last change, to the second."""
        seconds = max(0, min(stamp // 10**9, 0xFFFFFFFF))
        with _spoken():
            self._sftp.utime(_raw(path), (seconds, seconds))

    def set_mode(self, path: str, mode: int) -> None:
        """Set the permission bits."""
        with _spoken():
            self._sftp.chmod(_raw(path), mode)

    def reckoned(self, path: str) -> Reckoned | None:
        """Ask by the extension `check-file`, whose answer begins with its name at some servers."""
        sftp: Any = self._sftp
        number = sftp_words.int64(0)
        self._channel.settimeout(_RECKONING)
        try:
            with _spoken():
                _, answer = sftp._request(
                    sftp_words.CMD_EXTENDED, "check-file-name", _raw(path), ",".join(DIGESTS),
                    number, number, 0,
                )  # fmt: skip
        except ConnectionError:
            raise
        except OSError:
            return None
        finally:
            self._channel.settimeout(_TIMEOUT)
        kind = answer.get_binary()
        if kind == b"check-file":
            kind = answer.get_binary()
        return reckoned_of(kind.decode("ascii", "replace"), answer.get_remainder().hex())

    def free(self, folder: str) -> int | None:
        """Return None: the protocol has no word for it."""
        return None

    def close(self) -> None:
        """Close the channel."""
        self._sftp.close()

    def abort(self) -> None:
        """Cut the connection, with all channels on it."""
        self._transport.close()


def _entry(name: str, data: paramiko.SFTPAttributes) -> Entry:
    mode = data.st_mode or 0
    kinds: tuple[tuple[Callable[[int], bool], Kind], ...] = (
        (stat.S_ISREG, "file"), (stat.S_ISDIR, "folder"), (stat.S_ISLNK, "link")
    )  # fmt: skip
    kind: Kind = next((kind for test, kind in kinds if test(mode)), "other")
    return Entry(name, kind, data.st_size or 0, (data.st_mtime or 0) * 10**9, mode & 0o777)


class _Source:
    """A file that is read window by window; all of a window is asked for at once."""

    def __init__(
        self, file: paramiko.SFTPFile, offset: int, end: int, at_once: tuple[int, int]
    ) -> None:
        self._file, self._rest = file, b""
        self._blocks = self._windows(offset, end, *at_once)

    def _windows(self, at: int, end: int, size: int, most: int) -> Iterator[bytes]:
        while at < end:
            upto = min(end, at + size * most)
            blocks = [(one, min(size, upto - one)) for one in range(at, upto, size)]
            for (start, wanted), found in zip(blocks, self._file.readv(blocks), strict=True):
                yield found
                at = start + len(found)
                if len(found) < wanted:
                    break  # the server gives less at once: ask anew from there
            if not found:
                return

    def read(self, count: int) -> bytes:
        with _spoken():
            if not self._rest:
                self._rest = next(self._blocks, b"")
        found, self._rest = self._rest[:count], self._rest[count:]
        return found

    def close(self) -> None:
        with _spoken():
            self._file.close()


class _Sink:
    def __init__(self, file: paramiko.SFTPFile) -> None:
        self._file = file

    def write(self, data: bytes) -> None:
        with _spoken():
            self._file.write(data)

    def close(self) -> None:
        with _spoken():
            self._file.close()

    def drop(self) -> None:
        """Let go; the connection is cut by whoever asks for this."""
