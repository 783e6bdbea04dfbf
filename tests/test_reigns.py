"""A strategy game's one long text: carried, judged by the stand-in, and told as tables."""

from __future__ import annotations

import gzip
from collections import Counter
from dataclasses import replace
from pathlib import Path

import pytest

from clever_ferry_demo.kingfisher_crown.program import demo_reigns, lay_kingfisher_crown
from clever_ferry_demo.kingfisher_crown.reign import Reign, ReignStore, begin, play_on
from tests.conftest import Den, state
from tests.test_demands import game, loads

RISING, TAKEN = "kingfisher-crown/windows:Kelpmark Rising", "kingfisher-crown/linux@loft"
CROWN = "kingfisher-crown"


class Crowns:
    """The den with reigns of Windows, and the loft as its harbour with those of Linux."""

    def __init__(self, den: Den, loft: Den) -> None:
        self.den, self.loft = den, loft
        self.windows = lay_kingfisher_crown(den.top, demo_reigns())
        self.linux = lay_kingfisher_crown(loft.top, demo_reigns()[1:])
        den.cferry("harbour", "add", "loft", loft.top)
        self.cferry = den.cferry

    def stored(self, edition: str) -> ReignStore:
        return ReignStore(getattr(self, edition), edition)


@pytest.fixture
def crowns(den: Den, loft: Den) -> Crowns:
    return Crowns(den, loft)


def test_a_reign_goes_there_is_played_and_comes_back(crowns: Crowns) -> None:
    menu = loads(crowns.den, CROWN, "windows", "Kelpmark Rising")
    assert "day 411" in menu
    assert "192 provinces" in menu
    done = crowns.cferry("cross", RISING, TAKEN, "--yes").out
    assert "load Kelpmark Rising: day and coins must be as above" in done
    assert loads(crowns.loft, CROWN, "linux", "Kelpmark Rising") == menu
    game(crowns.loft, CROWN, "linux", "play", "--slot", "Kelpmark Rising", "--days", "9")
    told = crowns.cferry("pairs", RISING.partition(":")[0], TAKEN).out
    assert "ahead" in told
    crowns.cferry("cross", f"{TAKEN}:Kelpmark Rising", RISING, "--replace", "--yes")
    assert "day 420" in loads(crowns.den, CROWN, "windows", "Kelpmark Rising")
    here, there = (crowns.stored(one).load("Kelpmark Rising") for one in ("windows", "linux"))
    assert here == there
    crowns.cferry("undo", "--yes")
    assert loads(crowns.den, CROWN, "windows", "Kelpmark Rising") == menu


def test_tables_of_a_reign_are_its_rows(crowns: Crowns) -> None:
    reign = crowns.stored("windows").load("Kelpmark Rising")
    tables = {one["name"]: one for one in crowns.cferry("tables", RISING, "--json").data["tables"]}
    rows = reign.rows
    assert {name: one["count"] for name, one in tables.items()} == {
        "realms": 8, "peoples": 5, "rulers": 8, "provinces": 192, "armies": len(rows["army"]),
            "addons": 0,
    }  # fmt: skip
    assert tables["provinces"]["sums"] == {
        name: sum(int(one[name]) for one in rows["province"]) for name in ("folk", "tax")
    }
    names = Counter(one["name"] for one in rows["realm"])
    called = {one["no"]: f"{one['name']} ({one['no']})" if names[one["name"]] > 1 else one["name"]
              for one in rows["realm"]}  # fmt: skip
    for table, kind in (("armies", "army"), ("provinces", "province"), ("rulers", "ruler")):
        assert tables[table]["counts"] == Counter(called[one["realm"]] for one in rows[kind])
    armies = crowns.cferry("tables", RISING, "armies", "--json").data["tables"][0]
    assert [row[3] for row in armies["rows"]] == [one["men"] for one in rows["army"]]


def test_two_realms_of_one_name_are_two(crowns: Crowns) -> None:
    file = crowns.windows / "Kelpmark Rising.reign"
    text = gzip.decompress(file.read_bytes()).decode("latin-1")
    for realm in demo_reigns()[0].rows["realm"][:2]:
        text = text.replace(f'realm {realm["no"]} [\r\n  name: "{realm["name"]}"',
                            f'realm {realm["no"]} [\r\n  name: "Fjärdness"')  # fmt: skip
    file.write_bytes(gzip.compress(text.encode("latin-1")))
    counts = crowns.cferry("tables", RISING, "provinces", "--json").data["tables"][0]["counts"]
    assert counts["Fjärdness (1)"] == counts["Fjärdness (2)"] == 24
    crowns.cferry("cross", RISING, TAKEN, "--yes")
    carried = crowns.stored("linux").load("Kelpmark Rising")
    assert [one["name"] for one in carried.rows["realm"][:2]] == ["Fjärdness"] * 2


@pytest.mark.parametrize(("old", "new", "said"), [
    ("province_count: 192", "province_count: 193", "it says 193"),
    ("army 1 [", "army 7 [", "is not counted from 1"),
    ("  ruler: 3", "  ruler: 99", "names the ruler 99"),
    ("; end of the reign", "; the end", "cut short"),
    ("crown: 1", "crown: 9", "the realm 9, which is nowhere"),
    ("  men: ", "  men = ", "can't be read"),
    ("made_by: \"1.4\"", "made_by: \"1.5\"", "newer version 1.5"),
    ("keeper: \"41000023\"", "keeper: \"41000017\"", "belongs to 41000017"),
])  # fmt: skip
def test_the_stand_in_counts(crowns: Crowns, old: str, new: str, said: str) -> None:
    store = crowns.stored("linux")
    store.save("a", demo_reigns()[0], 1)
    file = store.folder / "a.reign"
    text = file.read_text("utf-8")
    assert old in text
    file.write_text(text.replace(old, new, 1), "utf-8", newline="\n")
    assert said in game(crowns.loft, CROWN, "linux", "load", "--slot", "a", code=1).err


def test_what_a_newer_game_wrote_and_what_is_torn_is_not_carried(crowns: Crowns) -> None:
    file = crowns.linux / "A small crown.reign"
    text = file.read_text("utf-8")
    over = f"{CROWN}/windows:A small crown"
    for name, torn in (
        ("torn", text[: text.index("province 9 [") + 30]),
        ("shut", text.replace("]\n", "", 1)),
    ):
        (crowns.linux / f"{name}.reign").write_text(torn, "utf-8", newline="\n")
        assert "never ends" in crowns.cferry("check", f"{TAKEN}:{name}", code=5).out
        before = state(crowns.windows)
        done = crowns.cferry("cross", f"{TAKEN}:{name}", over, "--replace", "--yes", code=5)
        assert "never ends" in done.err
        assert state(crowns.windows) == before
    newer = text.replace('made_by: "1.4"', 'made_by: "2.0"')
    file.write_text(newer, "utf-8", newline="\n")
    done = crowns.cferry("cross", f"{TAKEN}:A small crown", over, "--replace", "--yes", code=4)
    assert "2.0" in done.err


@pytest.mark.long("it is about many rows and takes its time")
def test_a_world_of_many_provinces(crowns: Crowns, tmp_path: Path) -> None:
    """Some twenty thousand blocks; the benchmark of tables has those of a longer one."""
    young: Reign = begin("Young", 40, 450)
    reign = replace(play_on(young, 90), name="Long")
    crowns.stored("windows").save("Young", young, 10**18)
    crowns.stored("windows").save("Long", reign, 10**18)
    address = f"{CROWN}/windows:Long"
    out = tmp_path / "p.csv"
    crowns.cferry("tables", address, "provinces", "--csv", out)
    lines = out.read_text("utf-8").splitlines()
    folk = [int(line.split(",")[4]) for line in lines[1:]]
    assert folk == [one["folk"] for one in reign.rows["province"]]
    crowns.cferry("cross", address, TAKEN, "--yes")
    assert crowns.stored("linux").load("Long") == reign
    other = f"{CROWN}/windows:Young"
    pairs = zip(young.rows["province"], reign.rows["province"], strict=True)
    grown = sum(one["folk"] != later["folk"] for one, later in pairs)
    told = crowns.cferry("compare", other, address, "--json", code=11).data["tables"]
    provinces = next(one for one in told if one["name"] == "provinces")
    assert (len(provinces["differences"]), provinces["more"]) == (10_000, grown - 10_000)
    assert provinces["same"] == 18_000 - grown
    shown = crowns.cferry("compare", other, address, code=11).out
    assert f"… and {grown - 20:,} more: --html FILE.html and --json have the first 10,000" in shown
