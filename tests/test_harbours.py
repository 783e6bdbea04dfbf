"""Harbours that are folders: disks of other systems, prefixes, described computers, sticks."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from clever_ferry.finding.harbours import harbour_at
from tests.conftest import Den, state

HOME = "C/Users/Wren"


def windows_disk(den: Den, top: Path, user: str = "Zoë Wren") -> Path:
    """Lay a Windows disk with the demo's saves in a user's folder."""
    shutil.copytree(den.top / HOME, top / "Users" / user)
    (top / "Users" / "Public" / "AppData").mkdir(parents=True)
    (top / "Windows").mkdir()
    return top


def test_a_mounted_windows_disk_is_recognised_and_read(den: Den, tmp_path: Path) -> None:
    disk = windows_disk(den, tmp_path / "old disk")
    added = den.cferry("harbour", "add", "old-disk", disk).out
    assert "a mounted disk, Windows, of Zoë Wren" in added
    shown = den.cferry("look").out
    assert "saltglass/depot@old-disk" in shown
    assert "saltglass/tern@old-disk" in shown
    assert "Saltmarsh" in den.cferry("slots", "saltglass/tern@old-disk:2").out
    before = state(disk)
    den.cferry("cross", "saltglass/tern@old-disk:2", "saltglass/depot:5", "--yes")
    assert state(disk) == before
    assert den.loads("depot", 5).startswith("Saltmarsh, day 31")
    data = den.cferry("slots", "saltglass/depot", "saltglass/depot@old-disk", "--json").data
    assert {one["first_is"] for one in data["compared"]} == {"the same", None}


@pytest.mark.parametrize(
    ("paths", "kind", "system", "users"),
    [
        (["home/wren/.local/share", "home/isa/.config"], "mounted disk", "linux", ["isa", "wren"]),
        (["Users/wren/Library/Application Support"], "mounted disk", "macos", ["wren"]),
        (["USERS/WREN/APPDATA/LOCAL", "Windows"], "mounted disk", "windows", ["WREN"]),
        (["drive_c/users/x/Application Data"], "compatibility prefix", "windows", ["x"]),
        (["inside/drive_c/users/x"], "compatibility prefix", None, []),
        (["anything/drive_c/users/x/AppData/Local"], "compatibility prefix", "windows", ["x"]),
        (["x/deeper/drive_c/users/x/AppData/Local"], "folder", None, []),
        (["drive_c"], "folder", None, []),
        (["saves/one"], "folder", None, []),
        (["Users/Public/AppData"], "folder", None, []),
    ],
)
def test_what_a_folder_is_recognised_as(
    tmp_path: Path, paths: list[str], kind: str, system: str | None, users: list[str]
) -> None:
    for path in paths:
        (tmp_path / path).mkdir(parents=True)
    found = harbour_at(tmp_path, "x")
    assert (found.kind, list(found.users)) == (kind, users)
    assert (found.computers[0].system if found.computers else None) == system
    assert found.title.startswith(("a ", "an "))


def test_wrong_words(den: Den, tmp_path: Path) -> None:
    stick = tmp_path / "stick"
    stick.mkdir()
    assert "small letters" in den.cferry("harbour", "add", "My Stick", stick, code=2).err
    assert "own name" in den.cferry("harbour", "add", "den", stick, code=2).err
    den.cferry("harbour", "add", "stick", tmp_path / "nowhere", code=2)
    den.cferry("harbour", "add", "stick", stick)
    den.cferry("harbour", "add", "stick", stick)
    assert "already" in den.cferry("harbour", "add", "stick", den.top, code=2).err
    assert "no harbour 'stock'" in den.cferry("slots", "saltglass/depot@stock", code=2).err
    stick.rmdir()
    assert "not there now" in den.cferry("harbour", "list").out
    assert "plug that in" in den.cferry("slots", "saltglass/depot@stick", code=3).err
    assert den.cferry("look").code == 0
    den.cferry("harbour", "remove", "stick")
    assert "There are: none" in den.cferry("harbour", "remove", "stick", code=2).err
    (den.home / "harbours.json").write_text("[" * 50_000)
    assert "can't be read" in den.cferry("harbour", "list", code=5).err
