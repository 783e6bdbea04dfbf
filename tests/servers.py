"""Real servers on loopback, for tests and to try by hand: SFTP, FTP, FTPS, WebDAV."""

from __future__ import annotations

import getpass
import logging
import os
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

SSHD = Path("/usr/sbin/sshd")
PASSWORD = "let me in"


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def _await(port: int) -> None:
    for _ in range(200):
        with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.05)
    raise AssertionError("the server does not come")


def make_key(file: Path) -> Path:
    file.parent.mkdir(parents=True, exist_ok=True)
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", file], check=True)
    return file


@contextmanager
def sftp(work: Path, home: Path, port: int | None = None) -> Iterator[str]:
    """OpenSSH's server, which lets in whoever has the key in `home`; yields `sftp://user@host:port`."""
    port = port or free_port()
    work.mkdir(parents=True, exist_ok=True)
    if not (work / "host").exists():
        make_key(work / "host")
    if not (home / ".ssh/id_ed25519").exists():
        make_key(home / ".ssh/id_ed25519")
    shutil.copy(home / ".ssh/id_ed25519.pub", work / "allowed")
    with suppress(PermissionError):  # only the system's administrator needs it
        Path("/run/sshd").mkdir(exist_ok=True)
    (work / "config").write_text(
        f"ListenAddress 127.0.0.1\nPort {port}\nHostKey {work}/host\nPidFile none\nUsePAM no\n"
        f"AuthorizedKeysFile {work}/allowed\nStrictModes no\nPasswordAuthentication no\n"
        "PermitRootLogin yes\nSubsystem sftp internal-sftp\nMaxStartups 100\nMaxSessions 100\n"
    )
    log = (work / "log").open("ab")
    process = subprocess.Popen([SSHD, "-D", "-e", "-f", work / "config"], stderr=log, stdout=log)
    try:
        _await(port)
        yield f"sftp://{getpass.getuser()}@127.0.0.1:{port}"
    finally:
        process.terminate()
        process.wait()
        log.close()


def certificate(file: Path, days: int = 1) -> Path:
    """Make a certificate for this computer, with its key, in one file; -1: expired."""
    from datetime import UTC, datetime, timedelta
    from ipaddress import ip_address

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.x509.oid import NameOID

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "127.0.0.1")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=3)).not_valid_after(now + timedelta(days=days))
        .add_extension(
            x509.SubjectAlternativeName([x509.IPAddress(ip_address("127.0.0.1"))]), critical=False
        )
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    file.write_bytes(
        key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8,
            serialization.NoEncryption(),
        ) + made.public_bytes(serialization.Encoding.PEM)
    )  # fmt: skip
    return file


@contextmanager
def ftp(
    root: Path, *, tls: Path | None = None, login: bool = True, hidden: tuple[str, ...] = (),
    replaces: bool = True, implicit: bool = False, room: int | None = None,
) -> Iterator[str]:  # fmt: skip
    """pyftpdlib, in a thread; `hidden` are commands that it does not know; yields its address.

    With `room`, its disk is full once that many bytes were written.
    """
    from pyftpdlib.authorizers import DummyAuthorizer
    from pyftpdlib.filesystems import AbstractedFS
    from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
    from pyftpdlib.ioloop import IOLoop
    from pyftpdlib.servers import FTPServer

    logging.getLogger("pyftpdlib").setLevel(logging.CRITICAL)

    class Files(AbstractedFS):  # type: ignore[misc]
        def rename(self, src: str, dst: str) -> None:
            if not replaces and Path(dst).exists():
                raise OSError(17, "File exists")
            super().rename(src, dst)

        def open(self, filename: str, mode: str) -> Any:
            file = super().open(filename, mode)
            return _Filling(file, written) if room is not None and "r" not in mode else file

    class _Filling:
        def __init__(self, file: Any, written: list[int]) -> None:
            self._file, self._written = file, written

        def __getattr__(self, name: str) -> Any:
            return getattr(self._file, name)

        def write(self, data: bytes) -> None:
            self._written.append(len(data))
            if sum(self._written) > (room or 0):
                raise OSError(28, "No space left on device")
            self._file.write(data)

    written: list[int] = []
    base: Any = TLS_FTPHandler if tls is not None else FTPHandler

    class Handler(base):  # type: ignore[misc]
        abstracted_fs = Files
        authorizer = DummyAuthorizer()
        auth_failed_timeout = 0

        def handle(self) -> None:
            if implicit:
                self.secure_connection(self.get_ssl_context())
            super().handle()

    Handler.proto_cmds = {k: v for k, v in base.proto_cmds.items() if k not in hidden}
    if tls is not None:
        Handler.certfile = str(tls)
    if login:
        Handler.authorizer.add_user("player", PASSWORD, str(root), perm="elradfmwMT")
    else:
        Handler.authorizer.add_anonymous(str(root), perm="elradfmwMT")
    server = FTPServer(("127.0.0.1", 0), Handler, ioloop=IOLoop())
    port = server.socket.getsockname()[1]
    thread = threading.Thread(target=server.serve_forever, kwargs={"timeout": 0.05}, daemon=True)
    thread.start()
    scheme = "ftps" if tls is not None else "ftp"
    try:
        yield f"{scheme}://{'player@' if login else ''}127.0.0.1:{port}"
    finally:
        server.close_all()


PROFTPD = Path("/usr/sbin/proftpd")
_PROFTPD = """
ModulePath /usr/lib/proftpd
LoadModule mod_digest.c
LoadModule mod_sftp.c
ServerType standalone
ServerName bramble
DefaultAddress 127.0.0.1
UseIPv6 off
UseReverseDNS off
Port {port}
PidFile {work}/pid
ScoreboardFile {work}/score
SystemLog {work}/log
TransferLog {work}/sent
DelayEngine off
<Global>
User {user}
Group {group}
RootRevoke off
RootLogin on
RequireValidShell off
AuthPAM off
AuthOrder mod_auth_file.c
AuthUserFile {work}/users
DigestEngine {digests}
{more}
AllowOverwrite on
AllowStoreRestart on
</Global>
<VirtualHost 127.0.0.1>
Port {second}
SFTPEngine on
SFTPHostKey {work}/host
TransferLog {work}/sent
</VirtualHost>
"""


@contextmanager
def proftpd(work: Path, root: Path, *, old: bool = False) -> Iterator[dict[str, str]]:
    """A server that reckons digests, and wants the password; yields its `ftp` and its `sftp`.

    An `old` one lists for people alone, sets no times and reckons nothing.
    """
    import grp
    import pwd

    port, second = free_port(), free_port()
    user = pwd.getpwuid(os.getuid())
    make_key(work / "host")
    hashed = subprocess.run(
        ["openssl", "passwd", "-6", PASSWORD], check=True, capture_output=True, text=True
    ).stdout.strip()
    users = work / "users"
    users.write_text(f"finch:{hashed}:{user.pw_uid}:{user.pw_gid}::{root}:/bin/sh\n")
    users.chmod(0o600)
    (work / "proftpd.conf").write_text(_PROFTPD.format(
        work=work, port=port, second=second, user=user.pw_name,
        group=grp.getgrgid(user.pw_gid).gr_name, more="FactsAdvertise off" if old else "",
        digests="off" if old else "on",
    ))  # fmt: skip
    log = (work / "out").open("ab")
    process = subprocess.Popen([PROFTPD, "-n", "-c", work / "proftpd.conf"], stderr=log, stdout=log)
    try:
        _await(port)
        _await(second)
        yield {"ftp": f"ftp://finch@127.0.0.1:{port}", "sftp": f"sftp://finch@127.0.0.1:{second}"}
    finally:
        process.terminate()
        process.wait()
        log.close()


class Cut:
    """Between a client and a server: cuts every connection once so many bytes have gone by.

    With `back`, the server can be reached again afterwards, each time for as many bytes once more.
    """

    def __init__(
        self, port: int, after: int | None = None, *, back: bool = True, pause: float = 0.0
    ) -> None:
        self._to, self.after, self.back, self._pause = port, after, back, pause
        self.gone = self.cuts = 0
        self._open: list[socket.socket] = []
        self._door = socket.create_server(("127.0.0.1", 0))
        if pause:  # else the system takes in what is sent before anybody reads it
            self._door.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 16)
        self.port = int(self._door.getsockname()[1])
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with suppress(OSError):
            while True:
                client = self._door.accept()[0]
                if self.cuts and not self.back:
                    client.close()
                    continue
                server = socket.create_connection(("127.0.0.1", self._to))
                self._open += [client, server]
                for one in (client, server):
                    one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                for here, there in ((client, server), (server, client)):
                    threading.Thread(target=self._pass, args=(here, there), daemon=True).start()

    def _pass(self, here: socket.socket, there: socket.socket) -> None:
        with suppress(OSError):
            while data := here.recv(1 << 16):
                time.sleep(self._pause)
                self.gone += len(data)
                if self.after is not None and self.gone > self.after * (self.cuts + 1):
                    self.cuts += 1
                    self.drop()
                    return
                there.sendall(data)
        for one in (here, there):
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)

    def drop(self) -> None:
        """Cut all connections that are open."""
        dropped, self._open = self._open, []
        for one in dropped:
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
            one.close()

    def close(self) -> None:
        self._door.close()
        self.drop()


@contextmanager
def webdav(root: Path, *, tls: Path | None = None) -> Iterator[str]:
    """WsgiDAV on cheroot, in a thread; yields its address."""
    from cheroot import wsgi
    from cheroot.ssl.builtin import BuiltinSSLAdapter
    from wsgidav.wsgidav_app import WsgiDAVApp

    app = WsgiDAVApp({
        "provider_mapping": {"/": str(root)}, "verbose": 0,
        "logging": {"enable": False, "enable_loggers": []},
        "simple_dc": {"user_mapping": {"*": {"player": {"password": PASSWORD}}}},
        "http_authenticator": {"accept_basic": True, "accept_digest": False,
                               "default_to_digest": False},
    })  # fmt: skip
    server = wsgi.Server(("127.0.0.1", 0), app)
    if tls is not None:
        server.ssl_adapter = BuiltinSSLAdapter(str(tls), str(tls))
    server.prepare()
    thread = threading.Thread(target=server.serve, daemon=True)
    thread.start()
    scheme = "webdavs" if tls is not None else "webdav"
    try:
        yield f"{scheme}://player@127.0.0.1:{server.bind_addr[1]}"
    finally:
        server.stop()
