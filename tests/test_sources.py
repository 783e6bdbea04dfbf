"""Where saves come from: zips made by hand, several zips in a folder, folders with more in them."""

from __future__ import annotations

import sqlite3
import zipfile
from pathlib import Path

import pytest

from clever_ferry_demo.world import lay_loft
from tests.conftest import Den, laid, state


def zipped(file: Path, folder: Path, strip: Path) -> Path:
    """Zip a folder as people do, with names from `strip` on."""
    with zipfile.ZipFile(file, "w") as made:
        for path in sorted(folder.rglob("*")):
            if path.is_file():
                made.write(path, path.relative_to(strip))
    return file


def voyage(den: Den) -> Path:
    return next(den.depot.glob("voyage-02-*"))


@pytest.mark.parametrize("strip", ["inside", "folder", "account", "studio"])
def test_a_worlds_folder_zipped_by_hand_is_a_source(den: Den, tmp_path: Path, strip: str) -> None:
    own = voyage(den)
    base = {"inside": own, "folder": own.parent, "account": own.parents[1],
            "studio": own.parents[3]}[strip]  # fmt: skip
    file = zipped(tmp_path / "my world.zip", own, base)
    assert "Reads as Saltglass, Cobalt Depot: 1 save" in den.cferry("look", file).out
    told = den.cferry("cross", "--from-file", file, "saltglass/tern:5", "--yes").out
    assert "1111" not in told, "what stands for a lost name is not shown"
    assert den.loads("tern", 5).startswith("Heron Point, day 57")
    den.cferry("cross", f"saltglass/depot@{file}", "saltglass/depot:6", "--yes")
    assert den.loads("depot", 6).startswith("Heron Point, day 57")


def test_a_lost_name_is_asked_for_and_not_made_up(den: Den, tmp_path: Path) -> None:
    text = TREE.replace("shelf", "pens").replace('"text"', '"digits", length = 6')
    text = text.replace(", REST", "").replace(", OTHER", "").replace("pieces.rest", "#")
    den.recipe("pens", text)
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "world.bin").write_bytes(b"x")
    (tmp_path / "two").mkdir()
    route = ("cross", "--from-file", tmp_path / "mine", f"pens/two@{tmp_path}/two", "--yes")
    told = den.cferry(*route, code=4).err
    assert "--give name=VALUE" in told
    den.cferry(*route, "--give", "name=123456")
    assert (tmp_path / "two/worlds/123456/w.bin").read_bytes() == b"x"


def test_zips_that_do_not_call_themselves_one_set_are_each_for_themselves(
    den: Den, tmp_path: Path
) -> None:
    folder = tmp_path / "downloads"
    folder.mkdir()
    saltmarsh = next(den.depot.glob("voyage-00-*"))
    for name, own in (("save1.zip", saltmarsh), ("save2.zip", voyage(den))):
        zipped(folder / name, own, own.parent)
    told = den.cferry("cross", "--from-file", folder, "saltglass/tern:7", "--yes", code=2).err
    assert f"{folder / 'save1.zip'}" in told
    assert f"{folder / 'save2.zip'}" in told
    told = den.cferry("slots", f"saltglass/depot@{folder}", code=2).err
    assert f"saltglass/depot@{folder / 'save2.zip'}" in told
    den.cferry("cross", f"saltglass/depot@{folder / 'save2.zip'}", "saltglass/tern:7", "--yes")
    assert den.loads("tern", 7).startswith("Heron Point")
    # The parts of a closed service's export say of how many they are: these are one.
    export = laid(lay_loft, tmp_path / "other") / "home/isa/Downloads/longshore-export"
    data = den.cferry("slots", f"saltglass/longshore@{export}", "--json").data
    assert len(data[0]["saves"]) == 2


def test_a_lone_file_says_what_must_lie_beside_it(den: Den) -> None:
    any_name = den.top / "meta.json"
    any_name.write_bytes((voyage(den) / "meta.json").read_bytes())
    assert "No recipe reads it" in den.cferry("look", any_name).out
    lone = den.tern / "isle2.about"
    assert not lone.exists()
    finch = den.top / "SG1_META.JSN"
    finch.write_bytes((voyage(den) / "meta.json").read_bytes())
    told = den.cferry("look", finch).out
    assert "It is only its meta: world must lie beside it." in told
    refused = den.cferry("cross", "--from-file", finch, "saltglass/tern:9", "--yes", code=5).err
    assert "its world is missing" in refused


TREE = """
recipe = 1
game = { id = "shelf", title = "Shelf" }
pieces.world = { needed = true }
pieces.rest = { label = "all else" }
[editions.one]
title = "One"
berths = [{ on = "any", under = "given" }]
fields.name = { type = "text" }
files = [{ role = "world", path = "{name}/world.bin" }, REST]
[editions.two]
title = "Two"
berths = [{ on = "any", under = "given" }]
fields.name = { type = "text" }
files = [{ role = "world", path = "worlds/{name}/w.bin" }, OTHER]
"""
REST = '{ role = "rest", path = "{name}", tree = true, without = ["cache", "lock.tmp"] }'
OTHER = '{ role = "rest", path = "worlds/{name}/more", tree = true }'


def shelf(den: Den, tmp_path: Path, *, tree: bool) -> Path:
    rest = (REST, OTHER) if tree else ("", "")
    text = TREE.replace("REST", rest[0]).replace("OTHER", rest[1])
    den.recipe("shelf", text if tree else text.replace('pieces.rest = { label = "all else" }', ""))
    one = tmp_path / "one"
    files = "world.bin mods/a/init.lua mods/deep/er/x.txt notes.txt cache/big.tmp lock.tmp"
    for path in (*(f"mine/{name}" for name in files.split()), "other/readme"):
        (one / path).parent.mkdir(parents=True, exist_ok=True)
        (one / path).write_text(path)
    (tmp_path / "two").mkdir()
    return one


def test_all_else_in_a_folder_is_kept_and_carried_where_the_recipe_says_so(
    den: Den, tmp_path: Path
) -> None:
    one = shelf(den, tmp_path, tree=True)
    den.cferry("cross", f"shelf/one@{one}", f"shelf/two@{tmp_path}/two", "--yes")
    carried = tmp_path / "two" / "worlds" / "mine"
    assert sorted(p.relative_to(carried).as_posix() for p in carried.rglob("*") if p.is_file()) == [
        "more/mods/a/init.lua", "more/mods/deep/er/x.txt", "more/notes.txt", "w.bin",
    ]  # fmt: skip
    assert (carried / "more/mods/a/init.lua").read_text() == "mine/mods/a/init.lua"
    before = state(one)
    made = den.cferry("backup", f"shelf/one@{one}")
    assert "4 files" in made.out
    assert "Not kept, as the recipe does not know it: mine/lock.tmp, mine/cache/" in made.out
    (one / "mine/mods/a/init.lua").write_text("lost")
    (one / "mine/notes.txt").unlink()
    den.cferry("restore", "latest", "--yes", "--replace", "--place-ok")
    assert {k: v[0] for k, v in state(one).items()} == {k: v[0] for k, v in before.items()}
    # What is gone at the source goes at the target, too, when it is carried anew.
    (one / "mine/notes.txt").unlink()
    (one / "mine/world.bin").write_text("later")
    den.cferry("cross", f"shelf/one@{one}", f"shelf/two@{tmp_path}/two:mine", "--yes", "--replace")
    assert not (carried / "more/notes.txt").exists()
    den.cferry("undo", "--yes")
    assert (carried / "more/notes.txt").exists()


def test_what_stays_behind_is_named_every_time(den: Den, tmp_path: Path) -> None:
    one = shelf(den, tmp_path, tree=False)
    names = ("mine/notes.txt", "mine/mods/", "mine/cache/")
    for command in (
        ("cross", f"shelf/one@{one}", f"shelf/two@{tmp_path}/two", "--dry-run"),
        ("backup", f"shelf/one@{one}"),
        ("check", f"shelf/one@{one}"),
    ):
        told = den.cferry(*command).out
        assert all(name in told for name in names), command


def test_another_world_of_the_same_name_is_not_replaced_unasked(den: Den, tmp_path: Path) -> None:
    for side, seed in (("a", 1), ("b", 2)):
        world = tmp_path / side / "Moor"
        world.mkdir(parents=True)
        (world / "world.mt").write_text("gameid = minimal\n")
        (world / "env_meta.txt").write_text("game_time = 900\nday_count = 3\nEnvArgsEnd\n")
        (world / "map_meta.txt").write_text(f"seed = {seed}\n[end_of_params]\n")
        with sqlite3.connect(world / "map.sqlite") as book:
            book.execute("CREATE TABLE blocks (data BLOB)")
        book.close()
    one, other = f"minetest/server@{tmp_path}/a", f"minetest/server@{tmp_path}/b"
    assert "nothing like it" not in den.cferry("slots", one, other).out
    refused = den.cferry("cross", one, other, "--yes", "--replace", code=4).err
    assert "of another story" in refused
    den.cferry("cross", one, f"{other}:Moor", "--yes", "--replace")
    assert "seed = 1" in (tmp_path / "b/Moor/map_meta.txt").read_text()
