"""Saves in containers: an archive each, all in one file by position, all in one document."""

from __future__ import annotations

import base64
import json
import re
import struct
import zipfile
import zlib
from pathlib import Path

__all__ = ["Hamper", "Letterbook", "Pigeonhole"]

Saves = dict[int, tuple[bytes, bytes]]


class Hamper:
    """`jar-N.hamper`, a zip: `seal` first and not packed (what the note is worth), then the two."""

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        for slot, (world, note) in saves.items():
            with zipfile.ZipFile(folder / f"jar-{slot}.hamper", "w") as archive:
                archive.comment = b"kept cool"
                seal = f"hamper {slot} {zlib.crc32(note):08x}\n"
                archive.writestr("seal", seal, zipfile.ZIP_STORED)
                archive.writestr("in/world", world, zipfile.ZIP_DEFLATED)
                archive.writestr("in/note.json", note, zipfile.ZIP_STORED)

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        found = {}
        for path in sorted(folder.glob("jar-*.hamper")):
            slot = int(path.stem[4:])
            with zipfile.ZipFile(path) as archive:
                assert archive.testzip() is None
                assert sorted(archive.namelist()) == ["in/note.json", "in/world", "seal"]
                world, note = archive.read("in/world"), archive.read("in/note.json")
                assert archive.getinfo("seal").compress_type == zipfile.ZIP_STORED
                assert archive.read("seal").decode().split() == [
                    "hamper", str(slot), f"{zlib.crc32(note):08x}",
                ]  # fmt: skip
            found[slot] = (world, note)
        return found


class Pigeonhole:
    """`holes.bin`: which of twelve holes are taken and how full, the holes, a tail; `N.leaf`."""

    HOLES, ROOM, TAIL = 12, 32 << 10, b"\x00tail\xff\n"
    FRONT = struct.Struct(">4sHH12I")

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        holes = [b""] * cls.HOLES
        for slot, (world, note) in saves.items():
            holes[slot - 1] = b"P" + bytes([slot - 1]) + zlib.compress(world)
            (folder / f"{slot}.leaf").write_bytes(note)
        taken = sum(1 << slot for slot, hole in enumerate(holes) if hole)
        front = cls.FRONT.pack(b"HOLE", 2, taken, *map(len, holes))
        data = front + struct.pack(">I", zlib.crc32(front))
        data += b"".join(hole.ljust(cls.ROOM, b"\xff") for hole in holes)
        (folder / "holes.bin").write_bytes(data + cls.TAIL)

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        raw = (folder / "holes.bin").read_bytes()
        magic, version, taken, *used = cls.FRONT.unpack_from(raw)
        at = cls.FRONT.size
        assert (magic, version) == (b"HOLE", 2)
        assert raw[at : at + 4] == struct.pack(">I", zlib.crc32(raw[:at]))
        assert raw[at + 4 + cls.HOLES * cls.ROOM :] == cls.TAIL
        found = {}
        for slot, size in enumerate(used):
            first = at + 4 + slot * cls.ROOM
            hole = raw[first : first + cls.ROOM]
            assert set(hole[size:]) <= {255}
            assert bool(size) == bool(taken >> slot & 1)
            if size:
                assert hole[:2] == b"P" + bytes([slot])
                note = (folder / f"{slot + 1}.leaf").read_bytes()
                found[slot + 1] = (zlib.decompress(hole[2:size]), note)
        assert len(found) == len([*folder.glob("*.leaf")])
        return found


class Letterbook:
    """`letters.json`, which has remarks in it: all saves, each with its world as base64."""

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        letters = [
            f'{{ "leaf": "leaf-{slot:02}", // sealed\n      "note": {note.decode()},\n'
            f'      "world": "{base64.b64encode(world).decode()}", "sum": {zlib.crc32(world)} }}'
            for slot, (world, note) in saves.items()
        ]
        text = '// All letters.\n{\n  "kept_by": "Isa",\n  "letters": [\n    '
        text += ",\n    ".join(letters) + ",\n  ]\n}\n"
        (folder / "letters.json").write_bytes(text.encode())

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        text = (folder / "letters.json").read_bytes().decode()
        assert text.startswith('// All letters.\n{\n  "kept_by": "Isa",\n')
        assert text.endswith("]\n}\n")
        plain = re.sub(r",(\s*[\]}])", r"\1", re.sub(r"// (All letters\.|sealed)\n", "", text))
        found = {}
        for letter in json.loads(plain)["letters"]:
            assert letter.keys() == {"leaf", "note", "world", "sum"}
            world = base64.b64decode(letter["world"], validate=True)
            assert zlib.crc32(world) == letter["sum"]
            slot = int(letter["leaf"].removeprefix("leaf-"))
            note = re.search(rf'"leaf-{slot:02}"[^{{]*"note":\s*(\{{[^}}]*\}})', text)
            assert note is not None
            assert slot not in found
            found[slot] = (world, note[1].encode())
        return found
