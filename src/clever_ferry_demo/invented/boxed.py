"""Three containers: chunks behind an offset table, shelves with UTF-16 names, ranges in a file."""

from __future__ import annotations

import struct
import zlib
from pathlib import Path

__all__ = ["Dynamo", "Longshore", "Orrery", "Saves"]

Saves = dict[int, tuple[bytes, bytes]]
"""Slot -> world and note."""


def _split(names: dict[str, bytes]) -> Saves:
    slots = sorted({int(name.partition(".")[0][4:]) for name in names})
    assert len(names) == 2 * len(slots), "a piece is missing"
    return {slot: (names[f"slot{slot}.world"], names[f"slot{slot}.note"]) for slot in slots}


def _named(saves: Saves) -> dict[str, bytes]:
    found = {}
    for slot, (world, note) in saves.items():
        found[f"slot{slot}.world"], found[f"slot{slot}.note"] = world, note
    return found


class Orrery:
    """`yard.opk`: big-endian; a table of names, offsets and sizes; each entry in checked chunks."""

    CHUNK = 4096

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        entries = {name: cls._chunks(data) for name, data in _named(saves).items()}
        at = 16 + 32 * len(entries)
        table, body = b"", bytearray()
        for name, data in entries.items():
            body += bytes(-(at + len(body)) % 16)
            table += struct.pack(">20sIIHH", name.encode(), at + len(body), len(data), 0, 0xBEEF)
            body += data
        raw = b"YARD" + struct.pack(">HHII", 1, len(entries), 0, 7) + table + bytes(body)
        (folder / "yard.opk").write_bytes(raw + zlib.crc32(raw).to_bytes(4, "big"))

    @classmethod
    def _chunks(cls, data: bytes) -> bytes:
        out = b""
        for at in range(0, len(data), cls.CHUNK):
            part = data[at : at + cls.CHUNK]
            packed = zlib.compress(part)
            out += struct.pack(">III", len(packed), len(part), zlib.crc32(packed)) + packed
        return out

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves; whatever is out of order ends in an error."""
        raw = (folder / "yard.opk").read_bytes()
        assert zlib.crc32(raw[:-4]) == int.from_bytes(raw[-4:], "big")
        version, count, _, _ = struct.unpack_from(">HHII", raw, 4)
        assert raw[:4] == b"YARD"
        assert version == 1
        names = {}
        for number in range(count):
            name, at, size, _, _ = struct.unpack_from(">20sIIHH", raw, 16 + 32 * number)
            assert at % 16 == 0
            data, end = b"", at + size
            while at < end:
                packed, plain, crc = struct.unpack_from(">III", raw, at)
                part = raw[at + 12 : at + 12 + packed]
                assert zlib.crc32(part) == crc
                chunk = zlib.decompress(part)
                assert len(chunk) == plain <= cls.CHUNK
                data += chunk
                at += 12 + packed
            assert at == end
            names[name.rstrip(b"\0").decode()] = data
        return _split(names)


class Longshore:
    """`logs.lsi` lists shelves in UTF-16; each shelf's folder has a `rows.lsx` over its blobs."""

    EPOCH = 116_444_736_000_000_000

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves, one shelf for each."""
        top = b"LSIX" + struct.pack("<III", 3, len(saves), 0)
        for slot, (world, note) in saves.items():
            shelf = f"Save {slot}"
            ident = bytes([slot] * 8)
            place = folder / ident.hex().upper()
            place.mkdir(parents=True)
            rows = b"ROWS" + struct.pack("<QII", len(world) + len(note), 2, 1)
            for number, (name, data) in enumerate((("world", world), ("note", note))):
                blob = bytes([slot, number] * 6)
                (place / f"{blob.hex()}.bin").write_bytes(data)
                rows += cls._text(name) + blob + struct.pack("<IQ", 1, cls.EPOCH + slot)
                rows += struct.pack("<I", len(data))
            (place / "rows.lsx").write_bytes(rows)
            top += cls._text(shelf) + ident
            top += struct.pack("<QQ", len(world) + len(note), cls.EPOCH + slot)
        (folder / "logs.lsi").write_bytes(top)

    @staticmethod
    def _text(text: str) -> bytes:
        return struct.pack("<H", len(text)) + text.encode("utf-16-le")

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves; counters, sizes and files must all agree."""
        raw, found = (folder / "logs.lsi").read_bytes(), {}
        assert raw[:4] == b"LSIX"
        _, count, _ = struct.unpack_from("<III", raw, 4)
        at, folders = 16, set()
        for _ in range(count):
            shelf, at = cls._read_text(raw, at)
            place = folder / raw[at : at + 8].hex().upper()
            size, stamp = struct.unpack_from("<QQ", raw, at + 8)
            at += 24
            folders.add(place.name)
            pieces, newest = cls._shelf(place)
            assert stamp == newest
            assert sum(map(len, pieces.values())) == size
            found[int(shelf.removeprefix("Save "))] = (pieces["world"], pieces["note"])
        assert at == len(raw)
        assert {path.name for path in folder.iterdir() if path.is_dir()} == folders
        return dict(sorted(found.items()))

    @classmethod
    def _shelf(cls, place: Path) -> tuple[dict[str, bytes], int]:
        raw = (place / "rows.lsx").read_bytes()
        assert raw[:4] == b"ROWS"
        total, count, _ = struct.unpack_from("<QII", raw, 4)
        at, newest, pieces, files = 20, 0, {}, {"rows.lsx"}
        for _ in range(count):
            name, at = cls._read_text(raw, at)
            blob = raw[at : at + 12].hex() + ".bin"
            at += 12
            parts, stamp, size = struct.unpack_from("<IQI", raw, at)
            at, newest = at + 16, max(newest, stamp)
            assert parts == 1
            pieces[name] = (place / blob).read_bytes()
            assert len(pieces[name]) == size
            files.add(blob)
        assert at == len(raw)
        assert total == sum(map(len, pieces.values()))
        assert {path.name for path in place.iterdir()} == files
        return pieces, newest

    @staticmethod
    def _read_text(raw: bytes, at: int) -> tuple[str, int]:
        (size,) = struct.unpack_from("<H", raw, at)
        return raw[at + 2 : at + 2 + 2 * size].decode("utf-16-le"), at + 2 + 2 * size


class Dynamo:
    """`dynamo.dat`: one file; ranges without gaps, counted from the end of the table."""

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        names, table, body = _named(saves), b"", b""
        for name, data in names.items():
            text = name.encode()
            table += struct.pack("<B", len(text)) + text + struct.pack("<II", len(body), len(data))
            body += data
        head = b"\x89DYN" + struct.pack("<BI", len(names), sum(body) & 0xFFFFFFFF)
        (folder / "dynamo.dat").write_bytes(head + table + body)

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        raw, ranges = (folder / "dynamo.dat").read_bytes(), {}
        assert raw[:4] == b"\x89DYN"
        count, total = struct.unpack_from("<BI", raw, 4)
        at = 9
        for _ in range(count):
            end = at + 1 + raw[at]
            ranges[raw[at + 1 : end].decode()] = struct.unpack_from("<II", raw, end)
            at = end + 8
        body = raw[at:]
        assert sum(body) & 0xFFFFFFFF == total
        assert sum(size for _, size in ranges.values()) == len(body)
        return _split({name: body[a : a + size] for name, (a, size) in ranges.items()})
