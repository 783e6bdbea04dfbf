"""Saltglass as Cobalt Depot sells it: a folder per account, and in it one per world."""

from __future__ import annotations

import os
import re
import secrets
import struct
import zlib
from pathlib import Path

from clever_ferry_demo.saltglass.pieces import RefusalError, World, load_world

__all__ = ["DepotStore"]

_HEAD = struct.Struct("<4sHHQ8sQII")
_FOLDER = re.compile(r"voyage-(\d\d)-([0-9a-f]{16})")
_HEAD_VERSION = 3
_SLOTS = 8


class DepotStore:
    """The saves of one account, as the game itself reads and writes them."""

    title = "Cobalt Depot"
    slots = _SLOTS

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.account = folder.name

    def list(self) -> dict[int, str]:
        """Return every slot's folder; two for one slot are refused."""
        found: dict[int, str] = {}
        for path in sorted(self.folder.iterdir()):
            match = _FOLDER.fullmatch(path.name)
            if not match:
                continue
            slot = int(match[1]) + 1
            if slot in found:
                raise RefusalError(f"slot {slot} is there twice: {found[slot]} and {path.name}")
            found[slot] = path.name
        if found and max(found) > _SLOTS:
            raise RefusalError(f"there are more than {_SLOTS} slots: {found[max(found)]}")
        return found

    def load(self, slot: int) -> World:
        """Read one slot, or refuse."""
        name = self.list().get(slot)
        if name is None:
            raise RefusalError(f"slot {slot} is empty")
        folder = self.folder / name
        for piece in ("world.sgw", "meta.json"):
            if not (folder / piece).is_file():
                raise RefusalError(f"{piece} is missing")
        people = {
            path.stem: path.read_bytes() for path in sorted((folder / "people").glob("*.sgt"))
        }
        body = self._unseal((folder / "world.sgw").read_bytes(), name[-16:])
        return load_world(body, (folder / "meta.json").read_bytes(), people)

    def _unseal(self, data: bytes, world: str) -> bytes:
        if len(data) < _HEAD.size:
            raise RefusalError("world.sgw has no header")
        magic, version, flags, owner, ident, plain, packed, crc = _HEAD.unpack_from(data)
        if magic != b"SGLS":
            raise RefusalError("world.sgw has no header")
        if version > _HEAD_VERSION:
            raise RefusalError(f"world.sgw has the newer header version {version}")
        if flags & ~1:
            raise RefusalError(f"world.sgw has unknown flags {flags:#x}")
        if owner != int(self.account):
            raise RefusalError(f"it belongs to account {owner:09}, not to {self.account}")
        if ident.hex() != world:
            raise RefusalError(f"world.sgw is of world {ident.hex()}, its folder of {world}")
        if packed != len(data) - _HEAD.size:
            raise RefusalError("world.sgw has not the size that its header says")
        try:
            body = zlib.decompress(data[_HEAD.size :])
        except zlib.error:
            raise RefusalError("world.sgw can't be unpacked") from None
        if len(body) != plain or zlib.crc32(body) != crc:
            raise RefusalError("world.sgw has a wrong checksum")
        return body

    def save(self, slot: int, world: World, stamp_ns: int) -> None:
        """Write one slot; a world that is there keeps its identity."""
        name = self.list().get(slot) or f"voyage-{slot - 1:02}-{secrets.token_hex(8)}"
        folder = self.folder / name
        (folder / "people").mkdir(parents=True, exist_ok=True)
        body = world.encode_body()
        packed = zlib.compress(body, 9)
        head = _HEAD.pack(
            b"SGLS", _HEAD_VERSION, 0, int(self.account), bytes.fromhex(name[-16:]),
            len(body), len(packed), zlib.crc32(body),
        )  # fmt: skip
        _write(folder / "world.sgw", head + packed, stamp_ns)
        _write(folder / "meta.json", world.encode_meta(), stamp_ns)
        for old in (folder / "people").glob("*.sgt"):
            old.unlink()
        for one in world.travellers:
            _write(folder / "people" / f"{one.name}.sgt", one.encode(), stamp_ns)
        if not (self.folder / "options.ini").exists():
            _write(self.folder / "options.ini", b"[sound]\nwaves = 7\n", stamp_ns)


def _write(path: Path, data: bytes, stamp_ns: int) -> None:
    path.write_bytes(data)
    os.utime(path, ns=(stamp_ns, stamp_ns))
