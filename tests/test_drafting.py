"""Recipes drafted from folders of saves: strict readers judge what is carried by them."""

from __future__ import annotations

import gzip
import json
import os
import shutil
import sqlite3
import time
import zlib
from base64 import b64encode
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from random import Random
from typing import NamedTuple

import pytest

from clever_ferry.boxes import Making, Put
from clever_ferry.drafting.boxing import box_in
from clever_ferry.errors import UnsupportedError
from clever_ferry.moving.files import FolderFiles
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.studying.budget import Budget
from clever_ferry_demo.invented import FORMATS
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.saltglass.server import ServerStore
from clever_ferry_demo.world import lay_finch
from tests.boxes_made import MadeBook, MadeBox
from tests.conftest import LONG, Den, at_terminal, run_module
from tests.files_made import MadeFile

CARRIED = {"almanac", "cashbox", "pocket-finch", "orrery-yard", "longshore-log", "ebb-dynamo",
           "ropewalk", "waybill", "moth-lantern", "hamper", "tidebook"}  # fmt: skip
"""Of the invented formats, those whose drafts carry there and back with no hand at them."""
DOUBTED = {"longshore-log", "moth-lantern"}
"""Of those, the ones in which something is not clear, as their drafts say: the one's times are none
that anybody would take for one; the other's saves have a number that only their game makes, so that
a draft carries onto saves that are there."""


def saves(dice: Random, slots: tuple[int, ...]) -> dict[int, tuple[bytes, bytes]]:
    return {
        slot: (
            b"ISLE" + bytes(dice.randrange(4) for _ in range(dice.randrange(900, 9000))),
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


SLOW = ("ebb-dynamo", "longshore-log", "orrery-yard", "pocket-finch")
BUILDS = 12 if LONG else 3


@pytest.mark.long
@pytest.mark.parametrize(
    "name",
    [
        pytest.param(one, marks=[pytest.mark.long("it takes long")] * (one in SLOW))
        for one in FORMATS
    ],
)
def test_a_draft_of_an_invented_format_carries_or_says_what_it_lacks(
    linux: Callable[..., Den], tmp_path: Path, record_property: Callable[[str, object], None],
    name: str,
) -> None:  # fmt: skip
    """What it carries is read by the format's own reader, of saves that the draft has not seen."""
    record_property("drafts", 0)
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
    onto = ((":5", ":2"), (":6", ":1")) if name == "moth-lantern" else (("", ""),)
    for one, other in onto:
        den.cferry("cross", f"my-{name}/plain@{tmp_path / 'new'}{one}", f"{where}{other}",
                   "--replace", "--yes")  # fmt: skip
    came = {5: 2, 6: 1} if name == "moth-lantern" else {5: 5, 6: 6}
    expected = {**seen, **{came[slot]: content for slot, content in new.items()}}
    assert FORMATS[name].read(made) == expected
    den.cferry("check", where)
    den.cferry("cross", f"{where}:{came[5]}", f"my-{name}/plain@{tmp_path / 'it'}:7", "--yes")
    assert (tmp_path / "it" / "plain" / "7.world").read_bytes() == new[5][0]
    record_property("drafts", 1)


class Route(NamedTuple):
    """Two editions' folders, what is carried there and back, and what their game says of it."""

    folders: tuple[Path, Path]
    there: tuple[str, ...]
    back: tuple[str, ...]
    says: Callable[[], tuple[str, str]]


def _to_server(den: Den) -> Route:
    server = ServerStore(den.top / "rented")
    server.set_up()
    for slot, to in ((1, 1), (2, 3), (3, 2)):
        den.cferry("cross", f"saltglass/depot:{slot}", f"saltglass/server@{den.top}/rented:{to}",
                   "--yes", "--no-tell")  # fmt: skip
    return Route(
        (den.depot, den.top / "rented" / "isles"),
        ("it/saltglass:2", f"it/isles@{den.top}/rented:7"),
        (f"it/isles@{den.top}/rented:2", "it/saltglass:5"),
        lambda: (str(server.load(7) == server.load(3)), den.loads("depot", 5)),
    )  # fmt: skip


def _to_crate(den: Den) -> Route:
    den.cferry("cross", "saltglass/depot:1", "saltglass/tern:3", "--yes")
    return Route((den.depot, den.tern), ("it/saltglass:3", "it/second:5"),
                 ("it/second:1", "it/saltglass:6"),
                 lambda: (den.loads("tern", 5), den.loads("depot", 6)))  # fmt: skip


def _to_finch(den: Den) -> Route:
    lay_finch(den.top)
    den.cferry("cross", "saltglass/depot:1", "saltglass/finch:2", "--yes")
    return Route((den.depot, next(den.top.rglob("SALTGLASS"))), ("it/saltglass:3", "it/second:3"),
                 ("it/second:2", "it/saltglass:6"),
                 lambda: (den.loads("finch", 3), den.loads("depot", 6)))  # fmt: skip


def _tales(den: Den) -> Callable[[str, int], str]:
    """Lay three tales a side, and return what says of one which it is."""
    lay_moth_lantern(den.top)
    run_module("clever_ferry_demo.moth_lantern.program", "--edition", "classic", "new", "--slot",
               "5", env=den.env)  # fmt: skip
    for slot, other in ((1, 2), (3, 3)):
        for edition in ("anniversary", "finch"):
            route = (f"moth-lantern/classic:{slot}", f"moth-lantern/{edition}:{other}")
            den.cferry("cross", *route, "--yes")

    def said(edition: str, slot: int) -> str:
        done = run_module("clever_ferry_demo.moth_lantern.program", "--edition", edition, "load",
                          "--slot", str(slot), env=den.env)  # fmt: skip
        return done.out + done.err

    return said


def _to_anniversary(den: Den) -> Route:
    home, said = den.top / "C/Users/Wren", _tales(den)
    return Route(
        (home / "Documents/Moth and Lantern", home / "Saved Games/Moth & Lantern Anniversary"),
        ("it/moth-and-lantern:3", "it/moth-lantern-anniver:5"),
        ("it/moth-lantern-anniver:2", "it/moth-and-lantern:8"),
        lambda: (said("anniversary", 5), said("classic", 8)),
    )


def _to_moth_finch(den: Den) -> Route:
    home, said = den.top / "C/Users/Wren", _tales(den)
    return Route(
        (home / "Documents/Moth and Lantern", next(den.top.rglob("MOTHLANT"))),
        ("it/moth-and-lantern:3", "it/mothlant:1", "--replace"),
        ("it/mothlant:2", "it/moth-and-lantern:8"), lambda: (said("finch", 1), said("classic", 8)),
    )  # fmt: skip


@pytest.mark.parametrize(("make", "says", "writes"), [
    (_to_server, ("True", "Heron Point, day 57"), (
        'under = "low-data", path = "NineKettles/Saltglass/{account}"',
        '{ type = "u64", name = "account", order = "little", bound = "account" }',
        'people = { each = "player" }', 'bound = "world"',
        '"voyage-{slot}-{world}/people/{player}.sgt"', '"isle-{slot}/folk/{player}"',
        'computed = { what = "crc32", of = "payload" }', "options = { shared = true",
    )),
    (_to_crate, ("Heron Point, day 57", "Heron Point, day 20"), (
        'kind = "indexed"', 'blob = "stow/{id}-{part}.tern"', '"isle{slot}.folk.{player}"',
        'check = { at = "/check", what = "crc32" }', 'name = "owner", bound = "account"',
        'length = "varint"', 'computed = { what = "adler32", of = "before" }', 'unit = "ms"',
    )),
    (_to_finch, ("Heron Point, day 57", "Saltmarsh, day 12"), ('"SG{slot}_{player}.FLK"',)),
    (_to_anniversary, ("By candle", "Ada's first"), (
        '"{owner}-tale{slot}.mth"', 'name = "owner", order = "little", bound = "owner"',
    )),
    (_to_moth_finch, ("By candle", "Ada's first"), (
        'describes = "mth"', 'bound = "page"', 'name = "account", order = "little"',
    )),
])  # fmt: skip
def test_the_demo_s_games_are_drafted_and_their_own_programs_load_what_is_carried(
    den: Den, tmp_path: Path, record_property: Callable[[str, object], None],
    make: Callable[[Den], Route], says: tuple[str, str], writes: tuple[str, ...],
) -> None:  # fmt: skip
    record_property("drafts", 0)
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:2", "--yes")
    route, file = make(den), tmp_path / "it.toml"
    known = ("--known", "voyage-00:day=12", "--known", "voyage-02:day=57")
    told = den.cferry("draft", *route.folders, "-o", file,
                      *(known if route.folders[0] == den.depot else ())).out  # fmt: skip
    assert told.count("the same, pieces and facts") == 2
    text = file.read_text()
    for said in writes:
        assert said in text, said
    used(den, file)
    for way in (route.there, route.back):
        den.cferry("cross", *way, "--yes", "--no-tell")
    for said, right in zip(route.says(), says, strict=True):
        assert right in said
    record_property("drafts", 1)


def test_what_bytes_do_not_tell_is_asked_at_a_terminal(den: Den, tmp_path: Path) -> None:
    route = _to_finch(den)
    assert "day 12" in den.loads("finch", 2)  # it has made its index anew
    folders, file = [str(one) for one in route.folders], tmp_path / "it.toml"
    assert (route.folders[1] / "SGINDEX.DAT").exists()
    code, shown = at_terminal(den, "draft", *folders, "-o", str(file), answers=["yes", "8", ""])
    assert code == 0, shown
    assert "SGINDEX.DAT in second lists the other files and their sizes" in shown
    text = file.read_text()
    assert 'rebuilt = ["SGINDEX.DAT"]' in text
    assert text.count("most_slots = 8  # as you said") == 1
    used(den, file)
    den.cferry("cross", *route.there, "--yes")
    assert not (route.folders[1] / "SGINDEX.DAT").exists()
    assert "Heron Point, day 57" in den.loads("finch", 3)
    flat = tmp_path / "flat"
    flat.mkdir()
    for slot, (where, who) in enumerate((("Cove", "Salt"), ("Ness", "Tern"), ("Bay", "Rill")), 1):
        (flat / f"{slot}.json").write_text(json.dumps({"where": where, "label": who, "day": slot}))
    for answer, place in (("Salt", "/label"), ("", "/where")):
        file = tmp_path / f"by{place[1:]}.toml"
        code, shown = at_terminal(den, "draft", str(flat), "-o", str(file), answers=[answer, ""])
        assert code == 0, shown
        assert "How is this save called in the game's menu?" in shown
        assert f'name = {{ label = "Name", from = "json", at = "{place}" }}' in file.read_text()
    told = den.cferry("draft", flat, "-o", tmp_path / "yes.toml", "--yes").out
    assert "Known by: day, name" in told


def test_further_saves_confirm_a_recipe_or_refute_it(den: Den, tmp_path: Path) -> None:
    file = tmp_path / "isles.toml"
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:2", "--yes")
    den.cferry("draft", den.depot, "-o", file)
    file.write_text(f"# mine\n{text}" if (text := file.read_text()) else "")
    other = tmp_path / den.depot.name
    shutil.copytree(den.depot, other)
    before = file.read_bytes()
    more = ("draft", "--more", other, "-o", file)
    told = den.cferry(*more, "--json").data
    assert told["refuted"] == []
    assert "saltglass: saves that are read: 3" in told["confirmed"]
    assert "at_4 in saltglass-world-front-1 is 3 here, too" in told["confirmed"]
    world = next(other.rglob("world.sgw"))
    raw = bytearray(world.read_bytes())
    raw[6] = 9
    world.write_bytes(raw)
    next(other.rglob("meta.json")).write_text("{")
    (other / "strange.bin").write_bytes(b"x")
    told = den.cferry(*more).out
    assert "✗ at_4 in saltglass-world-front-1 is 3 in the recipe, and 589827 here" in told
    assert "✗ no pattern of saltglass fits strange.bin" in told
    assert "✗ Saltmarsh" in told or "✗ slot" in told
    assert file.read_bytes() == before
    (tmp_path / "none").mkdir()
    told = den.cferry("draft", "--more", tmp_path / "none", "-o", file).out
    assert "No edition of it reads a save there" in told


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
    for path in (tmp_path / "deep").rglob("world.gz"):
        data = gzip.decompress(path.read_bytes())
        parts = [zlib.compress(data[at : at + 500]) for at in range(0, len(data), 500)]
        path.write_bytes(b"".join(len(one).to_bytes(4, "big") + one for one in parts))
    file = tmp_path / "pieces.toml"
    told = den.cferry("draft", tmp_path / "flat", tmp_path / "deep", "-o", file).out
    assert told.count("the same, pieces and facts") == 2
    assert '{ kind = "chunks", most = 500, header = "deep-world-chunk-1"' in file.read_text()
    for path in (tmp_path / "deep").rglob("world.gz"):
        path.write_bytes(path.read_bytes() + b"end")
    file = tmp_path / "ends.toml"
    told = den.cferry("draft", tmp_path / "flat", tmp_path / "deep", "-o", file).out
    assert "the world is packed in pieces whose sizes are not clear" in told
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


def test_of_many_saves_the_newest_are_tried_and_empty_files_are_none(
    den: Den, tmp_path: Path
) -> None:
    many = tmp_path / "many"
    many.mkdir()
    for slot in range(203):
        (many / f"s{slot}.bin").write_bytes(b"SAVE" + slot.to_bytes(4, "little"))
        stamp = 10**18 + slot * 10**9
        os.utime(many / f"s{slot}.bin", ns=(stamp, stamp))
    told = den.cferry("draft", many, "-o", tmp_path / "many.toml").out
    assert "3 older saves not looked at" in told
    assert "And 160 saves more" in told
    assert " s2.bin " not in told
    assert " s3.bin " in told
    assert "And 160 pieces more, each written again the same" in told
    for path in many.iterdir():
        path.write_bytes(b"")
    told = den.cferry("draft", many, "-o", tmp_path / "none.toml", code=3).err
    assert "that may be saves are empty" in told


@pytest.mark.parametrize(("args", "code", "said"), [
    (["a", "-o", "Wrong Name.toml"], 2, "can't be a recipe's file"),
    (["a", "-o", "there.toml"], 2, "there.toml is there already"),
    (["none", "-o", "x.toml"], 3, "There is no folder none"),
    (["a", "a", "a", "-o", "x.toml"], 2, "one folder of saves, or of two editions'"),
    (["a", "-o", "x.toml"], 3, "no two files are named alike"),
    (["-o", "x.toml"], 2, "Name the folder of one edition's saves"),
    (["--more", "a", "-o", "x.toml"], 3, "There is no recipe x.toml"),
    (["a", "--more", "a", "-o", "there.toml"], 2, "the folders stand behind it"),
    (["--more", "none", "-o", "there.toml"], 3, "There is no folder none"),
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


def test_a_blob_that_no_index_names_is_left_and_an_index_that_is_not_clear_refused(
    den: Den, tmp_path: Path
) -> None:
    crate = tmp_path / "a" / den.tern.parent.name / "saltglass"
    shutil.copytree(den.tern, crate)
    (crate / "stow" / f"{'ab' * 10}-00.tern").write_bytes(b"stray")
    told = den.cferry("draft", crate, "-o", tmp_path / "stray.toml").out
    assert "an index over blobs" in told
    assert f"stow/{'ab' * 10}-00.tern beside the box: not drafted" in told
    index = crate / "hold.ledger"
    raw = index.read_bytes()
    index.write_bytes(raw[:-4] + b"????????")
    told = den.cferry("draft", crate, "-o", tmp_path / "end.toml").out
    assert "8 bytes at the end of the index are not clear" in told
    index.write_bytes(raw[:12] + b"????" + raw[12:-4] + b"????")
    told = den.cferry("draft", crate, "-o", tmp_path / "front.toml").out
    assert "look like a checksum, and none fits" in told
    index.write_bytes(raw[:150] + b"zz" + raw[150:])
    told = den.cferry("draft", crate, "-o", tmp_path / "x.toml", code=5).err
    assert "hold.ledger" in told
    assert "is an index over files with names that mean nothing" in told
    assert not (tmp_path / "x.toml").exists()


@pytest.mark.parametrize("first", [1, *(pytest.param(one, marks=pytest.mark.long("many builds"))
                                        for one in (0, *range(12, 240, 36)))])  # fmt: skip
@pytest.mark.parametrize("build", [MadeBox, MadeBook])
def test_a_box_of_any_build_is_opened_and_written_as_its_own_reader_wants_it(
    tmp_path: Path, build: type[MadeBox | MadeBook], first: int
) -> None:
    """What is found of an index holds for what is written by it; what is not clear is said."""
    right = 0
    for seed in range(first, first + BUILDS):
        box, dice = build(seed), Random(seed)
        entries = {}
        for slot in (1, 2, 3):
            entries[f"isle{slot}.world"] = dice.randbytes(dice.randrange(300, 3000))
            note = {"name": f"Isle {slot}", "day": dice.randrange(400)}
            entries[f"isle{slot}.note"] = json.dumps(note).encode()
        folder, now = tmp_path / str(seed), time.time_ns()
        box.write(folder, entries, now)
        assert box.read(folder) == entries
        try:
            found = box_in(FolderFiles(folder), str(folder), "it-", Budget(60))
        except UnsupportedError:
            continue
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
    assert right >= BUILDS * 5 // 6


@pytest.mark.parametrize("keyed", [True, False])
def test_a_document_that_holds_all_saves_is_drafted_with_what_its_elements_say(
    linux: Callable[..., Den], tmp_path: Path, keyed: bool
) -> None:
    den, dice = linux(home="home"), Random(8)
    seen, new = saves(dice, (1, 2, 3)), saves(dice, (5, 6))
    plain(tmp_path / "plain", seen)
    plain(tmp_path / "new", new)
    made = tmp_path / "it" / "all.json"
    made.parent.mkdir()

    def document(content: dict[int, tuple[bytes, bytes]], mood: bool = False) -> dict[str, object]:
        every = {
            f"slot{slot}": {
                **({} if keyed else {"number": slot}), "title": json.loads(note)["name"],
                "note": json.loads(note), "crc": f"{zlib.crc32(world):08x}", "sealed": True,
                "data": b64encode(zlib.compress(world)).decode(), "size": len(world),
                **({"mood": zlib.crc32(note) & 255} if mood else {}),
            } for slot, (world, note) in content.items()
        }  # fmt: skip
        return {"by": "Isa", "saves": every if keyed else [*every.values()], "last": 2}

    made.write_text(json.dumps(document(seen), indent=1))
    told = den.cferry("draft", tmp_path / "plain", made.parent, "-o", tmp_path / "all.toml").out
    assert "In doubt" not in told
    used(den, tmp_path / "all.toml")
    for slot, to, more in ((5, 5, ()), (6, 2, ("--replace",))):
        den.cferry("cross", f"all/plain@{tmp_path / 'new'}:{slot}",
                   f"all/it@{made.parent}:{to}", "--yes", *more)  # fmt: skip
    assert json.loads(made.read_text()) == document({**seen, 2: new[6], 5: new[5]})
    told = den.cferry("draft", made.parent, "-o", tmp_path / "alone.toml").out
    assert "whether what is in all.json are saves, nothing here shows" in told
    made.write_text(json.dumps(document(seen, mood=True)))
    told = den.cferry("draft", tmp_path / "plain", made.parent, "-o", tmp_path / "x.toml").out
    assert "the mood" in told[told.index("In doubt") :].partition("\n")[0]


def test_columns_of_a_database_say_what_a_save_is_known_by(
    linux: Callable[..., Den], tmp_path: Path
) -> None:
    """What a column repeats is written for what is new; what is not clear is said."""
    den, dice = linux(home="home"), Random(3)
    seen, new = saves(dice, (1, 2, 3)), saves(dice, (5,))
    plain(tmp_path / "plain", seen)
    plain(tmp_path / "new", new)
    made = tmp_path / "it"
    made.mkdir()

    def rows(content: dict[int, tuple[bytes, bytes]]) -> list[tuple[object, ...]]:
        return [(f"{slot}/{name}", slot, json.loads(note)["name"], data)
                for slot, (world, note) in content.items()
                for name, data in (("world", world), ("note", note))]  # fmt: skip

    with closing(sqlite3.connect(made / "kept.db")) as book, book:
        columns = "path TEXT, slot INT NOT NULL, title TEXT NOT NULL, data BLOB"
        book.execute(f"CREATE TABLE rows ({columns})")
        book.execute("CREATE TABLE about (what TEXT, worth INT)")
        book.execute("INSERT INTO about VALUES ('build', 6)")
        book.executemany("INSERT INTO rows VALUES (?, ?, ?, ?)", rows(seen))
    file = tmp_path / "kept.toml"
    told = den.cferry("draft", tmp_path / "plain", made, "-o", file).out
    assert "/about/[what=build]/worth may say how many rows the table rows has: it stays" in told
    used(den, file)
    den.cferry("cross", f"kept/plain@{tmp_path / 'new'}:5", f"kept/it@{made}:5", "--yes")
    with closing(sqlite3.connect(made / "kept.db")) as book, book:
        assert sorted(book.execute("SELECT * FROM rows")) == sorted(rows(seen | new))
        assert book.execute("SELECT worth FROM about").fetchall() == [(6,)]
        book.execute("ALTER TABLE rows ADD COLUMN mood")
        book.execute("UPDATE rows SET mood = hex(substr(data, 7, 3))")
    told = den.cferry("draft", tmp_path / "plain", made, "-o", tmp_path / "x.toml").out
    assert "the column mood of the table rows is not clear" in told
    (tmp_path / "lands").mkdir()
    for slot in seen:  # a save that is a database, whose rows are no files
        with closing(sqlite3.connect(tmp_path / f"lands/land{slot}.db")) as book, book:
            book.execute("CREATE TABLE squares (place INTEGER PRIMARY KEY, data BLOB)")
            squares = [(at * slot, dice.randbytes(50)) for at in range(60)]
            book.executemany("INSERT INTO squares VALUES (?, ?)", squares)
    told = den.cferry("draft", tmp_path / "lands", "-o", tmp_path / "y.toml").out
    assert "the land is sqlite: what is in it is not drafted" in told


@pytest.mark.parametrize("seed", [0, 13, *(pytest.param(one, marks=pytest.mark.long("builds"))
                                           for one in (24, *range(30, 60, 4)))])  # fmt: skip
def test_files_of_any_build_are_carried_as_their_own_reader_wants_them_or_it_is_said(
    linux: Callable[..., Den], tmp_path: Path, seed: int
) -> None:
    """Fronts of some fields, packed or turned, with a sum behind; never wrong without a word."""
    den, made, dice = linux(home="home"), MadeFile(seed), Random(seed)
    seen, new = ({slot: bytes(dice.choice((0, 0, 1, 2, 3, 250))
                              for _ in range(dice.randrange(400, 6000)))
                  for slot in slots} for slots in ((1, 2, 3), (5, 6)))  # fmt: skip
    account = tmp_path / "it" / str(made.account)
    account.mkdir(parents=True)
    made.write(account, seen, time.time_ns())
    assert made.read(account) == seen
    for name, content in (("plain", seen), ("new", new)):
        (tmp_path / name).mkdir()
        for slot, data in content.items():
            (tmp_path / name / f"{slot}.world").write_bytes(data)
    file = tmp_path / "made.toml"
    told = den.cferry("draft", tmp_path / "plain", account, "-o", file).out
    used(den, file)
    carried: dict[int, bytes] = {}
    for slot, to, more in ((5, 5, ()), (6, 2, ("--replace",))):
        done = run_module(
            "clever_ferry", "cross", f"made/plain@{tmp_path / 'new'}:{slot}",
            f"made/it@{account}:{to}", "--yes", *more, env=den.env,
        )  # fmt: skip
        carried |= {to: new[slot]} if done.code == 0 else {}
    if "In doubt" not in told:
        assert set(carried) == {5, 2}
        assert made.read(account) == seen | carried
    assert "In doubt" not in told or seed not in (0, 13, 24)
