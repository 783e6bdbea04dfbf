"""Files made to harm: a typed error or a shown renaming each; nothing is written outside."""

from __future__ import annotations

import gzip
import io
import os
import sqlite3
import tarfile
import unicodedata
import zipfile
from pathlib import Path

import pytest

from clever_ferry.boxes import Making, Put
from clever_ferry.documents.document import values_in
from clever_ferry.errors import DamagedError, FerryError, RecipeError, RefusedError
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.names import System, refuse_forbidden, safe_name
from clever_ferry.moving.replacing import Replacement
from clever_ferry.payload import BytesPayload
from clever_ferry.recipes.loading import Recipes
from clever_ferry.tree import Output
from clever_ferry_demo.saltglass.tern import Crate
from tests.conftest import Den, link, state

HARMFUL = [
    "../out.txt", "/abs/out.txt", "C:/Windows/out.txt", "C:out.txt", "..\\..\\out.txt", "aux",
    "nul.txt", "COM1", "a/../../out.txt", "name. ", "trailing.", "a:b", "Town.sav", "TOWN.SAV",
    "caf\N{LATIN SMALL LETTER E WITH ACUTE}", "cafe\N{COMBINING ACUTE ACCENT}", "x" * 300,
    "é" * 200, "a//b", "./c", "bell\x07", "-rf",
]  # fmt: skip


def test_any_name_becomes_one_that_every_system_can_hold() -> None:
    taken: set[str] = set()
    safe = [safe_name(name, taken) for name in HARMFUL]
    forms = {unicodedata.normalize("NFC", name.casefold()) for name in safe}
    assert len(forms) == len(HARMFUL)
    for name in safe:
        systems: tuple[System, ...] = ("windows", "linux", "macos")
        for system in systems:
            refuse_forbidden(name, system)


def test_a_path_that_windows_could_not_open_is_counted_with_its_folder() -> None:
    refuse_forbidden("a" * 59, "windows", 199)
    refuse_forbidden("a" * 60, "linux", 199)
    with pytest.raises(RefusedError, match="has 260 characters"):
        refuse_forbidden("a" * 60, "windows", 199)


@pytest.mark.parametrize("kind", ["zip", "tar"])
def test_archives_with_harmful_members(den: Den, tmp_path: Path, kind: str) -> None:
    path = tmp_path / f"all.{kind}"
    if kind == "zip":
        with zipfile.ZipFile(path, "w") as archive:
            for number, name in enumerate(HARMFUL):
                archive.writestr(zipfile.ZipInfo(name), f"{number}")
    else:
        with tarfile.open(path, "w") as tar:
            for number, name in enumerate(HARMFUL):
                info = tarfile.TarInfo(name)
                info.size = len(f"{number}")
                tar.addfile(info, io.BytesIO(f"{number}".encode()))
            for type_ in (tarfile.SYMTYPE, tarfile.LNKTYPE, tarfile.FIFOTYPE, tarfile.CHRTYPE):
                info = tarfile.TarInfo("link-" + type_.decode())
                info.type, info.linkname = type_, "/etc/passwd"
                tar.addfile(info)
    work = tmp_path / "work"
    work.mkdir()
    before = set(tmp_path.rglob("*"))
    done = den.cferry("unbox", path, "-o", work / "apart")
    assert "Named otherwise as a file" in done.out
    new = set(tmp_path.rglob("*")) - before
    assert all(work in p.parents for p in new)
    data = {p.read_bytes() for p in (work / "apart" / "pieces").rglob("*") if p.is_file()}
    assert data == {f"{number}".encode() for number in range(len(HARMFUL))}
    assert not [p for p in work.rglob("*") if p.is_symlink()]
    den.cferry("box", work / "apart", "-o", work / "again")
    assert (work / "again").read_bytes() == path.read_bytes()


def zip_bomb() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(40):
            archive.writestr(f"{number}", bytes(16 << 20))
    return out.getvalue()


def tar_bomb() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:xz", preset=1) as archive:
        info = tarfile.TarInfo("zeros")
        info.size = 256 << 20
        archive.addfile(info, io.BytesIO(bytes(info.size)))
    return out.getvalue()


@pytest.mark.parametrize("bomb", [zip_bomb, tar_bomb, lambda: gzip.compress(bytes(400 << 20), 9)])
def test_bombs_are_told_before_they_fill_a_disk(den: Den, tmp_path: Path, bomb: object) -> None:
    path = tmp_path / "bomb"
    path.write_bytes(bomb())  # type: ignore[operator]
    done = den.cferry("unbox", path, "-o", tmp_path / "out", code=5)
    assert "unpack" in done.err + done.out
    written = sum(p.stat().st_size for p in (tmp_path / "out").rglob("*") if p.is_file())
    assert written < 300 << 20


def test_two_entries_of_a_box_that_name_one_blob(den: Den) -> None:
    crate = Crate.read(den.tern)
    crate.records[1].ident, crate.records[1].data = crate.records[0].ident, crate.records[0].data
    crate.write(den.tern, 1_700_000_000_000)
    before = state(den.tern)
    done = den.cferry("cross", "saltglass/depot:3", "saltglass/tern:1", "--yes", code=5)
    assert "name the same blob" in done.err
    assert state(den.tern) == before


def test_a_database_that_computes_for_ever(den: Den, tmp_path: Path) -> None:
    from msgspec.structs import replace

    from clever_ferry.boxes import make_box
    from clever_ferry.boxes.spec import TableSpec

    book = sqlite3.connect(tmp_path / "a.db")
    book.execute(
        "CREATE VIEW saves(name, data) AS WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x+1 "
        "FROM c) SELECT x, x FROM c"
    )
    book.commit()
    book.close()
    spec = TableSpec(file="a.db", table="saves", name="name", data="data")
    with pytest.raises(DamagedError, match="no plain table"):
        make_box(spec, {}).read(FolderFiles(tmp_path), lambda _: True)
    book = sqlite3.connect(tmp_path / "b.db")
    book.executescript(
        "CREATE TABLE saves(name, data);"
        "CREATE TRIGGER t AFTER INSERT ON saves BEGIN INSERT INTO saves SELECT x, x FROM "
        "(WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x+1 FROM c) SELECT x FROM c); END"
    )
    book.close()
    box = make_box(replace(spec, file="b.db"), {})
    contents = box.read(FolderFiles(tmp_path), lambda _: True)
    with pytest.raises(DamagedError, match="can't be written"):
        list(box.write(contents, [Put("a", BytesPayload(b"a"), 0)], [], Making(0, os.urandom)))


@pytest.mark.parametrize(
    "text",
    [
        b'<!DOCTYPE x [<!ENTITY a "ha"><!ENTITY b "&a;&a;">]><x>&b;</x>',
        b'<!DOCTYPE x SYSTEM "file:///etc/passwd"><x/>',
        b'<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]><x>&a;</x>',
        b"<a>" * 5000 + b"</a>" * 5000,
        b"<a><b></a>",
        b"",
        b"\xff\xfe\x00",
    ],
)
def test_xml_that_harms_or_is_none(text: bytes) -> None:
    with pytest.raises(DamagedError):
        values_in("xml", BytesPayload(text), [])


def test_descriptions_nested_without_end(den: Den, tmp_path: Path) -> None:
    nested = "a = " + "[" * 20_000 + "]" * 20_000
    (den.home / "recipes").mkdir(parents=True)
    (den.home / "recipes" / "deep.toml").write_text(nested)
    assert "deep" in den.cferry("recipe", "list").out
    den.env["CFERRY_COMPUTER"] = str(tmp_path)
    (tmp_path / "computer.toml").write_text(nested)
    assert "computer.toml" in den.cferry("look", code=5).err


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ('path = "NineKettles', 'path = "../NineKettles'),
        ('path = "NineKettles', 'path = "/etc'),
        ('path = "NineKettles', 'path = "C:/x'),
        ('path = "options.ini"', 'path = "a/../../options.ini"'),
        ('path = "options.ini"', 'path = "..\\\\options.ini"'),
        ("width = 2", "width = 1000000000"),
        ("length = 16", "length = 1000000000"),
        ("most_slots = 8", "most_slots = -1"),
        ('title = "Saltglass"', 'title = "Salt\\u0007glass"'),
    ],
)
def test_recipes_from_strangers_stay_in_their_folders(
    den: Den, tmp_path: Path, before: str, after: str
) -> None:
    text = den.cferry("recipe", "show", "saltglass").out
    assert before in text
    path = tmp_path / "saltglass.toml"
    path.write_text(text.replace(before, after, 1))
    with pytest.raises((RecipeError, FerryError)):
        Recipes(None).game_in(path)


def test_a_stranger_s_recipe_does_not_take_a_shipped_one_s_place(den: Den) -> None:
    den.recipe("saltglass", den.cferry("recipe", "show", "saltglass").out)
    assert "has the id of a shipped one" in den.cferry("slots", "saltglass", code=5).err


@pytest.mark.parametrize("path", ["../x", "a/../../x", "/x", "a//x", "", "a/./x", "a\0b"])
def test_nothing_is_written_outside_whoever_asks(tmp_path: Path, path: str) -> None:
    root = tmp_path / "root"
    root.mkdir()
    change = Replacement(FolderFiles(root), "t")
    with change, pytest.raises(RefusedError, match="lead out"):
        change.stage(Output(path, BytesPayload(b"x"), 0))
    assert [p.name for p in tmp_path.iterdir()] == ["root"]
    assert not list(root.iterdir())


def test_a_path_that_windows_games_can_t_open(den: Den) -> None:
    text = den.cferry("recipe", "show", "saltglass").out
    text = text.replace("people/{player}.sgt", "people/" + "deep/" * 45 + "{player}.sgt", 1)
    den.recipe("saltglass", text.replace("[game]", "[game]\nreplaces_shipped = true", 1))
    done = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes", code=4)
    assert "more than 259" in done.err


def test_names_that_differ_only_in_unicode_form_clash_where_they_are_the_same(den: Den) -> None:
    from clever_ferry.moving.names import folded

    one, other = "caf\N{LATIN SMALL LETTER E WITH ACUTE}", "CAFE\N{COMBINING ACUTE ACCENT}"
    assert folded(one) == folded(other)
    files = FolderFiles(den.top, fold=True)
    (den.top / one).write_bytes(b"x")
    assert files.find(other) == den.top / one
    assert FolderFiles(den.top).find(other) is None


def test_links_inside_a_berth_lead_nowhere(den: Den, tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    world = next(den.depot.glob("voyage-02-*"))
    for path in list(world.rglob("*")):
        if path.is_file():
            (outside / path.name).write_bytes(path.read_bytes())
    link(den.depot / "voyage-04-00112233445566aa", outside)
    link(world / "people" / "loop", world)
    data = den.cferry("slots", "saltglass/depot", "--sort", "slot", "--json").data[0]
    assert [save["slot"] for save in data["saves"]] == [1, 3]
    before = state(outside)
    den.cferry("backup", "saltglass/depot")
    done = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes", "--give",
                      "world=00112233445566aa", code=4)  # fmt: skip
    assert "link" in done.err
    assert state(outside) == before
