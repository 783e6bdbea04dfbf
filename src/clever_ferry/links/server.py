"""Servers' addresses, such as `sftp://player@host:2222/srv/saltglass`, and paths on them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import PurePosixPath

from msgspec import Struct

from clever_ferry.errors import WrongUseError

__all__ = ["SCHEMES", "LinkPath", "Server", "is_link", "link_at"]

SCHEMES: Mapping[str, int] = {
    "sftp": 22, "ftp": 21, "ftps": 21, "webdav": 80, "webdavs": 443
}  # fmt: skip
"""The services that are known, and the port of each."""
_CHOICES: Mapping[str, tuple[str, ...]] = {
    "sftp": (), "ftp": ("active",), "ftps": ("active", "implicit"), "webdav": (), "webdavs": ()
}  # fmt: skip
"""What can stand behind a `?`."""
_LINK = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*)://")
_WHERE = re.compile(
    r"(?:(?P<user>[^@/?#]+)@)?(?P<host>\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9._-]+)(?::(?P<port>[0-9]{1,5}))?"
)
_USER = re.compile(r"[A-Za-z0-9._~%+@=-]+")
IMPLICIT_PORT = 990
HOME = "~"
"""The first folder of a path that begins where the server puts the user."""


class Server(Struct, frozen=True):
    """A file service, and as whom it is used."""

    scheme: str
    user: str
    """'' for nobody by name."""
    host: str
    port: int
    choices: tuple[str, ...] = ()
    """`active`: FTP's data come from the server; `implicit`: TLS from the first byte."""

    @property
    def name(self) -> str:
        """It, as an address spells it: user, host, and the port where it is not the usual one."""
        from urllib.parse import quote

        who = f"{quote(self.user, safe='~+=')}@" if self.user else ""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{who}{host}{'' if self.port == SCHEMES[self.scheme] else f':{self.port}'}"

    @property
    def url(self) -> str:
        """Its address, without a folder."""
        return f"{self.scheme}://{self.name}"


class LinkPath(PurePosixPath):
    """A path on a server; written out, it is a whole address.

    Its first two parts are the service and the server.
    """

    def __str__(self) -> str:
        return _with_slashes(super().__str__())

    def is_absolute(self) -> bool:
        """Tell whether it is a whole address, and not a piece of one."""
        return is_link(str(self))


def _with_slashes(text: str) -> str:
    scheme, colon, rest = text.partition(":/")
    return f"{scheme}://{rest.lstrip('/')}" if colon and scheme in SCHEMES else text


def is_link(text: str) -> bool:
    """Tell whether a text is meant as the address of a server."""
    return _LINK.match(text) is not None


def link_at(text: str) -> tuple[Server, LinkPath]:
    """Read an address; raises WrongUseError where it is none, or has a password in it.

    `%20` and the like are read as in any address. A path that begins with `/~/` begins in the
    folder where the server puts the user.

    >>> server, path = link_at("sftp://player@den.example:2222/srv/salt%20glass")
    >>> server.port, str(path)
    (2222, 'sftp://player@den.example:2222/srv/salt glass')
    """
    from urllib.parse import unquote  # few commands name a server

    scheme, rest = text.partition("://")[::2]
    scheme = scheme.lower()
    if scheme not in SCHEMES:
        known = ", ".join(f"{one}://" for one in SCHEMES)
        raise WrongUseError(
            f"{scheme}:// is no file service that cferry knows.", details=(f"There are: {known}",)
        )
    where, slash, path = rest.partition("/")
    path, question, after = path.partition("?") if slash else ("", *where.partition("?")[1:])
    where = where.partition("?")[0]
    if ":" in where.rpartition("@")[0]:
        raise WrongUseError(
            "A password must not stand in an address, as addresses are shown and written down.",
            advice="Leave it out: it is asked for, or from the keyring or CFERRY_PASSWORD_FD.",
        )
    found = _WHERE.fullmatch(where)
    if not found or (found["user"] and not _USER.fullmatch(found["user"])):
        raise WrongUseError(
            f"{scheme}://{where} does not say on which server.",
            advice="An address looks like sftp://player@host:2222/srv/saltglass",
        )
    choices = tuple(sorted(filter(None, after.split("&"))))
    unknown = [one for one in choices if one not in _CHOICES[scheme]]
    if unknown or (question and not choices):
        can = ", ".join(_CHOICES[scheme]) or "nothing"
        raise WrongUseError(
            f"{''.join(unknown[:1])!r} means nothing behind the ? of a {scheme}:// address.",
            details=(f"There can stand: {can}.",),
        )
    usual = IMPLICIT_PORT if "implicit" in choices else SCHEMES[scheme]
    port = int(found["port"] or usual)
    if not 0 < port < 65536:
        raise WrongUseError(f"{port} is no port: they go from 1 to 65535.")
    host = found["host"].strip("[]").lower()
    server = Server(scheme, unquote(found["user"] or ""), host, port, choices)
    parts = [unquote(part) for part in path.split("/") if part not in ("", ".")]
    if ".." in parts or any("/" in part or "\0" in part for part in parts):
        raise WrongUseError(f"The folder of {server.url} can't have '..' in it.")
    return server, LinkPath(f"{scheme}:", server.name, *parts)
