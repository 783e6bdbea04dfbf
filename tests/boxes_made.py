"""Boxes as nobody has them: by a seed a build, a writer, and a reader that takes no other."""

from __future__ import annotations

import zlib
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from typing import Any

__all__ = ["MadeBox"]

Entries = dict[str, bytes]
_WIDTHS = {"stamp": 8, "flag": 2, "check": 4}


@dataclass
class MadeBox:
    """An index over blobs, or one file with a table: how it is built follows from the seed."""

    seed: int
    order: list[str] = field(init=False)

    def __post_init__(self) -> None:
        self.dice = dice = Random(self.seed)
        self.bytes_order: Any = dice.choice(["little", "little", "big"])
        self.indexed = dice.random() < 0.6
        self.order = ["id", "name", "size", "stamp"] if self.indexed else ["name", "at", "size"]
        dice.shuffle(self.order)
        for more in ("flag", *(["check"] if self.indexed else [])):
            if dice.random() < 0.5:
                self.order.insert(dice.randrange(len(self.order) + 1), more)
        self.encoding = dice.choice(["utf-8", "utf-8", "utf-16-le"])
        self.filled = dice.choice([0, 0, 24, 32]) if self.encoding == "utf-8" else 0
        self.id_size, self.length = dice.choice([8, 10, 12, 16]), dice.choice([1, 2, 4])
        self.sized, self.counted = dice.choice([4, 4, 8]), dice.choice([2, 4])
        self.frame = dice.choice([0, 0, 2, 4]) if self.indexed else 0
        self.magic = dice.choice([b"HOLD", b"CRATE\0", b"TRUNK1"]) + bytes(
            [dice.randrange(1, 9), 0]
        )
        # A flag that is a letter, right before a name, nobody could tell from it.
        self.flag, self.between = dice.randrange(1, 32), dice.choice([b"", self._number(7, 4)])
        self.sum = dice.choice(["", "crc32", "adler32"])
        self.align, self.here = dice.choice([1, 1, 16, 64]), dice.random() < 0.3

    def _number(self, value: int, width: int) -> bytes:
        return value.to_bytes(width, self.bytes_order)

    def _value(self, raw: bytes, at: int, width: int) -> tuple[int, int]:
        assert at + width <= len(raw), "it ends too soon"
        return int.from_bytes(raw[at : at + width], self.bytes_order), at + width

    def _row(self, name: str, ident: bytes, data: bytes, stamp: int, at: int) -> bytes:
        text = name.encode(self.encoding)
        letters = len(text) // (1 if self.encoding == "utf-8" else 2)
        told = text.ljust(self.filled, b"\0") if self.filled else self._number(letters, self.length)
        values = {"size": len(data), "at": at, "stamp": stamp // 10**6, "flag": self.flag,
                  "check": zlib.crc32(data)}  # fmt: skip
        parts = {one: self._number(value, _WIDTHS.get(one, self.sized))
                 for one, value in values.items()}  # fmt: skip
        parts |= {"id": ident, "name": told if self.filled else told + text}
        row = b"".join(parts[one] for one in self.order)
        return self._number(len(row), self.frame) + row if self.frame else row

    def write(self, folder: Path, entries: Entries, now: int) -> None:
        """Write all entries; each was changed some seconds before the one in front of it."""
        folder.mkdir()
        idents = [self.dice.randbytes(self.id_size) for _ in entries]
        rows = list(zip(entries, idents, entries.values(), strict=True))
        head = self.magic + self.between + self._number(len(rows), self.counted)

        def table(places: list[int]) -> bytes:
            return head + b"".join(
                self._row(*row, now - number * 10**9, places[number])
                for number, row in enumerate(rows)
            )

        size = len(table([0] * len(rows)))
        base, body, places = size if self.here else 0, b"", []
        for _, _, data in rows if not self.indexed else []:
            body += bytes(-(size + len(body) - base) % self.align)
            places.append(size + len(body) - base)
            body += data
        raw = table(places or [0] * len(rows)) + body
        (folder / "hold.idx").write_bytes(raw + self._sum(raw))
        for _, ident, data in rows if self.indexed else []:
            (folder / f"{ident.hex()}.blob").write_bytes(data)

    def _sum(self, raw: bytes) -> bytes:
        return self._number(getattr(zlib, self.sum)(raw), 4) if self.sum else b""

    def read(self, folder: Path) -> Entries:
        """Read all entries; whatever is out of order ends in an AssertionError."""
        raw = (folder / "hold.idx").read_bytes()
        if self.sum:
            raw, told = raw[:-4], raw[-4:]
            assert told == self._sum(raw), "its checksum"
        at = len(self.magic + self.between)
        assert raw[:at] == self.magic + self.between, "its front"
        count, at = self._value(raw, at, self.counted)
        rows = []
        for _ in range(count):
            length, at = self._value(raw, at, self.frame) if self.frame else (0, at)
            end = at + length
            row, at = self._read_row(raw, at)
            assert not self.frame or at == end, "a record's length"
            rows.append(row)
        found, used, base = Entries(), {"hold.idx"}, at if self.here else 0
        for row in rows:
            assert row.get("flag", self.flag) == self.flag, "a flag"
            assert 10**12 < row.get("stamp", 2 * 10**12) < 3 * 10**12, "a time"
            if self.indexed:
                used.add(blob := f"{row['id'].hex()}.blob")
                data = (folder / blob).read_bytes()
            else:
                assert row["at"] % self.align == 0, "an offset"
                data = raw[row["at"] + base :][: row["size"]]
            assert len(data) == row["size"], "a size"
            assert row.get("check", zlib.crc32(data)) == zlib.crc32(data), "a blob's checksum"
            assert row["name"] not in found, "two of one name"
            found[row["name"]] = data
        assert {path.name for path in folder.iterdir()} == used, "a stray blob"
        return found

    def _read_row(self, raw: bytes, at: int) -> tuple[dict[str, Any], int]:
        row: dict[str, Any] = {}
        for one in self.order:
            if one == "id":
                row[one], at = raw[at : at + self.id_size], at + self.id_size
            elif one == "name" and self.filled:
                row[one] = raw[at : at + self.filled].rstrip(b"\0").decode()
                at += self.filled
            elif one == "name":
                letters, at = self._value(raw, at, self.length)
                size = letters * (1 if self.encoding == "utf-8" else 2)
                row[one], at = raw[at : at + size].decode(self.encoding), at + size
            else:
                row[one], at = self._value(raw, at, _WIDTHS.get(one, self.sized))
        return row, at
