"""Passwords: from a file descriptor, the system's keyring, or the user; kept nowhere else."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import suppress

from clever_ferry.errors import KeyNeededError, WrongUseError
from clever_ferry.links.server import Server

__all__ = ["DESCRIPTOR", "AskPassword", "Secrets"]

DESCRIPTOR = "CFERRY_PASSWORD_FD"
"""The environment's name for the number of a file descriptor with passwords."""
AskPassword = Callable[[str], str]
"""Asks the user for the password of what is named."""
_SERVICE = "cferry"
_MOST = 64 << 10


class Secrets:
    """Where passwords are from. With `keep`, one that works goes into the keyring."""

    def __init__(self, ask: AskPassword | None = None, *, keep: bool = False) -> None:
        self._ask, self._keep = ask, keep
        self._lines: dict[str, str] | None = None
        self._got: dict[str, str] = {}
        self._tries: dict[str, int] = {}

    def password(self, server: Server, *, wrong: str | None = None) -> str:
        """Return the next password to try; raises KeyNeededError where there is none."""
        name = server.url
        if wrong is None and name in self._got:
            return self._got[name]
        count = self._tries[name] = self._tries.get(name, 0) + 1
        ways = (self._given, self._kept, self._asked)
        for number, way in enumerate(ways, 1):
            if number >= count and (found := way(server)) is not None and found != wrong:
                self._tries[name] = number
                self._got[name] = found
                return found
        self._got.pop(name, None)
        raise KeyNeededError(
            f"{name} does not let you in" + (" with that password." if wrong else "."),
            advice=(
                "A key of your agent or a key file in ~/.ssh would do. "
                if server.scheme == "sftp"
                else ""
            )
            + "At a terminal the password is asked for; else give a file descriptor: "
            f"{DESCRIPTOR}=3 3<FILE, with a line `{name} PASSWORD`.",
        )

    def worked(self, server: Server) -> None:
        """Take note that the last password was right."""
        if self._keep and (found := self._got.get(server.url)) is not None:
            import keyring
            from keyring.errors import KeyringError

            try:
                keyring.set_password(_SERVICE, server.url, found)
            except KeyringError as error:
                raise WrongUseError(
                    f"This system has no keyring that works: {error}.",
                    advice="Leave out --keep-password; it is asked for each time then.",
                ) from None
            self._keep = False

    def forget(self, server: Server) -> None:
        """Take a password out of the keyring, if it is there."""
        with suppress(Exception):  # no keyring has none
            import keyring

            keyring.delete_password(_SERVICE, server.url)

    def _given(self, server: Server) -> str | None:
        if self._lines is None:
            self._lines = dict(_given_lines())
        return self._lines.get(server.url)

    def _kept(self, server: Server) -> str | None:
        try:
            import keyring

            return keyring.get_password(_SERVICE, server.url)
        except Exception:  # a keyring of this system that does not work has none
            return None

    def _asked(self, server: Server) -> str | None:
        return self._ask(server.url) if self._ask is not None else None


def _given_lines() -> list[tuple[str, str]]:
    """Read the lines of the descriptor: a server's address, a space, and its password."""
    told = os.environ.pop(DESCRIPTOR, "")  # no program that is started from here has it
    if not told:
        return []
    try:
        with os.fdopen(int(told), "rb") as file:
            text = file.read(_MOST).decode()
    except (OSError, ValueError) as error:
        raise WrongUseError(f"{DESCRIPTOR}={told} can't be read: {error}.") from None
    found = []
    for line in text.splitlines():
        name, space, password = line.partition(" ")
        if name and not (space and password):
            raise WrongUseError(
                f"{DESCRIPTOR}: a line there is no address, a space, and a password."
            )
        if name:
            found.append((name.rstrip("/"), password))
    return found
