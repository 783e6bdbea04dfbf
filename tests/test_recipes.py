"""Recipes: each fault is named by key, value and what would be right; none is overridden."""

from __future__ import annotations

import copy
import re
import tomllib
import zipfile
from importlib import resources
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import clever_ferry
from clever_ferry.model import Model, ValidationError, convert
from clever_ferry.recipes.bequest_models import BequestRecipe
from clever_ferry.recipes.explaining import explain
from clever_ferry.recipes.models import BoxRecipe, GameRecipe, LibraryRecipe
from tests.conftest import Den, state

GOOD = """\
recipe = 1
[game]
id = "mine"
title = "Mine"
[pieces]
world = { needed = true }
meta = { holds = "json" }
[facts]
day = { label = "Day", from = "meta", at = "/day" }
[editions.home]
title = "At home"
berths = [{ on = "windows", under = "documents", path = "Mine" }]
files = [
  { role = "world", path = "w{slot}.bin", layers = ["packed"] },
  { role = "meta", path = "w{slot}.json" },
]
[editions.home.fields]
slot = { type = "number", width = 3 }
[layers]
packed = [{ kind = "zlib" }]
"""

FAULTS = {
    "typo in a key": (
        "needed = true",
        "neded = true",
        "line 6, column 11: pieces.world.neded",
        "`needed`",
    ),
    "typo in a table": ("[pieces]", "[piecs]", "line 6: piecs", "`pieces`"),
    "unknown type": (
        'type = "number"',
        'type = "numbr"',
        "line 18, column 10: editions.home.fields.slot.type = 'numbr'",
        "`number`",
    ),
    "wrong value": ('on = "windows"', 'on = "win"', "berths[1].on = 'win'", "'windows'"),
    "wrong folder": ('under = "documents"', 'under = "docs"', ".under = 'docs'", "'documents'"),
    "wrong kind of value": ("width = 3", 'width = "3x"', "slot.width = '3x'", "whole number"),
    "beyond its bound": ("width = 3", "width = 99", "slot.width = 99", "20"),
    "missing key": ('title = "Mine"\n', "", "line 3: game.title", "missing"),
    "unknown field in a pattern": ("w{slot}.json", "w{slto}.json", "files[2].path", "'slto'"),
    "pattern that is not closed": ("w{slot}.json", "w{slot.json", "files[2].path", "not closed"),
    "pattern that leaves": ("w{slot}.json", "../{slot}", "files[2].path", "stay in its folder"),
    "absolute pattern": ('path = "Mine"', 'path = "/etc"', "berths[1].path", "stay in its folder"),
    "pattern without its save": ("w{slot}.json", "w.json", "files[2].path", "which save"),
    "a field never filled": (
        'slot = { type = "number", width = 3 }',
        'slot = { type = "number", width = 3 }\nold = { type = "word" }',
        "fields.old",
        "never filled",
    ),
    "patterns that clash": ("w{slot}.json", "w{slot}.bin", "files[1].path", "of the meta"),
    "unknown layer": ('["packed"]', '["paked"]', "files[1].layers", "there are packed"),
    "unknown role": (
        'role = "meta"',
        'role = "mta"',
        "line 15, column 5: editions.home.files[2].role",
        "there are meta, world",
    ),
    "unknown piece of a fact": ('from = "meta"', 'from = "x"', "facts.day.from", "meta, world"),
    "fact of an unread piece": ('from = "meta"', 'from = "world"', "facts.day.from", "holds"),
    "fact without a place": (', at = "/day"', "", "facts.day", "needs `at`"),
    "unknown box": (
        'title = "At home"',
        'title = "x"\nbox = "crat"',
        "editions.home.box",
        "'crat'",
    ),
    "unknown layer kind": ('kind = "zlib"', 'kind = "zip"', "packed[1].kind = 'zip'", "`zlib`"),
    "a layout that can't be written": (
        "[layers]",
        '[layouts.odd]\nfields = [{ type = "u8", name = "n", equals = 300 }]\n[layers]',
        "layouts.odd",
        "can't be written",
    ),
    "a layout without end": (
        "[layers]",
        '[layouts.odd]\nfields = [{ type = "layout", name = "n", of = "odd" }]\n[layers]',
        "layouts.odd",
        "without end",
    ),
    "no TOML": ("[game]", "[game", "no valid TOML", "line 2"),
    "id unlike its file": ('id = "mine"', 'id = "yours"', "'yours'", "yours.toml"),
    "id that can't be": (
        'id = "mine"',
        'id = "My Game"',
        "game.id = 'My Game'",
        "small letters, digits",
    ),
    "newer language": ("recipe = 1", "recipe = 2", "recipe = 2", "it must be 1"),
}


@pytest.mark.parametrize("fault", FAULTS)
def test_each_fault_is_named(den: Den, tmp_path: Path, fault: str) -> None:
    right, wrong, *said = FAULTS[fault]
    assert right in GOOD
    file = tmp_path / "mine.toml"
    file.write_text(GOOD.replace(right, wrong, 1))
    done = den.cferry("recipe", "check", file, code=5)
    for word in said:
        assert word in done.err, done.err


SHIPPED_FAULTS = {
    "a generation that is no number": (
        "moth-lantern", 'newest = "turn"', 'newest = "trun"', "editions.anniversary.newest"
    ),
    "a piece without its generation": (
        "moth-lantern", "lantern-{slot}.{turn}.note", "lantern-{slot}.note", "lacks {turn}"
    ),
    "a sidecar of nothing": ("moth-lantern", 'describes = "tale"', 'describes = "tael"', "'tael'"),
    "a sidecar of itself": ("moth-lantern", 'describes = "tale"', 'describes = "slip"', "'slip'"),
    "a sidecar without layout": ("moth-lantern", ', layout = "slip"', "", "needs a `layout`"),
    "an unknown layout": ("moth-lantern", 'layout = "slip" }', 'layout = "slp" }', "'slp'"),
    "a limit of two": (
        "moth-lantern", 'piece = "tale", most', 'piece = "tale", fact = "page", most', "either"
    ),
    "a limit of nothing": ("moth-lantern", 'piece = "tale", most', 'piece = "x", most', "'x'"),
    "notes of no edition": (
        "moth-lantern", "anniversary.arriving.classic]", "anniversary.arriving.clasic]", "clasic"
    ),
    "packs without a name": (
        "orrery-yard", "packs/{pack}.pack", "packs/{name}.pack", "lacks {pack}"
    ),
    "packs from nowhere": (
        "orrery-yard", '[packs]\nfrom = "card"', '[packs]\nfrom = "nowhere"', "packs.from"
    ),
    "packs behind no layer": (
        "orrery-yard", '[packs]\nfrom = "card"', '[packs]\nopens = ["nil"]\nfrom = "card"',
        "packs.opens",
    ),
    "a host of no role": ("orrery-yard", 'host = "founder"', 'host = "fonder"', "handover.host"),
    "a guest like a host": (
        "orrery-yard", 'guest = "friend"', 'guest = "founder"', "handover.guest"
    ),
    "a host that nothing names": (
        "orrery-yard", 'named = "founder"', 'named = "account"', "handover.named"
    ),
    "archives of no export": (
        "saltglass", 'path = "Pocket Finch/{account}/SALTGLASS" }',
        'path = "Pocket Finch/{account}/SALTGLASS", archives = ["x.zip"] }', "export",
    ),
}  # fmt: skip


@pytest.mark.parametrize("fault", SHIPPED_FAULTS)
def test_each_fault_in_what_targets_ask_for_is_named(den: Den, tmp_path: Path, fault: str) -> None:
    name, right, wrong, said = SHIPPED_FAULTS[fault]
    text = den.cferry("recipe", "show", name).out
    assert right in text
    file = tmp_path / f"{name}.toml"
    file.write_text(text.replace(right, wrong, 1), "utf-8")
    assert said in den.cferry("recipe", "check", file, code=5).err


def test_all_faults_at_once(den: Den, tmp_path: Path) -> None:
    file = tmp_path / "mine.toml"
    file.write_text(GOOD.replace("needed", "neded").replace("width", "widht"))
    done = den.cferry("recipe", "check", file, "--json", code=5)
    assert len(done.data["faults"]) == 2


def test_a_right_recipe_is_told_and_used(den: Den, tmp_path: Path) -> None:
    file = tmp_path / "mine.toml"
    file.write_text(GOOD)
    assert "mine/home" in den.cferry("recipe", "check", file).out
    den.recipe("mine", GOOD)
    assert "yours" in den.cferry("recipe", "list").out
    folder = den.top / "C/Users/Wren/Documents/Mine"
    folder.mkdir()
    (folder / "w007.json").write_text('{"day": 3}')
    slots = den.cferry("slots", "mine", "--json").data
    assert slots[0]["saves"][0]["slot"] == 7
    assert slots[0]["saves"][0]["problems"] == ["its world is missing"]
    assert slots[0]["saves"][0]["facts"] == {"day": 3}


def test_a_recipe_is_tried_on_real_saves(den: Den, tmp_path: Path) -> None:
    file = tmp_path / "saltglass.toml"
    file.write_text(den.cferry("recipe", "show", "saltglass").out, "utf-8")
    (den.depot / "notes.txt").write_text("mine")
    before = state(den.top)
    done = den.cferry("recipe", "check", file, "--try", den.depot)
    for said in ("Heron Point", "same bytes", "Left unread: notes.txt", "shared, left alone"):
        assert said in done.out
    tries = ("--try", den.tern, "--try", den.depot, "--try", den.tern)
    told = den.cferry("recipe", "check", file, *tries, "--json").data
    tried, ways = told["tried"], told["rehearsed"]
    assert [one["edition"] for one in tried if one["saves"]] == ["tern", "depot", "tern"]
    (depot,) = [one for one in tried if one["edition"] == "depot" and one["saves"]]
    by = {one["role"]: (one["established"], one["by"]) for one in depot["pieces"]}
    assert by["world"] == ("verified", "crc32, zlib's checksum")
    assert (by["traveller"][0], by["options"][0]) == ("only read", None)
    assert [(one["from"], one["to"]) for one in ways] == [("tern", "depot"), ("depot", "tern")]
    assert [one["save"] for one in ways] == ["Saltmarsh", "Heron Point"]  # the newest of each
    assert all((one["stopped"], one["changed"]) == (None, []) for one in ways)
    outcomes = {piece["outcome"] for one in tried for piece in one["pieces"]}
    assert outcomes <= {"same bytes", "same content, packed otherwise", "shared, left alone"}
    world = next(den.depot.glob("voyage-00-*/world.sgw"))
    world.write_bytes(world.read_bytes()[:-3])
    assert "header says" in den.cferry("recipe", "check", file, "--try", den.depot).out
    den.cferry("recipe", "check", file, "--try", den.top / "nowhere", code=3)
    both = ("--try", den.tern, "--try", den.depot, "--json")
    ways = den.cferry("recipe", "check", file, *both).data["rehearsed"]
    assert [one["save"] for one in ways] == ["Saltmarsh", "Heron Point"], "of what can be read"
    other = next(den.depot.glob("voyage-02-*/world.sgw"))
    right = other.read_bytes()
    other.write_bytes(right[:900] + b"?" + right[901:])  # nothing but reading it all shows that
    ways = den.cferry("recipe", "check", file, *both).data["rehearsed"]
    assert [one["from"] for one in ways] == ["tern"]
    other.write_bytes(right)
    world.write_bytes(b"")
    assert state(den.tern)
    assert before.keys() == state(den.top).keys()


REHEARSED = """
recipe = 1
game = { id = "crown", title = "Crowns" }
pieces.world = { needed = true, holds = "json" }
pieces.note = { }
facts.day = { label = "Day", from = "world", at = "/day" }
[editions.one]
title = "One"
berths = [{ on = "any", under = "given", path = "one" }]
fields.slot = { type = "number", most = 2 }
files = [{ role = "world", path = "{slot}.json" }, { role = "note", path = "{slot}.txt" }]
[editions.two]
title = "Two"
berths = [{ on = "any", under = "given", path = "two" }]
fields.slot = { type = "number", most = 1 }
files = [{ role = "world", path = "w{slot}" }, { role = "note", path = "note" }]
""".replace(', { role = "note", path = "note" }', "")


def test_a_rehearsal_says_what_does_not_come_back(den: Den, tmp_path: Path) -> None:
    file, top = tmp_path / "crown.toml", tmp_path / "top"
    file.write_text(REHEARSED, "utf-8")
    for name in ("one/1.json", "two/w1"):
        (top / name).parent.mkdir(parents=True, exist_ok=True)
        (top / name).write_text('{"day": 3}')
    (top / "one/1.txt").write_text("mine")
    before = state(top)

    def ways() -> list[tuple[str, list[str]]]:
        found = den.cferry("recipe", "check", file, "--try", top, "--json").data["rehearsed"]
        return [(one["stopped"] or "", one["changed"]) for one in found]

    assert ways() == [
        ("", ["the note is not there any more"]),
        ("", []),
    ]  # onto the one that is there
    file.write_text(REHEARSED.replace("most = 1", "most = 2"), "utf-8")
    assert ways() == [("", ["the note is not there any more"]), ("", [])]
    file.write_text(
        file.read_text("utf-8").replace('path = "w{slot}"', 'path = "w{slot}", layers = ["in"]')
        + '[layouts.head]\nfields = [{ type = "magic", text = "W" }]\n'
        '[layers]\nin = [{ kind = "header", layout = "head" }]\n', "utf-8",
    )  # fmt: skip
    assert len(ways()) == 1  # the other's one save is damaged
    (top / "two/w1").write_text('W{"day": 4}')
    assert len(ways()) == 2
    file.write_text(file.read_text("utf-8").replace('at = "/day"', 'at = "/dya"'), "utf-8")
    told = den.cferry("recipe", "check", file, "--try", top).out
    for said in ("the note is not there any more", "Day is not known: 1.json: nothing stands at"):
        assert said in told
    (top / "two/w1").write_text('{"day": 3}')
    assert {path: one[:2] for path, one in state(top).items() if path[:3] == "one"} == {
        path: one[:2] for path, one in before.items() if path[:3] == "one"
    }


def test_a_recipe_of_a_shipped_id_is_not_taken_silently(den: Den) -> None:
    shipped = den.cferry("recipe", "show", "saltglass").out
    den.recipe("saltglass", shipped)
    done = den.cferry("slots", "saltglass", code=5)
    assert "replaces_shipped = true" in done.err
    assert "id of a shipped one" in den.cferry("recipe", "list").out
    own = shipped.replace('id = "saltglass"', 'id = "saltglass"\nreplaces_shipped = true').replace(
        'label = "Day"', 'label = "Tide"'
    )
    den.recipe("saltglass", own)
    assert "Tide" in den.cferry("slots", "saltglass").out


def test_a_broken_recipe_of_ones_own_does_not_stop_others(den: Den) -> None:
    den.recipe("mine", "recipe = 7")
    done = den.cferry("look")
    assert "saltglass/depot" in done.out
    assert "mine.toml" in done.out
    assert "1 of your recipes can't be used" in den.cferry().out
    assert "mine.toml" in den.cferry("slots", "mine", code=5).err


@pytest.mark.parametrize(
    "hostile",
    [
        "x = " + "[" * 5000,
        "\xff\xfe",
        "recipe = 1\n" + "a." * 2000 + "b = 1",
        '[game]\nid = "' + "a" * 100_000 + '"',
    ],
    ids=["nested", "no text", "deep", "long"],
)
def test_hostile_recipes_are_refused(den: Den, tmp_path: Path, hostile: str) -> None:
    file = tmp_path / "mine.toml"
    file.write_bytes(hostile.encode("latin-1"))
    den.cferry("recipe", "check", file, code=5)


def test_show_gives_the_file_and_unknown_ids_are_told(den: Den) -> None:
    shipped = resources.files("clever_ferry.recipes") / "data" / "openttd.toml"
    assert den.cferry("recipe", "show", "openttd").out == shipped.read_text("utf-8")
    assert "saltglass" in den.cferry("recipe", "show", "saltglas", code=2).err
    assert den.cferry("recipe", "list", "--json").data[0]["fault"] is None


def test_every_key_of_the_shipped_recipes_is_in_the_reference() -> None:
    docs = Path(__file__).parents[1] / "docs"
    reference = "".join(
        (docs / f"{name}.md").read_text("utf-8") for name in ("recipes", "bequests")
    )

    def keys(value: object, named: bool) -> set[str]:
        if isinstance(value, list):
            return set().union(*(keys(one, False) for one in value)) if value else set()
        if not isinstance(value, dict):
            return set()
        own = set() if named else set(value)
        tables = {"pieces", "facts", "tables", "columns", "editions", "fields", "layouts", "layers",
                  "forms", "of", "arriving", "tells", "environment", "files", "set", "parts",
                  "elsewhere", "calendars", "options", "presets", "mappings", "known", "default",
                  "where", "when", "add"}  # fmt: skip
        return own.union(*(keys(v, k in tables) for k, v in value.items()))

    for file in (resources.files("clever_ferry.recipes") / "data").iterdir():
        if file.name.endswith(".toml"):
            for key in keys(tomllib.loads(file.read_text("utf-8")), False):
                assert f"`{key}`" in reference, f"{file.name}: {key}"


MODELS: dict[str, type[Model]] = {
    "game": GameRecipe, "box": BoxRecipe, "library": LibraryRecipe, "bequest": BequestRecipe
}  # fmt: skip
SHIPPED = {
    file.stem: tomllib.loads(file.read_text("utf-8"))
    for file in (Path(clever_ferry.__file__).parent / "recipes" / "data").glob("*.toml")
}


def places(data: object) -> list[tuple[str | int, ...]]:
    found: list[tuple[str | int, ...]] = []
    items = data.items() if isinstance(data, dict) else enumerate(data)  # type: ignore[arg-type]
    for key, value in items:
        found.append((key,))
        if isinstance(value, dict | list):
            found += [(key, *inner) for inner in places(value)]
    return found


@given(
    st.sampled_from(sorted(SHIPPED)), st.data(),
    st.sampled_from(["x", "", "a\n", -1, 0, 3, 2**70, 1.5, True, [], ["x"], {}, {"a": 1}, ...]),
)  # fmt: skip
def test_what_is_refused_is_explained_and_nothing_else(
    ident: str, draw: st.DataObject, value: object
) -> None:
    data = copy.deepcopy(SHIPPED[ident])
    model = next(m for key, m in MODELS.items() if key in data)
    *way, last = draw.draw(st.sampled_from(places(data)))
    inner = data
    for step in way:
        inner = inner[step]  # type: ignore[index]
    if value is ...:
        del inner[last]  # type: ignore[arg-type]
    elif isinstance(inner, dict) and draw.draw(st.booleans()):
        inner["never-heard-of"] = value
    else:
        inner[last] = value  # type: ignore[index]
    lines = explain(model, data)
    try:
        convert(data, model)
    except ValidationError:
        assert lines
    else:
        assert not lines


def shipped(name: str) -> str:
    folder = resources.files("clever_ferry.recipes") / "data"
    return (folder / f"{name}.toml").read_text("utf-8")


def invented(name: str) -> str:
    return (resources.files("clever_ferry_demo.invented") / f"{name}.toml").read_text("utf-8")


def test_what_becomes_of_a_save_between_each_two_editions(den: Den) -> None:
    path = den.recipe("moth-lantern", shipped("moth-lantern"))
    told = den.cferry("recipe", "check", path, "--pairs", "--json").data["pairs"]
    pairs = {(one["from"], one["to"]): one for one in told}
    assert len(pairs) == 6
    classic = pairs["finch", "classic"]
    assert classic["crosses"] == ["tale", "note"]
    assert classic["made"] == ["the owner in the tale's header (owner)"]
    assert classic["taken"] == [
        "table in the tale's header (owner)",
        "the owner of what is replaced",
    ]
    assert classic["lost"] == ["the system, which all saves share"]
    assert pairs["classic", "finch"]["made"] == ["the slip, which describes the tale"]
    assert "which all its saves share" in pairs["classic", "finch"]["taken"][0]
    walk = den.recipe("ropewalk", invented("ropewalk"))
    shown = den.cferry("recipe", "check", walk, "--pairs").out
    assert "the sha256 of the world in the card" in " ".join(shown.split())
    seal = den.recipe("saltglass", shipped("saltglass"))
    (one,) = [one for one in den.cferry("recipe", "check", seal, "--pairs", "--json").data["pairs"]
              if (one["from"], one["to"]) == ("tern", "depot")]  # fmt: skip
    assert "the world of what is replaced, or a new one" in one["taken"]
    box = den.recipe("tern-crate", shipped("tern-crate"))
    assert "Only a game's" in den.cferry("recipe", "check", box, "--pairs", code=2).err


def test_a_recipe_is_given_away_and_taken_in(den: Den, loft: Den, tmp_path: Path) -> None:
    file = tmp_path / "isles.toml"
    den.cferry("draft", den.depot, "-o", file)
    file.write_text(file.read_text() + "# a remark that stays, of #1\n")
    shared = tmp_path / "isles.zip"
    told = den.cferry("recipe", "share", file, "-o", shared).out
    assert "No save is in it" in told
    with zipfile.ZipFile(shared) as archive:
        assert archive.namelist() == ["isles.toml"]
        text = archive.read("isles.toml").decode()
    assert tomllib.loads(text) == tomllib.loads(file.read_text())
    assert "# a remark that stays, of #1" in text
    for private in ("100200300", "Wren", "Saltmarsh", str(tmp_path)):
        assert private in file.read_text()
        assert private not in text
    asked = loft.cferry("recipe", "add", shared, code=2)
    assert "NineKettles/Saltglass/{account}" in asked.out
    assert not (loft.home / "recipes" / "isles.toml").exists()
    loft.cferry("recipe", "add", shared, "--yes")
    assert (loft.home / "recipes" / "isles.toml").read_text() == text
    assert "one of your recipes already" in loft.cferry("recipe", "add", shared, "--yes").out
    changed = tmp_path / "other" / "isles.toml"
    changed.parent.mkdir()
    changed.write_text(text + "# more\n")
    assert "is there already" in loft.cferry("recipe", "add", changed, "--yes", code=4).err
    mine = file.read_text().replace('title = "Isles"', 'title = "Isles of wren"')
    file.write_text(mine.replace('title = "Saltglass"', 'title = "Saltglass 100200300"'))
    told = den.cferry("recipe", "share", file, "-o", tmp_path / "mine.zip", code=4).err
    assert ": wren" in told
    assert ": 100200300" in told
    assert not (tmp_path / "mine.zip").exists()
    told = den.cferry("recipe", "add", recipes_of("saltglass", tmp_path), "--yes").out
    for said in ("changes server.cfg", "takes away SGINDEX.DAT", "can start saltglass"):
        assert said in told


def recipes_of(name: str, folder: Path) -> Path:
    """Return a copy of a shipped recipe under an id of its own."""
    text = (Path(clever_ferry.__file__).parent / "recipes" / "data" / f"{name}.toml").read_text()
    copy = folder / f"my-{name}.toml"
    copy.write_text(text.replace(f'id = "{name}"', f'id = "my-{name}"'))
    return copy


@pytest.mark.parametrize(("names", "said"), [
    ([], "no recipe in"), (["a.toml", "in/b.toml"], "several recipes in"),
    (["../../x.toml"], r"x\.zip has something that can't stand so"),
])  # fmt: skip
def test_what_holds_no_recipe_is_not_taken_in(
    den: Den, tmp_path: Path, names: list[str], said: str
) -> None:
    with zipfile.ZipFile(tmp_path / "x.zip", "w") as archive:
        archive.writestr("read.me", "x" * 99)
        for name in names:
            archive.writestr(name, "recipe = 1")
    done = den.cferry(
        "recipe", "add", tmp_path / "x.zip", "--yes", code=5 if len(names) == 1 else 2
    )
    assert re.search(said, done.err), done.err
    assert not list(den.home.rglob("*.toml"))
