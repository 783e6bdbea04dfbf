"""The tool's own records, damaged or from a stranger: nothing is written elsewhere, all is said."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from blake3 import blake3
from msgspec import to_builtins
from msgspec.structs import replace

from clever_ferry.api import Ferry
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.records import Format
from clever_ferry.moving.system import Attributes
from tests.conftest import Den, link, state
from tests.faulty_disk import FaultyDisk, Killed, Trouble

INTO_DEPOT = ("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")


def forged(path: Path, change: Callable[[dict[str, Any]], None]) -> None:
    """Change a snapshot as a stranger would: its digest is right."""
    data = json.loads(path.read_bytes())
    change(data["body"])
    body = json.dumps(data["body"], sort_keys=True, separators=(",", ":")).encode()
    data["digest"] = blake3(body).hexdigest()
    path.write_text(json.dumps(data), "utf-8")


def newest(den: Den) -> Path:
    return max((den.home / "locker" / "snapshots").glob("*.json"))


def put(key: str, value: object) -> Callable[[dict[str, Any]], None]:
    return lambda body: body.__setitem__(key, value)


def put_file(key: str, value: object) -> Callable[[dict[str, Any]], None]:
    return lambda body: body["files"][0].__setitem__(key, value)


HOSTILE: dict[str, Callable[[dict[str, Any]], None]] = {
    "a file above": put_file("path", "../out.txt"),
    "a whole path": put_file("path", "/tmp/out.txt"),
    "a folder above": put("folders", [["../made", 0]]),
    "a folder inside, then above": put("folders", [["people/../../made", 0]]),
    "an absent folder above": put("absent_folders", [".."]),
    "an absent file above": put("absent", ["../mine"]),
    "a name of the end": put_file("path", "a\0b"),
    "a mode that is none": put_file("attributes", {"mode": None}),
    "a mode with more": put_file("attributes", {"mode": 0o4755}),
    "an attribute of the system's": put_file(
        "attributes", {"mode": 420, "extended": {"security.x": "00"}}
    ),
    "a value that is no hex": put_file("attributes", {"mode": 420, "extended": {"user.x": "zz"}}),
    "a time that is none": put_file("stamp", None),
    "a time beyond all": put_file("stamp", 10**30),
    "files that are none": put("files", None),
    "a deep list": put("saves", [[[[]]]]),
    "a place that is none": put("root", "here"),
    "another id": put("id", "20200101-000000-000000"),
    "no owner": put_file("attributes", {"mode": 420, "owner": ["me"]}),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_a_snapshot_from_a_stranger_does_nothing(den: Den, tmp_path: Path, name: str) -> None:
    den.cferry("backup", "saltglass/depot")
    (den.depot / "voyage-00-7c0e4d1f9a3b5c2d.old").mkdir()
    ident = newest(den).stem
    forged(newest(den), HOSTILE[name])
    before = state(tmp_path / "world")
    for command in (
        ("restore", ident, "--yes", "--replace", "--place-ok"),
        ("restore", ident, "--to", tmp_path / "out"),
        ("backup", "show", ident),
        ("backup", "export", ident, "-o", tmp_path / "out.zip"),
    ):
        done = den.cferry(*command, code=5)
        assert "can't be read" in done.err, command
    assert state(tmp_path / "world") == before
    assert not list(tmp_path.glob("*out*"))
    assert "can't be read" in den.cferry("backup", "list").out
    assert "can't be read" in den.cferry("backup", "verify", code=5).out


def test_a_record_of_a_version_that_there_never_was(den: Den) -> None:
    den.cferry("backup", "saltglass/depot")
    snapshot = newest(den)
    snapshot.write_text(snapshot.read_text("utf-8").replace('"snapshot": 1', '"snapshot": 0', 1))
    assert "of no version that there ever was" in den.cferry("backup", "list").out


def test_a_backup_of_a_place_that_nobody_knows_is_asked_for(den: Den, tmp_path: Path) -> None:
    den.cferry("backup", "saltglass/depot")
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    forged(newest(den), put("root", str(elsewhere / "deep")))
    refused = den.cferry("restore", "latest", "--yes", "--replace", code=4)
    assert "No recipe knows this folder" in refused.err
    assert str(elsewhere) in refused.err
    assert not list(elsewhere.iterdir())
    assert "--place-ok" in den.cferry("restore", "latest", "--dry-run").out
    den.cferry("restore", "latest", "--yes", "--replace", "--place-ok")
    assert list(elsewhere.rglob("*.sgw"))


def test_a_link_in_the_way_of_a_folder_is_not_followed(den: Den, tmp_path: Path) -> None:
    den.cferry("backup", "saltglass/depot")
    victim = tmp_path / "victim"
    victim.mkdir()
    link(den.depot / "out", victim)
    forged(newest(den), lambda body: body["folders"].append(["out/made", 0]))
    (next(den.depot.glob("voyage-00-*")) / "meta.json").unlink()
    assert "link" in den.cferry("restore", "latest", "--yes", "--replace", code=4).err
    assert not list(victim.iterdir())
    assert den.cferry("log", "--json").data == []


def killed_at(ferry: Ferry, den: Den, step: str) -> str:
    """Carry over and end at a step, as a kill would; return the change's id."""

    class Dying(Trouble):
        def step(self, name: str, path: Path) -> None:
            if self.dead:
                raise Killed
            wanted = {"staging": "sync", "renamed": "rename", "done": "unlink"}[step]
            if name == wanted and (
                (step == "staging" and ".cferry-" in str(path))
                or (step == "renamed" and path.name.endswith(".json") is False
                    and ".cferry-" in str(path) and next(renames) == 2)
                or (step == "done" and path.parent.name == "journal" and path.suffix == ".json")
            ):  # fmt: skip
                self.dead = True
                raise Killed

    renames = iter(range(1000))
    shore = FaultyDisk(Dying(den.top.parent))
    computer = replace(ferry.computer, shore=shore)
    ferry = Ferry(computer, ferry.recipes, Keeps(den.home, shore=shore))
    plan = ferry.plan("saltglass/tern:2", "saltglass/depot:1")
    with pytest.raises(Killed):
        ferry.carry_out(plan)
    return next((den.home / "journal").glob("*.json")).stem


DAMAGES: dict[str, Callable[[Path], object]] = {
    "empty": lambda path: path.write_bytes(b""),
    "cut": lambda path: path.write_bytes(path.read_bytes()[:70]),
    "of the wrong kind": lambda path: path.write_text('{"journal": 1, "id": []}'),
    "no object": lambda path: path.write_text("[1]"),
}


@pytest.mark.parametrize("damage", DAMAGES)
@pytest.mark.parametrize("step", ["staging", "renamed", "done"])
def test_a_damaged_journal_is_told_and_left_behind(den: Den, step: str, damage: str) -> None:
    ferry = den.ferry()
    before = state(den.depot)
    ident = killed_at(ferry, den, step)
    half = state(den.depot)
    DAMAGES[damage](den.home / "journal" / f"{ident}.json")
    first = den.cferry("log", "--json")
    told = first.data[0]["state"]
    assert not list(den.top.rglob(".cferry-*"))
    if step == "staging":
        assert told == "put back"
        assert {**state(den.depot), ".": before["."]} == before
    elif step == "done":
        assert told == "read back"
        assert "It is done." in first.err
        den.cferry("undo", "--yes")
    else:
        assert told == "unclear"
        assert f"cferry restore {ident}" in first.err.replace("\n", " ")
        staged = {path for path in half if ".cferry-" in path}
        assert state(den.depot).keys() == half.keys() - staged, "nothing is overwritten"
        den.cferry("restore", ident, "--yes", "--replace")
        assert state(den.depot) == before
    assert den.cferry("log").err == ""
    den.cferry(*INTO_DEPOT)  # the berth is free again


def test_records_of_newer_programs_are_left_to_those(den: Den) -> None:
    original = state(den.depot)
    ident = killed_at(den.ferry(), den, "renamed")
    entry, book = den.home / "journal" / f"{ident}.json", den.home / "logbook.sqlite"
    told = {**json.loads(entry.read_text()), "journal": 99}
    entry.write_text(json.dumps(told))
    before = state(den.depot)
    for code, command in ((0, ("log",)), (5, INTO_DEPOT)):
        done = den.cferry(*command, code=code)
        assert f"A newer cferry has a change under way: {entry}" in done.err
        assert str(den.depot) in done.err
        assert state(den.depot) == before
    with closing(sqlite3.connect(book)) as open_book:
        open_book.execute("PRAGMA user_version = 99")
    told["journal"] = 2
    entry.write_text(json.dumps(told))  # the journal is ours again, the logbook is not
    kept = book.read_bytes()
    assert "newer cferry has written the logbook" in den.cferry("slots", "saltglass/depot").err
    assert state(den.depot) == original, "that the journal says how it is does not wait for it"
    entry.unlink()
    for words in (INTO_DEPOT, ("log",), ("backup", "prune", "--yes"), ("undo", "--yes")):
        assert "newer cferry has written the logbook" in den.cferry(*words, code=5).err
    assert (book.read_bytes(), state(den.depot)) == (kept, original)
    den.cferry("harbour", "add", "attic", den.top)
    names = den.home / "harbours.json"
    names.write_text(names.read_text().replace('"harbours": 1', '"harbours": 9'))
    assert "a newer cferry has written it" in den.cferry("harbour", "list", code=5).err


def test_records_of_earlier_programs_are_read_and_brought_up(den: Den) -> None:
    before = state(den.depot)
    ident = killed_at(den.ferry(), den, "done")
    after = state(den.depot)
    entry = den.home / "journal" / f"{ident}.json"
    told = json.loads(entry.read_text())
    assert told["details"]["left"]
    entry.write_text(json.dumps({**told, "journal": 1, "story": told.pop("details")}))
    with closing(sqlite3.connect(den.home / "logbook.sqlite")) as book, book:
        book.execute("UPDATE crossings SET state = 'begun'")  # so that the journal alone can tell
        book.execute("PRAGMA user_version = 0")
    assert "It is done." in den.cferry("log").err
    with closing(sqlite3.connect(den.home / "logbook.sqlite")) as book:
        assert book.execute("PRAGMA user_version").fetchone() == (1,)
    assert state(den.depot) == after
    den.cferry("undo", "--yes")
    assert state(den.depot) == before
    names = den.home / "harbours.json"
    names.write_text(json.dumps({"harbours": [str(den.top)]}))
    assert den.cferry("harbour", "list", "--json").data[0]["name"] == "harbours"
    den.cferry("harbour", "add", "more", den.home)
    assert json.loads(names.read_text()).keys() == {"harbours", "names"}


@pytest.mark.parametrize(("key", "value"), [("anchor", "x"), ("stages", [["y", 0]]), ("root", "z")])
def test_a_journal_that_names_no_place_is_told(den: Den, key: str,
                                               value: object) -> None:  # fmt: skip
    ident = killed_at(den.ferry(), den, "renamed")
    entry = den.home / "journal" / f"{ident}.json"
    entry.write_text(json.dumps({**json.loads(entry.read_text()), key: value}))
    before = state(den.depot)
    told = den.cferry("log").err
    assert "can't be set right yet" in told
    assert "Traceback" not in told
    assert state(den.depot) == before
    if key != "root":
        den.cferry("log", "--give-up", "1", "--yes")
        assert den.cferry("log").err == ""


def test_what_can_not_be_set_right_can_be_given_up(den: Den) -> None:
    ident = killed_at(den.ferry(), den, "renamed")
    snapshot = den.home / "locker" / "snapshots" / f"{ident}.json"
    snapshot.write_text("{}")
    for command in (
        ("check", "saltglass/depot"),
        ("cross", "saltglass/depot:2", "saltglass/tern:9", "--yes"),
        ("backup", "saltglass/depot"),
        INTO_DEPOT,
    ):
        refused = den.cferry(*command, code=4).err
        assert "may be half" in refused
        assert "cferry log --give-up 1" in refused
    assert "nobody to ask" in den.cferry("log", "--give-up", "1", code=2).err
    assert str(den.depot) in den.cferry("log", "--give-up", "1", "--yes").out
    assert den.cferry("log", "--json").data[0]["state"] == "unclear"
    assert not list(den.top.rglob(".cferry-*"))
    den.cferry(*INTO_DEPOT)
    assert "No change 1 is cut short" in den.cferry("log", "--give-up", "1", "--yes", code=2).err


@pytest.mark.parametrize(
    "damage",
    ["story = '{'", "story = '[]'", "story = '{\"to\": 3}'", "state = 'lost'", "started = 'x'",
     "ended = 10.5", "manifest = x'00'"],
)  # fmt: skip
def test_an_odd_line_of_the_logbook_is_passed_over(den: Den, damage: str) -> None:
    den.cferry(*INTO_DEPOT)
    den.cferry("cross", "saltglass/tern:1", "saltglass/depot:7", "--yes")
    with closing(sqlite3.connect(den.home / "logbook.sqlite")) as book, book:
        book.execute(f"UPDATE crossings SET {damage} WHERE number = 1")
    told = den.cferry("log", "--json").data
    assert [one["number"] for one in told["crossings"]] == [2]
    assert told["unread"] == [1]
    assert "make no sense are left out: 1" in den.cferry("log").out
    den.cferry("backup", "prune", "--dry-run")
    den.cferry("undo", "--yes")
    assert den.cferry("log", "--json").data["crossings"][0]["state"] == "undone"


def test_an_undo_whose_entry_cannot_be_read_is_settled_by_what_stands(den: Den) -> None:
    den.cferry(*INTO_DEPOT)
    den.cferry("cross", "saltglass/depot:3", "saltglass/tern:7", "--yes")
    den.cferry("undo", "2", "--yes")
    den.cferry("undo", "1", "--yes")
    before = state(den.depot)
    snapshots = [json.loads(path.read_text())["body"]
                 for path in (den.home / "locker" / "snapshots").glob("*.json")]  # fmt: skip
    (own,) = [one["id"] for one in snapshots if one["kind"] == "undo"
              and one["root"] == str(den.depot)]  # fmt: skip
    (den.home / "journal" / f"{own}.json").write_text("{")
    assert "It is done." in den.cferry("log").err
    assert not list((den.home / "journal").glob("*.json"))
    assert state(den.depot) == before


def test_what_begun_and_never_came_into_the_journal_has_changed_nothing(den: Den) -> None:
    den.cferry(*INTO_DEPOT)
    den.cferry("undo", "--yes")
    before = state(den.depot)
    with closing(sqlite3.connect(den.home / "logbook.sqlite")) as book, book:
        book.execute("UPDATE crossings SET state = 'begun', ended = NULL")
    (told,) = [one for one in den.cferry("log", "--json").data if one["number"] == 1]
    assert told["state"] == "put back"
    assert told["ended"] is not None
    assert state(den.depot) == before


def test_the_journal_outranks_the_logbook(den: Den) -> None:
    """Both ways: what the logbook says already, and what it does not say yet."""
    ferry = den.ferry()
    before = state(den.depot)
    ident = killed_at(ferry, den, "renamed")
    with closing(sqlite3.connect(den.home / "logbook.sqlite")) as book, book:
        book.execute("UPDATE crossings SET state = 'proved'")
    assert "is now as it was before" in den.cferry("log").err
    assert state(den.depot) == before
    assert den.cferry("log", "--json").data[0]["state"] == "put back"
    ident = killed_at(den.ferry(), den, "done")
    after = state(den.depot)
    with closing(sqlite3.connect(den.home / "logbook.sqlite")) as book, book:
        details = to_builtins(ferry.log()[0].details) | {"left": []}
        book.execute("UPDATE crossings SET state = 'begun', story = ? WHERE manifest = ?",
                     (json.dumps(details), ident))  # fmt: skip
    assert "It is done." in den.cferry("log").err
    assert state(den.depot) == after
    assert den.cferry("log", "--json").data[0]["state"] == "read back"
    den.cferry("undo", "--yes")
    assert state(den.depot) == before


def test_one_folder_by_two_names_is_one(den: Den, tmp_path: Path) -> None:
    killed_at(den.ferry(), den, "renamed")
    (den.home / "locker" / "snapshots").rename(tmp_path / "gone")
    link(tmp_path / "other", den.depot.parent)
    there = f"saltglass/depot@{tmp_path / 'other' / den.depot.name}"
    assert "may be half" in den.cferry("check", there, code=4).err


def test_a_record_says_its_version_and_no_more_than_it_may() -> None:
    format_ = Format("attributes", Attributes)
    own = Attributes(0)
    assert format_.read(format_.written(own)) == own
    for wrong in (
        b'{"mode": 0}', b'{"attributes": true, "mode": 0}', b'{"attributes": 0, "mode": 0}',
        b'{"attributes": 1, "mode": -1}', b'{"attributes": 1, "mode": 512}',
    ):  # fmt: skip
        with pytest.raises(ValueError, match=r"version|Expected"):
            format_.read(wrong)
