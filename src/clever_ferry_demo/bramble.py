"""Bramble Hosting: a made-up hoster of game servers, whose file service is SFTP on loopback."""

from __future__ import annotations

import os
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import paramiko

__all__ = ["PASSWORD", "bramble"]

USER = "wren"
PASSWORD = "salt-and-glass"


class _Account(paramiko.ServerInterface):
    """Who may come in."""

    def check_auth_password(self, username: str, password: str) -> int:
        right = (username, password) == (USER, PASSWORD)
        return paramiko.common.AUTH_SUCCESSFUL if right else paramiko.common.AUTH_FAILED

    def get_allowed_auths(self, username: str) -> str:
        return "password"

    def check_channel_request(self, kind: str, chanid: int) -> int:
        if kind == "session":
            return paramiko.common.OPEN_SUCCEEDED
        return paramiko.common.OPEN_FAILED_ADMINISTRATIVELY_PROHIBITED


def _told(error: OSError) -> int:
    return paramiko.SFTPServer.convert_errno(error.errno or 0)


class _Files(paramiko.SFTPServerInterface):
    """One folder, which is all that the account sees."""

    def __init__(self, server: paramiko.ServerInterface, root: Path) -> None:
        super().__init__(server)
        self._root = root

    def _real(self, path: str) -> str:
        return f"{self._root}{self.canonicalize(path)}"

    def _done(self, step: Callable[..., Any], *arguments: Any) -> int:
        try:
            step(*arguments)
        except OSError as error:
            return _told(error)
        return int(paramiko.sftp.SFTP_OK)

    def list_folder(self, path: str) -> list[paramiko.SFTPAttributes] | int:
        real = self._real(path)
        try:
            return [
                paramiko.SFTPAttributes.from_stat(os.lstat(f"{real}/{name}"), name)
                for name in os.listdir(real)  # noqa: PTH208
            ]
        except OSError as error:
            return _told(error)

    def lstat(self, path: str) -> paramiko.SFTPAttributes | int:
        try:
            return paramiko.SFTPAttributes.from_stat(os.lstat(self._real(path)))
        except OSError as error:
            return _told(error)

    stat = lstat

    def open(
        self, path: str, flags: int, attr: paramiko.SFTPAttributes
    ) -> paramiko.SFTPHandle | int:
        try:
            handle = os.open(self._real(path), flags | getattr(os, "O_BINARY", 0), 0o644)
        except OSError as error:
            return _told(error)
        found = paramiko.SFTPHandle(flags)
        mode = "r+b" if flags & os.O_RDWR else "wb" if flags & os.O_WRONLY else "rb"
        file = os.fdopen(handle, mode)
        found.readfile = found.writefile = file  # type: ignore[attr-defined]
        return found

    def remove(self, path: str) -> int:
        return self._done(os.remove, self._real(path))

    def posix_rename(self, oldpath: str, newpath: str) -> int:
        return self._done(os.replace, self._real(oldpath), self._real(newpath))

    def mkdir(self, path: str, attr: paramiko.SFTPAttributes) -> int:
        return self._done(os.mkdir, self._real(path))

    def rmdir(self, path: str) -> int:
        return self._done(os.rmdir, self._real(path))

    def chattr(self, path: str, attr: paramiko.SFTPAttributes) -> int:
        return self._done(paramiko.SFTPServer.set_file_attr, self._real(path), attr)


@contextmanager
def bramble(root: Path) -> Iterator[tuple[str, str]]:
    """Serve a folder while the block runs; yields its address, and its key's fingerprint."""
    import base64
    import hashlib

    key = paramiko.ECDSAKey.generate()
    door = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        with suppress(OSError):
            while True:
                transport = paramiko.Transport(door.accept()[0])
                transport.add_server_key(key)
                transport.set_subsystem_handler("sftp", paramiko.SFTPServer, _Files, root=root)
                with suppress(paramiko.SSHException, EOFError):
                    transport.start_server(event=threading.Event(), server=_Account())

    threading.Thread(target=serve, daemon=True).start()
    digest = base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")
    try:
        yield f"sftp://{USER}@127.0.0.1:{door.getsockname()[1]}", f"SHA256:{digest}"
    finally:
        door.close()
