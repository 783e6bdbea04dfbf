"""Saltglass for the handheld Pocket Finch: a folder that is copied onto the device."""

from __future__ import annotations

import os
import re
import struct
import zlib
from pathlib import Path

from clever_ferry_demo.saltglass.pieces import RefusalError, World, load_world

__all__ = ["FinchStore"]

_HEAD = struct.Struct("<4sIII")
_FILE = re.compile(r"SG(\d)_(?:(ISLE\.BIN)|(META\.JSN)|([A-Za-z0-9_-]+)\.FLK)")
_SLOTS = 3
_INDEX = "SGINDEX.DAT"


class FinchStore:
    """The saves of one account, as the handheld itself reads and writes them."""

    title = "Pocket Finch"
    slots = _SLOTS

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.account = folder.parent.name

    def _files(self) -> dict[int, list[str]]:
        found: dict[int, list[str]] = {}
        for name in sorted(path.name for path in self.folder.iterdir()):
            if match := _FILE.fullmatch(name):
                found.setdefault(int(match[1]), []).append(name)
            elif name != _INDEX:
                raise RefusalError(f"{name} is no file of the device")
        return found

    def _indexed(self, found: dict[int, list[str]]) -> str:
        lines = [
            f"{slot} {sum((self.folder / name).stat().st_size for name in names)}"
            for slot, names in sorted(found.items())
        ]
        return "\n".join(lines) + "\n"

    def list(self) -> dict[int, str]:
        """Return the slots; an index that does not agree is refused, a missing one is made."""
        found = self._files()
        if found and max(found) > _SLOTS:
            raise RefusalError(f"there are more than {_SLOTS} slots: {max(found)}")
        index = self.folder / _INDEX
        if not index.exists():
            index.write_text(self._indexed(found), "ascii")
        elif index.read_text("ascii") != self._indexed(found):
            raise RefusalError("the index does not agree with the files")
        return {slot: f"SG{slot}" for slot in sorted(found)}

    def load(self, slot: int) -> World:
        """Read one slot, or refuse."""
        if slot not in self.list():
            raise RefusalError(f"slot {slot} is empty")
        names = self._files()[slot]
        for piece in (f"SG{slot}_ISLE.BIN", f"SG{slot}_META.JSN"):
            if piece not in names:
                raise RefusalError(f"{piece} is missing")
        people = {
            name[4:-4]: (self.folder / name).read_bytes() for name in names if name.endswith(".FLK")
        }
        data = (self.folder / f"SG{slot}_ISLE.BIN").read_bytes()
        magic, owner, size, crc = _HEAD.unpack_from(data.ljust(_HEAD.size, b"\0"))
        body = data[_HEAD.size :]
        if magic != b"FNCH" or size != len(body) or crc != zlib.crc32(body):
            raise RefusalError("the island has no header, or a wrong one")
        if owner != int(self.account):
            raise RefusalError(f"it belongs to account {owner:08}, not to {self.account}")
        return load_world(body, (self.folder / f"SG{slot}_META.JSN").read_bytes(), people)

    def save(self, slot: int, world: World, stamp_ns: int) -> None:
        """Write one slot, and the index."""
        self.folder.mkdir(parents=True, exist_ok=True)
        for old in self._files().get(slot, []):
            (self.folder / old).unlink()
        body = world.encode_body()
        head = _HEAD.pack(b"FNCH", int(self.account), len(body), zlib.crc32(body))
        files = {"ISLE.BIN": head + body, "META.JSN": world.encode_meta()}
        files |= {f"{one.name}.FLK": one.encode() for one in world.travellers}
        for ending, data in files.items():
            path = self.folder / f"SG{slot}_{ending}"
            path.write_bytes(data)
            os.utime(path, ns=(stamp_ns, stamp_ns))
        (self.folder / _INDEX).write_text(self._indexed(self._files()), "ascii")
