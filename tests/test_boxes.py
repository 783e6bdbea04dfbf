"""Zip, tar, SQLite and packed files as boxes, judged by other readers of those formats."""

from __future__ import annotations

import io
import os
import shutil
import sqlite3
import struct
import subprocess
import tarfile
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from clever_ferry.boxes import Box, BoxSpec, FolderBox, Making, Put, make_box
from clever_ferry.errors import DamagedError, FerryError, RefusedError
from clever_ferry.layouts import LayoutSpec, compile_layouts
from clever_ferry.model import convert
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.replacing import Replacement
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.recipes import Recipes
from clever_ferry_demo.saltglass.pieces import RefusalError
from clever_ferry_demo.saltglass.tern import Crate, Record

LAYOUTS = {
    "pack": {"order": "big", "fields": [
        {"type": "magic", "text": "PACK"},
        {"type": "u32", "name": "writings"},
        {"type": "list", "name": "rows", "of": "row", "count": "u16"},
        {"type": "parts", "name": "blobs", "table": "rows", "offset": "at", "size": "size",
         "align": 8},
        {"type": "padding", "to": 8},
        {"type": "u32", "name": "crc", "computed": {"what": "crc32", "of": "before"}},
    ]},
    "row": {"order": "big", "fields": [
        {"type": "text", "name": "name", "size": 24, "pad": 0},
        {"type": "u32", "name": "at"}, {"type": "u32", "name": "size"},
        {"type": "time", "name": "saved", "within": "u64", "unit": "ticks-1601"},
        {"type": "u16", "name": "note"},
    ]},
}  # fmt: skip
SPECS: dict[str, dict[str, Any]] = {
    "zip": {"kind": "zip", "file": "all.zip"},
    "tar": {"kind": "tar", "file": "all.tar.gz"},
    "sqlite": {"kind": "sqlite", "file": "saves.db", "table": "saves", "name": "name",
               "data": "data", "stamp": "changed"},
    "packed": {"kind": "packed", "file": "all.pack", "layout": "pack", "record": "row",
               "entries": "/rows", "name": "/name", "data": "/blobs", "counts": ["/writings"],
               "stamp": {"at": "/saved", "unit": "ns"}},
    "crate": {},
}  # fmt: skip


def box_of(spec: dict[str, Any]) -> Box:
    if not spec:
        return Recipes(None).box("tern-crate")[1]
    layouts = compile_layouts({k: convert(v, LayoutSpec) for k, v in LAYOUTS.items()})
    return make_box(convert(spec, BoxSpec), layouts)


def write_zip(path: Path, entries: Mapping[str, bytes]) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in entries.items():
            archive.writestr(name, data)


def read_zip(path: Path) -> dict[str, bytes]:
    with zipfile.ZipFile(path) as archive:
        assert archive.testzip() is None
        return {name: archive.read(name) for name in archive.namelist()}


def write_tar(path: Path, entries: Mapping[str, bytes]) -> None:
    with tarfile.open(path, "w:gz") as archive:
        for name, data in entries.items():
            info = tarfile.TarInfo(name)
            info.size, info.mtime = len(data), 1_700_000_000
            archive.addfile(info, io.BytesIO(data))


def read_tar(path: Path) -> dict[str, bytes]:
    with tarfile.open(path) as archive:
        files = {info.name: archive.extractfile(info) for info in archive}
        return {name: file.read() for name, file in files.items() if file}


def write_database(path: Path, entries: Mapping[str, bytes]) -> None:
    with sqlite3.connect(path) as book:
        book.execute("CREATE TABLE saves (id INTEGER PRIMARY KEY, name TEXT UNIQUE, data BLOB, "
                     "changed INTEGER, note TEXT DEFAULT 'kept')")  # fmt: skip
        book.execute("CREATE TABLE other (x)")
        book.execute("INSERT INTO other VALUES (7)")
        book.executemany("INSERT INTO saves (name, data, changed) VALUES (?, ?, 1700000000)",
                         entries.items())  # fmt: skip
    book.close()


def read_database(path: Path) -> dict[str, bytes]:
    book = sqlite3.connect(path)
    assert book.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    assert book.execute("SELECT x FROM other").fetchall() == [(7,)]
    rows = book.execute("SELECT name, data FROM saves WHERE note = 'kept'").fetchall()
    book.close()
    return dict(rows)


def write_pack(path: Path, entries: Mapping[str, bytes]) -> None:
    at = 4 + 4 + 2 + 42 * len(entries)
    table, blobs = b"", bytearray()
    for number, (name, data) in enumerate(entries.items()):
        blobs += bytes(-(at + len(blobs)) % 8)
        table += struct.pack(">24sIIQH", name.encode(), at + len(blobs), len(data), 5, number)
        blobs += data
    raw = b"PACK" + struct.pack(">IH", 1, len(entries)) + table + bytes(blobs)
    raw += bytes(-len(raw) % 8)
    path.write_bytes(raw + zlib.crc32(raw).to_bytes(4, "big"))


def read_pack(path: Path) -> dict[str, bytes]:
    raw = path.read_bytes()
    assert zlib.crc32(raw[:-4]) == int.from_bytes(raw[-4:], "big")
    (count,) = struct.unpack_from(">H", raw, 8)
    found = {}
    for number in range(count):
        name, at, size, _, _ = struct.unpack_from(">24sIIQH", raw, 10 + 42 * number)
        assert at % 8 == 0
        found[name.rstrip(b"\0").decode()] = raw[at : at + size]
    return found


OWNER = bytes.fromhex("5a17c0ffee42")


def write_crate(path: Path, entries: Mapping[str, bytes]) -> None:
    crate = Crate(OWNER, revision=6, flags=5)
    crate.records = [
        Record(bytes([at] * 10), 1_700_000_000_000, name, data, b"\x07" * (len(name) % 4))
        for at, (name, data) in enumerate(entries.items())
    ]
    crate.write(path.parent, 1_800_000_000_000)


def read_crate(path: Path) -> dict[str, bytes]:
    crate = Crate.read(path.parent)  # strict: refuses strays, wrong sizes, sums and stamps
    assert (crate.owner, crate.revision % 2, crate.flags) == (OWNER, 0, 5)
    kept = [one for one in crate.records if one.stamp == 1_700_000_000_000]
    assert all(one.tail == b"\x07" * (len(one.name) % 4) for one in kept)
    return {record.name: record.data for record in crate.records}


Writer = Callable[[Path, Mapping[str, bytes]], None]
Reader = Callable[[Path], dict[str, bytes]]
JUDGES: dict[str, tuple[str, Writer, Reader]] = {
    "zip": ("all.zip", write_zip, read_zip),
    "tar": ("all.tar.gz", write_tar, read_tar),
    "sqlite": ("saves.db", write_database, read_database),
    "packed": ("all.pack", write_pack, read_pack),
    "crate": ("hold.ledger", write_crate, read_crate),
}
NAMES = st.sampled_from(["one", "two/x", "three.sav", "Vier", "fünf"])
DATA = st.binary(max_size=300) | st.sampled_from([32_767, 32_768, 70_000]).map(bytes)
ENTRIES = st.dictionaries(NAMES, DATA, max_size=5)


def change(box: Box, folder: Path, puts: Mapping[str, bytes], removes: list[str]) -> None:
    contents = box.read(FolderFiles(folder), lambda _: True)
    items = [Put(n, BytesPayload(d), 1_750_000_000 * 10**9) for n, d in puts.items()]
    making = Making(1_760_000_000 * 10**9, os.urandom)
    with Replacement(FolderFiles(folder), "test") as replacement:
        for output in box.write(contents, items, removes, making):
            replacement.stage(output)
        replacement.commit()


def contents(box: Box, folder: Path) -> dict[str, bytes]:
    entries = box.read(FolderFiles(folder), lambda _: True).entries
    return {e.name: read_all(e.payload, limit=1 << 20, what=e.name) for e in entries}


@pytest.mark.parametrize("kind", SPECS)
@settings(max_examples=20)
@given(before=ENTRIES, puts=ENTRIES, gone=st.sets(NAMES))
def test_any_change_is_read_by_another_reader(
    kind: str, before: dict[str, bytes], puts: dict[str, bytes], gone: set[str]
) -> None:
    name, write, read = JUDGES[kind]
    box = box_of(SPECS[kind])
    with tempfile.TemporaryDirectory() as folder:
        top = Path(folder)
        write(top / name, before)
        assert contents(box, top) == before
        listed = box.read(FolderFiles(top), lambda _: True).entries
        assert {one.name: one.size for one in listed} == {k: len(v) for k, v in before.items()}
        removes = [one for one in gone if one not in puts and one in before]
        change(box, top, puts, removes)
        right = {k: v for k, v in {**before, **puts}.items() if k not in removes}
        assert read(top / name) == right
        assert contents(box, top) == right
        stamps = {e.name: e.stamp for e in box.read(FolderFiles(top), lambda _: True).entries}
        assert {stamps[one] for one in puts} <= {1_750_000_000 * 10**9}


@pytest.mark.parametrize("kind", SPECS)
@settings(max_examples=30)
@given(data=st.data())
def test_damage_is_told_and_never_crashes(kind: str, data: st.DataObject) -> None:
    name, write, _ = JUDGES[kind]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name
        write(path, {"one": b"a" * 50, "two/x": b"b" * 50})
        raw = bytearray(path.read_bytes())
        if data.draw(st.booleans()):
            del raw[data.draw(st.integers(0, len(raw) - 1)) :]
        for _ in range(3):
            if raw:
                raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
        path.write_bytes(raw)
        try:
            contents(box_of(SPECS[kind]), Path(folder))
        except FerryError:
            return


def test_zips_in_several_parts_and_zips_within(tmp_path: Path) -> None:
    inner = io.BytesIO()
    with zipfile.ZipFile(inner, "w") as archive:
        archive.writestr("world.sgw", b"deep")
    write_zip(tmp_path / "export-1.zip", {"a.txt": b"a", "save.zip": inner.getvalue()})
    write_zip(tmp_path / "export-2.zip", {"b.txt": b"b"})
    write_zip(tmp_path / "else.zip", {"c.txt": b"c"})
    box = box_of({"kind": "zip", "file": "export-*.zip", "nested": True})
    assert contents(box, tmp_path) == {
        "a.txt": b"a", "save.zip/world.sgw": b"deep", "b.txt": b"b",
    }  # fmt: skip
    untouched = (tmp_path / "export-2.zip").read_bytes()
    change(box, tmp_path, {"save.zip/world.sgw": b"new", "save.zip/meta": b"m"}, ["a.txt"])
    assert (tmp_path / "export-2.zip").read_bytes() == untouched
    outer = read_zip(tmp_path / "export-1.zip")
    assert list(outer) == ["save.zip"]
    with zipfile.ZipFile(io.BytesIO(outer["save.zip"])) as archive:
        assert {n: archive.read(n) for n in archive.namelist()} == {
            "world.sgw": b"new", "meta": b"m",
        }  # fmt: skip
    unzip = shutil.which("unzip")
    if unzip:
        subprocess.run([unzip, "-tq", tmp_path / "export-1.zip"], check=True)


def test_a_packed_file_says_when_it_was_written(tmp_path: Path) -> None:
    specs: dict[str, Any] = {
        "p": {"fields": [
            {"type": "u64", "name": "written"},
            {"type": "list", "name": "rows", "of": "r", "count": "u8"},
            {"type": "parts", "name": "blobs", "table": "rows", "offset": "at", "size": "size"},
        ]},
        "r": {"fields": [{"type": "text", "name": "name", "length": "u8"},
                         {"type": "u32", "name": "at"}, {"type": "u32", "name": "size"}]},
    }  # fmt: skip
    layouts = compile_layouts({name: convert(one, LayoutSpec) for name, one in specs.items()})
    spec = {
        "kind": "packed",
        "file": "p",
        "layout": "p",
        "record": "r",
        "entries": "/rows",
        "name": "/name",
        "data": "/blobs",
        "written": {"at": "/written", "unit": "ms"},
    }
    box = make_box(convert(spec, BoxSpec), layouts)
    (tmp_path / "p").write_bytes(layouts["p"].write({"written": 1, "rows": [], "blobs": []}))
    change(box, tmp_path, {"a": b"x"}, [])
    value = layouts["p"].read_whole((tmp_path / "p").read_bytes())
    assert (value["written"], value["blobs"]) == (1_760_000_000_000, [b"x"])


def test_a_folder_that_is_emptied_goes_with_what_was_in_it(tmp_path: Path) -> None:
    (tmp_path / "isle").mkdir()
    (tmp_path / "isle" / "world").write_bytes(b"w")
    change(FolderBox(), tmp_path, {"new": b"n"}, ["isle/world"])
    assert [path.name for path in tmp_path.iterdir()] == ["new"]


def test_an_archive_for_each_save(tmp_path: Path) -> None:
    for number in (1, 2):
        with zipfile.ZipFile(tmp_path / f"{number}.sav", "w") as archive:
            archive.comment = b"mine"
            archive.writestr("flat", b"f" * 99, zipfile.ZIP_STORED)
            archive.writestr("in/deep", b"d" * 99, zipfile.ZIP_BZIP2)
    (tmp_path / "notes.txt").write_bytes(b"n")
    box = box_of({"kind": "zip", "file": "*.sav", "each": True, "stored": ["*.raw"]})
    assert contents(box, tmp_path) == {
        "notes.txt": b"n", **{f"{number}.sav/{name}": name[-4:][:1].encode() * 99
                              for number in (1, 2) for name in ("flat", "in/deep")},
    }  # fmt: skip
    untouched = (tmp_path / "2.sav").read_bytes()
    change(box, tmp_path, {"1.sav/in/deep": b"new" * 50, "1.sav/x.raw": b"r" * 50,
                           "3.sav/one": b"o" * 50, "more.txt": b"m"}, ["notes.txt"])  # fmt: skip
    assert (tmp_path / "2.sav").read_bytes() == untouched
    with zipfile.ZipFile(tmp_path / "1.sav") as archive:
        assert [(one.filename, one.compress_type) for one in archive.infolist()] == [
            ("flat", zipfile.ZIP_STORED), ("in/deep", zipfile.ZIP_BZIP2),
            ("x.raw", zipfile.ZIP_STORED),
        ]  # fmt: skip
        assert (archive.comment, archive.read("in/deep")) == (b"mine", b"new" * 50)
    with zipfile.ZipFile(tmp_path / "3.sav") as archive:
        assert [one.compress_type for one in archive.infolist()] == [zipfile.ZIP_DEFLATED]
    change(box, tmp_path, {}, ["3.sav/one", "1.sav/flat"])
    assert sorted(path.name for path in tmp_path.iterdir()) == ["1.sav", "2.sav", "more.txt"]
    assert "1.sav/flat" not in contents(box, tmp_path)
    for name, found in (("m*.sav", True), ("mm*.sav", False), ("m*m.sav", False)):
        (tmp_path / "m.sav").write_bytes((tmp_path / "1.sav").read_bytes())
        box = box_of({"kind": "zip", "file": name, "each": True})
        assert ("m.sav/in/deep" in contents(box, tmp_path)) == found


HEADED = {
    "index": {"fields": [
        {"type": "u32", "name": "total"},
        {"type": "list", "name": "rows", "of": "entry", "count": "i32"},
    ]},
    "entry": {"fields": [
        {"type": "text", "name": "name", "length": "u8"},
        {"type": "bytes", "name": "id", "size": 4},
        {"type": "u8", "name": "age"},
        {"type": "list", "name": "parts", "of": "piece", "count": "u8"},
    ]},
    "piece": {"fields": [{"type": "u32", "name": "size"}]},
    "head": {"fields": [
        {"type": "text", "name": "label", "length": "u8"}, {"type": "u16", "name": "mark"},
    ]},
}  # fmt: skip


INDEXED: dict[str, Any] = {
    "layout": "index", "record": "entry", "entries": "/rows", "identifier": "/id",
    "identifier_size": 4, "parts": {"at": "/parts", "size": "/size", "most": 100},
    "blob": "{id}-{part}",
    "fields": {"id": {"type": "hex", "length": 8}, "part": {"type": "number"}},
    "tallies": [{"at": "/total", "what": "size"}],
}  # fmt: skip


@pytest.mark.parametrize("where", ["blob", "both", "index with generations"])
def test_names_from_blobs_and_generations(tmp_path: Path, where: str) -> None:
    spec = {"kind": "indexed", "index": "all.idx", **INDEXED}
    headed = where != "index with generations"
    if headed:
        spec["head"] = {"layout": "head", "name": "/label"}
    else:
        spec["generation"] = "/age"
    if where != "blob":
        spec["name"] = "/name"
    layouts = compile_layouts({k: convert(v, LayoutSpec) for k, v in HEADED.items()})
    box = make_box(convert(spec, BoxSpec), layouts)

    def row(name: str, ident: bytes, age: int, data: bytes) -> bytes:
        front = bytes([len(name)]) + name.encode() + b"\x07\x00" if headed else b""
        (tmp_path / f"{ident.hex()}-1").write_bytes(front + data)
        shown = name if where != "blob" else ""
        return (bytes([len(shown)]) + shown.encode() + ident + bytes([age, 1])
                + (len(front) + len(data)).to_bytes(4, "little"))  # fmt: skip

    rows = [row("one", b"aaaa", 3, b"first"), row("two", b"bbbb", 1, b"second")]
    if not headed:
        rows.append(row("one", b"cccc", 2, b"older"))
    total = sum(path.stat().st_size for path in tmp_path.iterdir())
    (tmp_path / "all.idx").write_bytes(
        total.to_bytes(4, "little") + len(rows).to_bytes(4, "little") + b"".join(rows)
    )
    assert contents(box, tmp_path) == {"one": b"first", "two": b"second"}
    change(box, tmp_path, {"one": b"n" * 250, "new": b"x"}, ["two"])
    assert contents(box, tmp_path) == {"one": b"n" * 250, "new": b"x"}
    assert not (tmp_path / "62626262-1").exists()
    first = (tmp_path / "61616161-1").read_bytes()
    assert first.startswith(b"\x03one\x07\x00n" if headed else b"nnn")
    raw = bytearray((tmp_path / "all.idx").read_bytes())
    raw[0] ^= 1
    (tmp_path / "all.idx").write_bytes(raw)
    with pytest.raises(DamagedError, match="/total"):
        contents(box, tmp_path)
    if where == "both":
        raw[0] ^= 1
        (tmp_path / "all.idx").write_bytes(raw.replace(b"\x03one", b"\x03two"))
        entries = box.read(FolderFiles(tmp_path), lambda _: True).entries
        assert "but its blob 'one'" in entries[0].problem
    if not headed:
        again = row("one", b"cccc", 3, b"older"), row("one", b"dddd", 3, b"other")
        total = sum(path.stat().st_size for path in tmp_path.glob("*-1"))
        (tmp_path / "all.idx").write_bytes(
            total.to_bytes(4, "little") + b"\2\0\0\0" + b"".join(again)
        )
        with pytest.raises(DamagedError, match="two entries 'one' of one generation"):
            contents(box, tmp_path)


def test_an_index_per_save_and_none_above(tmp_path: Path) -> None:
    spec = {
        "kind": "shelves", "folder": "slot{id}", "fields": {"id": {"type": "number", "width": 2}},
        "shelf": {"index": "rows.idx", "name": "/name", **INDEXED},
    }  # fmt: skip
    layouts = compile_layouts({k: convert(v, LayoutSpec) for k, v in HEADED.items()})
    box = make_box(convert(spec, BoxSpec), layouts)
    for slot in (1, 3):
        folder = tmp_path / f"slot{slot:02}"
        folder.mkdir()
        (folder / "61616161-1").write_bytes(b"world")
        row = b"\x05world" + b"aaaa" + b"\0\1" + (5).to_bytes(4, "little")
        (folder / "rows.idx").write_bytes(bytes([5, 0, 0, 0, 1, 0, 0, 0]) + row)
    (tmp_path / "other").mkdir()
    assert contents(box, tmp_path) == {"1/world": b"world", "3/world": b"world"}
    change(box, tmp_path, {"2/world": b"n" * 130, "3/note": b"x"}, ["1/world"])
    assert contents(box, tmp_path) == {
        "2/world": b"n" * 130, "3/note": b"x", "3/world": b"world",
    }  # fmt: skip
    assert not (tmp_path / "slot01").exists()
    assert (tmp_path / "slot02" / "rows.idx").read_bytes()[:5] == bytes([130, 0, 0, 0, 1])


IDENTS: dict[str, tuple[dict[str, Any], dict[str, Any], str]] = {
    "number": ({"type": "u64", "name": "id"}, {"type": "number"}, "7"),
    "mixed": ({"type": "identifier", "name": "id", "order": "mixed"}, {"type": "identifier"},
              "00112233-4455-6677-8899-aabbccddeeff"),
    "text": ({"type": "text", "name": "id", "length": "u8"}, {"type": "hex"}, "00aabbcc"),
}  # fmt: skip


@pytest.mark.parametrize("kind", IDENTS)
def test_an_index_that_counts_in_its_name_and_keeps_what_was(tmp_path: Path, kind: str) -> None:
    ident, field, first = IDENTS[kind]
    layouts = compile_layouts({name: convert(one, LayoutSpec) for name, one in {
        "index": {"fields": [{"type": "list", "name": "rows", "of": "row", "count": "u8"}]},
        "row": {"fields": [
            {"type": "text", "name": "name", "length": "u8"}, ident, {**ident, "name": "was"},
            {"type": "u16", "name": "day"}, {"type": "u32", "name": "crc"},
        ]},
    }.items()})  # fmt: skip
    box = make_box(convert({
        "kind": "indexed", "index": "all-{turn}.idx", "newest": "turn", "layout": "index",
        "record": "row", "entries": "/rows", "name": "/name", "identifier": "/id",
        "identifier_size": 8, "previous": "/was", "repeats": {"/day": "day"},
        "check": {"at": "/crc", "what": "crc32"}, "blob": "{id}.blob",
        "fields": {"id": field, "turn": {"type": "number"}},
    }, BoxSpec), layouts)  # fmt: skip
    value: Any = int(first) if kind == "number" else first
    blank: Any = 1 if kind == "number" else first.replace("0", "1")
    row = {"name": "one", "id": value, "was": blank, "day": 31, "crc": zlib.crc32(b"old")}
    (tmp_path / "all-9.idx").write_bytes(b"cut")
    (tmp_path / "all-10.idx").write_bytes(layouts["index"].write({"rows": [row]}))
    (tmp_path / f"{first}.blob").write_bytes(b"old")
    found = box.read(FolderFiles(tmp_path), lambda _: True)
    assert [dict(one.says) for one in found.entries] == [{"day": 31}]
    new = [Put("one", BytesPayload(b"new"), 10**18, {"day": "32"}),
           Put("two", BytesPayload(b"2nd"), 10**18, {"day": 1})]  # fmt: skip
    numbers = iter(range(97, 99))
    making = Making(10**18, lambda size: bytes([next(numbers)]) * size)
    for output in box.write(found, new, [], making):
        if output.payload is None:
            (tmp_path / output.path).unlink()
        else:
            data = read_all(output.payload, limit=99, what="it")
            (tmp_path / output.path).write_bytes(data)
    assert contents(box, tmp_path) == {"one": b"new", "two": b"2nd"}
    assert not (tmp_path / "all-10.idx").exists()
    rows = layouts["index"].read_whole((tmp_path / "all-11.idx").read_bytes())["rows"]
    assert [(one["name"], one["day"], one["crc"]) for one in rows] == [
        ("one", 32, zlib.crc32(b"new")), ("two", 1, zlib.crc32(b"2nd")),
    ]  # fmt: skip
    assert rows[0]["was"] == value
    assert rows[0]["id"] != value
    assert (tmp_path / f"{first}.blob").read_bytes() == b"old", "the one before is kept"
    assert f"{first}.blob" in box.read(FolderFiles(tmp_path), lambda _: True).own
    (tmp_path / "all-11.idx").write_bytes(
        (tmp_path / "all-11.idx").read_bytes().replace(zlib.crc32(b"new").to_bytes(4, "little"),
                                                       b"abcd"))  # fmt: skip
    with pytest.raises(DamagedError, match="crc32"):
        contents(box, tmp_path)
    with pytest.raises(RefusedError, match="the day of one, which is not known"):
        change(box, tmp_path, {"one": b"x"}, [])


@given(cut=st.integers(0, 60), flip=st.integers(0, 400))
def test_a_damaged_ledger_is_refused(cut: int, flip: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        ledger = Path(name) / "hold.ledger"
        write_crate(ledger, {"isle1.level": b"abc", "isle1.about": b"{}"})
        raw = bytearray(ledger.read_bytes())
        if cut:
            del raw[-cut:]
        else:
            raw[flip % len(raw)] ^= 1 + flip % 255
        ledger.write_bytes(raw)
        with pytest.raises(DamagedError, match="damaged"):
            contents(box_of({}), Path(name))
        with pytest.raises(RefusalError):
            read_crate(ledger)


def test_what_is_wrong_with_a_blob_or_a_name_is_told(tmp_path: Path) -> None:
    crate, files = box_of({}), FolderFiles(tmp_path)
    with pytest.raises(DamagedError, match=r"hold\.ledger is missing"):
        contents(crate, tmp_path)
    write_crate(tmp_path / "hold.ledger", {"isle1.level": bytes(70_000), "isle1.about": b"{}"})
    first, _, last, about = sorted((tmp_path / "stow").iterdir())
    about.write_bytes(b"[]")
    with pytest.raises(DamagedError, match="crc32"):
        contents(crate, tmp_path)
    last.write_bytes(b"short")
    (level, _) = crate.read(files, lambda _: True).entries
    assert "has 5 bytes, but the index says 4,464" in level.problem
    first.unlink()
    assert "is missing" in crate.read(files, lambda _: True).entries[0].problem
    twice = Crate(OWNER)
    twice.records = [Record(bytes([n] * 10), 1, "settings", b"x") for n in (1, 2)]
    twice.write(tmp_path, 2)
    with pytest.raises(DamagedError, match="two entries 'settings'"):
        contents(crate, tmp_path)
