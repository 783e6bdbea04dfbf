"""The first launch after a crossing: what the game does to the save, and what is said of it."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from clever_ferry.cargo import Fact, Save
from clever_ferry.cli.waiting import planned_in_time
from clever_ferry.errors import RefusedError
from clever_ferry.finding.signs import Signs
from clever_ferry.keeping.logbook import Arrived
from clever_ferry.launches.live import Patience
from clever_ferry.launches.standing import FileChange, Standing
from clever_ferry.launches.verdict import judge_launch
from clever_ferry.moving import waking
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.waking import Waker
from clever_ferry.payload import BytesPayload
from clever_ferry.proving.contents import content_of
from clever_ferry.recipes import Listing, Recipes
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.world import lay_finch
from tests.conftest import LONG, Den, Outcome, bins, run_module, state

VERDICTS = {
    "goes-on": ("goes on", "Day was"),
    "looks": ("not loaded", "to the byte what was carried"),
    "anew": ("started anew", "another story: Seed was"),
    "forgets": ("gone", "nothing is left of it"),
    "elsewhere": ("not loaded", "beside it: New Shore"),
    "breaks-off": ("unclear", "can't be read whole now"),
    "cloud": ("old save back", "stood there before the crossing"),
}
SHORT = {("depot", how) for how in VERDICTS} | {("tern", "goes-on"), ("tern", "breaks-off")}
if os.name == "nt":
    SHORT = {("depot", "goes-on"), ("tern", "cloud")}
SIDES = {"depot": ("saltglass/tern:2", 1), "tern": ("saltglass/depot:3", 1)}


def carried(den: Den, store: str, tmp_path: Path) -> tuple[Path, Path]:
    """Carry a save over another; return the target's folder, and how it stood before."""
    folder = den.depot if store == "depot" else den.tern
    old = shutil.copytree(folder, tmp_path / "old")
    source, slot = SIDES[store]
    den.cferry("cross", source, f"saltglass/{store}:{slot}", "--yes", "--replace")
    return folder, old


def launched(den: Den, store: str, how: str, old: Path) -> None:
    slot = str(SIDES[store][1])
    done = den.game(store, "launch", "--slot", slot, "--how", how, "--old", str(old))
    assert done.code == 0, done.err


@pytest.mark.long
@pytest.mark.parametrize(
    ("store", "how"),
    [(store, how) for store in SIDES for how in VERDICTS if LONG or (store, how) in SHORT],
)
def test_what_a_game_has_made_of_what_was_carried_is_told_afterwards(
    den: Den, tmp_path: Path, store: str, how: str
) -> None:
    folder, old = carried(den, store, tmp_path)
    carried_as = state(folder)
    reminder = "Not yet seen to go on: crossing 1"
    assert "nothing was written there since. cferry watch 1" in den.cferry("log").err
    launched(den, store, how, old)
    before = state(folder)
    word, why = VERDICTS[how]
    found = den.cferry("watch", "--once", "--json", code=0 if word == "goes on" else 12).data
    (save,) = found["saves"]
    assert (save["verdict"], why in save["why"]) == (word, True), save["why"]
    assert (found["goes_on"], save["level"]) == (word == "goes on", word == "goes on" or None) or (
        save["level"] == "goes on"
    )
    assert state(folder) == before, "it is only read"
    (noted,) = den.cferry("log", "--json").data
    assert (noted["level"], noted["loads"]) == ("goes on" if word == "goes on" else "same", None)
    assert noted["launch"] == ("goes on" if found["goes_on"] else word)
    told = den.cferry("log").err
    assert (reminder in told) == (word != "goes on")
    bad = word in ("started anew", "gone", "old save back") or how == "breaks-off"
    again = f"cferry cross {SIDES[store][0]} saltglass/{store}:1"
    assert any(again in line for line in found["next"]) == bad
    if bad and store == "depot":  # what is advised helps
        time.sleep(2.1)  # until the target is quiet
        den.cferry("undo", "--yes", "--lose-later-play")
        assert {path.read_bytes() for path in folder.rglob("*") if path.is_file()} == {
            path.read_bytes() for path in old.rglob("*") if path.is_file()
        }
        assert reminder not in den.cferry("log").err
    assert carried_as != before or how == "looks"


def watching(den: Den, *options: str) -> AbstractContextManager[subprocess.Popen[str]]:
    """Begin to watch; the block begins once the game may be started."""
    return running(den, "watch", *options, until="Now start the game")


@contextmanager
def running(den: Den, *arguments: str, until: str) -> Iterator[subprocess.Popen[str]]:
    """Begin to run a command; the block begins once it has said something."""
    environment = {
        **os.environ, **den.env, "PYTHONUNBUFFERED": "1", "COLUMNS": "200",
        "PYTHONIOENCODING": "utf-8",
    }  # fmt: skip
    with subprocess.Popen(
        [sys.executable, "-m", "clever_ferry", *arguments],
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, encoding="utf-8", env=environment,
    ) as program:  # fmt: skip
        assert program.stdout is not None
        for line in program.stdout:
            if until in line:
                break
        yield program
        program.kill()


def end_of(program: subprocess.Popen[str]) -> Outcome:
    out, _ = program.communicate(timeout=600)
    return Outcome(program.returncode, out, "")


LIVE = [
    ("depot", "goes-on", ["saved: Day 31 → 32", "goes on"]),
    ("tern", "cloud", ["saved: Day 57 → 20", "the old save is back"]),
    ("tern", "goes-on", ["saved: Day 57 → 58", "goes on"]),
    ("depot", "breaks-off", ["can't be read whole", "unclear"]),
    ("depot", "elsewhere", ["a new save: Day 1", "not loaded"]),
]


@pytest.mark.long
@pytest.mark.parametrize(("store", "how", "seen"), LIVE if LONG else LIVE[:2])
def test_what_a_game_does_is_told_as_it_happens_and_each_state_is_kept(
    den: Den, tmp_path: Path, store: str, how: str, seen: list[str]
) -> None:
    folder, old = carried(den, store, tmp_path)
    as_carried = state(folder)
    with watching(den, "--quiet-for", "3") as program:
        launched(den, store, how, old)
        played = state(folder)
        done = end_of(program)
    assert done.code == (0 if how == "goes-on" else 12)
    for words in seen:
        assert words in done.out, done.out
    kept = [one for one in den.cferry("backup", "list", "--json").data if one["kind"] == "watched"]
    assert 2 <= len(kept) <= 4, "how it stood before, and each state that rested for a moment"
    time.sleep(2.1)
    newest, *_, oldest = kept
    for backup, wanted in ((oldest, as_carried), (newest, played)):
        files = {path: one for path, one in wanted.items() if one[0] != "folder"}
        if not files.items() <= state(folder).items():
            den.cferry("restore", backup["id"], "--yes", "--replace")
            time.sleep(2.1)
        assert files.items() <= state(folder).items()

    if how != "goes-on":
        return
    launched(den, store, "cloud", old)  # and then the cloud puts the old save back after all
    found = den.cferry("watch", "--once", "--json", code=12).data
    (further,) = found["further"]
    time.sleep(2.1)
    line = next(one for one in found["next"] if further["backup"] in one)
    den.cferry(*line.partition("cferry ")[2].split(), "--yes", "--replace")
    assert "day 32" in den.loads(store, 1) if store == "depot" else "day 58" in den.loads(store, 1)


def test_what_could_not_be_kept_is_said(den: Den, tmp_path: Path) -> None:
    _, old = carried(den, "depot", tmp_path)
    snapshots = den.home / "locker" / "snapshots"
    with watching(den, "--quiet-for", "3") as program:
        snapshots.rename(tmp_path / "away")
        snapshots.write_text("no folder")
        launched(den, "depot", "goes-on", old)
        done = end_of(program)
    assert "what was written could not be kept: " in done.out
    assert done.code == 0, done.out


def test_a_watch_ends_when_it_is_stopped_or_time_is_up_and_says_what_is_known(
    den: Den, tmp_path: Path
) -> None:
    carried(den, "depot", tmp_path)
    if os.name != "nt":  # where a program can be sent what Ctrl-C sends
        with watching(den) as program:
            time.sleep(0.5)
            program.send_signal(2)
            done = end_of(program)
        assert done.code == 12
        assert "not loaded" in done.out
        assert "Traceback" not in done.out
    found = den.cferry("watch", "saltglass/depot:1", "--at-most", "1", "--json", code=12).data
    assert found["crossing"] == 1
    assert found["generations"] != []
    assert "Nothing was carried to" in den.cferry("watch", "saltglass/tern", "--once", code=3).err
    for wrong in (["--once", "--at-most", "3"], ["7"], ["1", "--account", "x"], ["nowhere/x"]):
        den.cferry("watch", *wrong, code=2)
    assert "Not yet seen" in den.cferry("log").err
    for text in ("{", '{"launches": 9, "awaited": []}', '{"launches": 1, "awaited": []}'):
        (den.home / "launches.json").write_text(text, "utf-8")
        assert den.cferry("log").err == "", "a reminder that can't be read stops nothing"
    den.cferry("cross", "saltglass/tern:1", "saltglass/depot:5", "--yes")
    den.cferry("undo", "--yes")
    den.cferry("undo", "--yes")
    assert "is undone" in den.cferry("watch", "1", code=4).err
    assert "Nothing was carried" in den.cferry("watch", code=3).err


def judged(then: dict[str, object], now: dict[str, object] | None, before: object = None) -> str:
    """Return the verdict on a save of Saltglass, by its facts before and after."""
    game = Recipes(Path("nowhere")).game("saltglass")

    def save(values: dict[str, object]) -> Save:
        units = {"played": "s"}
        facts = tuple(
            Fact(key, key, value, units.get(key))  # type: ignore[arg-type]
            for key, value in values.items()
            if key not in ("slot", "problem", "bytes")
        )
        from clever_ferry.cargo import Piece

        data = str(values.get("bytes", values)).encode()
        piece = Piece("world", {}, BytesPayload(data), len(data), 5, "w", ("w",))
        problems = ("cut short",) if "problem" in values else ()
        slot = int(str(values.get("slot", 1)))
        return Save(slot, {"slot": slot, "world": "ab"}, (piece,), facts, problems)

    first = save(then)
    arrived = Arrived(1, dict(first.fields), first.facts, content_of(first))
    saves = (save(now),) if now is not None else ()
    found = judge_launch(
        arrived, 3, Listing(saves, (), (), ()), game, game.editions["depot"],
        lambda: None if before is None else save(before),  # type: ignore[arg-type]
    )  # fmt: skip
    return found.word


def test_the_verdict_goes_by_what_only_grows_and_never_by_a_name_alone() -> None:
    town = {"name": "Saltmarsh", "seed": 4711, "day": 31, "played": 3600.0, "coins": 5}
    cases = [
        ({**town, "day": 32}, "goes on"),
        ({**town, "played": 3600.5}, "goes on"),
        ({**town, "coins": 900}, "unclear"),
        ({**town, "bytes": "others"}, "unclear"),
        ({**town, "day": 30}, "started anew"),
        ({**town, "day": 32, "played": 60.0}, "unclear"),
        ({**town, "seed": 4712, "day": 40}, "started anew"),
        ({**town, "name": "Renamed", "day": 32}, "goes on"),
        ({"name": "Other", "day": 99}, "started anew"),
        ({**town, "problem": 1, "day": 32}, "unclear"),
        ({**town, "slot": 4, "day": 32}, "goes on"),
        ({**town, "slot": 4, "day": 30}, "gone"),
        (town, "not loaded"),
        (None, "gone"),
    ]
    assert [judged(town, now) for now, _ in cases] == [word for _, word in cases]
    old = {**town, "day": 3, "bytes": "old"}
    assert judged(town, {**old}, old) == "old save back"
    assert judged(town, {**old, "bytes": "packed anew"}, old) == "old save back"
    assert judged(town, {**old, "day": 4, "bytes": "played"}, old) == "started anew"


@pytest.mark.parametrize("told", [True, False] if os.name != "nt" else [False])
def test_every_way_in_which_files_change_wakes_and_is_told_apart(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, told: bool
) -> None:
    if not told:  # as in a network's folder
        monkeypatch.setattr(waking, "told_at_once", lambda folder: False)
    top = tmp_path / "saves"
    (top / "deep").mkdir(parents=True)
    for name in ("one", "deep/two", "three"):
        (top / name).write_bytes(b"first")
    beside = tmp_path / "beside"
    beside.mkdir()
    (beside / "four").write_bytes(b"x")
    files = FolderFiles(top)
    standing = Standing(files)
    with Waker(files) as waker:
        assert waker.told is told

        def seen(wanted: dict[str, str]) -> None:
            found: dict[str, str] = {}
            limit = time.monotonic() + 60
            while found != wanted and time.monotonic() < limit:
                woken = waker.wait(1.0)
                changes = standing.look() if woken.everything else standing.look_at(woken.changed)
                found |= {one.path: one.how for one in changes}
                if woken.everything:
                    waker.took(0.0)
            assert found == wanted

        (top / "one").write_bytes(b"longer than before")
        seen({"one": "written"})
        (tmp_path / "new").write_bytes(b"second")
        (tmp_path / "new").replace(top / "deep/two")
        seen({"deep/two": "replaced"})
        (top / "three").unlink()
        beside.rename(top / "moved")
        seen({"three": "gone", "moved/four": "new"})
        shutil.rmtree(top)
        seen({"one": "gone", "deep/two": "gone", "moved/four": "gone"})
        top.mkdir()
        (top / "one").write_bytes(b"again")
        seen({"one": "new"})


def test_a_crossing_waits_for_what_its_game_must_do_first(den: Den, tmp_path: Path) -> None:
    route = ("cross", "saltglass/tern:2", "saltglass/finch", "--yes")
    assert "--yes --wait" in den.cferry(*route, code=3).err
    with running(den, *route, "--wait", until="Waiting for that") as program:
        time.sleep(1.5)
        assert program.poll() is None
        lay_finch(den.top)
        done = end_of(program)
    assert done.code == 0, done.out
    assert den.loads("finch", 2).startswith("Saltmarsh, day 31")
    lay_moth_lantern(den.top)
    den.cferry("cross", "moth-lantern/classic:3", "moth-lantern/anniversary:2", "--yes")
    route = ("cross", "moth-lantern/anniversary:2", "moth-lantern/classic:6", "--yes")
    assert "--yes --wait" in den.cferry(*route, code=4).err
    with running(den, *route, "--replace", "--wait", until="Waiting for that") as program:
        game = ["--edition", "classic", "new", "--slot", "6"]
        run_module("clever_ferry_demo.moth_lantern.program", *game, env=den.env)
        done = end_of(program)
    assert done.code == 0, done.out
    recipe = bins(own="u{slot}", other="{slot}-{world}")
    adopts = 'fields.world = { type = "hex", length = 4, on_arrival = ["adopted"] }\nfiles = '
    head, _, tail = recipe.rpartition("files = ")
    den.recipe("bin", f"{head}{adopts}{tail}")
    for place in ("a", "b"):
        (tmp_path / place).mkdir()
    (tmp_path / "a" / "u1").write_bytes(b"mine")
    route = ("cross", f"bin/own@{tmp_path / 'a'}:1", f"bin/other@{tmp_path / 'b'}", "--yes")
    assert "needs the target's world" in den.cferry(*route, code=4).err
    with running(den, *route, "--replace", "--wait", until="Waiting for that") as program:
        (tmp_path / "b" / "3-00ff").write_bytes(b"try")
        time.sleep(3)
        assert program.poll() is None, "nothing says that this one was hardly played"
        program.kill()


@pytest.mark.parametrize("where", ["g/e", "g/e:throwaway"])
def test_a_game_that_runs_is_waited_for_until_it_is_closed(
    monkeypatch: pytest.MonkeyPatch, where: str
) -> None:
    waits: list[float] = []
    clock = SimpleNamespace(sleep=waits.append, monotonic=lambda: 0.0)  # other threads keep theirs
    monkeypatch.setattr("clever_ferry.cli.waiting.time", clock)
    lacks = RefusedError("It needs one.", in_game="throwaway")
    runs, closed = (SimpleNamespace(signs=Signs(running=one)) for one in (("it",), ()))
    comes: Iterator[Any] = iter([runs, runs, closed])

    def attempt(address: str) -> Any:
        """Plan to one address, once it was asked for the third time."""
        if address != where or len(waits) < 2:
            raise lacks
        return next(comes)

    plan: Any = planned_in_time(attempt, "g/e", wait=True, ask=False, closed=False)
    assert plan is closed
    assert len(waits) == 4
    comes = iter([runs])
    plan = planned_in_time(attempt, where, wait=True, ask=False, closed=True)
    assert plan is runs
    lacks = RefusedError("Never.")
    waits.clear()
    with pytest.raises(RefusedError, match="Never"):
        planned_in_time(attempt, "g/e", wait=True, ask=False, closed=False)


def test_a_folder_that_is_gone_for_a_moment_is_looked_at_again(
    den: Den, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder, _ = carried(den, "tern", tmp_path)
    ferry, away = den.ferry(), {"now"}
    real, every = Standing.look_at, Standing.look

    def gone() -> None:
        away.clear()
        raise FileNotFoundError(2, "No such file or directory", str(folder))

    def look_at(self: Standing, paths: Iterable[str]) -> list[FileChange]:
        if away and set(paths):
            gone()
        return real(self, paths)

    def look(self: Standing) -> list[FileChange]:
        if away and not waking.told_at_once(folder):
            gone()
        return every(self)

    monkeypatch.setattr(Standing, "look_at", look_at)
    monkeypatch.setattr(Standing, "look", look)

    def play(told: bool) -> None:
        threading.Thread(target=launched, args=(den, "tern", "goes-on", tmp_path / "old")).start()

    watched = ferry.watching.live(
        ferry.watching.carried(None, live=True), ready=play, patience=Patience(quiet=3, at_most=60)
    )
    assert not away
    assert watched.goes_on


@pytest.mark.skipif(os.name == "nt", reason="there it is only looked")
def test_a_drive_of_another_computer_tells_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    inner = tmp_path / "share" / "in"
    inner.mkdir(parents=True)
    parts = [("/", "ext4"), (os.path.realpath(tmp_path / "share"), "cifs")]
    monkeypatch.setattr(
        "psutil.disk_partitions",
        lambda **_: [SimpleNamespace(mountpoint=at, fstype=kind) for at, kind in parts],
    )
    told = [waking.told_at_once(one) for one in (tmp_path, tmp_path / "share", inner)]
    assert told == [True, False, False]
