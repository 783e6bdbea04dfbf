"""Recipes drafted from folders of saves: strict readers judge what is carried by them."""

from __future__ import annotations

import gzip
import json
import os
import shutil
import time
import zlib
from collections.abc import Callable
from pathlib import Path
from random import Random

import pytest

from clever_ferry.boxes import Making, Put
from clever_ferry.drafting.boxing import box_in
from clever_ferry.moving.files import FolderFiles
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.studying.budget import Budget
from clever_ferry_demo.invented import FORMATS
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.saltglass.server import ServerStore
from tests.boxes_made import MadeBox
from tests.conftest import Den, run_module

CARRIED = {"cashbox", "pocket-finch", "orrery-yard", "longshore-log", "ebb-dynamo"}
"""Of the invented formats, those whose drafts carry to free slots and back with no hand at them."""
DOUBTED = {"longshore-log"}
"""Of those: its times are none that anybody would take for one, and the draft says so."""


def saves(dice: Random, slots: tuple[int, ...]) -> dict[int, tuple[bytes, bytes]]:
    return {
        slot: (
            b"ISLE" + bytes(dice.randrange(4) for _ in range(dice.randrange(900, 3000))),
            json.dumps({"name": f"Isle {slot}", "day": dice.randrange(5, 400)}).encode(),
        )
        for slot in slots
    }


def plain(folder: Path, content: dict[int, tuple[bytes, bytes]]) -> None:
    folder.mkdir(parents=True)
    for slot, (world, note) in content.items():
        (folder / f"{slot}.world").write_bytes(world)
        (folder / f"{slot}.note").write_bytes(note)


def used(den: Den, file: Path) -> None:
    shutil.copy(file, den.recipe(file.stem, ""))


@pytest.mark.parametrize("name", FORMATS)
def test_a_draft_of_an_invented_format_carries_or_says_what_it_lacks(
    linux: Callable[..., Den], tmp_path: Path, name: str
) -> None:
    """What it carries is read by the format's own reader, of saves that the draft has not seen."""
    den, dice = linux(home="home"), Random(11)
    third = 10 if name == "longshore-log" else 3  # its folders' letters are seen from ten on
    seen, new = saves(dice, (1, 2, third)), saves(dice, (5, 6))
    made = tmp_path / "it" / "made"
    made.mkdir(parents=True)
    FORMATS[name].write(made, seen)
    plain(tmp_path / "it" / "plain", seen)
    file = tmp_path / f"my-{name}.toml"
    drafted = ("draft", tmp_path / "it" / "plain", made, "-o", file)
    if name not in CARRIED:
        done = run_module("clever_ferry", *drafted, "--json", env=den.env)
        if done.code == 0:
            assert done.data["doubts"], "it does not carry to each slot, and does not say so"
        else:
            assert "files are named alike" in done.out or "not drafted" in done.out
            assert not file.exists()
        return
    told = den.cferry(*drafted).out
    again = tmp_path / "again" / file.name
    again.parent.mkdir()
    den.cferry("draft", *drafted[1:3], "-o", again)
    assert again.read_text() == file.read_text()
    assert told.count("the same, pieces and facts") == 2
    assert "In doubt" not in told or name in DOUBTED
    used(den, file)
    plain(tmp_path / "new" / "plain", new)
    where = f"my-{name}/made@{tmp_path / 'it'}"
    den.cferry("cross", f"my-{name}/plain@{tmp_path / 'new'}", where, "--yes")
    assert FORMATS[name].read(made) == {**seen, **new}
    den.cferry("check", where)
    den.cferry("cross", f"{where}:5", f"my-{name}/plain@{tmp_path / 'it'}:7", "--yes")
    assert (tmp_path / "it" / "plain" / "7.world").read_bytes() == new[5][0]


def test_saltglass_is_drafted_from_its_depot_and_its_server(den: Den, tmp_path: Path) -> None:
    rented = tmp_path / "rented"
    server = ServerStore(rented)
    server.set_up()
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:2", "--yes")
    for slot, to in ((1, 1), (2, 3), (3, 2)):
        den.cferry("cross", f"saltglass/depot:{slot}", f"saltglass/server@{rented}:{to}", "--yes",
                   "--no-tell")  # fmt: skip
    file = tmp_path / "isles.toml"
    known = ("--known", "voyage-00:day=12", "--known", "voyage-02:day=57")
    told = den.cferry("draft", den.depot, rented / "isles", "-o", file, *known).out
    assert told.count("the same, pieces and facts") == 2
    assert "In doubt" not in told
    text = file.read_text()
    for said in (
        'under = "low-data", path = "NineKettles/Saltglass/{account}"',
        '{ type = "u64", name = "account", order = "little", bound = "account" }',
        'people = { each = "player" }', 'bound = "world"',
        '"voyage-{slot}-{world}/people/{player}.sgt"', '"isle-{slot}/folk/{player}"',
        'computed = { what = "crc32", of = "payload" }', "options = { shared = true",
    ):  # fmt: skip
        assert said in text, said
    used(den, file)
    den.cferry("cross", "isles/saltglass:2", f"isles/isles@{rented}:7", "--yes")
    assert server.load(7) == server.load(3)
    den.cferry("cross", f"isles/isles@{rented}:2", "isles/saltglass:5", "--yes")
    assert "Heron Point, day 57" in den.loads("depot", 5)


def test_moth_and_lantern_is_drafted_with_whose_files_they_are(den: Den, tmp_path: Path) -> None:
    home = den.top / "C/Users/Wren"
    lay_moth_lantern(den.top)
    den.cferry("cross", "moth-lantern/classic:1", "moth-lantern/anniversary:free", "--yes")
    file = tmp_path / "tales.toml"
    told = den.cferry("draft", home / "Documents/Moth and Lantern",
                      home / "Saved Games/Moth & Lantern Anniversary", "-o", file).out  # fmt: skip
    assert told.count("the same, pieces and facts") == 2
    text = file.read_text()
    assert '"{owner}-tale{slot}.mth"' in text
    assert 'name = "owner", order = "little", bound = "owner"' in text
    used(den, file)
    route = ("tales/moth-lantern-anniver:1", "tales/moth-and-lantern:3")
    den.cferry("cross", *route, "--yes", "--replace")
    played = run_module("clever_ferry_demo.moth_lantern.program", "--edition", "classic", "load",
                        "--slot", "3", env=den.env)  # fmt: skip
    assert "a try" in played.out, played.err


def test_saves_that_have_names_of_their_own(linux: Callable[..., Den], tmp_path: Path) -> None:
    den, dice = linux(home="home"), Random(5)
    names = ("Brass Court", "Comet Lane", "Old Town Hall", "Ünder 3")
    for at, name in enumerate(names):
        world, note = saves(dice, (at,))[at]
        (tmp_path / "flat").mkdir(exist_ok=True)
        (tmp_path / "flat" / f"{name}.dat").write_bytes(world)
        (tmp_path / "flat" / f"{name}.info").write_bytes(note)
        if at < 3:
            (tmp_path / "deep" / name).mkdir(parents=True)
            (tmp_path / "deep" / name / "world.gz").write_bytes(gzip.compress(world))
            (tmp_path / "deep" / name / "about.json").write_bytes(note)
    file = tmp_path / "courts.toml"
    told = den.cferry("draft", tmp_path / "flat", tmp_path / "deep", "-o", file).out
    assert told.count("the same, pieces and facts") == 2
    assert '"{name}/world.gz"' in file.read_text()
    used(den, file)
    den.cferry("cross", f"courts/flat@{tmp_path}:Ünder 3", f"courts/deep@{tmp_path}", "--yes")
    packed = (tmp_path / "deep" / "Ünder 3" / "world.gz").read_bytes()
    assert gzip.decompress(packed) == (tmp_path / "flat" / "Ünder 3.dat").read_bytes()
    for path in (tmp_path / "deep").rglob(
        "world.gz"
    ):  # in pieces: a recipe can say it, a draft not
        data = gzip.decompress(path.read_bytes())
        parts = [zlib.compress(data[at : at + 500]) for at in range(0, len(data), 500)]
        path.write_bytes(b"".join(len(one).to_bytes(4, "big") + one for one in parts))
    told = den.cferry("draft", tmp_path / "flat", tmp_path / "deep", "-o", tmp_path / "p.toml").out
    assert "the world is packed in pieces: that is not drafted yet" in told
    assert "has no like on the other side" in told
    locked = tmp_path / "locked"
    locked.mkdir()
    for at in range(2):
        (locked / f"s{at}.bin").write_bytes(dice.randbytes(2_100))
    told = den.cferry("draft", locked, "-o", tmp_path / "locked.toml").out
    assert "looks encrypted, or packed in a way that is not known" in told
    for at in range(2):
        (locked / f"s{at}.bin").rename(locked / f"s{{{at}}}.bin")
    told = den.cferry("draft", locked, "-o", tmp_path / "other.toml", code=5).err
    assert "no way to say braces" in told


@pytest.mark.parametrize(("args", "code", "said"), [
    (["a", "-o", "Wrong Name.toml"], 2, "can't be a recipe's file"),
    (["a", "-o", "there.toml"], 2, "there.toml is there already"),
    (["none", "-o", "x.toml"], 3, "There is no folder none"),
    (["a", "a", "a", "-o", "x.toml"], 2, "one folder of saves, or of two editions'"),
    (["a", "-o", "x.toml"], 3, "no two files are named alike"),
    (["a", "-o", "x.toml", "--known", "day"], 2, "does not say what is known"),
])  # fmt: skip
def test_wrong_words(
    den: Den, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, args: list[str], code: int, said: str
) -> None:
    monkeypatch.chdir(tmp_path)
    Path("a").mkdir()
    Path("a/only.sav").write_bytes(b"x" * 99)
    Path("there.toml").write_text("")
    assert said in den.cferry("draft", *args, code=code).err
    assert not Path("x.toml").exists()


@pytest.mark.parametrize("first", [0, *(pytest.param(one, marks=pytest.mark.long("many builds"))
                                        for one in range(12, 240, 12))])  # fmt: skip
def test_a_box_of_any_build_is_opened_and_written_as_its_own_reader_wants_it(
    tmp_path: Path, first: int
) -> None:
    """What is found of an index holds for what is written by it; what is not clear is said."""
    right = 0
    for seed in range(first, first + 12):
        box, dice = MadeBox(seed), Random(seed)
        entries = {}
        for slot in (1, 2, 3):
            entries[f"isle{slot}.world"] = dice.randbytes(dice.randrange(300, 3000))
            note = {"name": f"Isle {slot}", "day": dice.randrange(400)}
            entries[f"isle{slot}.note"] = json.dumps(note).encode()
        folder, now = tmp_path / str(seed), time.time_ns()
        box.write(folder, entries, now)
        assert box.read(folder) == entries
        found = box_in(FolderFiles(folder), str(folder), "it-", Budget(60))
        if found is None:
            continue
        inside = found.inside
        assert {one.path: read_all(inside.payload(one.path), limit=1 << 20, what="it")
                for one in inside.walk(lambda _: True)} == entries, box  # fmt: skip
        new = {"isle1.note": b'{"n": 2}', "isle4.world": dice.randbytes(700)}
        puts = [Put(name, BytesPayload(data), now) for name, data in new.items()]
        made, contents = found.compiled(FolderFiles(folder))
        for out in made.write(contents, puts, ["isle2.note"], Making(now, os.urandom)):
            if out.payload is None:
                (folder / out.path).unlink()
            else:
                data = read_all(out.payload, limit=1 << 20, what="it")
                (folder / out.path).write_bytes(data)
        del entries["isle2.note"]
        try:
            assert box.read(folder) == entries | new
            right += 1
        except AssertionError:
            assert found.doubts, f"{box}: wrong, and nothing is said to be unclear"
    assert right >= 10
