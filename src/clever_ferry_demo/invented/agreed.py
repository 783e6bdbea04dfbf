"""Formats whose files speak of each other: cards with sizes, checksums, counters and owners."""

from __future__ import annotations

import base64
import bz2
import hashlib
import json
import zlib
from pathlib import Path
from xml.etree import ElementTree

__all__ = ["Ropewalk", "Waybill"]

Saves = dict[int, tuple[bytes, bytes]]


class Ropewalk:
    """`NN.rope`, packed and then masked, its `NN.txt`, and a card `NN.card` that speaks of both."""

    MASK = b"hemp"

    @classmethod
    def _masked(cls, data: bytes) -> bytes:
        key = (cls.MASK * (len(data) // 4 + 1))[: len(data)]
        return bytes(one ^ other for one, other in zip(data, key, strict=True))

    @classmethod
    def card(cls, world: bytes, packed: bytes, file: bytes, note: bytes) -> dict[str, object]:
        """Return what the card says of the two."""
        return {
            "rope": {"bytes": len(file), "packed": f"{zlib.crc32(packed):08X}",
                     "plain": base64.b64encode(hashlib.sha256(world).digest()).decode()},
            "note": {"sum": str(zlib.adler32(note))},
        }  # fmt: skip

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        for slot, (world, note) in saves.items():
            packed = zlib.compress(world)
            file = cls._masked(b"HEMP" + packed)
            said = {"slot": slot, "day": json.loads(note)["day"], "writes": 1, "style": "plain",
                    **cls.card(world, packed, file, note)}  # fmt: skip
            (folder / f"{slot:02}.rope").write_bytes(file)
            (folder / f"{slot:02}.txt").write_bytes(note)
            (folder / f"{slot:02}.card").write_bytes(json.dumps(said, indent=1).encode())

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        found = {}
        for path in sorted(folder.glob("??.rope")):
            file, note = path.read_bytes(), path.with_suffix(".txt").read_bytes()
            said = json.loads(path.with_suffix(".card").read_text())
            packed = cls._masked(file)[4:]
            world = zlib.decompress(packed)
            right = cls.card(world, packed, file, note)
            assert {key: said[key] for key in right} == right
            assert (said["slot"], said["day"]) == (int(path.stem), json.loads(note)["day"])
            assert said["writes"] >= 1
            assert said["style"] == "plain"
            found[int(path.stem)] = (world, note)
        return found


class Waybill:
    """`bill-NN`: `goods.bin` (bzip2), `note.json`, and `bill.xml`, which lists both."""

    @staticmethod
    def item(path: Path) -> tuple[str, str, str]:
        """Return what the bill says of a file: its name, size and SHA-1."""
        data = path.read_bytes()
        return path.name, str(len(data)), hashlib.sha1(data).hexdigest().upper()

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        for slot, (world, note) in saves.items():
            (here := folder / f"bill-{slot:02}").mkdir()
            (here / "goods.bin").write_bytes(bz2.compress(world))
            (here / "note.json").write_bytes(note)
            items = [
                f"  <item sum='{digest}' bytes='{size}'>{name}</item>\n"
                for name, size, digest in (cls.item(one) for one in sorted(here.iterdir()))
            ]
            told = f"<?xml version='1.0'?>\n<bill no='{slot:02}'>\n{''.join(items)}</bill>\n"
            (here / "bill.xml").write_text(told, "ascii", newline="\n")

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        found = {}
        for here in sorted(folder.glob("bill-??")):
            bill = ElementTree.parse(here / "bill.xml").getroot()
            assert bill.tag == "bill"
            assert bill.attrib == {"no": here.name[5:]}
            said = [(one.text, one.attrib["bytes"], one.attrib["sum"]) for one in bill]
            there = sorted(one for one in here.iterdir() if one.name != "bill.xml")
            assert sorted(said) == [cls.item(one) for one in there]
            assert [one.name for one in there] == ["goods.bin", "note.json"]
            world = bz2.decompress(there[0].read_bytes())
            found[int(here.name[5:])] = (world, there[1].read_bytes())
        return found
