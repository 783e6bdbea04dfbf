"""Moth & Lantern's three editions, each with a reader as strict as a picky game's."""

from __future__ import annotations

import re
import struct
import zlib
from dataclasses import replace
from pathlib import Path

from clever_ferry_demo.moth_lantern.tale import Tale, decode
from clever_ferry_demo.playing import RefusalError, write

__all__ = ["AnniversaryStore", "ClassicStore", "FinchStore"]

_MARK = b"TALE-FOLLOWS"


class ClassicStore:
    """The old release: the owner's number before each name, an owner's stamp and a table inside."""

    version = "1.2"

    def __init__(self, folder: Path, owner: int) -> None:
        self.folder, self.owner = folder, owner

    def _file(self, slot: str) -> Path:
        return self.folder / f"{self.owner}-tale{int(slot):02}.mth"

    def list(self) -> dict[str, str]:
        """Return the slots; files of another owner are not seen."""
        found = re.compile(rf"{self.owner}-tale(\d\d)\.mth")
        names = sorted(path.name for path in self.folder.glob("*.mth"))
        return {str(int(match[1])): name for name in names if (match := found.fullmatch(name))}

    def load(self, slot: str) -> Tale:
        """Read one slot, or refuse."""
        if slot not in self.list():
            raise RefusalError(f"slot {slot} is empty")
        data = self._file(slot).read_bytes()
        magic, owner, count = struct.unpack_from("<4sQB", data)
        at = 13 + 4 * count
        if magic != b"MOTH" or data[at : at + len(_MARK)] != _MARK:
            raise RefusalError("it has no owner's header")
        if owner != self.owner:
            raise RefusalError(f"it belongs to owner {owner}, not to {self.owner}")
        if count != 3:
            raise RefusalError(f"its table has {count} rows")
        note = self._file(slot).with_suffix(".not")
        if not note.is_file():
            raise RefusalError(f"{note.name} is missing")
        try:
            body = zlib.decompress(data[at + len(_MARK) :])
        except zlib.error:
            raise RefusalError("the tale can't be unpacked") from None
        return decode(body, note.read_bytes(), self.version)

    def save(self, slot: str, tale: Tale, stamp_ns: int) -> None:
        """Write one slot."""
        made = replace(tale, version=self.version)
        rows = struct.pack("<B3I", 3, self.owner % 97, int(slot), 1998)
        head = struct.pack("<4sQ", b"MOTH", self.owner) + rows + _MARK
        write(self._file(slot), head + zlib.compress(made.encode()), stamp_ns)
        write(self._file(slot).with_suffix(".not"), made.note(), stamp_ns)


class AnniversaryStore:
    """The remaster: no header; each saving writes a generation more, and the highest is loaded."""

    version = "1.2"
    _NAME = re.compile(r"lantern-(\d+)\.(\d+)\.tale")

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def _newest(self) -> dict[str, int]:
        found: dict[str, int] = {}
        for path in self.folder.glob("*.tale"):
            if match := self._NAME.fullmatch(path.name):
                found[match[1]] = max(found.get(match[1], 0), int(match[2]))
        return dict(sorted(found.items()))

    def list(self) -> dict[str, str]:
        """Return the slots, each in its newest generation."""
        return {slot: f"lantern-{slot}.{turn}.tale" for slot, turn in self._newest().items()}

    def load(self, slot: str) -> Tale:
        """Read one slot, or refuse."""
        if slot not in self._newest():
            raise RefusalError(f"slot {slot} is empty")
        tale = self.folder / self.list()[slot]
        note = tale.with_suffix(".note")
        if not note.is_file():
            raise RefusalError(f"{note.name} is missing")
        return decode(tale.read_bytes(), note.read_bytes(), self.version)

    def save(self, slot: str, tale: Tale, stamp_ns: int) -> None:
        """Write one generation more, and leave those before."""
        made = replace(tale, version=self.version)
        file = self.folder / f"lantern-{slot}.{self._newest().get(slot, 0) + 1}.tale"
        write(file, made.encode(), stamp_ns)
        write(file.with_suffix(".note"), made.note(), stamp_ns)


class FinchStore:
    """The handheld's: each tale with a slip that states its size, sum, owner and page."""

    version = "1.2"
    largest = 8_000
    _SLIP = struct.Struct("<4sIIIH12s")

    def __init__(self, folder: Path) -> None:
        self.folder, self.account = folder, folder.parent.name

    def list(self) -> dict[str, str]:
        """Return the slots; a name in other letters is no file of the device."""
        for path in self.folder.iterdir():
            if not re.fullmatch(r"ML[1-3]\.(TAL|NOT|SLP)|SYSTEM\.DAT", path.name):
                raise RefusalError(f"{path.name} is no file of the device")
        if not (self.folder / "SYSTEM.DAT").is_file():
            raise RefusalError("SYSTEM.DAT is missing")
        return {path.name[2]: path.name for path in sorted(self.folder.glob("ML?.TAL"))}

    def load(self, slot: str) -> Tale:
        """Read one slot, or refuse."""
        if slot not in self.list():
            raise RefusalError(f"slot {slot} is empty")
        body, note, slip = (
            path.read_bytes() if path.is_file() else None
            for path in (self.folder / f"ML{slot}.{end}" for end in ("TAL", "NOT", "SLP"))
        )
        if body is None or note is None or slip is None:
            raise RefusalError(f"a file of slot {slot} is missing")
        if len(body) > self.largest:
            raise RefusalError(f"the device has no memory for {len(body)} bytes")
        if len(slip) != self._SLIP.size:
            raise RefusalError("the slip has a wrong size")
        magic, owner, size, crc, page, _ = self._SLIP.unpack(slip)
        if magic != b"SLIP" or owner != int(self.account):
            raise RefusalError(f"the slip belongs to {owner:08}, not to {self.account}")
        if (size, crc) != (len(body), zlib.crc32(body)):
            raise RefusalError("the slip does not agree with the tale")
        tale = decode(body, note, self.version)
        if page != tale.page:
            raise RefusalError(f"the slip is of page {page}, the tale of page {tale.page}")
        return tale

    def save(self, slot: str, tale: Tale, stamp_ns: int) -> None:
        """Write one slot."""
        made = replace(tale, version=self.version)
        body = made.encode()
        slip = self._SLIP.pack(b"SLIP", int(self.account), len(body), zlib.crc32(body), made.page,
                               b"FINCH-2.7\0\0\0")  # fmt: skip
        for end, data in (("TAL", body), ("NOT", made.note()), ("SLP", slip)):
            write(self.folder / f"ML{slot}.{end}", data, stamp_ns)
        if not (self.folder / "SYSTEM.DAT").exists():
            write(self.folder / "SYSTEM.DAT", b"FINCH SYSTEM\n", stamp_ns)
