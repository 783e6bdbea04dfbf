"""FTP and FTPS, by the standard library: for servers of every age.

Names go over the wire as bytes: UTF-8, and what is no UTF-8 as Python keeps such names.
"""

from __future__ import annotations

import errno
import ftplib
import os
import posixpath
import socket
import ssl
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from clever_ferry.links.ftp_lists import exact, loose, stamp_of
from clever_ferry.links.wire import DIGESTS, Abilities, Entry, nothing, reckoned_of
from clever_ferry.moving.shore import Reckoned

if TYPE_CHECKING:
    from clever_ferry.links.secrets import Secrets
    from clever_ferry.links.server import Server

__all__ = ["FtpService"]

_TIMEOUT, _LAST, _RECKONING = 20.0, 60.0, 80.0
_HELD = 1 << 20
"""Bytes of a file that the system may hold before they are sent."""
_MOST_LINES = 600_000
_BLOCK, _SENT = 1 << 18, 1 << 16


class FtpService:
    """One server; each connection logs in for itself."""

    def __init__(self, server: Server, secrets: Secrets) -> None:
        self._server, self._secrets = server, secrets

    def connect(self) -> FtpWire:
        """Connect and log in; raises OSError, or KeyNeededError."""
        server = self._server
        with _spoken():
            try:
                ftp = _client(server)
                ftp.connect(server.host, server.port, _TIMEOUT)
            except socket.gaierror as error:
                raise ConnectionError(errno.EHOSTUNREACH, f"there is no {server.host}") from error
            except ssl.SSLCertVerificationError as error:
                raise _no_certificate(error) from error
        try:
            return self._log_in(ftp)
        except BaseException:
            ftp.close()
            raise

    def _log_in(self, ftp: ftplib.FTP) -> FtpWire:
        server = self._server
        with _spoken():
            if isinstance(ftp, ftplib.FTP_TLS) and not isinstance(ftp, _Implicit):
                try:
                    ftp.auth()
                except ssl.SSLCertVerificationError as error:
                    raise _no_certificate(error) from error
                except ftplib.error_perm as error:
                    raise ConnectionError(errno.EPROTO, f"it offers no TLS ({error})") from error
        password = self._secrets.password(server) if server.user else None
        while True:
            try:
                with _spoken():
                    ftp.login(server.user or "anonymous", password or "cferry@")
                break
            except PermissionError:
                if not server.user:
                    raise
                password = self._secrets.password(server, wrong=password)
        if password is not None:
            self._secrets.worked(server)
        with _spoken():
            if isinstance(ftp, ftplib.FTP_TLS):
                ftp.prot_p()
            return FtpWire(ftp)


class _Implicit(ftplib.FTP_TLS):
    """TLS from the first byte."""

    def connect(
        self, host: str = "", port: int = 0, timeout: float = -999,
        source_address: tuple[str, int] | None = None,
    ) -> str:  # fmt: skip
        plain = socket.create_connection((host, port), timeout)
        self.host, self.port, self.timeout = host, port, timeout
        self.af = plain.family
        self.sock = self.context.wrap_socket(plain, server_hostname=host)
        self.file = self.sock.makefile("r", encoding=self.encoding)
        self.welcome = self.getresp()
        return self.welcome


def _client(server: Server) -> ftplib.FTP:
    if server.scheme == "ftp":
        ftp = ftplib.FTP(encoding="latin-1")
    else:
        kind = _Implicit if "implicit" in server.choices else ftplib.FTP_TLS
        ftp = kind(context=ssl.create_default_context(), encoding="latin-1")
    ftp.set_pasv("active" not in server.choices)
    return ftp


def _no_certificate(error: ssl.SSLCertVerificationError) -> ConnectionError:
    """Return what is said of a server whose certificate does not hold."""
    return ConnectionError(
        errno.EPROTO, f"its certificate can't be trusted ({error.verify_message.rstrip('.')})"
    )


@contextmanager
def _spoken() -> Iterator[None]:
    """Have ftplib's faults be what a disk would say, or a link's."""
    try:
        yield
    except ssl.SSLCertVerificationError:
        raise
    except ftplib.error_perm as error:
        code, told = str(error)[:3], str(error)[4:] or "no"
        if code == "530" or code == "532":
            raise PermissionError(errno.EACCES, f"the server says: {told}") from error
        if code in ("452", "552"):
            raise OSError(errno.ENOSPC, f"the server says: {told}") from error
        raise OSError(errno.EIO, f"the server says: {told}") from error
    except ftplib.error_temp as error:
        code, told = str(error)[:3], str(error)[4:] or "not now"
        if code in ("450", "451", "452"):
            kind = errno.ENOSPC if code == "452" else errno.EIO
            raise OSError(kind, f"the server says: {told}") from error
        raise ConnectionError(errno.ECONNABORTED, told) from error
    except (ftplib.error_reply, ftplib.error_proto, EOFError, ssl.SSLError) as error:
        raise ConnectionError(errno.ECONNABORTED, str(error) or "it hung up") from error
    except ConnectionError:
        raise
    except TimeoutError:
        raise
    except AttributeError as error:  # ftplib, after the socket was cut from elsewhere
        raise ConnectionError(errno.ECONNABORTED, "the connection is closed") from error


def _out(name: str) -> str:
    """Return a name as ftplib is to send it."""
    if "\r" in name or "\n" in name:
        raise OSError(errno.EINVAL, "FTP has no names with line ends", name)
    return name.encode("utf-8", "surrogateescape").decode("latin-1")


def _in(name: str) -> str:
    return name.encode("latin-1").decode("utf-8", "surrogateescape")


class FtpWire:
    """One connection."""

    def __init__(self, ftp: ftplib.FTP) -> None:
        self._ftp = ftp
        self.stepped: Callable[[], None] = nothing
        self._can = self._features()
        with suppress(OSError):
            if "UTF8" in self._can:
                self._said("OPTS UTF8 ON")
        self._binary = False
        self._exact = "MLST" in self._can or "MLSD" in self._can
        self.abilities = Abilities(
            True, "MFMT" in self._can, self._exact and "UNIX.MODE" in self._can.get("MLST", ""),
            "REST" in self._can, lists_exactly=self._exact,
        )  # fmt: skip

    def _features(self) -> dict[str, str]:
        try:
            with _spoken():
                lines = self._ftp.sendcmd("FEAT").splitlines()[1:-1]
        except ConnectionError:
            raise
        except OSError:
            return {}
        told = (line.strip().upper().partition(" ")[::2] for line in lines)
        return dict(told)

    def _said(self, command: str) -> str:
        with _spoken():
            return self._ftp.sendcmd(command)

    def home(self) -> str:
        """Ask for the folder that the server begins in."""
        with _spoken():
            return _in(self._ftp.pwd())

    # Looking ----------------------------------------------------------------------------

    def listing(self, folder: str) -> list[Entry]:
        """List a folder, by the lines that are made for programs where there are such."""
        if self._exact:
            with self._absent(folder):
                lines = self._lines(f"MLSD {_out(folder)}")
            return [one for line in lines if (one := exact(line)) is not None]
        with self._absent(folder):
            self._said(f"CWD {_out(folder)}")
        found = [loose(line) for line in self._lines("LIST -a")]
        entries = [one for one in found if one is not None and one.name not in (".", "..")]
        return [self._dated(folder, one) for one in entries]

    def _dated(self, folder: str, entry: Entry) -> Entry:
        """Return a file with its time to the second, where the server tells it by itself."""
        if entry.kind != "file" or "MDTM" not in self._can:
            return entry
        with suppress(OSError, ValueError):
            said = self._said(f"MDTM {_out(posixpath.join(folder, entry.name))}")
            return entry._replace(stamp=stamp_of(said[4:].strip()))
        return entry

    def _lines(self, command: str) -> list[str]:
        lines: list[str] = []

        def one_more(line: str) -> None:
            lines.append(_in(line))
            self.stepped()
            if len(lines) > _MOST_LINES:
                raise OSError(errno.EFBIG, f"it lists more than {_MOST_LINES:,} names")

        self._binary = False  # such lists are texts
        with _spoken():
            self._ftp.retrlines(command, one_more)
        return lines

    @contextmanager
    def _absent(self, path: str) -> Iterator[None]:
        """Have it be said that a path is not there, where that is what a refusal means."""
        try:
            yield
        except (ConnectionError, TimeoutError, PermissionError):
            raise
        except OSError as error:
            if error.errno == errno.EIO and self._is_folder(path):
                raise PermissionError(errno.EACCES, str(error.strerror), path) from error
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), path) from error

    def _is_folder(self, path: str) -> bool:
        try:
            self._said(f"CWD {_out(path)}")
        except (ConnectionError, TimeoutError):
            raise
        except OSError:
            return False
        return True

    def entry(self, path: str) -> Entry | None:
        """Ask for a path: by itself, else by its folder's listing."""
        folder, name = posixpath.split(path)
        if self._exact and "MLST" in self._can:
            try:
                said = self._said(f"MLST {_out(path)}")
            except (ConnectionError, TimeoutError):
                raise
            except OSError:
                return None
            lines = [line for line in said.splitlines()[1:-1] if ";" in line]
            found = exact(_in(lines[0].strip()), name) if lines else None
            return found._replace(name=name) if found is not None else None
        try:
            return next((one for one in self.listing(folder) if one.name == name), None)
        except FileNotFoundError:
            return None
        except PermissionError:
            return Entry(name, "folder", mode=0o755) if self._is_folder(path) else None

    # Reading and writing ------------------------------------------------------------------

    def _as_bytes(self) -> None:
        if not self._binary:
            with _spoken():
                self._ftp.voidcmd("TYPE I")
            self._binary = True

    def reader(self, path: str, offset: int, count: int) -> _Source:
        """Open a file; what stands before the offset is read and thrown away where it must be."""
        rest = offset if offset and self.abilities.resumes else None
        self._as_bytes()
        with _spoken():
            source = _Source(self._ftp, f"RETR {_out(path)}", rest)
            skip = 0 if rest is not None else offset
            while skip and (gone := len(source.read(min(skip, _BLOCK)))):
                skip -= gone
            return source

    def writer(self, path: str, offset: int) -> _Sink:
        """Begin a file, or go on with one."""
        self._as_bytes()
        with _spoken():
            return _Sink(self._ftp, f"STOR {_out(path)}", offset or None)

    def rename(self, old: str, new: str) -> None:
        """Rename; most servers put it in place of what is there."""
        with _spoken():
            self._ftp.rename(_out(old), _out(new))

    def remove(self, path: str) -> None:
        """Remove a file."""
        try:
            with _spoken():
                self._ftp.delete(_out(path))
        except (ConnectionError, TimeoutError):
            raise
        except OSError as error:
            if self.entry(path) is None:
                raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), path) from error
            raise

    def make_folder(self, path: str) -> None:
        """Make a folder."""
        with _spoken():
            self._ftp.voidcmd(f"MKD {_out(path)}")

    def remove_folder(self, path: str) -> None:
        """Remove an empty folder; the connection must not stand in it."""
        with _spoken():
            self._ftp.cwd("/")
            self._ftp.rmd(_out(path))

    def set_time(self, path: str, stamp: int) -> None:
        """Set the time of the last change, to the second."""
        when = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=stamp // 10**9)
        self._said(f"MFMT {when:%Y%m%d%H%M%S} {_out(path)}")

    def set_mode(self, path: str, mode: int) -> None:
        """Set the permission bits."""
        self._said(f"SITE CHMOD {mode:o} {_out(path)}")

    def reckoned(self, path: str) -> Reckoned | None:
        """Ask by `HASH`, else by one of the older commands that each have a digest's name."""
        offered = {
            name.replace("-", "").lower(): name
            for name in self._can.get("HASH", "").replace("*", "").split(";")
        }
        kind = next((one for one in DIGESTS if one in offered), None)
        older = next((one for one in DIGESTS if f"X{one.upper()}" in self._can), None)
        if (kind or older) is None or self._ftp.sock is None:
            return None
        self._as_bytes()
        self._ftp.sock.settimeout(_RECKONING)
        try:
            if kind is None:
                said = self._said(f"X{str(older).upper()} {_out(path)}")
                return reckoned_of(str(older), said.split()[-1])
            self._said(f"OPTS HASH {offered[kind]}")
            told, span, digest = self._said(f"HASH {_out(path)}").splitlines()[-1].split()[1:4]
            return reckoned_of(told, digest) if span.startswith("0-") else None
        except (ConnectionError, TimeoutError):
            raise
        except (OSError, ValueError, IndexError):
            return None
        finally:
            self._ftp.sock.settimeout(_TIMEOUT)

    def free(self, folder: str) -> int | None:
        """Ask in the one way that some servers have."""
        if "AVBL" not in self._can:
            return None
        with suppress(OSError, ValueError, IndexError):
            return int(self._said(f"AVBL {_out(folder)}").split()[1])
        return None

    def close(self) -> None:
        """Say good-bye."""
        with _spoken():
            self._ftp.quit()

    def abort(self) -> None:
        """Cut the connection."""
        sock = self._ftp.sock
        if sock is not None:
            with suppress(OSError):
                sock.shutdown(socket.SHUT_RDWR)
            with suppress(OSError):
                sock.close()


class _Data:
    """A file's bytes on a connection of their own."""

    def __init__(self, ftp: ftplib.FTP, command: str, rest: int | None) -> None:
        self._ftp = ftp
        self._sock = ftp.transfercmd(command, rest)
        self._sock.settimeout(_TIMEOUT)

    def _end(self) -> None:
        if isinstance(self._sock, ssl.SSLSocket):
            with suppress(OSError):
                self._sock.unwrap()
        self._sock.close()


class _Source(_Data):
    _ended = False

    def read(self, count: int) -> bytes:
        with _spoken():
            found = self._sock.recv(min(count, _BLOCK))
            if not found and not self._ended:
                self._ended = True
                self._end()
                self._ftp.voidresp()
            return found

    def close(self) -> None:
        """Let go; one that was not read to its end is cut, and the server says what it likes."""
        if self._ended:
            return
        self._ended = True
        with suppress(OSError):
            self._sock.settimeout(0.5)
            while self._sock.recv(_BLOCK):  # the last bytes, mostly none
                break
        self._sock.close()
        with _spoken(), suppress(ftplib.error_temp, ftplib.error_perm):
            self._ftp.voidresp()


class _Sink(_Data):
    def __init__(self, ftp: ftplib.FTP, command: str, rest: int | None) -> None:
        super().__init__(ftp, command, rest)
        self._sock.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, _HELD)

    def write(self, data: bytes) -> None:
        with _spoken():
            for at in range(0, len(data), _SENT):  # the time limit is for each
                self._sock.sendall(data[at : at + _SENT])

    def close(self) -> None:
        control = self._ftp.sock
        with _spoken():
            if control is not None:  # what the system still holds goes first, over slow lines too
                control.settimeout(_LAST)
            self._end()
            self._ftp.voidresp()
            if control is not None:
                control.settimeout(_TIMEOUT)

    def drop(self) -> None:
        self._sock.close()
