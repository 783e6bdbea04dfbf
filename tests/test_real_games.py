"""Open-source games in a fresh home: what they write is found, and what we carry they load."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from clever_ferry.judging.programs import bare_environment
from clever_ferry.judging.running import Limits, Prompt, run
from tests import servers
from tests.conftest import LONG, Den, state

_DEBIANS = f"{os.environ.get('PATH', '')}:/usr/games"
MINETEST = shutil.which("minetestserver", path=_DEBIANS)
ANGBAND = shutil.which("angband", path=_DEBIANS)
CRAWL = shutil.which("crawl", path=_DEBIANS)
SINGULARITY = shutil.which("singularity", path=_DEBIANS)
SIMUTRANS = shutil.which("simutrans", path=_DEBIANS)
SLOW = pytest.mark.long("the game takes long to start at first")


def run_server(home: Path, world: Path, port: int) -> str:
    """Run the server until it listens and stop it as a system does; return its log."""
    log = home / "log.txt"
    with log.open("wb") as out:
        process = subprocess.Popen(
            [MINETEST or "", "--world", world, "--gameid", "minetest", "--port", str(port)],
            env={**os.environ, "HOME": str(home)}, stdout=out, stderr=out,
        )  # fmt: skip
        deadline = time.monotonic() + 600
        while b"listening on" not in log.read_bytes() and time.monotonic() < deadline:
            assert process.poll() is None, log.read_text("utf-8", "replace")
            time.sleep(0.1)
        while not (world / "map.sqlite").exists() and time.monotonic() < deadline:
            time.sleep(0.1)
        time.sleep(2.5)
        process.send_signal(signal.SIGTERM)
        process.wait(30)
    return log.read_text("utf-8", "replace")


@pytest.mark.game
@pytest.mark.skipif(
    MINETEST is None and not os.environ.get("CI"), reason="the Minetest server is not installed"
)
def test_minetest_writes_where_the_recipe_says_and_loads_what_is_carried(
    linux: Callable[..., Den], tmp_path: Path
) -> None:
    here = linux(home="home")
    home = here.top / "home"
    assert "has no saves here" in here.cferry("look", "minetest", code=3).out
    run_server(home, home / ".minetest" / "worlds" / "Gull Rock", 31_731)
    (berth,) = here.cferry("look", "minetest", "--json").data["berths"]
    assert berth["folder"] == str(home / ".minetest" / "worlds")
    (shown,) = here.cferry("slots", "minetest", "--json").data
    (save,) = shown["saves"]
    assert (save["name"], save["facts"]["rules"]) == ("Gull Rock", "minetest")
    assert shown["not_understood"] == []
    written = {p.name for p in (home / ".minetest/worlds/Gull Rock").iterdir()}
    assert {piece["entry"].split("/")[1] for piece in save["pieces"]} == written
    rented = tmp_path / "rented" / "worlds"
    rented.mkdir(parents=True)
    here.cferry("cross", "minetest/linux:Gull Rock", f"minetest/server@{rented}", "--yes")
    before = (rented / "Gull Rock" / "map_meta.txt").read_bytes()
    log = run_server(rented.parent, rented / "Gull Rock", 31_732)
    assert "World at [" in log
    assert "ERROR" not in log
    assert b"seed" in before
    there = f"minetest/server@{rented}"
    here.cferry("loader", "allow", "minetest/server")
    (asked,) = here.cferry("check", there, "--with-game", "--json").data["saves"]
    assert (asked["level"], [one["fact"] for one in asked["game"]["told"]]) == ("loads", ["day"])
    shutil.copytree(rented / "Gull Rock", rented / "Odd")
    config = (rented / "Odd" / "world.mt").read_text("utf-8")
    (rented / "Odd" / "world.mt").write_text(config.replace("gameid = minetest", "gameid = none"))
    told = here.cferry("check", f"{there}:Odd", "--with-game", code=12).out
    assert "could not be found" in told
    shutil.rmtree(rented / "Odd")
    assert (rented / "Gull Rock" / "map_meta.txt").read_bytes() == before
    found = here.cferry("slots", f"minetest/server@{rented}", "--json").data[0]["saves"][0]
    assert found["facts"]["time"] > save["facts"]["time"]


def migrate(world: Path, to: str) -> None:
    """Have the server itself write its players anew: as files, or into its database."""
    command = [MINETEST or "", "--world", str(world), "--migrate-players", to]
    subprocess.run(command, check=True, env={**os.environ, "HOME": str(world)}, timeout=600)


def with_player(world: Path, name: str, *items: str) -> None:
    """Give a world a player who carries something, in the database that its server makes."""
    config = (world / "world.mt").read_text("utf-8")
    (world / "world.mt").write_text(
        config.replace("player_backend = sqlite3", "player_backend = files")
    )
    (world / "players").mkdir()
    lines = ["breath = 10", "hp = 17", f"name = {name}", "pitch = 0", "position = (0,10,0)",
             "version = 1", "yaw = 0", "PlayerArgsEnd", f"List main {len(items)}", "Width 0",
             *items, "EndInventoryList", "EndInventory", ""]  # fmt: skip
    (world / "players" / name).write_text("\n".join(lines))
    migrate(world, "sqlite3")
    shutil.rmtree(world / "players.bak")


@pytest.mark.game
@pytest.mark.skipif(
    (MINETEST is None or not servers.SSHD.exists()) and not os.environ.get("CI"),
    reason="the Minetest server or OpenSSH's is not installed",
)
def test_minetest_is_told_what_to_serve_over_a_link_and_knows_what_was_given_to_a_player(
    linux: Callable[..., Den], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    here = linux(home="home")
    worlds, rented = here.top / "home/.minetest/worlds", tmp_path / "rented"
    run_server(here.top / "home", worlds / "Gull Rock", 31_734)
    with_player(worlds / "Gull Rock", "Wren", "Item default:pick_mese 1 200", "Empty",
                "Item default:torch 12")  # fmt: skip
    shutil.copytree(worlds / "Gull Rock", rented / "Old Bay")
    with_player(rented / "Old Bay", "Isa", "Item default:dirt 9", "Empty", "Empty")
    (rented / "start.sh").write_text(
        f"cd {rented}\n# What is served:\nexec {MINETEST} --gameid minetest --port 31735 "
        '--world "Old Bay"\n'
    )
    monkeypatch.setenv("HOME", str(tmp_path / "user"))
    with servers.sftp(tmp_path / "ssh", tmp_path / "user") as url:
        key = subprocess.check_output(["ssh-keygen", "-lf", tmp_path / "ssh/host.pub"], text=True)
        here.cferry("harbour", "add", "den", f"{url}{rented}", "--trust", key.split()[1])
        told = here.cferry("cross", "minetest/linux:Gull Rock", "minetest/server@den", "--yes").out
        assert "Told in start.sh" in told
        given = ("--part", "belongings:owner=Wren,as=replace", "--owner", "Wren=Isa", "--yes")
        grafted = here.cferry("graft", "minetest/linux:Gull Rock", "minetest/server@den:Old Bay",
                              *given, "--json").data  # fmt: skip
    assert [(one["name"], one["go"], one["come"]) for one in grafted["tables"]] == [
        ("inventories", 1, 1), ("items", 3, 3),
    ]  # fmt: skip
    assert "# What is served:\nexec" in (rented / "start.sh").read_text("utf-8")
    log = rented / "log"
    with log.open("wb") as out:
        server = subprocess.Popen(["sh", rented / "start.sh"], stdout=out, stderr=out)
        deadline = time.monotonic() + 600
        while b"listening on" not in log.read_bytes() and time.monotonic() < deadline:
            assert server.poll() is None, log.read_text("utf-8", "replace")
            time.sleep(0.1)
        server.send_signal(signal.SIGTERM)
        server.wait(30)
    assert "Gull Rock" in log.read_text("utf-8", "replace")
    migrate(rented / "Old Bay", "files")
    isa = (rented / "Old Bay/players/Isa").read_text("utf-8")
    assert "Item default:pick_mese 1 200\nEmpty\nItem default:torch 12\n" in isa
    assert "default:dirt" not in isa
    assert "hp = 17" in isa
    assert "torch 12" in (rented / "Old Bay/players/Wren").read_text("utf-8")  # left alone


def play(scratch: Path, command: list[str], *keys: Prompt) -> str:
    """Run a console game at a terminal of its own, with its home in a folder; return its words."""
    limits = Limits(600, 4 << 30)
    environment = bare_environment(scratch, {})
    return run(command, environment, scratch, limits, prompts=keys, terminal=True).text


NEW_CRAWL = ["-name", "Wren", "-species", "mi", "-background", "be"]


@pytest.mark.game
@pytest.mark.skipif(CRAWL is None and not os.environ.get("CI"), reason="Crawl is not installed")
@pytest.mark.skipif(sys.platform == "win32", reason="needs a Unix terminal")
@SLOW
def test_crawl_writes_where_the_recipe_says_and_loads_what_is_carried(
    linux: Callable[..., Den], tmp_path: Path
) -> None:
    here = linux(home="home")
    begun = Prompt("choice of weapons", 1, ("a", "5", "S", "y", ""))
    assert "Minotaur" in play(here.top, [CRAWL or "", *NEW_CRAWL], begun)
    (berth,) = here.cferry("look", "crawl", "--json").data["berths"]
    assert (berth["address"], berth["saves"]) == ("crawl/linux", 1)
    (shown,) = here.cferry("slots", "crawl", "--json").data
    assert [one["name"] for one in shown["saves"]] == ["Wren"]
    assert here.cferry("check", "crawl/linux").code == 0
    saves = here.top / "home" / ".crawl" / "saves"
    raw = (saves / "Wren.cs").read_bytes()
    for name, data in (("Cut", raw[: len(raw) // 2]), ("Newer", raw[:4] + b"\x09" + raw[5:]),
                       ("Other", b"PK\3\4" + raw[4:])):  # fmt: skip
        (saves / f"{name}.cs").write_bytes(data)
    here.cferry("loader", "allow", "crawl/linux")
    asked = here.cferry("check", "crawl/linux", "--with-game", "--json", code=12).data["saves"]
    assert {one["name"]: one["level"] == "loads" for one in asked} == {
        "Cut": False, "Newer": False, "Other": False, "Wren": True,
    }  # fmt: skip
    for name in ("Cut", "Newer", "Other"):
        (saves / f"{name}.cs").unlink()
    theirs = tmp_path / "friend" / "home" / ".crawl" / "saves"
    theirs.mkdir(parents=True)
    for cache in ("des", "db"):  # what the game would make anew for half a minute
        shutil.copytree(saves / cache, theirs / cache)
    before = state(saves)
    here.cferry("cross", "crawl/linux:Wren", f"crawl/linux@{theirs}", "--yes")
    assert state(saves) == before
    welcome = Prompt("Welcome back, Wren", 1, ("S", "y", ""))
    assert "Welcome back, Wren" in play(tmp_path / "friend", [CRAWL or "", *NEW_CRAWL], welcome)


@pytest.mark.game
@pytest.mark.skipif(ANGBAND is None and not os.environ.get("CI"), reason="no Angband")
@pytest.mark.skipif(sys.platform == "win32", reason="needs a Unix terminal")
@SLOW
def test_angband_loads_what_is_carried_and_damage_is_seen_before_it_is_asked(
    linux: Callable[..., Den], tmp_path: Path
) -> None:
    here = linux(home="home")
    saves = here.top / "saves"
    for name in ("saves", "user", "apex"):
        (here.top / name).mkdir()
    folders = [f"-dsave={saves}", f"-duser={here.top}/user", f"-dapex={here.top}/apex"]
    keys = [Prompt("", 1, ("",))] * 8 + [Prompt("", 1, (one,)) for one in "\x1b\x1b\x18\r\x1b"]
    play(here.top, [ANGBAND or "", *folders, "-mgcu", "-uWren"], *keys)
    raw = (saves / "Wren").read_bytes()
    bent, at = bytearray(raw), raw.index(b"player\0\0\0")
    bent[at + 200] ^= 1
    newer = raw[: at + 16] + b"\x63" + raw[at + 17 :]
    for name, data in (("Cut", raw[:9000]), ("Bent", bent), ("Other", b"OTTX" + raw[4:]),
                       ("Newer", newer)):  # fmt: skip
        (saves / name).write_bytes(data)
    where = f"angband/folder@{saves}"
    here.cferry("loader", "allow", "angband/folder")
    found = here.cferry("check", where, "--with-game", "--json", code=5).data["saves"]
    assert {one["name"]: (one["level"], one["game"]["verdict"]) for one in found} == {
        "Wren": ("loads", "loads"), "Newer": ("fits", "refused"), "Cut": (None, "not asked"),
        "Bent": (None, "not asked"), "Other": (None, "not asked"),
    }  # fmt: skip
    (tmp_path / "there").mkdir()
    there = f"angband/folder@{tmp_path / 'there'}"
    here.cferry("cross", f"{where}:Wren", there, "--yes", "--with-game")
    assert (tmp_path / "there" / "Wren").read_bytes() == raw


LOAD = """
import os, sys
sys.argv = ["singularity"]
from singularity.code import dirs
dirs.create_directories(os.environ["WHERE"] == "folder")
if os.environ["WHERE"] == "folder":
    dirs.read_dirs["saves"] = [os.path.join(os.environ["HOME"], "saves")]
from singularity.code import data, g, i18n, savegame
i18n.set_language()
data.reload_all()
if os.environ["WHERE"] == "new":
    g.new_game("normal")
    g.pl.give_time(86_400, midnight_stop=False)
    savegame.create_savegame("Quiet Loft")
for save in savegame.get_savegames():
    savegame.load_savegame(save)
    told = save.name, save.version, g.pl.raw_sec, g.pl.difficulty.id, int(g.pl.cash)
    print("loaded", *told, sep="|")
"""


def loads(home: Path, where: str) -> list[list[str]]:
    """Have the game's own reader load all saves; return what it says of each."""
    done = subprocess.run(
        ["/usr/bin/python3", "-c", LOAD], capture_output=True, encoding="utf-8", check=False,
        env={"HOME": str(home), "WHERE": where, "SDL_VIDEODRIVER": "dummy",
             "SDL_AUDIODRIVER": "dummy", "PATH": _DEBIANS}, timeout=1200,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return [line.split("|")[1:] for line in done.stdout.splitlines() if line.startswith("loaded")]


@pytest.mark.game
@pytest.mark.skipif(
    SINGULARITY is None and not os.environ.get("CI"), reason="Singularity is not installed"
)
def test_singularity_loads_what_is_carried_and_what_was_changed_in_one_place(
    linux: Callable[..., Den], tmp_path: Path
) -> None:
    assert SINGULARITY is not None, "Singularity must be installed where CI runs"
    here = linux(**{"home": "home", "xdg-data": "home/.local/share"})
    ((_, version, time_, level, cash),) = loads(here.top / "home", "new")
    (save,) = here.cferry("slots", "singularity", "--json").data[0]["saves"]
    facts = save["facts"]
    assert (save["name"], facts["difficulty"], facts["version"]) == ("Quiet Loft", level, 101)
    assert (str(facts["time"]), str(facts["cash"]), version) == (time_, cash, "1.00")
    (folder := tmp_path / "game" / "saves").mkdir(parents=True)
    there = f"singularity/folder@{folder.parent}"
    here.cferry("cross", "singularity/linux:Quiet Loft", f"{there}:Loud Loft", "--yes")
    assert loads(folder.parent, "folder") == [["Loud Loft", version, time_, level, cash]]
    apart = tmp_path / "apart"
    here.cferry("unbox", folder / "Loud Loft.s2", "--as", "singularity:packed", "-o", apart)
    (piece,) = (apart / "pieces").iterdir()
    piece.write_text(
        piece.read_text("utf-8").replace(f'"cash": {cash}', '"cash": 4321', 1), "utf-8"
    )
    here.cferry("box", apart, "-o", folder / "Changed.s2")
    told = here.cferry("compare", f"{there}:Loud Loft", f"{there}:Changed", "--json", code=11).data
    assert [(one["what"], one["second"]) for one in told["facts"]] == [("Cash", "4,321")]
    assert [(one["name"], one["first"], one["same"]) for one in told["tables"]] == [
        ("groups", 4, 4), ("techs", 57, 57),
    ]  # fmt: skip
    found = {name: rest for name, *rest in loads(folder.parent, "folder")}
    assert found["Changed"] == [version, time_, level, "4321"]
    before = state(here.top / "home" / ".local")
    here.cferry("cross", f"{there}:Changed", "singularity/linux:Quiet Loft", "--yes", "--replace")
    assert loads(here.top / "home", "there") == [["Quiet Loft", version, time_, level, "4321"]]
    here.cferry("undo", "--yes")
    assert state(here.top / "home" / ".local") == before


def run_simutrans(home: Path, *more: str) -> str:
    """Have the game load a save and end, upon which it saves; return when that save was, in it."""
    log = home / "log.txt"
    own = {"HOME": str(home), "SDL_VIDEODRIVER": "dummy", "SDL_AUDIODRIVER": "dummy"}
    with log.open("wb") as out:
        process = subprocess.Popen(
            [SIMUTRANS or "", "-nosound", "-nomidi", "-objects", "pak/", "-debug", "3", *more],
            env={**os.environ, **own}, stdout=out, stderr=out,
        )  # fmt: skip
        deadline = time.monotonic() + 600
        while (told := log.read_bytes().partition(b"loaded savegame from ")[2]).count(b",") < 2:
            assert process.poll() is None, log.read_text("utf-8", "replace")[-2000:]
            assert time.monotonic() < deadline
            time.sleep(0.1)
        process.send_signal(signal.SIGTERM)
        process.wait(600)
    return told.partition(b",")[0].decode()


@SLOW
@pytest.mark.game
@pytest.mark.skipif(
    SIMUTRANS is None and not os.environ.get("CI"), reason="Simutrans is not installed"
)
def test_simutrans_loads_what_is_carried_and_what_was_changed_in_one_place(
    linux: Callable[..., Den], tmp_path: Path
) -> None:
    here = linux(home="home")
    own = here.top / "home" / ".simutrans"
    (own / "save").mkdir(parents=True)
    (own / "simuconf.tab").write_text("saveformat = xml_zipped\nautosaveformat = xml_zipped\n"
                                      "reload_and_save_on_quit = 1\n")  # fmt: skip
    scenario = "/usr/share/games/simutrans/pak/scenario/millionaire/millionaire.sve"
    shutil.copy(scenario, own / "save")
    assert run_simutrans(own.parent, "-load", "millionaire") == "0/1945"
    (own / "autosave-pak.sve").rename(own / "save" / "Mine.sve")
    shown = here.cferry("slots", "simutrans", "--json").data[0]["saves"]
    facts = {save["name"]: save["facts"] for save in shown}
    assert (facts["Mine"]["year"], facts["Mine"]["objects"]) == ("1945", "pak")
    assert facts["millionaire"].keys() == {"name"}  # the game's own bytes
    assert all("are not known: what form" in note for save in shown for note in save["notes"])
    counted = (own.parent / "log.txt").read_text("utf-8", "replace")
    factories = here.cferry("tables", "simutrans/linux:Mine", "factories", "--json").data["tables"][
        0
    ]
    assert f"\t{factories['count']} factories loaded" in counted  # as the game says
    assert factories["rows"][0] == [73, 101]
    server = tmp_path / "server" / ".simutrans"
    server.mkdir(parents=True)
    there = f"simutrans/server@{server}"
    here.cferry("cross", "simutrans/linux:Mine", there, "--yes", "--give", "port=13991")
    packed = server / "server13991-network.sve"
    assert packed.read_bytes() == (own / "save" / "Mine.sve").read_bytes()
    assert run_simutrans(server.parent, "-server", "13991") == "0/1945"
    asking = [("server", there), *([("linux", "simutrans/linux:Mine")] if LONG else [])]
    for edition, where in asking:
        here.cferry("loader", "allow", f"simutrans/{edition}")
        (asked,) = here.cferry("check", where, "--with-game", "--json").data["saves"]
        assert (asked["level"], [one["theirs"] for one in asked["game"]["told"]]) == (
            "loads", ["1945", "0"],
        )  # fmt: skip
    apart = tmp_path / "apart"
    here.cferry("unbox", own / "save" / "Mine.sve", "--as", "simutrans:packed", "-o", apart)
    (piece,) = (apart / "pieces").iterdir()
    before, sign, rest = piece.read_bytes().partition(b"</simrand>")
    piece.write_bytes(before + sign + rest.replace(b"<i32>1945</i32>", b"<i32>1951</i32>", 1))
    here.cferry("box", apart, "-o", own / "save" / "Later.sve")
    here.cferry("cross", "simutrans/linux:Later", f"{there}:1", "--yes", code=2)
    here.cferry("cross", "simutrans/linux:Later", f"{there}:13991", "--yes", "--replace")
    told = here.cferry("compare", "simutrans/linux:Mine", f"{there}:13991", "--json", code=11).data
    assert [(one["what"], one["first"], one["second"]) for one in told["facts"]] == [
        ("Year", "1945", "1951"),
    ]  # fmt: skip
    (table,) = told["tables"]
    assert (table["same"], table["differences"]) == (factories["count"], [])
    assert run_simutrans(server.parent, "-server", "13991") == "0/1951"
