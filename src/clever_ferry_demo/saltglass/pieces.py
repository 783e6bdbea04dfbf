"""What a Saltglass save is made of, whatever store it comes from: its pieces, read and written.

The formats are described in docs/demo-formats.md. The reader is as strict as a picky game.
"""

from __future__ import annotations

import json
import random
import struct
from dataclasses import dataclass, field, replace

from clever_ferry_demo.playing import RefusalError

__all__ = [
    "GAME_VERSION",
    "RefusalError",
    "Traveller",
    "World",
    "load_world",
    "make_world",
    "play_on",
]

GAME_VERSION = (3, 4, 1)
_BODY_VERSION = 3
_BODY = struct.Struct("<4sHHHII")
_WIDTH, _HEIGHT = 400, 300
_SECONDS_A_DAY = 1404


@dataclass(frozen=True)
class Traveller:
    """One player's character in a world."""

    name: str
    health: int = 100
    coins: int = 0
    items: tuple[tuple[str, int], ...] = ()

    def encode(self) -> bytes:
        """Return the bytes of a traveller file."""
        name = self.name.encode()
        out = bytearray(b"FOLK\x01" + struct.pack("<B", len(name)) + name)
        out += struct.pack("<HIB", self.health, self.coins, len(self.items))
        for label, count in self.items:
            text = label.encode()
            out += struct.pack("<B", len(text)) + text + struct.pack("<H", count)
        return bytes(out)

    @classmethod
    def decode(cls, data: bytes, file: str) -> Traveller:
        """Read a traveller file."""
        try:
            if data[:5] != b"FOLK\x01":
                raise RefusalError(f"{file} is no traveller")
            name, at = _short_text(data, 5)
            health, coins, count = struct.unpack_from("<HIB", data, at)
            at += 7
            items = []
            for _ in range(count):
                label, at = _short_text(data, at)
                items.append((label, struct.unpack_from("<H", data, at)[0]))
                at += 2
        except (struct.error, UnicodeDecodeError, IndexError):
            raise RefusalError(f"{file} is cut short") from None
        if at != len(data):
            raise RefusalError(f"{file} has bytes left over")
        return cls(name, health, coins, tuple(items))


def _short_text(data: bytes, at: int) -> tuple[str, int]:
    end = at + 1 + data[at]
    if end > len(data):
        raise IndexError
    return data[at + 1 : end].decode(), end


@dataclass(frozen=True)
class World:
    """A whole save: the island's ground, what is built on it, the clock, and who travels it."""

    name: str
    seed: int
    day: int
    seconds: int
    coins: int
    tiles: bytes
    buildings: tuple[tuple[int, int, str], ...] = ()
    travellers: tuple[Traveller, ...] = ()
    version: tuple[int, int, int] = GAME_VERSION
    size: tuple[int, int] = field(default=(_WIDTH, _HEIGHT))

    def encode_body(self) -> bytes:
        """Return the world piece: ground and buildings."""
        width, height = self.size
        out = bytearray(
            _BODY.pack(b"ISLE", _BODY_VERSION, width, height, self.day, self.seed) + self.tiles
        )
        out += struct.pack("<H", len(self.buildings))
        for x, y, kind in self.buildings:
            text = kind.encode()
            out += struct.pack("<HHB", x, y, len(text)) + text
        return bytes(out)

    def encode_meta(self) -> bytes:
        """Return the meta piece: what the menu shows."""
        meta = {
            "game": ".".join(map(str, self.version)),
            "world": {"name": self.name, "seed": self.seed},
            "clock": {"day": self.day, "seconds": self.seconds},
            "players": [one.name for one in self.travellers],
            "coins": self.coins,
        }
        return json.dumps(meta, indent=2, ensure_ascii=False).encode() + b"\n"


def load_world(body: bytes, meta_raw: bytes, people: dict[str, bytes]) -> World:
    """Put a save together from its pieces, and refuse what does not belong together."""
    try:
        meta = json.loads(meta_raw)
        version = tuple(int(part) for part in meta["game"].split("."))
        name, seed = meta["world"]["name"], meta["world"]["seed"]
        day, seconds = meta["clock"]["day"], meta["clock"]["seconds"]
        players, coins = meta["players"], meta["coins"]
    except (ValueError, KeyError, TypeError):
        raise RefusalError("the meta piece can't be read") from None
    if version > GAME_VERSION:
        raise RefusalError(f"it was saved by the newer version {meta['game']}")
    try:
        magic, body_version, width, height, body_day, body_seed = _BODY.unpack_from(body)
        if magic != b"ISLE" or body_version != _BODY_VERSION:
            raise RefusalError("the world piece is no island")
        at = _BODY.size + width * height
        tiles = body[_BODY.size : at]
        (count,) = struct.unpack_from("<H", body, at)
        at += 2
        buildings = []
        for _ in range(count):
            x, y = struct.unpack_from("<HH", body, at)
            kind, at = _short_text(body, at + 4)
            buildings.append((x, y, kind))
    except (struct.error, UnicodeDecodeError, IndexError):
        raise RefusalError("the world piece is cut short") from None
    if at != len(body):
        raise RefusalError("the world piece has bytes left over")
    if (body_day, body_seed) != (day, seed):
        raise RefusalError(f"world and meta are of different saves (day {body_day}, day {day})")
    if set(people) != set(players):
        odd = ", ".join(sorted(set(people) ^ set(players)))
        raise RefusalError(f"travellers do not agree with the meta piece: {odd}")
    travellers = []
    for player in players:
        traveller = Traveller.decode(people[player], f"traveller {player}")
        if traveller.name != player:
            raise RefusalError(f"traveller {player} is really {traveller.name}")
        travellers.append(traveller)
    return World(
        name, seed, day, seconds, coins, tiles, tuple(buildings), tuple(travellers),
        (version[0], version[1], version[2]), (width, height),
    )  # fmt: skip


def make_world(name: str, seed: int, players: tuple[str, ...]) -> World:
    """Return a new world on its first day."""
    dice = random.Random(seed)
    tiles = bytearray(dice.choices(b"~~~~.,:;^", k=_WIDTH * _HEIGHT))
    travellers = tuple(Traveller(player, items=(("lamp", 1),)) for player in players)
    return World(name, seed, 1, 240, 20, bytes(tiles), (), travellers)


def play_on(world: World, days: int) -> World:
    """Return the world some days later; the same days always bring the same."""
    dice = random.Random(world.seed * 1000 + world.day)
    tiles, buildings = bytearray(world.tiles), list(world.buildings)
    width, height = world.size
    for _ in range(days):
        for _ in range(40):
            tiles[dice.randrange(len(tiles))] = dice.choice(b"#=+")
        kind = dice.choice(("kiln", "jetty", "saltpan", "lighthouse", "store"))
        buildings.append((dice.randrange(width), dice.randrange(height), kind))
    travellers = tuple(
        replace(
            one, coins=one.coins + 11 * days, items=(*one.items[:1], ("glass", world.day + days))
        )
        for one in world.travellers
    )
    return replace(
        world, day=world.day + days, seconds=world.seconds + days * _SECONDS_A_DAY,
        coins=world.coins + 37 * days, tiles=bytes(tiles), buildings=tuple(buildings),
        travellers=travellers,
    )  # fmt: skip
