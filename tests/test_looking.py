"""What changed lately, what a folder holds, which file corresponds to which, and the picture."""

from __future__ import annotations

import json
import os
import struct
import subprocess
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.boxes import Entry
from clever_ferry.finding.scanning import New, scan
from clever_ferry.moving import local
from clever_ferry.moving.files import FolderFiles
from clever_ferry.unboxing.surveying import survey
from clever_ferry_demo.world import lay_loft
from tests.conftest import Den, laid, link

any_name = pytest.mark.skipif(os.name == "nt", reason="such names are none on Windows")


def test_a_mark_then_what_the_game_wrote(den: Den) -> None:
    assert "--mark" in den.cferry("look", "--since-mark", code=3).err
    assert "start the game" in den.cferry("look", "--mark").out
    time.sleep(0.02)
    assert "No file has changed" in den.cferry("look", "--since-mark", code=3).out
    den.game("depot", "play", "--slot", "1")
    hidden = den.top / "C/Users/Wren/Documents/My Games/Unheard Of"
    hidden.mkdir(parents=True)
    (hidden / "slot a.dat").write_bytes(b"\0" * 10)
    told = den.cferry("look", "--since-mark")
    assert "Unheard Of" in told.out
    assert "Next, what such a folder holds" in told.out
    data = den.cferry("look", "--since-mark", "--json").data
    guesses = {Path(one["folder"]).name: (one["game"], one["guess"]) for one in data["folders"]}
    assert guesses["Unheard Of"] == (None, "Unheard Of")
    assert "Saltglass, Cobalt Depot" in {game for game, _ in guesses.values()}
    long_ago = time.time() - 86400
    os.utime(hidden / "slot a.dat", (long_ago, long_ago))
    if os.name == "nt":  # when it was made is kept by Windows' own file systems, not by this one
        return
    assert "came here since" in den.cferry("look", "--since-mark").out
    assert [
        Path(file["path"]).name
        for one in data["folders"]
        for file in one["files"]
        if one["folder"] == str(hidden)
    ] == ["slot a.dat"]


def test_since_looks_into_prefixes_and_not_into_caches(tmp_path: Path) -> None:
    loft = Den(laid(lay_loft, tmp_path / "world"), tmp_path / "own")
    home = loft.top / "home/isa"
    old = time.time() - 7200
    for path in (*loft.top.rglob("*"),):
        os.utime(path, (old, old))
    later = f"{time.strftime('%Y-%m-%d %H:%M:%S', time.localtime(time.time() + 1))}"
    time.sleep(1.1)
    shelf = next((loft.top / "media/games").rglob("AppData"))
    for folder in (home / ".cache/thing", home / ".config/newgame", shelf / "Roaming/Kiln"):
        folder.mkdir(parents=True)
        (folder / "s.dat").write_bytes(b"x")
    data = loft.cferry("look", "--since", later, "--json").data
    names = {Path(one["folder"]).name for one in data["folders"]}
    assert {"newgame", "Kiln"} <= names
    assert "thing" not in names
    assert "no time" in loft.cferry("look", "--since", "later", code=2).err
    assert "do not go together" in loft.cferry("look", "saltglass", "--since", "1h", code=2).err


@any_name
def test_the_walk_finds_what_find_finds(tmp_path: Path) -> None:
    """`find` is the judge; so many folders that several processes share the work."""
    for number in range(120):
        folder = tmp_path / "tree" / f"a {number % 7}" / f"b\n{number}" / "ü"
        folder.mkdir(parents=True)
        for name in ("old", "new"):
            (folder / name).write_bytes(b"x" * number)
    link(tmp_path / "tree" / "loop", tmp_path / "tree")
    cut = time.time_ns()
    time.sleep(0.02)
    for path in sorted((tmp_path / "tree").rglob("new"))[::3]:
        path.write_bytes(b"newer")
    mark = tmp_path / "mark"
    mark.touch()
    os.utime(mark, ns=(cut, cut))
    done = subprocess.run(
        ["find", tmp_path / "tree", "-type", "f", "-newer", mark, "-print0"],
        capture_output=True, check=True,
    )  # fmt: skip
    expected = set(filter(None, os.fsdecode(done.stdout).split("\0")))
    assert len(expected) == 40
    found = list(scan([str(tmp_path / "tree")], cut))
    assert {one.path for one in found} == expected
    assert {one.size for one in found} == {5}
    aside = frozenset([str(tmp_path / "tree" / "a 3")])
    fewer = {one.path for one in scan([str(tmp_path / "tree")], cut, aside)}
    assert fewer == {path for path in expected if "/a 3/" not in path}
    assert list(scan([str(tmp_path / "nowhere")], cut)) == []


def test_a_folder_that_the_walk_cannot_read_is_told(tmp_path: Path) -> None:
    (tmp_path / "file").write_bytes(b"x")
    found = list(scan([str(tmp_path / "file")], 0))
    assert found == [New(str(tmp_path / "file"), 0, -1)]


@any_name
@pytest.mark.parametrize("handles", [True, False])
def test_a_folder_is_listed_as_find_lists_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, handles: bool
) -> None:
    """With handles of folders, and as on a system that has none."""
    monkeypatch.setattr(local, "_HANDLES", handles)
    top = tmp_path / "top"
    deep = top.joinpath(*(f"level {number}" for number in range(40)))
    deep.mkdir(parents=True)
    strange = os.fsdecode(b"not text \xff")
    for folder in (top, deep, top / "level 0"):
        for name in ("ü", "line\nend", strange, ".hidden"):
            (folder / name).write_bytes(os.urandom(len(name)))
    link(deep / "back", top)
    link(top / "link", deep / "ü")
    os.mkfifo(top / "pipe")
    done = subprocess.run(
        ["find", ".", "-type", "f", "-printf", "%P\\0%s\\0%i\\0"],
        cwd=top, capture_output=True, check=True,
    )  # fmt: skip
    told = os.fsdecode(done.stdout).split("\0")
    expected = sorted(zip(told[::3], map(int, told[1::3]), map(int, told[2::3]), strict=False))
    found = list(FolderFiles(top).walk(lambda _: True))
    assert sorted((one.path, one.size, one.number) for one in found) == expected
    outer = [one.path for one in FolderFiles(top).walk(lambda _: False)]
    assert outer == sorted([".hidden", "line\nend", strange, "ü"])
    assert not list(FolderFiles(tmp_path / "nowhere").walk(lambda _: True))


def test_a_folder_that_turns_into_a_link_is_not_followed(tmp_path: Path) -> None:
    for name in ("top/inner", "elsewhere"):
        (tmp_path / name).mkdir(parents=True)
        (tmp_path / name / "file").touch()

    def swap(folder: str) -> bool:  # between being seen and being entered
        (tmp_path / "top/inner/file").unlink()
        (tmp_path / "top/inner").rmdir()
        link(tmp_path / "top/inner", tmp_path / "elsewhere")
        return True

    assert list(FolderFiles(tmp_path / "top").walk(swap)) == []


def test_a_folder_that_no_recipe_knows(den: Den, tmp_path: Path) -> None:
    folder = tmp_path / "unknown"
    folder.mkdir()
    for number in (1, 2, 5):
        (folder / f"slot_{number:02}.dat").write_bytes(os.urandom(50))
        (folder / f"slot_{number:02}.png").write_bytes(b"\x89PNG\r\n\x1a\n")
    (folder / "index.json").write_text('{"slots": 3}')
    (folder / "old.gz").write_bytes(b"\x1f\x8b\x08\0")
    (folder / "list.db").write_bytes(b"SQLite format 3\0")
    told = den.cferry("look", folder).out
    for words in (
        "9 files", "unknown binary", "picture", "text", "compressed (gzip)", "database",
        ".dat + .png, 3 times", "slot_#.dat, # from 1 to 5 (3 files; not there: 3, 4)",
        "No recipe reads it",
    ):  # fmt: skip
        assert words in told, told
    data = den.cferry("look", folder, "--json").data
    assert data["sets"] == [
        {"endings": [".dat", ".png"], "stems": ["slot_01", "slot_02", "slot_05"]}
    ]
    assert "text" in den.cferry("look", folder / "index.json").out
    empty = tmp_path / "empty"
    empty.mkdir()
    assert "no files" in den.cferry("look", empty).out
    assert "no folder or file" in den.cferry("look", tmp_path / "gone", code=2).err
    assert "no recipe for a game" in den.cferry("look", "saltgrass", code=2).err


@any_name
@given(st.dictionaries(st.text(st.characters(codec="utf-8"), min_size=1, max_size=20), st.binary()))
def test_any_names_and_bytes_are_surveyed(
    tmp_path_factory: pytest.TempPathFactory, files: dict[str, bytes]
) -> None:
    folder = tmp_path_factory.mktemp("any")
    count = 0
    for name, content in files.items():
        if not {"/", "\0"} & set(name) and name not in (".", "..") and len(name.encode()) < 200:
            (folder / name).write_bytes(content)
            count += 1
    told = survey(FolderFiles(folder))
    assert (told.count, sum(kind.files for kind in told.kinds)) == (count, count)
    for one in told.series:
        assert len(one.numbers) > 2


def test_a_file_that_vanishes_while_it_is_read(den: Den, monkeypatch: pytest.MonkeyPatch) -> None:
    from clever_ferry.api import Ferry
    from clever_ferry.finding.computers import described_computer
    from clever_ferry.keeping.keeps import Keeps
    from clever_ferry.recipes import Recipes, reading

    ferry = Ferry(described_computer(den.top), Recipes(None), Keeps(den.home))
    gone = next(den.depot.glob("voyage-00-*")) / "meta.json"
    real = reading._Gathering.take

    def take(self: reading._Gathering, entry: Entry) -> None:
        gone.unlink(missing_ok=True)  # between being listed and being read
        real(self, entry)

    monkeypatch.setattr(reading._Gathering, "take", take)
    (opened,) = ferry.slots("saltglass/depot")
    assert [save.slot for save in opened.listing.saves] == [1, 3]
    broken, whole = opened.listing.saves
    assert "gone" in broken.problems[0]
    assert whole.title == "Heron Point"
    assert not whole.problems


def test_a_missing_piece_is_named_beside_those_that_are_there(den: Den) -> None:
    (next(den.depot.glob("voyage-02-*")) / "world.sgw").unlink()
    told = den.cferry("slots", "saltglass/depot").out
    assert "no world" in told
    assert "cferry cross saltglass/depot:1 " in told  # and not the one that would be refused
    saves = den.cferry("slots", "saltglass/depot", "--json", "--sort", "slot").data[0]["saves"]
    assert [save["missing"] for save in saves] == [[], ["world"]]


def test_a_path_within_a_known_place_says_whose_it_is(den: Den) -> None:
    [first, _] = sorted(den.depot.glob("voyage-*"))
    for path, roles in (
        (first / "world.sgw", ["world"]),
        (first / "people", ["traveller"]),
        (first, ["meta", "world", "traveller"]),
        (den.depot / "options.ini", []),
    ):
        [part] = den.cferry("look", path, "--json").data["part_of"]
        assert (part["address"], part["roles"]) == ("saltglass/depot", roles)
        assert part["saves"] == [{"slot": 1, "name": "Saltmarsh"}] * bool(roles)
        said = den.cferry("look", path).out
        assert f"Next: cferry {'check' if roles else 'slots'} saltglass/depot" in said
        assert "No recipe reads it" not in said
    told = den.cferry("look", den.tern / "stow").out
    assert "Part of Saltglass, Tern Arcade: 2 saves" in told
    assert den.cferry("look", den.depot, "--json").data["part_of"] == []


def test_pairs_shows_what_corresponds_both_ways(den: Den) -> None:
    told = den.cferry("pairs", "saltglass/tern", "saltglass/depot").out
    assert "would be isle3.about" in told
    assert "the first is ahead" in told
    assert "settings" in told
    data = den.cferry("pairs", "saltglass/depot", "saltglass/tern:2", "--json").data
    files = {one["piece"]: one for pair in data["pairs"] for one in pair["files"] if pair["second"]}
    assert (files["world"]["second"], files["world"]["label"]) == ("isle2.level", "the island")
    assert files["world"]["first"].endswith("/world.sgw")
    alone = next(pair for pair in data["pairs"] if pair["second"] is None)
    assert alone["first"] == 3
    assert {one["would_second"] for one in alone["files"]} == {
        "isle3.level", "isle3.about", "isle3.folk.Wren"
    }  # fmt: skip
    (den.depot / "notes.txt").write_text("mine")
    assert "notes.txt" in den.cferry("pairs", "saltglass/tern", "saltglass/depot").out


def test_the_picture_shows_every_berth(den: Den, tmp_path: Path) -> None:
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes")
    file = tmp_path / "saves.png"
    assert "5 saves drawn" in den.cferry("slots", "saltglass", "--picture", file).out
    raw = file.read_bytes()
    assert raw[:8] == b"\x89PNG\r\n\x1a\n"
    assert struct.unpack(">II", raw[16:24]) == (1280, 800)
    words = raw[raw.index(b"Description") :]
    assert (
        words.index(b"When each side") < words.index(b"Cobalt Depot: ") < words.index(b"Saltmarsh")
    )
    assert "already" in den.cferry("slots", "saltglass", "--picture", file, code=2).err
    other = tmp_path / "saves.txt"
    assert "no .png" in den.cferry("slots", "saltglass", "--picture", other, code=2).err
    assert json.loads(
        den.cferry("slots", "saltglass", "--picture", tmp_path / "2.png", "--json").out
    )
