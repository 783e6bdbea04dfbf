"""What a target asks for: identities inside, rebuilt and shared files, downloads, explained."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.layers import Known, compile_layers
from clever_ferry.layers.document_spec import IdentitySpec
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry_demo.world import lay_finch, lay_loft
from tests.conftest import DEPOT, LONG, Den, laid

YARDS = "C/Users/Wren/yards"
RECIPE = """
recipe = 1
[game]
id = "yard"
title = "Orrery Yard"
[pieces]
meta = { needed = true, holds = "json" }
tune = { shared = true }
[facts]
name = { label = "Yard", from = "meta", at = "/name" }
[editions.one]
title = "Yard"
berths = [{ on = "any", under = "home", path = "yards/{account}" }]
files = [
  { role = "meta", path = "yard{slot}.json", layers = ["owned"] },
  { role = "tune", path = "tune.ini", layers = ["mine"] },
]
rebuilt = ["index{slot}.dat"]
fields.account = { type = "word" }
fields.slot = { type = "number" }
[layers]
owned = [{ kind = "identity", holds = "json", at = ["/owner", "/crew/*/boss"], bound = "account" }]
mine = [{ kind = "identity", holds = "ini", at = ["/who/player"], bound = "account" }]
"""
META = """{ "name" : "Brass \\u0041", "owner":"wren",
  "crew": [ {"boss": "wren", "hat": 1}, {"hat": 2}, { "boss" : "wr\\u0065n" } ], "wren": "wren" }
"""


def yard(tmp_path: Path, account: str, slots: tuple[int, ...] = (1,)) -> Path:
    folder = tmp_path / account
    folder.mkdir(parents=True)
    for slot in slots:
        (folder / f"yard{slot}.json").write_text(META.replace("wren", account), "utf-8")
    (folder / "tune.ini").write_text(f"; mine\n[who]\nPlayer = {account}\n[x]\nplayer=you\n")
    return folder


@pytest.fixture
def here(den: Den) -> Den:
    den.recipe("yard", RECIPE)
    return den


def test_an_identity_inside_becomes_the_targets_and_nothing_else_changes(here: Den) -> None:
    home = here.top / YARDS
    yard(home, "wren", (1, 2))
    oona = yard(home, "oona", ())
    options = ("--from-account", "wren", "--to-account", "oona")
    plan = here.cferry("cross", "yard/one:2", "yard/one:3", *options, "--dry-run").out
    assert "the target's account (3 places in the meta)" in plan
    here.cferry("cross", "yard/one:2", "yard/one:3", *options, "--yes")
    expected = META.replace('"owner":"wren"', '"owner":"oona"')
    expected = expected.replace('"boss": "wren"', '"boss": "oona"')
    expected = expected.replace('"wr\\u0065n"', '"oona"')
    assert (oona / "yard3.json").read_text("utf-8") == expected
    here.cferry("check", "yard/one:3", "--account", "oona")
    back = ("--from-account", "oona", "--to-account", "wren")
    here.cferry("cross", "yard/one:3", "yard/one:4", *back, "--yes")
    told = json.loads((home / "wren" / "yard4.json").read_text("utf-8"))
    assert told == json.loads(META)
    shutil.copy(home / "wren" / "yard4.json", oona / "yard5.json")
    assert "belongs to another account" in here.cferry(
        "check", "yard/one:5", "--account", "oona", code=5
    ).out  # fmt: skip


def test_a_doubtful_or_missing_identity_is_refused(here: Den) -> None:
    home = here.top / YARDS
    wren = yard(home, "wren", (1, 2))
    yard(home, "oona", ())
    options = ("--from-account", "wren", "--to-account", "oona", "--yes")
    (wren / "yard1.json").write_text(META.replace('"boss": "wren"', '"boss": "isa"'), "utf-8")
    told = here.cferry("cross", "yard/one:1", "yard/one:3", *options, code=5).err
    assert "more than one account (isa, wren)" in told
    (wren / "yard2.json").write_text('{"name": "x"}', "utf-8")
    told = here.cferry("cross", "yard/one:2", "yard/one:3", *options, code=5).err
    assert "no account at /owner or /crew/*/boss" in told


def test_what_the_game_rebuilds_goes_and_comes_back(here: Den) -> None:
    home = here.top / YARDS
    yard(home, "wren", (1,))
    oona = yard(home, "oona", (2,))
    (oona / "index7.dat").write_bytes(b"old index")
    options = ("--from-account", "wren", "--to-account", "oona", "--yes")
    assert "index7.dat; the game makes it anew" in here.cferry(
        "cross", "yard/one:1", "yard/one:1", *options
    ).out  # fmt: skip
    assert not (oona / "index7.dat").exists()
    here.cferry("undo", "--yes")
    assert (oona / "index7.dat").read_bytes() == b"old index"


def test_what_all_saves_share_goes_when_it_is_missing_or_asked_for(here: Den) -> None:
    home = here.top / YARDS
    yard(home, "wren", (1,))
    oona = yard(home, "oona", ())
    options = ("--from-account", "wren", "--to-account", "oona", "--yes")
    (oona / "tune.ini").write_text("[who]\nplayer = oona\nloud = 3\n")
    here.cferry("cross", "yard/one:1", "yard/one:1", *options)
    assert "loud" in (oona / "tune.ini").read_text()
    here.cferry("cross", "yard/one:1", "yard/one:2", "--with", "tune", *options)
    text = (oona / "tune.ini").read_text()
    assert text == "; mine\n[who]\nPlayer = oona\n[x]\nplayer=you\n"
    here.cferry("undo", "--yes")
    assert "loud" in (oona / "tune.ini").read_text()
    (oona / "tune.ini").unlink()
    assert "the target has none" in here.cferry("cross", "yard/one:1", "yard/one:3", *options).out
    assert (oona / "tune.ini").read_text() == text
    told = here.cferry("cross", "yard/one:1", "yard/one:4", "--with", "meta", *options, code=2).err
    assert "there are: tune" in told


def test_damaged_saves_stay_behind_when_asked_and_the_exit_says_so(den: Den) -> None:
    (next(den.depot.glob("voyage-00-*")) / "meta.json").write_bytes(b"{")
    route = ("cross", "saltglass/depot", "saltglass/tern", "--yes")
    assert "--whole-only" in den.cferry(*route, code=5).err
    told = den.cferry(*route, "--whole-only", code=8).out
    assert "Stays behind" in told
    assert den.loads("tern", 3).startswith("Heron Point, day 57")
    data = den.cferry(
        *route[:2], "saltglass/tern:free", "--whole-only", "--dry-run", "--json"
    ).data["plan"]
    assert [one["slot"] for one in data["left"]] == [1]
    for folder in den.depot.glob("voyage-*"):
        (folder / "meta.json").write_bytes(b"{")
    assert "nothing was carried" in den.cferry(*route, "--whole-only", code=5).err


def test_a_download_goes_into_a_slot(den: Den, tmp_path: Path) -> None:
    export = laid(lay_loft, tmp_path / "other") / "home/isa/Downloads/longshore-export"
    part = export / "longshore-export-1-of-2.zip"
    den.cferry("cross", "--from-file", part, "saltglass/depot:6", "--yes")
    assert den.loads("depot", 6).startswith("Gull Rock, day 24")
    folder = tmp_path / "copied" / "voyage-04-0011223344556677"
    shutil.copytree(next((den.top / DEPOT).rglob("voyage-02-*")), folder)
    den.cferry("cross", "--from-file", folder.parent, "saltglass/tern:8", "--yes")
    assert den.loads("tern", 8).startswith("Heron Point, day 57")
    note = tmp_path / "note.txt"
    note.write_text("hello")
    told = den.cferry("cross", "--from-file", note, "saltglass/tern:9", "--yes", code=5).err
    assert "isle{slot}.level" in told
    assert "only TO" in den.cferry(
        "cross", "--from-file", note, "saltglass/tern", "saltglass/depot", "--yes", code=2
    ).err  # fmt: skip
    assert "Both FROM and TO" in den.cferry("cross", "saltglass/tern", "--yes", code=2).err


def test_a_single_file_is_told_by_its_content(here: Den, tmp_path: Path) -> None:
    home = here.top / YARDS
    yard(home, "oona", ())
    (tmp_path / "got").mkdir()
    file = tmp_path / "got" / "yard7.json"
    file.write_text(META, "utf-8")
    here.cferry("cross", "--from-file", file, "yard/one:2", "--yes")
    assert '"owner":"oona"' in (home / "oona" / "yard2.json").read_text("utf-8")
    assert file.read_text("utf-8") == META


def test_explain_tells_places_pieces_and_routes(den: Den) -> None:
    told = den.cferry("explain", "saltglass").out
    assert told.count("saltglass itself can be asked: cferry check --with-game") == 3
    for words in (
        "on Windows, in the low local application data: NineKettles/Saltglass/{account}",
        "{account} is 9 digits", "wrapped: header + zlib", "8 saves at the most",
        "in the zips of its export",
    ):  # fmt: skip
        assert words in told
    routes = den.cferry("explain", "saltglass/depot").out
    assert "From Tern Arcade to Cobalt Depot" in routes
    assert "gzip comes off, header + zlib goes on" in routes
    assert "world: taken from the save that is replaced, or made new" in routes
    assert "to Longshore" not in routes
    data = den.cferry("explain", "saltglass/tern", "--json").data
    assert {(one["from"], one["to"]) for one in data["routes"]} == {
        ("tern", "depot"), ("depot", "tern"), ("longshore", "tern"), ("tern", "finch"),
        ("finch", "tern"), ("tern", "server"), ("server", "tern"),
    }  # fmt: skip
    assert "no edition" in den.cferry("explain", "saltglass/turn", code=2).err


VALUES = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(), st.text(max_size=5)),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=4), inner, max_size=3)
    ),
    max_leaves=8,
)  # fmt: skip


@given(st.dictionaries(st.text(max_size=4), VALUES, max_size=4), st.sampled_from([None, 1, 3]))
def test_identities_in_any_json_go_round(others: dict[str, object], indent: int | None) -> None:
    spec = IdentitySpec(holds="json", at=("/me/id", "/all/*"), bound="account")
    chain = compile_layers({"it": (spec,)}, {})["it"]
    value = {**others, "me": {"x": others, "id": "ann"}, "all": ["ann", others, "ann"]}
    raw = json.dumps(value, indent=indent, ensure_ascii=bool(indent)).encode()
    unwrapped = chain.unwrap(BytesPayload(raw))
    assert unwrapped.bound == {"account": "ann"}

    def wrapped(account: str, residue: tuple[object, ...] | None = None) -> bytes:
        out = chain.wrap(unwrapped.payload, Known({"account": account}), residue)
        return read_all(out, limit=1 << 20, what="it")

    assert wrapped("ann", unwrapped.residue) == raw
    assert json.loads(wrapped("bo")) == {
        **value, "me": {"x": others, "id": "bo"}, "all": ["bo", others, "bo"]
    }  # fmt: skip
    again = chain.unwrap(BytesPayload(wrapped("bo")))
    marked = [read_all(one.payload, limit=1 << 20, what="it") for one in (unwrapped, again)]
    assert marked[0] == marked[1]


OWNED = {
    "xml": (b"<a by='x'><me id='7'/><all>7</all><all>7</all></a>", ("/a/me/@id", "/a/all/*")),
    "toml": (b"[me]\r\nid = '7' # mine\r\nall = ['7']\r\n", ("/me/id", "/me/all/*")),
    "yaml": (b"me:\n  id: \"7\"\nall: ['7', '7']\n", ("/me/id", "/all/*")),
    "properties": (b"me.id : 7\nall=8\n", ("/me.id",)),
    "relaxed-json": (b'{"id": 7, // mine\n}', ("/id",)),
}  # fmt: skip


@pytest.mark.parametrize("holds", OWNED)
def test_identities_stand_in_documents_of_any_form(holds: str) -> None:
    raw, at = OWNED[holds]
    spec = {"kind": "identity", "holds": holds, "at": list(at), "bound": "account"}
    chain = compile_layers({"it": (convert(spec, IdentitySpec),)}, {})["it"]
    unwrapped = chain.unwrap(BytesPayload(raw))
    assert str(unwrapped.bound["account"]) == "7"

    def wrapped(account: str, residue: tuple[object, ...] | None = None) -> bytes:
        out = chain.wrap(unwrapped.payload, Known({"account": account}), residue)
        return read_all(out, limit=1 << 10, what="it")

    assert wrapped("7", unwrapped.residue) == raw
    assert wrapped("450") == raw.replace(b"7", b"450")


def older(path: Path, version: str) -> None:
    """Give a world of Cobalt Depot another version, in all its files that say one."""
    meta = next(path.glob("*/meta.json")) if path.is_dir() else path
    told = json.loads(meta.read_text("utf-8"))
    meta.write_text(json.dumps({**told, "game": version}), "utf-8")


def test_a_newer_save_is_refused_and_an_older_one_is_noted(den: Den) -> None:
    folders = {path.name[:9]: path for path in den.depot.glob("voyage-*")}
    older(folders["voyage-00"] / "meta.json", "3.9.0")
    older(folders["voyage-02"] / "meta.json", "3.2.1")
    told = den.cferry("cross", "saltglass/depot:1", "saltglass/tern:5", "--yes", code=4).err
    assert "newer game (Version 3.9.0) than the target's (3.4.1)" in told
    assert "--newer-ok" in told
    plan = den.cferry("cross", "saltglass/depot:1", "saltglass/tern:5", "--newer-ok", "--dry-run")
    assert "newer game" not in plan.out
    told = den.cferry("cross", "saltglass/depot:3", "saltglass/tern:5", "--yes").out
    assert "it will bring the save up to date" in told.replace("\n", " ")
    for path in den.depot.iterdir():
        if path.is_dir():
            shutil.rmtree(path)
    told = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:2", "--dry-run").out
    assert "Nothing is known of the target's" in told


def test_the_newest_throwaway_gives_its_place_and_identity(den: Den) -> None:
    route = ("cross", "saltglass/tern:2", "saltglass/depot:throwaway")
    assert "no throwaway save" in den.cferry(*route, "--yes", code=3).err
    for slot in ("4", "6"):
        den.game("depot", "new", "--slot", slot, "--name", f"try {slot}")
    made = next(den.depot.glob("voyage-05-*")).name
    plan = den.cferry(*route, "--dry-run").out
    assert "try 6" in plan
    assert "from the save it replaces" in plan
    den.cferry(*route, "--yes", "--replace")
    assert next(den.depot.glob("voyage-05-*")).name == made
    assert den.loads("depot", 6).startswith("Saltmarsh, day 31")
    assert den.loads("depot", 4).startswith("try 4")


def test_desktop_to_handheld_and_back(den: Den) -> None:
    folder = lay_finch(den.top)
    assert den.loads("finch", 1).startswith("Wren's try")
    told = den.cferry("cross", "saltglass/tern:2", "saltglass/finch:4", "--yes", code=4).err
    assert "shows only 3 slots" in told
    told = den.cferry("cross", "saltglass/tern:2", "saltglass/finch:2", "--yes").out
    assert "SGINDEX.DAT; the game makes it anew" in told
    assert "onto the Finch, over its SALTGLASS" in told
    assert not (folder / "SGINDEX.DAT").exists()
    assert den.loads("finch", 2).startswith("Saltmarsh, day 31")
    den.game("finch", "play", "--slot", "2", "--days", "4")
    den.cferry("cross", "saltglass/finch:2", "saltglass/depot:1", "--yes", "--replace")
    assert den.loads("depot", 1).startswith("Saltmarsh, day 35")
    den.cferry("cross", "saltglass/depot:3", "saltglass/finch:throwaway", "--yes", "--replace")
    assert den.loads("finch", 1).startswith("Heron Point, day 57")
    den.cferry("undo", "--yes")  # the index that the device has made since is no play
    assert den.loads("finch", 1).startswith("Wren's try")
    assert den.loads("finch", 2).startswith("Saltmarsh, day 35")


@pytest.fixture
def every(den: Den) -> Den:
    """The demo computer with every edition of Saltglass at hand, and a world in each slot 1."""
    lay_finch(den.top)
    export = laid(lay_loft, den.top.parent / "other") / "home/isa/Downloads/longshore-export"
    den.cferry("harbour", "add", "export", export)
    return den


@pytest.mark.long
def test_every_edition_to_every_other_and_back(
    every: Den, record_property: Callable[[str, object], None]
) -> None:
    """Facts and payloads are the same after each way; the game itself loads what arrives."""
    writable, count = ("depot", "tern", "finch"), 0
    ring = {("depot", "tern"), ("tern", "finch"), ("longshore", "depot")}
    for start in (*writable, "longshore"):
        for goal in writable:
            if start == goal or not (LONG or (start, goal) in ring):
                continue
            slot = {"depot": 3, "tern": 2, "finch": 1, "longshore": 2}[start]
            every.cferry("cross", f"saltglass/{start}:{slot}", f"saltglass/{goal}:3",
                         "--yes", "--replace", "--newer-ok")  # fmt: skip
            data = every.cferry(
                "slots", f"saltglass/{start}:{slot}", f"saltglass/{goal}:3", "--json"
            ).data
            assert [one["first_is"] for one in data["compared"]] == ["the same"], (start, goal)
            title = data["berths"][0]["saves"][0]["name"]
            assert every.loads(goal, 3).startswith(title)
            count += 1
            if start in writable:
                free = "2" if start == "finch" else "7"
                every.cferry("cross", f"saltglass/{goal}:3", f"saltglass/{start}:{free}",
                             "--yes", "--replace")  # fmt: skip
                every.game(start, "play", "--slot", free)
                assert every.loads(start, int(free)).startswith(title)
                every.cferry("undo", "--yes", "--lose-later-play")
                count += 1
            every.cferry("undo", "--yes")
    record_property("routes", count)
    assert count == (15 if LONG else 5)
