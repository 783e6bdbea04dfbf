"""Which lines of the code each test reaches: written down while the tests run, read afterwards.

Where the environment names a folder in `CFERRY_REACHED`, each test, and each program that it runs,
leaves a file of coverage's own there, under the test's name. A file `of` in that folder may name
the files of code that are asked for, one per line; following all takes twice the time.
"""

from __future__ import annotations

import os
import warnings
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

__all__ = ["reached", "reaching"]

SOURCE = Path(__file__).parents[1] / "src" / "clever_ferry"
REACHED = os.environ.get("CFERRY_REACHED")


@contextmanager
def reaching(test: str = "") -> Iterator[None]:
    """Write down what is run in here, for a test and its stage: those that pytest names now."""
    test = test or os.environ.get("PYTEST_CURRENT_TEST", "")
    if not REACHED or not test:
        yield
        return
    import coverage

    asked = Path(REACHED) / "of"
    cover = coverage.Coverage(
        Path(REACHED) / "lines", data_suffix=True, config_file=False, context=test,
        include=asked.read_text("utf-8").split("\n") if asked.exists() else [f"{SOURCE}/*"],
        messages=False,
    )  # fmt: skip
    cover.start()
    try:
        yield
    finally:
        cover.stop()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            cover.save()


def reached(folder: Path, top: Path) -> dict[Path, dict[int, set[str]]]:
    """Return for each file below `top`, by line, the tests that come there.

    What is run before a test, as its fixtures are made, may serve all tests of its file.
    """
    import coverage

    cover = coverage.Coverage(folder / "lines", config_file=False, messages=False)
    cover.combine([str(folder)], keep=True)
    data = cover.get_data()
    found: dict[Path, dict[int, set[str]]] = {}
    for name in data.measured_files():
        lines = found[Path(name).relative_to(top)] = defaultdict(set)
        for line, contexts in data.contexts_by_lineno(name).items():
            for context in contexts:
                test, _, stage = context.rpartition(" ")
                lines[line].add(test if stage == "(call)" else test.partition("::")[0])
    return found
