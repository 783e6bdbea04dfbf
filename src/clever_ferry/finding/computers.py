"""Computers and their known folders: this one, or one that a file describes.

A described computer is a folder tree with a `computer.toml` at its top:

    name = "den"
    system = "windows"
    keeps = "ferry"                       # where cferry keeps backups and log for it
    running = ["saltglass-depot"]         # programs that are taken to run
    [folders]
    home = "C/Users/Wren"
    low-data = "C/Users/Wren/AppData/LocalLow"
"""

from __future__ import annotations

import os
import sys
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from clever_ferry.errors import DamagedError, NotFoundError
from clever_ferry.moving.names import System
from clever_ferry.recipes.explaining import explain
from clever_ferry.recipes.models import KNOWN_FOLDERS

__all__ = ["Computer", "described_computer", "this_computer"]

DESCRIPTION = "computer.toml"


@dataclass(frozen=True)
class Computer:
    """A harbour: a computer with its known folders. Folders that it lacks are not in `folders`."""

    name: str
    system: System
    folders: Mapping[str, Path] = field(default_factory=dict)
    keeps: Path | None = None
    """Where the tool's own data for it is, where the description says so."""
    running: tuple[str, ...] | None = None
    """Names of its running programs, where a description says so; None: ask the system."""
    top: Path | None = None
    """Of a described computer, the folder that stands for all its disks."""

    def spelled(self, folder: Path) -> int:
        """Return how many characters a folder's path has on this computer."""
        if self.top is not None and folder.is_relative_to(self.top):
            folder = folder.relative_to(self.top)
        return len(str(folder))

    @property
    def fold(self) -> bool:
        """Whether its file systems usually take upper and lower case as the same."""
        return self.system != "linux"


def this_computer() -> Computer:
    """Return the computer that the program runs on, with the folders its system names."""
    import platform

    import platformdirs

    home = Path.home()
    documents = Path(platformdirs.user_documents_dir())
    name = platform.node().split(".")[0] or "this-computer"
    system: System
    if sys.platform == "win32":
        system = "windows"
        local = Path(os.environ.get("LOCALAPPDATA", home / "AppData" / "Local"))
        folders = {
            "home": home,
            "documents": documents,
            "saved-games": home / "Saved Games",
            "roaming-data": Path(os.environ.get("APPDATA", home / "AppData" / "Roaming")),
            "local-data": local,
            "low-data": local.parent / "LocalLow",
        }
    elif sys.platform == "darwin":
        system = "macos"
        folders = {
            "home": home,
            "documents": documents,
            "app-support": home / "Library" / "Application Support",
        }
    else:
        system = "linux"
        folders = {
            "home": home,
            "documents": documents,
            "xdg-data": _xdg("XDG_DATA_HOME", home / ".local" / "share"),
            "xdg-config": _xdg("XDG_CONFIG_HOME", home / ".config"),
            "sandboxes": home / ".var" / "app",
        }
    return Computer(name, system, folders)


def _xdg(variable: str, usual: Path) -> Path:
    """Return an XDG folder; the specification says that relative values are to be ignored."""
    value = os.environ.get(variable, "")
    return Path(value) if value.startswith("/") else usual


class _Description(BaseModel):
    model_config = ConfigDict(extra="forbid", defer_build=True)

    name: str = Field(pattern=r"^[a-z][a-z0-9-]{0,39}$")
    system: Literal["windows", "linux", "macos"]
    keeps: str | None = None
    running: tuple[str, ...] = ()
    folders: dict[str, str]


def described_computer(place: Path) -> Computer:
    """Return the computer that a `computer.toml` (or the folder with one) describes.

    Raises NotFoundError where there is none and DamagedError where it can't be used.
    """
    file = place / DESCRIPTION if place.is_dir() else place
    if not file.is_file():
        raise NotFoundError(
            f"No described computer is at {place}: there is no {DESCRIPTION}.",
            advice="`cferry demo --at FOLDER` makes one to play with.",
        )
    try:
        data = tomllib.loads(file.read_text("utf-8"))
        read = _Description.model_validate(data)
    except ValidationError as error:
        raise DamagedError(
            f"{file} does not describe a computer.", details=explain(error, _Description, data)
        ) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError, OSError) as error:
        raise DamagedError(f"{file} can't be read: {error}.") from None
    top = file.resolve().parent
    unknown = sorted(read.folders.keys() - set(KNOWN_FOLDERS))
    if unknown:
        raise DamagedError(
            f"{file}: folders.{unknown[0]}: there is no such known folder; "
            f"there are {', '.join(KNOWN_FOLDERS)}."
        )
    folders = {name: _below(top, path, file) for name, path in read.folders.items()}
    keeps = _below(top, read.keeps, file) if read.keeps else None
    return Computer(read.name, read.system, folders, keeps, read.running, top)


def _below(top: Path, path: str, file: Path) -> Path:
    parts = PurePosixPath(path).parts
    if not parts or path.startswith("/") or ".." in parts or "\\" in path or ":" in path:
        raise DamagedError(f"{file}: {path!r} must lie below the folder of the description.")
    return top.joinpath(*parts)
