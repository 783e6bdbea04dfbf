"""What saves have many of: as rows, written down on a page, set against each other."""

from __future__ import annotations

import csv
import io
import json
import random
import re
import sqlite3
from collections.abc import Callable
from contextlib import closing
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from clever_ferry.documents import tabling
from clever_ferry.documents.blocks_text import Blocks
from clever_ferry.documents.document import Remove, changed
from clever_ferry.documents.spec import BlocksSpec
from clever_ferry.errors import DamagedError, RefusedError, UnsupportedError
from clever_ferry.payload import BytesPayload, StreamPayload
from clever_ferry.sheets.differing import compare
from clever_ferry.sheets.pages import comparison_page, sheet_page
from clever_ferry.sheets.sheet import Sheet, SheetColumn, SheetFact, SheetTable, read_sheet
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from tests.conftest import Den, bins
from tests.test_demands import game

BRASS = "orrery-yard/windows:Brass Court"


@pytest.fixture
def yards(den: Den) -> Den:
    lay_orrery_yard(den.top, "wren", demo_yards())
    return den


def yard_file(den: Den) -> Path:
    return next(den.top.rglob("Brass Court/yard.xml"))


def test_a_yards_tables_are_told_written_and_summed(yards: Den, tmp_path: Path) -> None:
    tables = {one["name"]: one for one in yards.cferry("tables", BRASS, "--json").data["tables"]}
    assert {name: one["count"] for name, one in tables.items()} == {
        "builders": 3, "houses": 3, "land": 36, "buildings": 33, "machines": 24, "stores": 61,
        "contracts": 18, "wheels": 91,
    }  # fmt: skip
    wheels, builders = tables["wheels"], tables["builders"]
    assert (wheels["count"], wheels["sums"]) == (91, {"teeth": 3017})
    assert [tables[name]["sums"] for name in ("houses", "land", "machines", "stores")] == [
        {"coins": 4374}, {}, {}, {"amount": 453},
    ]  # fmt: skip
    assert wheels["counts"] == {"Wren": 31, "Isa": 30, "Oona": 30}
    assert (builders["count"], builders["sums"], builders["counts"]) == (3, {"cogs": 345}, {})
    assert tables["houses"]["counts"] == {"Wren": 1, "Isa": 1, "Oona": 1}
    assert tables["stores"]["counts"] == {"Wren's House": 19, "Isa's House": 21, "Oona's House": 21}
    machines = yards.cferry("tables", BRASS, "machines", "--json").data["tables"][0]
    kinds = [(row[1], row[-1]) for row in machines["rows"]]
    assert kinds[:2] == [("Lathe", "Wren's House"), ("Lathe", "Isa's House")]
    told = yards.cferry("tables", BRASS).out
    assert "Teeth 3,017" in told
    assert "Oona 30" in told
    shown = yards.cferry("tables", BRASS, "wheels").out
    assert "… and 41 more: --all shows them here." in shown
    assert yards.cferry("tables", BRASS, "wheels", "--all").out.count("Oona") == 30
    out = tmp_path / "wheels.csv"
    yards.cferry("tables", BRASS, "wheels", "--csv", out)
    rows = list(csv.DictReader(io.StringIO(out.read_text("utf-8"))))
    assert sum(int(row["teeth"]) for row in rows) == 3017
    lines = yards.cferry("tables", BRASS, "builders", "--csv", "-").out.split()
    assert lines == ["name,cogs", "Wren,125", "Isa,95", "Oona,125"]
    for words, code, said in (
        ((BRASS, "wheel"), 2, "no table 'wheel'"),
        ((BRASS, "--csv", "x"), 2, "Which table"),
        (("orrery-yard/windows",), 2, "and one is meant"),
        (("saltglass/depot:1",), 3, "says nothing of tables"),
        ((BRASS, "wheels", "--csv", out), 4, "there already"),
    ):  # fmt: skip
        assert said in yards.cferry("tables", *words, code=code).err


def test_what_is_odd_in_a_table_is_told_by_check(yards: Den) -> None:
    file = yard_file(yards)
    raw = file.read_bytes()
    for old, new, said in (
        (b'no="3" by="Isa"', b'no="3" by="Nobody"', "Wheels: by: no Builders has the name Nobody"),
        (b'no="4"', b'no="3"', "Wheels: number: stands more than once: 3"),
        (b'teeth="57"', b'teeth="many"', "Wheels: teeth: 1 values are not a number, such as many"),
        (b'no="5" ', b"", "Wheels: number: 1 rows have none"),
    ):
        assert raw.count(old) >= 1
        file.write_bytes(raw.replace(old, new, 1))
        told = yards.cferry("check", BRASS)
        assert f"suspicious: yards/Brass Court/yard.xml: {said}" in told.out
        assert "damaged" not in told.out
    file.write_bytes(raw)
    stores = file.with_name("stores.xml")
    raw = stores.read_bytes()
    stores.write_bytes(raw.replace(b'building="1"', b'building="77"', 1))
    assert "building: no Buildings has the number 77" in yards.cferry("check", BRASS).out
    found = yards.cferry("tables", BRASS, "stores", "--json").data["tables"][0]
    assert found["counts"] == {"": 1, "Wren's House": 18, "Isa's House": 21, "Oona's House": 21}
    stores.write_bytes(raw)
    raw = file.read_bytes()
    file.write_bytes(raw[:-20])
    assert "?" not in yards.cferry("tables", BRASS, "builders").out
    lost = yards.cferry("tables", BRASS, "--json").data["tables"][-1]
    assert (lost["read"], lost["count"]) == (False, 0)
    assert "yard.xml" in yards.cferry("tables", BRASS, "wheels", code=3).out


def test_a_sheet_is_a_page_and_is_read_back(yards: Den, tmp_path: Path) -> None:
    page, few = tmp_path / "a b.html", tmp_path / "few.html"
    done = yards.cferry("sheet", BRASS, "-o", page).out
    assert f'cferry compare "{page}" SAVE' in done
    same = yards.cferry("compare", page, BRASS).out
    assert "The same: Brass Court, 7 facts, 3 builders, 3 houses, 36 land" in same
    yards.cferry("sheet", BRASS, "-o", few, "--table", "builders")
    assert "there already" in yards.cferry("sheet", BRASS, "-o", few, code=4).err
    file = yard_file(yards)
    text = file.read_text("utf-8").replace('teeth="14"', 'teeth="15"').replace('no="91"', 'no="92"')
    file.write_text(text, "utf-8", newline="")
    html = tmp_path / "told.html"
    told = yards.cferry("compare", page, BRASS, "--json", "--html", html, code=11).data
    found = {(one["what"], one["how"]): (one["first"], one["second"])
             for one in told["tables"][-1]["differences"]}  # fmt: skip
    assert found == {
        ("No. 2", "more"): (14, 15), ("No. 91", "missing"): ("Teeth 36", None),
        ("No. 92", "new"): (None, "Teeth 36"),
    }  # fmt: skip
    assert told["tables"][-1]["same"] == 89
    by_sums = yards.cferry("compare", few, BRASS, "--json", code=11).data["tables"][-1]
    assert by_sums["matched"] == "sums"
    assert [(one["what"], one["owner"], one["first"], one["second"])
            for one in by_sums["differences"]] == [
        ("all Teeth", "", 3017, 3018), ("Teeth", "Wren", 868, 869),
    ]  # fmt: skip
    for shown in (page, html):
        text = shown.read_text("utf-8")
        parsed(text)
        assert "http" not in text.replace("http-equiv", "")
        assert "<script" not in text
    for words, code, said in (
        (("sheet", BRASS, "-o", tmp_path / "x.txt"), 2, "no .html file"),
        (("compare", tmp_path / "no.html", BRASS), 3, "There is no file"),
        (("compare", page, "saltglass/depot:1"), 2, "saves of two games"),
        (("compare", html, BRASS), 5, "is no sheet"),
        (("compare", "latest", BRASS), 3, "no backups yet"),
    ):
        assert said in yards.cferry(*words, code=code).err


def test_a_yard_that_is_played_on_is_told_by_house(yards: Den, tmp_path: Path) -> None:
    page = tmp_path / "before.html"
    yards.cferry("sheet", BRASS, "-o", page)
    played = ("play", "--slot", "Brass Court", "--days", "2")
    game(yards, "orrery-yard", "windows", *played)
    told = yards.cferry("compare", page, BRASS, "--json", code=11).data
    tables = {one["name"]: one for one in told["tables"]}
    assert {one["owner"] for one in tables["machines"]["differences"]} == {
        "Wren's House", "Isa's House", "Oona's House",
    }  # fmt: skip
    new = [one["what"] for one in tables["machines"]["differences"] if one["how"] == "new"]
    assert new == ["Polishing bench (No. 26)", "Wheel cutter (No. 27)", "Lathe (No. 25)"]
    assert [(one["what"], one["how"]) for one in tables["houses"]["differences"]] == [
        ("Isa's House (No. 2)", "more"), ("Oona's House (No. 3)", "more"),
        ("Wren's House (No. 1)", "more"),
    ]  # fmt: skip
    assert (tables["land"]["differences"], tables["land"]["same"]) == ([], 36)
    shown = yards.cferry("compare", page, BRASS, "--html", tmp_path / "c.html", code=11).out
    for out in (shown, (tmp_path / "c.html").read_text("utf-8")):
        assert out.count("In building 26, Set up by Isa, Wear 0") == 1
        assert out.count("In building 26, Ware oil, Amount 7") == 1  # which has no name but this


def test_a_backup_is_set_against_the_save_that_goes_on_from_it(yards: Den) -> None:
    yards.cferry("backup", "orrery-yard/windows")
    assert yards.cferry("compare", "latest", BRASS).code == 0
    assert yards.cferry("compare", BRASS, "latest:Brass Court").code == 0
    card = yard_file(yards).with_name("card.json")
    card.write_text(json.dumps({**json.loads(card.read_text()), "day": 40}))
    told = yards.cferry("compare", "latest", BRASS, code=11).out
    assert "more" in told
    assert "which save of a backup" in yards.cferry("compare", "latest", "latest", code=2).err


class _Pages(HTMLParser):
    VOID = ("meta", "br", "img", "line", "circle")

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.text: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        assert not any(name.startswith("on") for name, _ in attrs)
        self.text.append(" ")
        if tag not in self.VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag not in self.VOID:
            assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        if not {"template", "style"} & set(self.open):
            self.text.append(data)


def parsed(page: str) -> str:
    """Return a page's text; all its elements end."""
    reader = _Pages()
    reader.feed(page)
    reader.close()
    assert reader.open == []
    return " ".join("".join(reader.text).split())


VALUES = st.one_of(st.integers(-(10**12), 10**12), st.text(max_size=12), st.booleans(), st.none())
HARM = [
    "</template><script>alert(1)</script>",
    "<img src=x onerror=y>",
    "\"&amp;'",
    "a\x1b[2J\u202e",
]


def sheet_with(rows: list[tuple[Any, ...]], names: list[str], **more: Any) -> Sheet:
    columns = tuple(SheetColumn(name, name, None, [row[at] for row in rows])
                    for at, name in enumerate(names))  # fmt: skip
    table = SheetTable("t", "Things", len(rows), columns, whole=True, **more)
    return Sheet(HARM[0], "g", HARM[1], "e", "w", None, "2026-01-02T03:04:05.000000Z",
                 (SheetFact("day", HARM[2], HARM[3]),), (table,))  # fmt: skip


@given(st.lists(st.tuples(VALUES, VALUES, st.sampled_from(HARM)), max_size=5))
def test_any_sheet_comes_back_out_of_its_page_and_nothing_in_it_is_obeyed(
    rows: list[tuple[Any, ...]],
) -> None:
    sheet = sheet_with(rows, ["a", "b", "c"])
    page = sheet_page(sheet)
    assert read_sheet(page.encode("utf-8", "surrogatepass"), "it") == sheet
    text = parsed(page)
    assert "alert(1)" in text
    assert "\x1b" not in page.partition("<template")[0]
    parsed(comparison_page(compare(sheet, sheet)))
    for wrong in (page.replace('{"sheet": 1', '{"sheet": 0'), page.replace('"tables"', '"tabs"')):
        with pytest.raises(DamagedError):
            read_sheet(wrong.encode("utf-8", "surrogatepass"), "it")
    with pytest.raises(UnsupportedError):
        read_sheet(page.replace('{"sheet": 1', '{"sheet": 2').encode(), "it")


def keys(how: str, told: Any) -> set[str]:
    return {one.what for one in told.differences if one.how == how}


@given(st.integers(0, 40), st.integers(0, 10**6), st.booleans())
def test_a_changed_table_is_matched_as_it_was_made(count: int, seed: int, with_ids: bool) -> None:
    """Rows are shuffled, some changed in one column, some taken away, some added."""
    dice = random.Random(seed)
    rows = [(at, f"kind {at % 5}", at * 7, f"name {at}", at % 3) for at in range(count)]
    after, changed, gone = [], set(), set()
    for row in rows:
        way = dice.randrange(6)
        if way == 0:
            gone.add(row[0])
        elif way == 1:
            after.append((*row[:2], row[2] + 1, *row[3:]))
            changed.add(row[0])
        else:
            after.append(row)
    new = [(1000 + at, f"new {at}", -at, f"other {at}", 9) for at in range(dice.randrange(4))]
    after += new
    dice.shuffle(after)
    names = ["no", "kind", "worth", "name", "who"]
    more = {"id": "no"} if with_ids else {}
    (told,) = compare(sheet_with(rows, names, **more), sheet_with(after, names, **more)).tables
    assert told.matched == ("id" if with_ids else "likeness")
    assert told.same == count - len(gone) - len(changed)
    steps = [one for one in told.differences if one.how == "more"]
    assert {(one.column, one.second - one.first) for one in steps} <= {("worth", 1)}
    assert len(steps) == len(changed)
    assert {one.sure for one in steps} <= {1.0 if with_ids else 0.8}
    assert (len(keys("missing", told)), len(keys("new", told))) == (len(gone), len(new))


FORMS: dict[str, tuple[str, str, Callable[[list[tuple[int, str]]], str]]] = {
    "json": ("/all/*", "/n", lambda rows: json.dumps({"all": [{"n": n, "w": w} for n, w in rows]})),
    "xml": ("/top/one", "/@n", lambda rows: "<top>" + "".join(
        f"<one n='{n}'><w>{w}</w></one>" for n, w in rows) + "</top>"),
    "blocks": ("/one", "/n", lambda rows: "".join(
        f'one {{\n n = {n}\n w = "{w}"\n deep {{ n = 7 }}\n}}\n' for n, w in rows)),
    "yaml": ("/all/*", "/n", lambda rows: "all:\n" + "".join(
        f"- n: {n}\n  w: '{w}'\n" for n, w in rows)),
    "toml": ("/all/*", "/n", lambda rows: "".join(
        f"[[all]]\nn = {n}\nw = '{w}'\n" for n, w in rows) or "all = []\n"),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
@given(rows=st.lists(st.tuples(st.integers(0, 99), st.text("abc ", max_size=4)), min_size=1,
                     max_size=6))  # fmt: skip
def test_rows_of_any_form(form: str, rows: list[tuple[int, str]]) -> None:
    place, number, write = FORMS[form]
    rows = [(n, w.strip() or "x") for n, w in rows]
    kind: Any = Blocks(BlocksSpec()) if form == "blocks" else form
    found = tabling.columns_in(
        kind, BytesPayload(write(rows).encode()), place, [number, "/w", "/no"]
    )
    numbers, words, nothing = found.values
    assert [(int(str(n)), w) for n, w in zip(numbers, words, strict=True)] == rows
    assert (found.rows, nothing, found.several) == (len(rows), [None] * len(rows), [0, 0, 0])
    few = tabling.columns_in(kind, BytesPayload(write(rows).encode()), place, ["/w"], 2)
    assert (few.rows, few.values) == (len(rows), [[w for _, w in rows[:2]]])


def test_rows_of_a_database_and_names_of_rows(linux: Callable[..., Den], tmp_path: Path) -> None:
    here = linux(home="home")
    recipe = (
        bins('holds = "any"'.join((", ", "")), own="{slot}")
        + """
[tables.crew]
from = "world"
rows = "/crew/*"
id = "name"
columns.name = { at = "/name" }
columns.gold = { at = "/gold", unit = "count" }
columns.able = { at = "/able", what = "yes-no" }
columns.slot = { field = "slot" }
[facts]
gold = { label = "Gold", table = { table = "crew", sum = "gold" } }
crew = { label = "Crew", table = { table = "crew" } }
files = { label = "Files", files = "count" }
"""
    )
    here.recipe("bin", recipe)
    with closing(sqlite3.connect(tmp_path / "1")) as book, book:
        book.execute("CREATE TABLE crew (name TEXT, gold, able)")
        book.executemany("INSERT INTO crew VALUES (?, ?, ?)",
                         [("Isa", 5, "yes"), ("Wren", None, 0), ("Oona", 7, None)])  # fmt: skip
    (tmp_path / "2").write_text(json.dumps({"crew": [{"name": "Isa", "gold": 5, "able": True}]}))
    (tmp_path / "3").write_text("<top><crew name='x'/></top>")
    (tmp_path / "4").write_bytes(b"\0\1\2")
    there = f"bin/own@{tmp_path}"
    saves = here.cferry("slots", there, "--json", "--sort", "slot").data[0]["saves"]
    facts = {save["slot"]: save["facts"] for save in saves}
    assert facts == {
        1: {"gold": 12, "crew": 3, "files": 1}, 2: {"gold": 5, "crew": 1, "files": 1},
        3: {"gold": 0, "crew": 0, "files": 1}, 4: {"files": 1},
    }  # fmt: skip
    assert "does not show" in saves[3]["notes"][0]
    rows = here.cferry("tables", f"{there}:1", "crew", "--json").data["tables"][0]["rows"]
    assert rows == [["Isa", 5, True, 1], ["Wren", None, False, 1], ["Oona", 7, None, 1]]
    told = here.cferry("compare", f"{there}:1", f"{there}:2", code=11).out
    assert "told by their ids: 0 are the same" in told  # another slot
    (tmp_path / "5").write_text('{"crew": [{"name": "Isa", "gold": NaN}, {"name": {"a": 1}}]}')
    here.cferry("sheet", f"{there}:5", "-o", tmp_path / "odd.html")
    assert "nan" in (tmp_path / "odd.html").read_text("utf-8")
    odd = here.cferry("tables", f"{there}:5", "crew", "--json").data["tables"][0]
    assert odd["troubles"][-1] == "name: 1 rows have none"
    assert here.cferry("compare", tmp_path / "odd.html", f"{there}:5").code == 0
    for gold, kept, ill in (
        (["5", "7"], [5, 7], ()), (["1_000", "5"], ["1_000", 5], ("1_000",)),
        (["9" * 50, "0." + "3" * 50], [int("9" * 50), 1 / 3], ()),
        (["9" * 5000, "-2"], ["9" * 5000, -2], ("9" * 40,)), (["7", "inf"], [7, "inf"], ("inf",)),
    ):  # fmt: skip
        crew = [{"name": str(at), "gold": one} for at, one in enumerate(gold)]
        (tmp_path / "6").write_text(json.dumps({"crew": crew}))
        odd = here.cferry("tables", f"{there}:6", "crew", "--json").data["tables"][0]
        assert [row[1] for row in odd["rows"]] == kept
        assert odd["troubles"] == [f"gold: 1 values are not a number, such as {one}" for one in ill]
    for old, new, said in (
        ('"crew", sum', '"crow", sum', "there is no table 'crow'"),
        ('sum = "gold"', 'sum = "gild"', "no such column"),
        ('sum = "gold"', 'of = "Isa"', "has no `owner`"),
        ('sum = "gold"', 'sum = "able"', "count nothing, as no `unit` says so"),
        ('id = "name"', 'id = "name"\nowner = "nil"', "there is no column 'nil'"),
        ('id = "name"', 'id = "name"\nowner = "name/gold"', "refers to no table"),
        ('id = "name"', 'id = "name"\nnamed = "nil"', "no such column"),
        ('id = "name"', 'id = "name"\nowner = "slot"\ncolumns.whose = {}', "is called"),
        ('id = "name"', 'id = "nam"', "no such column"),
        ('rows = "/crew/*"', 'rows = "crew"', "must start with"),
        ('{ field = "slot" }', '{ field = "slut" }', "no edition has a field"),
        ('{ at = "/name" }', '{ at = "/name", refers = "crew2" }', "there is no table 'crew2'"),
        ('{ at = "/name" }', '{ at = "/name", field = "slot" }', "either `at` or `field`"),
        ('what = "yes-no"', 'what = "yes-no", unit = "s"', "counts nothing"),
        ('from = "world"', 'from = "word"', "there is no piece 'word'"),
        ('files = "count" }', 'files = "count", compared = false }', "compared nowhere"),
        ('files = "count" }', 'files = "count", field = "slot" }', "a fact has one of"),
        (', holds = "any"', "", "does not say what document"),
    ):  # fmt: skip
        assert old in recipe
        file = here.recipe("bin", recipe.replace(old, new, 1))
        assert said in here.cferry("recipe", "check", file, code=5).err, old


def test_more_rows_than_are_read_are_told(yards: Den, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("clever_ferry.recipes.tables.MOST_ROWS", 20)
    chosen = yards.ferry().noting.tables(BRASS, ["wheels"])
    (wheels,) = chosen.tables
    assert (wheels.count, len(wheels.columns[0].values)) == (91, 20)
    assert wheels.troubles == ("it has 91 rows, of which the first 20 are read",)
    monkeypatch.setattr(tabling, "_MOST_NODES", 30)
    tables = {one.name: one for one in yards.ferry().noting.tables(BRASS).tables}
    land, buildings, stores = (tables[name] for name in ("land", "buildings", "stores"))
    assert not land.all_held
    assert len(buildings.columns[0].values) == 5
    assert max(map(int, stores.column("building").values)) > 5  # which is there, and not held
    assert stores.owner is None
    assert not any(" no " in told for one in tables.values() for told in one.troubles)


def test_what_a_crossing_did_is_written_as_a_page(yards: Den, tmp_path: Path) -> None:
    page = tmp_path / "done.html"
    route = ("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")
    for wrong, code, said in (("x.txt", 2, "no .html file"), ("no/x.html", 2, "no folder")):
        assert said in yards.cferry(*route, "--report", tmp_path / wrong, code=code).err
    assert f"written down in {page}" in yards.cferry(*route, "--report", page).out
    text = parsed(page.read_text("utf-8"))
    for said in (
        "Crossing 1: read back", "in place of Saltmarsh (Day 12",
        "Played 11 h 46 min 11 h 46 min", "isle2.level → voyage-00-", "cferry undo 1",
        "verified: world (the index's crc32, gzip's checksum)", "Load slot 1 and look",
        "Read back and compared: the same", "from the save it replaced",
    ):  # fmt: skip
        assert said in text, said
    assert "is there already" in yards.cferry(*route, "--report", page, code=2).err
    other = tmp_path / "log.html"
    shown = yards.cferry("log", "show", "1", "--html", other).out
    assert "in place of Saltmarsh" in shown
    assert "As it was carried Day 31 Played" in parsed(other.read_text("utf-8"))
    assert "no crossing 9" in yards.cferry("log", "show", "9", code=2).err
    assert "do not go with" in yards.cferry("log", "--json", "show", "1", code=2).out
    across = ("cross", BRASS, f"orrery-yard/linux@{tmp_path}/yards", "--yes")
    (tmp_path / "yards").mkdir()
    done = yards.cferry(*across, "--report", tmp_path / "yard.html", "--host-ok", "--packs-ok")
    assert "carried" in done.out
    assert "18 Contracts, 91 Wheels." in parsed((tmp_path / "yard.html").read_text("utf-8"))


def test_a_page_that_can_not_be_written_takes_nothing_back(yards: Den, tmp_path: Path) -> None:
    (folder := tmp_path / "barred").mkdir()
    page = folder / "x.html"
    folder.chmod(0o500)
    route = ("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes", "--report", page)
    done = yards.cferry(*route)
    folder.chmod(0o700)
    if page.exists():
        pytest.skip("nothing is barred to this user")
    assert "The page was not written" in done.err
    assert yards.loads("depot", 5).startswith("Saltmarsh, day 31")


class _WordByWord:
    """Blocks that know no quicker way to rows."""

    title, several = "text of blocks", True

    def __init__(self, form: Blocks) -> None:
        self.find = form.find


WORD = st.sampled_from(["a", "b2", "-7", '"x y"', '"{"', '"# b = 3"', '"q\\"e"', "é"])
PAIRS = st.tuples(
    st.sampled_from(["n", "w", "other", "nn"]), st.sampled_from([" = ", " ", "="]),
    st.lists(WORD, min_size=1, max_size=2),
)  # fmt: skip
STATEMENT = st.one_of(
    PAIRS.map(lambda one: f"{one[0]}{one[1]}{' '.join(one[2])}"),
    st.sampled_from(["deep { n = 7 }", "n { x = 1 }", "deep {\n w = 5\n { w = 6 }\n} w = 8", "flag",
                     "# n = 9", "w", "n = 1 # not more", "deep\n{ n = 3 }", "one { n = 4 }"]),
)  # fmt: skip


def row_of(name: str, labels: list[str], inner: list[str], between: str) -> str:
    last = between if inner else ""
    return f"{' '.join([name, *labels])} {{{between}{between.join(inner)}{last}\n}}"


ROW = st.builds(
    row_of, st.sampled_from(["one", "one", "one", "two", "ones"]), st.lists(WORD, max_size=2),
    st.lists(STATEMENT, max_size=4), st.sampled_from(["\n", "\n\t", " "]),
)  # fmt: skip
TEXT = st.lists(st.one_of(ROW, st.sampled_from(["n = 1", "# one {", "", "one = 5"])), max_size=7)


@given(TEXT, st.sampled_from(["\n", "\r\n"]), st.integers(1, 40), st.booleans())
@example(
    parts=["one = 5", *(row_of("one", [], ["n = a"] * many, "\n") for many in (4, 2))],
    end="\n", cut=1, ends=False,
)  # fmt: skip
def test_rows_of_blocks_are_those_that_are_read_word_by_word(
    parts: list[str], end: str, cut: int, ends: bool
) -> None:
    raw = "\n".join(parts).replace("\n", end).encode()
    form = Blocks(BlocksSpec(ends=";" if ends else None))
    chunks = [raw[at : at + cut] for at in range(0, len(raw), cut)]
    columns = ["/n", "/w", "/", None]
    try:
        right = tabling.columns_in(_WordByWord(form), BytesPayload(raw), "/one", columns, 5)  # type: ignore[arg-type]
    except DamagedError:
        with pytest.raises(DamagedError):
            tabling.columns_in(form, StreamPayload(lambda: chunks), "/one", columns, 5)
        return
    assert tabling.columns_in(form, StreamPayload(lambda: chunks), "/one", columns, 5) == right


def test_rows_that_are_alike_are_read_at_one_go() -> None:
    form = Blocks(BlocksSpec())
    raw = b"".join(b"one %d {\n n = %d\n deep { n = 0 }\n w = x\n}\n" % (at, at) for at in range(9))
    found = form.columns(BytesPayload(b"day = 3\n" + raw + b"two { }\n"), "/one", ["/w", "/n"], 4)
    assert found == (9, [["x"] * 4, ["0", "1", "2", "3"]], [0, 0])
    for rows, columns in (("/one/x", ["/n"]), ("/*", ["/n"]), ("/one", ["/n/x"]), ("/one", [""])):
        assert form.columns(BytesPayload(raw), rows, columns, 4) is None
    assert Blocks(BlocksSpec(indented=True)).columns(BytesPayload(raw), "/one", ["/n"], 4) is None


def test_text_in_parts_belongs_to_its_element_and_stays() -> None:
    raw = b"<top><one n='1'><![CDATA[a]]><k/>b</one><one n='2'>c<k/></one></top>"
    found = tabling.columns_in("xml", BytesPayload(raw), "/top/one", ["/text", "/@n"])
    assert found.values == [["ab", "c"], ["1", "2"]]
    with pytest.raises(RefusedError, match="stands in parts"):
        changed("xml", BytesPayload(raw), [Remove("/top/one/0/text")])


@pytest.mark.parametrize("form", ["xml", "blocks"])
def test_of_very_many_rows_the_first_are_held(form: str, monkeypatch: pytest.MonkeyPatch) -> None:
    place, number, write = FORMS[form]
    monkeypatch.setattr(tabling, "_MOST_NODES", 12)
    rows = [(at, f"w{at}") for at in range(30)]
    kind: Any = _Deep(Blocks(BlocksSpec())) if form == "blocks" else form
    found = tabling.columns_in(kind, BytesPayload(write(rows).encode()), place, ["/w", number])
    assert (found.rows, found.several) == (30, [0, 0])
    assert found.values == [["w0", "w1", "w2", "w3"], ["0", "1", "2", "3"]]
    text = write(rows).encode("utf-16")
    if form == "xml":
        found = tabling.columns_in("xml", BytesPayload(text), place, [number])
        assert (found.rows, found.values) == (30, [["0", "1", "2", "3", "4", "5"]])


def test_a_row_is_held_with_all_of_its_values(monkeypatch: pytest.MonkeyPatch) -> None:
    text = b"one {\nw = 1\nw = 2\nw = 3\n}\none {\nw = 4\nw = 5\n}\none {\nw = 6\n}\n"
    kind: Any = _Deep(Blocks(BlocksSpec()))
    for share, most, held, several in (
        (4, 9, ["1"], 1), (5, 9, ["1", "4", "6"], 2), (5, 2, ["1", "4"], 2), (3, 1, ["1"], 1),
        (2, 9, [], 0),
    ):  # fmt: skip
        monkeypatch.setattr(tabling, "_MOST_NODES", 3 * share)
        found = tabling.columns_in(kind, BytesPayload(text), "/one", ["/w", "/n"], most)
        assert (found.rows, found.values[0], found.several[0]) == (3, held, several)


class _Deep(_WordByWord):
    """The same, read as it goes by."""

    def __init__(self, form: Blocks) -> None:
        super().__init__(form)
        self.first = form.first


def test_a_table_is_a_frame(yards: Den) -> None:
    pytest.importorskip("pandas")
    wheels, builders = yards.ferry().noting.tables(BRASS, ["wheels", "builders"]).tables[::-1]
    both = wheels.frame().merge(builders.frame(), left_on="by", right_on="name")
    assert both.groupby("by")["teeth"].sum().to_dict() == {"Isa": 1082, "Oona": 1067, "Wren": 868}
    assert set(both["cogs"]) == {125, 95}


MEALS = """\
recipe = 1
[game]
id = "meals"
title = "Meals"
[pieces]
meal = { needed = true, holds = "json" }
[facts]
name = { label = "Name", from = "meal", at = "/name" }
eaten = { label = "Eaten", from = "meal", at = "/hall", unit = "s", compared = RULE }
[editions.hall]
title = "the hall"
berths = [{ on = "any", under = "given", path = "hall" }]
fields.slot = { type = "number" }
files = [{ role = "meal", path = "{slot}.meal" }]
[editions.yard]
title = "the yard"
berths = [{ on = "any", under = "given", path = "yard" }]
fields.slot = { type = "number" }
files = [{ role = "meal", path = "{slot}.meal" }]
[editions.yard.facts]
eaten = { from = "meal", at = "/yard" }
"""
AFTER = [
    ("true", 60, 60, "same"), ("true", 60, 61, "Eaten was 60 and is 61"), ("true", 5, "5", "same"),
    ("true", "a" * 301 + "b", "a" * 302, "Eaten was"), ("false", 60, 7, "free"),
    ('"not-less"', 60, 61, "may"), ('"not-less"', 60, 60, "same"),
    ('"not-less"', 61, 60, "Eaten was 61 and is 60 (after a move: not less)"),
    ('"not-less"', "few", "many", "(after a move: not less)"), ('"not-more"', 61, 60, "may"),
    ('"not-more"', 60, 61, "not more"), ("{ within = 2 }", 60, 62, "may"),
    ("{ within = 2 }", 62, 60, "may"), ("{ within = 2 }", 60, 62.5, "within 2 of it"),
    ("{ within = 2 }", True, 2, "within 2"), ("{ within = 2 }", 60, None, "and is unknown"),
]  # fmt: skip


@pytest.mark.parametrize(("rule", "before", "after", "ends"), AFTER)
def test_how_a_fact_may_stand_after_a_move(
    linux: Callable[..., Den], tmp_path: Path, rule: str, before: Any, after: Any, ends: str
) -> None:
    here = linux(home="home")
    here.recipe("meals", MEALS.replace("RULE", rule))
    for side in ("hall", "yard"):
        (tmp_path / side).mkdir()
    meal = {"name": "Soup", "hall": before, **({"yard": after} if after is not None else {})}
    (tmp_path / "hall" / "1.meal").write_text(json.dumps(meal))
    code = 0 if ends in ("same", "may", "free") else 6
    source, target = f"meals/hall@{tmp_path}:1", f"meals/yard@{tmp_path}:1"
    report = tmp_path / "done.html"
    told = here.cferry("cross", source, target, "--yes", "--report", report, code=code)
    if code:
        assert ends in re.sub(r"\s+", " ", told.err)
        assert not (tmp_path / "yard" / "1.meal").exists()
        return
    (fact,) = [one for one in here.cferry("slots", source, "--facts", "--json")
               .data[0]["saves"][0]["all_facts"] if one["key"] == "eaten"]  # fmt: skip
    word = {"true": "same", "false": "free"}.get(rule, rule.strip('"').split()[:2][-1])
    assert (fact["after_a_move"], fact["value"]) == (word, before)
    assert ("as it may after a move" in told.out) == (ends == "may")
    assert ("2 facts the same" in told.out) == (ends == "same")
    assert ("as it may be after a move" in report.read_text("utf-8")) == (ends == "may")
    compared = here.cferry("compare", source, target, "--json").data
    assert (len(compared["allowed"]), len(compared["same_facts"])) == (
        int(ends == "may"), 2 if ends == "same" else 1,
    )  # fmt: skip
