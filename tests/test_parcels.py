"""Parcels: one save in neutral form, from any edition to any, held against its digests."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import bagit
import pytest

from clever_ferry.errors import DamagedError, WrongUseError
from clever_ferry.finding.addresses import slot_text
from clever_ferry_demo.kingfisher_crown.program import demo_reigns, lay_kingfisher_crown
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from clever_ferry_demo.world import DEPOT_ACCOUNT
from tests.conftest import Den


@pytest.fixture
def file(den: Den, tmp_path: Path) -> Path:
    made = tmp_path / "isle.zip"
    told = den.cferry("parcel", "pack", "saltglass/depot:1", "-o", made, "--note", "Have fun").out
    assert "stands nowhere in it as text" in told
    return made


def test_a_friend_takes_it_in_with_any_edition(den: Den, file: Path) -> None:
    for store in ("tern", "depot"):
        den.cferry("cross", file, f"saltglass/{store}:5", "--yes")
        assert "Saltmarsh, day 12" in den.loads(store, 5)
    shown = den.cferry("parcel", "show", file).out
    assert "“Have fun”" in shown
    assert "Day 12" in shown
    wrong = den.cferry("cross", file, "moth-lantern/classic", "--yes", code=5).err
    assert "a save of Saltglass, and not of" in wrong


def test_nothing_of_its_sender_is_in_it_and_others_can_verify_it(
    den: Den, file: Path, tmp_path: Path
) -> None:
    with zipfile.ZipFile(file) as opened:
        opened.extractall(tmp_path / "bag")
        whole = b"".join(opened.read(one) for one in opened.namelist())
    bagit.Bag(str(tmp_path / "bag")).validate()
    own = int(DEPOT_ACCOUNT)
    for text in (DEPOT_ACCOUNT.encode(), own.to_bytes(8, "little"), b"Users", b"NineKettles"):
        assert text not in whole


def test_games_of_other_kinds_go_through(den: Den, tmp_path: Path) -> None:
    lay_moth_lantern(den.top)
    lay_orrery_yard(den.top, "wren", demo_yards())
    lay_kingfisher_crown(den.top, demo_reigns())
    ferry = den.ferry()
    packed = 0
    for game in ("moth-lantern", "orrery-yard", "kingfisher-crown"):
        for opened in ferry.slots(game):
            for save in opened.listing.saves:
                if save.problems:
                    continue
                file = tmp_path / f"{packed}.zip"
                one = opened.only(str(save.slot))
                if len(one.listing.saves) != 1:
                    continue
                ferry.parcels.pack(one, file)
                packed += 1
                read = ferry.parcels.read(file)
                told = {fact.key: fact.value for fact in save.facts}
                there = {fact.key: fact.value for fact in read.save.facts}
                assert there.items() <= told.items()
                assert there
                assert not read.faults
                where = opened.berth.address
                plan = ferry.plan(f"file:{file}", f"{where}:{slot_text(save)}")
                assert [move.save.title for move in plan.moves] == [save.title]
    assert packed >= 4


def changed(file: Path, to: Path, name: str, data: bytes | None, more: str = "") -> Path:
    with zipfile.ZipFile(file) as old, zipfile.ZipFile(to, "w") as new:
        for one in old.namelist():
            if one != name:
                new.writestr(one, old.read(one))
            elif data is not None:
                new.writestr(one, data)
        if more:
            new.writestr(more, b"x")
    return to


def test_what_is_not_as_packed_is_named_and_refused(den: Den, file: Path, tmp_path: Path) -> None:
    with zipfile.ZipFile(file) as opened:
        world = next(one for one in opened.namelist() if one.endswith("/world"))
        data = bytearray(opened.read(world))
        label = json.loads(opened.read("data/parcel.json"))
    data[100] ^= 1
    for number, (name, other, more, said) in enumerate((
        (world, bytes(data), "", f"{world} is not as it was packed"),
        (world, None, "", f"{world} is missing"),
        ("", None, "data/save/more", "data/save/more was not packed"),
        ("bag-info.txt", b"", "", "bag-info.txt is not as it was packed"),
        ("manifest-sha256.txt", None, "", "manifest-sha256.txt is missing"),
    )):  # fmt: skip
        bad = changed(file, tmp_path / f"bad{number}.zip", name, other, more)
        assert said in den.cferry("parcel", "check", bad, code=5).out
        assert said in den.cferry("cross", bad, "saltglass/tern", "--yes", code=5).err
    for text, said in (
        ({**label, "parcel": 2}, "newer cferry"), ({**label, "more": 1}, "no parcel that can be"),
        ({**label, "edition": "none"}, "no recipe here"), ([], "no parcel that can be"),
        ({**label, "fields": ["account"]}, "no recipe here"),
    ):  # fmt: skip
        raw = json.dumps(text).encode()
        bad = changed(file, tmp_path / "label.zip", "data/parcel.json", raw)
        assert said in den.cferry("parcel", "show", bad, code=5).err
    (tmp_path / "none.zip").write_bytes(b"PK")
    assert (
        "can't be read as a parcel"
        in den.cferry("parcel", "show", tmp_path / "none.zip", code=5).err
    )
    assert "There is no file" in den.cferry("parcel", "show", tmp_path / "no", code=3).err


def test_one_whole_save_is_packed_and_no_file_is_written_over(den: Den, file: Path) -> None:
    ferry = den.ferry()
    with pytest.raises(WrongUseError, match="one is packed at a time"):
        ferry.parcels.pack(ferry.slots("saltglass/depot")[0], file.with_name("two.zip"))
    before = file.read_bytes()
    den.cferry("parcel", "pack", "saltglass/depot:1", "-o", file, code=4)
    assert file.read_bytes() == before
    next(den.depot.glob("voyage-00-*/meta.json")).write_text("{")
    with pytest.raises(DamagedError, match="not whole"):
        ferry.parcels.pack(ferry.slots("saltglass/depot:1")[0], file.with_name("new.zip"))
    assert not file.with_name("new.zip").exists()


def test_an_account_that_shows_is_told(den: Den, tmp_path: Path) -> None:
    meta = next(den.depot.glob("voyage-00-*/meta.json"))
    meta.write_text(meta.read_text().replace('"coins"', f'"by": "{DEPOT_ACCOUNT}", "coins"'))
    told = den.cferry("parcel", "pack", "saltglass/depot:1", "-o", tmp_path / "a.zip").out
    assert f"the meta has the account {DEPOT_ACCOUNT} in it" in told
