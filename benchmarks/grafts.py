"""Grafts: many rows with references out of one save into another, by JSON, XML and SQLite.

python -m benchmarks.grafts [ROWS]

Held against code written by hand for just these files, which reads both, counts anew and writes;
the program also backs up, proves, reads all back and keeps records. Twice the rows show the growth.
"""

from __future__ import annotations

import json
import os
import sqlite3
import sys
import tempfile
from contextlib import closing
from pathlib import Path
from statistics import median

from benchmarks.measuring import Run, in_turn, run

_RECIPE = """
recipe = 1
game = {{ id = "bazaar", title = "Bazaar" }}
pieces.town = {{ needed = true, holds = "{form}" }}
[tables.stalls]
from = "town"
rows = "{top}/stalls/{stall}"
id = "no"
columns.no = {{ at = "/{a}no", what = "number" }}
columns.tag = {{ at = "/{a}tag" }}
[tables.wares]
from = "town"
rows = "{top}/wares/{ware}"
columns.stall = {{ at = "/{a}stall", refers = "stalls", what = "number" }}
columns.amount = {{ at = "/{a}amount", unit = "count" }}
[editions.here]
title = "Bazaar"
berths = [{{ on = "any", under = "given" }}]
fields.slot = {{ type = "number" }}
files = [{{ role = "town", path = "town-{{slot}}.sav" }}]
"""
_FORMS = {
    "json": {"top": "", "stall": "*", "ware": "*", "a": ""},
    "xml": {"top": "/town", "stall": "stall", "ware": "ware", "a": "@"},
    "sqlite": {"top": "", "stall": "*", "ware": "*", "a": ""},
}
_BY_HAND = """
import json, sys
one, other = (json.load(open(name)) for name in sys.argv[1:3])
first = max([row["no"] for row in (*one["stalls"], *other["stalls"])]) + 1
used, then = {row["no"] for row in other["stalls"]}, {}
for row in one["stalls"]:
    new = row["no"]
    if new in used:
        new, first = first, first + 1
    used.add(new)
    then[row["no"]] = row["no"] = new
other["stalls"] += one["stalls"]
other["wares"] += [{**row, "stall": then[row["stall"]]} for row in one["wares"]]
open(sys.argv[2], "w").write(json.dumps(other, indent=1))
"""


def main() -> None:
    """Print all figures."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    for form in _FORMS:
        taken = []
        for count in (rows, 2 * rows):
            with tempfile.TemporaryDirectory() as name:
                taken.append(_graft(Path(name), form, count))
        print(f"  twice the rows take {taken[1] / taken[0]:.2f} times as long")


def _graft(top: Path, form: str, rows: int) -> float:
    (top / "own/recipes").mkdir(parents=True)
    (top / "own/recipes/bazaar.toml").write_text(_RECIPE.format(form=form, **_FORMS[form]))
    for name, shift in (("one", 0), ("other", rows // 4)):
        (top / name).mkdir()
        _lay(top / name / "town-1.sav", form, rows // 2, shift)
    (top / "computer.toml").write_text('name = "b"\nsystem = "linux"\nfolders = {}\n')
    before = (top / "other/town-1.sav").read_bytes()
    env = {**os.environ, "CFERRY_HOME": str(top / "own"), "CFERRY_COMPUTER": str(top)}
    cferry = [sys.executable, "-m", "clever_ferry", "graft", f"bazaar/here@{top}/one:1",
              f"bazaar/here@{top}/other:1", "--part", "stalls:as=add", "--part", "wares:as=add",
              "--yes", "--game-closed"]  # fmt: skip
    by_hand = [sys.executable, "-c", _BY_HAND, str(top / "one.json"), str(top / "other.json")]

    def mine() -> Run:
        (top / "other/town-1.sav").write_bytes(before)
        os.utime(top / "other/town-1.sav", (1_700_000_000, 1_700_000_000))
        return run(cferry, env)

    def theirs() -> Run:
        for name, shift in (("one", 0), ("other", rows // 4)):
            _lay(top / f"{name}.json", "json", rows // 2, shift)
        return run(by_hand, env)

    whole, other = in_turn(mine, theirs, rounds=3)
    seconds, by_hand_too = (median(one.seconds for one in runs) for runs in (whole, other))
    print(
        f"{form}, {rows:,} rows: {seconds:.2f} s (2 s wanted for 10,000), "
        f"{seconds / by_hand_too:.1f} times code by hand for JSON, "
        f"peak memory {max(one.memory for one in whole) >> 20} MiB"
    )
    return seconds


def _lay(file: Path, form: str, count: int, shift: int) -> None:
    stalls = [{"no": shift + at, "tag": f"{file.parent.name}{at}"} for at in range(1, count + 1)]
    wares = [{"stall": one["no"], "amount": at % 90} for at, one in enumerate(stalls)]
    if form == "json":
        file.write_text(json.dumps({"stalls": stalls, "wares": wares}, indent=1))
    elif form == "xml":
        lines = [
            f" <{name}s>\n" + "\n".join(
                f"  <{name} {' '.join(f'{k}={chr(34)}{v}{chr(34)}' for k, v in row.items())}/>"
                for row in rows
            ) + f"\n </{name}s>"
            for name, rows in (("stall", stalls), ("ware", wares))
        ]  # fmt: skip
        file.write_text("\n".join(["<town>", *lines, "</town>", ""]))
    else:
        file.unlink(missing_ok=True)
        with closing(sqlite3.connect(file)) as book:
            book.execute("CREATE TABLE stalls (no INTEGER, tag)")
            book.execute("CREATE TABLE wares (stall INTEGER, amount INTEGER)")
            book.executemany("INSERT INTO stalls VALUES (?, ?)", [(*r.values(),) for r in stalls])
            book.executemany("INSERT INTO wares VALUES (?, ?)", [(*r.values(),) for r in wares])
            book.commit()


if __name__ == "__main__":
    main()
