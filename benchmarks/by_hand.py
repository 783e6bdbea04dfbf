"""What one would write by hand to list one edition's saves, for `benchmarks.finding`.

It knows Saltglass from Cobalt Depot and nothing else, and tells what `cferry slots` tells of each
save: facts, size, last change, pieces, and what is missing or damaged.

python benchmarks/by_hand.py FOLDER
"""

from __future__ import annotations

import json
import os
import re
import struct
import sys

_HEAD = struct.Struct("<4sHHQ8sQII")
_FOLDER = re.compile(r"voyage-(\d{4})-([0-9a-f]{16})")

Row = tuple[int, str, int, int, int, int, int, str, int, int, tuple[str, ...], tuple[str, ...]]
"""Slot, name, seed, day, seconds, coins, players, version, size, stamp, pieces, problems."""


def listed(account: str) -> list[Row]:
    """Return the saves in an account's folder, the newest first."""
    rows: list[Row] = []
    with os.scandir(account) as folders:
        for folder in folders:
            named = _FOLDER.fullmatch(folder.name)
            if named is not None and folder.is_dir(follow_symlinks=False):
                rows.append(_row(folder.path, int(named[1]) + 1))
    rows.sort(key=lambda row: row[8], reverse=True)
    return rows


def _row(path: str, slot: int) -> Row:
    size = stamp = 0
    pieces: list[str] = []
    problems: list[str] = []
    for inside, ending in ((path, ("world.sgw", "meta.json")), (f"{path}/people", ".sgt")):
        try:
            with os.scandir(inside) as files:
                for file in files:
                    if file.name.endswith(ending) and file.is_file(follow_symlinks=False):
                        data = file.stat(follow_symlinks=False)
                        size += data.st_size
                        stamp = max(stamp, data.st_mtime_ns)
                        pieces.append(file.name)
        except FileNotFoundError:
            continue
    for needed in ("world.sgw", "meta.json"):
        if needed not in pieces:
            problems.append(f"{needed} is missing")
    try:
        with open(f"{path}/world.sgw", "rb") as world:  # noqa: PTH123 - as one would by hand
            magic, version, *_ = _HEAD.unpack(world.read(_HEAD.size))
        if (magic, version) != (b"SGLS", 3):
            problems.append("world.sgw has another header")
    except (OSError, struct.error) as error:
        problems.append(f"world.sgw can't be read: {error}")
    name, seed, day, seconds, coins, players, game = "", 0, 0, 0, 0, 0, ""
    try:
        with open(f"{path}/meta.json", "rb") as source:  # noqa: PTH123
            meta = json.load(source)
        clock = meta["clock"]
        name, day, seconds = meta["world"]["name"], clock["day"], clock["seconds"]
        seed = meta["world"]["seed"]
        coins, players, game = meta["coins"], len(meta["players"]), meta["game"]
    except (OSError, ValueError, KeyError, TypeError) as error:
        problems.append(f"meta.json can't be read: {error}")
    facts = (name, seed, day, seconds, coins, players, game)
    return (slot, *facts, size, stamp, tuple(sorted(pieces)), tuple(problems))


def main() -> None:
    """Print the saves of a folder."""
    for (
        slot,
        name,
        seed,
        day,
        seconds,
        coins,
        players,
        game,
        size,
        stamp,
        pieces,
        problems,
    ) in listed(sys.argv[1]):
        print(slot, name, seed, day, seconds, coins, players, game, size, stamp, *pieces, *problems)


if __name__ == "__main__":
    main()
