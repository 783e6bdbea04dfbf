"""Orrery Yard's saves: a folder of parts per yard, the founder's builder apart from friends'."""

from __future__ import annotations

import configparser
import json
import random
from dataclasses import dataclass, field, replace
from pathlib import Path

from defusedxml.ElementTree import ParseError, fromstring

from clever_ferry_demo.orrery_yard.grounds import Grounds, found, grown, read_parts, written
from clever_ferry_demo.playing import RefusalError, write

__all__ = ["MAPS", "VERSION", "Yard", "YardStore", "begin", "play_on", "told"]

VERSION = (2, 3)
MAPS = {"Old Common": 64, "New Common": 64, "Hill Top": 8}
"""The maps, and how many plots they are wide."""


@dataclass(frozen=True)
class Yard:
    """A yard, its orreries, and who builds in it: the founder, who hosts, and friends."""

    name: str
    founder: str
    friends: tuple[str, ...] = ()
    day: int = 1
    seconds: int = 300
    packs: tuple[str, ...] = ()
    wheels: tuple[tuple[int, str], ...] = ((7, "Wren"),)
    """Each wheel's teeth, and who built it."""
    cogs: tuple[tuple[str, int], ...] = ()
    """Each builder's cogs."""
    grounds: Grounds = field(default_factory=Grounds)
    map: str = "Old Common"

    def cogs_of(self, builder: str) -> int:
        """Return how many cogs a builder has."""
        return dict(self.cogs).get(builder, 5)


class YardStore:
    """One account's yards, as the game for one system reads and writes them."""

    def __init__(self, folder: Path, system: str, player: str) -> None:
        self.folder, self.system, self.player = folder, system, player
        self.account = folder.name
        self.line = "\r\n" if system == "windows" else "\n"

    def list(self) -> dict[str, str]:
        """Return the yards by name."""
        yards = self.folder / "yards"
        found = sorted(path.name for path in yards.iterdir()) if yards.is_dir() else []
        return {name: name for name in found}

    def load(self, slot: str) -> Yard:
        """Read one yard, or refuse."""
        folder = self.folder / "yards" / slot
        if not folder.is_dir():
            raise RefusalError(f"there is no yard {slot}")
        self._settings()
        try:
            card = json.loads((folder / "card.json").read_bytes())
            founder, friends = card["founder"], tuple(card["friends"])
            day, seconds, packs = card["day"], card["seconds"], tuple(card["packs"])
            owner, made_by, counts = card["owner"], card["made_by"], card["stands"]
            ground = card["map"]
        except (OSError, ValueError, KeyError, TypeError):
            raise RefusalError("card.json is missing or can't be read") from None
        if tuple(int(part) for part in made_by.split(".")) > VERSION:
            raise RefusalError(f"it was saved by the newer version {made_by}")
        if owner != self.account:
            raise RefusalError(f"it belongs to {owner}, not to {self.account}")
        if founder != self.player:
            raise RefusalError(f"{founder} hosts it, and here plays {self.player}")
        for pack in packs:
            if not (self.folder / "packs" / f"{pack}.pack").is_file():
                raise RefusalError(f"it needs the pack {pack}")
        parts = self._xml(folder / "yard.xml")
        if parts.get("day") != str(day) or parts.get("name") != slot:
            raise RefusalError(f"yard.xml is of {parts.get('name')}, day {parts.get('day')}")
        wheels = tuple((int(one.get("teeth") or 0), one.get("by") or "")
                       for one in parts.iter("wheel"))  # fmt: skip
        if [one.get("no") for one in parts.iter("wheel")] != [*map(str, range(1, len(wheels) + 1))]:
            raise RefusalError("the wheels of yard.xml are not counted from 1")
        there = {path.stem for path in (folder / "friends").glob("*.xml")}
        if there != set(friends):
            raise RefusalError(f"friends are {sorted(friends)}, and files of {sorted(there)}")
        cogs = [self._builder(folder / "founder.xml", founder)]
        cogs += [self._builder(folder / "friends" / f"{one}.xml", one) for one in friends]
        if lost := {by for _, by in wheels} - {name for name, _ in cogs}:
            raise RefusalError(f"a wheel is by {min(lost)}, who does not build here")
        grounds = read_parts(lambda name: self._xml(folder / name), day, (founder, *friends))
        if ground not in MAPS:
            raise RefusalError(f"there is no map {ground}")
        if out := [plot for plot in grounds.of("land") if int(plot["x"]) >= MAPS[ground]]:
            raise RefusalError(f"plot {out[0]['no']} lies beyond {ground}")
        if grounds.counts != counts:
            raise RefusalError(f"card.json says {counts}, and there are {grounds.counts}")
        return Yard(
            slot, founder, friends, day, seconds, packs, wheels, tuple(cogs), grounds, ground
        )

    def _builder(self, file: Path, name: str) -> tuple[str, int]:
        builder = self._xml(file)
        if builder.get("name") != name:
            raise RefusalError(f"{file.name} is of {builder.get('name')}, not of {name}")
        return name, int(builder.get("cogs") or 0)

    def _xml(self, file: Path):  # type: ignore[no-untyped-def]
        try:
            raw = file.read_bytes()
            root = fromstring(raw)
        except (OSError, ParseError):
            raise RefusalError(f"{file.name} is missing or can't be read") from None
        if (b"\r\n" in raw) != (self.system == "windows") or raw.count(b"\r") != (
            raw.count(b"\n") if self.system == "windows" else 0
        ):
            raise RefusalError(f"{file.name} has another system's line ends")
        return root

    def _settings(self) -> None:
        """Read the settings: their folders must be of this system."""
        file = self.folder / "settings.ini"
        if not file.is_file():
            return
        parser = configparser.ConfigParser(interpolation=None)
        parser.read_string(file.read_text("utf-8"))
        for path in parser["folders"].values():
            windows = path[1:3] == ":\\"
            if windows != (self.system == "windows") or (not windows and not path.startswith("/")):
                raise RefusalError(f"settings.ini names {path}, which is no folder here")

    def save(self, slot: str, yard: Yard, stamp_ns: int) -> None:
        """Write one yard."""
        folder = self.folder / "yards" / slot
        card = {
            "made_by": ".".join(map(str, VERSION)), "yard": slot, "owner": self.account,
            "founder": yard.founder, "friends": list(yard.friends), "day": yard.day,
            "seconds": yard.seconds, "packs": list(yard.packs), "map": yard.map,
            "stands": yard.grounds.counts,
        }  # fmt: skip
        write(folder / "card.json", json.dumps(card, ensure_ascii=False).encode(), stamp_ns)
        lines = [f'<yard name="{slot}" day="{yard.day}">']
        lines += [
            f'  <wheel no="{number}" by="{by}" teeth="{teeth}"/>'
            for number, (teeth, by) in enumerate(yard.wheels, 1)
        ]
        lines += ["</yard>", ""]
        write(folder / "yard.xml", self.line.join(lines).encode(), stamp_ns)
        for name, lines in written(yard.grounds, yard.day).items():
            write(folder / name, self.line.join(lines).encode(), stamp_ns)
        files = {"founder.xml": yard.founder} | {f"friends/{one}.xml": one for one in yard.friends}
        for old in (folder / "friends").glob("*.xml"):
            old.unlink()
        for name, builder in files.items():
            text = f'<builder name="{builder}"{self.line} cogs="{yard.cogs_of(builder)}"/>'
            write(folder / name, f"{text}{self.line}".encode(), stamp_ns)


def begin(name: str, founder: str = "Wren") -> Yard:
    """Return a new yard."""
    return Yard(name, founder, wheels=((7, founder),), grounds=found(founder))


def play_on(yard: Yard, days: int) -> Yard:
    """Return the yard some days later."""
    dice = random.Random(yard.day)
    builders = (yard.founder, *yard.friends)
    new = ((dice.randrange(6, 60), builders[at % len(builders)]) for at in range(3 * days))
    wheels = (*yard.wheels, *new)
    cogs = tuple((one, yard.cogs_of(one) + len(one) * days) for one in builders)
    return replace(
        yard, day=yard.day + days, seconds=yard.seconds + 1500 * days, wheels=wheels, cogs=cogs,
        grounds=grown(yard.grounds, builders, yard.day, days),
    )  # fmt: skip


def told(yard: Yard) -> str:
    """Return what the menu says."""
    hours, minutes = divmod(yard.seconds // 60, 60)
    builders = ", ".join(
        f"{one} ({yard.cogs_of(one)} cogs)" for one in (yard.founder, *yard.friends)
    )
    return f"{yard.name}, day {yard.day}, {hours} h {minutes:02} min, {builders}"
