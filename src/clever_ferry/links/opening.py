"""Links at hand: one shore for each server, made when a place on it is first named."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from clever_ferry.errors import WrongUseError
from clever_ferry.links.server import LinkPath, Server, is_link, link_at
from clever_ferry.moving.files import FolderFiles

if TYPE_CHECKING:
    from clever_ferry.links.secrets import AskPassword, Secrets
    from clever_ferry.links.shore import LinkShore
    from clever_ferry.links.trust import Confirm
    from clever_ferry.links.wire import OpenWire

__all__ = ["Asked", "Links"]


@dataclass(frozen=True)
class Asked:
    """What the user may be asked, by whoever can ask; None: nobody."""

    password: AskPassword | None = None
    confirm: Confirm | None = None


class Links:
    """The servers that were named in this run.

    `known` tells the addresses that were given names: what stands behind their `?` counts for
    every place on that server.
    """

    def __init__(self, keys: Path, asked: Asked, known: Callable[[], list[str]]) -> None:
        self.keys, self._asked, self._known = keys, asked, known
        self._shores: dict[str, LinkShore] = {}

    @cached_property
    def _secrets(self) -> Secrets:
        from clever_ferry.links.secrets import Secrets

        return Secrets(self._asked.password)

    def knows(self, text: str) -> bool:
        """Tell whether a record names a place on a server."""
        return is_link(text)

    def folder(self, text: str) -> FolderFiles:
        """Return a place on a server; nobody is connected to yet. Raises WrongUseError."""
        shore, path = self.shore(text)
        return FolderFiles(path, shore=shore)

    def shore(self, text: str) -> tuple[LinkShore, LinkPath]:
        """Return the shore of an address, and the path on it."""
        server, path = link_at(text)
        shore = self._shore(server)
        shore.enter_at(path)
        return shore, path

    def _shore(self, server: Server) -> LinkShore:
        if server.url not in self._shores:
            from clever_ferry.links.shore import LinkShore

            if not server.choices:
                server = self._with_choices(server)
            self._shores[server.url] = LinkShore(server, self._service(server, self._secrets))
        return self._shores[server.url]

    def _with_choices(self, server: Server) -> Server:
        for text in self._known():
            try:
                other = link_at(text)[0]
            except WrongUseError:
                continue
            if (other.url, other.user) == (server.url, server.user):
                return other
        return server

    def try_in(self, text: str, *, trusted: str | None = None, keep: bool = False) -> LinkShore:
        """Connect to a server anew; a key that the user trusts, and a password, can be kept."""
        from clever_ferry.links.secrets import Secrets
        from clever_ferry.links.shore import LinkShore
        from clever_ferry.links.trust import HostKeys

        server, path = link_at(text)
        secrets = Secrets(self._asked.password, keep=True) if keep else self._secrets
        if trusted is not None:
            HostKeys(self.keys, None).trust_anew(server)
        shore = LinkShore(server, self._service(server, secrets, trusted))
        shore.enter_at(path)
        self._shores[server.url] = shore
        return shore

    def _service(self, server: Server, secrets: Secrets, trusted: str | None = None) -> OpenWire:
        if server.scheme == "sftp":
            from clever_ferry.links.sftp import SftpService
            from clever_ferry.links.trust import HostKeys

            keys = HostKeys(self.keys, self._asked.confirm, trusted)
            return SftpService(server, keys, secrets).connect
        if server.scheme in ("ftp", "ftps"):
            from clever_ferry.links.ftp import FtpService

            return FtpService(server, secrets).connect
        from clever_ferry.links.webdav import DavService

        return DavService(server, secrets).connect

    def forget(self, text: str) -> None:
        """Take a server's password out of the keyring."""
        self._secrets.forget(link_at(text)[0])
