"""Three wrappings: packed twice, a tree of tagged properties, xor with a sum of the plain bytes."""

from __future__ import annotations

import gzip
import lzma
import struct
import zlib
from pathlib import Path
from typing import Any

__all__ = ["Cashbox", "Finch", "Moth"]

Saves = dict[int, tuple[bytes, bytes]]


class Cashbox:
    """`cash_NN.csb`: both sizes, then the world packed twice; the note beside it as it is."""

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        for slot, (world, note) in saves.items():
            once = struct.pack(">I", len(world)) + zlib.compress(world, 9)
            twice = gzip.compress(once, mtime=0)
            head = b"CB" + struct.pack(">II", len(world), len(twice))
            (folder / f"cash_{slot:02}.csb").write_bytes(head + twice)
            (folder / f"cash_{slot:02}.txt").write_bytes(note)

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        found = {}
        for path in sorted(folder.glob("cash_??.csb")):
            raw = path.read_bytes()
            plain, packed = struct.unpack_from(">II", raw, 2)
            assert raw[:2] == b"CB"
            assert packed == len(raw) - 10
            once = gzip.decompress(raw[10:])
            world = zlib.decompress(once[4:])
            assert len(world) == plain == int.from_bytes(once[:4], "big")
            found[int(path.stem[6:])] = (world, path.with_suffix(".txt").read_bytes())
        return found


class Moth:
    """`{slot}.mlp`: the world behind a tree of tagged properties that names its owner."""

    OWNER = "0badc0de-0000-4000-8000-00000000beef"

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        for slot, (world, note) in saves.items():
            owner = bytes.fromhex(cls.OWNER.replace("-", ""))
            inner = cls._leaf("owner", 3, owner) + cls._leaf("depth", 1, struct.pack("<i", -slot))
            tree = cls._leaf("about", 2, inner + b"\0\0") + cls._leaf("odd", 9, b"\1\2\3") + b"\0\0"
            raw = b"MOTH" + tree + zlib.crc32(tree).to_bytes(4, "little") + lzma.compress(world)
            (folder / f"{slot}.mlp").write_bytes(raw)
            (folder / f"{slot}.json").write_bytes(note)

    @staticmethod
    def _leaf(key: str, kind: int, data: bytes) -> bytes:
        return (
            struct.pack("<B", len(key)) + key.encode() + struct.pack("<BH", kind, len(data)) + data
        )

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves; each must be of this owner."""
        found = {}
        for path in sorted(folder.glob("*.mlp")):
            raw = path.read_bytes()
            assert raw[:4] == b"MOTH"
            tree, at = cls._tree(raw, 4)
            assert int.from_bytes(raw[at : at + 4], "little") == zlib.crc32(raw[4:at])
            assert tree["about"]["owner"].hex() == cls.OWNER.replace("-", "")
            assert tree["odd"] == b"\1\2\3"
            note = path.with_suffix(".json").read_bytes()
            found[int(path.stem)] = (lzma.decompress(raw[at + 4 :]), note)
        return found

    @classmethod
    def _tree(cls, raw: bytes, at: int) -> tuple[dict[str, Any], int]:
        found: dict[str, Any] = {}
        while True:
            size = raw[at]
            key, kind = raw[at + 1 : at + 1 + size].decode(), raw[at + 1 + size]
            at += 2 + size
            if kind == 0:
                return found, at
            (length,) = struct.unpack_from("<H", raw, at)
            data = raw[at + 2 : at + 2 + length]
            found[key] = cls._tree(data, 0)[0] if kind == 2 else data
            at += 2 + length


class Finch:
    """`SAVE{slot}.FNC`: a sum of the plain bytes in front of both pieces' bytes, all xor-ed."""

    KEY = b"finch"

    @classmethod
    def _turn(cls, data: bytes) -> bytes:
        return bytes(byte ^ (cls.KEY[at % 5] + at * 7) & 0xFF for at, byte in enumerate(data))

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        for slot, pieces in saves.items():
            for ending, data in zip(("FNC", "INF"), pieces, strict=True):
                plain = struct.pack("<HI", sum(data) & 0xFFFF, len(data)) + data
                (folder / f"SAVE{slot}.{ending}").write_bytes(cls._turn(plain))

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        found = {}
        for path in sorted(folder.glob("SAVE*.FNC")):
            pieces = []
            for ending in (".FNC", ".INF"):
                plain = cls._turn(path.with_suffix(ending).read_bytes())
                total, size = struct.unpack_from("<HI", plain)
                assert size == len(plain) - 6
                assert sum(plain[6:]) & 0xFFFF == total
                pieces.append(plain[6:])
            found[int(path.stem[4:])] = (pieces[0], pieces[1])
        return found
