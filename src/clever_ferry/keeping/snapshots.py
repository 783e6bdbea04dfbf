"""Snapshots: how a folder stood at one time, as a file that says so and proves itself whole.

A snapshot is a JSON file `snapshots/<id>.json`: `snapshot` (the version, 1), `digest` (BLAKE3
of the body as compact JSON with sorted keys), and `body` with every path, size, time
stamp, attributes and content's digest, what was absent, the folders, and the saves in words.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path, PurePosixPath, PureWindowsPath
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct, convert, to_builtins

from clever_ferry.cargo import Save, new_digest
from clever_ferry.errors import ChoiceNeededError, DamagedError, UnknownNameError
from clever_ferry.keeping.records import Format, Time
from clever_ferry.moving.disk import read_whole
from clever_ferry.moving.local import LOCAL, LocalShore
from clever_ferry.moving.presence import folder_stands, stands
from clever_ferry.moving.system import Attributes

__all__ = [
    "About",
    "Kept",
    "KeptFile",
    "KeptFolder",
    "KeptSave",
    "Kind",
    "Snapshot",
    "Snapshots",
    "kept_save",
]

Kind = Literal["backup", "crossing", "undo", "restore", "watched"]
"""Why it was made: asked for, before a crossing, an undo or a restore, or as it passed by while the
game was being watched."""

_MOST = 1 << 30
"""Bytes of the largest snapshot that is read; one of 100,000 files has some 40 MB."""
_IDENT = re.compile(r"[0-9]{8}-[0-9]{6}-[0-9a-f]{6}")
_ELSEWHERE = re.compile(r"[a-z][a-z0-9+.-]+:/")
"""How a place begins that is on no disk of a computer."""
_Count = Annotated[int, Meta(ge=0)]
_Text = Annotated[str, Meta(max_length=100_000)]
_Path = Annotated[str, Meta(max_length=32_768)]


class About(Struct, frozen=True, forbid_unknown_fields=True):
    """Whose saves they are, in words and as an address."""

    game: _Text
    edition: _Text
    title: _Text
    """Such as `Saltglass: Cobalt Depot (account 100200300)`."""
    boxed: bool
    """Whether all files together are one container, that is only good as a whole."""
    whole: bool
    """Whether all of the berth's saves are in it."""

    @property
    def address(self) -> str:
        """How a command names it."""
        return f"{self.game}/{self.edition}"


class KeptFile(Struct, frozen=True, forbid_unknown_fields=True):
    """One file as it stood: size in bytes, stamp in ns, digest in hex."""

    path: _Path
    size: _Count
    stamp: Time
    digest: Annotated[str, Meta(pattern="^[0-9a-f]{64}$")]
    attributes: Attributes
    seen: tuple[int, int] = (0, 0)
    """The system's own change time (ns) and number of the file, by which it is known again."""


class KeptFolder(Struct, frozen=True, array_like=True, forbid_unknown_fields=True):
    """One folder as it stood; '' is the root."""

    path: _Path
    stamp: Time


class KeptSave(Struct, frozen=True, forbid_unknown_fields=True):
    """One save, as a player knows it, and its files."""

    slot: int
    title: _Text
    fields: Mapping[str, int | str]
    facts: tuple[tuple[_Text, _Text], ...]
    files: tuple[_Path, ...]

    @property
    def key(self) -> tuple[tuple[str, str], ...]:
        """What makes it out among its berth's saves, at any time."""
        return tuple(sorted((name, str(value)) for name, value in self.fields.items()))


def kept_save(save: Save) -> KeptSave:
    """Return what a snapshot says of a save."""
    facts = tuple((fact.label, fact.text) for fact in save.shown_facts)
    return KeptSave(save.slot, save.title, dict(save.fields), facts, save.files)


class Kept(Struct, frozen=True, forbid_unknown_fields=True):
    """A snapshot in short, as lists show it."""

    id: str
    kind: Kind
    made: int
    """Time in ns since 1970."""
    note: str
    root: str
    about: About
    saves: tuple[KeptSave, ...]
    count: int
    """How many files."""
    size: int
    """Bytes of all files."""


class Snapshot(Struct, frozen=True, forbid_unknown_fields=True):
    """How the named paths of one folder stood at one time."""

    id: Annotated[str, Meta(pattern=f"^{_IDENT.pattern}$")]
    kind: Kind
    made: Time
    note: _Text
    root: _Path
    about: About
    saves: tuple[KeptSave, ...]
    files: tuple[KeptFile, ...]
    absent: tuple[_Path, ...]
    folders: tuple[KeptFolder, ...]
    absent_folders: tuple[_Path, ...]

    @property
    def size(self) -> int:
        """Bytes of all files."""
        return sum(file.size for file in self.files)

    @property
    def short(self) -> Kept:
        """What lists show of it."""
        return Kept(
            self.id, self.kind, self.made, self.note, self.root, self.about, self.saves,
            len(self.files), self.size,
        )  # fmt: skip

    def by_path(self) -> dict[str, KeptFile]:
        """Return its files by path."""
        return {file.path: file for file in self.files}

    def saves_of(self, paths: Iterable[str]) -> list[KeptSave]:
        """Return the saves that any of these files belongs to."""
        wanted = set(paths)
        return [save for save in self.saves if wanted.intersection(save.files)]


@dataclass
class Snapshots:
    """The snapshots below one folder."""

    folder: Path
    shore: LocalShore = LOCAL

    def idents(self) -> list[str]:
        """Return the ids of all snapshots, the oldest first."""
        if not folder_stands(self.folder):
            return []
        names = (path.name for path in self.folder.iterdir())
        return sorted(n[:-5] for n in names if n.endswith(".json") and _IDENT.fullmatch(n[:-5]))

    def has(self, ident: str) -> bool:
        """Tell whether a snapshot of that id is there, whether or not it can be read."""
        return stands(self.folder / f"{ident}.json") is not None

    def write(self, snapshot: Snapshot) -> None:
        """Keep a snapshot; it lasts when this returns, and where it can't, none is left."""
        self.shore.make_folder(self.folder)
        body = to_builtins(snapshot)
        data = _FORMAT.written(_Sealed(_digest(body), body))
        try:
            self.shore.write_synced(self.folder / f"{snapshot.id}.json", data)
            self.shore.sync_folder(self.folder.parent)
        except BaseException:
            with suppress(OSError):  # the disk may take nothing at all any more
                self.remove(snapshot.id)
            raise

    def read(self, ident: str) -> Snapshot:
        """Read a snapshot; raises DamagedError where it is missing or not as it was written."""
        path = self.folder / f"{ident}.json"
        try:
            sealed = _FORMAT.read(read_whole(path, _MOST))
            if sealed.digest != _digest(sealed.body):
                raise ValueError("it is not as it was written")
            snapshot = convert(sealed.body, Snapshot)
            _refuse_astray(snapshot)
            if snapshot.id != ident:
                raise ValueError("it is of another name")
            return snapshot
        except (OSError, ValueError, RecursionError) as error:
            told = error.strerror if isinstance(error, OSError) else error
            raise DamagedError(f"The backup {path} can't be read: {told}.") from None

    def remove(self, ident: str) -> None:
        """Remove one."""
        self.shore.unlink(self.folder / f"{ident}.json")

    def sync(self) -> None:
        """Make removals last."""
        if self.folder.is_dir():
            self.shore.sync_folder(self.folder)

    def find(self, text: str) -> str:
        """Return the id that a user means by some of it; `latest` is the newest asked for.

        Raises UnknownNameError where there is none, and ChoiceNeededError where several fit.
        """
        idents = self.idents()
        found = [one for one in idents if one == text]
        found = found or [one for one in idents if one.startswith(text) or one.endswith(text)]
        if not found:
            raise UnknownNameError(
                f"There is no backup {text!r}.", advice="`cferry backup list` shows all backups."
            )
        if len(found) > 1:
            raise ChoiceNeededError(
                f"{text!r} fits {len(found)} backups.",
                details=tuple(f"  {one}" for one in found[-10:]),
                advice="Say more of the backup's id.",
            )
        return found[0]


def _digest(body: Any) -> str:
    digest = new_digest()
    digest.update(json.dumps(body, sort_keys=True, separators=(",", ":")).encode())
    return digest.hexdigest()


class _Sealed(Struct, forbid_unknown_fields=True):
    """A snapshot's file: the snapshot as plain data, and the digest of that."""

    digest: str
    body: dict[str, Any]


_FORMAT = Format("snapshot", _Sealed)


def _refuse_astray(snapshot: Snapshot) -> None:
    """Raise ValueError where a path would lead elsewhere: it may come from a stranger."""
    named = [*snapshot.absent, *(one.path for one in snapshot.files)]
    folders = [*snapshot.absent_folders, *(one.path for one in snapshot.folders)]
    for path in (*named, *filter(None, folders)):
        if any(part in ("", ".", "..") or "\0" in part for part in path.split("/")):
            raise ValueError(f"the path {path!r} would lead out of its folder")
    whole = (
        _ELSEWHERE.match(snapshot.root)
        or PurePosixPath(snapshot.root).is_absolute()
        or PureWindowsPath(snapshot.root).is_absolute()
    )
    if "\0" in snapshot.root or not whole:
        raise ValueError(f"{snapshot.root!r} is no folder's whole path")
