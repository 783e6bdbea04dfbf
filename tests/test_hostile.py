"""Files made to harm: a typed error or a shown renaming each; nothing is written outside."""

from __future__ import annotations

import gzip
import io
import json
import os
import sqlite3
import struct
import subprocess
import sys
import tarfile
import unicodedata
import zipfile
from collections.abc import Callable
from contextlib import closing
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
from tests.conftest import LONG, Den, link, state

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


MOST_MEMORY = 300 << 20
MEASURED = """
import re, sys
from clever_ferry.cli.main import main
code = main(sys.argv[1:])
sys.stdout.flush()
used = re.search(r"VmHWM:\\s+(\\d+) kB", open("/proc/self/status").read())[1]
print(int(used) * 1024, file=sys.stderr)
sys.exit(code)
"""


MEASURABLE = pytest.mark.skipif(sys.platform != "linux", reason="measured as Linux tells memory")


def light(
    den: Den, *arguments: str | Path, code: int = 0, most: int = MOST_MEMORY
) -> str:  # fmt: skip
    """Run a command, see that it ends so within the stated memory, and return what it says."""
    done = subprocess.run(
        [sys.executable, "-c", MEASURED, *map(str, arguments)],
        env={**os.environ, **den.env}, capture_output=True, encoding="utf-8", check=False,
        timeout=600,
    )  # fmt: skip
    assert done.returncode == code, done
    words, _, used = done.stderr.rstrip().rpartition("\n")
    assert int(used) < most, done.stderr
    assert "Traceback" not in words
    assert "nobody foresaw" not in words
    return done.stdout + words


def many(path: Path) -> None:
    """A zip of very many empty files, as only its list says; each would be an object in memory."""
    own = b"PK\3\4" + bytes(26)
    row = struct.pack("<4s6xHH4xIIIHHHHHII", b"PK\1\2", 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0) + b"x"
    rows = row * 700_000
    end = struct.pack("<4sHHHHIIH", b"PK\5\6", 0, 0, 9, 9, len(rows), len(own), 0)
    path.write_bytes(own + rows + end)


def deep(path: Path) -> None:
    with zipfile.ZipFile(path, "w") as made:
        made.writestr("/".join(["a"] * 30_000), b"x")
        made.writestr("fine.txt", b"y")


def sparse(path: Path) -> None:
    head = bytearray(512)
    head[:1], head[156:157], head[257:265] = b"s", b"S", b"ustar  \0"
    head[124:136] = head[386:398] = head[398:410] = b"%011o\0" % 0
    head[483:495] = b"%011o\0" % (60 << 20)
    head[148:156] = b"        "
    head[148:156] = b"%06o\0 " % sum(head)
    path.write_bytes(bytes(head) * 3000 + bytes(1024))


@MEASURABLE
@pytest.mark.parametrize("make", [many, deep, sparse], ids=lambda one: str(one.__name__))
def test_archives_without_end_are_light(
    den: Den, tmp_path: Path, make: Callable[[Path], None]
) -> None:
    path = tmp_path / f"made.{'tar' if make is sparse else 'zip'}"
    make(path)
    said = light(den, "look", path)
    assert (make is not deep) or "over 200 folders" in said
    light(den, "unbox", path, "--list", code=0 if make is deep else 5)
    light(den, "check", f"saltglass/depot@{path}", code=3)


@pytest.mark.long
@MEASURABLE
def test_folders_without_end_are_light(den: Den, tmp_path: Path) -> None:
    many = 30_000 if LONG else 5_000
    for number in range(many // 10):
        (tmp_path / "wide" / str(number)).mkdir(parents=True)
    for number in range(many):
        os.close(os.open(tmp_path / "wide" / f"{number}.sgw", os.O_CREAT))
    assert f"{many:,} files" in light(den, "look", tmp_path / "wide")
    light(den, "check", f"saltglass/depot@{tmp_path / 'wide'}", code=3)


@pytest.mark.long
@MEASURABLE
def test_a_large_blob_of_a_database_is_never_held_whole(den: Den, tmp_path: Path) -> None:
    from tests.test_databases import CHEST, RECIPE

    size = 400_000_000 if LONG else 100_000_000
    most = size * 2 // 3  # far less than the blob, however often
    den.recipe("bin", RECIPE.replace(', holds = "sqlite"', ""))
    den.recipe("chest", CHEST)
    (tmp_path / "box").mkdir()
    (tmp_path / "out").mkdir()
    with closing(sqlite3.connect(tmp_path / "box" / "saves.db")) as book, book:
        book.execute("CREATE TABLE saves (name TEXT PRIMARY KEY, data BLOB)")
        book.execute("INSERT INTO saves VALUES ('1.world', zeroblob(?)), ('2.world', 'b')", (size,))
    where = f"bin/three@{tmp_path / 'box'}"
    light(den, "check", where, most=most)
    light(den, "cross", f"{where}:1", f"bin/two@{tmp_path / 'out'}:1", "--yes", most=most)
    assert (tmp_path / "out" / "isle-1.db").stat().st_size == size
    light(den, "cross", f"bin/two@{tmp_path / 'out'}:1", f"{where}:2", "--yes", "--replace",
          most=most)  # fmt: skip
    with closing(sqlite3.connect(tmp_path / "box" / "saves.db")) as book:
        sizes = book.execute("SELECT name, length(data) FROM saves ORDER BY name").fetchall()
    assert sizes == [("1.world", size), ("2.world", size)]
    light(den, "undo", "--yes", most=most)


SPOILT = {
    "dots": "a." * 250_000 + "b = 1\n",
    "lines": "\n".join("a." * 90 + f"b{number} = 1" for number in range(1_500)),
    "digits": f"recipe = {'9' * 5000}\n",
    "brackets": "a = " + "[" * 5_000,
    "nested": "a = " + "[" * 400 + "]" * 400,
    "control": "recipe = 1\n# \x9b31m\ntitle = 3\n",
    "vast": 'recipe = 1\ngame = { id = "vast", title = "V" }\npieces.world = { needed = true }\n'
            "[layouts.f]\nfields = [{ type = \"text\", name = \"t\", size = 4294967296 }]\n",
    "vaster": f"recipe = {1 << 70}\n",
}  # fmt: skip


def test_a_recipe_that_harms_spoils_itself_alone(den: Den) -> None:
    for name, text in SPOILT.items():
        den.recipe(name, text)
    with den.recipe("large", "").open("wb") as file:
        file.truncate(300 << 20)
    if hasattr(os, "mkfifo"):
        den.recipe("pipe", "").unlink()
        os.mkfifo(den.home / "recipes" / "pipe.toml")
    rows = {row["id"]: row for row in den.cferry("recipe", "list", "--json").data}
    for name in {*SPOILT, "large"}:
        assert rows[name]["fault"], name
    assert not rows["saltglass"]["fault"]
    den.cferry("slots", "saltglass")
    den.cferry("look")
    assert "\x9b" not in den.cferry("recipe", "show", "control").out


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="this system has no pipes with names")
def test_what_is_no_plain_file_is_not_waited_for(den: Den, tmp_path: Path) -> None:
    pipe = tmp_path / "made.zip"
    os.mkfifo(pipe)
    for command in (
        (0, "look", pipe), (1, "unbox", pipe, "-o", tmp_path / "out"), (1, "look", "/dev/zero"),
        (5, "recipe", "check", pipe), (3, "check", f"saltglass/depot@{pipe}"),
        (5, "cross", "--from-file", pipe, "saltglass/depot"),
    ):  # fmt: skip
        done = den.cferry(*map(str, command[1:]), code=int(str(command[0])))
        assert "no plain file" in done.err + done.out or command[0] == 5, command
    os.mkfifo(next(den.depot.glob("voyage-00-*")) / "people" / "Ada.sgt")
    den.cferry("backup", "saltglass/depot")
    den.cferry("slots", "saltglass")
    (den.home / "journal").mkdir()
    os.mkfifo(den.home / "journal" / "20260101-000000-000000.json")
    assert "can't be read" in den.cferry("log").err
    assert den.cferry("log").err == ""


@pytest.mark.filterwarnings("ignore:Duplicate name")
def test_archives_whose_names_clash_are_taken_apart_whole(den: Den, tmp_path: Path) -> None:
    path = tmp_path / "odd.zip"
    with zipfile.ZipFile(path, "w") as made:
        for name, text in (("a", b"1"), ("a", b"2"), ("a/b", b"3"), ("A/B", b"4"), ("c/d", b"5"),
                           ("c", b"6")):  # fmt: skip
            made.writestr(name, text)
        link = zipfile.ZipInfo("link")
        link.external_attr = 0o120777 << 16
        made.writestr(link, b"/etc/passwd")
    den.cferry("unbox", path, "-o", tmp_path / "apart")
    found = [one for one in (tmp_path / "apart" / "pieces").rglob("*") if one.is_file()]
    assert sorted(one.read_bytes() for one in found) == [b"/etc/passwd", *b"1 2 3 4 5 6".split()]
    assert not any(one.is_symlink() for one in found)


def test_control_characters_and_long_values_are_told_short(den: Den, tmp_path: Path) -> None:
    from tests.test_invented import SECRET

    den.recipe("secret", SECRET)
    folder = tmp_path / "plain"
    folder.mkdir()
    for slot, day in ((1, '"\x7f\x9b31m\u202e"'), (2, "9" * 4000), (3, "9" * 9000),
                      (4, json.dumps("N" * 1_000_000)), (5, "1e999")):  # fmt: skip
        (folder / f"{slot}.note").write_text(f'{{"day": {day}}}', "utf-8")
    where = f"secret/plain@{tmp_path}"
    out = den.cferry("slots", where, "--json").out
    assert not set(out) & set("\x7f\x9b\u202e")
    saves = {save["slot"]: save for save in json.loads(out)["berths"][0]["saves"]}
    assert saves[1]["facts"]["day"] == "\x7f\x9b31m\u202e"
    assert saves[5]["facts"]["day"] is None
    assert "Infinity" not in out
    assert len(den.cferry("slots", where).out) < 20_000
    den.cferry("slots", where, "--picture", tmp_path / "drawn.png")
    before = state(folder)
    den.cferry("backup", where)
    den.cferry("check", where, code=5)
    assert state(folder) == before
