"""Layers: unwrapped is what was wrapped; standard tools read what is written; damage is told."""

from __future__ import annotations

import bz2
import gzip
import lzma
import struct
import zlib
from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.errors import DamagedError, RefusedError, UnsupportedError
from clever_ferry.layers import Chain, Known, LayerSpec, compile_layers
from clever_ferry.layouts import LayoutError, LayoutSpec, compile_layouts
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload, Payload, StreamPayload, pieces_of, read_all

SEAL = {
    "fields": [
        {"type": "magic", "text": "SEAL"},
        {"type": "u64", "name": "owner", "bound": "account"},
        {"type": "bytes", "name": "world", "size": 4, "bound": "world"},
        {"type": "u16", "name": "flags", "usual": 7},
        {"type": "u64", "name": "plain", "computed": {"what": "size", "of": "payload"}},
        {"type": "u32", "name": "packed", "computed": {"what": "size", "of": "inside"}},
        {"type": "u32", "name": "crc", "computed": {"what": "crc32", "of": "payload"}},
        {"type": "u32", "name": "sum", "computed": {"what": "sum32", "of": "inside"}},
    ]
}
FRONT = {"fields": [{"type": "text", "name": "tag", "size": 3}, {"type": "u8", "name": "version"}]}
FIELDS = Known({"account": "000000042", "world": "00ff00ff"})


def chains(**layers: list[dict[str, Any]]) -> dict[str, Chain]:
    layouts = {"seal": convert(SEAL, LayoutSpec), "front": convert(FRONT, LayoutSpec)}
    specs = {name: convert(steps, list[LayerSpec]) for name, steps in layers.items()}
    return compile_layers(specs, compile_layouts(layouts))


ALL = chains(
    gzip=[{"kind": "gzip"}],
    zlib=[{"kind": "zlib", "level": 9}],
    deflate=[{"kind": "deflate"}],
    xz=[{"kind": "xz", "level": 1}],
    bzip2=[{"kind": "bzip2"}],
    twice=[{"kind": "gzip"}, {"kind": "xz", "level": 0}],
    sealed=[{"kind": "header", "layout": "seal"}, {"kind": "zlib"}],
    tagged=[
        {
            "kind": "by-tag", "layout": "front", "tag": "/tag", "usual": "ZIP",
            "of": {"ZIP": ["zlib"], "XXZ": ["xz"], "RAW": []},
        }
    ],
)  # fmt: skip


def whole(payload: Payload) -> bytes:
    return read_all(payload, limit=1 << 24, what="the test's payload")


@pytest.mark.parametrize("name", [name for name in ALL if name != "tagged"])
@given(data=st.binary(max_size=5000), cut=st.integers(1, 700))
def test_peeling_gives_what_was_dressed(name: str, data: bytes, cut: int) -> None:
    """However the bytes come in chunks."""
    source = StreamPayload(lambda: pieces_of(BytesPayload(data), cut))
    wrapped = whole(ALL[name].wrap(source, FIELDS))
    again = StreamPayload(lambda: pieces_of(BytesPayload(wrapped), cut))
    assert whole(ALL[name].unwrap(again).payload) == data


@pytest.mark.parametrize(
    ("name", "open_"),
    [("gzip", gzip.decompress), ("zlib", zlib.decompress), ("xz", lzma.decompress),
     ("bzip2", bz2.decompress), ("deflate", lambda d: zlib.decompress(d, -15))],
)  # fmt: skip
def test_standard_libraries_read_it(name: str, open_: Callable[[bytes], bytes]) -> None:
    data = bytes(range(256)) * 5000
    assert open_(whole(ALL[name].wrap(BytesPayload(data)))) == data


def test_a_header_states_what_follows_it() -> None:
    data = b"glass" * 1000
    wrapped = whole(ALL["sealed"].wrap(BytesPayload(data), FIELDS))
    magic, owner, world, flags, plain, packed, crc, total = struct.unpack_from(
        "<4sQ4sHQIII", wrapped
    )
    body = wrapped[struct.calcsize("<4sQ4sHQIII") :]
    assert (magic, owner, world, flags) == (b"SEAL", 42, bytes.fromhex("00ff00ff"), 7)
    assert (plain, packed, crc, total) == (len(data), len(body), zlib.crc32(data), sum(body))
    unwrapped = ALL["sealed"].unwrap(BytesPayload(wrapped))
    assert unwrapped.bound == {"account": 42, "world": "00ff00ff"}
    residue = ({**unwrapped.residue[0], "flags": 9}, None)
    again = ALL["sealed"].wrap(BytesPayload(data), FIELDS, residue)
    assert whole(again)[16:18] == b"\x09\x00"


@pytest.mark.parametrize("name", [name for name in ALL if name not in ("tagged", "deflate")])
@given(data=st.data())
def test_damage_is_told(name: str, data: st.DataObject) -> None:
    plain = data.draw(st.binary(min_size=1, max_size=300))
    raw = bytearray(whole(ALL[name].wrap(BytesPayload(plain), FIELDS)))
    match data.draw(st.sampled_from(["cut", "longer"])):
        case "cut":
            del raw[data.draw(st.integers(0, len(raw) - 1)) :]
        case _:
            raw += b"more"
    with pytest.raises(DamagedError):
        whole(ALL[name].unwrap(BytesPayload(bytes(raw))).payload)


@given(st.sampled_from(sorted(ALL)), st.binary(max_size=400))
def test_any_bytes_are_peeled_or_refused(name: str, raw: bytes) -> None:
    try:
        whole(ALL[name].unwrap(BytesPayload(raw)).payload)
    except (DamagedError, UnsupportedError):
        return


@pytest.mark.parametrize("at", range(0, 38, 3))
def test_a_changed_header_is_noticed_or_carried(at: int) -> None:
    """All of the header is checked, but for the owner, the world and the flags."""
    raw = bytearray(whole(ALL["sealed"].wrap(BytesPayload(b"glass"), FIELDS)))
    raw[at] ^= 1
    if 4 <= at < 18:
        assert whole(ALL["sealed"].unwrap(BytesPayload(bytes(raw))).payload) == b"glass"
    else:
        with pytest.raises(DamagedError):
            whole(ALL["sealed"].unwrap(BytesPayload(bytes(raw))).payload)


@pytest.mark.parametrize("tag", ["ZIP", "XXZ", "RAW"])
def test_a_tag_says_which_layers(tag: str) -> None:
    residue = (({"tag": tag, "version": 3}, None),)
    wrapped = whole(ALL["tagged"].wrap(BytesPayload(b"day 31"), residue=residue))
    assert wrapped[:4] == tag.encode() + b"\x03"
    unwrapped = ALL["tagged"].unwrap(BytesPayload(wrapped))
    assert whole(unwrapped.payload) == b"day 31"
    assert whole(ALL["tagged"].wrap(unwrapped.payload, residue=unwrapped.residue)) == wrapped
    with pytest.raises(UnsupportedError, match="'LZO' is not known"):
        ALL["tagged"].unwrap(BytesPayload(b"LZO\x03abc"))


@given(st.binary(max_size=60), st.integers(1, 9))
def test_only_what_follows_a_mark(before: bytes, cut: int) -> None:
    chain = chains(it=[{"kind": "after", "hex": "00ff00"}])["it"]
    raw = before.replace(b"\x00", b"") + b"\x00\xff\x00kept\x00\xff\x00"
    source = StreamPayload(lambda: pieces_of(BytesPayload(raw), cut))
    assert whole(chain.unwrap(source).payload) == b"kept\x00\xff\x00"
    with pytest.raises(UnsupportedError, match="nowhere"):
        whole(chain.unwrap(BytesPayload(before.replace(b"\x00", b""))).payload)


def test_layers_that_cant_be() -> None:
    with pytest.raises(DamagedError, match="no layout 'nowhere'"):
        chains(it=[{"kind": "header", "layout": "nowhere"}])
    loop = [{"kind": "by-tag", "layout": "front", "tag": "/tag", "of": {"A": ["it"]}}]
    with pytest.raises(DamagedError, match="made of itself"):
        chains(it=loop)
    with pytest.raises(LayoutError, match="is no number"):
        ALL["sealed"].wrap(BytesPayload(b""), Known({"account": "x", "world": "00"}))
    with pytest.raises(RefusedError, match="target's account is not known"):
        whole(ALL["sealed"].wrap(BytesPayload(b""), Known({"world": "00ff00ff"})))


def test_a_bomb_is_read_in_small_pieces() -> None:
    raw = gzip.compress(bytes(64 << 20))
    longest = max(len(chunk) for chunk in ALL["gzip"].unwrap(BytesPayload(raw)).payload.chunks())
    assert longest <= 1 << 20
    with pytest.raises(DamagedError, match="larger than"):
        read_all(ALL["gzip"].unwrap(BytesPayload(raw)).payload, limit=1 << 20, what="it")
