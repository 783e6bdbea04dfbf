"""The house: who may use whom, the core knows no terminal, the demo knows no engine."""

from __future__ import annotations

import ast
import subprocess
import sys
from graphlib import TopologicalSorter
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[1] / "src"
MAY = {
    "errors": "",
    "model": "",
    "visible": "",
    "wording": "visible",
    "payload": "errors",
    "certainty": "",
    "zips": "errors",
    "tree": "payload",
    "cargo": "wording payload",
    "moving": "errors payload zips tree cargo",
    "links": "errors tree moving.files moving.shore moving.system",
    "keeping": "errors certainty payload tree cargo moving",
    "naming": "errors model",
    "documents": "errors model payload",
    "layouts": "errors model wording payload naming documents",
    "layers": "errors model wording payload certainty zips moving.zip_times documents naming "
              "layouts",
    "forms": "errors model payload certainty zips documents layers",
    "boxes": "errors model wording payload certainty zips tree documents naming layouts layers "
             "forms.databases forms.database_files forms.rows",
    "recipes": "errors model wording payload certainty tree cargo moving.disk moving.names "
               "documents naming layouts layers forms boxes",
    "finding": "errors model payload tree cargo moving keeping.readings keeping.snapshots "
               "naming layers.known boxes recipes",
    "unboxing": "errors model payload zips tree cargo moving.disk moving.files moving.names "
                "moving.outputs documents layers forms boxes recipes",
    "proving": "errors cargo certainty naming layers.known boxes recipes finding",
    "crossing": "errors payload tree cargo moving keeping documents naming forms.database_files "
                "forms.recognising "
                "boxes recipes finding proving",
    "backups": "errors keeping recipes finding crossing",
    "judging": "errors visible cargo moving.names naming recipes.loader_models "
               "recipes.tables finding.berths",
    "asking": "errors cargo checking keeping.keeps keeping.loaders recipes finding judging places",
    "launches": "errors cargo moving.files moving.waking keeping.logbook proving recipes "
                "finding.berths",
    "watching": "errors cargo keeping.keeps keeping.launches keeping.logbook moving.waking finding "
                "proving crossing.backing_up backups launches places",
    "sheets": "errors visible wording cargo recipes.tables",
    "noting": "errors wording payload cargo recipes.tables finding proving backups places sheets",
    "checking": "errors certainty cargo recipes finding crossing.rules",
    "parcels": "errors cargo payload moving recipes finding.berths",
    "uploads": "errors payload tree moving.files moving.outputs moving.zip_times keeping.keeps "
               "recipes finding crossing",
    "grafting": "errors model wording payload cargo layers documents recipes",
    "grafts": "errors model cargo keeping.keeps layers recipes finding crossing grafting noting "
              "places",
    "bequeathing": "errors wording payload cargo documents layers.known moving.disk moving.files "
                   "recipes sheets.bequest_views",
    "bequests": "errors model cargo keeping.keeps moving.disk recipes finding crossing "
                "bequeathing noting places",
    "drafting": "errors payload tree layouts boxes forms documents.places moving.files recipes "
                "finding.computers studying proving.trying",
    "studying": "errors cargo documents.places forms layouts.digests layouts.times moving.files "
                "payload tree",
    "handovers": "errors payload parcels tree cargo moving.sending recipes finding crossing",
    "served": "errors links keeping.keeps moving finding.harbours",
    "harbours": "errors tree links.opening moving keeping parcels recipes finding served",
    "looking": "errors tree cargo moving.files recipes finding unboxing harbours",
    "places": "errors recipes finding harbours",
    "rehearsing": "errors cargo keeping.keeps naming recipes finding crossing",
    "results": "errors recipes finding unboxing proving crossing rehearsing",
    "boarding": "keeping.keeps keeping.harbour_names links.opening links.server moving.shores "
                "recipes finding ferry",
    "ferry": "errors links.opening parcels asking watching keeping.keeps keeping.logbook boxes "
             "recipes finding unboxing proving crossing backups checking grafts bequests handovers "
             "harbours looking noting places rehearsing results",
    "api": "errors boarding cargo keeping.logbook keeping.pruning keeping.snapshots "
           "keeping.verifying recipes.telling finding.berths unboxing proving crossing backups "
           "checking handovers looking noting recipes.tables rehearsing results sheets ferry",
    "cli": "errors forms.recognising studying drafting model visible certainty tree cargo "
           "moving.outputs keeping.logbook keeping.pruning keeping.snapshots keeping.verifying "
           "recipes finding unboxing.taking_apart proving crossing checking grafting.wishes grafts "
           "bequeathing bequests handovers "
           "judging.verdict boarding launches links.opening links.server parcels uploads watching "
           "asking looking noting rehearsing results sheets wording ferry",
    "__main__": "cli",
}  # fmt: skip
"""Which rooms each room may use: all of a room, or those of its modules that are named."""
MODULES = sorted((SOURCE / "clever_ferry").rglob("*.py"))
NAMES = {
    ".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__"): path
    for path in MODULES
}


def imports(path: Path) -> set[str]:
    """Return what a file imports anywhere; the program's own modules by their whole names."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found.update(alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path}: a relative import"
            module = node.module or ""
            for alias in node.names:
                whole = f"{module}.{alias.name}"
                found.add(whole if whole in NAMES else module)
    return found


def room(path: Path) -> str:
    return path.relative_to(SOURCE / "clever_ferry").parts[0].removesuffix(".py")


def test_every_use_of_a_room_by_another_is_written_down_and_each_that_is_written_down_is() -> None:
    used = {
        (room(path), parts[1], ".".join(parts[1:]))
        for path in MODULES
        for parts in (name.split(".") for name in imports(path) if name.startswith("clever_ferry."))
        if parts[1] != room(path)
    }
    assert {room(path) for path in MODULES} - {"__init__"} == set(MAY)
    allowed = {(here, name) for here, names in MAY.items() for name in names.split()}
    new = {
        (here, module) for here, there, module in used
        if (here, there) not in allowed and (here, module) not in allowed
    }  # fmt: skip
    assert not new, "a new edge: is it meant? then write it down in MAY"
    every = {(here, name) for here, *names in used for name in names}
    assert allowed <= every, "an edge that nothing uses"


def test_imports_go_round_in_no_circle() -> None:
    rooms = {
        here: {name.partition(".")[0] for name in names.split()} for here, names in MAY.items()
    }
    for graph in (rooms, {name: imports(path) & NAMES.keys() for name, path in NAMES.items()}):
        TopologicalSorter(graph).prepare()


@pytest.mark.parametrize("path", MODULES, ids=lambda path: path.stem)
def test_only_the_command_line_knows_of_terminals_and_of_the_demo(path: Path) -> None:
    found = {name.partition(".")[0] for name in imports(path)}
    assert room(path) == "cli" or not found & {"click", "rich"}
    assert path.name == "demo.py" or "clever_ferry_demo" not in found


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
