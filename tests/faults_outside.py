"""Faults put in at the system calls of the real program, from outside it, by `strace`.

    python -m tests.faults_outside [--runs 1000] [--seed 1] [--only 731] [--job NAME]

Each run takes one job (a crossing, an undo, a restore, an export ...), lets one call of the real
program fail, be interrupted or be its last, or all calls from one on, or sends Ctrl-C once or many
times; half of the errors get a second one that hits what the program does about the first. The
next command runs undisturbed. Then a judge that shares no code with the program reads the trees,
the logbook, the journal and the locker: the target must be wholly old or wholly new, as the
logbook says; the source untouched; nothing left behind; every word about what was changed true.
Exits with 1 where a run ended wrong, and prints how many runs there were.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import threading
import zipfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

import zstandard
from blake3 import blake3

from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from clever_ferry_demo.world import DEPOT_ACCOUNT, TERN_ACCOUNT, lay_world
from tests.conftest import DEPOT, TERN, laid
from tests.forking import Server

AGO = 60 * 10**9
CALLS = {
    "openat": ("EIO", "EACCES", "ENOSPC", "EMFILE"),
    "read": ("EIO",), "pread64": ("EIO",), "getdents64": ("EIO",), "newfstatat": ("EIO",),
    "write": ("ENOSPC", "EIO", "EDQUOT"), "pwrite64": ("ENOSPC", "EIO"),
    "copy_file_range": ("ENOSPC", "EIO"), "sendfile": ("ENOSPC", "EIO"),
    "rename": ("EIO", "ENOSPC", "EACCES", "EROFS"), "unlink": ("EIO", "EACCES", "EROFS"),
    "mkdir": ("ENOSPC", "EACCES", "EROFS"), "rmdir": ("EIO", "EBUSY"),
    "fsync": ("EIO", "ENOSPC", "EINTR"), "fdatasync": ("EIO", "EINTR"),
    "utimensat": ("EIO", "EACCES"), "chmod": ("EIO", "EROFS"), "fchmodat": ("EIO", "EROFS"),
    "lchown": ("EIO", "ENOSPC", "EDQUOT"), "lsetxattr": ("ENOSPC", "EDQUOT", "EIO"),
    "ftruncate": ("EIO",), "flock": ("EIO", "ENOLCK"), "close": ("EIO",),
}  # fmt: skip
"""What may fail, and how: calls that the program makes on files."""
WRITING = ("openat", "write", "pwrite64", "copy_file_range", "rename", "mkdir", "unlink",
           "fsync", "utimensat", "fchmodat", "lsetxattr")  # fmt: skip
KINDS = ("error", "error", "second", "full", "read-only", "kill", "stop", "stops")


@dataclass(frozen=True)
class Job:
    """What is done before, the command itself, and what it may write."""

    before: tuple[tuple[str, ...], ...]
    command: tuple[str, ...]
    target: str = ""
    source: str = ""
    output: str = ""


TO_DEPOT, TO_TERN = f"{DEPOT}/{DEPOT_ACCOUNT}", f"{TERN}/{TERN_ACCOUNT}/saltglass"
YARDS = "C/Users/Wren/Documents/My Yards/Orrery Yard/wren"
YES = ("--yes", "--replace")
INTO_FOLDER = ("cross", "saltglass/tern", "saltglass/depot", *YES)
INTO_BOX = ("cross", "saltglass/depot:3", "saltglass/tern:2", *YES)
JOBS = {
    "crossing into a folder": Job((), INTO_FOLDER, TO_DEPOT, TO_TERN),
    "crossing into a box": Job((), INTO_BOX, TO_TERN, TO_DEPOT),
    "undo in a folder": Job((INTO_FOLDER,), ("undo", "--yes"), TO_DEPOT, TO_TERN),
    "undo in a box": Job((INTO_BOX,), ("undo", "--yes"), TO_TERN, TO_DEPOT),
    "restore of a folder": Job(
        (("backup", "saltglass/depot"), INTO_FOLDER), ("restore", "latest", *YES), TO_DEPOT
    ),
    "restore of a slot": Job(
        (("backup", "saltglass/depot"), ("cross", "saltglass/tern:2", "saltglass/depot:1", *YES)),
        ("restore", "latest", "--slot", "1", *YES), TO_DEPOT,
    ),
    "restore of a box": Job(
        (("backup", "saltglass/tern"), INTO_BOX), ("restore", "latest", *YES), TO_TERN
    ),
    "backup": Job((), ("backup", "saltglass"), TO_DEPOT, TO_TERN),
    "export": Job(
        (("backup", "saltglass/depot"),),
        ("backup", "export", "latest", "-o", "{out}/bag.zip"), TO_DEPOT, output="bag.zip",
    ),
    "restore elsewhere": Job(
        (("backup", "saltglass/depot"),), ("restore", "latest", "--to", "{out}/apart"), TO_DEPOT,
        output="apart",
    ),
    "handover here": Job(
        (), ("handover", "orrery-yard/windows:1", "--to", "Isa", "--here", "--yes"), YARDS
    ),
    "handover as a file": Job(
        (), ("handover", "orrery-yard/windows:1", "--to", "Isa", "-o", "{out}/yard.zip"), YARDS,
        output="yard.zip",
    ),
    "pruning": Job(
        (("backup", "saltglass/depot"), INTO_FOLDER, ("backup", "saltglass/depot")),
        ("backup", "prune", "--keep-last", "1", "--keep-daily", "0", "--keep-weekly", "0",
         "--keep-monthly", "0", "--yes"), TO_DEPOT,
    ),
}  # fmt: skip

Tree = dict[str, tuple[object, ...]]


def tree_of(top: Path) -> Tree:
    """Return all that is to be the same of every file and folder below one."""
    found: Tree = {}
    for path in [top, *sorted(top.rglob("*"))] if top.exists() else []:
        data = path.lstat()
        content = blake3(path.read_bytes()).hexdigest() if path.is_file() else "folder"
        marks = tuple((name, os.getxattr(path, name)) for name in sorted(os.listxattr(path)))
        found[path.relative_to(top).as_posix()] = (
            content, data.st_mtime_ns, data.st_mode, data.st_uid, data.st_gid, marks,
        )  # fmt: skip
    return found


def bytes_of(tree: Tree) -> dict[str, object]:
    """Return names and contents alone."""
    return {path: told[0] for path, told in tree.items()}


@dataclass
class Stage:
    """A world that is ready for one job, to be copied for each run."""

    name: str
    job: Job
    template: Path
    calls: list[tuple[str, int, str]] = field(default_factory=list)
    """Calls on files of the world: name, which of its name, and the line that `strace` showed."""
    new: Tree = field(default_factory=dict)
    made: dict[str, object] = field(default_factory=dict)


SERVERS = threading.local()
"""Each worker's process from which the commands are forked."""


def cferry(top: Path, *arguments: str, under: tuple[str, ...] = ()) -> tuple[int, str]:
    """Run the real program, `strace` with options on it; return its exit code and all it said.

    It is a process of its own, forked from one that has the program's modules loaded, and held
    until it is traced: a call's number is counted from there.
    """
    told = [one.replace("{out}", str(top / "out")) for one in arguments]
    env = {name: value for name, value in os.environ.items() if not name.startswith("CFERRY_")}
    env |= {"CFERRY_COMPUTER": str(top / "den"), "CFERRY_HOME": str(top / "own"),
            "PYTHONHASHSEED": "0", "NO_COLOR": "1", "COLUMNS": "200"}  # fmt: skip
    if not hasattr(SERVERS, "own"):
        SERVERS.own = Server()
    said = top.parent / "said"
    tracers: list[subprocess.Popen[str]] = []

    def seize(process: int) -> None:
        tracer = subprocess.Popen(
            ["strace", "-f", *under, "-p", str(process)], stdin=subprocess.DEVNULL,
            stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        tracers.append(tracer)
        assert tracer.stderr
        first = tracer.stderr.readline()
        assert "attached" in first, first
        os.kill(process, signal.SIGUSR1)

    code = SERVERS.own.run("clever_ferry", told, env, said, seize if under else None)
    for tracer in tracers:
        tracer.communicate(timeout=600)
    parts = [said.with_suffix(ending).read_text("utf-8", "replace") for ending in (".out", ".err")]
    return code, "".join(parts)


def prepare(name: str, job: Job, top: Path) -> Stage:
    """Lay a world, do what comes before the job, and note which calls the job makes."""
    world, template = top / "world", top / f"ready-{len(list(top.iterdir()))}"
    den = laid(lay_world, world)
    lay_moth_lantern(den)
    lay_orrery_yard(den, "wren", demo_yards())
    (world / "out").mkdir()
    for path in sorted((world / "den" / job.target).rglob("*"))[:3]:
        if path.is_file():
            os.setxattr(path, "user.note", b"mine")
            path.chmod(0o640)
    for command in job.before:
        settle(world)
        code, told = cferry(world, *command)
        assert code == 0, told
    settle(world)
    world.rename(template)
    stage = Stage(name, job, template)
    lay(stage, world)
    trace = world / "trace"
    under = ("-y", "-s", "0", "-o", str(trace),
             "-e", "trace=" + ",".join(f"?{name}" for name in CALLS))  # fmt: skip
    code, told = cferry(world, *job.command, under=under)
    assert code == 0, told
    own, counts = str(world), dict[tuple[str, str], int]()
    first = ""
    for line in trace.read_text("utf-8", "replace").splitlines():
        if seen := re.match(r"(\d+)\s+(\w+)\(", line):
            first = first or seen[1]
            key = (seen[1], seen[2])
            counts[key] = counts.get(key, 0) + 1
            if own in line and seen[1] == first and seen[2] in CALLS:
                stage.calls.append((seen[2], counts[key], line))
    stage.new = tree_of(world / "den" / job.target)
    if job.output:
        stage.made = contents(world / "out" / job.output)
    shutil.rmtree(world)
    return stage


def settle(world: Path) -> None:
    """Have nothing look fresh, so that nothing is waited for."""
    for path in (world / "den").rglob("*"):
        data = path.lstat()
        os.utime(path, ns=(data.st_atime_ns, data.st_mtime_ns - AGO))


def lay(stage: Stage, world: Path) -> None:
    """Copy a stage's world, times and all."""
    shutil.rmtree(world, ignore_errors=True)
    shutil.copytree(stage.template, world, symlinks=True)


def contents(made: Path) -> dict[str, object]:
    """Return what is in an output, a folder or a zip, read whole."""
    if made.is_dir():
        return bytes_of(tree_of(made))
    with zipfile.ZipFile(made) as archive:
        assert archive.testzip() is None
        names = [name for name in archive.namelist() if name.startswith("data/") or "/" in name]
        return {name: archive.read(name) for name in names if "data/" in name or "bag" not in name}


def faults(stage: Stage, random: Random) -> tuple[str, list[str]]:
    """Choose what goes wrong; return it in words, and as options of `strace`."""
    kind = random.choice(KINDS)
    name, at, line = random.choice(stage.calls)
    if kind in ("kill", "stop", "stops"):
        signal = "SIGKILL" if kind == "kill" else "SIGINT"
        when = f"{at}" if kind != "stops" else f"{at}..{at + random.randrange(1, 40)}"
        told = [f"{name}:signal={signal}:when={when}"]
    elif kind in ("full", "read-only"):
        error = "ENOSPC" if kind == "full" else "EROFS"
        told, own = [], random.choice([one for one in stage.calls if one[0] in WRITING])
        number = stage.calls.index(own)
        for call in WRITING:
            later = [count for one, count, _ in stage.calls[number:] if one == call]
            if later and call != "openat" and (kind != "full" or call not in ("unlink", "fsync")):
                told.append(f"{call}:error={error}:when={later[0]}+")
        if not told:  # nothing that comes later can fail so
            return faults(stage, random)
        line = own[2]
    else:
        error = random.choice(CALLS[name])
        told = [f"{name}:error={error}:when={at}"]
        if kind == "second":
            other = random.choice([one for one in CALLS if one != name])
            behind = sum(1 for one, _, _ in stage.calls if one == other)
            if other not in ("openat", "read", "newfstatat", "close"):
                error, nth = random.choice(CALLS[other]), random.randrange(1, behind + 9)
                told.append(f"{other}:error={error}:when={nth}")
    words = f"{kind}: {'; '.join(told)} [{re.sub(r'^[0-9]+ +', '', line)[:110]}]"
    return words, [word for one in told for word in ("-e", f"inject={one}")]


def one_run(stage: Stage, world: Path, seed: str) -> tuple[str, list[str]]:
    """Lay, disturb, set right, judge; return what was done and what is wrong."""
    random = Random(seed)
    lay(stage, world)
    job = stage.job
    old, source = tree_of(world / "den" / job.target), tree_of(world / "den" / job.source)
    log = records(world)
    words, options = faults(stage, random)
    names = {one.partition("=")[2].partition(":")[0] for one in options if one != "-e"}
    under = ("-o", "/dev/null", "-e", "trace=" + ",".join(sorted(names)), *options)  # fmt: skip
    code, told = cferry(world, *job.command, under=under)
    later, said = cferry(world, "log", "--json")
    wrong = list(
        judge(stage, world, words.partition(":")[0], code, told, later, said, old, source, log)
    )
    return words, [f"{one}\n{told}{said[:300]}" if number == 0 else one
                   for number, one in enumerate(wrong)]  # fmt: skip


def judge(
    stage: Stage, world: Path, kind: str, code: int, told: str, later: int, said: str, old: Tree,
    source: Tree, log: dict[int, tuple[str, str]],
) -> Iterator[str]:  # fmt: skip
    """Yield whatever is not as it is promised."""
    job = stage.job
    target = world / "den" / job.target
    now, ended = tree_of(target), records(world)
    turned = {one: told for one, told in ended.items() if log.get(one) != told}
    if code == 127 or "Fatal Python error" in told:
        code = 1  # Python itself did not start
    for text in (told, said):
        begun = re.findall(r'clever_ferry/(.+)", line \d+, in (\S+)', text)
        ours = set(begun) - {("__main__.py", "<module>"), ("cli/start.py", "<module>")}
        if ("Traceback" in text and ours) or ("Exception ignored" in text and "clever" in text):
            yield "a traceback"
    if code not in (0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 130, -9, 137):
        yield f"exit {code}"
    if code == 8 and job.command[0] != "backup":
        yield "exit 8, and no backup was asked for"
    if job is JOBS["backup"] and told.strip() and code not in (130, -9, 137):
        kept = set(re.findall(r"\b\d{8}-\d{6}-[0-9a-f]{6}\b(?!\.json)", told))
        made = {path.stem for path in (world / "own" / "locker" / "snapshots").glob("*.json")}
        if kept != made:
            yield f"exit {code}, with {kept} told and {made} kept"
    if later != 0:
        yield f"the next command ends with {later}: {said}"
    if job.source and tree_of(world / "den" / job.source) != source:
        yield "the source is not as it was"
    same, new = now == old, bytes_of(now) == bytes_of(stage.new) or as_left(turned, old, now)
    changes = bytes_of(old) != bytes_of(stage.new)
    states = {state for state, _ in turned.values()}
    if not same and not (changes and new):
        yield f"the target is half: {unlike(old, now)}"
    if changes and not same and states & {"put back", "begun"}:
        yield f"the target is new, and the logbook says {states}"
    if changes and same and states & {"proved", "undone"}:
        yield f"the target is old, and the logbook says {states}"
    if changes and not same and not states:
        yield "the target is new, and the logbook says nothing"
    if changes and same and code == 0:
        yield "exit 0, and the target is old"
    if not same and ("No save was changed" in told or "Nothing was changed" in told):
        yield "it says that nothing was changed"
    if not same and code in (6, 7, 10):
        yield f"exit {code}, and the target is new"
    if new and changes and job.command[0] == "undo" and attributes(now) != attributes(stage.new):
        yield f"attributes: {unlike(stage.new, now)}"
    yield from left_behind(world, may_stay=code in (-9, 137) or kind == "read-only")
    yield from locker_faults(world / "own" / "locker")
    if job.output:
        yield from output_faults(stage, world / "out", code)
    if turned and states == {"proved"} and changes:
        settle(world)
        undone, why = cferry(world, "undo", "--yes")
        back = {path: (*one[:1], *one[2:]) for path, one in old.items()}
        if undone != 0:
            yield f"undo ends with {undone}: {why}"
        elif {path: (*one[:1], *one[2:]) for path, one in tree_of(target).items()} != back:
            yield f"undo does not bring back what was: {unlike(old, tree_of(target))}"


def as_left(turned: dict[int, tuple[str, str]], old: Tree, now: Tree) -> bool:
    """Tell whether a target is just as the logbook says that a change has left it."""
    left = [one for _, story in turned.values() for one in json.loads(story).get("left", [])]
    own = {one["path"]: one["digest"] for one in left}
    return (
        bool(own)
        and all(now.get(path, (None,))[0] == digest for path, digest in own.items())
        and {path: one for path, one in old.items() if path not in own and one[0] != "folder"}
        == {path: one for path, one in now.items() if path not in own and one[0] != "folder"}
    )


def attributes(tree: Tree) -> dict[str, tuple[object, ...]]:
    """Return all but the times of folders."""
    return {path: one if one[0] != "folder" else one[2:] for path, one in tree.items()}


def unlike(one: Tree, other: Tree) -> list[str]:
    """Return the paths that differ, with what differs."""
    return [f"{path}: {one.get(path)} / {other.get(path)}" for path in sorted(one.keys() | other)
            if one.get(path) != other.get(path)][:4]  # fmt: skip


def records(world: Path) -> dict[int, tuple[str, str]]:
    """Read the logbook as SQLite has it."""
    book = world / "own" / "logbook.sqlite"
    if not book.exists():
        return {}
    with closing(sqlite3.connect(f"file:{book}?mode=ro", uri=True)) as opened:
        rows = opened.execute("SELECT number, state, story FROM crossings").fetchall()
    return {number: (state, story) for number, state, story in rows}


def left_behind(world: Path, *, may_stay: bool) -> Iterator[str]:
    """Yield what nobody will sweep; a begun output `may_stay` on a disk that takes nothing."""
    own = world / "own"
    for path in [*(world / "den").rglob(".cferry-*"), *(own / "journal").glob("*.json")]:
        yield f"left behind: {path.relative_to(world)}"
    parts = [*own.glob("locker/**/*.part"), *own.glob("journal/*.part")]
    for path in [*own.rglob(".new-*"), *parts]:
        yield f"left behind: {path.relative_to(world)}"
    if not may_stay:
        for path in (world / "out").rglob(".*"):
            yield f"left behind: {path.relative_to(world)}"


def locker_faults(locker: Path) -> Iterator[str]:
    """Yield what is not whole in the locker: objects and snapshots by their own digests."""
    for path in (locker / "objects").glob("??/*"):
        raw = path.read_bytes()
        if path.suffix == ".zst":
            raw = zstandard.ZstdDecompressor().decompressobj().decompress(raw)
        if blake3(raw).hexdigest() != path.parent.name + path.name.removesuffix(".zst"):
            yield f"the object {path.name} is damaged"
    for path in (locker / "snapshots").glob("*.json"):
        data = json.loads(path.read_bytes())
        body = json.dumps(data["body"], sort_keys=True, separators=(",", ":")).encode()
        if blake3(body).hexdigest() != data["digest"]:
            yield f"the snapshot {path.name} is damaged"
        for one in data["body"]["files"]:
            place = locker / "objects" / one["digest"][:2] / one["digest"][2:]
            if not place.exists() and not place.with_name(place.name + ".zst").exists():
                yield f"the snapshot {path.name} misses an object"


def output_faults(stage: Stage, out: Path, code: int) -> Iterator[str]:
    """Yield what is wrong with an output: it is to be there whole, or not at all."""
    made = out / stage.job.output
    if not made.exists():
        if code == 0:
            yield "exit 0, and there is no output"
        return
    try:
        found = contents(made)
    except Exception as error:
        yield f"the output is half: {error!r}"
        return
    if found.keys() != stage.made.keys():
        yield "the output is half"
    if code not in (0, 1, 130, -9, 137):
        yield f"exit {code}, and there is an output"


def main() -> int:
    """Run all, two at a time; return 1 where something ended wrong."""
    asked = argparse.ArgumentParser()
    asked.add_argument("--runs", type=int, default=1000)
    asked.add_argument("--seed", default="1")
    asked.add_argument("--only", type=int)
    asked.add_argument("--job", default="")
    asked.add_argument("--at", default="/dev/shm" if Path("/dev/shm").is_dir() else None)
    told = asked.parse_args()
    numbers = list(range(told.runs)) if told.only is None else [told.only]
    bad = 0
    with tempfile.TemporaryDirectory(prefix="cferry-outside-", dir=told.at) as name:
        workers = min(os.cpu_count() or 2, len(numbers))

        def work(worker: int) -> int:
            """Do a share of the runs, all in one place: records name places by their paths."""
            top, found = Path(name) / str(worker), 0
            top.mkdir()
            stages = [prepare(one, job, top) for one, job in JOBS.items() if told.job in one]
            for number in numbers[worker::workers]:
                stage = stages[number % len(stages)]
                words, wrong = one_run(stage, top / "world", f"{told.seed} {number}")
                if wrong:
                    found += 1
                    print(f"{number} {stage.name}: {words}", *wrong, sep="\n    ", flush=True)
            return found

        with ThreadPoolExecutor(workers) as pool:
            bad = sum(pool.map(work, range(workers)))
    print(f"Runs disturbed from outside: {len(numbers):,}; ended wrong: {bad}")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
