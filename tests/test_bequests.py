"""Bequests: the end of one game is the start of the next, with every total and owner kept."""

from __future__ import annotations

import copy
import csv
import gzip
import json
import re
import shutil
import tomllib
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from importlib.resources import files
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from xml.etree import ElementTree

import pytest
import tomlkit
import yaml
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.bequeathing.calendars import shifted
from clever_ferry.bequeathing.conditions import condition, conditions_of, covers
from clever_ferry.bequeathing.deriving import Work
from clever_ferry.bequeathing.deriving import made as make
from clever_ferry.bequeathing.mapping import Shares, spread
from clever_ferry.bequeathing.rendering import Templates
from clever_ferry.bequeathing.rows import RowTable
from clever_ferry.bequeathing.viewing import view_of
from clever_ferry.bequests import BequestAsked
from clever_ferry.documents.spec import BlocksSpec
from clever_ferry.errors import DamagedError, FerryError
from clever_ferry.ferry import Ferry
from clever_ferry.model import convert
from clever_ferry.recipes.bequest_models import (
    BequestRecipe,
    CalendarInfo,
    DerivedInfo,
    MakeInfo,
    SharesInfo,
)
from clever_ferry_demo.kingfisher_age.campaign import Heritages
from clever_ferry_demo.kingfisher_age.program import lay_kingfisher_age
from clever_ferry_demo.kingfisher_crown.lands import ADDON
from clever_ferry_demo.kingfisher_crown.program import demo_reigns, lay_kingfisher_crown, long_reign
from clever_ferry_demo.kingfisher_crown.reign import beyond_the_map
from clever_ferry_demo.kingfisher_dynamo.program import lay_kingfisher_dynamo
from tests.conftest import LONG, Den, run_module, state

REIGN, RISING = (
    f"kingfisher-crown/windows:{name}" for name in ("The Long Reign", "Kelpmark Rising")
)
DATA = Path(str(files("clever_ferry.recipes") / "data"))
CROWN_TO_AGE, AGE_TO_DYNAMO = "crown-to-age", "age-to-dynamo"


class Kingfishers:
    """The den with all three games, and reigns that are over."""

    def __init__(self, den: Den) -> None:
        self.den = den
        self.age, self.dynamo = lay_kingfisher_age(den.top), lay_kingfisher_dynamo(den.top)
        self.reigns = (long_reign(), *demo_reigns())
        self.crown = lay_kingfisher_crown(den.top, self.reigns)
        self.programs = den.top / "C/Users/Wren/AppData/Local/Programs"

    def play(self, game: str, edition: str, *words: str, code: int = 0) -> str:
        module = f"clever_ferry_demo.kingfisher_{game}.program"
        done = run_module(module, "--edition", edition, *words, env=self.den.env)
        assert done.code == code, done.out + done.err
        return done.out + done.err

    def bequeath(self, *words: str | Path, code: int = 0) -> Any:
        return self.den.cferry("bequeath", *words, code=code)

    def own(self, name: str) -> Path:
        """Copy a shipped recipe and its files, so that it can be changed; return its folder."""
        folder = self.den.home / "recipes" / name
        text = (DATA / f"{name}.toml").read_text("utf-8")
        said = f'id = "{name}"\n'
        self.den.recipe(name, text.replace(said, f"{said}replaces_shipped = true\n", 1))
        return Path(shutil.copytree(DATA / name, folder))


@pytest.fixture
def games(den: Den) -> Kingfishers:
    return Kingfishers(den)


def table(file: Path) -> list[dict[str, str]]:
    return list(csv.DictReader(file.read_text("utf-8").splitlines()))


def test_a_reign_becomes_a_start_is_played_and_is_left_to_the_third_game(
    games: Kingfishers, tmp_path: Path
) -> None:
    source, age = state(games.crown), state(games.age)
    games.den.cferry("recipe", "check", games.own(CROWN_TO_AGE).with_suffix(".toml"))
    (games.age / "heritage" / "enabled.json").write_text('{\n  "enabled": ["mine"]\n}\n', "utf-8")
    before = state(games.age)
    shown = games.bequeath(REIGN, "kingfisher-age", "--dry-run").out
    assert "Deep Winter" in shown
    assert state(games.age) == before != age
    page = tmp_path / "page.html"
    done = games.bequeath(REIGN, "kingfisher-age", "--yes", "--json", "--preview", page)
    (step,) = done.data["steps"]
    made = {one["name"]: one for one in step["tables"]}
    enabled = json.loads((games.age / "heritage" / "enabled.json").read_text("utf-8"))
    assert enabled == {"enabled": ["mine", "The Long Reign"]}

    # The younger game's own reader, against the elder's own rows and the mapping, reckoned anew.
    reign = games.reigns[0]
    start = Heritages(games.age, games.programs / "Kingfisher Age").load("The Long Reign")
    rows = [*table(DATA / CROWN_TO_AGE / "lands.csv"),
            *table(DATA / CROWN_TO_AGE / "deep-winter.csv")]  # fmt: skip
    folk = {str(one["no"]): int(one["folk"]) for one in reign.rows["province"]}
    owner = {str(one["no"]): one["realm"] for one in reign.rows["province"]}
    for province in start.rows["provinces"]:
        parts = [(one["from"], float(one["share"])) for one in rows if one["to"] == province["id"]]
        exact = sum(share * folk[land] for land, share in parts)
        assert abs(province["folk"] - exact) < len(parts)
        heaps: dict[Any, float] = {}
        for land, share in parts:
            heaps[owner[land]] = heaps.get(owner[land], 0) + share * folk[land]
        assert heaps[province["realm"]] == max(heaps.values())
    total = sum(folk.values())
    assert sum(one["folk"] for one in start.rows["provinces"]) == total
    assert made["provinces"]["sums"]["folk"] == {"before": total, "after": total}
    assert len(made["provinces"]["split"]) == sum(
        len({one["to"] for one in rows if one["from"] == land}) > 1 for land in folk
    )
    men = sum(int(one["men"]) for one in reign.rows["army"])
    assert sum(one["men"] for one in start.rows["armies"]) == men
    coins = {one["no"]: int(one["coins"]) for one in reign.rows["realm"]}
    assert {one["id"]: one["treasury"] for one in start.rows["realms"]} == {
        number: int(one / 10 + 0.5) for number, one in coins.items()
    }  # fmt: skip
    sizes = {number: sum(one["folk"] for one in start.rows["provinces"] if one["realm"] == number)
             for number in coins}  # fmt: skip
    counts = {number: sum(one["realm"] == number for one in start.rows["provinces"])
              for number in coins}  # fmt: skip
    ranked = sorted(sizes, key=lambda number: -sizes[number])
    for realm in start.rows["realms"]:
        rank = ranked.index(realm["id"])
        wanted = "crown" if rank == 0 else "free-towns" if counts[realm["id"]] <= 6 else (
            "council" if rank < 5 else "crown")  # fmt: skip
        assert realm["government"] == wanted
    assert (start.day, start.player) == ("802.3.1", 1)
    born = {one["no"]: int(one["born"]) for one in reign.rows["ruler"]}
    assert {one["id"]: one["born"] for one in start.rows["rulers"]} == {
        number: f"{801 + years}.1.1" for number, years in born.items()
    }

    text = page.read_text("utf-8")
    assert f"{total:,}" in text
    assert text.count("<rect ") == 601 + 432
    assert "deep-winter.csv" not in text
    assert "<script" not in text
    games.play("age", "heritage", "play", "--slot", "The Long Reign", "--days", "40")
    assert "802.4.11" in games.play("age", "campaigns", "list")
    campaign = "kingfisher-age/campaigns:The Long Reign"
    games.bequeath(campaign, "kingfisher-dynamo", "--yes", "--set", "century=900")
    assert "1702-04-12" in games.play("dynamo", "origins", "load", "--slot", "The Long Reign")
    games.play("dynamo", "origins", "play", "--slot", "The Long Reign")

    games.den.cferry("undo", "1", "--yes")
    campaigns = {path: one for path, one in state(games.age).items() if "campaigns" not in path}
    assert campaigns == {path: one for path, one in before.items() if "campaigns" not in path}
    assert state(games.crown) == source


def test_games_follow_each_other_in_one_command(games: Kingfishers, tmp_path: Path) -> None:
    way = games.bequeath(RISING, "kingfisher-dynamo", code=2).err
    assert "There is a way: --through kingfisher-age" in way
    (folder := tmp_path / "elsewhere").mkdir()
    words = (RISING, "kingfisher-dynamo", "--through", "kingfisher-age", "--yes")
    picture = tmp_path / "map.png"
    games.bequeath(*words, "-o", folder, "--preview", picture)
    assert picture.read_bytes().startswith(b"\x89PNG")
    games.bequeath(*words)
    told = games.play("dynamo", "origins", "list")
    folk = sum(int(one["folk"]) for one in games.reigns[1].rows["province"])
    assert f"8 states, {folk} people" in told
    names = sorted(path.relative_to(folder) for path in folder.rglob("*") if path.is_file())
    assert len(names) == 10
    for name in names:  # the same input gives the same bytes
        assert (folder / name).read_bytes() == (games.dynamo / name).read_bytes()
    unowned = [one for one in ElementTree.parse(folder / "Kelpmark Rising" / "regions.xml").iter()
               if one.get("state") == ""]  # fmt: skip
    assert unowned
    assert "went there" in games.bequeath(*words[:-1], "--dry-run", "--set", "armies=no",
                                          "-o", tmp_path).out  # fmt: skip


def test_options_are_kept_and_taken_again(games: Kingfishers, tmp_path: Path) -> None:
    plain = (RISING, "kingfisher-age", "--yes", "--no-tell")
    assert "stays as it is" in games.bequeath(*plain).out
    assert "not enabled" in games.play(
        "age", "heritage", "load", "--slot", "Kelpmark Rising", code=1
    )
    assert "this very start already" in games.bequeath(*plain, code=3).err
    words = (RISING, "kingfisher-age", "--yes", "--preset", "peaceful", "--set", "title=Kelp")
    assert "--replace" in games.bequeath(*words, code=4).err
    assert "Kelpmark Rising" in games.bequeath(*words, "--replace").out
    assert games.den.cferry("log", "--json").data[0]["state"] == "read back"
    assert "Not yet seen" not in games.den.cferry("log").err
    told = games.play("age", "heritage", "load", "--slot", "Kelpmark Rising")
    assert told.startswith("Loaded Kelpmark Rising: Kelp, 802.2.21")
    assert told.endswith(" 0 men\n")
    kept = games.age / "heritage" / "Kelpmark Rising" / "bequest.toml"
    options = tomllib.loads(kept.read_text("utf-8"))
    assert options["options"] == {"later": 800, "wealth": 0.02, "armies": False, "title": "Kelp"}
    (tmp_path / "again").mkdir()
    games.bequeath(RISING, "kingfisher-age", "--yes", "--options", kept, "-o", tmp_path / "again")
    first, again = (sorted((top / "Kelpmark Rising").iterdir())
                    for top in (games.age / "heritage", tmp_path / "again"))  # fmt: skip
    assert [one.read_bytes() for one in first] == [one.read_bytes() for one in again]
    other = games.bequeath(REIGN, "kingfisher-age", "--options", kept, "--dry-run", code=2).err
    assert "other add-ons" in other
    kept.write_text('bequest = "age-to-dynamo"\n', "utf-8")
    assert (
        "another recipe" in games.bequeath(RISING, "kingfisher-age", "--options", kept, code=2).err
    )


def test_add_ons_of_both_sides_are_laid_over(games: Kingfishers) -> None:
    ships = games.programs / "Kingfisher Age" / "add-ons.json"
    ships.write_text('{"in_use": ["Tall Ships"]}', "utf-8")
    done = games.bequeath(REIGN, "kingfisher-age", "--yes", "--json").data
    assert done["steps"][0]["addons"] == ["Deep Winter", "Tall Ships"]
    made = {one["name"]: one for one in done["steps"][0]["tables"]}
    assert made["provinces"]["unreached"] == ["k433"]
    assert made["provinces"]["defaults"]["folk"] == ["k433"]
    assert "3122195 folk" in games.play("age", "heritage", "load", "--slot", "The Long Reign")
    ships.write_text('{"in_use": ["Fog Banks"]}', "utf-8")
    refused = games.bequeath(RISING, "kingfisher-age", code=4).err
    assert '--pass-addon "Fog Banks"' in refused
    games.bequeath(RISING, "kingfisher-age", "--dry-run", "--pass-addon", "Fog Banks", code=3)
    (games.programs / "Kingfisher Age" / "add-ons" / "Fog Banks").mkdir()
    games.bequeath(RISING, "kingfisher-age", "--dry-run", "--pass-addon", "Fog Banks")
    shutil.rmtree(games.programs / "Kingfisher Crown" / "add-ons")
    assert "has it not" in games.bequeath(REIGN, "kingfisher-age", code=3).err


def test_what_nothing_maps_is_listed_and_goes_where_the_recipe_says(games: Kingfishers) -> None:
    reign = beyond_the_map(games.reigns[0], ADDON)  # one land more than any mapping has
    lands = [{**one, "realm": 1 if one["realm"] == 2 else one["realm"]}
             for one in reign.rows["province"]]  # fmt: skip
    odd = replace(reign, name="Odd", rows={**reign.rows, "province": tuple(lands),
                                           "addon": reign.rows["addon"][:1]})  # fmt: skip
    lay_kingfisher_crown(games.den.top, (odd,))
    folder = games.own(CROWN_TO_AGE)
    words = ("kingfisher-crown/windows:Odd", "kingfisher-age", "--yes")
    done = games.bequeath(*words, "--json").data["steps"][0]["tables"]
    made = {one["name"]: one for one in done}
    gone = reign.rows["realm"][1]["name"]
    assert made["provinces"]["unmapped"] == ["Icefield"]
    assert made["realms"]["left_out"] == [gone]
    assert made["rulers"]["left_out"] == [reign.rows["ruler"][1]["name"]]
    assert len(made["armies"]["left_out"]) == sum(
        one["realm"] == 2 for one in reign.rows["army"]
    )  # fmt: skip
    folk = sum(int(one["folk"]) for one in lands)
    told = games.play("age", "heritage", "load", "--slot", "Odd")
    assert f"23 realms, {folk} folk" in told
    start = Heritages(games.age, games.programs / "Kingfisher Age").load("Odd")
    first = next(one["folk"] for one in start.rows["provinces"] if one["id"] == "k001")
    assert first > int(lands[-1]["folk"])
    changed("recipe", 'rest = "k001"\n', "")(games, folder)
    refused = games.bequeath(*words, code=5).err
    assert "it has nothing of 1 that are there: 602" in refused
    changed("recipe", 'also = "was.lands"\n', "")(games, folder)
    assert "there is no '193'" in games.bequeath(RISING, "kingfisher-age", code=5).err


@pytest.mark.parametrize(
    ("words", "code", "told"),
    [
        ((REIGN, "kingfisher-age", "--set", "later=2001"), 2, "2000 at the most"),
        ((REIGN, "kingfisher-age", "--set", "armies=perhaps"), 2, "yes or no"),
        ((REIGN, "kingfisher-age", "--set", "late=1"), 2, "no recipe on the way has an option"),
        ((REIGN, "kingfisher-age", "--preset", "warlike"), 2, "peaceful"),
        ((REIGN, "kingfisher-age", "--set", "later"), 2, "OPTION=VALUE"),
        ((REIGN, "kingfisher-age", "--installed", "saltglass=/"), 2, "none of these games"),
        ((REIGN, "kingfisher-age", "--installed", "kingfisher-age=nowhere"), 3, "no folder"),
        ((REIGN, "kingfisher-age", "--installed", "kingfisher-age=."), 3, "version.txt"),
        ((REIGN, "kingfisher-age", "-o", "nowhere"), 3, "no folder nowhere"),
        ((REIGN, "kingfisher-age/campaigns"), 2, "writes kingfisher-age/heritage"),
        ((REIGN, "kingfisher-age", "--preview", "a.gif", "--dry-run"), 2, ".html"),
        ((REIGN, "saltglass"), 2, "no recipe leads"),
        (("saltglass/tern:2", "kingfisher-age"), 2, "no recipe leads"),
        (("kingfisher-crown/windows:A small crown", "kingfisher-age"), 4, "over is no"),
        (("kingfisher-crown/windows", "kingfisher-age"), 2, "one is meant"),
        ((REIGN, "kingfisher-age", "--options", "none.toml"), 3, "can't be read"),
    ],
)  # fmt: skip
def test_what_can_not_be_asked(
    games: Kingfishers, words: tuple[str, ...], code: int, told: str
) -> None:
    before = state(games.age)
    assert told.lower() in games.bequeath(*words, code=code).err.lower()
    assert state(games.age) == before


def changed(file: str, old: str, new: str) -> Callable[[Kingfishers, Path], None]:
    def change(games: Kingfishers, folder: Path) -> None:
        path = games.programs / file if file.startswith("K") else folder / file
        path = folder.with_suffix(".toml") if file == "recipe" else path
        text = path.read_text("utf-8")
        assert old in text
        path.write_text(text.replace(old, new, 1), "utf-8")

    return change


@pytest.mark.parametrize(
    ("change", "code", "told"),
    [
        (changed("lands.csv", "\n1,k001,1\n", "\n1,k001,0.9\n"), 5, "line 2: the shares of 1 add up to 0.9"),  # noqa: E501
        (changed("lands.csv", "\n1,k001,1\n", "\n9999,k001,1\n1,k001,1\n"), 5, "line 2: there is no '9999'"),  # noqa: E501
        (changed("lands.csv", "\n1,k001,1\n", "\n1,k999,1\n"), 5, "line 2: there is no 'k999'"),
        (changed("lands.csv", "\n1,k001,1\n", "\n1,k001,1\n1,k001,0\n"), 5, "line 3: 1 to k001 stands twice"),  # noqa: E501
        (changed("lands.csv", "\n1,k001,1\n", "\n1,k001\n"), 5, "line 2: it has 2 cells"),
        (changed("lands.csv", "\n1,k001,1\n", "\n1,k001,half\n"), 5, "'half' is no share"),
        (changed("lands.csv", "from,to,share", "from,where,share"), 5, "columns from, to"),
        (changed("lands.csv", "\n1,k001,1\n", "\n1,k001,1\n2,k001,\n"), 5, "2 to k001 stands twice"),  # noqa: E501
        (changed("recipe", 'rest = "k001"', 'rest = "k900"'), 5, "rest: there is no 'k900'"),
        (changed("peoples.csv", "seafaring,seafaring", "seafaring,"), 5, "line 2: it gives no culture"),  # noqa: E501
        (changed("peoples.csv", "proud|patient", ">=proud"), 5, "line 3: '>=proud'"),
        (changed("peoples.csv", "temper,culture", "mood,culture"), 5, "asks for a column 'mood'"),
        (changed("peoples.csv", "quarrelsome,", "proud,"), 5, "line 4: it never counts"),
        (changed("governments.csv", ",<=6,", ",,"), 5, "line 5: it never counts"),
        (changed("governments.csv", "es,government", "es,rule"), 5, "has no column 'government'"),
        (changed("recipe", "first = [1, 1, 1]", "first = [1, 2, 1]"), 5, "no such day"),
        (changed("recipe", 'role = "names"', 'role = "realms"'), 5, "written already"),
        (changed("recipe", 'role = "names"', 'role = "nouns"'), 5, "nothing is written as 'nouns'"),
        (changed("recipe", 'role = "names"', 'role = "names"\nname = "{id}"'), 5, "there is one alone"),  # noqa: E501
        (changed("recipe", 'record = "chosen"', 'record = "names"'), 5, "no piece that is still free"),  # noqa: E501
        (changed("recipe", 'fields.name = "{name}"', ""), 5, "says nothing of 'name'"),
        (changed("recipe", "first = [1, 1, 1]", "first = [1, 1, 361]"), 5, "no such day"),
        (changed("recipe", "counts_from = 1\nwritten = \"number\"", "counts_from = 1"), 5, "are of days that are"),  # noqa: E501
        (changed("recipe", "owner = \"realm\"\nof", "owner = \"lord\"\nof"), 5, "has no column 'lord'"),  # noqa: E501
        (changed("recipe", "times = \"wealth\"", "times = \"armies\""), 5, "is no number"),
        (changed("recipe", "through = \"lands\"", "through = \"peoples\""), 5, "no mapping by shares"),  # noqa: E501
        (changed("recipe", "rules = \"peoples\"", "rules = \"lands\""), 5, "no mapping by rules"),
        (changed("recipe", "to = \"kingfisher-age/heritage\"", "to = \"kingfisher-age/heirs\""), 5, "no edition 'heirs'"),  # noqa: E501
        (changed("recipe", "form = \"age-text\"", "form = \"age-txt\""), 5, "no form 'age-txt'"),
        (changed("recipe", "when = { armies", "when = { wars"), 5, "no option 'wars'"),
        (changed("recipe", "reads = \"armies\"", "reads = \"wars\""), 5, "no table 'wars'"),
        (changed("realms.json.j2", "one.name", "one.nom"), 5, "realms.json.j2, line 3, fails"),
        (changed("realms.json.j2", "{% endfor %}", ""), 5, "realms.json.j2, line"),
        (changed("realms.json.j2", "{{ one.treasury }}", "{{ one.treasury + 1 }}"), 6, "treasury of Ebbwick is"),  # noqa: E501
        (changed("provinces.json.j2", "{{ one.realm }}", "7"), 6, "realm of k001 is '7'"),
        (changed("armies.json.j2", "{{ one.province }}", '"k555"'), 6, "no Provinces has the id k555"),  # noqa: E501
        (changed("names.txt.j2", "realm_", "re]lm = {\nx"), 6, "never ends"),
        (changed("Kingfisher Crown/version.txt", "1.4", "1.1"), 4, "is of the version 1.1"),
        (changed("Kingfisher Age/version.txt", "Age 2.1", "Age"), 4, "does not say"),
        (changed("Kingfisher Crown/map/lands.txt", "land 2 [", "land 1 ["), 5, "stands more than once"),  # noqa: E501
        (changed("recipe", "[options.later]", "[options.unused]\ntype = \"yes-no\"\nlabel = \"x\"\ndefault = true\n[options.later]"), 5, "nothing asks for it"),  # noqa: E501
        (changed("recipe", 'rank = { rank = "folk" }', 'rank = { rank = "fol" }'), 5, "no such column"),  # noqa: E501
        (changed("recipe", "columns.people = {", 'columns.spare = { of = "id" }\ncolumns.people = {'), 5, "nothing uses it"),  # noqa: E501
        (changed("recipe", 'sum = "provinces.folk"', 'sum = "armies.men"'), 5, "no table 'armies' by now"),  # noqa: E501
        (changed("recipe", 'temper = { find', 'temper = { of = "id", find'), 2, "a column has one of"),  # noqa: E501
    ],
)  # fmt: skip
def test_what_does_not_fit_is_told_with_its_place(
    games: Kingfishers, change: Callable[[Kingfishers, Path], None], code: int, told: str
) -> None:
    before = state(games.age)
    folder = games.own(CROWN_TO_AGE)
    change(games, folder)
    done = games.den.cferry("bequeath", REIGN, "kingfisher-age", "--yes", code=code)
    assert told in done.err
    assert state(games.age) == before


def test_the_edition_names_and_wraps_what_is_written(games: Kingfishers) -> None:
    text = (DATA / "kingfisher-age.toml").read_text("utf-8")
    text = text.replace(
        'id = "kingfisher-age"\n', 'id = "kingfisher-age"\nreplaces_shipped = true\n'
    )
    text = text.replace('path = "{name}/realms.json"', 'path = "{name}/r.gz", layers = ["packed"]')
    games.den.recipe("kingfisher-age", text + '[layers]\npacked = [{ kind = "gzip" }]\n')
    games.bequeath(RISING, "kingfisher-age", "--yes")
    packed = (games.age / "heritage" / "Kelpmark Rising" / "r.gz").read_bytes()
    assert len(json.loads(gzip.decompress(packed))["realms"]) == 8
    boxed = re.sub(
        r"config = .*\n", 'format = { kind = "zip", file = "*.heir", each = true }\n', text
    )
    boxed = boxed.replace(', layers = ["packed"]', "").replace(
        'path = "{name}/', 'path = "{name}.heir/'
    )
    games.den.recipe("kingfisher-age", boxed)
    games.den.cferry("undo", "--yes")
    games.bequeath(REIGN, "kingfisher-age", "--yes")
    with zipfile.ZipFile(games.age / "heritage" / "The Long Reign.heir") as heir:
        assert heir.testzip() is None
        assert len(json.loads(heir.read("r.gz"))["realms"]) == 24
        assert len(heir.namelist()) == 7
    games.den.cferry("check", "kingfisher-age/heritage")
    games.den.cferry("undo", "--yes")
    assert [one.name for one in (games.age / "heritage").iterdir()] == ["enabled.json"]


def test_a_table_is_not_taken_for_the_facts(games: Kingfishers) -> None:
    text = (DATA / "kingfisher-crown.toml").read_text("utf-8")
    own = text.replace('title = "Kingfisher Crown"\n', 'title = "K"\nreplaces_shipped = true\n', 1)
    own = own.replace("[tables.peoples]", "[tables.facts]").replace('"peoples"', '"facts"')
    games.den.recipe("kingfisher-crown", own)
    assert "was.facts: the save has a table" in games.bequeath(REIGN, "kingfisher-age", code=5).err


# No key without effect ----------------------------------------------------------------------

FREE = re.compile(r"\.(also|rest|where|named|default)\b|label|help|says|\.title|forms|presets|"
                  r"calendars\.\w+\.(first|counts_from)|"
                  r"replaces_shipped|versions?|places|was\.needs|most$|least$")  # fmt: skip
"""Keys that stand in what is said, or are for saves with other things: other tests have these."""


def dropped(data: Any, at: str = "") -> Iterator[tuple[str, Any]]:
    """Yield each key, and a copy of all without it."""

    def walk(part: Any, path: tuple[Any, ...]) -> Iterator[tuple[Any, ...]]:
        items = part.items() if isinstance(part, dict) else enumerate(part)
        for key, value in items:
            if isinstance(part, dict):
                yield (*path, key)
            if isinstance(value, dict | list):
                yield from walk(value, (*path, key))

    for path in walk(data, ()):
        other = copy.deepcopy(data)
        part = other
        for key in path[:-1]:
            part = part[key]
        del part[path[-1]]
        yield ".".join(map(str, path)), other


def outcome(ferry: Ferry, data: Any, folder: Path, source: str) -> Any:
    """Return all that a recipe makes of a save; what is wrong with it where something is."""
    try:
        recipe = convert(data, BequestRecipe)
        bequest = ferry.bequests.compiled(recipe, folder)
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(type(ferry.bequests), "route", lambda *_: [bequest])
            target = recipe.bequest.target.partition("/")[0]
            with ferry.bequests.made(source, target, None, BequestAsked({})) as made:
                one = made.steps[0].made
                out = Path(made.plan.source.berth.root)
                files = {path.relative_to(out).as_posix(): path.read_bytes()
                         for path in sorted(out.rglob("*")) if path.is_file()}  # fmt: skip
                reads = [info.reads for info in recipe.make]
                return files, one.told, view_of(one, ""), reads
    except (FerryError, ValueError) as error:
        return str(error)


@pytest.mark.long
@pytest.mark.parametrize("name", [CROWN_TO_AGE, AGE_TO_DYNAMO])
def test_no_key_is_without_effect(games: Kingfishers, name: str) -> None:
    ferry, folder = games.den.ferry(), DATA / name
    source = REIGN
    if name == AGE_TO_DYNAMO:
        games.bequeath(RISING, "kingfisher-age", "--yes")
        source = "kingfisher-age/heritage:Kelpmark Rising"
    else:
        ships = games.programs / "Kingfisher Age" / "add-ons.json"
        ships.write_text('{"in_use": ["Tall Ships"]}', "utf-8")
    data = tomllib.loads((DATA / f"{name}.toml").read_text("utf-8"))
    usual = outcome(ferry, data, folder, source)
    assert not isinstance(usual, str), usual
    same = [
        key for key, other in list(dropped(data))[:: 1 if LONG else 6]
        if not FREE.search(key)
        and outcome(ferry, other, folder, source) == usual
    ]  # fmt: skip
    assert not same, "\n".join(same)


# What is done to columns -------------------------------------------------------------------

ROWS: dict[str, list[Any]] = {
    "id": ["a", "b", "c", "d"], "n": [10, 2.5, None, -4], "kind": ["x", "y", "x", "y"],
    "word": ["p", None, "q", "p"],
}  # fmt: skip


@pytest.mark.parametrize(
    ("column", "wanted"),
    [
        ({"of": "n", "plus": 2}, [12, 4.5, None, -2]), ({"of": "n", "plus": -0.5}, [9.5, 2.0, None, -4.5]),  # noqa: E501
        ({"of": "n", "times": 3}, [30, 7.5, None, -12]), ({"of": "n", "times": "half"}, [5, 1.25, None, -2]),  # noqa: E501
        ({"of": "n", "times": 0.25, "digits": 0}, [3, 1, None, -1]), ({"of": "n", "least": 0}, [10, 2.5, None, 0]),  # noqa: E501
        ({"of": "n", "most": 3, "default": 0}, [3, 2.5, 0, -4]), ({"of": "n", "times": 1.11, "digits": 1}, [11.1, 2.8, None, -4.4]),  # noqa: E501
        ({"of": "n", "bins": [[0, "low"], [2.5, "high"]]}, ["high", "high", None, None]),
        ({"number": True}, [1, 2, 3, 4]), ({"value": "v"}, ["v"] * 4), ({"option": "half"}, [0.5] * 4),  # noqa: E501
        ({"text": "{kind}-{word}"}, ["x-p", None, "x-q", "y-p"]),
        ({"share": "n"}, [10 / 8.5, 2.5 / 8.5, None, -4 / 8.5]),
        ({"share": "n", "within": "kind"}, [1.0, -2.5 / 1.5, None, 4 / 1.5]),
        ({"count": "was.other", "by": "whose"}, [2, 0, 1, 0]), ({"sum": "was.other.men", "by": "whose"}, [7, 0, 9, 0]),  # noqa: E501
        ({"find": {"table": "was.other", "by": "word", "column": "men"}}, [4, None, 3, 4]),
    ],
)  # fmt: skip
def test_what_is_done_to_a_column(column: dict[str, Any], wanted: list[Any]) -> None:
    info = convert({"table": "t", "from": "was.rows", "id": "id", "columns": {
        "id": {"of": "id"}, "it": column}}, MakeInfo)  # fmt: skip
    other: dict[str, list[Any]] = {
        "no": ["p", "q", "r"],
        "whose": ["a", "a", "c"],
        "men": [4, 3, 9],
    }
    tables = {"was.rows": RowTable("Rows", "id", None, ROWS),
              "was.other": RowTable("Other", "no", None, other)}  # fmt: skip
    bare: Any = SimpleNamespace(calendars={})
    rows, told = make(info, Work(bare, tables, {}, {"half": 0.5}))
    assert rows.columns["it"] == wanted
    assert told.defaults == ({"it": ["c"]} if "default" in column else {})


def test_ranks_go_down_and_within_what_is_alike() -> None:
    rows: dict[str, list[Any]] = {
        "id": [1, 2, 3, 4], "n": [5, 9, 5, 9], "kind": ["x", "x", "y", "y"]
    }  # fmt: skip
    columns = {"id": {"of": "id"}, "all": {"rank": "n"}, "own": {"rank": "n", "within": "kind"}}
    info = convert({"table": "t", "from": "was.rows", "id": "id", "columns": columns}, MakeInfo)
    bare: Any = SimpleNamespace(calendars={})
    work = Work(bare, {"was.rows": RowTable("Rows", "id", None, rows)}, {}, {})
    made, _ = make(info, work)
    assert (made.columns["all"], made.columns["own"]) == ([3, 1, 4, 2], [2, 1, 2, 1])
    with pytest.raises(DamagedError, match="stands twice"):
        make(replace_id(info, {"value": 1}), work)


def replace_id(info: MakeInfo, column: dict[str, Any]) -> MakeInfo:
    from msgspec.structs import replace as changed_struct

    return changed_struct(info, columns={**info.columns, "id": convert(column, DerivedInfo)})


# Properties ---------------------------------------------------------------------------------

WEIGHTS = st.lists(st.floats(0, 1), min_size=1, max_size=9).filter(lambda ws: sum(ws) > 0.001)


@given(st.integers(-(10**30), 10**30), WEIGHTS)
def test_any_shares_keep_the_total(amount: int, weights: list[float]) -> None:
    shares = {str(number): one / sum(weights) for number, one in enumerate(weights)}
    parts = spread(amount, shares)
    assert sum(parts.values()) == amount
    for to, part in parts.items():
        assert abs(part - amount * shares[to]) <= 1 + abs(amount) * 1e-8
    share = spread(float(amount), shares)
    assert sum(share.values()) == pytest.approx(float(amount))


@given(st.dictionaries(st.sampled_from("abcdef"), WEIGHTS, min_size=1))
def test_shares_are_read_as_they_are_written(every: dict[str, list[float]]) -> None:
    lines = ["from,to,share"]
    for one, weights in every.items():
        lines += [f"{one},{number},{weight / sum(weights)!r}"
                  for number, weight in enumerate(weights)]  # fmt: skip
    info = SharesInfo(file="f", source="was.a", target="there.b")
    read = Shares.read(info, [("f", "\n".join(lines).encode())])
    assert {one: len(weights) for one, weights in every.items()} == {
        one: len(own) for one, own in read.of.items()
    }
    lines[-1] = lines[-1].rpartition(",")[0] + ",0.5"
    lines.append(lines[-1].rpartition(",")[0] + "9,0.6")
    with pytest.raises(DamagedError):
        Shares.read(info, [("f", "\n".join(lines).encode())])


CELLS = st.one_of(
    st.sampled_from(["", "*", "a", "a|b", "!a", "!a|b", '"a"', '!""', "3", "3|4", "1.10.0"]),
    st.builds("{}{}".format, st.sampled_from([">", ">=", "<", "<="]), st.integers(-3, 6)),
    st.builds(lambda low, more: f"{low}..{low + more}", st.integers(0, 4), st.integers(0, 3)),
)  # fmt: skip
VALUES = st.one_of(st.sampled_from(["", "a", "b", "c", "3", "4"]), st.integers(-5, 9),
                   st.floats(-5, 9), st.none())  # fmt: skip


@given(st.dictionaries(st.sampled_from("xy"), CELLS), st.dictionaries(st.sampled_from("xy"), CELLS),
       st.fixed_dictionaries({"x": VALUES, "y": VALUES}))  # fmt: skip
def test_what_one_rule_covers_fits_it(
    first: dict[str, str], later: dict[str, str], row: dict[str, object]
) -> None:
    one, other = conditions_of(first), conditions_of(later)
    fits = [all(each.fits(row[name]) for name, each in both.items()) for both in (one, other)]
    assert not covers(one, other) or fits[0] or not fits[1]
    assert covers(one, one)


@pytest.mark.parametrize(
    ("first", "later"),
    [("", "a"), ("a|b", "a"), ("!a", "b"), ("!a", "!a|b"), (">1", ">=2"), (">=1", "1..4"),
     ("0..9", "3|4"), ("!a", "<4"), ("<=4", "1..4"), ("<5", "<=4")],
)  # fmt: skip
def test_what_leaves_nothing_to_a_later_rule(first: str, later: str) -> None:
    assert condition(first).covers(condition(later))
    assert not condition(later).covers(condition(first))


@pytest.mark.parametrize(
    ("cell", "fits", "not_"),
    [("1.2..1.9", ["1.2", "1.9", "1.4.7"], ["1.10", "1.1.9", "2.0", "x", ""]),
     (">=1.2", ["1.10", "1.2"], ["1.1"]), (">=2", ["2", 2.5, 3], [1, "1", None, True]),
     ("<0", [-1, -0.5], [0, "0"]), ('"a|b"|c', ["a|b", "c"], ["a", "b"]), ("yes", [True], [False])],
)  # fmt: skip
def test_cells(cell: str, fits: list[object], not_: list[object]) -> None:
    assert [one for one in fits if not condition(cell).fits(one)] == []
    assert [one for one in not_ if condition(cell).fits(one)] == []


MONTHS = st.lists(st.integers(1, 40), min_size=1, max_size=13).map(tuple)


@given(MONTHS, st.integers(-5000, 50_000), st.integers(-900, 900), st.integers(0, 9))
def test_a_day_goes_there_and_back(
    months: tuple[int, ...], day: int, years: int, first: int
) -> None:
    counted = CalendarInfo(months=(sum(months),), written="number", counts_from=first)
    dotted = CalendarInfo(months=months)
    there = shifted(day, counted, dotted, years)
    assert shifted(there, dotted, counted, -years) == day
    later = shifted(day + 1, counted, dotted, years)
    dates = [tuple(map(int, re.findall(r"-?\d+", str(one)))) for one in (there, later)]
    assert dates[0] < dates[1]


TEXTS = st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs", "Zl", "Zp"]))


@given(TEXTS, st.integers())
def test_no_value_is_more_than_a_value(text: str, number: int) -> None:
    written = {"json": '{"a": {{ a }}, "n": {{ n }}}', "toml": "a = {{ a }}\nn = 1\n",
               "yaml": "a: {{ a }}\nn: {{ n }}\n", "xml": '<t n="{{ n }}" b="{{ a }}">{{ a }}</t>',
               "own": "a = {{ a }}\n"}  # fmt: skip
    templates = Templates(written.__getitem__, {"own": BlocksSpec()})
    made = {form: "".join(templates.write(form, form, {"a": text, "n": number}))
            for form in written}  # fmt: skip
    assert json.loads(made["json"]) == {"a": text, "n": number}
    assert tomllib.loads(made["toml"]) == {"a": text, "n": 1}
    assert tomlkit.parse(made["toml"])["a"] == text
    if yaml.reader.Reader.NON_PRINTABLE.search(text) is None:
        assert yaml.safe_load(made["yaml"]) == {"a": text, "n": number}
    if not re.search("[\ufffe\uffff]", text):
        tree = ElementTree.fromstring(made["xml"])
        assert (tree.text or "", tree.get("b"), tree.get("n")) == (text, text, str(number))
    inner = made["own"].removeprefix('a = "').removesuffix('"\n')
    assert re.sub(r"\\(.)", r"\1", inner) == text
    assert not re.search(r'(?<!\\)(\\\\)*"', inner)


@pytest.mark.parametrize(
    "template",
    ["{{ ''.__class__.__mro__ }}", "{{ 'a' * 99999999 }}", "{{ 9 ** 9 ** 9 }}", "{{ none.x }}",
     "{% include '../secret' %}", "{% include 'self' %}", "{{ 1 / 0 }}", "{{ rows.append(1) }}",
     "{% for a in range(9999999) %}{% endfor %}", "{{ a }}", "{{ '\\n' }}"],
)  # fmt: skip
def test_templates_reach_nothing(template: str) -> None:
    def read(name: str) -> str:
        if name != "self":
            raise DamagedError("none")
        return template

    with pytest.raises(DamagedError, match="fails"):
        list(Templates(read, {}).write("self", "text", {"rows": []}))
