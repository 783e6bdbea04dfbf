"""Kingfisher Crown's saves: one text of blocks, packed on Windows, plain on Linux."""

from __future__ import annotations

import gzip
import random
import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path

from clever_ferry_demo.counting import Row, leads, numbered
from clever_ferry_demo.playing import RefusalError, write

__all__ = ["PARTS", "VERSION", "Reign", "ReignStore", "begin", "beyond_the_map", "play_on", "told"]

VERSION = (1, 4)
LAST_DAY = 400
"""From which on a reign is over, and can be left to another game."""
PARTS = {
    "realm": ("name", "ruler", "coins"),
    "people": ("name", "temper"),
    "ruler": ("name", "realm", "born"),
    "province": ("name", "realm", "people", "folk", "tax"),
    "army": ("realm", "province", "men"),
    "addon": ("name",),
}
"""Each kind of block, and the names in it, in the order they are written."""
_LEADS = (
    ("realm", "ruler"), ("ruler", "realm"), ("province", "realm"), ("province", "people"),
    ("army", "realm"), ("army", "province"),
)  # fmt: skip
"""What names what, by its number."""
_HEAD = "; Kingfisher Crown; a block begins with [ and ends on a line of its own"
_WORDS = {"name", "temper"}
_FIRST = ("Kelp", "Gannet", "Selkie", "Tern", "Ebb", "Skerry", "Wrack", "Fjärd", "Shoal", "Brine")
_LAST = ("mark", "holm", "wick", "fold", "reach", "moor", "ness", "garth")
_TEMPERS = ("patient", "proud", "seafaring", "quarrelsome")
_BLOCK = re.compile(r"([a-z]+) (\d+) \[")
_LINE = re.compile(r'  ([a-z]+): (?:(\d+)|"([^"\\]*)")')
_TOP = re.compile(r'([a-z_]+): (?:(\d+)|"([^"\\]*)")')


@dataclass(frozen=True)
class Reign:
    """A reign: a ruler's years, and the world that they are spent in."""

    name: str
    day: int = 1
    seconds: int = 400
    crown: int = 1
    """The realm that the player rules, by its number."""
    rows: dict[str, tuple[Row, ...]] = field(default_factory=dict)
    over: bool = False
    """Whether the last day of the reign has come."""

    @property
    def counts(self) -> dict[str, int]:
        """How many blocks there are of each kind."""
        return {kind: len(self.rows.get(kind, ())) for kind in PARTS}


class ReignStore:
    """One account's reigns, as the game for one system reads and writes them."""

    def __init__(self, folder: Path, system: str) -> None:
        self.folder, self.system, self.account = folder, system, folder.name

    def list(self) -> dict[str, str]:
        """Return the reigns by name."""
        return {path.stem: path.stem for path in sorted(self.folder.glob("*.reign"))}

    def load(self, slot: str) -> Reign:
        """Read one reign, or refuse."""
        file = self.folder / f"{slot}.reign"
        if not file.is_file():
            raise RefusalError(f"there is no reign {slot}")
        raw = file.read_bytes()
        try:
            windows = self.system == "windows"
            text = (gzip.decompress(raw) if windows else raw).decode(
                "latin-1" if windows else "utf-8"
            )
        except (OSError, EOFError, ValueError):
            raise RefusalError("the file can't be read") from None
        lines = text.split("\r\n" if windows else "\n")
        if lines[-2:] != ["; end of the reign", ""] or any("\r" in line for line in lines[:50]):
            raise RefusalError("the file is cut short, or of another system")
        top, rows = _read(lines[:-2])
        if top.get("keeper") != self.account:
            raise RefusalError(f"it belongs to {top.get('keeper')}, not to {self.account}")
        if tuple(int(part) for part in str(top["made_by"]).split(".")) > VERSION:
            raise RefusalError(f"it was saved by the newer version {top['made_by']}")
        if top["over"] not in ("yes", "no"):
            raise RefusalError(f"over is {top['over']}, neither yes nor no")
        reign = Reign(
            str(top["reign"]), int(top["day"]), int(top["seconds"]), int(top["crown"]), rows,
            over=top["over"] == "yes",
        )  # fmt: skip
        self._count(reign, top)
        return reign

    def _count(self, reign: Reign, top: Row) -> None:
        for kind, count in reign.counts.items():
            if top.get(f"{kind}_count") != count:
                raise RefusalError(f"it says {top.get(f'{kind}_count')} of {kind}, and has {count}")
        rows = reign.rows
        there = {kind: numbered(kind, rows[kind]) for kind in PARTS}
        for kind, name in _LEADS:
            leads(kind, rows[kind], name, there[name])
        if reign.crown not in there["realm"]:
            raise RefusalError(f"the crown is of the realm {reign.crown}, which is nowhere")

    def save(self, slot: str, reign: Reign, stamp_ns: int) -> None:
        """Write one reign."""
        windows = self.system == "windows"
        top: Row = {
            "keeper": self.account, "made_by": ".".join(map(str, VERSION)), "reign": reign.name,
            "day": reign.day, "seconds": reign.seconds, "crown": reign.crown,
            "over": "yes" if reign.over else "no",
            **{f"{kind}_count": count for kind, count in reign.counts.items()},
        }  # fmt: skip
        lines = [_HEAD, *(f"{name}: {_said(value)}" for name, value in top.items())]
        lines += _written(reign)
        lines += ["; end of the reign", ""]
        raw = ("\r\n" if windows else "\n").join(lines).encode("latin-1" if windows else "utf-8")
        write(self.folder / f"{slot}.reign",
              gzip.compress(raw, 6, mtime=0) if windows else raw, stamp_ns)  # fmt: skip


def _said(value: int | str) -> str:
    return str(value) if isinstance(value, int) else f'"{value}"'


def _written(reign: Reign) -> Iterator[str]:
    for kind, names in PARTS.items():
        for row in reign.rows.get(kind, ()):
            yield f"{kind} {row['no']} ["
            yield from (f"  {name}: {_said(row[name])}" for name in names)
            yield "]"


def _read(lines: list[str]) -> tuple[Row, dict[str, tuple[Row, ...]]]:
    """Read a reign's lines, each of which must be as the game writes it."""
    top: Row = {}
    rows: dict[str, list[Row]] = {kind: [] for kind in PARTS}
    row: Row | None = None
    kind = ""
    for number, line in enumerate(lines, 1):
        if row is None:
            if begun := _BLOCK.fullmatch(line):
                kind, row = begun[1], {"no": int(begun[2])}
                if kind not in PARTS:
                    raise RefusalError(f"line {number} begins a {kind}, which there is not")
            elif said := _TOP.fullmatch(line):
                top[said[1]] = int(said[2]) if said[2] else said[3]
            elif not line.startswith(";"):
                raise RefusalError(f"line {number} can't be read")
        elif line == "]":
            if tuple(row)[1:] != PARTS[kind]:
                raise RefusalError(f"the {kind} before line {number} has {', '.join(row)}")
            rows[kind].append(row)
            row = None
        elif said := _LINE.fullmatch(line):
            if (said[2] is None) != (said[1] in _WORDS):
                raise RefusalError(f"line {number} is of another kind")
            row[said[1]] = int(said[2]) if said[2] else said[3]
        else:
            raise RefusalError(f"line {number} can't be read")
    if row is not None:
        raise RefusalError(f"the last {kind} has no end")
    return top, {kind: tuple(own) for kind, own in rows.items()}


def begin(name: str, realms: int = 6, provinces: int = 20) -> Reign:
    """Return a new reign in a world of so many realms, each with so many provinces."""
    dice = random.Random(realms * 1000 + provinces)
    rows: dict[str, list[Row]] = {kind: [] for kind in PARTS}
    for number in range(1, 6):
        rows["people"].append({"no": number, "name": f"{_FIRST[number]}folk",
                               "temper": _TEMPERS[number % 4]})  # fmt: skip
    for number in range(1, realms + 1):
        rows["realm"].append({"no": number, "name": _called(dice), "ruler": number,
                              "coins": dice.randrange(100, 900)})  # fmt: skip
        rows["ruler"].append({"no": number, "name": f"{dice.choice(_FIRST)} the Younger",
                              "realm": number, "born": dice.randrange(10, 60)})  # fmt: skip
        for _ in range(provinces):
            at = len(rows["province"]) + 1
            rows["province"].append({"no": at, "name": _called(dice), "realm": number,
                                     "people": dice.randrange(1, 6),
                                     "folk": dice.randrange(300, 9000),
                                     "tax": dice.randrange(1, 9)})  # fmt: skip
        for _ in range(max(1, provinces // 8)):
            own = (number - 1) * provinces + dice.randrange(1, provinces + 1)
            rows["army"].append({"no": len(rows["army"]) + 1, "realm": number, "province": own,
                                 "men": dice.randrange(50, 900)})  # fmt: skip
    return Reign(name, rows={kind: tuple(own) for kind, own in rows.items()})


def _called(dice: random.Random) -> str:
    return dice.choice(_FIRST) + dice.choice(_LAST)


def beyond_the_map(reign: Reign, addon: str) -> Reign:
    """Return the reign with an add-on in use, and with the land that it has beyond the map."""
    last = reign.rows["province"][-1]
    land = {**last, "no": int(last["no"]) + 1, "name": "Icefield"}
    rows: dict[str, tuple[Row, ...]] = {**reign.rows, "province": (*reign.rows["province"], land),
            "addon": ({"no": 1, "name": addon},)}  # fmt: skip
    return replace(reign, rows=rows)


def play_on(reign: Reign, days: int) -> Reign:
    """Return the reign some days later: taxes come in, folk grow, armies march."""
    dice = random.Random(reign.day)
    rows = {kind: [dict(row) for row in own] for kind, own in reign.rows.items()}
    for province in rows["province"]:
        province["folk"] = int(province["folk"]) + days * dice.randrange(3)
        owner = rows["realm"][int(province["realm"]) - 1]
        owner["coins"] = int(owner["coins"]) + days * int(province["tax"])
    for army in rows["army"]:
        army["province"] = dice.randrange(1, len(rows["province"]) + 1)
    made = {kind: tuple(own) for kind, own in rows.items()}
    day = reign.day + days
    return replace(reign, day=day, seconds=reign.seconds + 240 * days, rows=made,
                   over=day >= LAST_DAY)  # fmt: skip


def told(reign: Reign) -> str:
    """Return what the menu says."""
    hours, minutes = divmod(reign.seconds // 60, 60)
    own = reign.rows["realm"][reign.crown - 1]
    return (
        f"{reign.name}, day {reign.day}, {hours} h {minutes:02} min, {own['name']} with "
        f"{own['coins']} coins, {reign.counts['province']} provinces"
    )
