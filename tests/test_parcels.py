"""Parcels: one save in neutral form, from any edition to any, held against its digests."""

from __future__ import annotations

import json
import os
import shutil
import time
import zipfile
from pathlib import Path

import bagit
import pytest

from clever_ferry.errors import DamagedError, WrongUseError
from clever_ferry.finding.addresses import slot_text
from clever_ferry.tree import FileInfo
from clever_ferry.uploads import _parted
from clever_ferry_demo.kingfisher_crown.program import demo_reigns, lay_kingfisher_crown
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from clever_ferry_demo.saltglass.server import ServerStore
from clever_ferry_demo.world import DEPOT_ACCOUNT
from tests.conftest import Den, bins


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


def test_a_panel_that_only_takes_files_gets_what_its_server_serves(
    den: Den, tmp_path: Path
) -> None:
    file, rented = tmp_path / "isle.zip", tmp_path / "rented"
    ServerStore(rented).set_up()
    to_zip = ("cross", "saltglass/tern:2", "saltglass/server:3", "--as-zip")
    done = den.cferry(*to_zip, file)
    assert "In server.cfg, have it say: isle=isle-3" in done.out
    assert "stays as it is" not in done.out
    with zipfile.ZipFile(file) as opened:
        opened.extractall(rented)
    config = rented / "server.cfg"
    config.write_text(config.read_text().replace("isle = isle-1", "isle=isle-3"))
    served = den.game("server", "--folder", str(rented), "serve", "--check")
    assert "Serving isle-3 to 6 players: Saltmarsh, day 31" in served.out
    assert den.cferry("log").out.startswith("Nothing was carried")
    # The panel's own backup: the newest world in it is cut short, and the one before is proposed.
    for slot, age in ((1, 9_000), (2, 90)):
        shutil.copytree(rented / "isles/isle-3", rented / f"isles/isle-{slot}")
        for piece in (rented / f"isles/isle-{slot}").iterdir():
            os.utime(piece, (time.time() - age,) * 2)
    cut = rented / "isles/isle-2/about.json"
    cut.write_bytes(cut.read_bytes()[:40])
    os.utime(cut, (time.time() - 80,) * 2)
    (rented / "isles/isle-3").rename(tmp_path / "gone")
    panel = Path(shutil.make_archive(str(tmp_path / "panel"), "zip", rented))
    asked = den.cferry("cross", "--from-file", panel, "saltglass/depot:7", code=2).err
    assert f"saltglass/server@{panel}:2  slot 2  damaged: " in asked
    line = f"cferry cross saltglass/server@{panel}:1 saltglass/depot:7"
    assert f"The newest that reads whole: {line}" in asked
    den.cferry(*line.split()[1:], "--yes")
    assert "Saltmarsh, day 31" in den.loads("depot", 7)
    den.cferry("undo", "--yes")
    finch = ("cross", "saltglass/depot:1", "saltglass/finch:2", "--as-zip", tmp_path / "finch.zip")
    told = den.cferry(*finch, "--give", "account=00471100").out
    assert "over the one in Pocket Finch/00471100/SALTGLASS: what" in told
    assert "Unpack finch.zip into Pocket Finch/00471100/SALTGLASS" in told
    for more, said in (
        ((file,), "is there already"), ((tmp_path / "a.zip", "--yes"), "--yes means nothing"),
        ((tmp_path / "a.zip", "--with-game"), "--with-game means nothing"),
    ):  # fmt: skip
        assert said in den.cferry(*to_zip, *more, code=4 if more == (file,) else 2).err
    assert "--part-size is about" in den.cferry(*to_zip[:3], "--part-size", "1", code=2).err
    assert (
        "only an edition"
        in den.cferry(
            *to_zip[:2], f"saltglass/server@{rented}", "--as-zip", tmp_path / "a.zip", code=2
        ).err
    )
    assert (
        "in one box"
        in den.cferry(
            "cross", "saltglass/depot:1", "saltglass/tern", "--as-zip", tmp_path / "a.zip", code=5
        ).err
    )
    assert not (tmp_path / "a.zip").exists()


def test_parts_hold_as_much_as_they_may(tmp_path: Path) -> None:
    files = [FileInfo(str(at), size, 0) for at, size in enumerate((5, 5, 1, 20, 3, 7, 1))]
    assert [[one.size for one in part] for part in _parted(files, 10)] == [
        [5, 5], [1], [20], [3, 7], [1]
    ]  # fmt: skip
    assert [len(part) for part in _parted(files, None)] == [7]


def test_several_saves_go_in_parts(den: Den, tmp_path: Path) -> None:
    for store in ("one", "two"):
        (tmp_path / store).mkdir()
    den.recipe("bin", bins(one="w{slot}.bin", two="s{slot}/w.bin"))
    for slot in (1, 2, 3):
        (tmp_path / f"one/w{slot}.bin").write_bytes(bytes([slot]) * 700_000)
    told = den.cferry(
        "cross", f"bin/one@{tmp_path / 'one'}", "bin/two", "--as-zip", tmp_path / "x.zip",
        "--part-size", "1", "--json",
    ).data  # fmt: skip
    assert [Path(one).name for one in told["files"]] == [f"x-{at}-of-3.zip" for at in (1, 2, 3)]
    assert told["lines"] == []
    inside = [zipfile.ZipFile(one).namelist() for one in told["files"]]
    assert inside == [["s1/w.bin"], ["s2/w.bin"], ["s3/w.bin"]]
