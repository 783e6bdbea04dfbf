"""Saltglass' dedicated server: a folder of isles, and a config that names the one it serves."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from clever_ferry_demo.saltglass.pieces import GAME_VERSION, RefusalError, World, load_world

__all__ = ["ServerStore"]

_FOLDER = re.compile(r"isle-([1-9]\d?)")
_SLOTS = 20
_CONFIG = """\
# Bramble Hosting: change what you like, and start the server anew.
name = Wren's Saltglass
# A folder in isles:
isle = isle-1
seats = 6
port = 4711
"""
_KEYS = ("name", "isle", "seats", "port")


class ServerStore:
    """A dedicated server's folder, as it reads and writes it itself."""

    title = "Saltglass server"
    slots = _SLOTS

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def set_up(self) -> None:
        """Lay what a new server has: its config, its version, and no isle."""
        (self.folder / "isles").mkdir(parents=True, exist_ok=True)
        (self.folder / "server.cfg").write_text(_CONFIG, "utf-8")
        (self.folder / "VERSION").write_text(".".join(map(str, GAME_VERSION)) + "\n", "utf-8")

    def list(self) -> dict[int, str]:
        """Return every isle's folder, by its number."""
        found = {}
        for path in sorted((self.folder / "isles").iterdir()):
            if match := _FOLDER.fullmatch(path.name):
                found[int(match[1])] = path.name
        if found and max(found) > _SLOTS:
            raise RefusalError(f"there are more than {_SLOTS} isles: {found[max(found)]}")
        return found

    def load(self, slot: int) -> World:
        """Read one isle, or refuse."""
        name = self.list().get(slot)
        if name is None:
            raise RefusalError(f"there is no isle-{slot}")
        folder = self.folder / "isles" / name
        for piece in ("island.world", "about.json"):
            if not (folder / piece).is_file():
                raise RefusalError(f"{piece} is missing")
        people = {path.name: path.read_bytes() for path in sorted((folder / "folk").glob("*"))}
        return load_world(
            (folder / "island.world").read_bytes(), (folder / "about.json").read_bytes(), people
        )

    def save(self, slot: int, world: World, stamp_ns: int) -> None:
        """Write one isle."""
        folder = self.folder / "isles" / f"isle-{slot}"
        (folder / "folk").mkdir(parents=True, exist_ok=True)
        for old in (folder / "folk").glob("*"):
            old.unlink()
        pieces = {"island.world": world.encode_body(), "about.json": world.encode_meta()}
        pieces |= {f"folk/{one.name}": one.encode() for one in world.travellers}
        for name, data in pieces.items():
            (folder / name).write_bytes(data)
            os.utime(folder / name, ns=(stamp_ns, stamp_ns))

    @contextmanager
    def open_for_players(self) -> Iterator[None]:
        """Have the lock file there that shows that the server runs."""
        lock = self.folder / "server.lock"
        lock.write_text(f"{os.getpid()}\n", "utf-8")
        try:
            yield
        finally:
            lock.unlink()

    def served(self) -> tuple[int, int]:
        """Read the config as strictly as the server does: which isle, for how many players."""
        told: dict[str, str] = {}
        for number, line in enumerate(
            (self.folder / "server.cfg").read_text("utf-8").splitlines(), 1
        ):
            if not line.strip() or line.startswith("#"):
                continue
            key, sign, value = (part.strip() for part in line.partition("="))
            if not sign or key not in _KEYS or key in told or not value:
                raise RefusalError(f"server.cfg, line {number}: {line!r} can't be read")
            told[key] = value
        if missing := [key for key in _KEYS if key not in told]:
            raise RefusalError(f"server.cfg does not say {missing[0]}")
        match = _FOLDER.fullmatch(told["isle"])
        if not match:
            raise RefusalError(f"server.cfg names {told['isle']!r}, which is no isle")
        return int(match[1]), int(told["seats"])
