"""Saves without a recipe: what is said of them is so, judged by how they were made."""

from __future__ import annotations

import base64
import bz2
import csv
import gzip
import hashlib
import json
import lzma
import os
import struct
import zlib
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any, Literal

import lz4.frame
import pytest
import zstandard
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from clever_ferry.errors import NotFoundError
from clever_ferry.studying.budget import Budget, OverError
from clever_ferry.studying.keys import Key, key_between, turned
from clever_ferry.studying.names import kinds_of_names
from clever_ferry.studying.peeling import peel
from clever_ferry.studying.study import KindStudied, Known, study
from clever_ferry.studying.values import find_value, wanted
from clever_ferry_demo.invented import FORMATS
from tests.conftest import LONG, Den

PHASES = (Phase.explicit, Phase.reuse, Phase.generate)
"""A failing example is as good as a shorter one here, and comes sooner."""
PACKERS: dict[str, Callable[[bytes], bytes]] = {
    "gzip": gzip.compress, "zlib": zlib.compress, "bzip2": bz2.compress, "xz": lzma.compress,
    "lzma": lambda data: lzma.compress(data, lzma.FORMAT_ALONE), "zstd": zstandard.compress,
    "lz4": lz4.frame.compress,
    "deflate": lambda data: zlib.compress(data, 9)[2:-4],
}  # fmt: skip
SUMS: dict[str, Callable[[bytes], bytes]] = {
    "crc32": lambda data: zlib.crc32(data).to_bytes(4, "big"),
    "adler32": lambda data: zlib.adler32(data).to_bytes(4, "little"),
    "md5": lambda data: hashlib.md5(data).digest(),
    "sha1": lambda data: hashlib.sha1(data).digest(),
    "sha256": lambda data: hashlib.sha256(data).digest(),
    "sum32": lambda data: (sum(data) & 0xFFFFFFFF).to_bytes(4, "little"),
}  # fmt: skip


def looked(path: Path, *known: str, seconds: float = 60) -> list[KindStudied]:
    told = [Known(one.partition("=")[0].rpartition(":")[2], one.partition("=")[2],
                  one.partition("=")[0].rpartition(":")[0]) for one in known]  # fmt: skip
    return study([path], told, Budget(seconds)).kinds


def world(dice: Random, most: int = 4000) -> bytes:
    """A save's inside: some that packs well, and some that does not."""
    return b"ISLE" + bytes(dice.randrange(4) for _ in range(dice.randrange(900, most)))


def laid(folder: Path, files: dict[str, bytes]) -> Path:
    for name, data in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)
    return folder


# What a player sees -----------------------------------------------------------------------


def test_the_demos_saves_give_away_what_they_are(den: Den, tmp_path: Path) -> None:
    table = tmp_path / "menu.csv"
    table.write_text("file,day,name\nvoyage-00,12,Saltmarsh\nvoyage-02,57,\n")
    picture = tmp_path / "how.png"
    told = den.cferry("study", den.depot, "--known-from", table, "--known", "voyage-02:coins=2,092",
                      "--known", "voyage-00:moons=99", "--picture", picture).out  # fmt: skip
    for said in (
        "voyage-{n1}-{x1}/world.sgw  2 files", "SGLS", "the account of its folder",
        "{x1} of its name, as bytes", "how many bytes there are once all is unpacked",
        "how many bytes follow", "a checksum (crc32) of what is there once all is unpacked",
        "packed with zlib from byte 40 to the end; zlib's checksum agrees",
        "✓ day (12, 57): unpacked: byte 10, as a number (4 bytes, the lowest first)",
        "✓ name (Saltmarsh): /world/name, as text", "? coins (2,092): at /coins, as text",
        "moons stands nowhere as it is shown", "a text, its length before it, in a byte",
    ):  # fmt: skip
        assert said in told, said
    assert picture.read_bytes().startswith(b"\x89PNG")
    crate = den.top / "C/Users/Wren/AppData/Local/TernArcade/Crates"
    told = den.cferry("study", next(crate.glob("*/saltglass"))).out
    for said in ("a checksum (adler32)", "TERNHOLD", "that at which the file was saved (ms)",
                 "the account of its folder, as bytes"):  # fmt: skip
        assert said in told, said
    assert "Next: " in told


@pytest.mark.parametrize(("args", "code", "said"), [
    (["nowhere"], 3, "There is nothing at nowhere"), (["bare"], 3, "There is no file to look at"),
    (["x.bin", "--known", "day"], 2, "does not say what is known"),
    (["x.bin", "--known-from", "x.bin"], 2, "has no column `file`"),
    (["x.bin", "--known-from", "none.csv"], 3, "can't be read"),
    (["x.bin", "--seconds", "0"], 2, "seconds"),
])  # fmt: skip
def test_wrong_words(
    den: Den, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, args: list[str], code: int, said: str
) -> None:
    monkeypatch.chdir(tmp_path)
    Path("bare").mkdir()
    if "x.bin" in args:
        Path("x.bin").write_bytes(b"a,b\n1,2\n")
    assert said in den.cferry("study", *args, code=code).err


# How it is wrapped ------------------------------------------------------------------------


@pytest.mark.parametrize("packed", PACKERS)
@settings(max_examples=25 if LONG else 3, deadline=None, phases=PHASES)
@given(seed=st.integers(0, 2**32), data=st.data())
def test_a_header_is_told_field_by_field_and_nothing_is_sure_that_is_not_so(
    tmp_path_factory: pytest.TempPathFactory, packed: str, seed: int, data: st.DataObject
) -> None:
    dice = Random(seed)
    order: Literal["little", "big"] = data.draw(st.sampled_from(["little", "big"]))
    made = data.draw(st.sampled_from(list(SUMS)))
    fields = dice.sample(["payload", "inside", "sum", "account", "noise", "slot"], 6)
    files, want = {}, dict[str, int]()
    for slot in (1, 2, 3):
        inside = world(dice)
        stream = PACKERS[packed](inside)
        front = b"HEAD"
        for name in fields:
            want[name] = len(front)
            front += {
                "payload": len(inside).to_bytes(4, order), "inside": len(stream).to_bytes(4, order),
                "sum": SUMS[made](inside), "account": (100200300).to_bytes(8, order),
                "noise": dice.randbytes(5), "slot": (slot - 1).to_bytes(2, order),
            }[name]  # fmt: skip
        files[f"save-{slot}.sav"] = front + stream
    folder = laid(tmp_path_factory.mktemp("it") / "100200300", files)
    (kind,) = looked(folder)
    step = kind.stages[0].step
    assert step is not None
    assert (step.kind, len(step.fronts[0])) == (packed, len(front))
    assert kind.stages[1].begins.startswith(b"ISLE")
    found = {guess.at: guess for guess in kind.stages[0].front}
    assert found[0].kind == "mark"
    for name, at in want.items():
        if name in ("payload", "inside"):
            assert (found[at].kind, found[at].spec["computed"]["of"]) == ("size", name)
            assert found[at].spec.get("order") == order
        elif name == "sum":
            assert (found[at].kind, found[at].spec["computed"]) == (
                "checksum", {"what": made, "of": "payload"},
            )  # fmt: skip
        elif name == "account":
            assert (found[at].kind, found[at].spec["bound"], found[at].sure) == (
                "name", "account", True,
            )  # fmt: skip
        elif name == "noise":
            assert not any(found[one].sure for one in found if at <= one < at + 5)
    ends = [guess.at + guess.size for guess in kind.stages[0].front]
    assert ends == [*list(found)[1:], len(front)]


def spoiled(data: bytes, key: bytes, step: int) -> bytes:
    return bytes(b ^ (key[at % len(key)] + at * step) & 255 for at, b in enumerate(data))


def sized(inside: bytes) -> bytes:
    return len(inside).to_bytes(4, "little") + inside


@pytest.mark.parametrize(("key", "step", "makes"), [
    (b"\x5a", 0, lambda one: sized(one + bytes(4000 + len(one)))),
    (b"finch", 7, lambda one: sized(one + bytes(4000 + len(one)))),
    (b"hemp!", 0, lambda one: json.dumps({"name": "Isle", "rows": "  " * len(one)}).encode()),
    (b"ro", 0, lambda one: b"HEAD" + gzip.compress(one)),
    (b"oar", 0, lambda one: b"\0\1\2" + lzma.compress(one)),
])  # fmt: skip
def test_a_key_is_found_and_only_where_something_comes_out(
    key: bytes, step: int, makes: Callable[[bytes], bytes]
) -> None:
    dice = Random(step)
    plain = [makes(world(dice)) for _ in range(2)]
    turned_over = [spoiled(one, key, step) for one in plain]
    stages = peel(turned_over, Budget(60))
    assert stages[0].step is not None
    assert stages[0].step.key == Key(key, step)
    assert list(stages[1].samples) == plain
    assert key_between(turned_over, plain) == Key(key, step)
    assert key_between(plain, plain) is None
    assert turned(turned_over[0], Key(key, step)) == plain[0]


def test_chunks_and_text_and_footers_and_bare_headers_come_off() -> None:
    dice = Random(4)
    worlds = [world(dice, 9000) for _ in range(3)]

    def chunked(data: bytes) -> bytes:
        parts = [zlib.compress(data[at : at + 700]) for at in range(0, len(data), 700)]
        return b"".join(len(one).to_bytes(2, "big") + one for one in parts)

    ways: dict[str, Callable[[bytes], bytes]] = {
        "chunks": chunked, "base64": base64.encodebytes,
        "hex": lambda one: one.hex().encode(),
        "header": lambda one: b"\x01FNC" + len(one).to_bytes(4, "little") + one,
    }  # fmt: skip
    for kind, way in ways.items():
        stages = peel([way(one) for one in worlds], Budget(60))
        assert stages[0].step is not None
        assert stages[0].step.kind == kind
        assert list(stages[1].samples) == worlds, kind
    stages = peel([one + zlib.crc32(one).to_bytes(4, "little") for one in worlds], Budget(60))
    assert stages[0].step is not None
    assert {len(back) for back in stages[0].step.backs} == {4}
    marked = [b"NOTE " * at + b"HERE:" + gzip.compress(one) for at, one in enumerate(worlds)]
    assert (step := peel(marked, Budget(60))[0].step) is not None
    assert step.mark == b"HERE:"


@pytest.mark.parametrize("name", FORMATS)
def test_the_invented_formats_are_looked_through(tmp_path: Path, name: str) -> None:
    """Each is told to its innermost bytes, where files are packed; nothing ends in an error."""
    dice = Random(7)
    folder = tmp_path / name
    folder.mkdir()
    saves = {slot: (world(dice), json.dumps({"name": f"Isle {slot}", "day": 31 * slot}).encode())
             for slot in (1, 2, 3)}  # fmt: skip
    FORMATS[name].write(folder, saves)
    kinds = looked(folder)
    innermost = {kind.stages[-1].begins[:4] for kind in kinds}
    packed = {"cashbox", "moth-lantern", "waybill", "longshore-log"}
    assert (b"ISLE" in innermost) == (name in packed)


# What the player knows --------------------------------------------------------------------


@settings(max_examples=200 if LONG else 15, deadline=None, phases=PHASES)
@given(
    seed=st.integers(0, 2**32), form=st.sampled_from(["<I", ">I", "<H", ">H", "<Q", "<d", ">f"]),
    at=st.integers(0, 3000),
)  # fmt: skip
def test_a_number_is_found_where_it_was_put_once_enough_files_are_known(
    seed: int, form: str, at: int
) -> None:
    dice = Random(seed)
    samples = []
    for _ in range(3):
        value = dice.randrange(300, 65_000)
        raw = struct.pack(form, value)
        noise = bytearray(dice.randbytes(4000))
        noise[at : at + len(raw)] = raw
        samples.append((bytes(noise), wanted("day", str(value))))
    sure = [one for one in find_value(samples, [[], [], []], Budget(60)) if one.sure]
    assert sure
    assert sure[0].spec["byte"] == at
    assert all(one.spec["byte"] in range(at, at + 8) for one in sure)


@pytest.mark.parametrize(("shown", "raw", "unit"), [
    ("11h46", struct.pack("<I", 42_383), "seconds"), ("11 h 46 min", b"\x8f\xa5\0\0", "seconds"),
    ("11:46:23", struct.pack("<Q", 42_383_000), "milliseconds"),
    ("706 min", struct.pack(">I", 706), "minutes"),
    ("11h46", struct.pack("<d", 42_383 / 3600), "hours"),
    ("11h46", struct.pack("<Q", 42_383 * 10**7), "ticks of 100 ns"),
])  # fmt: skip
def test_play_time_is_known_in_other_units(shown: str, raw: bytes, unit: str) -> None:
    data = b"\xff" * 40 + raw + b"\xff" * 40
    found = find_value([(data, wanted("played", shown))], [[]], Budget(60))
    assert any(unit in one.how and one.spec["byte"] == 40 for one in found)


def test_values_of_texts_are_told_by_their_places(tmp_path: Path) -> None:
    texts = {
        "a/x.json": b'{"world": {"name": "Isle", "days": [1, 31]}}',
        "b/x.xml": b'<save day="31"><world><name>Isle</name></world></save>',
        "c/x.ini": b"[world]\nname = Isle\nday = 31\n",
        "d/x.yaml": b"---\nworld:\n  name: Isle\n  day: 31\n",
        "e/x.properties": b"name=Isle\nday=31\n",
    }  # fmt: skip
    laid(tmp_path, texts)
    found = {
        kind.names.pattern[0]: {one.name: one.ways[0].places[0] for one in kind.values}
        for kind in looked(tmp_path, "name=Isle", "day=31")
    }
    assert found == {
        "a": {"name": "/world/name", "day": "/world/days/1"},
        "b": {"name": "/save/world/name", "day": "/save/@day"},
        "c": {"name": "/world/name", "day": "/world/day"},
        "d": {"name": "/world/name", "day": "/world/day"}, "e": {"name": "/name", "day": "/day"},
    }  # fmt: skip


def test_one_file_with_a_small_number_decides_nothing(tmp_path: Path) -> None:
    data = Random(1).randbytes(3000) + struct.pack("<I", 31) + bytes(3000)
    laid(tmp_path, {"one.sav": data})
    (kind,) = looked(tmp_path, "day=31")
    assert not any(way.sure for value in kind.values for way in value.ways)


# Hostile and odd --------------------------------------------------------------------------


@settings(max_examples=60 if LONG else 6, deadline=None, phases=PHASES)
@given(seed=st.integers(0, 2**32), count=st.integers(1, 4), size=st.sampled_from([40, 900, 5000]))
def test_nothing_is_sure_of_noise(
    tmp_path_factory: pytest.TempPathFactory, seed: int, count: int, size: int
) -> None:
    dice = Random(seed)
    folder = laid(tmp_path_factory.mktemp("noise"), {
        f"{at}.sav": dice.randbytes(size + at) for at in range(count)
    })  # fmt: skip
    (kind,) = looked(folder, "day=31", "played=11h46")
    (stage,) = kind.stages
    assert stage.step is None
    assert not any(one.sure for one in (*stage.front, *stage.back))
    assert stage.looks_locked == (size == 5000)


def test_odd_folders_end_in_no_error(tmp_path: Path) -> None:
    laid(tmp_path, {
        "empty.sav": b"", "empty2.sav": b"", "same1.dat": b"SAME" * 90, "same2.dat": b"SAME" * 90,
        "cut.gz": gzip.compress(os.urandom(900))[:-30], "one.x": b"\xff", "Ünïcödé/a b.sav": b"{",
    })  # fmt: skip
    kinds = {kind.names.pattern: kind for kind in looked(tmp_path)}
    assert kinds["cut.gz"].stages[0].step is None
    same = kinds["same{n1}.dat"].stages[0]
    assert not any(one.sure for one in same.front)
    assert [one.pattern for one in kinds_of_names(["people/Wren.sgt", "people/Isa.sgt"])] == [
        "people/{w1}.sgt"
    ]
    with pytest.raises(NotFoundError):
        looked(tmp_path / "Ünïcödé" / "none")


@pytest.mark.parametrize("stops", [OverError, KeyboardInterrupt])
def test_what_is_known_when_it_is_stopped_is_told(
    tmp_path: Path, stops: type[BaseException]
) -> None:
    laid(tmp_path, {"a1.txt": b'{"day": 1}', "a2.txt": b'{"day": 2}', "b.bin": b"\0" * 99})
    seen: list[str] = []

    def shown(what: str) -> None:
        seen.append(what)
        if what == "b.bin":
            raise stops(what)

    budget = Budget(60, shown)
    found = study([tmp_path], [], budget)
    assert [kind.names.pattern for kind in found.kinds] == ["a{n1}.txt"]
    assert found.stopped == ("" if stops is OverError else "as you said")
    late = study([tmp_path], [], Budget(0))
    assert not late.kinds
    assert late.stopped


def test_the_same_within_is_seen_across_editions(tmp_path: Path) -> None:
    inside = world(Random(3))
    laid(
        tmp_path, {"one/slot1.sav": b"HD" + zlib.compress(inside), "two/W1": gzip.compress(inside)}
    )
    (pair,) = study([tmp_path], [], Budget(60)).alike
    assert {pair.first, pair.second} == {"one/slot1.sav", "two/W1"}
    assert pair.size == len(inside)


def test_a_table_of_what_the_menu_shows_is_read_as_people_write_it(
    den: Den, tmp_path: Path
) -> None:
    table = tmp_path / "menu.csv"
    with table.open("w", encoding="utf-8-sig", newline="") as file:
        csv.writer(file).writerows([["file", "day"], ["voyage-00", "12"], ["voyage-02", "57"]])
    data: dict[str, Any] = den.cferry(
        "study", den.depot, "--known-from", table, "--json"
    ).data  # fmt: skip
    found = [
        value for kind in data["kinds"] for value in kind["values"] if value["ways"][0]["sure"]
    ]
    assert {value["ways"][0]["places"][0] for value in found} == {"/clock/day", "byte 10"}
