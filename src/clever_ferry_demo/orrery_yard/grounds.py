"""What is built in an Orrery Yard: houses on land, buildings, machines, stores, contracts, weather.

Each kind is an XML part of its own. The reader counts everything, and refuses what leads nowhere.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any
from xml.sax.saxutils import quoteattr

from clever_ferry_demo.counting import Row, leads, numbered
from clever_ferry_demo.playing import RefusalError

__all__ = ["PARTS", "Grounds", "found", "grown", "read_parts", "written"]

PARTS = {
    "houses": ("house", ("no", "name", "founder", "coins")),
    "land": ("plot", ("no", "x", "y", "house")),
    "buildings": ("building", ("no", "kind", "plot", "level", "turned")),
    "machines": ("machine", ("no", "kind", "building", "by", "wear")),
    "stores": ("store", ("building", "ware", "amount")),
    "contracts": ("contract", ("no", "house", "ware", "amount", "due", "done")),
}
"""Each part's file, the tag of its elements, and their attributes in their order."""
_NUMBERS = {"no", "coins", "x", "y", "house", "plot", "level", "turned", "building", "wear",
            "amount", "due"}  # fmt: skip
_KINDS = ("Workshop", "Foundry", "Glass house", "Observatory", "Shed")
_MACHINES = ("Lathe", "Wheel cutter", "Kiln", "Polishing bench")
_WARES = ("brass", "glass", "oil", "timber", "silver wire")
_WEATHER = ("clear", "mist", "rain", "wind", "snow")


@dataclass(frozen=True)
class Grounds:
    """All that stands in a yard, by part: rows with what `PARTS` says they have."""

    rows: dict[str, tuple[Row, ...]] = field(default_factory=dict)
    sky: tuple[str, ...] = ("clear",)
    """Today's weather, and what is foretold for the next days."""

    def of(self, part: str) -> tuple[Row, ...]:
        """Return the rows of a part."""
        return self.rows.get(part, ())

    @property
    def counts(self) -> dict[str, int]:
        """How many rows each part has."""
        return {part: len(self.of(part)) for part in PARTS}


def found(founder: str) -> Grounds:
    """Return a yard's grounds on its first day: one house, with a workshop on four plots."""
    return _settled(Grounds(dict.fromkeys(PARTS, ())), founder)


def _settled(grounds: Grounds, builder: str) -> Grounds:
    """Return the grounds with one more house, its land and its first workshop."""
    rows = {part: list(grounds.of(part)) for part in PARTS}
    house = len(rows["houses"]) + 1
    rows["houses"].append({"no": house, "name": f"{builder}'s House", "founder": builder,
                           "coins": 500})  # fmt: skip
    first = len(rows["land"]) + 1
    rows["land"] += [
        {"no": first + at, "x": 4 * house + at % 2, "y": at // 2, "house": house} for at in range(4)
    ]
    building = len(rows["buildings"]) + 1
    rows["buildings"].append({"no": building, "kind": "Workshop", "plot": first, "level": 1,
                              "turned": 0})  # fmt: skip
    rows["machines"].append({"no": len(rows["machines"]) + 1, "kind": "Lathe",
                             "building": building, "by": builder, "wear": 0})  # fmt: skip
    rows["stores"].append({"building": building, "ware": "brass", "amount": 20})
    return replace(grounds, rows={part: tuple(own) for part, own in rows.items()})


def grown(grounds: Grounds, builders: Sequence[str], day: int, days: int) -> Grounds:
    """Return the grounds some days later: every builder has a house, and builds on."""
    known = {house["founder"] for house in grounds.of("houses")}
    for builder in builders:
        if builder not in known:
            grounds = _settled(grounds, builder)
    dice = random.Random(day)
    rows = {part: [dict(row) for row in grounds.of(part)] for part in PARTS}
    for today in range(day + 1, day + days + 1):
        for house in rows["houses"]:
            house["coins"] = int(house["coins"]) + dice.randrange(5, 60)
            _work(rows, house, today, dice)
    sky = tuple(dice.choices(_WEATHER, k=4))
    return Grounds({part: tuple(own) for part, own in rows.items()}, sky)


def _work(rows: dict[str, list[Row]], house: Row, today: int, dice: random.Random) -> None:
    """Let one house build, store, promise and deliver for a day."""
    own = [plot["no"] for plot in rows["land"] if plot["house"] == house["no"]]
    taken = {building["plot"] for building in rows["buildings"]}
    free = [plot for plot in own if plot not in taken]
    if free and not today % 3:
        rows["buildings"].append({
            "no": len(rows["buildings"]) + 1, "kind": dice.choice(_KINDS), "plot": free[0],
            "level": 1, "turned": 90 * dice.randrange(4),
        })  # fmt: skip
    elif not free:
        at = len(own)
        rows["land"].append({"no": len(rows["land"]) + 1, "x": 4 * int(house["no"]) + at % 2,
                             "y": at // 2, "house": house["no"]})  # fmt: skip
    mine = [one["no"] for one in rows["buildings"] if one["plot"] in own]
    where = dice.choice(mine)
    if not today % 4:
        rows["machines"].append({
            "no": len(rows["machines"]) + 1, "kind": dice.choice(_MACHINES), "building": where,
            "by": house["founder"], "wear": 0,
        })  # fmt: skip
    for machine in rows["machines"]:
        if machine["building"] in mine:
            machine["wear"] = min(100, int(machine["wear"]) + dice.randrange(2))
    ware = dice.choice(_WARES)
    for store in rows["stores"]:
        if (store["building"], store["ware"]) == (where, ware):
            store["amount"] = int(store["amount"]) + dice.randrange(1, 9)
            break
    else:
        rows["stores"].append({"building": where, "ware": ware, "amount": dice.randrange(1, 9)})
    for contract in rows["contracts"]:
        if contract["house"] == house["no"] and contract["due"] == today:
            contract["done"] = "yes"
    if not today % 5:
        rows["contracts"].append({
            "no": len(rows["contracts"]) + 1, "house": house["no"], "ware": ware,
            "amount": dice.randrange(5, 50), "due": today + dice.randrange(3, 12), "done": "no",
        })  # fmt: skip


def written(grounds: Grounds, day: int) -> dict[str, list[str]]:
    """Return each part's lines, by its file's name."""
    files = {}
    for part, (tag, names) in PARTS.items():
        lines = [f'<{part} count="{len(grounds.of(part))}">']
        for row in grounds.of(part):
            said = " ".join(f"{name}={quoteattr(str(row[name]))}" for name in names)
            lines.append(f"  <{tag} {said}/>")
        files[f"{part}.xml"] = [*lines, f"</{part}>", ""]
    today, *later = grounds.sky
    files["weather.xml"] = [
        f'<weather day="{day}">', f'  <today sky="{today}"/>',
        *(f'  <later in="{at}" sky="{sky}"/>' for at, sky in enumerate(later, 1)),
        "</weather>", "",
    ]  # fmt: skip
    return files


def read_parts(read: Callable[[str], Any], day: int, builders: Collection[str]) -> Grounds:
    """Read all parts by `read`, which gives a file's root element, or refuse."""
    rows = {part: tuple(_rows(read(f"{part}.xml"), part)) for part in PARTS}
    weather = read("weather.xml")
    if weather.tag != "weather" or weather.get("day") != str(day):
        raise RefusalError(f"weather.xml is of day {weather.get('day')}, not of day {day}")
    sky = tuple(one.get("sky") or "" for one in weather)
    if not sky or not set(sky) <= set(_WEATHER):
        raise RefusalError("weather.xml tells of a sky that there is not")
    houses = numbered("houses", rows["houses"])
    plots = numbered("land", rows["land"])
    buildings = numbered("buildings", rows["buildings"])
    numbered("machines", rows["machines"])
    numbered("contracts", rows["contracts"])
    leads("houses", rows["houses"], "founder", builders)
    leads("land", rows["land"], "house", houses)
    leads("buildings", rows["buildings"], "plot", plots)
    leads("machines", rows["machines"], "building", buildings)
    leads("machines", rows["machines"], "by", builders)
    leads("stores", rows["stores"], "building", buildings)
    leads("contracts", rows["contracts"], "house", houses)
    for part, names in (("land", ("x", "y")), ("buildings", ("plot",)),
                        ("stores", ("building", "ware"))):  # fmt: skip
        spots = [tuple(row[name] for name in names) for row in rows[part]]
        if len(set(spots)) < len(spots):
            raise RefusalError(f"{part}.xml has two at one place")
    for part in ("houses", "stores", "contracts"):
        if any(int(row["coins" if part == "houses" else "amount"]) < 0 for row in rows[part]):
            raise RefusalError(f"{part}.xml has less than nothing of something")
    return Grounds(rows, sky)


def _rows(root: Any, part: str) -> Iterable[Row]:
    tag, names = PARTS[part]
    if root.tag != part or any(one.tag != tag for one in root):
        raise RefusalError(f"{part}.xml is of something else")
    if root.get("count") != str(len(root)):
        raise RefusalError(f"{part}.xml says {root.get('count')}, and has {len(root)}")
    for one in root:
        if set(one.keys()) != set(names):
            raise RefusalError(f"{part}.xml has a {tag} with {', '.join(sorted(one.keys()))}")
        try:
            yield {
                name: int(text) if name in _NUMBERS else text for name, text in one.attrib.items()
            }
        except ValueError:
            raise RefusalError(f"{part}.xml has a {tag} with what is no number") from None
