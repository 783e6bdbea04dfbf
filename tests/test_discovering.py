"""Harbours that nobody has named: prefixes of libraries, mounted disks, other accounts."""

from __future__ import annotations

import json
import os
import shutil
import stat
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from clever_ferry.api import Ferry
from clever_ferry.finding.computers import described_computer
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.moving import local
from clever_ferry.recipes import Recipes
from clever_ferry_demo.saltglass.pieces import make_world, play_on
from clever_ferry_demo.world import store_at
from tests.conftest import DEPOT, Den, link

LIBRARY = """
recipe = 1
library = { id = "attic", title = "An attic" }
prefixes = [{ under = "home", path = "attic/{prefix}" }]
fields.prefix = { type = "text" }
"""


def found(den: Den) -> dict[str, str]:
    listed = den.cferry("harbour", "list", "--json").data
    return {one["name"]: one["kind"] for one in listed if not one["named"]}


def test_prefixes_and_disks_need_no_adding(loft: Den) -> None:
    assert found(loft) == {
        "lamplight-481516": "compatibility prefix",
        "lamplight-2342": "compatibility prefix",
        "old-disk": "mounted disk",
        "longshore": "export archive",
    }
    shown = loft.cferry("look").out
    for address in ("depot@lamplight-481516", "tern@lamplight-2342", "depot@old-disk"):
        assert f"saltglass/{address}" in shown
    assert "nothing to forget" in loft.cferry("harbour", "remove", "old-disk", code=2).err
    told = loft.cferry("harbour", "list").out
    assert "recognised by itself" in told
    assert "media/games/lamplight/prefixes/2342" in told.replace("\\", "/")


def test_an_address_needs_no_harbour_where_only_one_has_saves(loft: Den) -> None:
    assert "tern@lamplight-2342" in loft.cferry("slots", "saltglass/tern").out
    several = loft.cferry("slots", "saltglass/depot", code=2).err
    assert "@old-disk  account 100200300" in several
    assert "Isa's try" in several
    loft.cferry("cross", "saltglass/tern:1", "saltglass/depot:2", "--yes")  # not onto the disk
    assert "depot@lamplight-481516" in loft.cferry("log").out
    every = loft.cferry("slots", "saltglass", "--json").data
    assert len(every) == 4
    assert "Saltmarsh" in [save["name"] for one in every for save in one["saves"]]


def test_a_prefix_that_is_another_apps_own_is_not_searched(loft: Den) -> None:
    prefixes = loft.top / "home/isa/.local/share/lamplight/prefixes"
    shutil.copytree(prefixes / "481516", prefixes / "777")
    assert "lamplight-777" in found(loft)
    assert "depot@lamplight-777" not in loft.cferry("look").out
    shutil.move(prefixes / "481516", prefixes / "not-a-number")
    assert "saltglass/depot@lamplight-" not in loft.cferry("look").out


def test_a_library_of_ones_own_and_a_clash_of_names(loft: Den) -> None:
    loft.recipe("attic", LIBRARY)
    prefixes = loft.top / "home/isa/.local/share/lamplight/prefixes"
    for name in ("Old Games", "old-games", "empty"):
        (loft.top / "home/isa/attic" / name).mkdir(parents=True)
    for name in ("Old Games", "old-games"):
        shutil.copytree(prefixes / "481516" / "inside", loft.top / "home/isa/attic" / name,
                        dirs_exist_ok=True)  # fmt: skip
    names = set(found(loft))
    assert {"attic-old-games", "attic-old-games-2"} <= names
    assert "attic-empty" not in names
    listed = {one["id"]: one["kind"] for one in loft.cferry("recipe", "list", "--json").data}
    assert listed["attic"] == "library"
    assert "prefixes" in json.loads(loft.cferry("recipe", "schema", "--library").out)["properties"]
    file = loft.recipe("broken", LIBRARY.replace('id = "attic"', 'id = "broken"') + "more = 1\n")
    assert "more" in loft.cferry("recipe", "check", file, code=5).err
    file.write_text(LIBRARY.replace('"attic"', '"broken"').replace("{prefix}", "x"), "utf-8")
    assert "never filled" in loft.cferry("recipe", "check", file, code=5).err


def test_a_prefix_whose_folders_are_links_to_the_users_own(loft: Den, tmp_path: Path) -> None:
    prefix = "home/isa/.local/share/lamplight/prefixes/481516/inside/drive_c/users/player"
    user = loft.top / prefix
    real = tmp_path / "kept elsewhere"
    shutil.move(user / "AppData" / "LocalLow", real)
    link(user / "AppData" / "LocalLow", real)
    assert "saltglass/depot@lamplight-481516" in loft.cferry("look").out


def test_links_on_another_computers_disk_are_not_followed(loft: Den) -> None:
    folder = next((loft.top / "media/old-disk").rglob("Saltglass"))
    own = next((loft.top / "home").rglob("300200100"))
    shutil.rmtree(folder / "100200300")
    link(folder / "100200300", own)
    assert "@old-disk" not in loft.cferry("look").out


def test_two_accounts_redirected_folders_and_names_of_many_letters(den: Den) -> None:
    """A Windows computer whose saved games were moved to another drive, used by two people."""
    moved = "D/Spiele und Stände/Zoë"
    shutil.copytree(den.top / "C/Users/Wren/AppData/LocalLow", den.top / moved)
    text = (den.top / "computer.toml").read_text("utf-8")
    (den.top / "computer.toml").write_text(
        text + f'\n[accounts.zoe]\nlow-data = "{moved}"\nhome = "D"\n', "utf-8"
    )
    assert found(den)["zoe"] == "account of this computer"
    shown = den.cferry("look", "saltglass").out
    assert "saltglass/depot@zoe" in shown
    assert "Spiele und Stände/Zoë" in shown.replace("\\", "/")
    store = store_at(next((den.top / moved).rglob("100200300")), "depot")
    store.save(5, play_on(make_world("Füür", 5, ("Zoë",)), 3), 1_700_000_000 * 10**9)
    assert "Füür" in den.cferry("slots", "saltglass/depot@zoe:5").out
    den.cferry("cross", "saltglass/depot@zoe:5", "saltglass/depot:5", "--yes")
    assert den.loads("depot", 5).startswith("Füür, day 4")


@pytest.mark.parametrize("system", ["windows", "linux", "macos"])
def test_each_system_is_searched_below_its_own_folders(tmp_path: Path, system: str) -> None:
    homes = {"windows": "C/Users/Ünal Wren", "linux": "home/ünal", "macos": "Users/ünal wren"}
    places = {
        "windows": ("documents", "Eigene Dateien/OpenTTD/save"),
        "linux": ("xdg-data", "my data/openttd/save"),
        "macos": ("documents", "Documents/OpenTTD/save"),
    }
    key, place = places[system]
    top = tmp_path / "pc"
    base = f"{homes[system]}/{place.split('/')[0]}"
    folder = top / homes[system] / place
    folder.mkdir(parents=True)
    (folder / "My Town.sav").write_bytes(b"OTTN\0\0\0\0")
    (top / "computer.toml").write_text(
        f'name = "pc"\nsystem = "{system}"\n[folders]\nhome = "{homes[system]}"\n'
        f'{key} = "{base}"\n', "utf-8",
    )  # fmt: skip
    here = Den(top, tmp_path / "own")
    (berth,) = here.cferry("look", "openttd", "--json").data["berths"]
    assert berth["address"] == f"openttd/{system}"
    assert berth["folder"] == str(folder)
    shown = here.cferry("slots", "openttd", "--json").data[0]["saves"]
    assert [one["name"] for one in shown] == ["My Town"]


@pytest.mark.skipif(os.name == "nt", reason="this is about Linux itself")
def test_a_real_linux_layout_with_its_own_variables(tmp_path: Path) -> None:
    """This very computer, with a home of its own, as its own variables describe it."""
    home = tmp_path / "home" / "wren"
    disk = home / ".local/share/openttd/save"
    prefix = home / ".windows/drive_c/users/wren/AppData/LocalLow/NineKettles/Saltglass"
    sandbox = home / ".var/app/org.openttd.OpenTTD/data/openttd/save"
    for folder in (disk, prefix / "100200300", sandbox):
        folder.mkdir(parents=True)
    (disk / "One.sav").write_bytes(b"OTTN\0\0\0\0")
    (sandbox / "Two.sav").write_bytes(b"OTTN\0\0\0\0")
    done = subprocess.run(
        [sys.executable, "-m", "clever_ferry", "look", "--json"], capture_output=True,
        encoding="utf-8", check=True, env={**os.environ, "HOME": str(home), "XDG_DATA_HOME": "",
                                           "CFERRY_HOME": str(tmp_path / "own")},
    )  # fmt: skip
    for address in ("openttd/linux", "openttd/flatpak", "saltglass/depot@prefix-windows"):
        assert f'"{address}"' in done.stdout


def test_what_is_missing_is_said_with_what_makes_it(den: Den) -> None:
    shutil.rmtree(den.top / "C/Users/Wren/AppData/Local/TernArcade/Crates")
    told = den.cferry("look", "saltglass").out
    assert "Saltglass (Tern Arcade) has no saves here: it was never started" in told
    assert "A throwaway save is enough" in told
    err = den.cferry("cross", "saltglass/depot:1", "saltglass/tern", "--yes", code=3).err
    assert "there only as far as" in err
    assert "begin any world" in err
    (den.top / DEPOT / "100200300").rename(den.top / DEPOT / "555666777")
    assert "account 555666777" in den.cferry("look", "saltglass").out
    shutil.rmtree(den.top / DEPOT / "555666777")
    (den.top / DEPOT / "555666777").mkdir()
    assert "no saves yet: the game was started" in den.cferry("look").out


@pytest.mark.skipif(os.name == "nt", reason="there, folders are listed in another way")
@pytest.mark.parametrize("handles", [True, False])
def test_folders_that_cannot_be_read_are_named(
    den: Den, monkeypatch: pytest.MonkeyPatch, handles: bool
) -> None:
    """The administrator can read all, so the refusal is put in the disk's place."""
    closed = str(den.top / DEPOT)
    real_scandir, real_open = os.scandir, os.open

    def scandir(path: Any = ".") -> Any:
        if str(path) == closed:
            raise PermissionError(13, "denied", closed)
        return real_scandir(path)

    def open_folder(path: Any, flags: int, mode: int = 0o777, *, dir_fd: Any = None) -> int:
        folder, name = os.path.split(closed)
        if (
            dir_fd is not None
            and path == name
            and os.path.samestat(os.fstat(dir_fd), Path(folder).stat())
        ):
            raise PermissionError(13, "denied", closed)
        return real_open(path, flags, mode, dir_fd=dir_fd)

    monkeypatch.setattr(local, "_HANDLES", handles)
    monkeypatch.setattr(os, "scandir", scandir)
    monkeypatch.setattr(os, "open", open_folder)
    ferry = Ferry(described_computer(den.top), Recipes(None), Keeps(den.home))
    seen = ferry.look()
    assert [sight.berth.edition.id for sight in seen.sights] == ["tern"]
    assert any(closed in trouble and "can't be read" in trouble for trouble in seen.troubles)
    closed = str(den.depot / next(den.depot.glob("voyage-00-*")).name)
    (sight, _) = ferry.look().sights
    assert [save.title for save in sight.saves] == ["slot 3"]
    assert "can't be read" in sight.problems[0]


def test_loops_depth_and_odd_names(den: Den, tmp_path: Path) -> None:
    stick = tmp_path / "stick"
    deep = stick
    for level in range(40):
        deep = deep / f"level {level}"
    deep.mkdir(parents=True)
    (deep / "x.sav").write_bytes(b"\0\1\2")
    link(stick / "round", stick)
    if sys.platform == "linux":
        odd = Path(os.fsdecode(os.fsencode(stick) + b"/\xff\xfe name"))
        odd.mkdir()
        (odd / os.fsdecode(b"\xe9.sav")).write_bytes(b"OTTN")
    shutil.copytree(den.depot, stick / "kept" / "100200300")
    (stick / "kept" / "sock").touch()
    den.cferry("harbour", "add", "stick", stick)
    shown = den.cferry("look").out
    assert "saltglass/depot@stick" in shown
    told = den.cferry("look", stick).out
    assert "40 folders deep" in told
    assert den.cferry("look", stick, "--json").data["files"] >= 7
    assert "Saltmarsh" in den.cferry("slots", "saltglass/depot@stick").out
    for path in (den.depot, *den.depot.rglob("*")):
        path.chmod(stat.S_IMODE(path.stat().st_mode) & ~0o222)
    assert den.cferry("slots", "saltglass/depot").code == 0


def test_old_copies_serve_where_the_file_is_missing(den: Den) -> None:
    folder = next(den.depot.glob("voyage-02-*"))
    for name in ("world.sgw", "meta.json"):
        shutil.copy2(folder / name, folder / f"{name}.old")
    assert (
        den.cferry("slots", "saltglass/depot:3", "--json").data[0]["saves"][0]["old_copies"] == []
    )
    (folder / "world.sgw").unlink()
    shown = den.cferry("slots", "saltglass/depot:3")
    assert "only its old copy is left" in shown.out
    (save,) = den.cferry("slots", "saltglass/depot:3", "--json").data[0]["saves"]
    assert save["old_copies"] == [f"{folder.name}/world.sgw.old"]
    assert save["problems"] == []
    den.cferry("cross", "saltglass/depot:3", "saltglass/tern:5", "--yes")
    assert den.loads("tern", 5).startswith("Heron Point, day 57")
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:3", "--yes", "--replace")
    assert not (folder / "world.sgw.old").exists()
    assert den.loads("depot", 3).startswith("Saltmarsh, day 31")
    den.cferry("undo", "--yes")
    assert (folder / "world.sgw.old").is_file()


def test_what_a_recipe_does_not_know_in_a_saves_folder_is_said(den: Den) -> None:
    folder = next(den.depot.glob("voyage-02-*"))
    (folder / "ghost.bin").write_bytes(b"\0")
    plan = den.cferry("cross", "saltglass/depot:3", "saltglass/tern:5", "--dry-run")
    assert "ghost.bin: in its folder, and not carried" in plan.out
    data = den.cferry("cross", "saltglass/depot:3", "saltglass/tern:5", "--dry-run", "--json").data
    assert data["plan"]["moves"][0]["not_carried"] == [f"{folder.name}/ghost.bin"]
