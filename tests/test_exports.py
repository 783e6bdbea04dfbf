"""Export archives: zips in several parts, each save zipped again within, read where they lie."""

from __future__ import annotations

import io
import os
import sys
import zipfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.errors import DamagedError, FerryError
from clever_ferry.moving import archives
from clever_ferry.moving.archives import ArchiveFiles, archive_parts, open_archives
from clever_ferry.payload import read_all
from tests.conftest import Den, run_module, state, zips_within


def export(loft: Den) -> Path:
    return loft.top / "home/isa/Downloads/longshore-export"


def opened(*files: Path) -> ArchiveFiles:
    parts, problems = archive_parts(files)
    return open_archives(parts, problems)


def test_saves_of_an_export_are_listed_and_carried(loft: Den) -> None:
    before = state(export(loft))
    added = loft.cferry("harbour", "add", "longshore", export(loft)).out
    assert "an export archive" in added
    shown = loft.cferry("slots", "saltglass/longshore", "--json").data[0]
    assert [(one["name"], one["facts"]["day"]) for one in shown["saves"]] == [
        ("Gull Rock", 24), ("Heron Point", 9)
    ]  # fmt: skip
    assert shown["fields"] == {"account": "isa-4471"}
    assert loft.cferry("check", "saltglass/longshore:1,2").code == 0
    loft.cferry("cross", "saltglass/longshore:2", "saltglass/depot@lamplight-481516:3", "--yes")
    folder = next(loft.top.rglob("300200100"))
    game = run_module(
        "clever_ferry_demo.saltglass.program", "--store", "depot", "--folder", folder,
        "load", "--slot", "3", env=loft.env,
    )  # fmt: skip
    assert "Gull Rock, day 24" in game.out, game.err
    assert state(export(loft)) == before


def test_the_files_themselves_can_be_named(loft: Den) -> None:
    parts = sorted(export(loft).iterdir())
    loft.cferry("harbour", "add", "zips", *parts)
    assert len(loft.cferry("slots", "saltglass/longshore@zips", "--json").data[0]["saves"]) == 2
    told = loft.cferry("slots", f"saltglass/longshore@{parts[0]}")
    assert "Gull Rock" in told.out
    assert "only read" in loft.cferry(
        "cross", "saltglass/tern@lamplight-2342", "saltglass/longshore@zips", "--yes", code=4
    ).err  # fmt: skip
    assert "copy already" in loft.cferry("backup", "saltglass/longshore@zips", code=4).err


def test_a_part_that_is_missing_or_broken_is_named(loft: Den) -> None:
    (export(loft) / "longshore-export-2-of-2.zip").unlink()
    told = loft.cferry("harbour", "add", "longshore", export(loft)).out
    assert "a part is missing: longshore-export-2-of-2.zip" in told
    shown = loft.cferry("look")
    assert "longshore-export-2-of-2.zip" in shown.out
    assert "saltglass/longshore@longshore" in shown.out
    (export(loft) / "longshore-export-2-of-2.zip").write_bytes(b"PK\x03\x04 cut off")
    data = loft.cferry("look", "--json").data
    assert any("longshore-export-2-of-2.zip can't be read" in one for one in data["troubles"])
    assert [one["saves"] for one in data["berths"] if "longshore" in one["address"]] == [1]


def test_a_damaged_save_within_hides_no_other(loft: Den) -> None:
    part = export(loft) / "longshore-export-1-of-2.zip"
    raw = bytearray(part.read_bytes())
    at = raw.find(b"island.world") + 60  # in the packed bytes of one save
    raw[at : at + 8] = bytes(8)
    part.write_bytes(raw)
    data = loft.cferry("slots", f"saltglass/longshore@{export(loft)}", "--json").data[0]
    assert len(data["saves"]) == 2
    assert "can't be unpacked" in loft.cferry(
        "check", f"saltglass/longshore@{export(loft)}", code=5
    ).out  # fmt: skip


def test_a_download_of_one_edition_is_found_wherever_it_is_in_a_zip(
    den: Den, tmp_path: Path
) -> None:
    target = tmp_path / "from a friend.zip"
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as made:
        for path in den.depot.rglob("*"):
            if path.is_file():
                made.write(path, Path("my saves") / den.depot.name / path.relative_to(den.depot))
    shown = den.cferry("slots", f"saltglass/depot@{target}", "--json").data[0]
    assert {one["name"] for one in shown["saves"]} == {"Saltmarsh", "Heron Point"}
    assert shown["fields"] == {"account": "100200300"}
    told = den.cferry("look", target)
    assert "Reads as Saltglass, Cobalt Depot: 2 saves" in told.out
    den.cferry("cross", f"saltglass/depot@{target}:3", "saltglass/tern:7", "--yes")
    assert den.loads("tern", 7).startswith("Heron Point, day 57")


@pytest.mark.parametrize(
    ("names", "missing"),
    [
        (["x-1-of-3.zip", "x-3-of-3.zip"], ["x-2-of-3.zip"]),
        (["x-01.zip", "x-02.zip", "x-04.zip"], ["x-03.zip"]),
        (["x-2.zip", "x-3.zip"], ["x-1.zip"]),
        (["take 1 of 2.zip"], ["take 2 of 2.zip"]),
        (["x-20261120.zip", "x-20261123.zip"], []),
        (["x-0.zip", "x-1.zip"], []),
        (["mod-2.zip", "mod-9.zip"], []),
        (
            ["a 3 of 2024.zip"],
            [f"a {n} of 2024.zip" for n in (1, 2, *range(4, 10))] + ["2,015 more of them"],
        ),
        (
            ["a 2 of 10.zip"],
            [f"a {n} of 10.zip" for n in (1, *range(3, 10))] + ["1 more of them"],
        ),
        (["one.zip", "x7.zip"], []),
        (["x.zip.001", "x.zip.003"], ["x.zip.002, so x.zip can't be read"]),
    ],
)
def test_missing_parts_by_their_numbers(names: list[str], missing: list[str]) -> None:
    _, problems = archive_parts(map(Path, names))
    assert problems == [f"a part is missing: {one}" for one in missing]


def test_a_zip_that_was_cut_into_pieces_is_read_across_them(tmp_path: Path) -> None:
    whole = tmp_path / "all.zip"
    data = os.urandom(200_000)
    with zipfile.ZipFile(whole, "w") as made:
        made.writestr("a/one.bin", data)
    raw = whole.read_bytes()
    pieces = [tmp_path / f"cut.zip.{number:03}" for number in (1, 2, 3)]
    for number, piece in enumerate(pieces):
        piece.write_bytes(raw[number * 80_000 : (number + 1) * 80_000])
    files = opened(*pieces)
    assert read_all(files.payload("a/one.bin"), limit=1 << 20, what="it") == data
    assert files.info("A/ONE.BIN") is not None
    assert files.info("a") is None


def test_hostile_archives_are_named_and_stay_inside(tmp_path: Path) -> None:
    bad = tmp_path / "bad.zip"
    with zipfile.ZipFile(bad, "w") as made:
        made.writestr("../out.txt", "x")
        made.writestr("C:/out.txt", "x")
        made.writestr("a", "a file")
        made.writestr("a/b", "and a folder")
        made.writestr("fine.txt", "x")
        made.writestr("deep.zip", b"no zip at all")
    files = opened(bad)
    assert [info.path for info in files.walk(lambda _: True)] == ["a", "fine.txt"]
    assert files.folders("") == ["deep.zip"]
    told = "\n".join(files.problems)
    assert told.count("outside itself") == 2
    assert "both a file and a folder" in told
    assert "deep.zip can't be read as a zip" in told
    nested = tmp_path / "bomb.zip"
    with zipfile.ZipFile(nested, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("inner.zip", bytes(100 << 20))
    bomb = opened(nested)
    assert bomb.heavy("inner.zip")
    assert bomb.folders("inner.zip") == []
    assert "would unpack" in bomb.problems[0]


@pytest.mark.parametrize(("depth", "read"), [(3, True), (4, False)])
def test_how_deep_zips_of_an_export_may_lie(tmp_path: Path, depth: int, read: bool) -> None:
    path = "/".join(["in.zip"] * depth)
    (tmp_path / "all.zip").write_bytes(zips_within(depth))
    files = opened(tmp_path / "all.zip")
    found = [info.path for info in files.walk(lambda _: True)]
    assert found == ([f"{path}/deep.sav"] if read else [path])


def test_two_parts_that_differ_are_told(tmp_path: Path) -> None:
    for number, text in ((1, "one"), (2, "two")):
        with zipfile.ZipFile(tmp_path / f"p{number}.zip", "w") as made:
            made.writestr("same.txt", "same")
            made.writestr("other.txt", text)
    files = opened(*sorted(tmp_path.iterdir()))
    assert [one for one in files.problems if "same.txt" in one] == []
    assert "other.txt is in p1.zip and, with other contents, in p2.zip" in files.problems[0]


def test_a_locked_zip_says_so(tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "x.zip", "w") as made:
        made.writestr("x.txt", "x")
    raw = bytearray((tmp_path / "x.zip").read_bytes())
    raw[6] |= 1
    raw[raw.find(b"PK\x01\x02") + 8] |= 1
    (tmp_path / "x.zip").write_bytes(raw)
    with pytest.raises(FerryError, match="locked with a password"):
        read_all(opened(tmp_path / "x.zip").payload("x.txt"), limit=10, what="it")


@given(st.binary(max_size=400), st.integers(0, 399), st.integers(0, 255))
def test_any_bytes_are_survived(
    tmp_path_factory: pytest.TempPathFactory, raw: bytes, at: int, byte: int
) -> None:
    folder = tmp_path_factory.mktemp("zips")
    with zipfile.ZipFile(folder / "good.zip", "w") as made:
        made.writestr("a/b.txt", raw)
    good = bytearray((folder / "good.zip").read_bytes())
    good[at % len(good)] = byte
    (folder / "changed.zip").write_bytes(good)
    (folder / "noise.zip").write_bytes(raw)
    files = opened(*sorted(folder.iterdir()))
    for info in files.walk(lambda _: True):
        try:
            read_all(files.payload(info.path), limit=1 << 16, what="it")
        except FerryError:
            continue


def test_a_zip_is_open_only_while_it_is_read_and_is_one_all_along(tmp_path: Path) -> None:
    """Windows refuses to put a file in the place of an open one; and parts of two are none."""
    path = tmp_path / "all.zip"
    with zipfile.ZipFile(path, "w") as made:
        for name in ("a", "b"):
            made.writestr(name, os.urandom(100_000))
    files = opened(path)
    assert read_all(files.payload("a"), limit=1 << 20, what="a")
    if sys.platform == "linux":
        assert not [one for one in Path("/proc/self/fd").iterdir() if one.exists()
                    and one.resolve() == path]  # fmt: skip
    raw = bytearray(path.read_bytes())
    raw[-20_000] ^= 1
    path.with_name("new").write_bytes(raw)
    path.with_name("new").replace(path)
    with pytest.raises(DamagedError, match="changed while it was being read"):
        read_all(files.payload("b"), limit=1 << 20, what="b")


def test_listing_reads_no_payload(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    inner = tmp_path / "inner.zip"
    with zipfile.ZipFile(inner, "w") as made:
        made.writestr("save.bin", bytes(3_000_000))
    with zipfile.ZipFile(tmp_path / "outer.zip", "w") as made:
        for number in range(5):
            made.write(inner, f"saves/{number}.zip")
    read = 0

    class Counting(io.FileIO):
        def read(self, size: int | None = -1) -> bytes:
            nonlocal read
            data = super().read(-1 if size is None else size) or b""
            read += len(data)
            return data

    monkeypatch.setattr(archives, "open_plain", lambda path: Counting(str(path), "rb"))
    files = opened(tmp_path / "outer.zip")
    assert len(list(files.walk(lambda _: True))) == 5
    assert 0 < read < 200_000


def test_one_service_exports_several_games(loft: Den) -> None:
    text = loft.cferry("recipe", "show", "saltglass").out
    text = text.replace('id = "saltglass"', 'id = "aaa"').replace("longshore-export", "other")
    loft.recipe("aaa", text)
    loft.recipe("zzz", text.replace('id = "aaa"', 'id = "zzz"'))
    assert "Gull Rock" in loft.cferry("slots", "saltglass/longshore").out


def test_an_export_is_found_where_downloads_are_kept(loft: Den) -> None:
    told = {one["address"]: one for one in loft.cferry("look", "--json").data["berths"]}
    assert told["saltglass/longshore@longshore"]["saves"] == 2
    home = loft.top / "home/isa"
    export(loft).rename(home / "Documents" / "what they sent")
    assert "Gull Rock" in loft.cferry("slots", "saltglass/longshore").out
    for part in sorted((home / "Documents" / "what they sent").iterdir()):
        part.rename(home / "Downloads" / part.name)
    (home / "Downloads" / "holiday.zip").write_bytes(b"no zip at all")
    shown = loft.cferry("slots", "saltglass/longshore", "--json").data[0]
    assert len(shown["saves"]) == 2
    assert not shown["problems"]  # the other zip is none of its parts
    for part in (home / "Downloads").glob("longshore-*"):
        part.rename(part.with_name(part.name.replace("longshore-export", "saves")))
    assert "closed" in loft.cferry("slots", "saltglass/longshore", code=3).err
