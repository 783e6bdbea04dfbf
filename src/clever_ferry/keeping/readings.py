"""What saves said when they were last read, so that what has not changed is not read again."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Any

from msgspec import MsgspecError, Struct, msgpack

from clever_ferry.cargo import new_digest
from clever_ferry.moving.local import LOCAL, LocalShore

__all__ = ["Readings"]


class Readings(Struct, frozen=True):
    """One small file per berth; each may go at any time, and is made again."""

    folder: Path
    shore: LocalShore = LOCAL

    def get(self, name: str, state: bytes) -> Any | None:
        """Return what was kept under a name, if that was in this very state; else None."""
        try:
            raw = (self.folder / name).read_bytes()
            if raw[:32] == state and raw[32:64] == _digest(raw[64:]):
                return msgpack.decode(raw[64:])
        except (OSError, MsgspecError):
            pass  # not kept, or not to be had: it is read anew
        return None

    def keep(self, name: str, state: bytes, value: Any) -> None:
        """Keep plain data under a name, in place of what was there; it is no loss if that fails."""
        with suppress(OSError, OverflowError, UnicodeEncodeError):
            body = msgpack.encode(value)
            self.shore.make_folder(self.folder)
            self.shore.write_synced(self.folder / name, state + _digest(body) + body)


def _digest(data: bytes) -> bytes:
    running = new_digest()
    running.update(data)
    return bytes(running.digest())
