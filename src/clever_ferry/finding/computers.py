"""Computers and their known folders: this one, or one that a file describes.

A described computer is a folder tree with a `computer.toml` at its top:

    name = "den"
    system = "windows"
    keeps = "ferry"                       # where cferry keeps backups and log for it
    running = ["saltglass-depot"]         # programs that are taken to run
    mounts = ["media/old-disk"]           # disks of other computers
    [folders]
    home = "C/Users/Wren"
    low-data = "C/Users/Wren/AppData/LocalLow"
    [accounts.isa]                        # the known folders of somebody else who uses it
    low-data = "C/Users/Isa/AppData/LocalLow"
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path, PurePath, PurePosixPath
from typing import TYPE_CHECKING, Annotated, Literal

from msgspec import Struct, field

from clever_ferry.errors import DamagedError, NotFoundError
from clever_ferry.finding.grounds import ArchiveGround, DiskGround, Ground
from clever_ferry.finding.known_folders import known_folders, this_machine
from clever_ferry.model import Model, ValidationError, convert, parse_toml, spelled
from clever_ferry.moving.disk import read_whole
from clever_ferry.moving.local import LOCAL
from clever_ferry.moving.names import System
from clever_ferry.moving.shore import Shore
from clever_ferry.recipes.explaining import explain
from clever_ferry.recipes.models import KNOWN_FOLDERS

if TYPE_CHECKING:
    from clever_ferry.moving.archives import ArchiveFiles

__all__ = ["Computer", "described_computer", "this_computer"]

DESCRIPTION = "computer.toml"


class Computer(Struct, frozen=True):
    """A harbour: a computer with its known folders. Folders that it lacks are not in `folders`."""

    name: str
    system: System
    folders: Mapping[str, PurePath] = field(default_factory=dict)
    keeps: Path | None = None
    """Where the tool's own data for it is, where the description says so."""
    running: tuple[str, ...] | None = None
    """Names of its running programs, where a description says so; None: ask the system."""
    top: PurePath | None = None
    """Of a described computer, the folder that stands for all its disks."""
    mounts: tuple[Path, ...] | None = None
    """Where disks of other computers may be, where a description says so; None: ask the system."""
    accounts: Mapping[str, Mapping[str, Path]] | None = None
    """Its other users' known folders, where a description says so; None: look."""
    foreign: bool = False
    """Whether it is the disk of another computer, whose links lead astray here."""
    export: ArchiveFiles | None = None
    """What stands in the place of all folders where it is no computer but an export."""
    shore: Shore = LOCAL
    """What its folders are on."""

    @property
    def described(self) -> bool:
        """Whether it is a simulated one."""
        return self.mounts is not None

    @property
    def disks(self) -> dict[str, Path]:
        """Its known folders, as far as they are on disks of this computer."""
        every = ((name, self.shore.local(place)) for name, place in self.folders.items())
        return {name: place for name, place in every if place is not None}

    def ground(self, under: str) -> Ground | None:
        """Return a known folder to search in, or None where it has none of that name."""
        if under == "export":
            return ArchiveGround(self.export, Path(self.top or "")) if self.export else None
        base = self.folders.get(under)
        if base is None:
            return None
        return DiskGround(base, self.fold, follow=not self.foreign, shore=self.shore)

    def located(self, text: str) -> Path:
        """Return where a path is that a program of this computer has written down."""
        if self.top is None:
            return Path(text)
        drives = self.described or self.system != "windows"  # a disk stands for one drive alone
        parts = [part for part in text.replace("\\", "/").split("/") if part not in ("", ".", "..")]
        kept = [part.rstrip(":") for part in parts if drives or not part.endswith(":")]
        return Path(self.top.joinpath(*kept))

    def spelled(self, folder: PurePath) -> str:
        """Return a folder's path as this computer's own programs spell it."""
        if self.top is None or not folder.is_relative_to(self.top):
            return str(folder)
        parts = list(folder.relative_to(self.top).parts)
        if self.system != "windows":
            return "/" + "/".join(parts)
        # A disk or a prefix stands for one drive alone, mostly C.
        drive = parts.pop(0) if parts and len(parts[0]) == 1 else "C"
        return f"{drive}:\\" + "\\".join(parts)

    @property
    def fold(self) -> bool:
        """Whether its file systems usually take upper and lower case as the same."""
        return self.system != "linux"


def this_computer() -> Computer:
    """Return the computer that the program runs on, with the folders its system names."""
    import platform

    machine = this_machine()
    name = platform.node().split(".")[0] or "this-computer"
    return Computer(name, machine.system, known_folders(machine))


_Name = Annotated[
    str, spelled("[a-z][a-z0-9-]{0,39}", "small letters, digits and hyphens, 40 at most")
]


_LARGEST = 1 << 20
"""Bytes of the largest description that is read."""


class _Description(Model):
    name: _Name
    system: Literal["windows", "linux", "macos"]
    folders: dict[str, str]
    keeps: str | None = None
    running: tuple[str, ...] = ()
    mounts: tuple[str, ...] = ()
    accounts: dict[_Name, dict[str, str]] = {}


def described_computer(place: Path) -> Computer:
    """Return the computer that a `computer.toml` (or the folder with one) describes.

    Raises NotFoundError where there is none and DamagedError where it can't be used.
    """
    file = place / DESCRIPTION if place.is_dir() else place
    if not file.is_file():
        raise NotFoundError(
            f"No described computer is at {place}: there is no {DESCRIPTION}.",
            advice="To work on this computer, leave out --computer, or unset CFERRY_COMPUTER; "
            "`cferry demo --at FOLDER` makes a described one to play with.",
        )
    try:
        data = parse_toml(read_whole(file, _LARGEST))
        read = convert(data, _Description)
    except ValidationError:
        raise DamagedError(
            f"{file} does not describe a computer.", details=explain(_Description, data)
        ) from None
    except (ValueError, RecursionError, OSError) as error:
        raise DamagedError(f"{file} can't be read: {error}.") from None
    top = file.resolve().parent
    folders = _placed(read.folders, "folders", top, file)
    accounts = {
        name: _placed(own, f"accounts.{name}", top, file) for name, own in read.accounts.items()
    }
    keeps = _below(top, read.keeps, file) if read.keeps else None
    mounts = tuple(_below(top, path, file) for path in read.mounts)
    return Computer(read.name, read.system, folders, keeps, read.running, top, mounts, accounts)


def _placed(folders: Mapping[str, str], key: str, top: Path, file: Path) -> dict[str, Path]:
    unknown = sorted(folders.keys() - set(KNOWN_FOLDERS))
    if unknown:
        raise DamagedError(
            f"{file}: {key}.{unknown[0]}: there is no such known folder; "
            f"there are {', '.join(KNOWN_FOLDERS)}."
        )
    return {name: _below(top, path, file) for name, path in folders.items()}


def _below(top: Path, path: str, file: Path) -> Path:
    parts = PurePosixPath(path).parts
    if not parts or path.startswith("/") or ".." in parts or "\\" in path or ":" in path:
        raise DamagedError(f"{file}: {path!r} must lie below the folder of the description.")
    return top.joinpath(*parts)
