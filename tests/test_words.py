"""What is said is so: steps, plans, names without slots, addresses, faults that nobody foresaw."""

from __future__ import annotations

import os
import re
import shutil
import sys
import time
import zipfile
from pathlib import Path

import pytest

from clever_ferry.moving.zip_times import stamp_of, stamped
from clever_ferry_demo.world import TERN_ACCOUNT, lay_finch
from tests.conftest import Den, run_module, state

GIVEN = """
recipe = 1
game = { id = "plots", title = "Plots" }
pieces.world = { needed = true }
[editions.server]
title = "Plots server"
berths = [{ on = "any", under = "given", path = "u_{account}" }]
fields.account = { type = "digits" }
fields.name = { type = "text", without = "0123456789" }
fields.pen = { type = "hex", case = "upper", on_arrival = ["kept", "made"] }
files = [{ role = "world", path = "{name}-{pen}.plot" }]
[editions.home]
title = "Plots at home"
berths = [{ on = "any", under = "given", path = "saves" }]
fields.slot = { type = "number", base = 16, width = 2, case = "upper", first = 0, most = 11 }
files = [{ role = "world", path = "plot{slot}.bin" }]
"""


def test_a_fault_that_nobody_foresaw_is_told_without_a_traceback(den: Den) -> None:
    """A recipe's reader is broken on purpose, as no input is known that gets through."""
    broken = (
        "import clever_ferry.recipes.facts as f\n"
        "def read(*a, **k): raise ZeroDivisionError('oh')\n"
        "f.FactReader.read = read\n"
        "from clever_ferry.cli.start import run\nrun()\n"
    )
    script = den.top / "broken.py"
    script.write_text(broken, "utf-8")
    import subprocess

    where = [str(Path(__file__).parents[1] / "src"), os.environ.get("PYTHONPATH", "")]
    env = {**os.environ, **den.env, "PYTHONPATH": os.pathsep.join(where)}
    done = subprocess.run(
        [sys.executable, script, "slots", "saltglass/depot"],
        capture_output=True, text=True, env=env, check=False,
    )  # fmt: skip
    assert done.returncode == 1
    assert "nobody foresaw: ZeroDivisionError: oh" in done.stderr
    assert "No save was changed." in done.stderr
    assert "Traceback" not in done.stderr
    (kept,) = (den.home / "faults").iterdir()
    assert "ZeroDivisionError" in kept.read_text("utf-8")


def test_an_ini_that_the_parser_chokes_on_is_one_damaged_save(den: Den, tmp_path: Path) -> None:
    worlds = tmp_path / "worlds"
    for name in ("fine", "odd"):
        (worlds / name).mkdir(parents=True)
        for file in ("map.sqlite", "env_meta.txt"):
            (worlds / name / file).write_bytes(b"")
        (worlds / name / "world.mt").write_text("gameid = minimal\n", "utf-8")
    (worlds / "odd" / "world.mt").write_text("gameid\n    indented\n", "utf-8")
    told = den.cferry("slots", f"minetest/server@{worlds}", "--json", "--sort", "name").data[0]
    assert [save["name"] for save in told["saves"]] == ["fine", "odd"]
    assert "indented below a key" in told["saves"][1]["problems"][0]
    den.cferry("backup", f"minetest/server@{worlds}")


def plots(den: Den, tmp_path: Path) -> Path:
    den.recipe("plots", GIVEN)
    for account in ("11", "22"):
        (tmp_path / "srv" / f"u_{account}").mkdir(parents=True)
        (tmp_path / "srv" / f"u_{account}" / "Moor-0A.plot").write_bytes(account.encode())
    (tmp_path / "home" / "saves").mkdir(parents=True)
    return tmp_path


def test_places_below_a_given_folder_are_found_by_their_pattern(den: Den, tmp_path: Path) -> None:
    here = plots(den, tmp_path)
    two = den.cferry("slots", f"plots/server@{here}/srv", code=2).err
    assert f"plots/server/11@{here}/srv" in two
    one = den.cferry("slots", f"plots/server/22@{here}/srv", "--json").data[0]
    assert one["folder"] == str(here / "srv" / "u_22")
    den.cferry("slots", f"plots/server@{here}/srv", "--account", "22")
    # The folder itself may be named as well; what is not there is not made up.
    itself = den.cferry("slots", f"plots/server@{here}/srv/u_11", "--json").data[0]
    assert itself["folder"] == str(here / "srv" / "u_11")
    assert itself["fields"] == {"account": "11"}
    missing = den.cferry("cross", f"plots/server/11@{here}/srv", f"plots/server@{here}/home",
                         "--yes", code=3).err  # fmt: skip
    assert "u_{account}" in missing
    assert not (here / "home" / "u_{account}").exists()
    assert not (here / "u_{account}").exists()
    home = den.cferry("slots", f"plots/home@{here}/home/saves", "--json", code=3).data[0]
    assert home["folder"] == str(here / "home" / "saves")


def test_a_box_below_a_named_folder_is_found_by_its_account(den: Den, tmp_path: Path) -> None:
    text = den.cferry("recipe", "show", "saltglass").out.replace('id = "saltglass"', 'id = "sent"')
    place = 'on = "windows", under = "local-data", path = "TernArcade/Crates/{account}/saltglass"'
    den.recipe("sent", text.replace(place, 'on = "any", under = "given", path = "u_{account}/box"'))
    there = tmp_path / "srv" / f"u_{TERN_ACCOUNT}" / "box"
    shutil.copytree(den.tern, there)
    where = f"sent/tern@{tmp_path / 'srv'}"
    data = den.cferry("slots", where, "--json").data
    assert [save["name"] for save in data[0]["saves"]] == ["Saltmarsh", "Heron Point"]
    den.cferry("cross", f"{where}:2", f"{where}:7", "--yes")
    checked = den.cferry("check", f"{where}:7", "--json").data["saves"][0]["established"]
    assert {one["established"] for one in checked} == {"verified"}
    den.cferry("undo", "--yes")
    assert state(there) == state(den.tern)


def test_numbers_in_upper_case_and_from_zero_are_read_and_written(den: Den, tmp_path: Path) -> None:
    here = plots(den, tmp_path)
    (here / "home/saves/plot0A.bin").write_bytes(b"ten")
    (here / "home/saves/plot0C.bin").write_bytes(b"above")
    data = den.cferry("slots", f"plots/home@{here}/home", "--sort", "slot", "--json").data[0]
    assert [save["slot"] for save in data["saves"]] == [11, 13]  # what lies above is not hidden
    told = den.cferry("check", f"plots/home@{here}/home", code=5).out
    assert "slot 13 (slot 13) is beyond the 11" in told
    assert "Each save by itself is complete; " in told
    home = f"plots/home@{here}/home"
    den.cferry("cross", f"{home}:11", f"{home}:1", "--yes")
    assert (here / "home/saves/plot00.bin").read_bytes() == b"ten"
    den.cferry("cross", f"{home}:1", f"{home}:11", "--yes", "--replace")
    assert sorted(p.name for p in (here / "home/saves").iterdir()) == [
        "plot00.bin", "plot0A.bin", "plot0C.bin",
    ]  # fmt: skip
    refused = den.cferry("cross", f"{home}:1", f"{home}:12", "--yes", code=4).err
    assert "a number from 1 to 11" in refused


def test_saves_without_slots_are_named_and_not_numbered(den: Den, tmp_path: Path) -> None:
    here = plots(den, tmp_path)
    (here / "home/saves/plot00.bin").write_bytes(b"x")
    one, other = (f"plots/server/{account}@{here}/srv" for account in ("11", "22"))
    told = den.cferry("slots", one).out
    assert "slot 1" not in told
    assert "Moor" in told
    assert "have no slots" in den.cferry("cross", one, f"{other}:1", "--yes", code=2).err
    assert "of that name already" in den.cferry("cross", one, f"{other}:new", "--yes", code=4).err


def test_a_dry_run_shows_the_very_names_that_are_then_written(den: Den) -> None:
    route = ("cross", "saltglass/tern:2", "saltglass/depot:5")
    shown = den.cferry(*route, "--dry-run", "--json").data["plan"]["moves"][0]
    assert den.cferry(*route, "--dry-run", "--json").data["plan"]["moves"][0] == shown
    proved = den.cferry(*route, "--yes", "--json").data["proofs"][0]
    assert all(fact["same"] for fact in proved["facts"])
    (folder,) = den.depot.glob("voyage-04-*")
    there = {p.relative_to(den.depot).as_posix() for p in folder.rglob("*") if p.is_file()}
    assert there == {one["to"] for one in shown["renamed"]}
    other = den.cferry(*route[:2], "saltglass/depot:6", "--dry-run", "--json").data["plan"]
    assert other["moves"][0]["fields"]["world"] != shown["fields"]["world"]


def test_what_is_no_newer_is_not_called_so(den: Den) -> None:
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes")
    now = time.time_ns()
    for folder, ahead in ((den.depot, 10**9), (den.tern, 0)):
        for file in (path for path in folder.rglob("*") if path.is_file()):
            os.utime(file, ns=(now + ahead, now + ahead))
    route = ("cross", "saltglass/depot:5", "saltglass/depot:3", "--dry-run")
    assert "is newer than what you carry" not in den.cferry(*route).out


def test_steps_come_in_order_with_the_device_fetched_first(den: Den, tmp_path: Path) -> None:
    folder = lay_finch(den.top)
    dry = den.cferry("cross", "saltglass/tern:1,2", "saltglass/finch:2,3", "--dry-run").out
    assert f"Copy the folder SALTGLASS from the Finch over the one in {folder}" in dry
    done = den.cferry("cross", "saltglass/tern:1,2", "saltglass/finch:2,3", "--yes").out
    steps = [line.strip() for line in done.splitlines() if line.strip()[:2] in ("1.", "3.", "4.")]
    assert steps[-3:] == [
        f"1. Copy the folder {folder} onto the Finch, over its SALTGLASS.",
        "3. Load slot 2 and look: day, play time and coins must be as above.",
        "4. Load slot 3 and look: day, play time and coins must be as above.",
    ]


def test_a_step_with_a_placeholder_that_nothing_fills_is_refused(den: Den, tmp_path: Path) -> None:
    text = GIVEN.replace('title = "Plots at home"', 'title = "x"\nafter = ["Load {name}."]')
    (tmp_path / "plots.toml").write_text(text, "utf-8")
    told = den.cferry("recipe", "check", tmp_path / "plots.toml", code=5).err
    assert "editions.home.after[1]: nothing fills {name}" in told


@pytest.mark.skipif(sys.platform == "win32", reason="Windows has no such permissions")
def test_new_files_and_folders_follow_the_permissions_of_their_like(den: Den) -> None:
    for path in sorted(den.depot.rglob("*")):
        path.chmod(0o2770 if path.is_dir() else 0o640)
    for path in den.depot.glob("voyage-00-*/*.json"):  # an older one, for which another rule held
        path.chmod(0o600)
        os.utime(path, (0, 0))
        os.utime(path.parent, (0, 0))
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes")
    (new,) = den.depot.glob("voyage-04-*")
    modes = {oct(path.stat().st_mode & 0o7777) for path in [new, *new.rglob("*")]}
    assert modes == {"0o2770", "0o640"}


def test_every_error_has_a_code_of_its_kind_and_the_readme_says_what_it_means() -> None:
    from clever_ferry import errors
    from clever_ferry.cli.exits import CODES

    assert {kind.__name__ for kind in CODES} == set(errors.__all__)
    told = (Path(__file__).parents[1] / "README.md").read_text("utf-8")
    stated = dict(re.findall(r"^\| (\d+) \| (.*) \|$", told, re.MULTILINE))
    assert {str(code) for code in CODES.values()} <= set(stated)
    for kind, words in (("PutBackError", "as it was"), ("HalfDoneError", "Don't start the game"),
                        ("NotMadeError", "a backup"), ("NotProvenError", "put back")):  # fmt: skip
        assert words in stated[str(CODES[getattr(errors, kind)])]


@pytest.mark.skipif(not hasattr(time, "tzset"), reason="this system has one zone for all")
@pytest.mark.parametrize("zone", ["UTC", "America/New_York", "Asia/Kolkata"])
def test_a_file_in_a_zip_has_one_time_whoever_reads_it(
    monkeypatch: pytest.MonkeyPatch, zone: str
) -> None:
    monkeypatch.setenv("TZ", zone)
    time.tzset()
    try:
        stamp = 1_790_000_001 * 10**9
        info = stamped("a", stamp)
        assert stamp_of(info) == stamp
        assert info.date_time[:5] == time.localtime(1_790_000_001)[:5]
        plain = zipfile.ZipInfo("a", info.date_time)  # no UTC time: local, by convention
        assert abs(stamp_of(plain) - stamp) <= 2 * 10**9
        for extra, utc in ((b"UT\5\0\1" + b"\0" * 4, True), (b"UT\5\0\2" + b"\0" * 4, False),
                           (b"UT\5\0\3" + b"\0" * 3, False), (b"UT\4\0\1" + b"\0" * 3, False),
                           (b"XX\1\0\0UT\5\0\1" + b"\0" * 4, True)):  # fmt: skip
            plain.extra = extra  # whose first flag says whether the time of the change stands there
            assert (stamp_of(plain) == 0) == utc
        for beyond in (-(10**18), 10**19):  # years that a zip can't say
            assert stamped("a", beyond).date_time == (1980, 1, 1, 0, 0, 0)
    finally:
        monkeypatch.undo()
        time.tzset()


def test_an_undo_says_what_play_goes_and_how_it_comes_back(den: Den) -> None:
    before = state(den.depot)
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")
    den.game("depot", "play", "--slot", "1", "--days", "2")
    refused = den.cferry("undo", "--yes", code=4).out
    assert "day 33" in den.loads("depot", 1)
    assert "Saltmarsh  Day 33" in refused
    assert "It will be backed up first." in refused
    done = den.cferry("undo", "--yes", "--lose-later-play").out
    assert state(den.depot) == before
    ident = re.search(r"cferry restore (\S+)", done)
    assert ident
    assert "Saltmarsh (Day 33" in done
    listed = den.cferry("backup", "list", "--json").data
    assert [s["facts"]["Day"] for one in listed if one["id"] == ident[1] for s in one["saves"]] == [
        "33"
    ]
    assert "Day 33" in den.cferry("restore", ident[1], "--dry-run").out
    den.cferry("restore", ident[1], "--yes", "--replace")
    assert den.loads("depot", 1).startswith("Saltmarsh, day 33")


def test_what_people_type_leads_to_the_right_form(den: Den, tmp_path: Path) -> None:
    plain = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--dry-run").out
    spoken = den.cferry("cross", "saltglass/tern:2", "to", "saltglass/depot:5", "--dry-run").out
    assert spoken.splitlines()[:-1] == plain.splitlines()[:-1]
    zipped = tmp_path / "mine.zip"
    zipped.write_bytes(b"PK")
    told = den.cferry("cross", zipped, "saltglass/depot", "--yes", code=2).err
    assert f'cferry cross --from-file "{zipped}" saltglass/depot' in told
    assert den.cferry("help", "backup", "list").out == den.cferry("backup", "list", "--help").out
    assert "Commands:" in den.cferry("help").out
    assert "no command 'nil'" in den.cferry("help", "nil", code=2).err


@pytest.mark.parametrize("width", ["44", "56", "60", "66", "100"])
def test_on_a_narrow_terminal_no_word_and_no_address_is_broken(den: Den, width: str) -> None:
    env = {**den.env, "COLUMNS": width}
    wide = {**den.env, "COLUMNS": "200"}
    for command in (["look"], ["slots", "saltglass"], ["pairs", "saltglass/tern",
                    "saltglass/depot"], ["check", "saltglass/tern"]):  # fmt: skip
        narrow = run_module("clever_ferry", *command, env=env).out.split()
        words = set(run_module("clever_ferry", *command, env=wide).out.split())
        broken = [word for word in narrow if word not in words and not set(word) <= set("─…")]
        assert not broken, command


def test_caches_come_last_and_what_is_not_looked_at_is_said(den: Den) -> None:
    documents = den.top / "C/Users/Wren/Documents"
    for number, path in enumerate(("Some Game/save.dat", "Some Game/ShaderCache/a.bin")):
        (documents / path).parent.mkdir(parents=True, exist_ok=True)
        (documents / path).write_bytes(b"x")
        later = time.time_ns() + number * 10**9
        os.utime(documents / path, ns=(later, later))
    folders = den.cferry("look", "--since", "1m", "--json").data["folders"]
    named = [Path(one["folder"]).name for one in folders if "Some Game" in one["folder"]]
    assert named == ["Some Game", "ShaderCache"]


def test_a_file_of_no_recipe_is_looked_into(den: Den, tmp_path: Path) -> None:
    import gzip

    for name, data, said in (
        ("a.gz", gzip.compress(b'{"day": 3}'), "Within, it is JSON with day."),
        ("b.cfg", b"[sound]\nloud = 7\n", "It is INI with sound."),
        ("b.toml", b'[sound]\nloud = "7"\n', "It is TOML with sound."),
        ("b.yml", b"# mine\nsound:\n  loud: 7\n", "It is YAML with sound."),
        ("b.js", b'{"day": 3, // today\n}', "It is commented JSON with day."),
        ("c.txt", b"a poem\nof two lines\n", "It is plain text."),
        ("d.xml", b"<save day='3'/>", "It is XML with save."),
        ("e.bin", bytes(range(64)), "It begins: 00 01 02"),
    ):
        (tmp_path / name).write_bytes(data)
        assert said in den.cferry("look", tmp_path / name).out, name
