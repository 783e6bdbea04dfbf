"""Fourteen invented formats by recipe alone, against writers and readers that know none of it."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from importlib import resources
from pathlib import Path
from typing import Any

import pytest

from clever_ferry.documents.places import value_at
from clever_ferry.layouts import LayoutSpec, compile_layouts
from clever_ferry.model import convert
from clever_ferry_demo.invented import FORMATS, Moth
from tests.conftest import Den, at_terminal
from tests.forking import can_fork

RECIPES = resources.files("clever_ferry_demo.invented")


def saves(seed: int, slots: tuple[int, ...]) -> dict[int, tuple[bytes, bytes]]:
    dice = random.Random(seed)
    return {
        slot: (
            dice.randbytes(dice.choice([0, 1, 4096, 9000])) + b"isle" * dice.randrange(3000),
            json.dumps({"name": f"Isle {slot}", "day": seed * 10 + slot}).encode(),
        )
        for slot in slots
    }


@pytest.fixture
def here(linux: Callable[..., Den]) -> Den:
    den = linux(home="home")
    for file in RECIPES.iterdir():
        if file.name.endswith(".toml"):
            den.recipe(file.name.removesuffix(".toml"), file.read_text("utf-8"))
    return den


def plain(folder: Path, content: dict[int, tuple[bytes, bytes]]) -> None:
    (folder / "plain").mkdir(parents=True)
    for slot, (world, note) in content.items():
        (folder / "plain" / f"{slot}.world").write_bytes(world)
        (folder / "plain" / f"{slot}.note").write_bytes(note)


def read_plain(folder: Path) -> dict[int, tuple[bytes, bytes]]:
    return {
        int(path.stem): (path.read_bytes(), path.with_suffix(".note").read_bytes())
        for path in sorted((folder / "plain").glob("*.world"))
    }


@pytest.mark.parametrize("name", FORMATS)
def test_a_format_both_ways(here: Den, tmp_path: Path, name: str) -> None:
    made, given = tmp_path / "made-by-game", tmp_path / "by-hand"
    (made / "made").mkdir(parents=True)
    theirs, ours = saves(3, (1, 2, 4)), saves(5, (2, 7))
    FORMATS[name].write(made / "made", theirs)
    plain(given, ours)
    shown = here.cferry("slots", f"{name}/made@{made}", "--sort", "slot", "--json").data[0]
    assert [(s["slot"], s["facts"]["day"], s["problems"]) for s in shown["saves"]] == [
        (1, 31, []), (2, 32, []), (4, 34, []),
    ]  # fmt: skip
    here.cferry("check", f"{name}/made@{made}")
    here.cferry("recipe", "check", here.home / "recipes" / f"{name}.toml")
    # Out of the game's format: what its writer put in.
    out = tmp_path / "out"
    (out / "plain").mkdir(parents=True)
    here.cferry("cross", f"{name}/made@{made}", f"{name}/plain@{out}", "--yes")
    assert read_plain(out) == theirs
    if name == "seedtray":  # rows and columns are shown as the game shows them
        assert "4 (B1)" in here.cferry("slots", f"{name}/made@{made}").out
        found = here.cferry("check", f"{name}/made@{made}:a1-A2,B1", "--json").data["saves"]
        assert [one["slot"] for one in found] == [1, 2, 4]
        assert "B3" in here.cferry("check", f"{name}/made@{made}:B3", code=2).err
        told = here.cferry(
            "cross", f"{name}/plain@{given}:2", f"{name}/made@{made}:C3", "--dry-run"
        ).out
        assert "9 (C3)" in told
        for one in ("tray-{}.tar", "{}.tag"):
            (made / "made" / one.format("B1")).rename(made / "made" / one.format("C1"))
        told = here.cferry("check", f"{name}/made@{made}", code=5).out
        assert "belongs to another row: it says 2, but here it is 3" in told
        for one in ("tray-{}.tar", "{}.tag"):
            (made / "made" / one.format("C1")).rename(made / "made" / one.format("B1"))
    if name == "pigeonhole":  # that there is no such place is said before anything is done
        beyond = (f"{name}/plain@{given}:2", f"{name}/made@{made}:13", "--dry-run")
        assert "13 is none of them" in here.cferry("cross", *beyond, code=4).err
    # Into it, over one save and beside the others: its own reader reads it all.
    route = (f"{name}/plain@{given}:2,7", f"{name}/made@{made}:2,7", "--yes", "--replace")
    if FORMATS[name] is Moth:
        assert "throwaway" in here.cferry("cross", *route, code=4).err
        assert FORMATS[name].read(made / "made") == theirs
        route = (route[0].removesuffix(",7"), route[1].removesuffix(",7"), *route[2:])
        del ours[7]
    here.cferry("cross", *route)
    assert FORMATS[name].read(made / "made") == dict(sorted({**theirs, **ours}.items()))
    here.cferry("undo", "--yes")
    assert FORMATS[name].read(made / "made") == theirs


@pytest.mark.parametrize("name", FORMATS)
@pytest.mark.parametrize("seed", range(4))
def test_damage_is_told(here: Den, tmp_path: Path, name: str, seed: int) -> None:
    dice = random.Random(seed)
    (tmp_path / "made").mkdir()
    FORMATS[name].write(tmp_path / "made", saves(seed, (1, 2)))
    file = dice.choice([p for p in (tmp_path / "made").rglob("*") if p.is_file()])
    raw = bytearray(file.read_bytes())
    if raw:
        del raw[dice.randrange(len(raw)) :]
    file.write_bytes(raw)
    try:
        FORMATS[name].read(tmp_path / "made")
    except Exception:
        here.cferry("check", f"{name}/made@{tmp_path}", code=5)


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("UPDATE about SET value = '3' WHERE key = 'pages'", "says 3 at /about/[key=pages]/value"),
        ("DELETE FROM about", "says nothing at /about/[key=pages]/value, where 2 is right"),
        ("DELETE FROM list WHERE leaf = 'note'", "the table list has no row of note"),
        ("INSERT INTO list VALUES ('ghost', '', 1)", "names ghost, which has no bytes"),
        ("UPDATE list SET sum = '0' WHERE leaf = 'world'", "the table says 0 as its sum"),
        ("UPDATE list SET year = 9", "belongs to another slot: it says 9, but here it is 1"),
        ("INSERT INTO list SELECT * FROM list", "the table list names world twice"),
        ("UPDATE list SET year = NULL", "says nothing of the slot"),
        ("ALTER TABLE list RENAME TO lost", "it has no plain table list"),
    ],
)
def test_what_tables_of_one_save_say_of_its_rows(
    here: Den, tmp_path: Path, line: str, told: str
) -> None:
    (tmp_path / "made").mkdir()
    FORMATS["almanac"].write(tmp_path / "made", saves(1, (1, 2)))
    with closing(sqlite3.connect(tmp_path / "made" / "year-1.alm")) as book, book:
        book.execute(line)
    shown = here.cferry("check", f"almanac/made@{tmp_path}", code=5).out
    assert told in shown
    assert "✓ slot 2" in shown


@pytest.mark.parametrize(("name", "file"), [("almanac", "year-1.alm"), ("hamper", "jar-1.hamper")])
def test_a_container_that_cannot_be_read_hides_no_other(
    here: Den, tmp_path: Path, name: str, file: str
) -> None:
    theirs, made = saves(1, (1, 2)), tmp_path / "made"
    made.mkdir()
    FORMATS[name].write(made, theirs)
    plain(tmp_path, saves(2, (5,)))
    cut = (made / file).read_bytes()[:50]
    (made / file).write_bytes(cut)
    there, here_ = f"{name}/made@{tmp_path}", f"{name}/plain@{tmp_path}"
    shown = here.cferry("slots", there, "--json").data[0]
    assert [save["slot"] for save in shown["saves"]] == [2]
    assert shown["problems"][0].startswith(f"{file}: ")
    here.cferry("check", there, code=5)
    kept = here.cferry("backup", there, "--json").data[0]
    assert kept["files"] == 2  # the broken one, too
    assert "nothing is put into it" in here.cferry("cross", f"{here_}:5", f"{there}:1", code=4).err
    assert file in here.cferry("cross", there, here_, "--yes").out
    assert read_plain(tmp_path)[2] == theirs[2]
    here.cferry("cross", f"{here_}:5", f"{there}:3", "--yes")
    assert (made / file).read_bytes() == cut
    (made / file).unlink()
    assert FORMATS[name].read(made) == {2: theirs[2], 3: saves(2, (5,))[5]}


def test_a_database_is_made_as_its_recipe_says_or_not_at_all(here: Den, tmp_path: Path) -> None:
    (tmp_path / "made").mkdir()
    plain(tmp_path, saves(2, (5,)))
    text = (RECIPES / "almanac.toml").read_text("utf-8")
    new = text[text.index("[editions.made.format.new]") : text.index("[layers]")]
    route = ("cross", f"almanac/plain@{tmp_path}", f"almanac/made@{tmp_path}", "--yes")
    here.recipe("almanac", text.replace(new, ""))
    assert "does not say how one is made" in here.cferry(*route, code=4).err
    for wrong, told in (
        (new.replace('worth = "integer"', 'other = "real"'), "it lacks the column worth"),
        (new.replace("tables.list", "tables.lost"), "it lacks the table list"),
        (new.replace("rows.about", "rows.abut"), "no such table; there are about, list, pages"),
        (new.replace('key = "by"', 'kee = "by"'), "there is no such column; there are key, value"),
        (re.sub("key = (.*), value =", r"leaf = \1, sum =", new).replace("rows.about", "rows.list"),
         "a new database has no row in about"),
    ):  # fmt: skip
        file = here.recipe("almanac", text.replace(new, wrong))
        assert told in here.cferry("recipe", "check", file, code=5).err
    for wrong, told in (
        ("each = true\n", "`new` is for a database for each save"),
        ('file = "year-*.alm"', "one `*` can stand"),
        ("[key=bytes]/value", "a table, a row and a column"),
        ('what = "count"', "there is no `stamp`"),
        ("beside.list", "that is the table of the bytes itself"),
        ("sums.sum", "that column is something else already"),
    ):
        other = {"each = true\n": "", 'file = "year-*.alm"': 'file = "y*-*.alm"',
                 "[key=bytes]/value": "value", 'what = "count"': 'what = "newest"',
                 "beside.list": "beside.pages", "sums.sum": "sums.leaf"}  # fmt: skip
        file = here.recipe("almanac", text.replace(wrong, other[wrong]))
        assert told in here.cferry("recipe", "check", file, code=5).err
    text = (RECIPES / "hamper.toml").read_text("utf-8")
    file = here.recipe("hamper", text.replace("each = true,", "each = true, nested = true,"))
    assert "and none within them" in here.cferry("recipe", "check", file, code=5).err


SECRET = """\
recipe = 1
[game]
id = "secret"
title = "Secret"
[pieces]
note = { needed = true, holds = "json" }
[facts]
day = { label = "Day", from = "note", at = "/day" }
[editions.plain]
title = "plain"
berths = [{ on = "any", under = "given", path = "plain" }]
fields.slot = { type = "number" }
files = [{ role = "note", path = "{slot}.note" }]
[editions.made]
title = "encrypted"
berths = [{ on = "any", under = "given", path = "made" }]
fields.slot = { type = "number" }
files = [{ role = "note", path = "{slot}.bin", layers = ["locked"] }]
[layers]
locked = [{ kind = "aes", mode = "gcm", key = { given = "key" } }]
"""


@pytest.fixture
def secret(here: Den, tmp_path: Path) -> Den:
    here.recipe("secret", SECRET)
    (tmp_path / "plain").mkdir()
    (tmp_path / "made").mkdir()
    (tmp_path / "plain" / "1.note").write_text('{"day": 31}')
    return here


def test_a_key_that_only_the_user_knows(secret: Den, tmp_path: Path) -> None:
    key, place = "00112233445566778899aabbccddeeff", f"@{tmp_path}"
    route = (f"secret/plain{place}", f"secret/made{place}", "--yes")
    assert "--give key=HEX" in secret.cferry("cross", *route, code=2).err
    secret.cferry("cross", *route, "--give", f"key={key}")
    assert b"day" not in (tmp_path / "made" / "1.bin").read_bytes()
    told = secret.cferry("slots", route[1]).out
    assert "1.bin: This save is encrypted, and its key is not known." in told
    assert "--give key=HEX" in told
    assert "--give key=HEX" in secret.cferry("check", route[1], code=2).err
    slots = secret.cferry("slots", route[1], "--json", "--give", f"key={key}").data
    assert slots[0]["saves"][0]["facts"] == {"day": 31}
    secret.cferry("check", route[1], "--give", f"key={key}")
    secret.cferry("check", route[1], "--give", f"key={key[::-1]}", code=5)


def test_a_key_need_not_stand_in_the_list_of_processes(secret: Den, tmp_path: Path) -> None:
    key, file = "00112233445566778899aabbccddeeff", tmp_path / "key.txt"
    file.write_text(key + "\n")
    route = (f"secret/plain@{tmp_path}", f"secret/made@{tmp_path}")
    shown = secret.cferry("cross", *route, "--dry-run", "--give", f"key={key}").out
    assert key not in shown
    assert shown.rstrip().endswith("--give key --yes")
    secret.cferry("cross", *route, "--yes", "--give-from", f"key={file}")
    secret.cferry("check", route[1], "--give", f"key={key}")
    with file.open("rb") as opened:
        secret.cferry("check", route[1], "--give-from", "key=-", stdin=opened)
    handle = os.open(file, os.O_RDONLY)
    secret.cferry("check", route[1], "--give-from", f"key=fd:{handle}", pass_fds=[handle])
    os.close(handle)
    if can_fork():
        code, shown = at_terminal(secret, "check", route[1], "--give", "key", answers=[key])
        assert (code, key in shown) == (0, False)
    for wrong in (("--give", f"{key}!"), ("--give", f"={key}"), ("--give", f"0{key}"),
                  ("--give", "key"), ("--give-from", f"key={tmp_path / 'no'}"),
                  ("--give-from", key), ("--give-from", "key=fd:99")):  # fmt: skip
        said = secret.cferry("check", route[1], *wrong, code=2).err
        assert key not in said


def test_a_backup_needs_no_key(secret: Den, tmp_path: Path) -> None:
    place = f"@{tmp_path}"
    secret.cferry("cross", f"secret/plain{place}", f"secret/made{place}", "--yes",
                "--give", f"key={'0' * 32}")  # fmt: skip
    file = tmp_path / "made" / "1.bin"
    kept = file.read_bytes()
    secret.cferry("backup", f"secret/made{place}")
    file.write_bytes(b"overwritten")
    told = secret.cferry("restore", "latest", "--yes", "--replace").out
    assert "the same progress" not in told  # nobody can know that
    assert file.read_bytes() == kept


TURNS = (
    SECRET[: SECRET.index("[facts]")]
    + """\
guest = { each = "player" }
[facts]
name = { label = "Name", from = "note", at = "/name" }
time = { label = "Played", from = "note", at = "/time", unit = "s" }
[handover]
guest = "guest"
says = { piece = "note", at = "/players/0" }
lists = [{ piece = "note", at = "/players/*" }]
[editions.plain]
title = "plain"
berths = [{ on = "any", under = "given", path = "plain" }]
fields = { slot = { type = "number" }, player = { type = "word" } }
files = [
  { role = "note", path = "{slot}.note" },
  { role = "guest", path = "{slot}-{player}.guest" },
]
[editions.made]
title = "encrypted"
berths = [{ on = "any", under = "given", path = "made" }]
newest = "turn"
fields = { slot = { type = "number" }, turn = { type = "number" }, player = { type = "word" } }
files = [
  { role = "note", path = "{slot}.{turn}.bin", layers = ["locked"] },
  { role = "guest", path = "{slot}.{turn}.{player}.guest", layers = ["locked"] },
]
"""
    + SECRET[SECRET.index("[layers]") :]
)


def test_what_changes_encrypted_saves_takes_their_key(secret: Den, tmp_path: Path) -> None:
    secret.recipe("secret", TURNS)
    give, made = ("--give", f"key={'5' * 32}"), tmp_path / "made"
    plain, there = f"secret/plain@{tmp_path}", f"secret/made@{tmp_path}"

    def carry(seconds: int) -> None:
        told = {"name": "Loft", "time": seconds, "players": ["Isa", "Wren"]}
        (tmp_path / "plain" / "1.note").write_text(json.dumps(told))
        for player in told["players"]:  # type: ignore[attr-defined]
            (tmp_path / "plain" / f"1-{player}.guest").write_text(player)
        secret.cferry("cross", plain, there, "--yes", *give)

    def shown() -> dict[str, Any]:
        facts: dict[str, Any] = secret.cferry("slots", there, "--json", *give).data[0]["saves"][0]
        return facts

    # The game writes an emptier generation in front.
    carry(7)
    files = {path.name: path.read_bytes() for path in made.iterdir()}
    secret.cferry("undo", "--yes")
    carry(9000)
    for name, data in files.items():
        (made / name.replace("1.1.", "1.2.")).write_bytes(data)
    assert shown()["facts"]["time"] == 7
    assert "--give key=HEX" in secret.cferry("tidy", there, "--yes", code=2).err
    secret.cferry("tidy", there, "--yes", *give)
    assert shown()["facts"]["time"] == 9000
    # A slot comes back out of a backup.
    secret.cferry("backup", there)
    before = shown()
    (made / "1.1.bin").write_bytes(files["1.1.bin"])
    restore = ("restore", "latest", "--slot", "1", "--yes", "--replace")
    assert "--give key=HEX" in secret.cferry(*restore, code=2).err
    assert "only a key" in secret.cferry(*restore, *give, "--give", "slot=3", code=2).err
    secret.cferry(*restore, *give)
    assert shown()["facts"] == before["facts"]
    # And the guest takes the host's place.
    over = ("handover", f"{there}:1", "--to", "Wren", "-o", str(tmp_path / "over.zip"))
    assert "--give key=HEX" in secret.cferry(*over, code=2).err
    told = secret.cferry(*over, "--here", "--yes", *give).out
    assert "--take over.zip --give key=HEX" in told
    assert give[1] not in told
    made.rename(tmp_path / "mine")
    made.mkdir()
    take = ("handover", there, "--take", str(tmp_path / "over.zip"), "--yes")
    assert "If it is encrypted: --give key=HEX" in secret.cferry(*take, code=5).err
    secret.cferry(*take, *give)
    assert shown()["facts"] == before["facts"]
    secret.cferry("cross", there, f"{plain}:2", "--yes", *give)
    assert json.loads((tmp_path / "plain" / "2.note").read_text())["players"][0] == "Wren"


KEPT = SECRET.replace(
    'note = { needed = true, holds = "json" }',
    'note = { needed = true, holds = "json", opens = ["locked"] }',
).replace(', layers = ["locked"]', "")  # and the fact is read by the piece's own `opens`


def test_a_key_opens_a_piece_that_stays_wrapped(secret: Den, tmp_path: Path) -> None:
    key, place = "00112233445566778899aabbccddeeff", f"@{tmp_path}"
    give = ("--give", f"key={key}")
    secret.cferry("cross", f"secret/plain{place}", f"secret/made{place}", "--yes", *give)
    (tmp_path / "plain" / "1.note").unlink()
    secret.recipe("secret", KEPT)  # from here on, both editions keep it as it is
    made, plain = f"secret/made{place}", f"secret/plain{place}"
    assert "--give key=HEX" in secret.cferry("slots", made).out
    told = secret.cferry("slots", made, "--json", *give).data
    assert told[0]["saves"][0]["facts"] == {"day": 31}
    assert "--give key=HEX" in secret.cferry("check", made, code=2).err
    secret.cferry("check", made, *give)
    secret.cferry("check", made, "--give", f"key={key[::-1]}", code=5)
    assert "--give key=HEX" in secret.cferry("cross", made, plain, "--yes", code=2).err
    secret.cferry("cross", made, plain, "--yes", *give)
    assert (tmp_path / "plain" / "1.note").read_bytes() == (
        tmp_path / "made" / "1.bin"
    ).read_bytes()  # fmt: skip
    assert "--give key=" in secret.cferry("explain", "secret/made").out


def test_a_value_in_the_tree_is_read_and_edited(tmp_path: Path) -> None:
    """The identity inside changes, and of the rest only the checksum."""
    import tomllib

    text = (RECIPES / "moth-lantern.toml").read_text("utf-8")
    layouts: dict[str, Any] = tomllib.loads(text)["layouts"]
    front = compile_layouts({k: convert(v, LayoutSpec) for k, v in layouts.items()})["front"]
    Moth.write(tmp_path, saves(1, (3,)))
    raw = (tmp_path / "3.mlp").read_bytes()
    value, end = front.read(raw)
    path = "/leaves/0/value/branch/leaves/0/value/owner"
    assert value_at(value, path) == Moth.OWNER
    assert value_at(value, "/leaves/0/value/branch/leaves/1/value/number") == -3
    assert value_at(value, "/leaves/1/value/raw") == b"\1\2\3"
    other = "00112233-4455-6677-8899-aabbccddeeff"
    edited = front.edit(raw[:end], path, other)
    at = raw.index(bytes.fromhex(Moth.OWNER.replace("-", "")))
    assert edited[:at] == raw[:at]
    assert edited[at : at + 16].hex() == other.replace("-", "")
    assert edited[at + 16 : -4] == raw[at + 16 : end - 4]
    assert front.edit(edited, path, Moth.OWNER) == raw[:end]
    shutil.rmtree(tmp_path)
