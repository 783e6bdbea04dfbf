"""Servers' own keys: shown when they are first met, kept, and held against what comes later."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from clever_ferry.errors import ChoiceNeededError, RefusedError
from clever_ferry.links.server import Server

if TYPE_CHECKING:
    import paramiko

__all__ = ["Confirm", "HostKeys", "fingerprint"]

Confirm = Callable[[str, str], bool]
"""Asks the user, with what is asked and what it is about, whether a key is the right one."""


def fingerprint(key: paramiko.PKey) -> str:
    """Return a key in short, as other programs show it."""
    digest = base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")
    return f"SHA256:{digest}"


class HostKeys:
    """The keys of servers that were met: the tool's own file; the user's is only read."""

    def __init__(self, file: Path, confirm: Confirm | None, trusted: str | None = None) -> None:
        self._file, self._confirm, self._trusted = file, confirm, trusted

    def load(self, client: paramiko.SSHClient, server: Server) -> None:
        """Have a client know the server's keys: those that were kept here, else the user's."""
        users = Path("~/.ssh/known_hosts").expanduser()
        if any(line.split(" ")[0] == _host(server) for line in self._lines()):
            client.load_host_keys(str(self._file))
        elif users.is_file() and self._trusted is None:
            client.load_system_host_keys(str(users))

    def _lines(self) -> list[str]:
        return self._file.read_text("utf-8").splitlines(True) if self._file.is_file() else []

    def first_seen(self, server: Server, key: paramiko.PKey) -> None:
        """Keep a key that the user confirms; raises ChoiceNeededError where nobody does."""
        told = fingerprint(key)
        name = f"{server.host}:{server.port}"
        if self._trusted is not None and self._trusted != told:
            raise RefusedError(
                f"{name} has another key than the one that you trust, so nothing was sent to it.",
                details=(f"It has:    {told}", f"You trust: {self._trusted}"),
                advice="Ask whoever runs the server for its fingerprint.",
            )
        if self._trusted is None:
            asked = f"{name} was never met before. Its key ({key.get_name()}) is {told}."
            if self._confirm is None or not self._confirm(asked, "Is that the server's key?"):
                raise ChoiceNeededError(
                    asked,
                    advice="Compare it with what whoever runs the server says. If it is the same: "
                    f"cferry harbour add NAME {server.url}/FOLDER --trust {told}",
                )
        self._file.parent.mkdir(parents=True, exist_ok=True)
        with self._file.open("a", encoding="utf-8") as file:
            file.write(f"{_host(server)} {key.get_name()} {key.get_base64()}\n")

    def changed(self, server: Server, key: paramiko.PKey) -> RefusedError:
        """Return the refusal of a server whose key is not the one that was kept."""
        return RefusedError(
            f"{server.host}:{server.port} has another key than before, so nothing was sent to it.",
            details=(f"Its key is now {fingerprint(key)}.",),
            advice="It may be another server that poses as this one, or it was set up anew: ask "
            f"whoever runs it. If that key is right: cferry harbour add NAME {server.url}/FOLDER "
            f"--trust {fingerprint(key)}",
        )

    def trust_anew(self, server: Server) -> None:
        """Forget what was kept of a server, as the user names its key."""
        kept = [line for line in self._lines() if line.split(" ")[0] != _host(server)]
        if self._file.is_file():
            self._file.write_text("".join(kept), "utf-8")


def _host(server: Server) -> str:
    """Return a server as lists of keys name it."""
    return server.host if server.port == 22 else f"[{server.host}]:{server.port}"
