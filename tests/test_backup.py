"""Backups through the built program: made, listed, verified, exported, pruned, restored."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import time
import zipfile
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import bagit
import pytest

from clever_ferry.keeping.locker import Locker
from clever_ferry.keeping.objects import Objects
from clever_ferry.keeping.pruning import Rules
from clever_ferry.keeping.reading import SnapshotFiles
from clever_ferry.keeping.verifying import verify
from tests.conftest import Den, state


def ident_of(den: Den, address: str) -> str:
    data = den.cferry("backup", "list", address, "--json").data
    return str(next(one["id"] for one in data if one["kind"] == "backup"))


def test_a_backup_is_listed_and_shown_as_a_player_knows_it(den: Den) -> None:
    before = state(den.top)
    made = den.cferry("backup", "saltglass", "--note", "before the storm")
    assert "Heron Point" in made.out
    assert state(den.top) == before
    listed = den.cferry("backup", "list").out
    assert "before the storm" in listed
    assert "Day 57" in listed
    shown = den.cferry("backup", "show", "latest").out
    assert "hold.ledger" in shown or "options.ini" in shown
    data = den.cferry("backup", "list", "--json").data
    assert {one["address"] for one in data} == {"saltglass/depot", "saltglass/tern"}
    assert data[0]["saves"][0]["facts"]["Day"] in ("12", "20")
    assert "No saves" not in den.cferry("backup", "list", "saltglass/tern").out


def test_unchanged_files_are_kept_once_and_not_read_again(den: Den) -> None:
    for path in den.depot.rglob("*"):
        os.utime(path, ns=(path.stat().st_atime_ns, path.stat().st_mtime_ns))
    den.cferry("backup", "saltglass")
    objects = sum(path.is_file() for path in (den.home / "locker" / "objects").rglob("*"))
    assert den.cferry("backup", "saltglass", "--json").data[0]["unchanged"] == 8
    assert objects == sum(p.is_file() for p in (den.home / "locker" / "objects").rglob("*"))
    assert den.cferry("backup", "verify", "--json").data["backups"] == 4
    locker = Locker(den.home / "locker")
    ident = ident_of(den, "saltglass/depot")
    only = verify(locker, [ident])
    assert (only.snapshots, only.faults) == (1, ())
    kept = SnapshotFiles(locker, locker.snapshot(ident), fold=False)
    every = [info.path for info in kept.walk(lambda _: True)]
    assert "options.ini" in every
    away = next(path for path in every if path.count("/") == 1).partition("/")[0]
    assert [info.path for info in kept.walk(lambda folder: folder != away)] == [
        path for path in every if not path.startswith(f"{away}/")
    ]


def test_a_file_that_changed_without_its_time_is_not_missed(den: Den) -> None:
    """A program that sets a file's time back can't set the system's own change time back."""
    meta = next(den.depot.glob("voyage-00-*/meta.json"))
    stamp = meta.stat().st_mtime_ns
    den.cferry("backup", "saltglass/depot")
    data = meta.read_bytes().replace(b"12", b"13", 1)
    meta.write_bytes(data)
    os.utime(meta, ns=(stamp, stamp))
    den.cferry("backup", "saltglass/depot")
    locker = Locker(den.home / "locker")
    newest = locker.snapshot(locker.listed(1)[0][0].id)
    kept = next(file for file in newest.files if file.path.endswith("00-" + meta.parent.name[10:] +
                                                                    "/meta.json"))  # fmt: skip
    assert b"".join(locker.payload(kept).chunks()) == data


def test_a_whole_backup_comes_back_to_the_byte_and_can_be_undone(den: Den) -> None:
    before = state(den.tern)
    den.cferry("backup", "saltglass/tern")
    den.game("tern", "play", "--slot", "2", "--days", "3")
    den.game("tern", "new", "--slot", "5", "--name", "Gull Rock")
    played = state(den.tern)
    plan = den.cferry("restore", "latest", "--dry-run").out
    assert "Gull Rock" in plan
    assert "it goes" in plan
    assert state(den.tern) == played
    refused = den.cferry("restore", "latest", "--yes", code=4)
    assert "--replace" in refused.err
    den.cferry("restore", "latest", "--yes", "--replace")
    assert state(den.tern) == before
    assert den.loads("tern", 2).startswith("Saltmarsh, day 31")
    den.cferry("undo", "--yes")
    assert state(den.tern) == played
    assert den.loads("tern", 5).startswith("Gull Rock")


def test_a_folder_comes_back_and_other_slots_stay(den: Den) -> None:
    den.cferry("backup", "saltglass/depot")
    before = state(next(den.depot.glob("voyage-00-*")))
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")
    den.game("depot", "new", "--slot", "6", "--name", "Gull Rock")
    ident = ident_of(den, "saltglass/depot")
    den.cferry("restore", ident[-6:], "--yes", "--replace")
    assert state(next(den.depot.glob("voyage-00-*"))) == before
    assert den.loads("depot", 6).startswith("Gull Rock")
    assert "nothing to restore" in den.cferry("restore", ident, code=3).err


def test_what_took_the_place_of_a_save_goes_when_that_comes_back(den: Den) -> None:
    before = state(den.depot)
    den.cferry("backup", "saltglass/depot")
    one = next(den.depot.glob("voyage-00-*"))
    one.rename(one.with_name("voyage-00-" + "f" * 16))
    told = den.cferry("restore", "latest", "--yes", "--replace").out
    assert "Saltmarsh" in told
    assert state(den.depot) == before


@pytest.mark.parametrize(("kept", "slot"), [("", ("--slot", "2")), (":2", ())])
def test_one_slot_comes_back_out_of_a_box(den: Den, kept: str, slot: tuple[str, ...]) -> None:
    den.cferry("backup", f"saltglass/tern{kept}")
    den.game("tern", "play", "--slot", "1", "--days", "2")
    den.game("tern", "play", "--slot", "2", "--days", "3")
    one = den.loads("tern", 1)
    den.cferry("restore", "latest", *slot, "--yes", "--replace")
    assert den.loads("tern", 2).startswith("Saltmarsh, day 31")
    assert den.loads("tern", 1) == one
    assert "Slot 7 is not" in den.cferry("restore", "latest", "--slot", "7", code=2).err
    den.cferry("undo", "--yes")
    assert den.loads("tern", 2).startswith("Saltmarsh, day 34")


def test_files_into_another_folder(den: Den, tmp_path: Path) -> None:
    den.cferry("backup", "saltglass/depot")
    out = tmp_path / "out"
    den.cferry("restore", "latest", "--to", out)
    there = {p.relative_to(out): p for p in out.rglob("*") if p.is_file()}
    for path, copy in there.items():
        original = den.depot / path
        assert copy.read_bytes() == original.read_bytes()
        assert copy.stat().st_mtime_ns == original.stat().st_mtime_ns
    assert len(there) == 8
    assert "not empty" in den.cferry("restore", "latest", "--to", out, code=4).err
    slot = tmp_path / "slot"
    den.cferry("restore", "latest", "--slot", "3", "--to", slot)
    assert [path.name[:9] for path in slot.iterdir()] == ["voyage-02"]
    den.cferry("restore", "latest", "--slot", "9", "--to", tmp_path / "none", code=2)


def test_the_locker_alone_is_enough(den: Den, tmp_path: Path) -> None:
    before = state(den.depot)
    den.cferry("backup", "saltglass/depot")
    locker = tmp_path / "carried off"
    shutil.copytree(den.home / "locker", locker)
    (locker / "list.sqlite").unlink(missing_ok=True)
    shutil.rmtree(den.home)
    shutil.rmtree(den.depot)
    den.env["CFERRY_LOCKER"] = str(locker)
    assert "Heron Point" in den.cferry("backup", "list").out
    den.cferry("restore", "latest", "--yes")
    assert {k: v[0] for k, v in state(den.depot).items()} == {k: v[0] for k, v in before.items()}
    assert den.loads("depot", 3).startswith("Heron Point, day 57")


def damage(locker: Path, *, most: int = 1) -> None:
    objects = sorted((p for p in (locker / "objects").rglob("*") if p.is_file()),
                     key=lambda p: p.stat().st_size)  # fmt: skip
    for path in objects[-most:]:
        data = bytearray(path.read_bytes())
        data[len(data) // 2] ^= 0x10
        path.write_bytes(data)


def test_damage_is_named_with_its_saves_and_never_restored(den: Den) -> None:
    den.cferry("backup", "saltglass/depot")
    damage(den.home / "locker")
    done = den.cferry("backup", "verify", code=5)
    assert "slot" in done.out
    assert "world.sgw" in done.out
    data = den.cferry("backup", "verify", "--json", code=5).data
    assert len(data["faults"]) == 1
    bad = data["concerned"][0]["saves"]
    assert len(bad) == 1
    world = next(den.depot.glob("voyage-0[02]-*/world.sgw"))
    world.unlink()
    now = state(den.depot)
    refused = den.cferry("restore", "latest", "--yes", "--replace", code=5)
    assert bad[0] in refused.err
    assert state(den.depot) == now


def test_what_is_backed_up_once_more_mends_a_damaged_object(den: Den) -> None:
    den.cferry("backup", "saltglass/depot")
    damage(den.home / "locker", most=3)
    den.cferry("backup", "verify", code=5)
    den.cferry("backup", "saltglass/depot", "--reread")
    assert "All whole" in den.cferry("backup", "verify").out


def test_a_record_that_was_meddled_with_is_not_believed(den: Den) -> None:
    den.cferry("backup", "saltglass/depot")
    record = next((den.home / "locker" / "snapshots").iterdir())
    record.write_bytes(record.read_bytes().replace(b"options.ini", b"../tions.in"))
    (den.home / "locker" / "list.sqlite").unlink(missing_ok=True)
    assert "not as it was written" in den.cferry("backup", "list").out
    den.cferry("restore", record.stem, code=5)
    assert "pruned" in den.cferry("backup", "prune", code=5).err
    den.cferry("backup", "saltglass/depot")  # it does not stand in the way of a new one


def test_a_bag_is_valid_to_others(den: Den, tmp_path: Path) -> None:
    """Judged by a BagIt validator and by `unzip`."""
    odd = next(den.depot.glob("voyage-00-*/people")) / "100% Wren.sgt"
    odd.write_bytes(b"odd")
    den.cferry("backup", "saltglass/depot", "--note", "for later: ü")
    file = tmp_path / "bag.zip"
    den.cferry("backup", "export", "latest", "-o", file)
    if shutil.which("unzip"):
        subprocess.run(["unzip", "-tq", file], check=True, capture_output=True)
    with zipfile.ZipFile(file) as archive:
        archive.extractall(tmp_path / "bags")
    (top,) = (tmp_path / "bags").iterdir()
    bag = bagit.Bag(str(top))
    bag.validate()
    assert bag.info["Payload-Oxum"].endswith(f".{len(list((top / 'data').rglob('*.*')))}")
    assert bag.version == "1.0"
    world = next(den.depot.glob("voyage-02-*/world.sgw"))
    assert (top / "data" / world.relative_to(den.depot)).read_bytes() == world.read_bytes()
    assert json.loads((top / "snapshot.json").read_bytes())["note"].endswith("ü")
    assert "already" in den.cferry("backup", "export", "latest", "-o", file, code=4).err
    damage(den.home / "locker")
    den.cferry("backup", "export", "latest", "-o", tmp_path / "none.zip", code=5)
    assert not list(tmp_path.glob("*none*"))


@pytest.mark.skipif(os.name == "nt", reason="Windows names are text")
def test_names_that_are_no_text_are_kept_and_exported(tmp_path: Path) -> None:
    from clever_ferry.keeping.bagging import export_bag
    from clever_ferry.keeping.locker import Reason
    from clever_ferry.keeping.snapshots import About
    from clever_ferry.moving.files import FolderFiles

    folder = tmp_path / "odd"
    folder.mkdir()
    (folder / os.fsdecode(b"caf\xe9 %.sav")).write_bytes(b"x")
    (folder / "two\nlines").write_bytes(b"y")
    locker = Locker(tmp_path / "locker")
    with locker.packing("a test") as packing:
        paths = [info.path for info in FolderFiles(folder).walk(lambda _: True)]
        snapshot = packing.keep(
            Reason("20260101-000000-abcdef", "backup", 1, "",
                   About("g", "e", "G: E", False, False)),
            FolderFiles(folder), paths, [""],
        )  # fmt: skip
    assert locker.snapshot(snapshot.id) == snapshot
    renamed = export_bag(locker, snapshot, tmp_path / "b.zip")
    assert len(renamed) == 2
    with zipfile.ZipFile(tmp_path / "b.zip") as archive:
        archive.extractall(tmp_path / "b")
    bagit.Bag(str(next((tmp_path / "b").iterdir()))).validate()


def test_pruning_keeps_by_count_and_age(den: Den) -> None:
    ferry, day = den.ferry(), 24 * 3600 * 10**9
    from clever_ferry.crossing.backing_up import back_up

    now, opened = time.time_ns(), ferry.slots("saltglass/depot")[0]
    for age in range(40):
        made = partial(int, now - age * day)
        back_up(opened, opened.listing.saves[:1], ferry.keeps, whole=False, clock=made)
    for later in range(1, 5):
        made = partial(int, now + later)
        back_up(opened, opened.listing.saves[:1], ferry.keeps, whole=True, watched=True, clock=made)
    plan = ferry.backups.plan_pruning(Rules(last=2, daily=5, weekly=3, monthly=0))
    assert sum(one.kind == "watched" for one in plan.goes) == 2, "they are counted apart"
    ages = sorted((now - one.made) // day for one in plan.goes if one.kind == "backup")
    stay = sorted(set(range(40)) - set(ages))
    assert stay[:5] == [0, 1, 2, 3, 4]
    assert 6 <= len(stay) <= 8
    none = [f"--keep-{name}=0" for name in ("daily", "weekly", "monthly")]
    shown = den.cferry("backup", "prune", "--keep-last=0", *none, "--dry-run").out
    assert shown.startswith("43 backups")
    den.cferry("backup", "prune", "--keep-last=3", *none, "--yes")
    assert len(den.cferry("backup", "list", "--json").data) == 6


def test_pruning_keeps_what_undo_needs_and_says_what_it_frees(den: Den) -> None:
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")
    den.game("depot", "play", "--slot", "1")
    den.cferry("backup", "saltglass/depot")
    den.game("depot", "play", "--slot", "1", "--days", "9")
    den.cferry("backup", "saltglass/depot")
    none = [f"--keep-{name}=0" for name in ("last", "daily", "weekly", "monthly")]
    data = den.cferry("backup", "prune", *none, "--yes", "--json").data
    assert len(data["goes"]) == 1
    assert data["frees"] > 1000
    assert "an undo needs it" in data["stays"].values() or len(data["stays"]) == 2
    den.cferry("backup", "verify")
    den.cferry("undo", "--yes", "--lose-later-play")
    assert den.loads("depot", 1).startswith("Saltmarsh, day 12")
    assert "Nothing to take away" in den.cferry("backup", "prune").out


def test_leftovers_of_a_killed_run_are_pruned(den: Den) -> None:
    den.cferry("backup", "saltglass/depot")
    record = next((den.home / "locker" / "snapshots").iterdir())
    record.unlink()
    data = den.cferry("backup", "prune", "--yes", "--json").data
    assert data["frees"] > 10_000
    assert not [p for p in (den.home / "locker" / "objects").rglob("*") if p.is_file()]


def test_a_part_of_an_id_that_several_have_is_asked_about(den: Den) -> None:
    idents = [den.cferry("backup", f"saltglass/{one}", "--json").data[0]["id"]
              for one in ("depot", "tern")]  # fmt: skip
    told = den.cferry("backup", "show", idents[0][:4], code=2).err
    assert "fits 2 backups" in told
    assert all(ident in told for ident in idents)
    assert idents[0] in den.cferry("backup", "show", idents[0][-6:]).out


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        (("backup", "saltgass"), 2, "saltglass"),
        (("backup", "saltglass/depot:7"), 2, "Slot 7"),
        (("backup", "list"), 3, "no backups yet"),
        (("backup", "show", "nope"), 2, "no backup 'nope'"),
        (("restore", "latest"), 3, "no backups yet"),
        (("restore", "2026"), 2, "no backup"),
        (("backup", "export", "latest"), 2, "--to"),
        (("backup",), 2, "Keep a copy"),
    ],
)
def test_wrong_words(den: Den, arguments: tuple[str, ...], code: int, said: str) -> None:
    done = den.cferry(*arguments, code=code)
    assert said in done.err + done.out


class CutShort:
    """A content that can't be read to its end."""

    size = 5

    def chunks(self) -> Iterator[bytes]:
        yield b"ab"
        raise OSError(5, "no more")


def test_a_content_that_is_cut_short_leaves_nothing_in_the_locker(tmp_path: Path) -> None:
    with pytest.raises(OSError, match="no more"):
        Objects(tmp_path / "objects").put(CutShort())
    assert [path.name for path in tmp_path.rglob("*")] == ["objects"]
