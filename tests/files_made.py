"""Saves' files as nobody has them: by a seed a build, a writer, and a reader of no other."""

from __future__ import annotations

import base64
import gzip
import zlib
from dataclasses import dataclass
from pathlib import Path
from random import Random
from typing import Any

__all__ = ["MadeFile"]

_WIDTHS = {"size": 4, "packed": 4, "sum": 4, "stamp": 8, "slot": 4, "account": 8, "flag": 2,
           "spare": 6}  # fmt: skip
_SUMS = {"crc32": zlib.crc32, "adler32": zlib.adler32}


@dataclass
class MadeFile:
    """A front, packed or turned bytes, perhaps a sum behind: how it is built follows from the seed.

    The account is the name of the folder that the files are in.
    """

    seed: int
    account: int = 76_120_451_883_201

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
        self.summed, self.sum_of = dice.choice(list(_SUMS)), dice.choice(["plain", "packed"])
        self.tail = dice.choice(["", "", "crc32", "adler32"])
        self.pattern = dice.choice(["{}.reef", "isle{}.sav", "slot_{:02}.dat", "Save {}.bin",
                                    "{:03}/world.sav", "keep-{}-a.ark"])  # fmt: skip
        self.less, self.flag = dice.choice([0, 0, 1]), dice.randrange(1, 200)

    def _number(self, value: int, width: int) -> bytes:
        return value.to_bytes(width, self.bytes_order)

    def _turn(self, data: bytes) -> bytes:
        return bytes(byte ^ self.key[at % len(self.key)] for at, byte in enumerate(data))

    def _pack(self, data: bytes) -> bytes:
        if self.packing.endswith("zlib"):
            data = zlib.compress(data)
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
        if self.packing.endswith("zlib"):
            return zlib.decompress(data)
        if self.packing == "deflate":
            return zlib.decompress(data, -15)
        if self.packing == "gzip":
            return gzip.decompress(data)
        return base64.b64decode(data, validate=True) if self.packing == "base64" else data

    def write(self, folder: Path, saves: dict[int, bytes], now: int) -> None:
        """Write all saves; `now` is in ns."""
        for number, (slot, data) in enumerate(saves.items()):
            packed = self._pack(data)
            values = {
                "size": len(data), "packed": len(packed), "stamp": now // 10**6 - 91_337 * number,
                "sum": _SUMS[self.summed](data if self.sum_of == "plain" else packed),
                "slot": slot - self.less, "account": self.account, "flag": self.flag, "spare": 0,
            }  # fmt: skip
            front = self.magic + b"".join(
                self._number(values[one], _WIDTHS[one]) for one in self.order
            )
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
            end = at + _WIDTHS[one]
            assert end <= len(raw), "it ends too soon"
            values[one], at = int.from_bytes(raw[at:end], self.bytes_order), end
        packed = raw[at:]
        try:
            data = self._unpack(packed)
        except (ValueError, OSError, EOFError, zlib.error) as error:
            raise AssertionError(f"packed otherwise: {error}") from error
        expected = {
            "size": len(data), "packed": len(packed), "slot": slot - self.less,
            "sum": _SUMS[self.summed](data if self.sum_of == "plain" else packed),
            "account": self.account, "flag": self.flag, "spare": 0,
        }  # fmt: skip
        for one, value in expected.items():
            assert values.get(one, value) == value, one
        assert 10**12 < values.get("stamp", 2 * 10**12) < 3 * 10**12, "a time"
        return data
