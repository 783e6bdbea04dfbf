"""Saves by row and column in archives, as leaves of an XML book, and a database for each."""

from __future__ import annotations

import base64
import hashlib
import io
import re
import sqlite3
import tarfile
import zlib
from contextlib import closing
from pathlib import Path
from xml.etree import ElementTree
from xml.sax.saxutils import escape

__all__ = ["Almanac", "Seedtray", "Tidebook"]

Saves = dict[int, tuple[bytes, bytes]]
QUOTED = {'"': "&quot;"}


class Seedtray:
    """`tray-A1.tar` to `tray-C3.tar`: a soil that stays, a link, the world; `A1.tag`, its note."""

    ROWS, COLUMNS = "ABC", 3

    @classmethod
    def spot(cls, slot: int) -> str:
        """Return a slot's row and column."""
        row, column = divmod(slot - 1, cls.COLUMNS)
        return f"{cls.ROWS[row]}{column + 1}"

    @classmethod
    def front(cls, slot: int) -> bytes:
        """Return what stands before a world: its row, counted from 1, and column, from 0."""
        row, column = divmod(slot - 1, cls.COLUMNS)
        return b"S" + bytes([row + 1, column])

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        for slot, (world, note) in saves.items():
            out = io.BytesIO()
            with tarfile.open(fileobj=out, mode="w") as archive:
                soil = f"soil of {slot}".encode()
                for name, data in (
                    ("soil/loam", soil),
                    ("sprouts.bin", cls.front(slot) + zlib.compress(world)),
                ):
                    info = tarfile.TarInfo(name)
                    info.size, info.mode = len(data), 0o640
                    archive.addfile(info, io.BytesIO(data))
                link = tarfile.TarInfo("latest")
                link.type, link.linkname = tarfile.SYMTYPE, "sprouts.bin"
                archive.addfile(link)
            (folder / f"tray-{cls.spot(slot)}.tar").write_bytes(out.getvalue())
            (folder / f"{cls.spot(slot)}.tag").write_bytes(note)

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves; a new tray may have no soil, but one that had keeps it."""
        found = {}
        for slot in range(1, len(cls.ROWS) * cls.COLUMNS + 1):
            path = folder / f"tray-{cls.spot(slot)}.tar"
            if not path.exists():
                continue
            with tarfile.open(path, "r:") as archive:
                names = archive.getnames()
                assert names in (["soil/loam", "sprouts.bin", "latest"], ["sprouts.bin"])
                file = archive.extractfile("sprouts.bin")
                assert file is not None
                data = file.read()
                if len(names) > 1:
                    soil = archive.extractfile("soil/loam")
                    assert soil is not None
                    assert re.fullmatch(rb"soil of \d+", soil.read())
                    assert archive.getmember("latest").linkname == "sprouts.bin"
            assert data[:3] == cls.front(slot)
            note = (folder / f"{cls.spot(slot)}.tag").read_bytes()
            found[slot] = (zlib.decompress(data[3:]), note)
        assert len(found) == len([*folder.iterdir()]) / 2
        return found


class Tidebook:
    """`tides.xml`: a leaf for each save, its world as base64, with its MD5; remarks around them."""

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        leaves = "".join(
            f"  <leaf no='{slot}' md5='{hashlib.md5(world).hexdigest()}'>\n"
            f"    <note>{escape(note.decode(), QUOTED)}</note><!-- inked -->\n"
            f"    <tide>{base64.b64encode(world).decode()}</tide>\n  </leaf>\n"
            for slot, (world, note) in saves.items()
        )
        text = f"<?xml version='1.0'?>\n<book kept-by=\"Isa\">\n{leaves}</book>\n<!-- end -->\n"
        (folder / "tides.xml").write_bytes(text.encode())

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        raw = (folder / "tides.xml").read_bytes()
        assert raw.startswith(b"<?xml version='1.0'?>\n<book kept-by=\"Isa\">\n")
        assert raw.endswith(b"</book>\n<!-- end -->\n")
        found = {}
        for leaf in ElementTree.fromstring(raw):
            assert [one.tag for one in leaf] == ["note", "tide"]
            note, tide = leaf
            world = base64.b64decode(tide.text or "", validate=True)
            assert hashlib.md5(world).hexdigest() == leaf.attrib["md5"]
            slot = int(leaf.attrib["no"])
            assert slot not in found
            found[slot] = (world, (note.text or "").encode())
        return found


class Almanac:
    """`year-N.alm`, a database each: pages, a list of them with their sums, and how many it has."""

    TABLES = (
        "CREATE TABLE pages (leaf TEXT PRIMARY KEY, body BLOB NOT NULL, worth INTEGER)",
        "CREATE TABLE list (leaf TEXT, sum TEXT, year INTEGER)",
        "CREATE TABLE about (key TEXT, value TEXT)",
    )

    @classmethod
    def write(cls, folder: Path, saves: Saves) -> None:
        """Write all saves."""
        for slot, (world, note) in saves.items():
            with closing(sqlite3.connect(folder / f"year-{slot}.alm")) as book, book:
                for line in (*cls.TABLES, "PRAGMA application_id = 20261"):
                    book.execute(line)
                pages = {"world": zlib.compress(world), "note": note}
                for leaf, body in pages.items():
                    book.execute("INSERT INTO pages VALUES (?, ?, ?)", (leaf, body, len(body)))
                    row = (leaf, f"{zlib.crc32(body):08X}", slot)
                    book.execute("INSERT INTO list VALUES (?, ?, ?)", row)
                about = {"by": "Isa", "pages": "2", "bytes": str(sum(map(len, pages.values())))}
                book.executemany("INSERT INTO about VALUES (?, ?)", about.items())

    @classmethod
    def read(cls, folder: Path) -> Saves:
        """Read all saves."""
        found = {}
        for path in folder.iterdir():
            with closing(sqlite3.connect(path)) as book:
                assert book.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
                assert book.execute("PRAGMA application_id").fetchone() == (20261,)
                assert book.execute("PRAGMA user_version").fetchone() == (0,)
                pages = dict(book.execute("SELECT leaf, body FROM pages"))
                worth = dict(book.execute("SELECT leaf, worth FROM pages"))
                rows = {leaf: rest for leaf, *rest in book.execute("SELECT * FROM list")}
                about = dict(book.execute("SELECT * FROM about"))
                (count,) = book.execute("SELECT count(*) FROM list").fetchone()
            assert count == len(rows) == len(pages) == 2
            slot = int(path.stem.removeprefix("year-"))
            for leaf, body in pages.items():
                assert worth[leaf] == len(body)
                assert rows[leaf] == [f"{zlib.crc32(body):08X}", slot]
            size = sum(map(len, pages.values()))
            assert about == {"by": "Isa", "pages": "2", "bytes": str(size)}
            found[slot] = (zlib.decompress(pages["world"]), pages["note"])
        return dict(sorted(found.items()))
