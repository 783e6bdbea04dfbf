"""Binary layouts: one description both ways; damage is an error with a place, never a crash."""

from __future__ import annotations

import struct
import zlib
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.documents.places import PlaceError, set_at, value_at
from clever_ferry.layouts import (
    Layout,
    LayoutError,
    LayoutSpec,
    compile_layouts,
)
from clever_ferry.layouts.times import from_ns, to_ns
from clever_ferry.model import convert


def made(*fields: dict[str, Any], order: str = "little", **more: list[dict[str, Any]]) -> Layout:
    specs = {"it": {"order": order, "fields": list(fields)}}
    specs |= {name: {"order": order, "fields": inner} for name, inner in more.items()}
    return compile_layouts({k: convert(v, LayoutSpec) for k, v in specs.items()})["it"]


INTS = {
    "u8": "B",
    "u16": "H",
    "u32": "I",
    "u64": "Q",
    "i8": "b",
    "i16": "h",
    "i32": "i",
    "i64": "q",
}


@given(st.sampled_from(sorted(INTS)), st.sampled_from(["little", "big"]), st.data())
def test_numbers_are_as_struct_has_them(kind: str, order: str, data: st.DataObject) -> None:
    bits = int(kind[1:])
    low, high = (0, 2**bits - 1) if kind[0] == "u" else (-(2 ** (bits - 1)), 2 ** (bits - 1) - 1)
    value = data.draw(st.integers(low, high))
    right = struct.pack(("<" if order == "little" else ">") + INTS[kind], value)
    layout = made({"type": kind, "name": "n"}, order=order)
    assert layout.write({"n": value}) == right
    assert layout.read_whole(right) == {"n": value}
    with pytest.raises(LayoutError):
        layout.write({"n": high + 1})


@pytest.mark.parametrize(
    ("style", "value", "right"),
    [
        ("sevens", 0, "00"), ("sevens", 127, "7f"), ("sevens", 300, "ac02"),
        ("sevens", 2**64 - 1, "ffffffffffffffffff01"),
        ("ones", 127, "7f"), ("ones", 128, "8080"), ("ones", 0x3FFF, "bfff"),
        ("ones", 0x4000, "c04000"), ("ones", 2**32, "f100000000"),
        ("ones", 2**64 - 1, "ffffffffffffffffff"),
    ],
)  # fmt: skip
def test_varints(style: str, value: int, right: str) -> None:
    layout = made({"type": "varint", "name": "n", "style": style})
    assert layout.write({"n": value}).hex() == right
    assert layout.read_whole(bytes.fromhex(right)) == {"n": value}


@given(st.sampled_from(["sevens", "ones"]), st.integers(0, 2**64 - 1))
def test_every_varint_comes_back(style: str, value: int) -> None:
    layout = made({"type": "varint", "name": "n", "style": style})
    assert layout.read_whole(layout.write({"n": value})) == {"n": value}


RECORD: list[dict[str, Any]] = [
    {"type": "bytes", "name": "id", "size": 4},
    {"type": "text", "name": "name", "length": "u8"},
    {"type": "u8", "name": "size"},
    {"type": "bytes", "name": "sized", "size": "size"},
    {"type": "text", "name": "wide", "length": {"type": "varint", "plus": 1},
     "encoding": "utf-16-le"},
    {"type": "bytes", "name": "tail", "size": "rest"},
]  # fmt: skip
BOOK = made(
    {"type": "magic", "text": "BOOK"},
    {"type": "u16", "name": "version", "equals": 2},
    {"type": "list", "name": "records", "of": "framed", "count": "varint"},
    {"type": "list", "name": "marks", "of": "mark", "until": {"kind": 0}},
    {"type": "u32", "name": "check", "computed": {"what": "crc32", "of": "before"}},
    {"type": "list", "name": "more", "of": "mark", "count": "rest"},
    framed=[{"type": "layout", "name": "record", "of": "record", "length": "u32"}],
    record=RECORD,
    mark=[{"type": "u8", "name": "kind"}, {"type": "i16", "name": "value", "order": "big"}],
)
RECORDS = st.builds(
    lambda ident, name, sized, wide, tail: {
        "record": {
            "id": ident, "name": name, "size": len(sized), "sized": sized, "wide": wide,
            "tail": tail,
        }
    },
    st.binary(min_size=4, max_size=4),
    st.text(max_size=20).filter(lambda text: len(text.encode("utf-8", "replace")) < 256),
    st.binary(max_size=30),
    st.text(max_size=20),
    st.binary(max_size=20),
)  # fmt: skip
MARKS = st.lists(
    st.fixed_dictionaries({"kind": st.integers(1, 255), "value": st.integers(-9, 9)}), max_size=5
)


@given(st.lists(RECORDS, max_size=6), MARKS, MARKS)
def test_a_book_of_everything_comes_back(records: Any, marks: Any, more: Any) -> None:
    values = {
        "version": 2, "records": records, "marks": [*marks, {"kind": 0, "value": 0}], "more": more,
    }  # fmt: skip
    data = BOOK.write(values)
    read = BOOK.read_whole(data)
    assert {**read, "check": None} == {**values, "check": None}
    end = len(data) - 3 * len(more)
    assert read["check"] == zlib.crc32(data[: end - 4])
    assert BOOK.write(read) == data


@given(st.data())
def test_damage_is_told_and_never_crashes(data: st.DataObject) -> None:
    values = {
        "version": 2, "records": data.draw(st.lists(RECORDS, min_size=1, max_size=3)),
        "marks": [{"kind": 0, "value": 0}], "more": [],
    }  # fmt: skip
    raw = bytearray(BOOK.write(values))
    if data.draw(st.booleans()):
        del raw[data.draw(st.integers(0, len(raw) - 1)) :]
    else:
        raw[data.draw(st.integers(0, len(raw) - 1))] ^= data.draw(st.integers(1, 255))
    with pytest.raises(LayoutError) as caught:
        BOOK.read_whole(bytes(raw))
    assert "at byte" in caught.value.what


@given(st.binary(max_size=200))
def test_any_bytes_are_read_or_refused(raw: bytes) -> None:
    try:
        BOOK.read_whole(b"BOOK\x02\x00" + raw)
    except LayoutError:
        return


def test_a_lying_count_is_not_believed() -> None:
    layout = made(
        {"type": "list", "name": "all", "of": "one", "count": "u64"},
        one=[{"type": "u8", "name": "n"}],
    )
    with pytest.raises(LayoutError, match="can't be in 2 bytes"):
        layout.read_whole(b"\xff" * 8 + b"ab")


def test_layouts_that_hold_themselves_end() -> None:
    layout = made({"type": "layout", "name": "inner", "of": "it"})
    with pytest.raises(LayoutError, match="deep"):
        layout.read_whole(b"x" * 100)


@pytest.mark.parametrize(
    ("path", "found"),
    [("/a/1/b", 7), ("/a/#", 2), ("", {"a": [0, {"b": 7}], "c/d": 1}), ("/c~1d", 1)],
)
def test_paths_to_values(path: str, found: Any) -> None:
    assert value_at({"a": [0, {"b": 7}], "c/d": 1}, path) == found


@pytest.mark.parametrize("path", ["/x", "/a/9", "/a/b", "a", "/a/1/b/c"])
def test_paths_that_lead_nowhere(path: str) -> None:
    with pytest.raises(PlaceError):
        value_at({"a": [0, {"b": 7}]}, path)


def test_a_value_is_put_in_place() -> None:
    value = {"a": [0, {"b": 7}]}
    set_at(value, "/a/1/b", 8)
    set_at(value, "/a/0", 5)
    assert value == {"a": [5, {"b": 8}]}


@given(st.sampled_from(["s", "ms", "ns", "ticks-1601", "ticks-1"]), st.integers(0, 2**61))
def test_stamps_come_back(unit: Any, ns: int) -> None:
    assert abs(to_ns(from_ns(ns, unit), unit) - ns) < 1_000_000_000
    assert from_ns(to_ns(from_ns(ns, unit), unit), unit) == from_ns(ns, unit)
