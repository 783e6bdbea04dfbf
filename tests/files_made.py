"""Saves' files as nobody has them: by a seed a build, a writer, and a reader of no other."""

from __future__ import annotations

import base64
import bz2
import gzip
import hashlib
import lzma
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from random import Random
from typing import Any

__all__ = ["MadeFile"]

_WIDTHS = {"size": 4, "packed": 4, "sum": 4, "stamp": 8, "slot": 4, "account": 8, "flag": 2,
           "spare": 6}  # fmt: skip
_SUMS: dict[str, Callable[[bytes], int]] = {
    "crc32": zlib.crc32, "adler32": zlib.adler32, "sum": lambda data: sum(data) & 0xFFFF_FFFF,
    "md5": lambda data: int.from_bytes(hashlib.md5(data).digest()),
}  # fmt: skip


_PACKERS: dict[str, tuple[Callable[[bytes], bytes], Callable[[bytes], bytes]]] = {
    "bzip2": (bz2.compress, bz2.decompress), "lzma": (lzma.compress, lzma.decompress),
    "hex": (lambda data: data.hex().encode(), lambda data: bytes.fromhex(data.decode())),
}  # fmt: skip


@dataclass
class MadeFile:
    """A front, packed or turned bytes, perhaps a sum behind: how it is built follows from the seed.

    The account is the name of the folder that the files are in.
    """

    seed: int
    account: int = 76_120_451_883_201
    seconds: bool = False
    """Whether times are whole seconds in four bytes."""

    def __post_init__(self) -> None:
        self.dice = dice = Random(self.seed)
        self.bytes_order: Any = dice.choice(["little", "little", "big"])
        every = ["size", "packed", "sum", "stamp", "slot", "account", "flag", "spare"]
        self.order = dice.sample(every, dice.randrange(0, 7))
        self.magic = dice.choice([b"REEF", b"\x89KELP", b"SLP1", b"", b"shoal\0"])
        if self.magic and dice.random() < 0.6:
            self.magic += self._number(dice.randrange(1, 60), dice.choice([1, 2, 4]))
        self.packing = dice.choice(["none", "zlib", "deflate", "gzip", "base64", "xor", "xor zlib"])
        self.key = dice.randbytes(dice.choice([1, 4, 5, 16]))
        self.summed, self.sum_of = (
            dice.choice(["crc32", "adler32"]),
            dice.choice(["plain", "packed"]),
        )
        self.tail = dice.choice(["", "", "crc32", "adler32"])
        self.pattern = dice.choice(["{}.reef", "isle{}.sav", "slot_{:02}.dat", "Save {}.bin",
                                    "{:03}/world.sav", "keep-{}-a.ark"])  # fmt: skip
        self.less, self.flag = dice.choice([0, 0, 1]), dice.randrange(1, 200)
        if self.seed % 3 == 2:
            self.packing = dice.choice([self.packing, "bzip2", "lzma", "size zlib", "hex"])
            self.summed = dice.choice(list(_SUMS))
            self.sum_of = dice.choice(["plain", "packed", "onward", "whole"])
            self.seconds = dice.random() < 0.5

    def _width(self, name: str) -> int:
        if name == "sum":
            return 16 if self.summed == "md5" else 4
        return 4 if name == "stamp" and self.seconds else _WIDTHS[name]

    def _spelled(self, name: str, value: int) -> bytes:
        if name == "sum" and self.summed == "md5":
            return value.to_bytes(16)
        return self._number(value, self._width(name))

    def _summed(self, plain: bytes, packed: bytes, front: bytes, values: dict[str, int]) -> int:
        """Return the sum that stands in a front of which all else is known."""
        at = self.order.index("sum")
        parts = [self._spelled(one, values[one]) if one != "sum" else bytes(self._width(one))
                 for one in self.order]  # fmt: skip
        spans = {"plain": plain, "packed": packed, "onward": b"".join(parts[at + 1 :]) + packed,
                 "whole": front + b"".join(parts) + packed}  # fmt: skip
        return _SUMS[self.summed](spans[self.sum_of])

    def _number(self, value: int, width: int) -> bytes:
        return value.to_bytes(width, self.bytes_order)

    def _turn(self, data: bytes) -> bytes:
        return bytes(byte ^ self.key[at % len(self.key)] for at, byte in enumerate(data))

    def _pack(self, data: bytes) -> bytes:
        if self.packing.endswith("zlib"):
            front = self._number(len(data), 4) if self.packing.startswith("size") else b""
            data = front + zlib.compress(data)
        elif self.packing in _PACKERS:
            data = _PACKERS[self.packing][0](data)
        elif self.packing == "deflate":
            packer = zlib.compressobj(wbits=-15)
            data = packer.compress(data) + packer.flush()
        elif self.packing == "gzip":
            data = gzip.compress(data, mtime=0)
        elif self.packing == "base64":
            data = base64.b64encode(data)
        return self._turn(data) if self.packing.startswith("xor") else data

    def _unpack(self, data: bytes) -> bytes:
        data = self._turn(data) if self.packing.startswith("xor") else data
        if self.packing.startswith("size"):
            plain = zlib.decompress(data[4:])
            assert data[:4] == self._number(len(plain), 4), "its size"
            return plain
        if self.packing.endswith("zlib"):
            return zlib.decompress(data)
        if self.packing in _PACKERS:
            return _PACKERS[self.packing][1](data)
        if self.packing == "deflate":
            return zlib.decompress(data, -15)
        if self.packing == "gzip":
            return gzip.decompress(data)
        return base64.b64decode(data, validate=True) if self.packing == "base64" else data

    def write(self, folder: Path, saves: dict[int, bytes], now: int) -> None:
        """Write all saves; `now` is in ns."""
        for number, (slot, data) in enumerate(saves.items()):
            packed = self._pack(data)
            stamp = now // 10**6 - 91_337 * number
            values = {
                "size": len(data), "packed": len(packed), "slot": slot - self.less,
                "stamp": stamp // 1000 if self.seconds else stamp, "account": self.account,
                "flag": self.flag, "spare": 0,
            }  # fmt: skip
            if "sum" in self.order:
                values["sum"] = self._summed(data, packed, self.magic, values)
            front = self.magic + b"".join(self._spelled(one, values[one]) for one in self.order)
            raw = front + packed
            raw += self._number(_SUMS[self.tail](raw), 4) if self.tail else b""
            path = folder / self.pattern.format(slot)
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(raw)

    def read(self, folder: Path) -> dict[int, bytes]:
        """Read all saves; whatever is out of order ends in an AssertionError."""
        found = {}
        paths = {self.pattern.format(slot): slot for slot in range(1, 12)}
        for name, slot in paths.items():
            if (folder / name).exists():
                found[slot] = self._read((folder / name).read_bytes(), slot)
        there = {one.relative_to(folder).as_posix() for one in folder.rglob("*") if one.is_file()}
        assert there <= set(paths), "a name"
        return found

    def _read(self, raw: bytes, slot: int) -> bytes:
        if self.tail:
            raw, told = raw[:-4], raw[-4:]
            assert told == self._number(_SUMS[self.tail](raw), 4), "its checksum"
        assert raw.startswith(self.magic), "its front"
        at, values = len(self.magic), {}
        for one in self.order:
            end = at + self._width(one)
            assert end <= len(raw), "it ends too soon"
            way: Any = "big" if end - at == 16 else self.bytes_order
            values[one], at = int.from_bytes(raw[at:end], way), end
        packed = raw[at:]
        try:
            data = self._unpack(packed)
        except (ValueError, OSError, EOFError, zlib.error, lzma.LZMAError) as error:
            raise AssertionError(f"packed otherwise: {error}") from error
        expected = {
            "size": len(data), "packed": len(packed), "slot": slot - self.less,
            "account": self.account, "flag": self.flag, "spare": 0,
        }  # fmt: skip
        if "sum" in self.order:
            expected["sum"] = self._summed(data, packed, self.magic, values)
        for one, value in expected.items():
            assert values.get(one, value) == value, one
        stamp = values.get("stamp", 0) * (1000 if self.seconds else 1)
        assert "stamp" not in values or 10**12 < stamp < 3 * 10**12, "a time"
        return data
