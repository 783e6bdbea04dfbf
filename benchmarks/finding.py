"""Finding: `look` in a home of many files, `look --since`, `slots` of many saves, a large export.

python -m benchmarks.finding [files] [saves] [MiB of the export]
"""

from __future__ import annotations

import gc
import os
import shutil
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from statistics import median

from benchmarks.by_hand import listed
from benchmarks.measuring import Run, in_turn, ratio_line, run
from clever_ferry.api import Ferry, open_ferry
from clever_ferry_demo.world import lay_loft, lay_world

_CFERRY = [sys.executable, "-m", "clever_ferry"]
_BY_HAND = Path(__file__).with_name("by_hand.py")


def crowd(folder: Path, files: int) -> None:
    """Fill a folder with many small files, fifty to a folder."""
    for number in range(files // 50):
        here = folder / f"a{number % 20}" / f"b{number // 20 % 20}" / f"c{number // 400}"
        here.mkdir(parents=True)
        for one in range(50):
            (here / f"file{one}.dat").touch()


def looking(scratch: Path, files: int) -> None:
    """Print the figures of `look`."""
    empty, full = (lay_world(scratch / name) for name in ("alone", "crowded"))
    home = full / "C" / "Users" / "Wren"
    crowd(home / "Documents", files)
    crowd(home / "AppData" / "Roaming" / "Other", 1000)
    own = {"CFERRY_HOME": str(scratch / "own")}

    def look(top: Path) -> Run:
        return run([*_CFERRY, "--computer", str(top), "look"], own)

    ours, theirs = in_turn(lambda: look(full), lambda: look(empty), rounds=7)
    what = f"look in a home of {files:,} files against one of the saves alone"
    print(ratio_line(what, ours, theirs, 1.5))
    time.sleep(1.1)
    own |= {"XDG_DATA_HOME": "", "XDG_CONFIG_HOME": ""}
    since = time.strftime("%Y-%m-%d %H:%M:%S")
    changed = home / "Documents" / "a3" / "b3" / "c0" / "file7.dat"
    time.sleep(1.1)
    changed.write_bytes(b"new")
    ours, theirs = in_turn(
        lambda: run([*_CFERRY, "look", "--since", since], {**own, "HOME": str(home)}),
        lambda: run(["find", str(home), "-type", "f", "-newermt", since]),
        rounds=7,
    )
    print(ratio_line("look --since in it against find -newermt", ours, theirs, 2.0))


def listing(scratch: Path, saves: int) -> None:
    """Print the figures of `slots`: of the job, and of the whole program less its start."""
    many, few = (_berth_of(scratch / name, count) for name, count in (("many", saves), ("few", 1)))
    own = {"CFERRY_HOME": str(_recipes_of(scratch / "own"))}
    os.environ.update(own)
    gc.set_threshold(50_000, 20, 50)  # as the program does
    time.sleep(5)  # what has changed within four seconds is not remembered
    alike(*many)
    readings = scratch / "own" / "readings"

    def program(top: Path, *, first: bool) -> float:
        if first and readings.exists():
            shutil.rmtree(readings)
        return run([*_CFERRY, "--computer", str(top), "slots", "saltglass/depot"], own).seconds

    def by_hand(account: Path) -> float:
        return run([sys.executable, str(_BY_HAND), str(account)]).seconds

    for first in (True, False):
        when = "the first time" if first else "listed before"
        program(many[0], first=False)
        alone = [
            (
                timed(_listing_job(many[0], remembered=not first)),
                timed(lambda: listed(str(many[1]))),
            )
            for _ in range(10)
        ][1:]
        print(_against(f"slots of {saves:,} saves, {when}", alone, " (under 1.5 wanted)"))
        whole = [
            (
                program(many[0], first=first) - program(few[0], first=False),
                by_hand(many[1]) - by_hand(few[1]),
            )
            for _ in range(6)
        ][1:]
        print(_against("    the whole program less its start, with printing", whole))


def _against(what: str, pairs: list[tuple[float, float]], wanted: str = "") -> str:
    ratio = median(a / b for a, b in pairs)
    return (
        f"{what}, against hand-written code: {ratio:.2f} times{wanted}; "
        f"{median(a for a, _ in pairs):.3f} s against {median(b for _, b in pairs):.3f} s"
    )


def _berth_of(folder: Path, saves: int) -> tuple[Path, Path]:
    """Lay a computer with one account's saves; return its top and the account's folder."""
    top = lay_world(folder)
    account = next(top.rglob("100200300"))
    like = next(account.glob("voyage-00-*"))
    for number in range(saves):
        shutil.copytree(like, account / f"voyage-{number:04}-{number:016x}")
    for one in account.glob("voyage-??-*"):
        shutil.rmtree(one)
    return top, account


def _recipes_of(own: Path) -> Path:
    """Lay the game's recipe with slots of four digits, so that there can be so many."""
    recipes = own / "recipes"
    recipes.mkdir(parents=True)
    text = subprocess.run([*_CFERRY, "recipe", "show", "saltglass"], check=True,
                          capture_output=True, encoding="utf-8").stdout  # fmt: skip
    text = text.replace('id = "saltglass"', 'id = "saltglass"\nreplaces_shipped = true')
    wide = 'slot = { type = "number", first = 0, width = 4 }'
    text = text.replace('slot = { type = "number", first = 0, width = 2 }', wide)
    (recipes / "saltglass.toml").write_text(text, "utf-8")
    return own


def _listing_job(top: Path, *, remembered: bool) -> Callable[[], object]:
    """Return the listing of all saves by a ferry that has loaded its recipe and seen no name."""
    ferry = open_ferry(top)
    ferry.recipes.game("saltglass")
    return lambda: ferry.slots("saltglass/depot", remembered=remembered)


def timed(job: Callable[[], object]) -> float:
    """Return how long a job takes, in seconds; what it returns is freed after that."""
    started = time.perf_counter()
    _result = job()
    return time.perf_counter() - started


def alike(top: Path, account: Path) -> None:
    """Make sure that both tell the same of every save."""
    (opened,) = open_ferry(top).slots("saltglass/depot")
    ours = [
        (
            save.slot,
            *(fact.value for fact in save.facts),
            save.size,
            save.stamp,
            tuple(sorted(piece.entry.rpartition("/")[2] for piece in save.pieces)),
            save.problems,
        )
        for save in opened.listing.saves
    ]
    if sorted(ours, key=str) != sorted(listed(str(account)), key=str):
        raise SystemExit("the hand-written code tells other saves")


def exporting(scratch: Path, mebibytes: int) -> None:
    """Print what listing a large export reads."""
    top = lay_loft(scratch / "export")
    folder = top / "home/isa/Downloads/longshore-export"
    zeros = bytes(1 << 20)
    part = folder / "longshore-export-1-of-2.zip"
    with zipfile.ZipFile(part, "a", zipfile.ZIP_STORED) as outer:
        for number in range(8):
            name = f"players/isa-4471/other/film-{number}.zip"
            inside = zipfile.ZipInfo("film.bin")
            with (
                outer.open(name, "w", force_zip64=True) as inner,
                zipfile.ZipFile(inner, "w") as film,
                film.open(inside, "w", force_zip64=True) as out,
            ):
                for _ in range(mebibytes // 8):
                    out.write(zeros)
    size = sum(file.stat().st_size for file in folder.iterdir())
    ferry: Ferry = open_ferry(top)
    before = read_so_far()
    seconds = timed(lambda: ferry.slots(f"saltglass/longshore@{folder}"))
    read = read_so_far() - before
    print(
        f"an export of {size / (1 << 30):.2f} GiB listed: {read / 1024:.0f} KiB read, "
        f"{seconds:.3f} s (without reading its payload wanted)"
    )


def read_so_far() -> int:
    """Return the bytes that this process has read by system calls (Linux)."""
    lines = Path("/proc/self/io").read_text("ascii").splitlines()
    return int(next(line for line in lines if line.startswith("rchar")).split()[1])


def main() -> None:
    """Print all figures."""
    given = [int(one) for one in sys.argv[1:]]
    files, saves, mebibytes = [*given, *(200_000, 2_000, 2_048)[len(given) :]]
    with tempfile.TemporaryDirectory() as folder:
        looking(Path(folder), files)
        listing(Path(folder), saves)
        exporting(Path(folder), mebibytes)


if __name__ == "__main__":
    main()
