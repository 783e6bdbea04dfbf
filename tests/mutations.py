"""The code changed on purpose, one place at a time: do the tests notice?

    python -m tests.mutations [--changes 100] [--seed 1] [--room layers] [--only 7]
                              [--reached FOLDER] [--choose]

Each change takes a place in a room of formats, crossing or keeping: an operator is turned, a check
is left out, a number is one more, a step is not taken. All tests run once first, to learn which of
them come to which place; then those that come to the changed one run on a copy, the quickest first,
until one fails. A change that none notices is printed. Changes that can't matter are not chosen:
texts and how much of them is said, sizes of buffers and bounds, what only another system comes to,
and lines that say so themselves with `# free:` and why.
`--reached` keeps what was learnt for the next time that the same changes are asked for; with
`--choose` as well, it is only noted there where they are, for a run of the tests that learns.
Exits with 1 where more than a twentieth of the changes (and more than one) went unnoticed.
"""

from __future__ import annotations

import argparse
import ast
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from random import Random
from xml.etree import ElementTree

from tests.reaching import Place, asked_for, reached

TOP = Path(__file__).parent.parent
ROOMS = (
    "documents",
    "layouts",
    "layers",
    "boxes",
    "naming",
    "forms",
    "proving",
    "crossing",
    "keeping",
    "moving",
    "judging",
    "launches",
    "bequeathing",
)
QUICK = 12
"""So many of the quickest tests run first."""
HANGS = 300
"""Seconds after which tests hang, beside twenty times what they took when nothing was changed."""
TURNED: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
    ast.And: ast.Or, ast.Or: ast.And, ast.Add: ast.Sub, ast.Sub: ast.Add, ast.BitAnd: ast.BitOr,
}  # fmt: skip
LARGE = 1_000
"""From here on, a number is the size of a buffer or a bound, and one more is no change."""


@dataclass(frozen=True)
class Change:
    """One place in one file, and what is done there: the number of a node, and of a way."""

    path: Path
    line: int
    what: str
    node: int
    way: int

    @property
    def place(self) -> Place:
        """Where it is, as the tests are asked who comes there."""
        return self.path.relative_to(TOP).as_posix(), self.node

    @property
    def source(self) -> str:
        """The whole file, changed."""
        tree = ast.parse(self.path.read_text("utf-8"))
        place = next(one for at, one in enumerate(ast.walk(tree)) if at == self.node)
        list(_ways(place))[self.way][1](place)
        return ast.unparse(ast.fix_missing_locations(tree))


def changes(path: Path) -> Iterator[Change]:
    """Yield all changes that can be made to a file."""
    text = path.read_text("utf-8")
    lines = text.splitlines()
    tree = ast.parse(text)
    idle = {
        id(one) for node in ast.walk(tree) if isinstance(node, ast.BinOp)
        if isinstance(node.op, ast.LShift) for one in (node.left, node.right)
        if isinstance(node.left, ast.Constant)
    }  # fmt: skip
    idle |= {id(one.value) for one in ast.walk(tree)
               if isinstance(one, ast.keyword) and one.arg == "strict"}  # fmt: skip
    elsewhere = {
        number for one in ast.walk(tree) if isinstance(one, ast.If)
        if ast.unparse(one.test) in _WINDOWS
        for inner in one.body for number in range(inner.lineno, (inner.end_lineno or 0) + 1)
    }  # fmt: skip
    said = {
        id(inner) for one in ast.walk(tree)
        if isinstance(one, ast.JoinedStr) or (
            isinstance(one, ast.keyword) and one.arg in ("details", "advice")
        )
        for part in ast.walk(one) if isinstance(part, ast.Slice) for inner in ast.walk(part)
    }  # fmt: skip
    idle |= said | {
        id(one) for one in ast.walk(tree) if isinstance(one, ast.Compare)
        if isinstance(one.ops[0], ast.Lt | ast.LtE | ast.Gt | ast.GtE) and _bounded(one)
    }  # fmt: skip
    for number, node in enumerate(ast.walk(tree)):
        line = getattr(node, "lineno", 0)
        first = lines[line - 1].strip() if line else ""
        if "# free:" in first or first.startswith(_ONLY_SAID) or id(node) in idle:
            continue
        if line in elsewhere or any(sign in first for sign in _OTHER_SYSTEMS):
            continue
        for way, (what, _) in enumerate(_ways(node)):
            yield Change(path, line, what, number, way)


def _bounded(compared: ast.Compare) -> bool:
    """Tell whether a number is held against a bound, which one more or less does not matter to."""
    names = [one.id for one in ast.walk(compared) if isinstance(one, ast.Name)]
    return any(name.isupper() or name in ("most", "limit") for name in names)


_ONLY_SAID = ("def ", "class ", "@", "__all__", "from ", "import ", "if TYPE")
"""What lines begin with that tell of types and names, and do nothing."""
_OTHER_SYSTEMS = ("sys.platform", "os.name", "hasattr(os,", "ctypes.")
"""What lines have that ask which system this is."""
_WINDOWS = ("sys.platform == 'win32'", "os.name == 'nt'")
"""What begins what only Windows runs."""
_Changing = Callable[[ast.AST], None]


def _ways(node: ast.AST) -> Iterator[tuple[str, _Changing]]:
    match node:
        case ast.Compare(ops=[one]) if type(one) in TURNED:
            other = TURNED[type(one)]
            yield f"{type(one).__name__} is {other.__name__}", _put("ops", [other()])
        case ast.BoolOp(op=one):
            other = TURNED[type(one)]
            yield f"{type(one).__name__} is {other.__name__}", _put("op", other())
        case ast.BinOp(op=one) if type(one) in TURNED and not _texts(node):
            other = TURNED[type(one)]
            yield f"{type(one).__name__} is {other.__name__}", _put("op", other())
        case ast.If(body=[ast.Raise()], orelse=[]):
            yield "the check is left out", _put("test", ast.Constant(False))
        case ast.If(test=test) if not isinstance(test, ast.Name):
            yield "the condition is never so", _put("test", ast.Constant(False))
        case ast.Constant(value=bool(value)):
            yield f"{value} is {not value}", _put("value", not value)
        case ast.Constant(value=int(value)) if abs(value) < LARGE:
            yield f"{value} is {value + 1}", _put("value", value + 1)
        case ast.Expr(value=ast.Call()):
            yield "the step is not taken", _put("value", ast.Constant(None))


def _put(name: str, value: object) -> _Changing:
    return lambda node: setattr(node, name, value)


def _texts(node: ast.BinOp) -> bool:
    return any(isinstance(one, ast.Constant | ast.JoinedStr)
               and not isinstance(getattr(one, "value", None), int)
               for one in (node.left, node.right))  # fmt: skip


def chosen(random: Random, count: int, rooms: list[str]) -> list[Change]:
    """Choose places at random, each room as often as any other."""
    every = {
        room: [
            one
            for path in sorted((TOP / "src" / "clever_ferry" / room).glob("*.py"))
            for one in changes(path)
        ]
        for room in rooms
    }
    found: list[Change] = []
    while len(found) < count:
        room = rooms[len(found) % len(rooms)]
        found.append(random.choice(every[room]))
    return found


class Tests:
    """The tests: which of them come to some changes, and how long each takes."""

    def __init__(self, folder: Path, every: Iterable[Change]) -> None:
        if not asked_for(folder, (one.place for one in every)):
            subprocess.run(
                [sys.executable, "-m", "pytest", f"--junitxml={folder / 'times.xml'}"],
                cwd=TOP, env={**_own(), "CFERRY_REACHED": str(folder)}, check=True,
            )  # fmt: skip
        self._times = {
            f"{one.get('classname', '').replace('.', '/')}.py::{one.get('name')}":
            float(one.get("time", 0))
            for one in ElementTree.parse(folder / "times.xml").iter("testcase")
        }  # fmt: skip
        self._reached = reached(folder)

    def of(self, change: Change) -> list[str]:
        """Return the tests that come to a change, the quickest first."""
        found = self._reached.get(change.place, set())
        every = {test for name in found for test in ([name] if "::" in name else self._file(name))}
        return sorted(every, key=lambda test: (self._times.get(test, 0.0), test))

    def limit(self, batch: list[str]) -> float:
        """Return after how many seconds some tests hang."""
        return HANGS + 20 * sum(self._times.get(test, 0.0) for test in batch)

    def _file(self, name: str) -> Iterable[str]:
        return (test for test in self._times if test.startswith(f"{name}::"))


def _own() -> dict[str, str]:
    return {name: value for name, value in os.environ.items() if not name.startswith("CFERRY_")}


def noticed(change: Change, tests: Tests, top: Path) -> bool:
    """Make a change in a copy and run the tests that come there; tell whether one failed."""
    found = tests.of(change)
    place = top / change.path.relative_to(TOP)
    before = place.read_text("utf-8")
    place.write_text(change.source, "utf-8")
    try:
        for batch in (found[:QUICK], found[QUICK:]):
            if batch and subprocess.run(
                [sys.executable, "-m", "pytest", "-x", "-q", "-n", "0", "-p", "no:cacheprovider",
                 "-o", "addopts=", *batch],
                cwd=top, env={**_own(), "PYTHONPATH": str(top / "src")}, check=False,
                stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, timeout=tests.limit(batch),
            ).returncode:  # fmt: skip
                return True
        return False
    except subprocess.TimeoutExpired:  # it goes round for ever, which nobody would overlook
        return True
    finally:
        place.write_text(before, "utf-8")


def main() -> int:
    """Make the changes, two at a time; return 1 where too many went unnoticed."""
    asked = argparse.ArgumentParser()
    asked.add_argument("--changes", type=int, default=100)
    asked.add_argument("--seed", default="1")
    asked.add_argument("--room", choices=ROOMS)
    asked.add_argument("--only", type=int)
    asked.add_argument("--reached", type=Path)
    asked.add_argument("--choose", action="store_true")
    told = asked.parse_args()
    every = chosen(Random(told.seed), told.changes, [told.room] if told.room else list(ROOMS))
    if told.choose:
        asked_for(told.reached, (one.place for one in every))
        return 0
    numbers = range(len(every)) if told.only is None else [told.only]
    workers = os.cpu_count() or 2
    with tempfile.TemporaryDirectory(prefix="cferry-changed-") as name:
        tests = Tests(told.reached or Path(name) / "reached", every)

        def work(worker: int) -> list[int]:
            top, missed = Path(name) / str(worker), []
            ignored = shutil.ignore_patterns(
                ".git", ".venv", "__pycache__", "screenshots", ".*_cache"
            )
            shutil.copytree(TOP, top, ignore=ignored)
            for number in list(numbers)[worker::workers]:
                one = every[number]
                if not noticed(one, tests, top):
                    missed.append(number)
                    where = one.path.relative_to(TOP)
                    line = one.path.read_text("utf-8").splitlines()[one.line - 1].strip()
                    print(f"{number} unnoticed: {where}:{one.line}: {one.what}: {line}", flush=True)
            return missed

        with ThreadPoolExecutor(workers) as pool:
            missed = [number for found in pool.map(work, range(workers)) for number in found]
    print(f"Changes made on purpose: {len(numbers)}; unnoticed: {len(missed)}")
    return 1 if len(missed) > max(1, len(numbers) // 20) else 0


if __name__ == "__main__":
    sys.exit(main())
