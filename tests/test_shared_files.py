"""One file for all saves: slots by position, elements of a document; the others stay."""

from __future__ import annotations

import configparser
import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.boxes import Box, BoxSpec, Making, Put, make_box
from clever_ferry.boxes.making import box_faults
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layers import LayerSpec, compile_layers
from clever_ferry.layouts import LayoutSpec, compile_layouts
from clever_ferry.model import convert
from clever_ferry.moving.files import FolderFiles
from clever_ferry.payload import BytesPayload, read_all


def box_of(spec: Mapping[str, Any], layouts: Mapping[str, Any] | None = None) -> Box:
    made = {name: convert(one, LayoutSpec) for name, one in (layouts or {}).items()}
    return make_box(convert(spec, BoxSpec), compile_layouts(made))


def contents(box: Box, folder: Path) -> dict[str, bytes]:
    found = box.read(FolderFiles(folder), lambda _: True)
    assert not any(entry.problem for entry in found.entries)
    return {one.name: read_all(one.payload, limit=1 << 20, what="it") for one in found.entries}


def change(box: Box, folder: Path, puts: Mapping[str, bytes], removes: list[str]) -> None:
    found = box.read(FolderFiles(folder), lambda _: True)
    items = [Put(name, BytesPayload(data), 10**18) for name, data in puts.items()]
    for output in box.write(found, items, removes, Making(10**18, bytes)):
        if output.payload is None:
            (folder / output.path).unlink()
        else:
            data = read_all(output.payload, limit=1 << 20, what="it")
            (folder / output.path).write_bytes(data)


FRONT = {"front": {"fields": [
    {"type": "magic", "text": "ROW"}, {"type": "u8", "name": "map"},
    {"type": "list", "name": "flags", "of": "u8", "count": 4},
    {"type": "list", "name": "sizes", "of": "u16", "count": 4},
]}, "head": {"fields": [{"type": "u8", "name": "size"}]}}  # fmt: skip
ROW = {"kind": "positions", "file": "row", "count": 4, "size": 16, "name": "s{slot}",
       "fields": {"slot": {"type": "number", "first": 0}}}  # fmt: skip
WAYS: dict[str, dict[str, Any]] = {
    "bits": {"layout": "front", "bits": "/map", "sizes": "/sizes"},
    "flags": {"layout": "front", "flags": "/flags", "sizes": "/sizes", "fill": 7},
    "sizes": {"layout": "front", "sizes": "/sizes", "first": 24},
    "starts": {"first": 3, "starts": {"text": "!"}},
    "used": {"first": 0, "used": {"layout": "head", "at": "/size", "plus": 1}, "fill": 255},
    "fill": {"first": 5, "fill": 32},
}


def row_of(way: str, saves: Mapping[int, bytes]) -> bytes:
    spec = WAYS[way]
    fill = bytes([spec.get("fill", 0)])
    first = spec.get("first", 16)
    front = b""
    if "layout" in spec:
        taken = sum(1 << slot for slot in saves) if way == "bits" else 0xA5
        flags = bytes(int(slot in saves) if way == "flags" else 9 for slot in range(4))
        sizes = b"".join(len(saves.get(slot, b"")).to_bytes(2, "little") for slot in range(4))
        front = b"ROW" + bytes([taken]) + flags + sizes
    slots = b"".join(saves.get(slot, b"").ljust(16, fill) for slot in range(4))
    return front.ljust(first, b"?")[: max(first, len(front))] + slots + b"tail"


def entry_of(way: str, data: bytes) -> bytes:
    """Return bytes that a slot can hold in this way."""
    match way:
        case "starts":
            return (b"!" + data)[:16].ljust(16, b"\0")
        case "used":
            return bytes([len(data[:15])]) + data[:15]
        case "fill":
            return (b"x" + data)[:16].ljust(16, b" ")
    return data[:16] or b"-"


SLOTS = st.dictionaries(st.integers(0, 3), st.binary(max_size=16))


@given(st.sampled_from(sorted(WAYS)), SLOTS, SLOTS, st.sets(st.integers(0, 3)))
def test_slots_by_position(
    tmp_path_factory: pytest.TempPathFactory, way: str, old: dict[int, bytes],
    new: dict[int, bytes], gone: set[int],
) -> None:  # fmt: skip
    folder = tmp_path_factory.mktemp("row")
    box = box_of({**ROW, **WAYS[way]}, FRONT)
    old = {slot: entry_of(way, data) for slot, data in old.items()}
    new = {slot: entry_of(way, data) for slot, data in new.items()}
    (folder / "row").write_bytes(row_of(way, old))
    assert contents(box, folder) == {f"s{slot}": data for slot, data in sorted(old.items())}
    change(box, folder, {f"s{slot}": data for slot, data in new.items()},
           [f"s{slot}" for slot in gone - new.keys()])  # fmt: skip
    left = {slot: data for slot, data in {**old, **new}.items() if slot in new or slot not in gone}
    assert (folder / "row").read_bytes() == row_of(way, left)


@pytest.mark.parametrize(("raw", "said"), [
    (b"ROW", "u8"), (b"RAW" + bytes(99), "magic"), (b"ROW" + bytes(13) + bytes(63), "end at byte"),
])  # fmt: skip
def test_a_row_that_is_cut_is_damaged(tmp_path: Path, raw: bytes, said: str) -> None:
    box = box_of({**ROW, **WAYS["bits"]}, FRONT)
    (tmp_path / "row").write_bytes(raw)
    with pytest.raises(DamagedError):
        contents(box, tmp_path)
    (tmp_path / "row").unlink()
    with pytest.raises(DamagedError, match="missing"):
        contents(box, tmp_path)


@pytest.mark.parametrize(("way", "at"), [("bits", 3), ("flags", 5)])
def test_what_is_left_in_a_free_slot_is_no_save(tmp_path: Path, way: str, at: int) -> None:
    raw = bytearray(row_of(way, {1: b"abc"}))
    box = box_of({**ROW, **WAYS[way]}, FRONT)
    (tmp_path / "row").write_bytes(raw)
    assert contents(box, tmp_path) == {"s1": b"abc"}
    raw[at] = 0
    (tmp_path / "row").write_bytes(raw)
    assert contents(box, tmp_path) == {}


def test_a_slot_that_is_damaged_spoils_no_other(tmp_path: Path) -> None:
    fields = [{"type": "magic", "text": "S"}, {"type": "u8", "name": "size"}]
    way = {"first": 0, "used": {"layout": "head", "at": "/size"}, "fill": 255}
    box = box_of({**ROW, **way}, {"head": {"fields": fields}})
    slots = [b"S\x05abc", b"T\x05abc", b"\xff" * 16, b"S\x63abc"]
    (tmp_path / "row").write_bytes(b"".join(one.ljust(16, b"\xff") for one in slots))
    found = {one.name: one for one in box.read(FolderFiles(tmp_path), lambda _: True).entries}
    assert read_all(found["s0"].payload, limit=99, what="it") == b"S\x05abc"
    assert "slot 2 of row" in found["s1"].problem
    assert "uses 99 bytes" in found["s3"].problem
    assert len(found) == 3
    rest = (tmp_path / "row").read_bytes()[16:]
    change(box, tmp_path, {"s0": b"S\x03d"}, [])
    assert (tmp_path / "row").read_bytes() == b"S\x03d".ljust(16, b"\xff") + rest


def test_a_box_needs_no_key() -> None:
    spec = convert([{"kind": "aes", "mode": "ecb", "key": {"given": "key"}}], list[LayerSpec])
    layers = compile_layers({"locked": spec}, {})
    for names, said in ((["locked"], "only the user knows"), (["lokced"], "there are locked")):
        with pytest.raises(DamagedError, match=said):
            make_box(convert({**ROW, **WAYS["fill"], "layers": names}, BoxSpec), {}, layers)


def test_what_no_slot_can_hold_is_refused(tmp_path: Path) -> None:
    box = box_of({**ROW, **WAYS["bits"], "beside": True}, FRONT)
    (tmp_path / "row").write_bytes(row_of("bits", {0: b"a"}))
    lying = bytearray(row_of("bits", {0: b"a"}))
    lying[8] = 17
    for puts, said in (({"s1": b"x" * 17}, "has 17 bytes"), ({"s9": b"x"}, "none of them")):
        with pytest.raises(RefusedError, match=said):
            change(box, tmp_path, puts, [])
    change(box, tmp_path, {"s1": b"x" * 16}, [])
    change(box, tmp_path, {}, ["s1"])
    (tmp_path / "s4.png").write_bytes(b"p")
    assert contents(box, tmp_path) == {"s0": b"a", "s4.png": b"p"}
    change(box, tmp_path, {"s5.png": b"q"}, ["s4.png"])
    assert (tmp_path / "row").read_bytes() == row_of("bits", {0: b"a"})
    assert contents(box, tmp_path) == {"s0": b"a", "s5.png": b"q"}
    (tmp_path / "row").write_bytes(lying)
    (entry, _) = box.read(FolderFiles(tmp_path), lambda _: True).entries
    assert "uses 17 bytes, and has 16" in entry.problem


DOCUMENTS: dict[str, tuple[dict[str, Any], str, str]] = {
    "members": (
        {"holds": "json", "entries": "/slots/*"},
        '{"kept": 1.50, "slots": {NODES}, "end": [ ]}\n', '"{name}":  {{"day": {day}}}',
    ),
    "listed": (
        {"holds": "relaxed-json", "entries": "/all/*", "name": "/at/id",
         "parts": {"day": {"at": "/day"}, "who": {"at": "/who", "text": True}},
         "template": '{ "at": {"id": ""}, "day": 0, "who": "" }'},
        '// mine\n{"all": [NODES,\n ]}',
        '\n  {{ "at": {{"id": "{name}"}}, "day": {day}, "who": "I" }}',
    ),
    "sections": (
        {"holds": "ini", "entries": "/*"}, "; mine\nkept = yes\nNODES\n", "\n[{name}]\nday = {day}",
    ),
    "elements": (
        {"holds": "xml", "entries": "/saves/save", "name": "/@id",
         "template": '<save id=""><day>0</day></save>',
         "parts": {"day": {"at": "/day", "text": True}}},
        "<saves kept='yes'>NODES\n <!-- end -->\n</saves>",
        '\n <save id="{name}"><day>{day}</day></save>',
    ),
}  # fmt: skip


def days_in(form: str, text: str) -> dict[str, int]:
    """Read a document by a reader that knows nothing of recipes."""
    match form:
        case "members":
            return {name: own["day"] for name, own in json.loads(text)["slots"].items()}
        case "listed":
            plain = re.sub(r",(\s*\])", r"\1", text.removeprefix("// mine\n"))
            return {one["at"]["id"]: one["day"] for one in json.loads(plain)["all"]}
        case "sections":
            book = configparser.ConfigParser()
            book.read_string(text.replace("kept", "[DEFAULT]\nkept", 1))
            return {name: int(book[name]["day"]) for name in book.sections()}
    root = ElementTree.fromstring(text)
    return {one.attrib["id"]: int(one.findtext("day") or "") for one in root.iter("save")}


DAYS = st.dictionaries(st.sampled_from(["one", "two", "a b", "3"]), st.integers(0, 99))


@given(st.sampled_from(sorted(DOCUMENTS)), DAYS, DAYS, st.data())
def test_saves_in_one_document(
    tmp_path_factory: pytest.TempPathFactory, kind: str, old: dict[str, int],
    new: dict[str, int], data: st.DataObject,
) -> None:  # fmt: skip
    folder = tmp_path_factory.mktemp("doc")
    spec, whole, node = DOCUMENTS[kind]
    comma = "," if kind in ("members", "listed") else ""
    nodes = comma.join(node.format(name=name, day=day) for name, day in old.items())
    if kind == "members":
        nodes = "{" + nodes + "}"
        whole = whole.replace("{NODES}", "NODES")
    if not old and kind == "listed":
        whole = whole.replace("NODES,", "NODES")
    text = whole.replace("NODES", nodes)
    box = box_of({"kind": "nodes", "file": "doc", **spec})
    (folder / "doc").write_bytes(text.encode())
    part = "/day" if spec.get("parts") else ""
    assert contents(box, folder).keys() >= {f"{name}{part}" for name in old}
    gone = data.draw(st.sets(st.sampled_from(sorted(old)))) - new.keys() if old else set()
    spelled = {"members": '{{ "day":{day} }}', "sections": "day={day}\n"}.get(kind, "{day}")
    puts = {f"{name}{part}": spelled.format(day=day).encode() for name, day in new.items()}
    if kind == "listed":
        puts |= {f"{name}/who": b'Wren "W"' for name in new}
    removes = [own for own in contents(box, folder) if own.partition("/")[0] in gone]
    change(box, folder, puts, removes)
    after = (folder / "doc").read_text()
    left = {name: day for name, day in {**old, **new}.items() if name not in gone}
    assert days_in(kind, after) == left
    found = contents(box, folder)
    assert {name: found[name] for name in puts} == puts
    for name in old.keys() - gone - new.keys():
        assert node.format(name=name, day=old[name]).strip() in after
    assert after.startswith(whole.partition("NODES")[0].rstrip("[{ "))


def test_elements_that_are_not_plain_are_refused(tmp_path: Path) -> None:
    spec = {"kind": "nodes", "file": "doc", "holds": "json", "entries": "/all/*", "name": "/id",
            "parts": {"day": {"at": "/day"}}, "template": '{"id": "", "day": 0}'}  # fmt: skip
    box = box_of(spec)
    for text, said in (
        ('{"all": [{"id": 1, "day": 2}, {"id": "1"}]}', "'1' twice"),
        ('{"all": [{"day": 2}]}', "no name at /id"),
        ('{"all": [', "damaged"),
    ):
        (tmp_path / "doc").write_text(text)
        with pytest.raises(DamagedError, match=said):
            contents(box, tmp_path)
    (tmp_path / "doc").write_text('{"all": [{"id": 1, "day": 2}, {"id": 2}]}')
    for puts in ({"2/day": b"3"}, {"1/night": b"3"}):
        with pytest.raises(RefusedError):
            change(box, tmp_path, puts, [])
    with pytest.raises(RefusedError, match="can't be taken out"):
        change(box, tmp_path, {"1/day": b"3"}, ["2/day"])
    change(box, tmp_path, {"1/day": b"3"}, [])
    assert (tmp_path / "doc").read_text() == '{"all": [{"id": 1, "day": 3}, {"id": 2}]}'
    whole = box_of({"kind": "nodes", "file": "doc", "holds": "json", "entries": "/all/*",
                    "name": "/id"})  # fmt: skip
    change(whole, tmp_path, {"2": b'{"id": 2, "w": [7]}', "x": b'{"id":"x"}'}, ["1"])
    assert json.loads((tmp_path / "doc").read_text()) == {"all": [{"id": 2, "w": [7]}, {"id": "x"}]}
    for wrong in ({"2": b'{"id": 3}'}, {"9": b"{}"}):
        with pytest.raises(RefusedError, match="at /id"):
            change(whole, tmp_path, wrong, [])
    for parts in (
        {"a": {"at": ""}},
        {"a": {"at": "/id"}},
        {"a": {"at": "/x"}, "b": {"at": "/x/y"}},
    ):
        faults = box_faults(convert({**spec, "parts": parts}, BoxSpec), {})
        assert any("another part" in one for one in faults), parts
    faults = box_faults(convert({**spec, "name": "id"}, BoxSpec), {})
    assert any(one.startswith("format.name: ") for one in faults)
    for template, told in (('{"id": ""}', "not one /day"), ("{", "JSON")):
        with pytest.raises(DamagedError, match=told):
            box_of({**spec, "template": template})
    with pytest.raises(DamagedError, match="no form 'jsn'"):
        box_of({**spec, "holds": "jsn"})
