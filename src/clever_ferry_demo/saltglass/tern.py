"""Saltglass as Tern Arcade sells it: everything in a crate, Tern's own kind of box.

The crate's format is described in docs/demo-formats.md.
"""

from __future__ import annotations

import gzip
import os
import re
import secrets
import struct
import zlib
from dataclasses import dataclass, field
from pathlib import Path

from clever_ferry_demo.saltglass.pieces import RefusalError, World, load_world

__all__ = ["Crate", "TernStore"]

_HEAD = struct.Struct("<8sHH6sIQ")
_PART = 32 * 1024
_LEVEL = re.compile(r"isle([1-9]\d?)\.level")
_SLOTS = 10


@dataclass
class Record:
    """One entry of a crate, as its ledger states it."""

    ident: bytes
    stamp: int
    name: str
    data: bytes
    tail: bytes = b""


@dataclass
class Crate:
    """A crate in memory."""

    owner: bytes
    revision: int = 0
    flags: int = 0
    records: list[Record] = field(default_factory=list)

    @classmethod
    def read(cls, folder: Path) -> Crate:
        """Read ledger and blobs; refuse whatever does not agree."""
        try:
            raw = (folder / "hold.ledger").read_bytes()
        except FileNotFoundError:
            raise RefusalError("the ledger is missing") from None
        if len(raw) < _HEAD.size + 4 or zlib.adler32(raw[:-4]) != int.from_bytes(
            raw[-4:], "little"
        ):
            raise RefusalError("the ledger has a wrong checksum")
        magic, version, flags, owner, revision, written = _HEAD.unpack_from(raw)
        if magic != b"TERNHOLD" or version != 1:
            raise RefusalError("the ledger is of another version")
        crate = cls(owner, revision, flags)
        count, at = _varint(raw, _HEAD.size)
        known: set[str] = set()
        for _ in range(count):
            size, at = _varint(raw, at)
            crate.records.append(_read_record(raw[at : at + size], folder, known))
            at += size
        if at != len(raw) - 4:
            raise RefusalError("the ledger has bytes left over")
        names = [record.name for record in crate.records]
        if len(set(names)) != len(names):
            raise RefusalError("the ledger names an entry twice")
        if any(record.stamp > written for record in crate.records):
            raise RefusalError("an entry is newer than the ledger")
        stray = {path.name for path in (folder / "stow").iterdir()} - known
        if stray:
            raise RefusalError(f"the ledger does not know the blob {min(stray)}")
        return crate

    def write(self, folder: Path, now_ms: int) -> None:
        """Write all blobs and the ledger."""
        stow = folder / "stow"
        stow.mkdir(parents=True, exist_ok=True)
        blobs: dict[str, bytes] = {}
        out = bytearray()
        for record in self.records:
            parts = [record.data[at : at + _PART] for at in range(0, len(record.data), _PART)]
            parts = parts or [b""]
            inner = bytearray(record.ident + struct.pack("<Q", record.stamp))
            name = record.name.encode()
            inner += _to_varint(len(name)) + name
            inner += struct.pack("<Q", len(record.data)) + _to_varint(len(parts))
            for number, part in enumerate(parts):
                inner += struct.pack("<II", len(part), zlib.crc32(part))
                blobs[f"{record.ident.hex()}-{number:02}.tern"] = part
            inner += record.tail
            out += _to_varint(len(inner)) + inner
        self.revision += 1
        head = _HEAD.pack(b"TERNHOLD", 1, self.flags, self.owner, self.revision, now_ms)
        raw = head + _to_varint(len(self.records)) + bytes(out)
        raw += zlib.adler32(raw).to_bytes(4, "little")
        for blob, data in blobs.items():
            (stow / blob).write_bytes(data)
        for path in stow.iterdir():
            if path.name not in blobs:
                path.unlink()
        (folder / "hold.ledger").write_bytes(raw)
        for path in (*stow.iterdir(), folder / "hold.ledger"):
            os.utime(path, ns=(now_ms * 1_000_000, now_ms * 1_000_000))

    def put(self, name: str, data: bytes, stamp: int) -> None:
        """Set an entry's bytes; one that is there keeps its identifier."""
        for record in self.records:
            if record.name == name:
                record.data, record.stamp = data, stamp
                return
        self.records.append(Record(secrets.token_bytes(10), stamp, name, data, b"\x01\x00"))


def _read_record(raw: bytes, folder: Path, known: set[str]) -> Record:
    try:
        ident, at = raw[:10], 18
        (stamp,) = struct.unpack_from("<Q", raw, 10)
        size, at = _varint(raw, at)
        name = raw[at : at + size].decode()
        at += size
        (total,) = struct.unpack_from("<Q", raw, at)
        count, at = _varint(raw, at + 8)
        data = b""
        for number in range(count):
            part_size, crc = struct.unpack_from("<II", raw, at)
            at += 8
            blob = f"{ident.hex()}-{number:02}.tern"
            try:
                part = (folder / "stow" / blob).read_bytes()
            except FileNotFoundError:
                raise RefusalError(f"the blob {blob} of {name} is missing") from None
            if len(part) != part_size or zlib.crc32(part) != crc:
                raise RefusalError(f"the blob {blob} of {name} is damaged")
            known.add(blob)
            data += part
    except (struct.error, UnicodeDecodeError, IndexError):
        raise RefusalError("the ledger is damaged") from None
    if len(data) != total:
        raise RefusalError(f"{name} has not the size that the ledger says")
    return Record(ident, stamp, name, data, raw[at:])


def _varint(raw: bytes, at: int) -> tuple[int, int]:
    value = shift = 0
    while True:
        if at >= len(raw):
            raise RefusalError("the ledger is damaged")
        value |= (raw[at] & 0x7F) << shift
        shift += 7
        at += 1
        if not raw[at - 1] & 0x80:
            return value, at


def _to_varint(value: int) -> bytes:
    out = bytearray()
    while value > 0x7F:
        out.append(value & 0x7F | 0x80)
        value >>= 7
    out.append(value)
    return bytes(out)


class TernStore:
    """The saves of one account, as the game itself reads and writes them."""

    title = "Tern Arcade"
    slots = _SLOTS

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.account = folder.parent.name

    def crate(self) -> Crate:
        """Read the account's crate, or refuse."""
        crate = Crate.read(self.folder)
        if crate.owner.hex() != self.account:
            raise RefusalError(f"the crate belongs to {crate.owner.hex()}, not to {self.account}")
        return crate

    def list(self) -> dict[int, str]:
        """Return every slot's level entry."""
        names = {record.name for record in self.crate().records}
        found = {int(match[1]): name for name in names if (match := _LEVEL.fullmatch(name))}
        if found and max(found) > _SLOTS:
            raise RefusalError(f"there are more than {_SLOTS} slots")
        return dict(sorted(found.items()))

    def load(self, slot: int) -> World:
        """Read one slot, or refuse."""
        entries = {record.name: record.data for record in self.crate().records}
        level, about = f"isle{slot}.level", f"isle{slot}.about"
        if level not in entries:
            raise RefusalError(f"slot {slot} is empty")
        if about not in entries:
            raise RefusalError(f"{about} is missing")
        try:
            body = gzip.decompress(entries[level])
        except (OSError, EOFError, zlib.error):
            raise RefusalError(f"{level} can't be unpacked") from None
        start = f"isle{slot}.folk."
        people = {
            name.removeprefix(start): data
            for name, data in entries.items()
            if name.startswith(start)
        }
        return load_world(body, entries[about], people)

    def save(self, slot: int, world: World, stamp_ns: int) -> None:
        """Write one slot."""
        stamp = stamp_ns // 1_000_000
        there = (self.folder / "hold.ledger").exists()
        crate = self.crate() if there else Crate(bytes.fromhex(self.account))
        start = f"isle{slot}."
        keep = {
            f"{start}level",
            f"{start}about",
            *(f"{start}folk.{t.name}" for t in world.travellers),
        }
        crate.records = [
            record
            for record in crate.records
            if not record.name.startswith(start) or record.name in keep
        ]
        crate.put(f"{start}level", gzip.compress(world.encode_body(), 6, mtime=0), stamp)
        crate.put(f"{start}about", world.encode_meta(), stamp)
        for one in world.travellers:
            crate.put(f"{start}folk.{one.name}", one.encode(), stamp)
        if all(record.name != "settings" for record in crate.records):
            crate.put("settings", b"[sound]\nwaves = 4\n", stamp)
        crate.write(self.folder, max([stamp, *(record.stamp for record in crate.records)]))
