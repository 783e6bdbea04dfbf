"""Which tests come to places of the code that are asked for: learnt while the tests run.

Where the environment names a folder in `CFERRY_REACHED`, the file `of` in it names places, as
lines of JSON: a file, and the number that one of its nodes has as `ast.walk` goes. Each statement
around such a node then notes, as it is run, which test that is for; a place that is run as its
file is loaded is noted by whatever runs a function of that file. It costs next to nothing, as all
else is compiled as it stands.
"""

from __future__ import annotations

import ast
import json
import os
import sys
from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from importlib.abc import MetaPathFinder
from importlib.machinery import ModuleSpec, SourceFileLoader
from importlib.util import spec_from_file_location
from pathlib import Path
from types import CodeType, ModuleType

__all__ = ["Place", "asked_for", "reached"]

SOURCE = Path(__file__).parents[1] / "src"
Place = tuple[str, int]
"""A file's path below the project's folder, and the number of a node."""


def asked_for(folder: Path, places: Iterable[Place]) -> bool:
    """Say what is to be learnt in a folder; tell whether it has been learnt there already."""
    of, text = folder / "of", "\n".join(json.dumps(one) for one in sorted(set(places)))
    if of.exists() and of.read_text("utf-8") == text:
        return (folder / "times.xml").exists()
    folder.mkdir(parents=True, exist_ok=True)
    for old in [*folder.glob("lines.*"), *folder.glob("times.xml")]:
        old.unlink()
    of.write_text(text, "utf-8")
    return False


def reached(folder: Path) -> dict[Place, set[str]]:
    """Return for each place the tests that come there.

    What is run before a test, as its fixtures are made, may serve all tests of its file.
    """
    found: dict[Place, set[str]] = defaultdict(set)
    for file in folder.glob("lines.*"):
        for line in file.read_text("utf-8").splitlines():
            path, number, said = json.loads(line)
            test, _, stage = said.rpartition(" ")
            found[path, number].add(test if stage == "(call)" else test.partition("::")[0])
    return found


def _noting(folder: Path) -> Callable[[str, int], None]:
    """Return what a place calls: it notes which test is run, once for each process."""
    known: set[tuple[str, int, str]] = set()

    def note(path: str, number: int) -> None:
        one = (path, number, os.environ.get("PYTEST_CURRENT_TEST", ""))
        if one[2] and one not in known:
            known.add(one)
            with (folder / f"lines.{os.getpid()}").open("a", encoding="utf-8") as file:
                file.write(json.dumps(one) + "\n")

    return note


def _watched(tree: ast.Module, path: str, numbers: list[int]) -> ast.Module:
    """Let each statement around one of these nodes note that it is run."""
    nodes = list(ast.walk(tree))
    above = {id(inner): one for one in nodes for inner in ast.iter_child_nodes(one)}
    for number in numbers:
        places = [nodes[number]]
        while above.get(id(places[-1])) is not None:
            places.append(above[id(places[-1])])
        functions = [one for one in places if isinstance(one, ast.FunctionDef)]
        if functions and any(one in functions[0].body for one in places):
            _before(next(one for one in places if isinstance(one, ast.stmt)), above, path, number)
        else:  # it is run as the file is loaded
            for one in nodes:
                if isinstance(one, ast.FunctionDef):
                    said = len(one.body) > 1 and ast.get_docstring(one) is not None
                    _before(one.body[said], above, path, number)
    return ast.fix_missing_locations(tree)


def _before(place: ast.stmt, above: dict[int, ast.AST], path: str, number: int) -> None:
    call = ast.parse(f"__note__({path!r}, {number})").body[0]
    for one in ast.walk(call):
        ast.copy_location(one, place)
    above[id(call)] = above[id(place)]
    for _, block in ast.iter_fields(above[id(place)]):
        if isinstance(block, list) and place in block:
            block.insert(block.index(place), call)


class _Loader(SourceFileLoader):
    def __init__(self, name: str, path: str, of: tuple[str, list[int]]) -> None:
        super().__init__(name, path)
        self._of = of

    def get_code(self, fullname: str) -> CodeType:
        tree = ast.parse(self.get_data(self.path))
        return compile(_watched(tree, *self._of), self.path, "exec", dont_inherit=True)


class _Finder(MetaPathFinder):
    def __init__(self, folder: Path) -> None:
        self._files: dict[str, tuple[str, list[int]]] = {}
        for line in (folder / "of").read_text("utf-8").splitlines():
            path, number = json.loads(line)
            module = Path(path).relative_to("src").with_suffix("").as_posix().replace("/", ".")
            self._files.setdefault(module.removesuffix(".__init__"), (path, []))[1].append(number)

    def find_spec(
        self, fullname: str, path: Sequence[str] | None, target: ModuleType | None = None
    ) -> ModuleSpec | None:
        of = self._files.get(fullname)
        if of is None:
            return None
        file = str(SOURCE.parent / of[0])
        return spec_from_file_location(fullname, file, loader=_Loader(fullname, file, of))


if os.environ.get("CFERRY_REACHED"):
    import builtins

    _folder = Path(os.environ["CFERRY_REACHED"])
    builtins.__note__ = _noting(_folder)  # type: ignore[attr-defined]
    sys.meta_path.insert(0, _Finder(_folder))
