"""Harbours that are folders: whose disk, prefix or described computer a folder is.

Recognised by what is in it, not by its name: a `computer.toml`; the users' folders of a Windows
disk, also in a compatibility prefix (`drive_c`); those of a Linux or a macOS disk. Nothing but the
folders named here is looked into.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from clever_ferry.finding.computers import DESCRIPTION, Computer, described_computer
from clever_ferry.moving.names import System, folded

__all__ = ["Harbour", "harbour_at"]

Kind = Literal["described computer", "compatibility prefix", "mounted disk", "folder"]

_NOBODY = frozenset(["public", "default", "default user", "all users", "shared"])
_WINDOWS: Mapping[str, tuple[str, ...]] = {
    "documents": ("Documents", "My Documents"),
    "saved-games": ("Saved Games",),
    "roaming-data": ("AppData/Roaming", "Application Data"),
    "local-data": ("AppData/Local", "Local Settings/Application Data"),
    "low-data": ("AppData/LocalLow",),
}
_LINUX: Mapping[str, tuple[str, ...]] = {
    "documents": ("Documents",),
    "xdg-data": (".local/share",),
    "xdg-config": (".config",),
    "sandboxes": (".var/app",),
}
_MACOS: Mapping[str, tuple[str, ...]] = {
    "documents": ("Documents",),
    "app-support": ("Library/Application Support",),
}


@dataclass(frozen=True)
class Harbour:
    """What a folder is, and the computers it stands for: one for each of its users."""

    name: str
    path: Path
    kind: Kind
    computers: tuple[Computer, ...] = ()
    users: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        """What it was recognised as, in words."""
        if not self.computers:
            return "a folder"
        system = {"windows": "Windows", "linux": "Linux", "macos": "macOS"}
        what = f"a {self.kind}, {system[self.computers[0].system]}"
        return f"{what}, of {', '.join(self.users)}" if self.users else what


def harbour_at(path: Path, name: str) -> Harbour:
    """Tell whose disk, prefix or described computer a folder is.

    Raises DamagedError where its `computer.toml` can't be used.
    """
    if (path / DESCRIPTION).is_file():
        return Harbour(name, path, "described computer", (described_computer(path),))
    for drive in (path / "drive_c", path / "pfx" / "drive_c"):
        if drive.is_dir():
            return _of_users(name, path, "compatibility prefix", drive, "windows")
    systems: tuple[System, ...] = ("windows", "macos", "linux")
    for system in systems:
        found = _of_users(name, path, "mounted disk", path, system)
        if found.computers:
            return found
    return Harbour(name, path, "folder")


def _of_users(name: str, path: Path, kind: Kind, disk: Path, system: System) -> Harbour:
    computers, users = [], []
    for home in _homes(disk, system):
        known = {"windows": _WINDOWS, "linux": _LINUX, "macos": _MACOS}[system]
        folders = {
            key: place
            for key, ways in known.items()
            if (place := next(filter(None, (_below(home, way) for way in ways)), None))
        }
        if folders:
            computers.append(Computer(name, system, {"home": home, **folders}, running=()))
            users.append(home.name)
    return Harbour(name, path, kind, tuple(computers), tuple(users))


def _homes(disk: Path, system: System) -> Iterator[Path]:
    if system == "linux" and (disk / "root").is_dir():
        yield disk / "root"
    above = _below(disk, "home" if system == "linux" else "Users") or disk / "nowhere"
    signs = {"windows": ("AppData", "Application Data"), "macos": ("Library",), "linux": ()}
    for home in _folders(above):
        signed = not signs[system] or any(_below(home, sign) for sign in signs[system])
        if signed and folded(home.name) not in _NOBODY:
            yield home


def _below(folder: Path, path: str) -> Path | None:
    """Return a folder below another, in whatever case it is spelled; links are not followed."""
    for part in path.split("/"):
        inner = [one for one in _folders(folder) if folded(one.name) == folded(part)]
        if not inner:
            return None
        folder = inner[0]
    return folder


def _folders(folder: Path) -> list[Path]:
    try:
        return sorted(one for one in folder.iterdir() if one.is_dir() and not one.is_symlink())
    except OSError:
        return []
