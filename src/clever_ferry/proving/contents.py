"""What a save holds, whatever edition's wrapping is on it: digests of its pieces' payloads."""

from __future__ import annotations

from collections.abc import Mapping

from clever_ferry.cargo import Save, digest_of, new_digest
from clever_ferry.errors import FerryError

__all__ = ["content_of", "contents_of", "sum_of"]


def contents_of(save: Save) -> dict[object, str]:
    """Return each piece's digest, without any edition's wrapping; '' where it can't be read."""
    found: dict[object, str] = {}
    for piece in save.pieces:
        if piece.describes:
            continue
        try:
            found[piece.key] = "" if piece.problem else digest_of(piece.payload)
        except (FerryError, OSError):
            found[piece.key] = ""
    return found


def content_of(save: Save) -> str:
    """Return one digest of all that a save holds; '' where some of it can't be read."""
    return sum_of(contents_of(save))


def sum_of(contents: Mapping[object, str]) -> str:
    """Return one digest of pieces' digests; '' where there is none, or one is missing."""
    if not contents or "" in contents.values():
        return ""
    running = new_digest()
    for line in sorted(f"{key!r} {digest}" for key, digest in contents.items()):
        running.update(f"{line}\n".encode())
    return running.hexdigest()
