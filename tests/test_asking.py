"""The game's own word: what is started, when, within what limits, and what is made of its words."""

from __future__ import annotations

import os
import shutil
import socket
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import psutil
import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.cargo import Fact
from clever_ferry.judging import programs
from clever_ferry.judging.programs import MARK, sandbox
from clever_ferry.judging.running import Limits, Ran, run
from clever_ferry.judging.verdict import Enough, judge
from clever_ferry.model import ValidationError, convert
from clever_ferry.recipes.loader_models import LoaderInfo
from clever_ferry_demo.kingfisher_crown.program import demo_reigns, lay_kingfisher_crown
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from tests.conftest import Den, bins, state

shut_in = pytest.mark.skipif(not sandbox()[0], reason=f"no sandbox: {sandbox()[1]}")
posix = pytest.mark.skipif(os.name == "nt", reason="the programs are scripts with a first line")


def info(**more: Any) -> LoaderInfo:
    own = {"program": ["x"], "arguments": [], "lays": "saves", "loaded": ["It is in"], **more}
    return convert(own, LoaderInfo)


DAY = Fact("day", "Day", 31)
OF_DAY = {"tells": {"day": "day {},"}}
SAID = [
    ({}, "It is in\n", 0, "itself", "loads"),
    ({}, "It is in\n", 3, "itself", "crashed"),
    ({}, "It is in\n", -11, "itself", "crashed"),
    ({}, "It is in\n", 139, "itself", "crashed"),
    ({}, "", 139, "itself", "crashed"),
    ({}, "nothing\n", 0, "itself", "silent"),
    ({}, "nothing\n", 1, "itself", "silent"),
    ({"refused": ["Not so"]}, "It is in\nNot so\n", 0, "itself", "refused"),
    ({"refused": ["Not so"]}, "Not so\n", None, "enough", "refused"),
    ({"refused": ["Not so"]}, "Not so\n", None, "time", "refused"),
    ({}, "It is in\n", None, "time", "time"),
    ({"stopped_after": 1}, "It is in\n", None, "time", "loads"),
    ({"stopped_after": 1}, "It is in\n", None, "enough", "loads"),
    ({"stopped_after": 1}, "It is in\n", 0, "itself", "crashed"),
    ({"stopped_after": 1}, "nothing\n", None, "time", "time"),
    ({}, "It is in\n", None, "memory", "memory"),
    ({}, "It is in\n", None, "output", "output"),
    ({"loaded": [], "exits": [4]}, "", 4, "itself", "loads"),
    ({"loaded": [], "exits": [4]}, "", 0, "itself", "silent"),
    ({"exits": [4]}, "It is in\n", 4, "itself", "loads"),
    ({"exits": [4]}, "It is in\n", 0, "itself", "crashed"),
    (OF_DAY, "It is in: day 31, more\n", 0, "itself", "loads"),
    (OF_DAY, "It is in: day 1, more\n", 0, "itself", "unlike"),
    (OF_DAY, "It is in\n", 0, "itself", "loads"),
    (OF_DAY, "x day 1, y\nday 31, It is in\n", 0, "itself", "loads"),
    ({"tells": {"day": "at {any}/{},"}}, "It is in at 7/31, 8/32,\n", 0, "itself", "loads"),
    ({"tells": {"day": "at {any}/{},"}}, "It is in at 31/7,\n", 0, "itself", "unlike"),
]  # fmt: skip


@pytest.mark.parametrize(("more", "text", "code", "ended", "how"), SAID)
def test_what_is_made_of_a_games_words(
    more: dict[str, Any], text: str, code: int | None, ended: Any, how: str
) -> None:
    found = judge(info(**more), Ran(text, code, ended, 0.1), [DAY])
    assert found.how == how, found
    assert found.loads == (how == "loads")
    if more is OF_DAY:
        first = next((day for day in ("31", "1") if f"day {day}," in text), None)
        assert [one.theirs for one in found.told] == ([first] if first else [])
        assert found.untold == (() if found.told else ("Day",))


@given(st.text("It is n\n{}day31,"), st.sampled_from(["", "It is in\n"]))
def test_nothing_but_its_own_words_says_that_it_loads(text: str, told: str) -> None:
    found = judge(info(**OF_DAY), Ran(text + told, 0, "itself", 0), [DAY])
    assert found.loads <= ("It is in" in text + told)


def test_a_server_is_left_for_a_while_and_then_ended() -> None:
    now = [10.0]
    enough = Enough(info(stopped_after=2, refused=["Not so"]), lambda: now[0])
    told = []
    for now[0], text in ((10, ""), (11, "It is in"), (12, "It is in"), (13, "It is in, still")):
        told.append(enough(text))
    assert told == [False, False, False, True]
    assert Enough(info(refused=["Not so"]))("Not so")
    assert not Enough(info())("It is in")


@pytest.mark.parametrize(("more", "said"), [
    ({"program": ["bash"]}, "a shell is no game"), ({"program": ["../x"]}, "match"),
    ({"program": ["cmd.exe"]}, "a shell is no game"), ({"lays": "../x"}, "no path below"),
    ({"lays": "/x"}, "no path below"), ({"files": {"a/../../b": ""}}, "no path below"),
    ({"reads": ["C:x"]}, "no path below"), ({"also": [".."]}, "no path below"),
    ({"environment": {"LD_PRELOAD": "x"}}, "which code"), ({"environment": {"PATH": "x"}}, "which"),
    ({"loaded": []}, "say in `loaded`"), ({"loaded": [], "stopped_after": 1}, "say in `loaded`"),
    ({"exits": [0], "stopped_after": 1}, "no exit code"), ({"tells": {"day": "{}"}}, "between"),
    ({"tells": {"day": "x"}}, "has {} once"), ({"tells": {"day": "a {}{any}"}}, "between"),
    ({"seconds": 0}, ">= 1"),
])  # fmt: skip
def test_a_loader_that_can_not_be_is_refused(more: dict[str, Any], said: str) -> None:
    with pytest.raises(ValidationError, match=said.replace("{", r"\{")):
        info(**more)


def allow(den: Den, game: str, *editions: str) -> None:
    """Allow a stand-in as the loader of some editions of its game."""
    program = Path(sys.executable).with_name(game)
    if os.name == "nt":
        program = den.home.parent / f"{game}.bat"
        module, found = game.replace("-", "_"), os.pathsep.join(sys.path)
        program.write_text(f'@set PYTHONPATH={found}\n@"{sys.executable}" -m '
                           f"clever_ferry_demo.{module}.program %*\n")  # fmt: skip
    for one in editions:
        told = den.cferry("loader", "allow", f"{game}/{one}", "--program", program).out
        assert "load --slot {" in told


def saltglass(den: Den) -> None:
    allow(den, "saltglass", "depot", "tern")


def test_other_stand_ins_load_with_what_they_need(den: Den) -> None:
    yard = lay_orrery_yard(den.top, "wren", demo_yards())
    lay_kingfisher_crown(den.top, demo_reigns())
    lay_moth_lantern(den.top)
    for game, edition, where, fact in (
        ("orrery-yard", "windows", "Brass Court", "Day 31"),
        ("kingfisher-crown", "windows", "Kelpmark Rising", "Day 411, Provinces 192"),
        ("moth-lantern", "classic", "1", "Page 28"),
        ("moth-lantern", "anniversary", "1", "Page 1"),
    ):
        allow(den, game, edition)
        told = den.cferry("check", f"{game}/{edition}:{where}", "--with-game").out
        assert f"it tells   {fact}\n" in told
    packs = [path.name for path in (yard / "packs").iterdir()]
    assert packs, "they go along, as the recipe says that its game needs them"


def test_a_stand_in_loads_what_is_carried_and_tells_what_it_has(den: Den) -> None:
    told = den.cferry("check", "saltglass/depot", "--with-game", code=4).err
    assert "only when you have said so" in told
    assert "cferry loader allow saltglass/depot" in told
    before = state(den.depot)
    saltglass(den)
    done = den.cferry("check", "saltglass/depot", "--with-game")
    assert done.out.count("the game has loaded it") == 2
    assert "it tells   Day 12, Coins 427" in done.out
    assert "The game itself has loaded all 2." in done.out
    assert state(den.depot) == before
    data = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes", "--with-game",
                      "--json").data  # fmt: skip
    (proof,) = data["proofs"]
    assert (proof["level"], proof["game"]["verdict"], proof["game"]["not_told"]) == (
        "loads",
        "loads",
        [],
    )
    assert [(one["fact"], one["ours"]) for one in proof["game"]["told"]] == [
        ("day", "31"),
        ("coins", "1,130"),
    ]
    assert den.cferry("check", "saltglass/depot:5", "--json").data["saves"][0]["level"] == "fits"
    (noted,) = den.cferry("log", "--json").data
    assert (noted["level"], noted["loads"], noted["launch"]) == ("loads", True, None)
    assert "the game has loaded it" in den.cferry("log", "show", "1").out


def test_what_the_game_refuses_is_not_said_to_load(den: Den) -> None:
    saltglass(den)
    traveller = next(den.depot.glob("voyage-00-*/people/Wren.sgt"))
    whole = traveller.read_bytes()
    traveller.write_bytes(whole[:4] + b"\2" + whole[5:])  # a version that nothing here knows of
    assert "It is complete" in den.cferry("check", "saltglass/depot:1").out
    told = den.cferry("check", "saltglass/depot:1", "--with-game", code=12).out
    assert "refused" in told
    assert "Saltglass can't do this: " in told
    assert "has loaded 0 of 1 save" in told
    traveller.write_bytes(whole[:-3])
    world = next(den.depot.glob("voyage-00-*/world.sgw"))
    world.write_bytes(world.read_bytes()[:-9])
    data = den.cferry("check", "saltglass/depot:1", "--with-game", "--json", code=5).data
    (save,) = data["saves"]
    assert (save["level"], save["game"]["verdict"]) == (None, "not asked")
    assert save["game"]["command"] == []
    done = den.cferry("cross", "saltglass/tern:1", "saltglass/depot:6", "--yes", "--with-game")
    assert "The game itself has loaded it." in done.out, "the damaged one beside it does not matter"


def test_what_something_is_wrong_around_is_on_no_level(den: Den) -> None:
    saltglass(den)
    folder = next(den.depot.glob("voyage-00-*"))
    folder.rename(folder.with_name(folder.name.replace("voyage-00", "voyage-08")))
    data = den.cferry("check", "saltglass/depot", "--with-game", "--json", code=5).data
    assert "beyond the 8" in data["problems"][0]
    assert [one["level"] for one in data["saves"]] == [None, None]


def test_where_no_copy_can_be_made_that_is_told(den: Den, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(**_: object) -> None:
        raise OSError(28, "No space left on device")

    saltglass(den)
    monkeypatch.setattr("clever_ferry.asking.TemporaryDirectory", full)
    _, (verdict,) = den.ferry().asking.check("saltglass/depot:1")
    assert (verdict.how, verdict.what) == (
        "not asked", "it could not be asked: No space left on device",
    )  # fmt: skip


def test_a_word_holds_until_the_recipe_changes_or_it_is_taken_back(den: Den) -> None:
    saltglass(den)
    listed = {one["edition"]: one for one in den.cferry("loader", "list", "--json").data}
    assert (listed["saltglass/depot"]["allowed"], listed["saltglass/depot"]["named"]) == (
        True,
        True,
    )
    assert not listed["kingfisher-crown/linux"]["allowed"]
    text = den.cferry("recipe", "show", "saltglass").out
    title = 'title = "Saltglass"'
    den.recipe("saltglass", text.replace(title, f"{title}\nreplaces_shipped = true", 1))
    told = den.cferry("check", "saltglass/depot", "--with-game", code=4).err
    assert "said so again, as its recipe or the program is another now" in told
    assert "no more: it is another now" in den.cferry("loader", "list").out
    saltglass(den)
    den.cferry("check", "saltglass/depot:1", "--with-game")
    den.cferry("loader", "forget", "saltglass/depot")
    den.cferry("loader", "forget", "saltglass/depot", code=3)
    den.cferry("check", "saltglass/depot:1", "--with-game", code=4)
    assert "says how" not in den.cferry("check", "saltglass/tern", "--with-game").out
    assert "does not say how" in den.cferry("check", "saltglass/finch", "--with-game", code=4).err
    (den.home / "loaders.json").write_text("{")
    assert "Remove the file" in den.cferry("loader", "list", code=5).err


SCRIPT = """#!{python} -I
import os, socket, subprocess, sys, time
place, real = sys.argv[1:3]
{body}
"""
FAMILY = """
waits = [sys.executable, '-I', '-c', 'import time; time.sleep(600)']
subprocess.Popen(waits, start_new_session=True)
if os.fork(): os._exit(0)
os.setsid()
if os.fork(): os._exit(0)
time.sleep(600)
"""
BODIES = {
    "good": ("print('It is in, day', 7, flush=True)", "loads"),
    "asks": ("print('ready', flush=True); print(sys.stdin.readline(), flush=True)", "loads"),
    "hangs": ("print('It is', flush=True); time.sleep(600)", "time"),
    "floods": ("while True: print('It is nothing' * 1000)", "output"),
    "hungry": ("own = [os.urandom(1 << 20) for _ in range(600)]; time.sleep(600)", "memory"),
    "crashes": ("print('It is in', flush=True); os.abort()", "crashed"),
    "silent": ("pass", "silent"),
    "family": (FAMILY, "silent"),
    "sees": ("print(open(place + '/1').read() * (os.stat(place + '/1').st_mtime == 1e9))", "loads"),
    "writes": ("open('log.txt', 'w').write('It is in')", "loads"),
    "lies": ("pass", "silent"),
    "rewrites": ("open(place + '/1', 'a').write('.')", "loads"),
}


@pytest.fixture
def bench(linux: Callable[..., Den], tmp_path: Path) -> Callable[..., tuple[Den, str]]:
    """Return a maker of a game whose program is a script; it gives a save's address, too."""

    def make(body: str, more: str = "") -> tuple[Den, str]:
        here = linux(home="home")
        loader = f"""
[editions.own.loader]
program = ["bin-game"]
arguments = ["{{place}}", "{tmp_path}", "{{title}}"]
lays = "saves"
loaded = ["It is in"]
{more}
"""
        here.recipe("bin", bins(own="{slot}") + loader)
        (tmp_path / "saves").mkdir()
        (tmp_path / "saves" / "1").write_text("It is in")
        os.utime(tmp_path / "saves" / "1", (1e9, 1e9))
        script = tmp_path / "bin-game"
        script.write_text(SCRIPT.format(python=sys.executable, body=body))
        script.chmod(0o755)
        here.cferry("loader", "allow", "bin/own", "--program", script)
        return here, f"bin/own@{tmp_path / 'saves'}:1"

    return make


@posix
@pytest.mark.parametrize("kind", BODIES)
def test_a_program_is_kept_within_its_limits(
    bench: Callable[..., tuple[Den, str]], kind: str, tmp_path: Path
) -> None:
    body, how = BODIES[kind]
    more = f"seconds = {3 if kind == 'hangs' else 120}\nmebibytes = 200"
    if kind in ("writes", "lies", "rewrites"):
        more += '\nreads = ["log.txt", "saves/{slot}"]'
    if kind == "asks":
        more += '\ninput = [{ after = "ready", wait = 0.1, lines = ["It is in", "more"] }]'
    here, where = bench(body, more)
    before = state(tmp_path / "saves")
    began = time.monotonic()
    done = here.cferry("check", where, "--with-game", "--json", code=0 if how == "loads" else 12)
    (save,) = done.data["saves"]
    assert (save["game"]["verdict"], save["level"]) == (how, "loads" if how == "loads" else "fits")
    assert time.monotonic() - began < 300, "what sleeps for ten minutes is not waited for"
    assert state(tmp_path / "saves") == before
    assert save["game"]["shut_in"] == bool(sandbox()[0])
    scratch = Path(save["game"]["command"][1]).parent
    assert not scratch.exists(), "it is thrown away"
    left = [one.pid for one in psutil.process_iter() if _marked(one, scratch)]
    assert left == [], "everything that it has started is ended"


def _marked(one: psutil.Process, scratch: Path) -> bool:
    try:
        return bool(one.environ().get(MARK) == str(scratch))
    except psutil.Error:
        return False


@posix
@shut_in
def test_what_is_shut_in_reaches_nothing_else(
    bench: Callable[..., tuple[Den, str]], tmp_path: Path
) -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        body = f"""
try: open(real + '/written', 'w')
except OSError as error: print('can not write:', error.strerror)
try: open(place + '/1', 'w').write('changed'); print('wrote its own')
except OSError: pass
try: socket.create_connection(('127.0.0.1', {port}), 2)
except OSError: print('no network')
print('uid', os.getuid(), 'home', os.environ['HOME'].startswith(place[:-5]))
print('It is in')
"""
        here, where = bench(body, "exits = [9]")  # so that its words are shown
        said = here.cferry("check", where, "--with-game", "--json", code=12).data["saves"][0]
        assert said["game"]["verdict"] == "crashed"
        assert [*said["game"]["said"]] == [
            "can not write: Read-only file system", "wrote its own", "no network",
            "uid 1000 home True", "It is in",
        ]  # fmt: skip
    assert (tmp_path / "saves" / "1").read_text() == "It is in"


@posix
def test_a_program_that_is_gone_and_a_name_that_is_an_option(
    bench: Callable[..., tuple[Den, str]], tmp_path: Path
) -> None:
    here, where = bench("print('It is in')")
    here.cferry("check", where, "--with-game")
    (gone := tmp_path / "gone").write_text("no program")
    assert "no program" in here.cferry("loader", "allow", "bin/own", "--program", gone, code=2).err
    (tmp_path / "bin-game").unlink()
    told = here.cferry("check", where, "--with-game", code=12).out
    assert "bin-game is not on this computer" in told
    assert shutil.which("bin-game") is None
    assert "bin-game is not on this computer" in here.cferry("loader", "list").out
    names = bins(own="{name}").replace("fields.slot = { type = \"number\" }",
                                       "fields.name = { type = \"text\" }")  # fmt: skip
    here.recipe(
        "bin",
        names
        + """
[editions.own.loader]
program = ["bin-game"]
arguments = ["{name}"]
lays = "saves"
loaded = ["It is in"]
""",
    )
    script = tmp_path / "bin-game"
    script.write_text(SCRIPT.format(python=sys.executable, body="print('It is in')"))
    script.chmod(0o755)
    (tmp_path / "saves" / "-rf").write_text("x")
    here.cferry("loader", "allow", "bin/own", "--program", script)
    told = here.cferry("check", f"bin/own@{tmp_path / 'saves'}:-rf", "--with-game", code=12).out
    assert "would be an option" in told


@posix
def test_without_a_sandbox_nothing_gets_away_either(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(programs, "sandbox", lambda: ("", "none"))
    script = tmp_path / "bin-game"
    script.write_text(SCRIPT.format(python=sys.executable, body=FAMILY))
    script.chmod(0o755)
    command = (str(script), "x", "y")
    own = programs.bare_environment(tmp_path, {})
    assert {own[name] for name in ("HOME", "USERPROFILE")} == {str(tmp_path / "home")}
    ran = run(command, own, tmp_path, Limits(30, 1 << 30))
    assert (ran.ended, ran.code) == ("itself", 0)
    assert [one.pid for one in psutil.process_iter() if _marked(one, tmp_path)] == []


@posix
def test_another_program_of_that_name_is_not_what_was_allowed(
    bench: Callable[..., tuple[Den, str]], tmp_path: Path
) -> None:
    here, where = bench("print('It is in')")
    own, other = tmp_path / "here", tmp_path / "there"
    for folder in (own, other):
        folder.mkdir()
        shutil.copy(tmp_path / "bin-game", folder)
    usual = os.environ["PATH"]
    here.env["PATH"] = f"{own}{os.pathsep}{usual}"
    here.cferry("loader", "allow", "bin/own")
    here.cferry("check", where, "--with-game")
    here.env["PATH"] = f"{other}{os.pathsep}{own}{os.pathsep}{usual}"
    told = here.cferry("check", where, "--with-game", code=4).err
    assert "again" in told
    assert str(other) in told
    here.env["PATH"] = usual
    told = here.cferry("check", where, "--with-game").out
    assert "the game has loaded it" in told, "where it is no more on the PATH, it is where it was"


@posix
def test_a_program_at_a_terminal_is_typed_to_and_its_colours_are_passed_over(
    bench: Callable[..., tuple[Den, str]],
) -> None:
    keys = 'terminal = true\ninput = [{ after = "key?", lines = ["S", "y", ""] }]\nseconds = 20'
    here, where = bench(
        "print('Your \\x1b(B\\x1b[1mkey?', sys.stdin.isatty(), os.get_terminal_size(), flush=True);"
        " print('It is in' if input() == 'Sy' else 'other keys')", keys,
    )  # fmt: skip
    (asked,) = here.cferry("check", where, "--with-game", "--json").data["saves"]
    assert asked["game"]["verdict"] == "loads"
    file = here.home / "recipes" / "bin.toml"
    file.write_text(file.read_text("utf-8").replace("terminal = true\n", ""), "utf-8")
    here.cferry("loader", "allow", "bin/own", "--program", here.home.parent / "bin-game")
    told = here.cferry("check", where, "--with-game", code=12).out
    assert "get_terminal_size" in told or "ioctl" in told


@posix
def test_an_edition_can_have_the_loader_of_another(bench: Callable[..., tuple[Den, str]]) -> None:
    here, where = bench("print('It is in')")
    file = here.home / "recipes" / "bin.toml"
    text = (
        file.read_text("utf-8")
        + """
[editions.other]
title = "Other"
loader = "own"
berths = [{ on = "any", under = "given" }]
fields.slot = { type = "number" }
files = [{ role = "world", path = "{slot}" }]
"""
    )
    file.write_text(text, "utf-8")
    here.cferry("loader", "allow", "bin/other", "--program", here.home.parent / "bin-game")
    told = here.cferry("check", where.replace("own", "other", 1), "--with-game").out
    assert "The game itself has loaded it" in told
    for wrong in ("other", "nowhere"):
        file.write_text(text.replace('loader = "own"', f'loader = "{wrong}"'), "utf-8")
        told = here.cferry("recipe", "check", file, code=5).err
        assert f"no edition '{wrong}' has a loader of its own; " in told
