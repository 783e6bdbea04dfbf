"""More files made to harm: large without end, no plain file, or spoiling all other commands."""

from __future__ import annotations

import json
import os
import sqlite3
import struct
import subprocess
import sys
import zipfile
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import LONG, Den, state

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


@MEASURABLE
def test_folders_without_end_are_light(den: Den, tmp_path: Path) -> None:
    for number in range(3_000):
        (tmp_path / "wide" / str(number)).mkdir(parents=True)
    for number in range(30_000):
        os.close(os.open(tmp_path / "wide" / f"{number}.sgw", os.O_CREAT))
    assert "30,000 files" in light(den, "look", tmp_path / "wide")
    light(den, "check", f"saltglass/depot@{tmp_path / 'wide'}", code=3)


@pytest.mark.long
@MEASURABLE
def test_a_large_blob_of_a_database_is_never_held_whole(den: Den, tmp_path: Path) -> None:
    from tests.test_databases import CHEST, RECIPE

    size = 400_000_000 if LONG else 150_000_000
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
