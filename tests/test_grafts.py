"""Parts of one save in another: what comes leads where it led, and all else is as it was."""

from __future__ import annotations

import json
import sqlite3
from collections import Counter
from contextlib import closing
from pathlib import Path
from typing import Any, NamedTuple
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.errors import (
    ChoiceNeededError,
    NotFoundError,
    NotProvenError,
    UnknownNameError,
)
from clever_ferry.ferry import Ferry
from clever_ferry.grafting import writing
from clever_ferry.grafts import Choices, Graft, choices_in, choices_text
from clever_ferry.payload import read_all
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from tests.conftest import Den, Outcome, run_module, state

BRASS, COURT = "orrery-yard/windows:Brass Court", "orrery-yard/windows:New Court"


@pytest.fixture
def yards(den: Den) -> Den:
    """The demo's yards, and a fresh one on the new map."""
    lay_orrery_yard(den.top, "wren", demo_yards())
    assert not play(den, "new", "--slot", "New Court", "--map", "New Common").code
    return den


def play(den: Den, *words: str) -> Outcome:
    module = "clever_ferry_demo.orrery_yard.program"
    return run_module(module, "--edition", "windows", *words, env=den.env)


def counts(den: Den, where: str) -> dict[str, int]:
    return {
        one["name"]: one["count"] for one in den.cferry("tables", where, "--json").data["tables"]
    }


def test_a_yard_moves_to_the_new_map_and_the_game_counts_everything(yards: Den) -> None:
    court = next(yards.top.rglob("New Court"))
    before, old = state(court), state(next(yards.top.rglob("Brass Court")))
    shown = yards.cferry("graft", BRASS, COURT, "--dry-run").out
    assert "These are two maps: Old Common and New Common." in shown
    assert "Isa's House 0 → 21, Amount 0 → 153" in shown
    assert state(court) == before
    done = yards.cferry("graft", BRASS, COURT, "--yes", "--json").data
    moved = {one["name"]: tuple(one[key] for key in ("was", "go", "come", "is"))
             for one in done["tables"]}  # fmt: skip
    assert moved == {
        "houses": (1, 1, 3, 3), "land": (4, 4, 36, 36), "buildings": (1, 1, 33, 33),
        "machines": (1, 1, 24, 24), "stores": (1, 1, 61, 61),
    }  # fmt: skip
    assert sorted(done["stays"]) == ["contracts", "founder", "weather", "yard"]
    loaded = play(yards, "load", "--slot", "New Court")
    assert (
        "Loaded New Court: New Court, day 1, 0 h 05 min, Wren (5 cogs), Isa (95 cogs)" in loaded.out
    )
    now = counts(yards, COURT)
    assert (now["machines"], now["contracts"], now["wheels"]) == (24, 0, 1)
    assert state(next(yards.top.rglob("Brass Court"))) == old
    yards.cferry("undo", "--yes")
    assert state(court) == before
    with_contracts = ("--part", "grounds", "--part", "machines", "--whole", "contracts", "--yes")
    yards.cferry("graft", BRASS, COURT, *with_contracts)
    assert "Loaded New Court" in play(yards, "load", "--slot", "New Court").out
    assert counts(yards, COURT)["contracts"] == 18
    added = ("--part", "grounds:as=add", "--part", "friends", "--whole", "contracts", "--yes")
    told = yards.cferry("graft", BRASS, COURT, *added, code=2).err
    assert "Some houses get other ids than those that contracts name" in told
    yards.cferry("undo", "--yes")
    yards.cferry("graft", BRASS, COURT, "--yes")
    assert "day 11" in play(yards, "play", "--slot", "New Court", "--days", "10").out


def test_machines_alone_go_to_another_map_and_nothing_leads_nowhere(
    yards: Den, tmp_path: Path
) -> None:
    play(yards, "new", "--slot", "Hill", "--map", "Hill Top")
    hill = "orrery-yard/windows:Hill"
    refused = yards.cferry("graft", BRASS, hill, "--part", "machines", "--yes", code=2).err
    assert "16 of the Machines that come name Builders Isa, Oona" in refused
    assert "--whole friend" in refused
    file = tmp_path / "choices.toml"
    told = yards.cferry(
        "graft", BRASS, hill, "--part", "machines:kind=Lathe,as=add", "--map", "builders:Isa=Wren",
        "--leave-lost", "--write-choices", file, "--yes",
    ).out  # fmt: skip
    assert "set       In building 1" in told
    rows = yards.cferry("tables", hill, "machines", "--json").data["tables"][0]["rows"]
    old = yards.cferry("tables", BRASS, "machines", "--json").data["tables"][0]["rows"]
    lathes = [row for row in old if row[1] == "Lathe" and row[3] != "Oona"]
    assert [row[1:5] for row in rows[1:]] == [["Lathe", "1", "Wren", row[4]] for row in lathes]
    assert [row[0] for row in rows] == list(range(1, len(rows) + 1))
    assert "Loaded Hill" in play(yards, "load", "--slot", "Hill").out
    assert choices_in(file).maps == ("builders:Isa=Wren",)
    yards.cferry("undo", "--yes")
    yards.cferry("graft", BRASS, hill, "--choices", file, "--yes")
    assert yards.cferry("tables", hill, "machines", "--json").data["tables"][0]["rows"] == rows
    # A house whose plots lie beyond the map: the tool does not know, and the game says so.
    yards.cferry("graft", BRASS, hill, "--part", "grounds", "--part", "machines", "--yes")
    assert "lies beyond Hill Top" in play(yards, "load", "--slot", "Hill").err


def test_what_was_one_houses_is_given_to_another(yards: Den) -> None:
    yards.cferry("graft", BRASS, COURT, "--yes")
    given = ("--part", "contracts:owner=Isa's House", "--owner", "Isa's House=Wren's House")
    told = yards.cferry("graft", BRASS, COURT, *given, "--yes").out
    assert "Wren's House 0 → 6, Amount 0 → 129" in told
    assert "Loaded" in play(yards, "load", "--slot", "New Court").out
    again = yards.cferry(
        "graft", BRASS, COURT, "--part", "contracts:as=merge", "--yes", "--json"
    ).data
    (table,) = again["tables"]
    # The six that were given away have another house now, so they are not the same things.
    assert (table["was"], table["go"], table["is"]) == (6, 0, 24)
    assert counts(yards, COURT)["contracts"] == 24


@pytest.mark.parametrize(("options", "code", "said"), [
    (("--part", "lamps"), 2, "There is no part 'lamps'."),
    (("--part", "machines:colour=red"), 2, "has no column 'colour'"),
    (("--part", "stores:id=1"), 2, "has no column 'id'"),
    (("--part", "machines:as=later"), 2, "`as` is one of replace, add, merge"),
    (("--part", "machines:kind=Loom"), 3, "No row of Machines has the kind Loom."),
    (("--part", "machines", "--part", "machines"), 2, "machines is asked for twice"),
    (("--whole", "settings"), 2, "There is no piece 'settings' that could be taken."),
    (("--part", "contracts", "--owner", "Isa's House"), 2, "is not as --owner OLD=NEW"),
    (("--part", "contracts", "--owner", "9=1"), 3, "There is no '9' among Houses"),
    (("--part", "contracts", "--set", "land.x=1"), 2, "sets nothing"),
    (("--part", "land", "--map", "kites:1=1"), 2, "TABLE:OLD=NEW"),
    (("--part", "wheels:by=Wren", "--owner", "Oona=Wren"), 3, "Oona=Wren changes nothing"),
    (("--part", "contracts:house=1", "--map", "land:7=1"), 3, "7=1 changes nothing"),
    (("--part", "land", "--yes"), 2, "of the Land that come name Houses 2, 3"),
    (("--whole", "houses", "--yes"), None, "does not read back as it should"),
    (("--part", "wheels:as=add", "--set", "wheels.by=Nobody", "--yes"), None, "no Builders has"),
])  # fmt: skip
def test_choices_that_can_not_be_are_refused(
    yards: Den, options: tuple[str, ...], code: int | None, said: str
) -> None:
    before = state(yards.top)
    done = run_module("clever_ferry", "graft", BRASS, COURT, *options, env=yards.env)
    assert said in done.err, done.err
    assert done.code
    assert code in (None, done.code)
    assert state(yards.top) == before


FAIR = """
recipe = 1
game = { id = "fair", title = "Fair", map = "map" }
pieces.town = { needed = true, holds = "json" }
pieces.purse = { each = "player", holds = "json" }
facts.map = { label = "Map", from = "town", at = "/map" }
[tables.people]
from = "town"
rows = "/people/*"
id = "name"
columns.name = { at = "/name" }
columns.mood = { at = "/mood" }
[tables.booths]
from = "town"
rows = "/booths/*"
id = "no"
numbered = true
columns.no = { at = "/no", what = "number" }
columns.kind = { at = "/kind" }
columns.keeper = { at = "/keeper", refers = "people" }
columns.street = { at = "/street" }
columns.next = { at = "/next", refers = "booths", what = "number" }
[tables.coins]
from = "purse"
rows = "/*"
id = "coin"
columns.coin = { what = "text" }
columns.of = { field = "player" }
columns.booth = { at = "/booth", refers = "booths", what = "number" }
columns.worth = { at = "/worth", unit = "count" }
[parts.booths]
tables = ["booths"]
usual = true
elsewhere = { "booths.street" = "High Street" }
[editions.here]
title = "Fair"
berths = [{ on = "any", under = "given" }]
fields.player = { type = "word" }
files = [{ role = "town", path = "town.json" }, { role = "purse", path = "{player}.purse" }]
"""


def fair(top: Path, number: int, town: dict[str, Any], **purses: dict[str, Any]) -> str:
    folder = top / str(number)
    folder.mkdir(exist_ok=True)
    (folder / "town.json").write_text(json.dumps(town))
    for name, purse in purses.items():
        (folder / f"{name}.purse").write_text(json.dumps(purse))
    return f"fair/here@{folder}:1"


def booth(no: int, kind: str, keeper: str, street: str = "Low", **more: Any) -> dict[str, Any]:
    return {"no": no, "kind": kind, "keeper": keeper, "street": street, **more}


def test_rows_of_several_pieces_rows_that_are_counted_and_what_is_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "computer.toml").write_text('name = "b"\nsystem = "linux"\nfolders = {}\n')
    den = Den(tmp_path, tmp_path / "own")
    den.recipe("fair", FAIR)
    people = [{"name": "Isa", "mood": "glad"}, {"name": "Wren", "mood": "wry"}]
    pots = booth(2, "pots", "Wren", next=2)
    old = fair(
        tmp_path, 1,
        {"map": "hill", "people": people, "booths": [
            booth(1, "ring", "Isa"), pots, booth(3, "hats", "Tom"), booth(4, "eels", "Isa"),
        ]},
        Isa={"a": {"booth": 2, "worth": 5}},
        Wren={"c": {"booth": 2, "worth": 7}, "d": {"booth": 1, "worth": 9}},
    )  # fmt: skip
    new = fair(
        tmp_path, 2,
        {"map": "vale", "people": [{**one, "mood": "glum"} for one in people],
         "booths": [booth(1, "eels", "Wren"), pots]},
        Isa={"b": {"booth": 2, "worth": 1}}, Wren={"z": {"booth": 1, "worth": 2}},
    )  # fmt: skip
    ferry = den.ferry()

    def then(*parts: str, **choices: Any) -> tuple[list[dict[str, Any]], dict[str, Any], Graft]:
        graft = ferry.grafts.plan(old, new, Choices(parts=parts, **choices))
        texts = {piece.title: json.loads(read_all(piece.payload, limit=9999, what="it"))
                 for piece in graft.after.pieces}  # fmt: skip
        return texts.pop("town")["booths"], texts, graft

    # A name is nobody else's, whatever the mood. On another map, streets have another name.
    booths, purses, _ = then("booths:id=1,2,as=add")
    assert [(one["no"], one["kind"], one.get("next")) for one in booths] == [
        (1, "eels", None), (2, "pots", 2), (3, "ring", None), (4, "pots", 4),
    ]  # fmt: skip
    assert [one["street"] for one in booths] == ["Low", "Low", "High Street", "High Street"]
    # The same booth (next to itself) is taken in its place; a coin that lies in no booth is left.
    booths, purses, graft = then("booths:kind=pots,as=merge", "coins:as=add", leave_lost=True)
    assert [(one["no"], one["kind"]) for one in booths] == [(1, "eels"), (2, "pots")]
    assert purses == {
        "purse Isa": {"b": {"booth": 2, "worth": 1}, "a": {"booth": 2, "worth": 5}},
        "purse Wren": {"z": {"booth": 1, "worth": 2}, "c": {"booth": 2, "worth": 7}},
    }  # fmt: skip
    assert [graft.merged[name].left_out for name in ("booths", "coins")] == [0, 1]
    # Booths are counted anew, also those that stay, and what stays follows.
    booths, purses, _ = then("booths:kind=eels,as=replace", maps=("booths:4=1",))
    assert [(one["no"], one["kind"], one.get("next")) for one in booths] == [
        (1, "pots", 1), (2, "eels", None),
    ]  # fmt: skip
    assert [one["booth"] for purse in purses.values() for one in purse.values()] == [1, 2]
    with pytest.raises(ChoiceNeededError) as lost:
        then("booths:kind=eels,as=replace")
    assert "1 of the coins that stay name booths 1, which go" in lost.value.details[0]
    with pytest.raises(ChoiceNeededError, match="lead nowhere"):
        then("booths:kind=hats,as=add")  # whose keeper is nowhere there, either
    _, purses, _ = then("coins:coin=c", maps=("booths:2=2",), sets=("coins.worth=12",))
    assert purses["purse Wren"]["c"] == {"booth": 2, "worth": 12}
    with pytest.raises(UnknownNameError):
        then("coins:id=c,colour=red")
    monkeypatch.setattr(writing, "grown", lambda form, source, rows, growth: source)
    with pytest.raises(NotProvenError, match="does not read back"):
        then("booths:id=1,as=add")


# Any choice of any rows -------------------------------------------------------------------

RECIPE = """
recipe = 1
game = {{ id = "bazaar", title = "Bazaar" }}
pieces.town = {{ needed = true, holds = "{form}" }}
[tables.shops]
from = "town"
rows = "{shops}"
id = "no"
named = "tag"
owner = "owner"
{counted}
columns.no = {{ at = "/{a}no", what = "number" }}
columns.owner = {{ at = "/{a}owner" }}
columns.tag = {{ at = "/{a}tag" }}
[tables.stalls]
from = "town"
rows = "{stalls}"
id = "no"
columns.no = {{ at = "/{a}no", what = "number" }}
columns.shop = {{ at = "/{a}shop", refers = "shops", what = "number" }}
columns.tag = {{ at = "/{a}tag" }}
[tables.wares]
from = "town"
rows = "{wares}"
columns.stall = {{ at = "/{a}stall", refers = "stalls", what = "number" }}
columns.amount = {{ at = "/{a}amount", unit = "count" }}
columns.tag = {{ at = "/{a}tag" }}
[editions.here]
title = "Bazaar"
berths = [{{ on = "any", under = "given" }}]
fields.slot = {{ type = "number" }}
files = [{{ role = "town", path = "town-{{slot}}.sav" }}]
"""
Town = dict[str, list[dict[str, Any]]]
TABLES = {"shops": "shop", "stalls": "stall", "wares": "ware"}


def as_json(town: Town, number: int) -> bytes:
    return json.dumps(
        {"note": f"town {number}", "n": len(town["shops"]), **town}, indent=1
    ).encode()


def from_json(raw: bytes) -> Town:
    whole = json.loads(raw)
    assert whole["n"] == len(whole["shops"])
    return {name: whole[name] for name in TABLES}


def as_xml(town: Town, number: int) -> bytes:
    lines = [f'<town note="{number}" n="{len(town["shops"])}">']
    for name, tag in TABLES.items():
        rows = [f"  <{tag} {' '.join(f'{k}={chr(39)}{v}{chr(39)}' for k, v in row.items())}/>"
                for row in town[name]]  # fmt: skip
        lines += [f" <{name}>", *rows, f" </{name}><!-- {name} -->"]
    return "\n".join([*lines, "</town>", ""]).encode()


def from_xml(raw: bytes) -> Town:
    top = ElementTree.fromstring(raw)
    assert raw.count(b"<!-- ") == 3
    assert top.get("n") == str(len(top.findall("shops/shop")))
    return {
        name: [{k: int(v) if v.isdecimal() else v for k, v in row.attrib.items()}
               for row in top.findall(f"{name}/{tag}")]
        for name, tag in TABLES.items()
    }  # fmt: skip


def as_rows(town: Town, number: int, folder: Path) -> bytes:
    file = folder / "book"
    file.unlink(missing_ok=True)
    with closing(sqlite3.connect(file)) as book:
        book.execute("CREATE TABLE shops (no INTEGER, owner, tag)")
        book.execute("CREATE TABLE stalls (no INTEGER, shop INTEGER, tag)")
        book.execute("CREATE TABLE wares (stall INTEGER, amount INTEGER, tag, more BLOB)")
        for name in TABLES:
            for row in town[name]:
                marks = ", ".join("?" * len(row))
                book.execute(
                    f"INSERT INTO {name} ({', '.join(row)}) VALUES ({marks})", (*row.values(),)
                )
        book.execute("UPDATE wares SET more = CAST(x'00ff' || tag AS BLOB)")
        book.commit()
    return file.read_bytes()


def from_rows(raw: bytes, folder: Path) -> Town:
    (folder / "book").write_bytes(raw)
    with closing(sqlite3.connect(folder / "book")) as book:
        book.row_factory = sqlite3.Row
        found = {name: [dict(row) for row in book.execute(f"SELECT * FROM {name} ORDER BY rowid")]
                 for name in TABLES}  # fmt: skip
    assert all(row.pop("more") == b"\0\xff" + row["tag"].encode() for row in found["wares"])
    return found


@st.composite
def towns(draw: st.DrawFn, sign: str) -> Town:
    """A town in which nothing leads nowhere; each row has a tag that no other row has."""
    numbers = st.lists(st.integers(1, 9), unique=True, min_size=1, max_size=4)
    shops = [{"no": no, "owner": draw(st.sampled_from(["blue", "red"])), "tag": f"{sign}s{no}"}
             for no in draw(numbers)]  # fmt: skip
    stalls = [{"no": no, "shop": draw(st.sampled_from(shops))["no"], "tag": f"{sign}t{no}"}
              for no in draw(numbers)]  # fmt: skip
    amounts = draw(st.lists(st.integers(0, 99), max_size=4))
    wares = [{"stall": draw(st.sampled_from(stalls))["no"], "amount": one, "tag": f"{sign}w{at}"}
             for at, one in enumerate(amounts)]  # fmt: skip
    return {"shops": shops, "stalls": stalls, "wares": wares}


HOWS = st.sampled_from(["", ":as=add", ":as=merge", ":as=replace"])
FORMS = {
    "json": ("/shops/*", "/stalls/*", "/wares/*", "", 'counted = [{ piece = "town", at = "/n" }]'),
    "xml": ("/town/shops/shop", "/town/stalls/stall", "/town/wares/ware", "@",
            'counted = [{ piece = "town", at = "/town/@n" }]'),
    "sqlite": ("/shops/*", "/stalls/*", "/wares/*", "", ""),
}  # fmt: skip


class Bazaar(NamedTuple):
    """A computer whose two folders have a town each, of one form."""

    ferry: Ferry
    top: Path
    form: str


def opened_bazaar(top: Path, form: str) -> Bazaar:
    (top / "computer.toml").write_text('name = "b"\nsystem = "linux"\nfolders = {}\n')
    for number in "12":
        (top / number).mkdir()
    shops, stalls, wares, sign, counted = FORMS[form]
    den = Den(top, top / "own")
    den.recipe("bazaar", RECIPE.format(form=form, shops=shops, stalls=stalls, wares=wares, a=sign,
                                       counted=counted))  # fmt: skip
    return Bazaar(den.ferry(), top, form)


@pytest.fixture(scope="module", params=FORMS)
def bazaar(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Bazaar:
    return opened_bazaar(tmp_path_factory.mktemp("bazaar"), request.param)


def grafted(bazaar: Bazaar, there: Town, here: Town, choices: Choices) -> tuple[Graft, Town]:
    """Graft one town into another, and read what would be written as nothing of ours does."""
    top, form = bazaar.top, bazaar.form
    for number, town in ((1, there), (2, here)):
        raw = (as_rows(town, number, top) if form == "sqlite" else
               {"json": as_json, "xml": as_xml}[form](town, number))  # fmt: skip
        (top / str(number) / "town-1.sav").write_bytes(raw)
    one, other = (f"bazaar/here@{top / number}:1" for number in "12")
    graft = bazaar.ferry.grafts.plan(one, other, choices)
    raw = read_all(graft.after.pieces[0].payload, limit=1 << 20, what="it")
    if form == "sqlite":
        return graft, from_rows(raw, top)
    return graft, {"json": from_json, "xml": from_xml}[form](raw)


@pytest.mark.hypothesis
@given(data=st.data())
def test_any_choice_of_rows_leads_where_it_led(bazaar: Bazaar, data: st.DataObject) -> None:
    there, here = data.draw(towns("a")), data.draw(towns("b"))
    names = data.draw(st.lists(st.sampled_from([*TABLES]), unique=True, min_size=1))
    hows = {name: data.draw(HOWS) for name in names}
    choices = Choices(
        parts=tuple(f"{name}{how}" for name, how in hows.items()),
        leave_lost=data.draw(st.booleans()),
    )
    try:
        graft, now = grafted(bazaar, there, here, choices)
    except ChoiceNeededError:
        assert not choices.leave_lost
        return
    except NotFoundError:  # nothing would be otherwise
        emptied = [name for name, how in hows.items() if how in ("", ":as=replace") and here[name]]
        assert choices.leave_lost or not (emptied or any(there[name] for name in names))
        return
    tags = Counter(row["tag"] for rows in now.values() for row in rows)
    assert set(tags.values()) == {1} or not tags
    was = {row["tag"]: row for town in (there, here) for rows in town.values() for row in rows}
    came = {tag for tag in tags if tag.startswith("a")}
    if not choices.leave_lost:
        assert came == {row["tag"] for name in names for row in there[name]}
        assert {row["tag"] for name in {*TABLES} - {*names} for row in here[name]} <= set(tags)
        for name, how in hows.items():
            stays = [row for row in here[name] if row["tag"] in tags]
            assert len(stays) == (len(here[name]) if how in (":as=add", ":as=merge") else 0)
    for name, above, key in (("stalls", "shops", "shop"), ("wares", "stalls", "stall")):
        numbers = {row["no"]: row["tag"] for row in now[above]}
        assert len(numbers) == len(now[above])
        for row in now[name]:
            town = there if row["tag"] in came else here
            led = next(one["tag"] for one in town[above] if one["no"] == was[row["tag"]][key])
            # All tags differ between the towns, so that no two things are the same.
            assert numbers[row[key]] == led
            assert {k: v for k, v in row.items() if k not in ("no", key)} == {
                k: v for k, v in was[row["tag"]].items() if k not in ("no", key)
            }
    assert graft.then["wares"].sums().get("amount", 0) == sum(r["amount"] for r in now["wares"])


def test_what_is_the_same_thing_here_is_referred_to_and_given_away(tmp_path: Path) -> None:
    bazaar = opened_bazaar(tmp_path, "json")
    here: Town = {
        "shops": [{"no": 2, "owner": "red", "tag": "Kiln"},
                  {"no": 5, "owner": "blue", "tag": "Inn"}],
        "stalls": [{"no": 3, "shop": 2, "tag": "pots"}], "wares": [],
    }  # fmt: skip
    there: Town = {
        "shops": [{"no": 2, "owner": "red", "tag": "Kiln"},
                  {"no": 5, "owner": "red", "tag": "Mill"}],
        "stalls": [{"no": 3, "shop": 2, "tag": "pots"}, {"no": 4, "shop": 5, "tag": "flour"}],
        "wares": [{"stall": 3, "amount": 7, "tag": "jug"}, {"stall": 4, "amount": 9, "tag": "rye"}],
    }  # fmt: skip
    _, now = grafted(bazaar, there, here, Choices(parts=("wares:stall=3",)))
    assert now["wares"] == [there["wares"][0]]
    with pytest.raises(ChoiceNeededError) as lost:
        grafted(bazaar, there, here, Choices(parts=("wares",)))
    assert "1 of the wares that come name stalls 4" in lost.value.details[0]
    choices = Choices(parts=("wares", "stalls:tag=flour"), maps=("shops:Mill=Inn",))
    _, now = grafted(bazaar, there, here, choices)
    assert now["stalls"][1] == {"no": 4, "shop": 5, "tag": "flour"}
    choices = Choices(parts=("shops:owner=red",), owners=("red=blue",))
    _, now = grafted(bazaar, there, here, choices)
    assert [row["owner"] for row in now["shops"]] == ["red", "blue", "blue", "blue"]
    assert [row["no"] for row in now["shops"]] == [2, 5, 6, 7]
    _, now = grafted(bazaar, there, here, Choices(parts=("shops:owner=red,as=merge",)))
    assert [(row["no"], row["tag"]) for row in now["shops"]] == [
        (5, "Inn"),
        (2, "Kiln"),
        (6, "Mill"),
    ]
    assert now["stalls"] == here["stalls"]
    assert choices_text(Choices(parts=("a:b=c",), leave_lost=True)).count("\n") >= 6
