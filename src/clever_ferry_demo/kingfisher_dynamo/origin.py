"""Kingfisher Dynamo's origins: folders of XML, a file for each state."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, replace
from datetime import date, timedelta
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from clever_ferry_demo.playing import RefusalError, write

__all__ = ["ACROSS", "DOWN", "Origin", "OriginStore", "begin", "install", "play_on", "told"]

ACROSS, DOWN = 20, 10
ORDERS = ("guilds", "crown", "works")
_STATE = ("name", "order", "funds", "regions")
_REGION = ("id", "state", "people", "worth")


@dataclass(frozen=True)
class Origin:
    """Who has what, and the day."""

    title: str
    day: date
    player: str
    states: tuple[dict[str, Any], ...]
    regions: tuple[dict[str, Any], ...]


def install(folder: Path) -> Path:
    """Lay the installed game into a folder, and return it."""
    (folder / "data").mkdir(parents=True)
    regions = [
        f'  <region id="d{number + 1}" x="{40 * (number % ACROSS)}" y="{40 * (number // ACROSS)}"/>'
        for number in range(ACROSS * DOWN)
    ]
    text = "\n".join(['<map version="3.0">', *regions, "</map>", ""])
    (folder / "data" / "regions.xml").write_text(text, "utf-8", newline="\n")
    return folder


class OriginStore:
    """The origins of one player."""

    def __init__(self, folder: Path, installed: Path) -> None:
        self.folder, self.installed = folder, installed

    def list(self) -> dict[str, str]:
        """Return the origins by name."""
        found = sorted(self.folder.glob("*/origin.toml"))
        return {path.parent.name: path.parent.name for path in found}

    def load(self, slot: str) -> Origin:
        """Read one origin, or refuse."""
        top = self.folder / slot
        if not (top / "origin.toml").is_file():
            raise RefusalError(f"there is no origin {slot}")
        try:
            head = tomllib.loads((top / "origin.toml").read_text("utf-8"))
            states = [self._state(path) for path in sorted((top / "states").glob("*.xml"))]
            regions = [dict(one.attrib) for one in _parsed(top / "regions.xml").findall("region")]
        except (ValueError, ElementTree.ParseError) as error:
            raise RefusalError(f"it can't be read: {error}") from None
        rows: list[dict[str, Any]] = []
        for region in regions:
            if tuple(region) != _REGION:
                raise RefusalError(f"a region has {', '.join(region)}")
            rows.append({**region, "people": int(region["people"]), "worth": int(region["worth"])})
        if head["states"] != len(states):
            raise RefusalError(f"it says {head['states']} states, and has {len(states)}")
        origin = Origin(head["title"], date.fromisoformat(head["begins"]), head["player"],
                        tuple(states), tuple(rows))  # fmt: skip
        return self._checked(origin)

    def _state(self, path: Path) -> dict[str, Any]:
        top = _parsed(path)
        if top.tag != "state" or tuple(one.tag for one in top) != _STATE:
            raise RefusalError(f"{path.name} is no state")
        found: dict[str, Any] = {one.tag: one.text or "" for one in top}
        return {"id": path.stem, **found, "funds": int(found["funds"]),
                "regions": int(found["regions"])}  # fmt: skip

    def _checked(self, origin: Origin) -> Origin:
        known = {
            one.attrib["id"] for one in _parsed(self.installed / "data" / "regions.xml")
        }  # fmt: skip
        ids = [region["id"] for region in origin.regions]
        if len(set(ids)) != len(ids) or set(ids) != known:
            raise RefusalError("its regions are not those of the map, each once")
        states = {state["id"] for state in origin.states}
        if origin.player not in states:
            raise RefusalError(f"the player's state {origin.player} is nowhere")
        for region in origin.regions:
            if region["state"] not in states | {""}:
                raise RefusalError(f"the state {region['state']} of {region['id']} is nowhere")
            if region["people"] < 0 or region["worth"] < 0:
                raise RefusalError(f"{region['id']} has less than nothing")
        for state in origin.states:
            own = sum(region["state"] == state["id"] for region in origin.regions)
            if own != state["regions"] or not own:
                raise RefusalError(
                    f"{state['name']} says {state['regions']} regions, and has {own}"
                )
            if state["order"] not in ORDERS:
                raise RefusalError(f"there is no order {state['order']}")
            if not state["name"] or not 0 <= state["funds"] <= 10**9:
                raise RefusalError(f"a state is called {state['name']!r}, with {state['funds']}")
        return origin

    def save(self, slot: str, origin: Origin, stamp_ns: int) -> None:
        """Write one origin."""
        top = self.folder / slot
        head = {"title": origin.title, "begins": origin.day.isoformat(), "player": origin.player}
        lines = [f'{name} = "{value}"' for name, value in head.items()]
        lines.append(f"states = {len(origin.states)}")
        write(top / "origin.toml", ("\n".join(lines) + "\n").encode(), stamp_ns)
        for state in origin.states:
            made = ElementTree.Element("state")
            for name in _STATE:
                ElementTree.SubElement(made, name).text = str(state[name])
            write(top / "states" / f"{state['id']}.xml", ElementTree.tostring(made), stamp_ns)
        made = ElementTree.Element("regions")
        for region in origin.regions:
            ElementTree.SubElement(
                made, "region", {name: str(region[name]) for name in _REGION}
            )  # fmt: skip
        write(top / "regions.xml", ElementTree.tostring(made), stamp_ns)


def _parsed(path: Path) -> ElementTree.Element:
    return ElementTree.fromstring(path.read_text("utf-8"))


def begin(name: str) -> Origin:
    """Return a new origin: one state has it all."""
    count = ACROSS * DOWN
    regions = tuple({"id": f"d{number + 1}", "state": "s1", "people": 1000, "worth": 5}
                    for number in range(count))  # fmt: skip
    state = {"id": "s1", "name": "One", "order": "crown", "funds": 100, "regions": count}
    return Origin(name, date(1900, 1, 1), "s1", (state,), regions)


def play_on(origin: Origin, days: int) -> Origin:
    """Return the origin some days later: funds grow with what regions are worth."""
    worth: dict[str, int] = {}
    for region in origin.regions:
        worth[region["state"]] = worth.get(region["state"], 0) + region["worth"]
    states = tuple({**state, "funds": state["funds"] + days * worth[state["id"]] // 100}
                   for state in origin.states)  # fmt: skip
    return replace(origin, day=origin.day + timedelta(days), states=states)


def told(origin: Origin) -> str:
    """Return what the menu says."""
    own = next(state for state in origin.states if state["id"] == origin.player)
    people = sum(region["people"] for region in origin.regions)
    return (
        f"{origin.title}, {origin.day.isoformat()}, {own['name']} ({own['order']}) with "
        f"{own['regions']} regions and {own['funds']} in funds, {len(origin.states)} states, "
        f"{people} people"
    )
