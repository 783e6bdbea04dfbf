"""Layers: every kind comes back, libraries and standard tools read it, damage is told."""

from __future__ import annotations

import base64
import bz2
import gzip
import hashlib
import io
import lzma
import random
import shutil
import struct
import subprocess
import tarfile
import time
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import lz4.block
import lz4.frame
import pytest
import zstandard
from hypothesis import assume, given
from hypothesis import strategies as st

from clever_ferry.certainty import Evidence
from clever_ferry.errors import (
    DamagedError,
    FerryError,
    RefusedError,
    UnsupportedError,
    WrongUseError,
)
from clever_ferry.layers import Chain, Known, LayerSpec, compile_layers
from clever_ferry.layers.ciphers import _xor, _xor_alone
from clever_ferry.layers.known import UNKNOWN, Writing
from clever_ferry.layouts import Layout, LayoutError, LayoutSpec, compile_layouts
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload, Payload, StreamPayload, pieces_of, read_all
from tests.conftest import Den, bins

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


def whole(payload: Payload) -> bytes:
    return read_all(payload, limit=1 << 24, what="the test's payload")


KEY = "000102030405060708090a0b0c0d0e0f"
LAYOUTS = {
    "round": {"fields": [
        {"type": "magic", "text": "RO"},
        {"type": "u32", "name": "all", "computed": {"what": "crc32", "of": "whole"}},
        {"type": "u16", "name": "flags", "usual": 5},
        {"type": "bytes", "name": "md5", "size": 16, "computed": {"what": "md5", "of": "onward"}},
        {"type": "u32", "name": "rest", "computed": {"what": "adler32", "of": "onward"}},
        {"type": "u8", "name": "end", "usual": 7},
    ]},
    "foot": {"fields": [
        {"type": "u32", "name": "size", "computed": {"what": "size", "of": "inside"}},
        {"type": "bytes", "name": "md5", "size": 16, "computed": {"what": "md5", "of": "payload"}},
    ]},
    "chunk": {"order": "big", "fields": [
        {"type": "u32", "name": "packed", "computed": {"what": "size", "of": "inside"}},
        {"type": "u32", "name": "plain", "computed": {"what": "size", "of": "payload"}},
        {"type": "u32", "name": "crc", "computed": {"what": "crc32", "of": "inside"}},
        {"type": "u8", "name": "flag", "usual": 3},
    ]},
    "table": {"fields": [{"type": "list", "name": "chunks", "of": "row", "count": "u32"}]},
    "row": {"fields": [{"type": "u32", "name": "size"}, {"type": "u32", "name": "plain"}]},
    "front": {"fields": [{"type": "text", "name": "tag", "size": 3},
                         {"type": "u8", "name": "version"}]},
    "seal": SEAL,
    "inner": {"fields": [
        {"type": "u32", "name": "crc", "computed": {"what": "crc32", "at_stage": "s"}},
        {"type": "u32", "name": "size", "computed": {"what": "size", "at_stage": "s", "plus": 8}},
    ]},
    "frame": {"fields": [{"type": "magic", "text": "F"}]},
}  # fmt: skip
STEPS: dict[str, list[dict[str, Any]]] = {
    "zstd": [{"kind": "zstd"}],
    "lz4": [{"kind": "lz4"}],
    "lz4-block": [{"kind": "lz4-block"}],
    "lzo": [{"kind": "lzo"}],
    "lzma": [{"kind": "lzma", "level": 0}],
    "gzip": [{"kind": "gzip"}],
    "zlib": [{"kind": "zlib"}],
    "deflate": [{"kind": "deflate"}],
    "xz": [{"kind": "xz", "level": 1}],
    "bzip2": [{"kind": "bzip2"}],
    "sealed": [{"kind": "header", "layout": "seal"}, {"kind": "zlib"}],
    "round": [{"kind": "header", "layout": "round"}],
    "xor": [{"kind": "xor", "hex": "a1b2c3"}],
    "xor-step": [{"kind": "xor", "text": "lantern", "step": 3}],
    "ecb": [{"kind": "aes", "mode": "ecb", "key": {"hex": KEY}}],
    "cbc": [{"kind": "aes", "mode": "cbc", "key": {"hex": KEY}}],
    "cbc-fixed": [{"kind": "aes", "mode": "cbc", "key": {"given": "key"}, "vector": {"hex": KEY}}],
    "ctr": [{"kind": "aes", "mode": "ctr", "key": {"hex": KEY * 2}}],
    "gcm": [{"kind": "aes", "mode": "gcm", "key": {"hex": KEY}}],
    "own-key": [{"kind": "aes", "mode": "cbc", "key": {"front": 32}}],
    "gcm-front": [{"kind": "aes", "mode": "gcm", "key": {"hex": KEY}, "tag": "front"}],
    "base64": [{"kind": "base64"}],
    "base64-lines": [{"kind": "base64", "line": 76, "ending": "crlf"}],
    "hex": [{"kind": "hex", "line": 32}],
    "swap": [{"kind": "swap", "size": 4}],
    "footer": [{"kind": "footer", "layout": "foot", "size": 20}],
    "chunked": [{"kind": "chunks", "most": 100, "header": "chunk", "layers": ["zlib"]}],
    "tabled": [{"kind": "chunks", "most": 64, "table": "table", "plain": "plain",
                "layers": ["lz4-block"]}],
    "staged": [{"kind": "header", "layout": "inner"}, {"kind": "zlib"},
               {"kind": "stage", "name": "s"}, {"kind": "zstd"}],
    "either": [{"kind": "either", "written": 2, "of": [
        {"hex": "04224d18", "layers": ["lz4"]}, {"text": "F", "layers": ["framed"]},
        {"layers": ["zstd"]},
    ]}],
    "zipped": [{"kind": "member", "name": "in/world.bin"}],
    "tarred": [{"kind": "member", "name": "world", "archive": "tar"}, {"kind": "zstd"}],
    "framed": [{"kind": "header", "layout": "frame"}, {"kind": "zlib"}],
    "stack": [{"kind": "base64"}, {"kind": "xor", "hex": "ff01"}, {"kind": "zlib"},
              {"kind": "footer", "layout": "foot", "size": 20}, {"kind": "zstd"}],
}  # fmt: skip
FIELDS = {"account": "000000042", "world": "00ff00ff"}
GIVEN = Known(FIELDS, stated={"key": KEY})


def compiled(**steps: list[dict[str, Any]]) -> dict[str, Chain]:
    layouts = compile_layouts({k: convert(v, LayoutSpec) for k, v in LAYOUTS.items()})
    return compile_layers({k: convert(v, list[LayerSpec]) for k, v in steps.items()}, layouts)


ALL = compiled(**STEPS)


@pytest.mark.parametrize("name", ALL)
@given(data=st.binary(max_size=700), cut=st.integers(1, 300))
def test_peeling_gives_what_was_dressed(name: str, data: bytes, cut: int) -> None:
    source = StreamPayload(lambda: pieces_of(BytesPayload(data), cut))
    wrapped = whole(ALL[name].wrap(source, GIVEN))
    again = StreamPayload(lambda: pieces_of(BytesPayload(wrapped), cut))
    unwrapped = ALL[name].unwrap(again, GIVEN)
    assert whole(unwrapped.payload) == data
    assert whole(ALL[name].wrap(unwrapped.payload, GIVEN, unwrapped.residue)) == wrapped
    changed = whole(ALL[name].wrap(BytesPayload(data + b"!"), GIVEN, unwrapped.residue))
    assert whole(ALL[name].unwrap(BytesPayload(changed), GIVEN).payload) == data + b"!"


OTHERS = st.dictionaries(
    st.text("abc é", min_size=1, max_size=6).map("o".__add__), st.binary(max_size=90), max_size=3
).map(lambda others: {"folder/": b"", **others})


@given(others=OTHERS, day=st.binary(max_size=90))
def test_an_archives_other_members_stay(others: dict[str, bytes], day: bytes) -> None:
    """The source's where it comes from such an archive, else those of what is replaced."""

    def zipped(world: bytes) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.comment = b"mine"
            archive.writestr(zipfile.ZipInfo("in/world.bin", (2020, 2, 3, 4, 5, 6)), world)
            for name, data in others.items():
                packed = zipfile.ZipInfo(name, (2021, 2, 3, 4, 5, 6))
                packed.compress_type = zipfile.ZIP_DEFLATED if name[-1] != "/" else 0
                archive.writestr(packed, data)
        return out.getvalue()

    old = ALL["zipped"].unwrap(BytesPayload(zipped(b"old")))
    before = Known(writing=Writing(10**18, before=old.headers))
    for known, residue in ((UNKNOWN, old.residue), (before, None)):
        written = whole(ALL["zipped"].wrap(BytesPayload(day), known, residue))
        with zipfile.ZipFile(io.BytesIO(written)) as archive:
            assert {one: archive.read(one) for one in archive.namelist()} == {
                "in/world.bin": day, **others
            }  # fmt: skip
            assert archive.comment == b"mine"
            for one in archive.infolist():
                stored = one.filename in ("in/world.bin", "folder/")
                assert one.compress_type == (zipfile.ZIP_STORED if stored else zipfile.ZIP_DEFLATED)
                assert one.filename == "in/world.bin" or one.date_time == (2021, 2, 3, 4, 5, 6)
    alone = whole(ALL["zipped"].wrap(BytesPayload(day)))
    with zipfile.ZipFile(io.BytesIO(alone)) as archive:
        assert [one.compress_type for one in archive.infolist()] == [zipfile.ZIP_DEFLATED]


def test_a_tars_other_members_keep_what_they_have() -> None:
    def tarred(world: bytes) -> bytes:
        out = io.BytesIO()
        with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
            for name, kind, mode in (
                ("kept", tarfile.DIRTYPE, 0o700),
                ("world", tarfile.REGTYPE, 0o640),
                ("kept/run", tarfile.REGTYPE, 0o755),
                ("to", tarfile.SYMTYPE, 0o777),
            ):
                info = tarfile.TarInfo(name)
                data = world if name == "world" else b"run"
                info.type, info.mode, info.uname = kind, mode, "wren"
                before = name != "world" or world == b"old"
                info.mtime = 1_500_000_000.25 if before else 1_600_000_000
                info.linkname = "kept/run" if name == "to" else ""
                info.size = len(data) if kind == tarfile.REGTYPE else 0
                archive.addfile(info, io.BytesIO(data))
        return out.getvalue()

    chain = compiled(it=[{"kind": "member", "name": "world", "archive": "tar", "packed": False}])
    old = chain["it"].unwrap(BytesPayload(tarred(b"old")))
    known = Known(writing=Writing(1_600_000_000 * 10**9))
    assert whole(chain["it"].wrap(BytesPayload(b"day 31"), known, old.residue)) == tarred(b"day 31")


def test_what_is_no_such_archive_is_told() -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("in/world.bin", b"day 31")
    whole_zip = out.getvalue()
    (evidence,) = ALL["zipped"].unwrap(BytesPayload(whole_zip)).evidence
    assert evidence() == Evidence("verified", "the zip's checksum")
    chain = compiled(it=[{"kind": "member", "name": "other"}])["it"]
    spoiled = bytearray(whole_zip)
    spoiled[spoiled.index(b"day 31")] ^= 1
    for one, raw in ((chain, whole_zip), (ALL["zipped"], whole_zip[:-9]), (ALL["zipped"], spoiled),
                     (ALL["tarred"], whole_zip)):  # fmt: skip
        with pytest.raises(DamagedError):
            whole(one.unwrap(BytesPayload(bytes(raw))).payload)


@given(
    names=st.lists(st.sampled_from(sorted(set(ALL) - {"stack"})), min_size=1, max_size=4),
    data=st.binary(max_size=300),
)
def test_any_stack_of_layers_comes_back(names: list[str], data: bytes) -> None:
    """Also the same one twice, in any order."""
    chain = Chain(())
    for name in names:
        chain = chain.then(ALL[name])
    wrapped = whole(chain.wrap(BytesPayload(data), GIVEN))
    unwrapped = chain.unwrap(BytesPayload(wrapped), GIVEN)
    assert whole(unwrapped.payload) == data
    assert whole(chain.wrap(unwrapped.payload, GIVEN, unwrapped.residue)) == wrapped


def test_the_first_wrapping_that_fits_is_taken_and_written_as_it_was() -> None:
    made = compiled(
        gz=[{"kind": "gzip"}], zs=[{"kind": "zstd"}], none=[{"kind": "xor", "hex": "00"}],
        any=[{"kind": "either", "of": [{"hex": "1f8b", "layers": ["gz"]}, {"layers": ["zs"]},
                                       {"text": "RAW"}]}],
        stated=[{"kind": "either", "written": 2, "of": [{"hex": "1f8b", "layers": ["gz"]},
                                                        {"layers": ["zs"]}, {}]}],
    )  # fmt: skip
    raw, crossing = b"RAW day 31", Known(writing=Writing(0))
    for name, right in (("gz", b"\x1f\x8b"), ("zs", b"\x28\xb5"), ("none", b"RAW")):
        there = made["any"].unwrap(BytesPayload(whole(made[name].wrap(BytesPayload(raw)))))
        assert whole(there.payload) == raw
        again = whole(made["any"].wrap(there.payload, crossing, headers=there.headers))
        assert again.startswith(right)
        over = Known(writing=Writing(0, before=there.headers))
        assert whole(made["any"].wrap(BytesPayload(raw), over)).startswith(right)
    assert whole(made["any"].wrap(BytesPayload(raw), crossing)).startswith(b"\x1f\x8b")
    assert whole(made["stated"].wrap(BytesPayload(raw), crossing)).startswith(b"\x28\xb5")
    with pytest.raises(UnsupportedError, match="none of the wrappings"):
        made["any"].unwrap(BytesPayload(b"RUM"))
    assert whole(made["stated"].unwrap(BytesPayload(b"RUM")).payload) == b"RUM"


def test_xor_is_the_same_without_numpy() -> None:
    dice = random.Random(3)
    for size in (0, 1, 7, 65_536):
        one, other = dice.randbytes(size), dice.randbytes(size)
        assert _xor()(one, other) == _xor_alone(one, other)
        assert _xor_alone(_xor_alone(one, other), other) == one


STRICT = sorted(set(ALL) - {"xor", "xor-step", "swap", "ctr", "lz4-block", "ecb", "hex", "base64",
                            "base64-lines", "cbc", "cbc-fixed", "own-key", "either",
                            "deflate"})  # fmt: skip


@pytest.mark.parametrize("name", STRICT)
@given(data=st.data())
def test_a_cut_is_told(name: str, data: st.DataObject) -> None:
    plain = data.draw(st.binary(min_size=1, max_size=300))
    raw = whole(ALL[name].wrap(BytesPayload(plain), GIVEN))
    cut = data.draw(st.integers(0, len(raw) - 1))
    try:
        found = whole(ALL[name].unwrap(BytesPayload(raw[:cut]), GIVEN).payload)
    except DamagedError:
        return
    assert name == "chunked"  # whole chunks that are missing at the end leave no trace
    assert plain.startswith(found)
    assume(found != plain)


@pytest.mark.parametrize("name", ALL)
@given(raw=st.binary(max_size=400))
def test_any_bytes_are_peeled_or_refused(name: str, raw: bytes) -> None:
    try:
        whole(ALL[name].unwrap(BytesPayload(raw), GIVEN).payload)
    except (DamagedError, UnsupportedError):
        return


def test_libraries_read_what_is_written() -> None:
    data = bytes(range(250)) * 9000
    opened = {
        "gzip": gzip.decompress,
        "zlib": zlib.decompress,
        "xz": lzma.decompress,
        "bzip2": bz2.decompress,
        "deflate": lambda raw: zlib.decompress(raw, -15),
        "zstd": zstandard.ZstdDecompressor().decompress,
        "lz4": lz4.frame.decompress,
        "lz4-block": lambda raw: lz4.block.decompress(raw, uncompressed_size=len(data)),
        "base64-lines": base64.b64decode,
        "hex": lambda raw: bytes.fromhex(raw.decode()),
    }
    for name, open_ in opened.items():
        assert open_(whole(ALL[name].wrap(BytesPayload(data)))) == data, name


@pytest.mark.skipif(not shutil.which("openssl"), reason="needs the openssl command")
@pytest.mark.parametrize(("name", "cipher"), [("cbc-fixed", "aes-128-cbc"), ("ecb", "aes-128-ecb")])
def test_openssl_reads_what_is_encrypted(tmp_path: Path, name: str, cipher: str) -> None:
    (tmp_path / "secret").write_bytes(whole(ALL[name].wrap(BytesPayload(b"day 31"), GIVEN)))
    command = ["openssl", "enc", "-d", f"-{cipher}", "-K", KEY, "-in", str(tmp_path / "secret")]
    vector = ["-iv", KEY] if name != "ecb" else []
    assert subprocess.run([*command, *vector], capture_output=True, check=True).stdout == b"day 31"


@pytest.mark.parametrize("name", ["cbc", "gcm", "gcm-front"])
def test_a_wrong_key_is_told(name: str) -> None:
    raw = whole(ALL[name].wrap(BytesPayload(b"day 31")))
    steps = [{**STEPS[name][0], "key": {"hex": "ff" * 16}}]
    with pytest.raises(DamagedError, match="key or its bytes"):
        whole(compiled(it=steps)["it"].unwrap(BytesPayload(raw)).payload)


def test_a_key_that_only_the_user_knows() -> None:
    with pytest.raises(WrongUseError, match="its key is not known"):
        ALL["cbc-fixed"].unwrap(BytesPayload(b"x" * 32))
    with pytest.raises(WrongUseError, match="hexadecimal"):
        ALL["cbc-fixed"].unwrap(BytesPayload(b"x" * 32), Known(stated={"key": "lantern"}))


def test_chunks_are_as_described() -> None:
    raw = whole(ALL["chunked"].wrap(BytesPayload(b"a" * 250)))
    at, sizes = 0, []
    while at < len(raw):
        packed, plain, crc, flag = struct.unpack_from(">IIIB", raw, at)
        body = raw[at + 13 : at + 13 + packed]
        assert zlib.crc32(body) == crc
        assert flag == 3
        assert zlib.decompress(body) == b"a" * plain
        sizes.append(plain)
        at += 13 + packed
    assert sizes == [100, 100, 50]


def test_chunks_of_other_sizes_stay_as_they_were() -> None:
    def chunk(data: bytes, flag: int) -> bytes:
        body = zlib.compress(data)
        return struct.pack(">IIIB", len(body), len(data), zlib.crc32(body), flag) + body

    raw = chunk(b"x" * 30, 9) + chunk(b"y" * 5, 8)
    unwrapped = ALL["chunked"].unwrap(BytesPayload(raw))
    assert whole(unwrapped.payload) == b"x" * 30 + b"y" * 5
    assert whole(ALL["chunked"].wrap(unwrapped.payload, residue=unwrapped.residue)) == raw


@pytest.mark.parametrize(
    ("spec", "outer", "inner"),
    [
        ({"encoding": "utf-16-le", "mark": True, "ending": "crlf"},
         "\ufeffwaves\r\n= 7\r\n".encode("utf-16-le"), b"waves\n= 7\n"),
        ({"ending": "crlf"}, b"a\r\nb\nc", b"a\r\nb\nc"),
        ({"encoding": "shift-jis"}, "船".encode("shift-jis"), "船".encode()),
    ],
)  # fmt: skip
def test_text_in_other_forms(spec: dict[str, Any], outer: bytes, inner: bytes) -> None:
    chain = compiled(it=[{"kind": "text", **spec}])["it"]
    unwrapped = chain.unwrap(BytesPayload(outer))
    assert whole(unwrapped.payload) == inner
    assert whole(chain.wrap(BytesPayload(inner), residue=unwrapped.residue)) == outer


def test_what_stands_before_a_mark_comes_back() -> None:
    chain = compiled(it=[{"kind": "after", "text": "BODY", "keep": True}])["it"]
    unwrapped = chain.unwrap(BytesPayload(b"owner 7\0BODYisle"))
    assert whole(unwrapped.payload) == b"BODYisle"
    wrapped = chain.wrap(BytesPayload(b"BODYother"), residue=unwrapped.residue)
    assert whole(wrapped) == b"owner 7\0BODYother"


@pytest.mark.parametrize("name", ["gzip", "zstd", "lz4", "lzma"])
def test_bombs_come_in_small_pieces(name: str) -> None:
    raw = whole(ALL[name].wrap(StreamPayload(lambda: [bytes(1 << 20)] * 64, 64 << 20)))
    assert len(raw) < 1 << 20
    longest = max(len(piece) for piece in ALL[name].unwrap(BytesPayload(raw)).payload.chunks())
    assert longest <= 1 << 20


def test_a_lying_lz4_block_is_refused() -> None:
    chain = compiled(it=[{"kind": "lz4-block", "most": 4096}])["it"]
    raw = lz4.block.compress(bytes(1 << 20), store_size=False)
    with pytest.raises(DamagedError):
        whole(chain.unwrap(BytesPayload(raw)).payload)


HEADED = """
[layouts.mine]
fields = [
  { type = "magic", text = "MINE" }, { type = "u8", name = "mode" },
  { type = "bytes", name = "machine", size = 4 },
]
[layouts.theirs]
fields = [
  { type = "magic", text = "THEIRS" }, { type = "u8", name = "mode" },
  { type = "bytes", name = "machine", size = 4 }, { type = "i16", name = "serial" },
  { type = "text", name = "owner", ends = "zero" }, { type = "u8", name = "kind", usual = 9 },
  { type = "identifier", name = "id" },
  { type = "time", name = "saved", within = "u32", unit = "s" },
]
[layers]
mine = [{ kind = "header", layout = "mine" }]
theirs = [{ kind = "header", layout = "theirs", on_arrival = WAYS }]
"""
WAYS = (
    '{ mode = ["kept"], machine = ["adopted", "made"], serial = ["made"], owner = ["given"], '
    'kind = ["adopted"], id = ["adopted", "made"], saved = ["made"] }'
)


def test_each_field_of_a_header_arrives_as_the_recipe_says(
    linux: Callable[..., Den], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    here, recipe = linux(home="home"), bins(mine="mine > {slot}", theirs="theirs > {slot}")
    for own in ("mine", "theirs"):
        recipe = recipe.replace('path = "{slot}" }', f'path = "{{slot}}", layers = ["{own}"] }}', 1)
    recipe += HEADED
    path = here.recipe("bin", recipe.replace("WAYS", WAYS))
    told = here.cferry("recipe", "check", path, "--pairs", "--json").data["pairs"]
    (pair,) = [one for one in told if one["from"] == "mine"]
    assert "the serial in the world's header (theirs)" in pair["made"]
    assert "the machine in the world's header (theirs) (adopted or made)" in pair["taken"]
    assert not [one for one in pair["taken"] + pair["made"] if "mode" in one]
    mine, theirs = tmp_path / "mine", tmp_path / "theirs"
    mine.mkdir()
    theirs.mkdir()
    (mine / "1").write_bytes(b"MINE\x07mach" + b"a world")
    told = here.cferry("recipe", "check", path, "--try", mine).out
    assert "same bytes" in told
    assert "under the name" not in told
    route: tuple[str, ...] = ("cross", f"bin/mine@{tmp_path}", f"bin/theirs@{tmp_path}:1")
    assert "State it with --give owner=VALUE" in here.cferry(*route, "--dry-run", code=4).err
    route = (*route, "--give", "owner=Wren")
    shown = here.cferry(*route, "--dry-run").out
    assert "kept      mode 7 (as it was), in the world's header" in shown
    assert "given     owner Wren (as you say), in the world's header" in shown
    moves = here.cferry(*route, "--dry-run", "--json").data["plan"]["moves"][0]["header_fields"]
    how = {one["field"]: (one["how"], one["value"]) for one in moves}
    assert {name: one for name, (one, _) in how.items()} == {
        "mode": "kept", "machine": "made", "serial": "made", "owner": "given", "id": "made",
        "saved": "made",
    }  # fmt: skip
    assert f"made      machine {how['machine'][1]} (a new one)" in shown
    here.cferry(*route, "--yes")
    raw = (theirs / "1").read_bytes()
    machine, (serial,) = bytes.fromhex(str(how["machine"][1])), struct.unpack_from("<h", raw, 11)
    ident = bytes.fromhex(str(how["id"][1]).replace("-", ""))
    assert (raw[:7], raw[7:11], serial) == (b"THEIRS\x07", machine, how["serial"][1])
    assert raw[13:35] + raw[39:] == b"Wren\0\x09" + ident + b"a world"  # what the plan said
    assert 0 <= time.time() - int.from_bytes(raw[35:39], "little") < 1000
    assert how["saved"][1] == "the time of writing"
    assert serial >= 0
    (theirs / "1").write_bytes(raw[:18] + b"\x05" + raw[19:])
    (mine / "1").write_bytes(b"MINE\x08hcam" + b"a later world")
    here.cferry(*route, "--yes", "--replace")
    after = (theirs / "1").read_bytes()
    assert (after[:11], after[13:35]) == (b"THEIRS\x08" + machine, b"Wren\0\x05" + ident)
    assert after[11:13] != raw[11:13]
    ferry, write = here.ferry(), Layout.write
    plan = ferry.plan(route[1], route[2], given={"owner": "Isa"})
    monkeypatch.setattr(Layout, "write", lambda own, said: write(own, {**said, "mode": 3}))
    with pytest.raises(FerryError) as error:
        ferry.carry_out(plan)
    assert "the mode in the world's header (theirs) is 3, and was to be 8" in str(
        error.value.details
    )
    assert (theirs / "1").read_bytes() == after
    monkeypatch.undo()
    assert "no 'serial' to give" in here.cferry(*route, "--give", "serial=5", code=2).err
    for wrong, said in (
        ('mod = ["kept"]', "no such field; there are id, kind, machine, mode, owner"),
        ('owner = ["made"]', "only whole numbers, times, identifiers and fixed bytes"),
        ('saved = ["given"]', "a time can be made, and not stated"),
        ('owner = ["taken"]', "must be"), ("owner = []", "owner"),
    ):  # fmt: skip
        path = here.recipe("bin", recipe.replace("WAYS", f"{{ {wrong} }}"))
        assert said in here.cferry("recipe", "check", path, code=5).err


def test_a_header_states_what_follows_it() -> None:
    data = b"glass" * 1000
    wrapped = whole(ALL["sealed"].wrap(BytesPayload(data), GIVEN))
    magic, owner, world, flags, plain, packed, crc, total = struct.unpack_from(
        "<4sQ4sHQIII", wrapped
    )
    body = wrapped[struct.calcsize("<4sQ4sHQIII") :]
    assert (magic, owner, world, flags) == (b"SEAL", 42, bytes.fromhex("00ff00ff"), 7)
    assert (plain, packed, crc, total) == (len(data), len(body), zlib.crc32(data), sum(body))
    unwrapped = ALL["sealed"].unwrap(BytesPayload(wrapped))
    assert unwrapped.bound == {"account": 42, "world": "00ff00ff"}
    residue = ({**unwrapped.residue[0], "flags": 9}, None)
    again = ALL["sealed"].wrap(BytesPayload(data), GIVEN, residue)
    assert whole(again)[16:18] == b"\x09\x00"


def test_checksums_of_a_header_and_what_follows_it() -> None:
    """Each speaks of those behind it; the one of all, of itself as zeros."""
    raw = bytearray(whole(ALL["round"].wrap(BytesPayload(b"glass"), GIVEN)))
    assert bytes(raw[6:8] + raw[28:]) == b"\x05\0\x07glass"
    assert raw[24:28] == zlib.adler32(raw[28:]).to_bytes(4, "little")
    assert raw[8:24] == hashlib.md5(raw[24:]).digest()
    assert raw[2:6] == zlib.crc32(raw[:2] + bytes(4) + raw[6:]).to_bytes(4, "little")
    for at in range(len(raw)):
        wrong = bytearray(raw)
        wrong[at] ^= 1
        with pytest.raises(DamagedError):
            whole(ALL["round"].unwrap(BytesPayload(bytes(wrong))).payload)
    layouts = {"round": convert(LAYOUTS["round"], LayoutSpec)}
    footer = convert([{"kind": "footer", "layout": "round", "size": 33}], list[LayerSpec])[0]
    assert any("nothing follows a footer" in what for _, what in footer.faults(layouts))


@pytest.mark.parametrize("at", range(0, 38, 3))
def test_a_changed_header_is_noticed_or_carried(at: int) -> None:
    """All of the header is checked, but for the owner, the world and the flags."""
    raw = bytearray(whole(ALL["sealed"].wrap(BytesPayload(b"glass"), GIVEN)))
    raw[at] ^= 1
    if 4 <= at < 18:
        assert whole(ALL["sealed"].unwrap(BytesPayload(bytes(raw))).payload) == b"glass"
    else:
        with pytest.raises(DamagedError):
            whole(ALL["sealed"].unwrap(BytesPayload(bytes(raw))).payload)


TAGGED = compiled(
    zlib=[{"kind": "zlib"}], xz=[{"kind": "xz"}],
    it=[{"kind": "by-tag", "layout": "front", "tag": "/tag", "usual": "ZIP",
         "of": {"ZIP": ["zlib"], "XXZ": ["xz"], "RAW": []}}],
)["it"]  # fmt: skip


@pytest.mark.parametrize("tag", ["ZIP", "XXZ", "RAW"])
def test_a_tag_says_which_layers(tag: str) -> None:
    residue = (({"tag": tag, "version": 3}, None),)
    wrapped = whole(TAGGED.wrap(BytesPayload(b"day 31"), residue=residue))
    assert wrapped[:4] == tag.encode() + b"\x03"
    unwrapped = TAGGED.unwrap(BytesPayload(wrapped))
    assert whole(unwrapped.payload) == b"day 31"
    assert whole(TAGGED.wrap(unwrapped.payload, residue=unwrapped.residue)) == wrapped
    with pytest.raises(UnsupportedError, match="'LZO' is not known"):
        TAGGED.unwrap(BytesPayload(b"LZO\x03abc"))


@given(st.binary(max_size=60), st.integers(1, 9))
def test_only_what_follows_a_mark(before: bytes, cut: int) -> None:
    chain = compiled(it=[{"kind": "after", "hex": "00ff00"}])["it"]
    raw = before.replace(b"\x00", b"") + b"\x00\xff\x00kept\x00\xff\x00"
    source = StreamPayload(lambda: pieces_of(BytesPayload(raw), cut))
    assert whole(chain.unwrap(source).payload) == b"kept\x00\xff\x00"
    with pytest.raises(UnsupportedError, match="nowhere"):
        whole(chain.unwrap(BytesPayload(before.replace(b"\x00", b""))).payload)


def test_layers_that_cant_be() -> None:
    with pytest.raises(DamagedError, match="no layout 'nowhere'"):
        compiled(it=[{"kind": "header", "layout": "nowhere"}])
    loop = [{"kind": "by-tag", "layout": "front", "tag": "/tag", "of": {"A": ["it"]}}]
    with pytest.raises(DamagedError, match="made of itself"):
        compiled(it=loop)
    with pytest.raises(LayoutError, match="is no number"):
        ALL["sealed"].wrap(BytesPayload(b""), Known({"account": "x", "world": "00"}))
    with pytest.raises(RefusedError, match="target's account is not known"):
        whole(ALL["sealed"].wrap(BytesPayload(b""), Known({"world": "00ff00ff"})))
