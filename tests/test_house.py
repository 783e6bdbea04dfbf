"""The house: imports run downward, the core knows no terminal, the demo knows no engine."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[1] / "src"
FLOORS = [
    {"__main__"},
    {"cli"},
    {"api"},
    {"looking"},
    {"backups", "checking", "handovers", "harbours"},
    {"crossing"},
    {"proving"},
    {"unboxing"},
    {"finding"},
    {"recipes"},
    {"boxes"},
    {"forms"},
    {"layers"},
    {"layouts"},
    {"naming"},
    {"keeping"},
    {"moving"},
    {"cargo"},
    {"tree"},
    {"payload", "certainty", "zips"},
    {"wording"},
    {"errors", "model", "visible"},
]
LEVEL = {room: number for number, floor in enumerate(FLOORS) for room in floor}
MODULES = sorted((SOURCE / "clever_ferry").rglob("*.py"))


def imports(path: Path) -> set[str]:
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found.update(alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path}: a relative import"
            module = node.module or ""
            found.add(module)
            found.update(f"{module}.{alias.name}" for alias in node.names)
    return found


def room(path: Path) -> str:
    return path.relative_to(SOURCE / "clever_ferry").parts[0].removesuffix(".py")


def test_every_room_has_its_floor() -> None:
    assert {room(path) for path in MODULES} - {"__init__"} == set(LEVEL)


@pytest.mark.parametrize("path", MODULES, ids=lambda path: path.stem)
def test_imports_run_downward(path: Path) -> None:
    here = room(path)
    for name in imports(path):
        parts = name.split(".")
        if parts[0] == "clever_ferry" and len(parts) > 1 and parts[1] in LEVEL and here in LEVEL:
            assert LEVEL[parts[1]] >= LEVEL[here], f"{path} imports {name}, which is above it"
        if parts[0] in ("click", "rich"):
            assert here == "cli", f"{path}: only the command line knows {parts[0]}"
        if parts[0] == "clever_ferry_demo":
            assert path.name == "demo.py", f"{path} imports the demo world"


def test_the_format_languages_touch_no_disk_and_no_clock() -> None:
    barred = {"pathlib", "os", "time", "random", "secrets", "datetime", "tempfile", "shutil"}
    for path in MODULES:
        if room(path) in ("boxes", "layers", "layouts", "naming"):
            assert not barred & imports(path), path


def test_the_demo_imports_nothing_of_the_engine() -> None:
    for path in (SOURCE / "clever_ferry_demo").rglob("*.py"):
        assert not any(
            name == "clever_ferry" or name.startswith("clever_ferry.") for name in imports(path)
        ), path


def test_no_title_stands_in_the_code() -> None:
    """A game's or store's peculiarity is data in a recipe; only help and advice give examples."""
    for path in MODULES:
        if room(path) == "cli":
            continue
        tree = ast.parse(path.read_text("utf-8"))
        spoken = {
            id(inner)
            for node in ast.walk(tree)
            if isinstance(node, ast.Expr)
            or (isinstance(node, ast.keyword) and node.arg in ("advice", "description"))
            for inner in ast.walk(node)
        }
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                for title in ("openttd", "tern-", "depot", "saltglass", "cobalt", "tern arcade"):
                    assert id(node) in spoken or title not in node.value.lower(), (path, node.value)


def test_help_imports_click_alone() -> None:
    code = (
        "import sys\nfrom clever_ferry.cli.start import run\n"
        "try:\n    run(['--help'])\nexcept SystemExit:\n    pass\n"
        "print([m for m in ('rich', 'msgspec', 'sqlite3', 'zstandard', 'tomllib') "
        "if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


def test_no_module_is_a_drawer() -> None:
    for path in MODULES:
        assert path.stem not in ("utils", "util", "helpers", "common", "misc"), path
        assert len(path.read_text("utf-8").splitlines()) <= 500, path
