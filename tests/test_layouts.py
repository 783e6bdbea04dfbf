"""Layouts: generated ones both ways, each kind by its bytes, edits; damage has a place."""

from __future__ import annotations

import hashlib
import struct
import zlib
from typing import Any
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.documents.places import PlaceError, set_at, steps_of, value_at
from clever_ferry.layouts import (
    Layout,
    LayoutError,
    LayoutSpec,
    compile_layouts,
    start_digest,
)
from clever_ferry.layouts.times import from_ns, to_ns
from clever_ferry.layouts.whole import LayoutForm
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload


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


IDENT = "00112233-4455-6677-8899-aabbccddeeff"

EXACT: list[tuple[list[dict[str, Any]], dict[str, Any], str]] = [
    ([{"type": "identifier", "name": "i"}], {"i": IDENT}, "00112233445566778899aabbccddeeff"),
    ([{"type": "identifier", "name": "i", "order": "mixed"}], {"i": IDENT},
     "33221100554477668899aabbccddeeff"),
    ([{"type": "time", "name": "t", "within": "u32", "unit": "s"}], {"t": 10**9}, "01000000"),
    ([{"type": "time", "name": "t", "within": "u64", "unit": "ms", "order": "big"}],
     {"t": 5_000_000}, "0000000000000005"),
    ([{"type": "time", "name": "t", "within": "u64", "unit": "ticks-1601"}],
     {"t": 0}, "00803ed5deb19d01"),
    ([{"type": "time", "name": "t", "within": "u64", "unit": "ticks-1"}],
     {"t": 0}, (62_135_596_800 * 10**7).to_bytes(8, "little").hex()),
    ([{"type": "time", "name": "t", "within": "u32", "unit": "dos"}],
     {"t": 315532800 * 10**9}, "00002100"),
    ([{"type": "time", "name": "t", "within": "u32", "unit": "dos"}], {"t": None}, "00000000"),
    ([{"type": "bits", "name": "b", "within": "u16", "parts": {"low": 3, "mid": 9, "top": 4}}],
     {"b": {"low": 5, "mid": 256, "top": 15}}, "05f8"),
    ([{"type": "varint", "name": "n", "style": "zigzag"}], {"n": -2}, "03"),
    ([{"type": "text", "name": "t", "ends": "zero", "encoding": "utf-16-le"}],
     {"t": "aĀ"}, "610000010000"),
    ([{"type": "text", "name": "t", "length": "u16", "counts": "characters",
       "encoding": "utf-16-be"}], {"t": "ab"}, "020000610062"),
    ([{"type": "text", "name": "t", "length": "u8", "zero": "counted"}], {"t": "ab"}, "03616200"),
    ([{"type": "text", "name": "t", "length": "u8", "zero": "extra"}], {"t": "ab"}, "02616200"),
    ([{"type": "text", "name": "t", "size": 5, "pad": 0}], {"t": "ab"}, "6162000000"),
    ([{"type": "text", "name": "t", "size": 6, "pad": 32, "encoding": "utf-16-be"}],
     {"t": "a"}, "006100200020"),
    ([{"type": "text", "name": "t", "length": "u8", "encoding": "shift-jis"}],
     {"t": "船"}, "02" + "船".encode("shift-jis").hex()),
    ([{"type": "u8", "name": "n"}, {"type": "padding", "to": 4}, {"type": "u8", "name": "m"}],
     {"n": 1, "m": 2}, "0100000002"),
    ([{"type": "padding", "size": 2, "fill": 255}], {}, "ffff"),
    ([{"type": "list", "name": "l", "of": "u16", "count": "u8"}], {"l": [1, 2]}, "0201000200"),
    ([{"type": "list", "name": "l", "of": "u16", "length": "u8"}], {"l": [1, 2]}, "0401000200"),
    ([{"type": "u8", "name": "n"}, {"type": "list", "name": "l", "of": "u8", "count": "n"}],
     {"n": 2, "l": [7, 8]}, "020708"),
    ([{"type": "list", "name": "l", "of": "i8", "count": 3}], {"l": [1, -1, 0]}, "01ff00"),
    ([{"type": "text", "name": "t", "ends": "--"}, {"type": "u8", "name": "n"}],
     {"t": "a-b", "n": 7}, b"a-b--\x07".hex()),
    ([{"type": "text", "name": "t", "ends": "\n", "encoding": "utf-16-le"}],
     {"t": "Ċa"}, "0a0161000a00"),
    ([{"type": "text", "name": "n", "ends": " ", "number": "decimal"},
      {"type": "text", "name": "m", "size": 4, "number": "HEX"},
      {"type": "text", "name": "k", "length": "u8", "number": "hex", "digits": 3}],
     {"n": -31, "m": 171, "k": 10}, b"-31 00AB\x0300a".hex()),
]  # fmt: skip


@pytest.mark.parametrize(("written", "said"), [
    ("7", "no ';' ends"), ("x;", "no decimal number"), ("07;", "not how 7 is written"),
    ("+7;", "no decimal"), ("-;", "no decimal"), (" 7;", "no decimal"),
])  # fmt: skip
def test_a_number_in_digits_is_one_that_can_be_written_so(written: str, said: str) -> None:
    layout = made({"type": "text", "name": "n", "ends": ";", "number": "decimal"})
    with pytest.raises(LayoutError, match=said):
        layout.read_whole(written.encode())
    with pytest.raises(LayoutError, match="would end it"):
        made({"type": "text", "name": "t", "ends": "ab"}).write({"t": "caa"[:3] + "b"})


@pytest.mark.parametrize(("fields", "value", "right"), EXACT)
def test_each_kind_by_its_bytes(fields: Any, value: dict[str, Any], right: str) -> None:
    layout = made(*fields)
    assert layout.write(value).hex() == right
    assert layout.read_whole(bytes.fromhex(right)) == value


def test_what_ends_a_list_and_what_decides_may_stand_deep() -> None:
    layout = made(
        {"type": "list", "name": "all", "of": "leaf", "until": {"/head/last": 1}},
        {"type": "layout", "name": "top", "of": "leaf"},
        {"type": "choice", "name": "rest", "by": "/top/head/kind", "of": {"7": "u16"},
         "size": "rest"},
        leaf=[{"type": "layout", "name": "head", "of": "deep"}],
        deep=[{"type": "u8", "name": "kind"}, {"type": "u8", "name": "last"}],
    )  # fmt: skip
    value = layout.read_whole(b"\x05\x00\x06\x01\x07\x00\x2a\x00")
    assert [one["head"]["kind"] for one in value["all"]] == [5, 6]
    assert value["rest"] == 42
    assert layout.write(value) == b"\x05\x00\x06\x01\x07\x00\x2a\x00"
    assert layout.read_whole(b"\x06\x01\x08\x00\x2a")["rest"] == b"\x2a"


CRC_CHECKS = {  # of b"123456789", from the catalogue of parametrised CRC algorithms
    "crc32": 0xCBF43926, "crc16-arc": 0xBB3D, "crc16-modbus": 0x4B37, "crc16-ccitt": 0x29B1,
    "crc16-xmodem": 0x31C3, "crc16-kermit": 0x2189, "adler32": 0x091E01DE,
    "fnv1a-32": 0xBB86B11C, "fnv1a-64": 0x06D5573923C6CDFC, "sum8": 0xDD, "sum16": 0x1DD,
    "sum32": 0x1DD, "size": 9,
}  # fmt: skip


@pytest.mark.parametrize("what", CRC_CHECKS)
def test_checksums_by_their_check_values(what: str) -> None:
    layout = made(
        {"type": "bytes", "name": "data", "size": 9},
        {"type": "u64", "name": "check", "computed": {"what": what, "of": "before"}},
    )
    data = layout.write({"data": b"123456789"})
    assert int.from_bytes(data[9:], "little") == CRC_CHECKS[what]
    assert layout.read_whole(data)["check"] == CRC_CHECKS[what]
    with pytest.raises(LayoutError, match="check"):
        layout.read_whole(data[:-8] + bytes([data[-8] ^ 1]) + data[-7:])


@pytest.mark.parametrize(("what", "size"), [("md5", 16), ("sha1", 20), ("sha256", 32)])
def test_hashes_over_the_whole_with_themselves_as_zeros(what: str, size: int) -> None:
    layout = made(
        {"type": "magic", "text": "H"},
        {"type": "bytes", "name": "hash", "size": size, "computed": {"what": what, "of": "all"}},
        {"type": "bytes", "name": "data", "size": "rest"},
    )
    data = layout.write({"data": b"isle"})
    assert data[1 : 1 + size] == hashlib.new(what, b"H" + bytes(size) + b"isle").digest()
    assert layout.read_whole(data)["data"] == b"isle"


@pytest.mark.parametrize("seed", [0, 7, 255, 256, 70_000])
def test_a_digests_seed_is_bytes_in_front(seed: int) -> None:
    front = seed.to_bytes(-(-seed.bit_length() // 8))
    running = start_digest("md5", seed)
    running.update(b"isle")
    assert running.value == hashlib.md5(front + b"isle").digest()


def test_computed_of_fields_and_spans_with_seed_and_xor() -> None:
    span = {"what": "crc32", "of": {"from": "b", "to": "c"}, "seed": 7, "xor": 0xFFFFFFFF}
    layout = made(
        {"type": "u32", "name": "whole", "computed": {"what": "size", "of": "all"}},
        {"type": "u16", "name": "count", "computed": {"what": "count", "of": "items"}},
        {"type": "u16", "name": "where", "computed": {"what": "offset", "of": "items"}},
        {"type": "u16", "name": "b_size", "computed": {"what": "size", "of": "b", "plus": 1}},
        {"type": "u32", "name": "sum", "computed": span},
        {"type": "bytes", "name": "b", "length": "u8"},
        {"type": "u8", "name": "c"},
        {"type": "list", "name": "items", "of": "u16", "count": "count"},
    )
    value = {"count": 3, "b": b"xyz", "c": 9, "items": [1, 2, 3]}
    data = layout.write(value)
    read = layout.read_whole(data)
    assert (read["whole"], read["count"], read["where"], read["b_size"]) == (25, 3, 19, 5)
    assert read["sum"] == zlib.crc32(b"\x03xyz\x09", 7) ^ 0xFFFFFFFF
    assert layout.write(read) == data


TREE: list[dict[str, Any]] = [
    {"type": "text", "name": "key", "length": "u8"},
    {"type": "u8", "name": "kind"},
    {"type": "choice", "name": "value", "by": "kind", "length": "u16",
     "of": {"1": "i32", "2": "branch", "3": "words"}},
]  # fmt: skip
BRANCH = [{"type": "list", "name": "leaves", "of": "it", "until": {"kind": 0}}]
WORDS = [{"type": "text", "name": "text", "size": "rest"}]
LEAF = st.one_of(
    st.builds(lambda v: (1, v), st.integers(-(2**31), 2**31 - 1)),
    st.builds(lambda v: (3, {"text": v}), st.text(max_size=8)),
    st.builds(lambda v: (9, v), st.binary(max_size=8)),
)
END = {"key": "", "kind": 0, "value": b""}
NODE = st.recursive(
    LEAF,
    lambda inner: st.lists(inner, max_size=4).map(
        lambda nodes: (2, {"leaves": [*map(keyed, enumerate(nodes)), END]})
    ),
    max_leaves=20,
)


def keyed(numbered: tuple[int, tuple[int, Any]]) -> dict[str, Any]:
    number, (kind, value) = numbered
    return {"key": f"k{number}", "kind": kind, "value": value}


@given(NODE)
def test_trees_of_tagged_properties_with_unknown_tags_kept(node: tuple[int, Any]) -> None:
    layout = made(*TREE, branch=BRANCH, words=WORDS)
    value = keyed((0, node))
    assert layout.read_whole(layout.write(value)) == value


TABLE = made(
    {"type": "list", "name": "table", "of": "row", "count": "u16"},
    {"type": "parts", "name": "parts", "table": "table", "offset": "at", "size": "size",
     "align": 16},
    {"type": "padding", "to": 16},
    {"type": "u32", "name": "crc", "computed": {"what": "crc32", "of": "before"}},
    order="big",
    row=[{"type": "u32", "name": "at"}, {"type": "u32", "name": "size"},
         {"type": "u16", "name": "note"}],
)  # fmt: skip


@given(st.lists(st.tuples(st.binary(max_size=40), st.integers(0, 9)), max_size=6))
def test_tables_of_offsets_and_sizes(parts: list[tuple[bytes, int]]) -> None:
    value = {
        "table": [{"note": note, "at": 0, "size": 0} for _, note in parts],
        "parts": [data for data, _ in parts],
    }
    raw = TABLE.write(value)
    read = TABLE.read_whole(raw)
    assert read["parts"] == value["parts"]
    for row, (data, note) in zip(read["table"], parts, strict=True):
        assert row["at"] % 16 == 0
        assert row["note"] == note
        assert raw[row["at"] : row["at"] + row["size"]] == data
    assert TABLE.write(read) == raw


def test_an_offset_that_lies_is_told_with_its_path() -> None:
    raw = TABLE.write({"table": [{"note": 0, "at": 0, "size": 0}], "parts": [b"abc"]})
    with pytest.raises(LayoutError, match="table/0/at"):
        TABLE.read_whole(raw[:5] + b"\xff" + raw[6:])


def test_padding_that_is_not_empty_is_kept() -> None:
    layout = made({"type": "u8", "name": "n"}, {"type": "padding", "to": 4})
    assert layout.write(layout.read_whole(b"\x01abc")) == b"\x01abc"
    assert layout.read_whole(b"\x01\0\0\0") == {"n": 1}


# Generated layouts ---------------------------------------------------------------------------

ORDERS = st.sampled_from(["little", "big"])
LENGTHS = st.sampled_from(["u8", "u16", "u32", "varint"])
NUMBERS = {"u8": (0, 255), "i16": (-(2**15), 2**15 - 1), "u32": (0, 2**32 - 1),
           "i64": (-(2**63), 2**63 - 1)}  # fmt: skip
ENCODINGS = ("utf-8", "utf-16-le", "utf-16-be")


@st.composite
def a_field(draw: st.DrawFn, number: int) -> tuple[dict[str, Any], Any]:
    name = f"f{number}"
    field: dict[str, Any]
    kind = draw(st.sampled_from(["number", "varint", "bytes", "text", "zero", "id", "time", "list",
                                 "bits"]))  # fmt: skip
    match kind:
        case "number":
            type_ = draw(st.sampled_from(sorted(NUMBERS)))
            field = {"type": type_, "name": name, "order": draw(ORDERS)}
            return field, draw(st.integers(*NUMBERS[type_]))
        case "varint":
            style = draw(st.sampled_from(["sevens", "ones", "zigzag"]))
            low = -(2**63) if style == "zigzag" else 0
            value = draw(st.integers(low, 2**63 - 1))
            return {"type": "varint", "name": name, "style": style}, value
        case "bytes":
            return {"type": "bytes", "name": name, "length": draw(LENGTHS)}, draw(
                st.binary(max_size=40)
            )
        case "text":
            field = {"type": "text", "name": name, "length": draw(LENGTHS),
                     "encoding": draw(st.sampled_from(ENCODINGS)),
                     "counts": draw(st.sampled_from(["bytes", "characters"])),
                     "zero": draw(st.sampled_from([None, "counted", "extra"]))}  # fmt: skip
            return field, draw(st.text(max_size=20))
        case "zero":
            encoding, ends = draw(st.sampled_from(ENCODINGS)), draw(st.sampled_from(["zero", "ab"]))
            text = draw(st.text(max_size=20)).replace("\0" if ends == "zero" else "a", "")
            return {"type": "text", "name": name, "ends": ends, "encoding": encoding}, text
        case "id":
            order = draw(st.sampled_from(["big", "mixed"]))
            ident = UUID(int=draw(st.integers(0, 2**128 - 1)))
            return {"type": "identifier", "name": name, "order": order}, str(ident)
        case "time":
            unit: Any = draw(st.sampled_from(["s", "ms", "ticks-1601", "ticks-1"]))
            raw = draw(st.integers(1, 2**60))
            return {"type": "time", "name": name, "unit": unit}, to_ns(raw, unit)
        case "list":
            return {"type": "list", "name": name, "of": "i16", "count": draw(LENGTHS)}, draw(
                st.lists(st.integers(-(2**15), 2**15 - 1), max_size=9)
            )
    widths = draw(st.lists(st.integers(1, 5), min_size=1, max_size=3))
    widths.append(32 - sum(widths))
    parts = {f"p{n}": width for n, width in enumerate(widths)}
    bits = {part: draw(st.integers(0, 2**width - 1)) for part, width in parts.items()}
    return {"type": "bits", "name": name, "within": "u32", "parts": parts}, bits


@st.composite
def a_layout(draw: st.DrawFn) -> tuple[Layout, dict[str, Any]]:
    """Return a generated layout of a list of generated records, and a value for it."""
    count = draw(st.integers(1, 6))
    drawn = [draw(a_field(number)) for number in range(count)]
    record = [field for field, _ in drawn]
    value = {field["name"]: value for field, value in drawn}
    more: list[dict[str, Any]] = [
        {"type": "list", "name": "all", "of": "record", "count": draw(LENGTHS)},
        {"type": "u32", "name": "check", "computed": {"what": "crc32", "of": "before"}},
    ]
    layout = made(*more, order=draw(ORDERS), record=record)
    return layout, {"all": [value] * draw(st.integers(0, 3))}


@given(a_layout())
def test_a_generated_layout_reads_what_it_wrote(drawn: tuple[Layout, dict[str, Any]]) -> None:
    layout, value = drawn
    data = layout.write(value)
    read = layout.read_whole(data)
    assert read["all"] == value["all"]
    assert layout.write(read) == data


@given(a_layout(), st.data())
def test_a_generated_layout_refuses_or_rewrites_any_damage(
    drawn: tuple[Layout, dict[str, Any]], data: st.DataObject
) -> None:
    layout, value = drawn
    raw = bytearray(layout.write(value))
    raw[data.draw(st.integers(0, len(raw) - 1))] ^= data.draw(st.integers(1, 255))
    cut = data.draw(st.one_of(st.none(), st.integers(0, len(raw))))
    damaged = bytes(raw[:cut])
    try:
        read = layout.read_whole(damaged)
    except LayoutError:
        return
    assert layout.write(read) == damaged


OF_HEADERS: list[tuple[dict[str, Any], st.SearchStrategy[Any]]] = [
    ({"type": "magic", "text": "SGLS"}, st.none()),
    ({"type": "u16", "name": "fixed", "equals": 3}, st.just(3)),
    ({"type": "i16", "name": "usual", "usual": -7}, st.integers(-9, 9)),
    ({"type": "u32", "name": "plain"}, st.integers(0, 99)),
    ({"type": "bytes", "name": "world", "size": 5}, st.binary(min_size=5, max_size=5)),
    ({"type": "u32", "name": "inner", "computed": {"what": "size", "of": "inside"}},
     st.integers(0, 99)),
    ({"type": "bytes", "name": "hash", "size": 16, "computed": {"what": "md5", "of": "payload"}},
     st.binary(min_size=16, max_size=16)),
    ({"type": "text", "name": "town", "length": "u8"}, st.text(max_size=5)),
    ({"type": "identifier", "name": "id"}, st.uuids().map(str)),
    ({"type": "identifier", "name": "other", "order": "mixed"}, st.uuids().map(str)),
    ({"type": "time", "name": "when", "unit": "ms"}, st.just(86_400 * 10**9)),
]  # fmt: skip


@given(st.lists(st.sampled_from(OF_HEADERS), min_size=1, unique_by=id), st.data())
def test_the_quick_way_says_what_the_steps_say(
    fields: list[tuple[dict[str, Any], st.SearchStrategy[Any]]], data: st.DataObject
) -> None:
    specs = [field for field, _ in fields]
    order = data.draw(ORDERS)
    quick, slow = (made(*specs, order=order) for _ in range(2))
    assert quick.fast is not None
    slow.fast = None
    values = {f["name"]: data.draw(of) for f, of in fields if f["type"] != "magic"}
    raw = quick.write(values)
    assert quick.fast.write_many([values]) == raw
    assert quick.size in (None, len(raw))
    bare = {name: value for name, value in values.items() if name not in ("fixed", "usual")}
    assert quick.fast.write_many([bare]) == quick.write(bare)
    for some in (raw, raw + b"more", raw[: data.draw(st.integers(0, len(raw)))],
                 bytes(one ^ (at == len(raw) // 2) for at, one in enumerate(raw))):  # fmt: skip
        said: list[Any] = []
        for layout in (quick, slow):
            try:
                said.append(layout.read(some))
            except LayoutError as error:
                said.append(str(error))
        assert said[0] == said[1]


@given(a_layout(), st.integers(0, 5), st.data())
def test_an_edit_rewrites_only_what_must_change(
    drawn: tuple[Layout, dict[str, Any]], number: int, data: st.DataObject
) -> None:
    layout, value = drawn
    if not value["all"]:
        return
    raw = layout.write(value)
    key = sorted(value["all"][0])[number % len(value["all"][0])]
    assert layout.edit(raw, f"/all/0/{key}", value["all"][0][key]) == raw
    read = layout.read_whole(layout.edit(raw, "/all", value["all"] + value["all"][:1]))
    assert read["all"][: len(value["all"])] == value["all"]


@given(st.integers(315532800, 4354819198))
def test_dos_stamps_come_back(second: int) -> None:
    second -= second % 2
    assert to_ns(from_ns(second * 10**9, "dos"), "dos") == second * 10**9


def test_a_list_is_as_long_as_is_said() -> None:
    three = made({"type": "list", "name": "all", "of": "u8", "count": 3})
    counted = made(
        {"type": "u8", "name": "n"}, {"type": "list", "name": "all", "of": "u8", "count": "n"}
    )
    assert three.write({"all": [1, 2, 3]}) == b"\1\2\3"
    assert counted.write({"n": 2, "all": [1, 2]}) == b"\2\1\2"
    for layout, values in (
        (three, {"all": [1, 2]}),
        (three, {"all": [1, 2, 3, 4]}),
        (counted, {"n": 2, "all": [1]}),
        (counted, {"n": 2, "all": [1, 2, 3]}),
    ):
        with pytest.raises(LayoutError, match="items are given where"):
            layout.write(values)


def test_an_empty_value_has_the_shape_of_what_stood_there() -> None:
    form = LayoutForm(
        made(
            {"type": "u8", "name": "n"},
            {"type": "bytes", "name": "id", "size": 2},
            {"type": "text", "name": "t", "length": "u8"},
        )
    )
    nodes = form.find(
        BytesPayload(b"\x05\xab\xcd\x01x"), [steps_of(f"/{one}") for one in ("n", "id", "t")]
    )
    assert [form.blank(*own) for own in nodes] == [0, "0000", ""]


def test_an_error_names_the_whole_path() -> None:
    layout = made(
        {"type": "list", "name": "players", "of": "player", "count": "u8"},
        player=[{"type": "layout", "name": "bag", "of": "bag"}],
        bag=[{"type": "u16", "name": "coins", "equals": 7}],
    )
    with pytest.raises(LayoutError) as caught:
        layout.read_whole(b"\x02\x07\x00\x08\x00")
    assert caught.value.what == "it/players/1/bag/coins, at byte 3: 8 stands where 7 should."
    with pytest.raises(LayoutError, match="it/players/0/bag"):
        layout.write({"players": [{"bag": None}, {}]})
