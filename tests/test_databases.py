"""Databases that a killed game left in the middle of a change: read, carried, kept and replaced."""

from __future__ import annotations

import hashlib
import sqlite3
import struct
import subprocess
import sys
import time
import zipfile
import zlib
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.documents.document import Insert, Put, Remove, changed, values_in
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.forms.rows import Rows
from clever_ferry.layers import Known, LayerSpec, compile_layers
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload
from tests.conftest import Den, state
from tests.conftest import bins as recipe_of
from tests.test_layers import whole

SHAPES = {"one": "{slot}/map.db", "two": "isle-{slot}.db", "three": "chest:{slot}.world"}
RECIPE = recipe_of(', holds = "sqlite"', **SHAPES)
DAY = 'facts.day = { label = "Day", from = "world", at = "/blocks/[place=7]/day" }\n[editions'
ZIPPED = recipe_of(', holds = "sqlite"', **SHAPES, four="bag:{slot}/map.db").replace(
    "[editions", DAY, 1
)
CHEST = """
recipe = 1
box = { id = "chest", title = "A chest" }
[format]
kind = "sqlite"
file = "saves.db"
table = "saves"
name = "name"
data = "data"
"""
BAG = """
recipe = 1
box = { id = "bag", title = "A bag" }
format = { kind = "zip", file = "all.zip" }
"""
KILLED = """
import os, sqlite3, sys
book = sqlite3.connect(sys.argv[1], isolation_level=None)
book.execute("PRAGMA cache_size = 1")
if sys.argv[2] == "wal":
    book.execute("PRAGMA journal_mode = WAL")
    book.execute("PRAGMA wal_autocheckpoint = 0")
book.execute("BEGIN")
book.execute(sys.argv[3])
if sys.argv[2] == "wal":
    book.execute("COMMIT")
os._exit(9)
"""


def isle(path: Path, day: int) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    with closing(sqlite3.connect(path)) as book, book:
        book.execute("CREATE TABLE blocks (place INTEGER PRIMARY KEY, data BLOB, day INTEGER)")
        rows = [(number, bytes(900), day) for number in range(400)]
        book.executemany("INSERT INTO blocks VALUES (?, ?, ?)", rows)


def days(path: Path) -> set[int]:
    """Open a database as its game would, in its place, and tell whose it is."""
    with closing(sqlite3.connect(path)) as book:
        assert book.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        return {day for (day,) in book.execute("SELECT DISTINCT day FROM blocks")}


def killed(path: Path, mode: str, change: str = "UPDATE blocks SET day = day + 1") -> set[Path]:
    """Have a game change a database and be killed; return what it leaves beside it."""
    before = path.read_bytes()
    subprocess.run([sys.executable, "-c", KILLED, str(path), mode, change], check=False)
    left = {one for one in path.parent.iterdir() if one.name.startswith(f"{path.name}-")}
    assert path.read_bytes() != before, "some of the change is in the file already"
    assert left
    return left


@pytest.fixture
def bins(den: Den, tmp_path: Path) -> Path:
    den.recipe("bin", ZIPPED)
    den.recipe("chest", CHEST)
    den.recipe("bag", BAG)
    return tmp_path


@pytest.mark.parametrize(("mode", "day"), [("journal", 31), ("wal", 32)])
def test_a_killed_games_database_is_carried_as_settled(
    den: Den, bins: Path, mode: str, day: int
) -> None:
    source, target = bins / "a", bins / "b"
    isle(source / "1" / "map.db", 31)
    killed(source / "1" / "map.db", mode)
    before = state(source)
    target.mkdir()
    checked = den.cferry("check", f"bin/one@{source}", "--json").data
    assert checked["saves"][0]["established"][0]["by"] == "SQLite's own check"
    assert checked["saves"][0]["facts"] == {"day": day}
    den.cferry("cross", f"bin/one@{source}:1", f"bin/two@{target}:4", "--yes")
    assert [path.name for path in target.iterdir()] == ["isle-4.db"]
    assert days(target / "isle-4.db") == {day}
    assert state(source) == before
    assert days(source / "1" / "map.db") == {day}, "the judge: what the game itself makes of it"


@pytest.mark.parametrize("mode", ["journal", "wal"])
def test_what_is_left_beside_goes_with_what_is_replaced(den: Den, bins: Path, mode: str) -> None:
    source, target = bins / "a", bins / "b"
    isle(source / "1" / "map.db", 70)
    isle(target / "isle-4.db", 31)
    left = killed(target / "isle-4.db", mode)
    before = state(target)
    places = (f"bin/one@{source}:1", f"bin/two@{target}:4")
    den.cferry("cross", *places, "--yes", "--replace")
    assert days(target / "isle-4.db") == {70}, "the old journal is not applied to it"
    assert not [path for path in left if path.exists()]
    den.cferry("undo", "--yes")
    assert state(target) == before
    den.cferry("backup", f"bin/two@{target}")
    kept = den.cferry("backup", "show", "latest", "--json").data["files"]
    assert len(kept) == 1 + len(left)
    for path in target.iterdir():
        path.unlink()
    den.cferry("restore", "latest", "--yes", "--place-ok")
    assert {path: one[0] for path, one in state(target).items()} == {
        path: one[0] for path, one in before.items()
    }


def test_a_journal_without_its_database_is_not_left_to_a_new_one(den: Den, bins: Path) -> None:
    source, target = bins / "a", bins / "b"
    isle(source / "1" / "map.db", 70)
    isle(target / "isle-4.db", 31)
    killed(target / "isle-4.db", "journal")
    (target / "isle-4.db").unlink()
    before = state(target)
    den.cferry("cross", f"bin/one@{source}:1", f"bin/two@{target}:4", "--yes")
    assert days(target / "isle-4.db") == {70}
    den.cferry("undo", "--yes")
    assert state(target) == before


def test_names_alone_make_no_journal(den: Den, bins: Path) -> None:
    """A file beside one that is no database is nobody's companion."""
    source, target = bins / "a", bins / "b"
    isle(source / "1" / "map.db", 70)
    target.mkdir()
    (target / "isle-4.db").write_bytes(b"of another kind")
    (target / "isle-4.db-wal").write_bytes(b"mine")
    den.cferry("backup", f"bin/two@{target}")
    assert len(den.cferry("backup", "show", "latest", "--json").data["files"]) == 1
    damaged = den.cferry("check", f"bin/two@{target}", "--json", code=5).data["saves"][0]
    assert "no SQLite database" in str(damaged["established"])


@pytest.mark.parametrize(("mode", "last"), [("journal", b"\x1f"), ("wal", b"32")])
def test_a_box_that_was_left_open_is_read_as_settled(
    den: Den, bins: Path, mode: str, last: bytes
) -> None:
    box, out = bins / "box", bins / "out"
    box.mkdir()
    out.mkdir()
    with closing(sqlite3.connect(box / "saves.db")) as book, book:
        book.execute("CREATE TABLE saves (name TEXT PRIMARY KEY, data BLOB)")
        isle(bins / "made.db", 31)
        rows = [(f"{slot}.world", (bins / "made.db").read_bytes()) for slot in range(1, 4)]
        book.executemany("INSERT INTO saves VALUES (?, ?)", rows)
    left = killed(box / "saves.db", mode, "UPDATE saves SET data = data || '32'")
    before = state(box)
    den.cferry("cross", f"bin/three@{box}:2", f"bin/two@{out}:2", "--yes")
    assert time.time() - (out / "isle-2.db").stat().st_mtime < 600  # the box knows no time of it
    assert state(box) == before
    isle(bins / "new" / "9" / "map.db", 90)
    den.cferry("cross", f"bin/one@{bins / 'new'}:9", f"bin/three@{box}:9", "--yes")
    assert not [path for path in left if path.exists()]
    with closing(sqlite3.connect(box / "saves.db")) as book:
        names = [name for (name,) in book.execute("SELECT name FROM saves ORDER BY name")]
        (kept,) = book.execute(
            "SELECT CAST(data AS BLOB) FROM saves WHERE name = '2.world'"
        ).fetchone()
    assert names == ["1.world", "2.world", "3.world", "9.world"]
    assert kept.endswith(last)
    assert (out / "isle-2.db").read_bytes() == kept
    den.cferry("undo", "--yes")
    assert state(box) == before


@pytest.mark.parametrize(("mode", "day"), [("journal", 31), ("wal", 32)])
def test_a_database_in_a_zip_is_read_with_what_was_left_beside_it(
    den: Den, bins: Path, mode: str, day: int
) -> None:
    box, out = bins / "box", bins / "out"
    for slot in (1, 2):
        isle(bins / "in" / f"{slot}" / "map.db", 31)
        killed(bins / "in" / f"{slot}" / "map.db", mode)
    box.mkdir()
    out.mkdir()
    with zipfile.ZipFile(box / "all.zip", "w") as made:
        for path in sorted((bins / "in").rglob("*.*")):
            made.write(path, path.relative_to(bins / "in"))
        names = set(made.namelist())
    before = state(box)
    where = f"bin/four@{box}"
    assert "SQLite's own check" in den.cferry("check", where).out
    den.cferry("cross", f"{where}:1", f"bin/two@{out}:1", "--yes")
    assert days(out / "isle-1.db") == {day}
    isle(bins / "new" / "9" / "map.db", 90)
    den.cferry("cross", f"bin/one@{bins / 'new'}:9", f"{where}:2", "--yes", "--replace")
    with zipfile.ZipFile(box / "all.zip") as found:
        assert set(found.namelist()) == {n for n in names if not n.startswith("2/map.db-")}
        found.extractall(bins / "apart")
    assert (days(bins / "apart/1/map.db"), days(bins / "apart/2/map.db")) == ({day}, {90})
    den.cferry("undo", "--yes")
    assert state(box) == before


ROWS = {
    "/info/[key=day]/value": [31], "/info/[key=owner]/value": ["Isa \"I\""], "/saves/#": [2],
    "/saves/1/name": ["Loft"], "/saves/*/name": ["Quay", "Loft"], "/saves/0/*": [1, "Quay", "00ff"],
    "/saves/[id=2]/data": [None], "/nowhere/0/name": [], "/saves/9/name": [], "/saves/0/nome": [],
    "/saves/[nome=nome]/name": [], "/saves/[id/x=1]/name": [], "/saves/0/name) FROM info --": [],
    "/saves": [],
}  # fmt: skip


def test_values_of_rows_are_read_by_place(tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "one.db")) as book:
        book.executescript("""
            CREATE TABLE info (key, value);
            INSERT INTO info VALUES ('day', 31), ('owner', 'Isa "I"');
            CREATE TABLE saves (id INTEGER PRIMARY KEY, name TEXT, data);
            INSERT INTO saves VALUES (1, 'Quay', x'00ff'), (2, 'Loft', NULL);
            CREATE TABLE virtual_isles (day);
            INSERT INTO virtual_isles VALUES (4);
            CREATE VIRTUAL TABLE seen USING rtree (id, low, high);
        """)
    raw = BytesPayload((tmp_path / "one.db").read_bytes())
    assert dict(zip(ROWS, values_in(Rows(), raw, list(ROWS)), strict=True)) == ROWS
    assert values_in(Rows(), raw, ["/virtual_isles/0/day"]) == [[4]]
    with pytest.raises(DamagedError, match="computed"):
        values_in(Rows(), raw, ["/seen/0/low"])
    with pytest.raises(DamagedError, match="no SQLite"):
        values_in(Rows(), BytesPayload(b"SQL"), ["/info/#"])


SINGLE = st.one_of(
    st.none(), st.integers(-(2**63), 2**63 - 1), st.text(max_size=5), st.binary(max_size=5),
    st.floats(allow_nan=False),
)  # fmt: skip
MANY = st.lists(st.tuples(SINGLE, SINGLE), max_size=6)


def rows_of(raw: bytes) -> dict[str, list[Any]]:
    with closing(sqlite3.connect(":memory:")) as book:
        book.deserialize(raw)
        assert book.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        tables = book.execute("SELECT name FROM sqlite_schema WHERE type = 'table'").fetchall()
        return {name: book.execute(f'SELECT * FROM "{name}"').fetchall() for (name,) in tables}


@given(MANY, MANY, st.sampled_from(["key TEXT", "key INTEGER PRIMARY KEY"]), st.data())
def test_an_owner_in_a_database_is_changed_and_nothing_else(
    tmp_path_factory: pytest.TempPathFactory, rows: list[Any], gone: list[Any], key: str,
    data: st.DataObject,
) -> None:  # fmt: skip
    file = tmp_path_factory.mktemp("book") / "a.db"
    owner: Any = data.draw(st.sampled_from(["100200300", 100200300, b"\x10\x02\x00\x30"]))
    with closing(sqlite3.connect(file)) as book, book:
        book.execute(f"CREATE TABLE info ({key}, value, more)")
        book.execute("CREATE TABLE world (a, b)")
        book.executemany("INSERT INTO world VALUES (?, ?)", [*gone, *rows])
        book.execute("DELETE FROM world WHERE rowid <= ?", (len(gone),))
        book.executemany("INSERT INTO info VALUES (?, ?, ?)", [(1, owner, "x"), (2, 5, b"y")])
        book.execute("PRAGMA user_version = 31")
    bytes_of = isinstance(owner, bytes)
    value = {"at": "/info/[key=1]/value", "field": "account"}
    value |= {"spelled": "hex"} if bytes_of else {}
    spec = convert([{"kind": "agrees", "holds": "sqlite", "values": [value]}], list[LayerSpec])
    chain = compile_layers({"owned": spec}, {}, lambda _: Rows())["owned"]
    raw, new = file.read_bytes(), "0a0b0c0d" if bytes_of else "77"
    found = chain.unwrap(BytesPayload(raw))
    assert str(found.bound["account"]) == (owner.hex() if bytes_of else str(owner))
    inside = whole(found.payload)
    written = whole(chain.wrap(BytesPayload(inside), Known({"account": new})))
    before, after = rows_of(raw), rows_of(written)
    put = bytes.fromhex(new) if bytes_of else type(owner)(new)
    first = before["info"][0]
    assert after == {**before, "info": [(first[0], put, "x"), before["info"][1]]}
    assert written[60:64] == (31).to_bytes(4, "big"), "its own version"
    assert written[24:28] == written[92:96] == (1).to_bytes(4, "big"), "no change since"
    again = chain.unwrap(BytesPayload(written))
    assert whole(again.payload) == inside, "what is carried has nothing of either owner"
    assert again.bound == {"account": put.hex() if bytes_of else put}


def test_what_a_database_does_not_take_is_refused() -> None:
    with closing(sqlite3.connect(":memory:")) as book:
        book.execute("CREATE TABLE plain (key TEXT PRIMARY KEY, value) WITHOUT ROWID")
        book.execute("CREATE TABLE strict (value INTEGER CHECK (value > 5))")
        book.execute("INSERT INTO plain VALUES ('a', 'b')")
        book.execute("INSERT INTO strict VALUES (7)")
        book.commit()
        raw = book.serialize()
    for place, value, said in (
        ("/plain/0/value", "x", "have no numbers"), ("/strict/0/value", 3, "does not take it"),
    ):  # fmt: skip
        with pytest.raises(RefusedError, match=said):
            whole(changed(Rows(), BytesPayload(raw), [Put(place, value)]))
    assert rows_of(whole(changed(Rows(), BytesPayload(raw), [Put("/strict/0/value", 9)])))[
        "strict"
    ] == [(9,)]
    for wrong in (Remove("/strict/0/value"), Insert("/strict/0/value/x", 1)):
        with pytest.raises(RefusedError):
            whole(changed(Rows(), BytesPayload(raw), [wrong]))


TOLD = (
    CHEST
    + """sums.bytes = { what = "size" }
sums.sum = { what = "crc32", spelled = "HEX" }
sums.hash = { what = "md5" }
sums.mark = { what = "fnv1a-64" }
repeats = { slot = "slot" }
fills = { kind = "world" }
"""
)
ROWS_OF = "SELECT name, data, bytes, sum, hash, mark, slot, kind FROM saves ORDER BY slot"


def row_of(slot: int, data: bytes, kind: str = "own") -> tuple[object, ...]:
    digest, mark = hashlib.md5(data).digest(), 0xCBF29CE484222325
    for byte in data:
        mark = (mark ^ byte) * 0x100000001B3 % (1 << 64)
    signed = struct.unpack("<q", struct.pack("<Q", mark))[0]
    sums = len(data), f"{zlib.crc32(data):08X}", digest, signed
    return f"{slot}.world", data, *sums, slot, kind


@pytest.fixture
def told(den: Den, tmp_path: Path) -> Path:
    den.recipe("bin", recipe_of("", one="{slot}.plain", three="chest:{slot}.world"))
    den.recipe("chest", TOLD)
    with closing(sqlite3.connect(tmp_path / "saves.db")) as book, book:
        book.execute(
            "CREATE TABLE saves (name TEXT PRIMARY KEY, data BLOB, bytes INT NOT NULL, "
            "sum TEXT NOT NULL, hash BLOB NOT NULL, mark INT, slot INT NOT NULL, kind NOT NULL)"
        )
        rows = [row_of(slot, b"day %d" % slot) for slot in (1, 2)]
        book.executemany("INSERT INTO saves VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
    (tmp_path / "plain").mkdir()
    (tmp_path / "plain" / "9.plain").write_bytes(b"new" * 700)
    return tmp_path


def test_what_a_table_says_of_its_rows_is_held_against_them_and_written(
    den: Den, told: Path
) -> None:
    where, plain = f"bin/three@{told}", f"bin/one@{told / 'plain'}"
    checked = den.cferry("check", where, "--json").data["saves"][0]["established"][0]
    assert checked["by"] == "SQLite's own check, the table's crc32, md5, fnv1a-64"
    den.cferry("cross", f"{plain}:9", f"{where}:7", "--yes")
    den.cferry("cross", f"{plain}:9", f"{where}:2", "--yes", "--replace")
    with closing(sqlite3.connect(told / "saves.db")) as book:
        rows = book.execute(ROWS_OF).fetchall()
    new = b"new" * 700
    assert rows == [row_of(1, b"day 1"), row_of(2, new), row_of(7, new, "world")]
    den.cferry("cross", f"{where}:1", f"{plain}:4", "--yes")
    assert (told / "plain" / "4.plain").read_bytes() == b"day 1"


@pytest.mark.parametrize("column", ["data", "sum", "slot", "kind"])
def test_a_column_that_is_not_there_is_told(den: Den, told: Path, column: str) -> None:
    with closing(sqlite3.connect(told / "saves.db")) as book, book:
        book.execute(f"ALTER TABLE saves RENAME COLUMN {column} TO other")
    said = den.cferry("check", f"bin/three@{told}", code=5).err
    assert f"no column {column}" in said


@pytest.mark.parametrize("change", [
    "bytes = 9", "sum = 'a0000000'", "hash = x'00'", "slot = 5", "data = x'6461792033'",
    "slot = x'00'", "mark = 3",
])  # fmt: skip
def test_each_column_that_does_not_agree_is_found(den: Den, told: Path, change: str) -> None:
    with closing(sqlite3.connect(told / "saves.db")) as book, book:
        book.execute(f"UPDATE saves SET {change} WHERE name = '2.world'")
    found = den.cferry("check", f"bin/three@{told}", "--json", code=5).data["saves"]
    assert [bool(one["problems"] or any(e["faults"] for e in one["established"]))
            for one in found] == [False, True]  # fmt: skip
