"""Known folders, as each system itself gives them. All that differs between systems is here.

`Machine` is what the rules need to know of a computer, so that tests can describe any.
Sources: Windows' KNOWNFOLDERID, as SHGetKnownFolderPath takes them; the XDG Base Directory
Specification and xdg-user-dirs; Apple's File System Programming Guide.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Mapping
from pathlib import Path

from msgspec import Struct, field

from clever_ferry.moving.disk import read_front
from clever_ferry.moving.names import System

__all__ = ["LAYOUTS", "Machine", "known_folders", "moved_documents", "this_machine"]

LAYOUTS: Mapping[System, Mapping[str, tuple[str, ...]]] = {
    "windows": {
        "documents": ("Documents", "My Documents"),
        "downloads": ("Downloads",),
        "saved-games": ("Saved Games",),
        "roaming-data": ("AppData/Roaming", "Application Data"),
        "local-data": ("AppData/Local", "Local Settings/Application Data"),
        "low-data": ("AppData/LocalLow",),
    },
    "linux": {
        "documents": ("Documents",),
        "downloads": ("Downloads",),
        "xdg-data": (".local/share",),
        "xdg-config": (".config",),
        "sandboxes": (".var/app",),
        "snaps": ("snap",),
    },
    "macos": {
        "documents": ("Documents",),
        "downloads": ("Downloads",),
        "app-support": ("Library/Application Support",),
        "sandboxes": ("Library/Containers",),
    },
}
"""Where each folder is below a user's home when nobody has moved it; older ways come later."""

_WINDOWS_IDS = {
    "documents": "{FDD39AD0-238F-46AF-ADB4-6C85480369C7}",
    "downloads": "{374DE290-123F-4565-9164-39C4925E467B}",
    "saved-games": "{4C5C32FF-BB9D-43B0-B5B4-2D72E54EAAA4}",
    "roaming-data": "{3EB685DB-65F9-4CF6-A03A-E3EF65729F3D}",
    "local-data": "{F1B32785-6FBA-4FCF-9D55-7B8E7F157091}",
    "low-data": "{A520A1A4-1780-4FF6-BD18-167343C5AF16}",
}
_XDG = {"xdg-data": "XDG_DATA_HOME", "xdg-config": "XDG_CONFIG_HOME"}
_USER_DIRS = {"documents": "XDG_DOCUMENTS_DIR", "downloads": "XDG_DOWNLOAD_DIR"}
_SYSTEM_WIDE = {"shared-games": "/var/games", "shared-state": "/var/lib"}
"""Linux: what games keep for all users, and servers for themselves (Filesystem Hierarchy
Standard 3.0, 5.7 and 5.8)."""
_LONGEST_SETTINGS = 1 << 16


class Machine(Struct, frozen=True):
    """What the rules ask a computer: its system, the user's home, variables, and the system."""

    system: System
    home: Path
    variables: Mapping[str, str] = field(default_factory=dict)
    windows_folder: Callable[[str], str | None] = lambda ident: None
    """Returns the path of a Windows known folder by its identifier, or None."""


def this_machine() -> Machine:
    """Return the computer that the program runs on."""
    system: System = {"win32": "windows", "darwin": "macos"}.get(sys.platform, "linux")  # type: ignore[assignment]
    return Machine(system, Path.home(), os.environ, _ask_windows)


def known_folders(machine: Machine) -> dict[str, Path]:
    """Return a user's known folders by the names that recipes use; they need not exist."""
    home = machine.home
    folders = {
        "home": home,
        **{
            name: home.joinpath(*ways[0].split("/"))
            for name, ways in LAYOUTS[machine.system].items()
        },
    }
    if machine.system == "windows":
        moved = {name: machine.windows_folder(ident) for name, ident in _WINDOWS_IDS.items()}
    elif machine.system == "linux":
        settings = {name: machine.variables.get(variable, "") for name, variable in _XDG.items()}
        # The specification says that values that are not absolute are to be ignored.
        moved = {name: value if value.startswith("/") else None for name, value in settings.items()}
        folders |= {name: Path(path) for name, path in _SYSTEM_WIDE.items()}
        config = Path(moved["xdg-config"] or folders["xdg-config"])
        folders |= moved_documents(config, home)
    else:
        moved = {}
    return {**folders, **{name: Path(value) for name, value in moved.items() if value}}


def moved_documents(config: Path, home: Path, top: Path = Path("/")) -> dict[str, Path]:
    """Return where a Linux user has moved documents and downloads, as `user-dirs.dirs` says.

    `top` is where that user's `/` is now.
    """
    try:
        raw, _ = read_front(config / "user-dirs.dirs", _LONGEST_SETTINGS)
        text = raw.decode("utf-8", "surrogateescape")
    except OSError:
        return {}
    said = {
        name.strip(): value.strip().strip('"')
        for name, sign, value in (line.partition("=") for line in text.splitlines())
        if sign
    }
    found = {}
    for name, variable in _USER_DIRS.items():
        value = said.get(variable, "").replace("\\", "")
        if value.startswith("$HOME/"):
            found[name] = home / value.removeprefix("$HOME/")
        elif value.startswith("/"):
            found[name] = top / value.lstrip("/")
    return found


def _ask_windows(ident: str) -> str | None:
    """Ask Windows where a known folder is, also where the user has moved it."""
    if sys.platform != "win32":
        return None
    import ctypes
    from uuid import UUID

    wanted = (ctypes.c_char * 16).from_buffer_copy(UUID(ident).bytes_le)
    found = ctypes.c_wchar_p()
    if ctypes.windll.shell32.SHGetKnownFolderPath(
        ctypes.byref(wanted), 0, None, ctypes.byref(found)
    ):
        return None  # this edition of Windows has no such folder
    path = found.value
    ctypes.windll.ole32.CoTaskMemFree(found)
    return path
