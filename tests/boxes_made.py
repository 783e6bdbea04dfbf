"""Boxes as nobody has them: by a seed a build, a writer, and a reader that takes no other."""

from __future__ import annotations

import hashlib
import sqlite3
import zlib
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from typing import Any

__all__ = ["MadeBook", "MadeBox"]

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


SUMS: dict[str, Callable[[bytes], object]] = {
    "size": len, "crc": zlib.crc32, "hex": lambda data: f"{zlib.crc32(data):08x}",
    "upper": lambda data: f"{zlib.crc32(data):08X}", "md5": lambda data: hashlib.md5(data).digest(),
    "sha": lambda data: hashlib.sha256(data).hexdigest(),
}  # fmt: skip
TIMES = {"s": 10**9, "ms": 10**6, "ns": 1}


@dataclass
class MadeBook:
    """A database with a row for each entry, perhaps one in a further table, and a total."""

    seed: int

    def __post_init__(self) -> None:
        self.dice = dice = Random(self.seed)
        self.table, self.name, self.data = dice.choice(
            [("files", "path", "bytes"), ("chunk", "k", "v"), ("Store", "entry_name", "content")]
        )
        self.unit, self.fill = dice.choice(["", *TIMES]), dice.choice([None, 7, "raw"])
        self.sums = dice.sample([*SUMS], dice.randrange(3))
        self.order = [self.name, self.data, *self.sums, *["at"] * bool(self.unit),
                      *["kind"] * (self.fill is not None)]  # fmt: skip
        dice.shuffle(self.order)
        self.beside, self.total = dice.choice([None, *SUMS]), dice.choice(["", "count", "bytes"])
        self.rowless, self.indexed = dice.random() < 0.3, dice.random() < 0.3
        self.wal = dice.random() < 0.3

    def _row(self, name: str, data: bytes, now: int) -> dict[str, object]:
        row = {self.name: name, self.data: data, "kind": self.fill}
        row |= {"at": now // TIMES[self.unit]} if self.unit else {}
        return row | {one: SUMS[one](data) for one in self.sums}

    def write(self, folder: Path, entries: Entries, now: int) -> None:
        """Write all entries; each was changed some seconds before the one in front of it."""
        folder.mkdir()
        with closing(sqlite3.connect(folder / "kept.db")) as book:
            if self.wal:
                book.execute("PRAGMA journal_mode = WAL")
            # SQLite's own check takes such rows for empty ones where a table has no row numbers.
            full = "BLOB" if self.rowless else "BLOB NOT NULL"
            kinds = {self.name: "TEXT PRIMARY KEY", self.data: full}
            told = ", ".join(f"{one} {kinds.get(one, '')}" for one in self.order)
            book.execute(f"CREATE TABLE {self.table} ({told}){' WITHOUT ROWID' * self.rowless}")
            book.execute("CREATE TABLE about (what TEXT, worth)")
            if self.indexed:
                book.execute(f"CREATE INDEX quick ON {self.table} ({self.order[0]})")
            if self.beside:
                book.execute("CREATE TABLE more (of_what VARCHAR, told)")
            for number, (name, data) in enumerate(entries.items()):
                row = self._row(name, data, now - number * 10**10)
                line = f"INSERT INTO {self.table} VALUES ({', '.join('?' * len(self.order))})"
                book.execute(line, [row[one] for one in self.order])
                if self.beside:
                    book.execute("INSERT INTO more VALUES (?, ?)", (name, SUMS[self.beside](data)))
            about = {"made by": "Isa", "build": 4711, **self._total(entries)}
            book.executemany("INSERT INTO about VALUES (?, ?)", about.items())
            book.commit()

    def _total(self, entries: Entries) -> dict[str, int]:
        every = {"count": len(entries), "bytes": sum(map(len, entries.values()))}
        return {self.total: every[self.total]} if self.total else {}

    def read(self, folder: Path) -> Entries:
        """Read all entries; whatever is out of order ends in an AssertionError."""
        assert {one.name for one in folder.iterdir()} == {"kept.db"}, "a stray file"
        with closing(sqlite3.connect(folder / "kept.db")) as book:
            assert book.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
            rows = book.execute(f"SELECT {', '.join(self.order)} FROM {self.table}").fetchall()
            more = dict(book.execute("SELECT * FROM more")) if self.beside else {}
            told = book.execute("SELECT * FROM about").fetchall()
        found = Entries()
        for values in rows:
            row = dict(zip(self.order, values, strict=True))
            name, data = row[self.name], row[self.data]
            at = row["at"] * TIMES[self.unit] if self.unit else 2 * 10**18
            assert 10**18 < at < 3 * 10**18, "a time"
            right = self._row(name, data, at)
            assert row == {one: right[one] for one in self.order}, "a row"
            found[name] = data
        if self.beside:
            assert more == {one: SUMS[self.beside](data) for one, data in found.items()}, "more"
        about = {"made by": "Isa", "build": 4711, **self._total(found)}
        assert len(told) == len(about), "a row too many"
        assert dict(told) == about, "what is about all"
        return found
