"""What `--json` prints is what docs/json.md states: over every command, and for errors too."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from clever_ferry.cli.main import _COMMANDS
from clever_ferry_demo.kingfisher_age.program import lay_kingfisher_age
from clever_ferry_demo.kingfisher_crown.program import demo_reigns, lay_kingfisher_crown
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from tests.conftest import Den

DOC = (Path(__file__).parents[1] / "docs" / "json.md").read_text("utf-8")
TIME = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{6}Z")
TIMES = {"saved", "made", "started", "ended", "changed", "since"}


def stated(row: str) -> set[str]:
    """Return the keys that the document's table has for a command or part."""
    line = next(one for one in DOC.splitlines() if one.startswith("| ") and row in one[:60])
    return set(re.findall(r"`([a-z_]+)`", line.split("|")[2]))


def leaves(value: Any, key: str = "") -> Iterator[tuple[str, Any]]:
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from leaves(inner, name)
    elif isinstance(value, list):
        for inner in value:
            yield from leaves(inner, key)
    else:
        yield key, value


def told(den: Den, *arguments: str | Path, code: int = 0) -> dict[str, Any]:
    raw = json.loads(den.cferry(*arguments, "--json", code=code).out)
    assert raw.pop("format") == 1
    for key, value in leaves(raw):
        if key in TIMES and isinstance(value, str) and key != "changed":
            assert TIME.fullmatch(value), (key, value)
        big = isinstance(value, int) and not isinstance(value, bool) and abs(value) > 10**14
        assert not big, f"{key} = {value} looks like nanoseconds"
    assert isinstance(raw, dict)
    return raw


def test_every_command_prints_what_is_stated(den: Den, tmp_path: Path) -> None:
    lay_orrery_yard(den.top, "wren", demo_yards())
    lay_kingfisher_crown(den.top, demo_reigns()[:1])
    lay_kingfisher_age(den.top)
    brass = "orrery-yard/windows:Brass Court"
    where, recipe = "saltglass/depot", den.recipe("own", OWN)
    ran: dict[str, dict[str, Any]] = {
        "`look`, `look GAME`": told(den, "look"),
        "`look PATH`": told(den, "look", den.depot),
        "`look --since`": told(den, "look", "--since", "400d"),
        "`slots`": told(den, "slots", where, "saltglass/tern", "--facts"),
        "`pairs`": told(den, "pairs", where, "saltglass/tern"),
        "`explain`": told(den, "explain", where),
        "`tables`": told(den, "tables", brass, "wheels"),
        "`sheet`": told(den, "sheet", brass, "-o", tmp_path / "brass.html"),
        "`compare`": told(den, "compare", brass, "orrery-yard/windows:Comet Lane", code=11),
        "`check`": told(den, "check", where),
        "`loader list`": told(den, "loader", "list"),
        "`loader allow`": told(den, "loader", "allow", where),
        "`loader forget`": told(den, "loader", "forget", where),
        "`cross`": told(den, "cross", "saltglass/tern:2", f"{where}:5", "--yes"),
        "`watch`": told(den, "watch", "--once", code=12),
        "`log`": told(den, "log"),
        "`log show`": told(den, "log", "show", "1"),
        "`undo`": told(den, "undo", "--yes"),
        "`backup WHERE`, `backup list`": told(den, "backup", where),
        "`backup show`": told(den, "backup", "show", "latest"),
        "`backup verify`": told(den, "backup", "verify"),
        "`backup export`": told(den, "backup", "export", "latest", "-o", tmp_path / "b.zip"),
        "`backup prune`": told(den, "backup", "prune", "--dry-run"),
        "`restore --to`": told(den, "restore", "latest", "--to", tmp_path / "out"),
        "`harbour add`": told(den, "harbour", "add", "stick", tmp_path),
        "`harbour list`": told(den, "harbour", "list"),
        "`parcel pack`": told(den, "parcel", "pack", f"{where}:1", "-o", tmp_path / "isle.zip"),
        "`parcel show`": told(den, "parcel", "show", tmp_path / "isle.zip"),
        "`parcel check`": told(den, "parcel", "check", tmp_path / "isle.zip"),
        "`handover`": told(den, "handover", "orrery-yard/windows:Brass Court", "--to", "Isa",
                           "-o", tmp_path / "brass.zip"),
        "`graft`": told(den, "graft", brass, "orrery-yard/windows:Comet Lane", "--dry-run"),
        "`bequeath`": told(den, "bequeath", "kingfisher-crown/windows:Kelpmark Rising",
                           "kingfisher-age", "--dry-run"),
        "`tidy`": told(den, "tidy", where, code=3),
        "`study`": told(den, "study", den.depot),
        "`draft`": told(den, "draft", den.depot, "-o", tmp_path / "mine.toml"),
        "`draft --more`": told(den, "draft", "--more", den.depot, "-o", tmp_path / "mine.toml"),
        "`unbox`": told(den, "unbox", den.tern, "-o", tmp_path / "apart"),
        "`box`": told(den, "box", tmp_path / "apart", "-o", tmp_path / "again"),
        "`recipe list`": told(den, "recipe", "list"),
        "`recipe show`": told(den, "recipe", "show", "saltglass"),
        "`recipe check`": told(den, "recipe", "check", recipe, "--pairs"),
    }  # fmt: skip
    world = next(den.depot.glob("voyage-00-*")) / "meta.json"
    world.write_bytes(world.read_bytes() + b"\n")
    ran["`restore`"] = told(den, "restore", "latest", "--yes", "--replace")
    whole = {"`backup show`": "a backup", "`undo`": "a crossing", "`log show`": "a crossing",
             "`loader allow`": "a loader"}  # fmt: skip
    for row, raw in ran.items():
        known = stated(row) | (stated(f"| {whole[row]} ") if row in whole else set())
        optional = {"plan", "tried", "what", "compared", "unread", "failed"}
        assert raw.keys() <= known, row
        assert known - raw.keys() <= optional, row
    save = ran["`check`"]["saves"][0]
    own = stated("| a save of `check` ") - {"check", "whole", "fits", "loads"}
    assert save.keys() == stated("| a save ") | own
    assert (save["level"], save["game"]) == ("fits", None)
    assert {"level", "game"} <= ran["`cross`"]["proofs"][0].keys()
    loader = ran["`loader list`"]["loaders"][0]
    assert loader.keys() == ran["`loader allow`"].keys() - {"format"} == stated("| a loader ")
    assert save["established"][0].keys() == stated("| what was established ") - {
        "verified",
        "opened",
    }
    assert ran["`tables`"]["tables"][0].keys() == stated("| a table ")
    assert ran["`graft`"]["tables"][0].keys() == stated("| a table that a graft changes ")
    (step,) = ran["`bequeath`"]["steps"]
    assert step.keys() == stated("| a step of a bequest ")
    assert step["tables"][0].keys() == stated("| a table that a bequest makes ")
    differing = ran["`compare`"]["tables"][0]
    assert differing.keys() == stated("| what differs in a table ")
    assert differing["differences"][0].keys() == stated("| a difference ")
    assert ran["`slots`"]["berths"][0].keys() >= stated("| a berth ")
    listed = ran["`slots`"]["berths"][0]["saves"][0]
    assert listed.keys() == stated("| a save ") | stated("| a save of `slots` ") - {"slots"}
    assert listed["all_facts"][0].keys() == stated("| one of all facts ")
    pair = told(den, "slots", "saltglass/tern", where)["compared"][0]
    assert pair.keys() == stated("| what is compared ")
    assert ran["`cross`"]["proofs"][0]["facts"][0].keys() == stated("| a fact of a proof ")
    assert ran["`log`"]["crossings"][0].keys() == stated("| a crossing ")
    named = {word for row in ran for word in re.findall(r"`([a-z]+)", row)}
    assert named == set(_COMMANDS) - {"demo", "help"}, "each command stands here"


def test_errors_are_json_with_their_exit_code(den: Den) -> None:
    for arguments, code in (
        (("slots", "nowhere"), 2),
        (("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes"), 4),
        (("slots", "saltglass/depot", "--bogus"), 2),
        (("undo", "--yes"), 3),
    ):
        error = told(den, *arguments, code=code)["error"]
        assert error.keys() == {"code", "what", "details", "advice", "again"}
        assert error["code"] == code


OWN = """
recipe = 1
game = { id = "own", title = "Own" }
pieces.world = { needed = true }
[editions.one]
title = "One"
berths = [{ on = "any", under = "given" }]
fields.name = { type = "text" }
files = [{ role = "world", path = "{name}.w" }]
"""
