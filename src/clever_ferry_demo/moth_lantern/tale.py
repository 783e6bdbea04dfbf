"""What a Moth & Lantern save is made of: the tale, and the note that the menu shows."""

from __future__ import annotations

import json
import random
import struct
from dataclasses import dataclass, replace

from clever_ferry_demo.playing import RefusalError

__all__ = ["CHAPTERS", "Tale", "begin", "decode", "play_on", "told"]

CHAPTERS = ("Dusk", "The Moth", "The Stair", "The Lantern", "Dawn")
_HEAD = struct.Struct("<4sHII")


@dataclass(frozen=True)
class Tale:
    """How far a player is in the story."""

    name: str
    seed: int
    page: int = 1
    seconds: int = 120
    version: str = "1.2"

    @property
    def chapter(self) -> str:
        """The chapter that the page is in."""
        return CHAPTERS[min(self.page // 10, len(CHAPTERS) - 1)]

    def encode(self) -> bytes:
        """Return the tale piece: its head, and 200 bytes a page."""
        dice = random.Random(self.seed)
        return _HEAD.pack(b"TALE", 2, self.seed, self.page) + dice.randbytes(200 * self.page)

    def note(self) -> bytes:
        """Return the note piece."""
        note = {
            "name": self.name, "chapter": self.chapter, "page": self.page,
            "seconds": self.seconds, "made_by": self.version,
        }  # fmt: skip
        return json.dumps(note, ensure_ascii=False).encode() + b"\n"


def decode(body: bytes, note_raw: bytes, version: str) -> Tale:
    """Put a save together from its pieces, and refuse what does not belong together."""
    try:
        note = json.loads(note_raw)
        magic, form, seed, page = _HEAD.unpack_from(body)
        name, made_by, seconds = str(note["name"]), str(note["made_by"]), int(note["seconds"])
        noted = int(note["page"])
    except (ValueError, KeyError, TypeError, struct.error):
        raise RefusalError("the tale or its note can't be read") from None
    if (magic, form) != (b"TALE", 2) or body != Tale(name, seed, page).encode():
        raise RefusalError("the tale is not whole")
    if noted != page:
        raise RefusalError(f"the note is of page {noted}, the tale of page {page}")
    if [int(part) for part in made_by.split(".")] > [int(part) for part in version.split(".")]:
        raise RefusalError(f"it was saved by the newer version {made_by}")
    return Tale(name, seed, page, seconds, made_by)


def begin(name: str) -> Tale:
    """Return a tale on its first page."""
    return Tale(name, sum(name.encode()) * 7919 % 100_000)


def play_on(tale: Tale, days: int) -> Tale:
    """Return the tale some evenings later, three pages each."""
    return replace(tale, page=tale.page + 3 * days, seconds=tale.seconds + 1800 * days)


def told(tale: Tale) -> str:
    """Return what the menu says."""
    hours, minutes = divmod(tale.seconds // 60, 60)
    return f"{tale.name}, {tale.chapter}, page {tale.page}, {hours} h {minutes:02} min"
