"""Files at a place that other computers hold: vouched for by a digest from there, or by size.

Whoever sent a file has it still. Where its server reckons a digest that is the one of what was
sent, nobody need read it back; where the user is content with less, its size must do.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from typing import Literal

from clever_ferry.cargo import DigestedPayload, digest_of
from clever_ferry.errors import FerryError
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.replacing import Staged
from clever_ferry.moving.shore import Reckoned
from clever_ferry.payload import Payload
from clever_ferry.tree import FileInfo

__all__ = ["Compared", "VouchedFiles", "holds_just", "vouch"]

Compared = Literal["read", "digest", "size"]
"""By what files were compared with what was sent: all were read back; some or all by digests that
their server has reckoned; or some by their sizes alone."""


class VouchedFiles(FolderFiles):
    """A folder some of whose files are as they were sent, and so are read from here."""

    def __init__(self, files: FolderFiles, sent: Mapping[str, Payload]) -> None:
        super().__init__(files.root, fold=files.fold, closed=files.closed, shore=files.shore)
        self._sent = sent

    def payload(self, path: str) -> Payload:
        """Return a file's bytes."""
        return self._sent.get(path) or super().payload(path)

    def listed(self, info: FileInfo) -> Payload:
        """Return the bytes of a file that was listed."""
        return self._sent.get(info.path) or super().listed(info)


def vouch(
    files: FolderFiles, staged: Sequence[Staged], *, quick: bool
) -> tuple[FolderFiles, Compared]:
    """Return a folder with the files that need not be read back, and by what they were compared.

    Only `quick` has a size be enough, and never where the server's digest is another one.
    """
    if not files.shore.capabilities.shared:
        return files, "read"
    sent: dict[str, Payload] = {}
    how: set[Compared] = set()
    for item in staged:
        info, real = files.info(item.path), files.find(item.path)
        if item.payload is None or info is None or real is None or info.size != item.size:
            continue
        reckoned = files.shore.reckoned(real)
        if reckoned is None and not quick:
            continue
        if _is_still(item.payload, item.digest, reckoned):
            sent[item.path] = item.payload
            how.add("size" if reckoned is None else "digest")
    weakest: tuple[Compared, ...] = ("size", "digest")
    return VouchedFiles(files, sent), next((one for one in weakest if one in how), "read")


def _is_still(payload: Payload, digest: str | None, reckoned: Reckoned | None) -> bool:
    """Tell whether what was sent is still what it was, and what a server says of it."""
    again = DigestedPayload(payload)
    running = hashlib.new(reckoned.kind, usedforsecurity=False) if reckoned is not None else None
    try:
        for chunk in again.chunks():
            if running is not None:
                running.update(chunk)
    except (FerryError, OSError):
        return False  # such as of a container of which the rest stood at the target
    same = running is None or reckoned is None or running.hexdigest() == reckoned.digest
    return same and again.digest == digest


def holds_just(files: FolderFiles, path: str, digest: str, held: Payload) -> bool:
    """Tell whether a file has the content with this digest, of which `held` are the bytes.

    Raises an error of reading where it has to be read and can't be.
    """
    real = files.find(path) if files.shore.capabilities.shared else None
    if real is not None:
        reckoned = files.shore.reckoned(real)
        if reckoned is not None and _is_still(held, digest, reckoned):
            return True
    return digest_of(files.payload(path)) == digest
