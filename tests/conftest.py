"""What all tests share: the demo computer, the built program, and folders to the byte."""

from __future__ import annotations

import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from hashlib import blake2b
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from clever_ferry.api import Ferry, open_ferry
from clever_ferry_demo.world import DEPOT_ACCOUNT, TERN_ACCOUNT, lay_loft, lay_world
from tests.forking import Server, can_serve

LONG = os.environ.get("CFERRY_TESTS") in ("long", "all")
"""Whether the tests that are marked `long`, and those of properties, do more than else."""

settings.register_profile(
    "ours",
    deadline=None,
    max_examples=300 if LONG else 25,
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("ours")

DEPOT = "C/Users/Wren/AppData/LocalLow/NineKettles/Saltglass"
TERN = "C/Users/Wren/AppData/Local/TernArcade/Crates"


@dataclass(frozen=True)
class Outcome:
    """What a run of a program came to."""

    code: int
    out: str
    err: str

    @property
    def data(self) -> Any:
        """What was printed as JSON; where that is one list, the list alone."""
        told = json.loads(self.out)
        assert told.pop("format") == 1
        lists = list(told.values())
        return lists[0] if len(lists) == 1 and isinstance(lists[0], list) else told


SERVER = Server()
"""The process from which all commands of these tests are forked."""


def run_module(module: str, *arguments: str | Path, env: dict[str, str], **more: Any) -> Outcome:
    """Run a module as a program of its own, and return what it came to."""
    own = {name: value for name, value in os.environ.items() if not name.startswith("CFERRY_")}
    whole = {
        **own, "PYTHONIOENCODING": "utf-8", "NO_COLOR": "1", "COLUMNS": "200", **env,
    }  # fmt: skip
    if can_serve() and not more:
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "run"
            code = SERVER.run(module, [str(one) for one in arguments], whole, out)
            told = [Path(f"{out}.{ending}").read_text("utf-8") for ending in ("out", "err")]
            return Outcome(code, *told)
    done = subprocess.run(
        [sys.executable, "-m", module, *map(str, arguments)],
        capture_output=True,
        encoding="utf-8",
        timeout=1200,
        env=whole,
        check=False,
        **more,
    )
    return Outcome(done.returncode, done.stdout, done.stderr)


@cache
def _laid(lay: Callable[[Path], Path]) -> tuple[tempfile.TemporaryDirectory[str], Path]:
    kept = tempfile.TemporaryDirectory()
    return kept, lay(Path(kept.name))


def laid(lay: Callable[[Path], Path], folder: Path) -> Path:
    """Lay a demo computer as `lay_world` and `lay_loft` do: a copy of one that was laid once."""
    _, top = _laid(lay)
    return shutil.copytree(top, folder / top.name)


def state(folder: Path) -> dict[str, tuple[str, int, int]]:
    """Return every file's and folder's digest, time stamp and permissions below a folder."""
    found = {}
    for path in [folder, *sorted(folder.rglob("*"))]:
        data = path.stat()
        content = blake2b(path.read_bytes()).hexdigest() if path.is_file() else "folder"
        found[path.relative_to(folder).as_posix()] = (content, data.st_mtime_ns, data.st_mode)
    return found


def bins(more: str = "", **paths: str) -> str:
    """Return a recipe of one piece: by the editions' names, how each names its files.

    A path with `box:` in front is in that box, one with `folder > ` in a folder of the place.
    """
    parts = [f'recipe = 1\ngame = {{ id = "bin", title = "Bins" }}\n'
             f"pieces.world = {{ needed = true{more} }}"]  # fmt: skip
    for name, path in paths.items():
        box, _, path = path.rpartition(":")
        folder, _, path = path.rpartition(" > ")
        place = f', path = "{folder}"' if folder else ""
        parts.append(
            f'[editions.{name}]\ntitle = "{name.title()}"\n'
            + (f'box = "{box}"\n' if box else "")
            + f'berths = [{{ on = "any", under = "given"{place} }}]\n'
            f'fields.slot = {{ type = "number" }}\nfiles = [{{ role = "world", path = "{path}" }}]'
        )
    return "\n".join(parts)


def zips_within(depth: int) -> bytes:
    """Return a zip with an `in.zip` in it, and so on, so deep; in the innermost is `deep.sav`."""
    data = b"x"
    for name in ("deep.sav", *["in.zip"] * depth):
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr(name, data)
        data = out.getvalue()
    return data


def link(place: Path, to: Path) -> None:
    """Make a link; skip the test where this system makes none (and may say that it did)."""
    try:
        place.symlink_to(to, target_is_directory=to.is_dir())
        made = place.is_symlink()
    except OSError:
        made = False
    if not made:
        pytest.skip("this system makes no links")


class Den:
    """The demo computer, with the programs pointed at it."""

    def __init__(self, top: Path, home: Path) -> None:
        self.top = top
        self.depot = top / DEPOT / DEPOT_ACCOUNT
        self.tern = top / TERN / TERN_ACCOUNT / "saltglass"
        self.home = home
        self.env = {"CFERRY_COMPUTER": str(top), "CFERRY_HOME": str(home)}

    def cferry(self, *arguments: str | Path, code: int = 0, **more: Any) -> Outcome:
        done = run_module("clever_ferry", *arguments, env=self.env, **more)
        assert done.code == code, f"{done.code}\n{done.out}\n{done.err}"
        return done

    def game(self, store: str, *arguments: str, account: str | None = None) -> Outcome:
        options = ["--store", store, *(["--account", account] if account else [])]
        module = "clever_ferry_demo.saltglass.program"
        return run_module(module, *options, *arguments, env=self.env)

    def loads(self, store: str, slot: int) -> str:
        """Have the stand-in load a slot, and return what it says of it."""
        done = self.game(store, "load", "--slot", str(slot))
        assert done.code == 0, done.err
        return done.out.partition(": ")[2].strip()

    def ferry(self) -> Ferry:
        """Open the ferry here, as the program does."""
        with pytest.MonkeyPatch.context() as patch:
            for name, value in self.env.items():
                patch.setenv(name, value)
            return open_ferry(self.top)

    def recipe(self, name: str, text: str) -> Path:
        """Put a recipe of the user's own where the program looks for it."""
        folder = self.home / "recipes"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"{name}.toml").write_text(text, "utf-8")
        return folder / f"{name}.toml"


def at_terminal(den: Den, *arguments: str, answers: list[str]) -> tuple[int, str]:
    """Run the program at a pseudo terminal; give each answer when it asks (a line that waits)."""
    pty = pytest.importorskip("pty", reason="this system has no pseudo terminals")
    pid, handle = pty.fork()
    if pid == 0:
        environment: dict[str, Any] = {**os.environ, **den.env, "TERM": "xterm", "COLUMNS": "120"}
        os.execve(sys.executable, [sys.executable, "-m", "clever_ferry", *arguments], environment)
    shown = b""
    deadline = time.monotonic() + 600
    while time.monotonic() < deadline:
        try:
            part = os.read(handle, 65536)
        except OSError:  # the program has ended
            break
        if not part:
            break
        shown += part
        if answers and (
            shown.rstrip().endswith((b"]:", b"one:", b"(1<=x<=2):", b"show):", b"know:"))
        ):
            os.write(handle, answers.pop(0).encode() + b"\n")
            time.sleep(0.2)
    _, status = os.waitpid(pid, 0)
    return os.waitstatus_to_exitcode(status), shown.decode("utf-8", "replace")


@pytest.fixture
def den(tmp_path: Path) -> Den:
    return Den(laid(lay_world, tmp_path / "world"), tmp_path / "own")


@pytest.fixture
def loft(tmp_path: Path) -> Den:
    return Den(laid(lay_loft, tmp_path / "world"), tmp_path / "own")


@pytest.fixture
def linux(tmp_path: Path) -> Callable[..., Den]:
    """Return a maker of described Linux computers."""

    def make(**folders: str) -> Den:
        top = tmp_path / "attic"
        top.mkdir()
        lines = [f'{name.replace("_", "-")} = "{path}"' for name, path in folders.items()]
        text = 'name = "attic"\nsystem = "linux"\n[folders]\n' + "\n".join(lines)
        (top / "computer.toml").write_text(text, "utf-8")
        for path in folders.values():
            (top / path).mkdir(parents=True, exist_ok=True)
        return Den(top, tmp_path / "own")

    return make


def pytest_runtest_setup(item: pytest.Item) -> None:
    """Leave out what is only for long runs, for the reason that its mark gives."""
    for reason in [why for mark in item.iter_markers("long") for why in mark.args]:
        if not LONG:
            pytest.skip(f"{reason}: CFERRY_TESTS=long runs it")


def pytest_xdist_auto_num_workers() -> int:
    """Use a few more workers than processors: many tests wait for a target to be quiet."""
    return (os.cpu_count() or 1) + 2


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """Say how many faults were injected: the sum over all tests that tell a number."""
    reports = terminalreporter.stats.get("passed", []) + terminalreporter.stats.get("failed", [])
    told = [value for one in reports for name, value in one.user_properties if name == "injections"]
    kills = [value for one in reports for name, value in one.user_properties if name == "kills"]
    routes = [value for one in reports for name, value in one.user_properties if name == "routes"]
    drafts = [int(value) for one in reports for name, value in one.user_properties
              if name == "drafts"]  # fmt: skip
    if drafts:  # each says 0 as it begins, and 1 once it was carried there and back
        count = f"{sum(drafts)} of {drafts.count(0)}"
        terminalreporter.write_line(
            f"Drafts that carry there and back with no hand at them: {count}"
        )
    if routes:
        terminalreporter.write_line(f"Routes times directions: {sum(routes):,}")
    if kills:
        terminalreporter.write_line(f"Programs killed: {sum(kills):,}")
    if told:
        terminalreporter.write_line(f"Faults injected: {sum(told):,}")
        wanted = 2_000 if LONG else 0
        assert sum(told) >= wanted, "fewer faults were injected than are wanted"
