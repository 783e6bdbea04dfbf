"""A moment that the user has marked, before starting a game to see what it writes."""

from __future__ import annotations

import time
from pathlib import Path

from msgspec import Struct

from clever_ferry.errors import NotFoundError
from clever_ferry.moving.local import LOCAL, LocalShore

__all__ = ["Mark"]


class Mark(Struct, frozen=True):
    """One moment in one small file."""

    file: Path
    shore: LocalShore = LOCAL

    def set(self) -> None:
        """Mark this moment."""
        self.shore.make_folder(self.file.parent)
        self.shore.write_synced(self.file, str(time.time_ns()).encode())

    def get(self) -> int:
        """Return the marked moment in ns since 1970; raises NotFoundError where there is none."""
        try:
            return int(self.file.read_bytes()[:30])
        except (OSError, ValueError):
            raise NotFoundError(
                "No moment is marked yet.",
                advice="Say `cferry look --mark`, save in the game, then look again.",
            ) from None
