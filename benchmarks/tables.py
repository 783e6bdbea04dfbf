"""Tables out of a text of blocks against reading it by lines; a comparison against pandas' merge.

python -m benchmarks.tables [MEBIBYTES] [ROWS]
"""

from __future__ import annotations

import gc
import random
import resource
import sys
from collections.abc import Iterator

import pandas as pd

from benchmarks.layouts import timed
from clever_ferry.documents.blocks_text import Blocks
from clever_ferry.documents.spec import BlocksSpec
from clever_ferry.documents.tabling import Columns, columns_in
from clever_ferry.payload import StreamPayload
from clever_ferry.sheets.differing import compare
from clever_ferry.sheets.sheet import Sheet, SheetColumn, SheetTable

_TABLES = {
    "realm": ["", "name", "gold"],
    "province": ["", "owner", "people", "tax"],
    "ruler": ["", "name", "age"],
}


def text(size: int) -> Iterator[bytes]:
    """Yield a save of a strategy game of about so many bytes."""
    number = written = 0
    while written < size:
        block = (
            f'realm {number} {{\n\tname = "Realm {number}"\n\tgold = {number % 977}\n'
            f"\tmarks {{ x = 1 y = 2 }}\n}}\n"
        )
        for inner in range(6):
            place = number * 6 + inner
            block += (f"province {place} {{\n\towner = {number}\n\tpeople = {place % 9000}\n"
                      f"\ttax = {place % 37}\n\tbuilt {{\n\t\tmill = yes\n\t}}\n}}\n")  # fmt: skip
        block += f'ruler {number} {{\n\tname = "Heir {number % 500}"\n\tage = {number % 80}\n}}\n'
        written += len(block)
        number += 1
        yield block.encode()


def by_lines(source: StreamPayload) -> dict[str, list[list[str | None]]]:
    """Read the three tables as one would for this text alone, line by line."""
    found: dict[str, list[list[str | None]]] = {name: [] for name in _TABLES}
    deep, kind, row, rest = 0, "", [], b""
    places = {kind: {name: at for at, name in enumerate(names)} for kind, names in _TABLES.items()}
    own: dict[str, int] = {}
    for chunk in source.chunks():
        *whole, rest = (rest + chunk).split(b"\n")
        for raw in whole:
            line = raw.decode().strip()
            if line.endswith("{"):
                deep += 1
                if deep == 1:
                    kind, _, label = line[:-1].strip().partition(" ")
                    own = places[kind]
                    row = [label, *[None] * (len(own) - 1)]
            elif line.endswith("}"):
                deep -= line.count("}") - line.count("{")
                if not deep:
                    found[kind].append(row)
            elif deep == 1 and "=" in line:
                name, _, value = line.partition("=")
                name = name.strip()
                if name in own:
                    row[own[name]] = value.strip().strip('"')
    return found


def tables(source: StreamPayload) -> dict[str, Columns]:
    """Read them as the tool does."""
    blocks = Blocks(BlocksSpec())
    return {
        kind: columns_in(blocks, source, f"/{kind}", [f"/{name}" for name in names], 10**9)
        for kind, names in _TABLES.items()
    }


def sheet(rows: list[tuple[int, str, int, int]]) -> Sheet:
    """Return a sheet with one table of these rows."""
    names = ("number", "house", "worth", "level")
    columns = tuple(
        SheetColumn(name, name, None, [row[at] for row in rows]) for at, name in enumerate(names)
    )
    table = SheetTable("m", "Machines", len(rows), columns, "number", "house", whole=True)
    return Sheet("Town", "g", "G", "e", "w", None, "now", (), (table,))


def main() -> None:
    """Print the ratios, and the memory beyond the text and what was there before."""
    size = (int(sys.argv[1]) if len(sys.argv) > 1 else 50) << 20
    pieces = list(text(size))
    chunks = [b"".join(pieces[at : at + 1000]) for at in range(0, len(pieces), 1000)]
    source = StreamPayload(lambda: chunks)
    del pieces
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    ours = tables(source)
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) >> 10
    theirs = by_lines(source)
    for kind, found in ours.items():
        assert [list(row) for row in zip(*found.values, strict=True)] == theirs[kind]
    count = sum(len(rows) for rows in theirs.values())
    del ours, theirs
    ratio = timed(lambda: tables(source), lambda: by_lines(source), 2)
    print(f"three tables, {count:,} rows, of {size >> 20} MiB of blocks: {ratio:.2f} times reading "
          f"by lines (at most 3 wanted), and {more} MiB")  # fmt: skip
    gc.set_threshold(50_000, 20, 50)  # as the program does
    rows = int(sys.argv[2]) if len(sys.argv) > 2 else 100_000
    dice = random.Random(7)
    first = [(at, f"house {at % 40}", at * 3, at % 9) for at in range(rows)]
    second = [(*row[:2], row[2] + (not at % 50), row[3]) for at, row in enumerate(first) if at % 97]
    dice.shuffle(second)
    one, other = sheet(first), sheet(second)
    frames = [pd.DataFrame({c.name: c.values for c in each.tables[0].columns})
              for each in (one, other)]  # fmt: skip

    def merged() -> pd.DataFrame:
        both = frames[0].merge(frames[1], on="number", how="outer", indicator=True)
        other = both["_merge"] != "both"
        for name in ("worth", "house", "level"):
            other |= both[f"{name}_x"] != both[f"{name}_y"]
        return both[other]

    (told,) = compare(one, other).tables
    assert len(told.differences) + told.more == len(merged())
    ratio = timed(lambda: compare(one, other), merged, 5)
    print(f"two tables of {rows:,} rows compared: {ratio:.2f} times pandas' merge (under 3 wanted)")


if __name__ == "__main__":
    main()
