"""Kingfisher Age's campaigns, and the starts (heritages) that it begins them from."""

from __future__ import annotations

import json
import random
import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from clever_ferry_demo.playing import RefusalError, write

__all__ = ["ACROSS", "DOWN", "Age", "AgeStore", "Heritages", "begin", "install", "play_on", "told"]

ACROSS, DOWN = 24, 18
GOVERNMENTS = ("crown", "council", "free-towns")
CULTURES = ("seafaring", "highland", "common")
SIZES = ("hamlet", "town", "city")
_MONTHS = 12
_DAYS = 30
_DATE = re.compile(r"([0-9]+)\.([0-9]+)\.([0-9]+)")
_KEYS = {
    "realms": ("id", "name", "government", "treasury", "ruler"),
    "rulers": ("id", "name", "realm", "born"),
    "provinces": ("id", "realm", "culture", "folk", "wealth", "size"),
    "armies": ("id", "realm", "province", "men"),
}
"""What each row has, in this order."""


@dataclass(frozen=True)
class Age:
    """A campaign: who has what, and the day."""

    title: str
    day: str
    player: int
    rows: Mapping[str, tuple[dict[str, Any], ...]]


def install(folder: Path) -> Path:
    """Lay the installed game into a folder, and return it."""
    (folder / "map").mkdir(parents=True)
    lines = ["# every province of the map"]
    for number in range(ACROSS * DOWN):
        lines += _place(number, number % ACROSS, number // ACROSS)
    (folder / "map" / "provinces.txt").write_text("\n".join(lines) + "\n", "utf-8", newline="\n")
    isle = folder / "add-ons" / "Tall Ships" / "map"
    isle.mkdir(parents=True)
    text = "\n".join(_place(ACROSS * DOWN, ACROSS, DOWN)) + "\n"
    (isle / "provinces.txt").write_text(text, "utf-8", newline="\n")
    (folder / "version.txt").write_text("Kingfisher Age 2.1\n", "utf-8", newline="\n")
    (folder / "add-ons.json").write_text('{"in_use": []}\n', "utf-8", newline="\n")
    return folder


def _place(number: int, across: int, down: int) -> list[str]:
    return ["province = {", f"  id = k{number + 1:03}", f"  across = {across}",
            f"  down = {down}", "}"]  # fmt: skip


def _provinces(installed: Path) -> set[str]:
    tops = [installed]
    named = json.loads((installed / "add-ons.json").read_text("utf-8"))["in_use"]
    tops += [installed / "add-ons" / name for name in named]
    texts = [(top / "map" / "provinces.txt").read_text("utf-8") for top in tops]
    return {found for text in texts for found in re.findall(r"id = (k[0-9]+)\n", text)}


def _checked(age: Age, installed: Path) -> Age:
    """Refuse what leads nowhere, stands twice, or is of no kind that there is."""
    for kind, keys in _KEYS.items():
        for row in age.rows[kind]:
            if tuple(row) != keys:
                raise RefusalError(f"a row of {kind} has {', '.join(row)}")
        ids = [row["id"] for row in age.rows[kind]]
        if len(set(ids)) != len(ids):
            raise RefusalError(f"an id of {kind} stands twice")
    ids_of = {kind: {row["id"] for row in age.rows[kind]} for kind in _KEYS}
    if ids_of["provinces"] != _provinces(installed):
        odd = sorted(ids_of["provinces"] ^ _provinces(installed))[0]
        raise RefusalError(f"the province {odd} is in one of the map and the start alone")
    if age.player not in ids_of["realms"]:
        raise RefusalError(f"the player's realm {age.player} is nowhere")
    for realm in age.rows["realms"]:
        if realm["ruler"] not in ids_of["rulers"]:
            raise RefusalError(f"the ruler {realm['ruler']} is nowhere")
        if realm["government"] not in GOVERNMENTS:
            raise RefusalError(f"there is no government {realm['government']}")
        _whole("treasury", realm["treasury"], 100_000_000)
        if not isinstance(realm["name"], str) or not realm["name"]:
            raise RefusalError("a realm has no name")
    owners = {province["realm"] for province in age.rows["provinces"]}
    if owners - {None} != ids_of["realms"]:
        raise RefusalError("a realm has no province, or a province has a realm that is nowhere")
    for province in age.rows["provinces"]:
        if province["culture"] not in CULTURES or province["size"] not in SIZES:
            raise RefusalError(f"{province['id']} is of no culture or size that there is")
        _whole("folk", province["folk"], 1_000_000_000)
        _whole("wealth", province["wealth"], 1_000_000)
    for kind in ("rulers", "armies"):
        for row in age.rows[kind]:
            if row["realm"] not in ids_of["realms"]:
                raise RefusalError(f"the realm {row['realm']} of the {kind} is nowhere")
    for ruler in age.rows["rulers"]:
        _date(ruler["born"])
    for army in age.rows["armies"]:
        if army["province"] not in ids_of["provinces"]:
            raise RefusalError(f"the province {army['province']} of an army is nowhere")
        _whole("men", army["men"], 10_000_000)
    _date(age.day)
    return age


def _whole(what: str, value: object, most: int) -> None:
    if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value <= most:
        raise RefusalError(f"{what} is {value}")


def _date(text: object) -> tuple[int, int, int]:
    found = _DATE.fullmatch(str(text))
    if found is None:
        raise RefusalError(f"{text} is no day")
    year, month, day = map(int, found.groups())
    if not (1 <= month <= _MONTHS and 1 <= day <= _DAYS):
        raise RefusalError(f"{text} is no day")
    return year, month, day


class AgeStore:
    """The campaigns of one player."""

    def __init__(self, folder: Path, installed: Path) -> None:
        self.folder, self.installed = folder, installed

    def list(self) -> dict[str, str]:
        """Return the campaigns by name."""
        return {path.stem: path.stem for path in sorted(self.folder.glob("campaigns/*.age"))}

    def load(self, slot: str) -> Age:
        """Read one campaign, or refuse."""
        file = self.folder / "campaigns" / f"{slot}.age"
        if not file.is_file():
            raise RefusalError(f"there is no campaign {slot}")
        found = _json(file)
        rows = {kind: tuple(found[kind]) for kind in _KEYS}
        age = Age(found["title"], found["day"], found["player"], rows)
        return _checked(age, self.installed)

    def save(self, slot: str, age: Age, stamp_ns: int) -> None:
        """Write one campaign."""
        told = {"title": age.title, "day": age.day, "player": age.player, **age.rows}
        text = json.dumps(told, ensure_ascii=False, indent=1)
        write(self.folder / "campaigns" / f"{slot}.age", text.encode(), stamp_ns)


class Heritages(AgeStore):
    """The starts that the game offers; a campaign that is begun from one is saved as such."""

    def list(self) -> dict[str, str]:
        """Return the starts that are enabled, by name."""
        file = self.folder / "heritage" / "enabled.json"
        return {name: name for name in _json(file)["enabled"]} if file.is_file() else {}

    def load(self, slot: str) -> Age:
        """Read one start, or refuse."""
        if slot not in self.list():
            raise RefusalError(f"the start {slot} is not enabled")
        top = self.folder / "heritage" / slot
        lacking = [name for name in (*_KEYS, "heritage") if not (top / f"{name}.json").is_file()]
        if lacking:
            raise RefusalError(f"it has no {lacking[0]}.json")
        head = _json(top / "heritage.json")
        if head["made_for"] != "2.1":
            raise RefusalError(f"it was made for the version {head['made_for']}")
        rows = {kind: tuple(_json(top / f"{kind}.json")[kind]) for kind in _KEYS}
        for kind, count in head["counts"].items():
            if len(rows[kind]) != count:
                raise RefusalError(f"it says {count} {kind}, and has {len(rows[kind])}")
        names = dict(re.findall(r'^realm_(\d+) = "(.*)"$',
                                (top / "names.txt").read_text("utf-8"), re.MULTILINE))  # fmt: skip
        if names.keys() != {str(row["id"]) for row in rows["realms"]}:
            raise RefusalError("names.txt does not name each realm")
        return _checked(Age(head["title"], head["starts"], head["player"], rows), self.installed)


def _json(file: Path) -> dict[str, Any]:
    try:
        found = json.loads(file.read_text("utf-8"))
    except ValueError as error:
        raise RefusalError(f"{file.name} can't be read: {error}") from None
    if not isinstance(found, dict):
        raise RefusalError(f"{file.name} is no object")
    return found


def begin(name: str) -> Age:
    """Return a new campaign: one realm has it all."""
    provinces = tuple(
        {"id": f"k{number + 1:03}", "realm": 1, "culture": "common", "folk": 1000, "wealth": 10,
         "size": "hamlet"} for number in range(ACROSS * DOWN)
    )  # fmt: skip
    rows: dict[str, tuple[dict[str, Any], ...]] = {
        "realms": ({"id": 1, "name": "One", "government": "crown", "treasury": 10, "ruler": 1},),
        "rulers": ({"id": 1, "name": "Ebb", "realm": 1, "born": "780.1.1"},),
        "provinces": provinces, "armies": (),
    }  # fmt: skip
    return Age(name, "800.1.1", 1, rows)


def play_on(age: Age, days: int) -> Age:
    """Return the campaign some days later: folk grow, and treasuries with their wealth."""
    year, month, day = _date(age.day)
    whole = (year * _MONTHS + month - 1) * _DAYS + day - 1 + days
    dice = random.Random(whole)
    rows = {kind: [dict(row) for row in own] for kind, own in age.rows.items()}
    realms = {row["id"]: row for row in rows["realms"]}
    for province in rows["provinces"]:
        province["folk"] += dice.randrange(days + 1)
        if province["realm"] is not None:
            realms[province["realm"]]["treasury"] += province["wealth"]
    years, rest = divmod(whole, _MONTHS * _DAYS)
    later = f"{years}.{rest // _DAYS + 1}.{rest % _DAYS + 1}"
    return replace(age, day=later, rows={kind: tuple(own) for kind, own in rows.items()})


def told(age: Age) -> str:
    """Return what the menu says."""
    rows = age.rows
    own = next(row for row in rows["realms"] if row["id"] == age.player)
    folk = sum(row["folk"] for row in rows["provinces"])
    owned = sum(row["realm"] == age.player for row in rows["provinces"])
    return (
        f"{age.title}, {age.day}, {own['name']} ({own['government']}) with {owned} provinces and "
        f"{own['treasury']} in the treasury, {len(rows['realms'])} realms, {folk} folk, "
        f"{sum(row['men'] for row in rows['armies'])} men"
    )
