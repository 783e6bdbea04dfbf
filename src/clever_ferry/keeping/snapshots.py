"""Snapshots: how a folder stood at one time, as a file that says so and proves itself whole.

A snapshot is a JSON file `snapshots/<id>.json`: `snapshot` (the version, 1), `digest` (BLAKE3
of the body as compact JSON with sorted keys), and `body` with every path, size, time
stamp, attributes and content's digest, what was absent, the folders, and the saves in words.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path, PurePosixPath, PureWindowsPath
from typing import Annotated, Any, Literal

from msgspec import Meta, Struct, convert
from msgspec.structs import asdict

from clever_ferry.cargo import Save, new_digest
from clever_ferry.errors import ChoiceNeededError, DamagedError, UnknownNameError
from clever_ferry.moving import disk
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

Kind = Literal["backup", "crossing", "undo", "restore"]
"""Why it was made: asked for, or before a crossing, an undo or a restore."""

_MOST = 1 << 30
"""Bytes of the largest snapshot that is read; one of 100,000 files has some 40 MB."""
_IDENT = re.compile(r"[0-9]{8}-[0-9]{6}-[0-9a-f]{6}")


@dataclass(frozen=True)
class About:
    """Whose saves they are, in words and as an address."""

    game: str
    edition: str
    title: str
    """Such as `Saltglass: Cobalt Depot (account 100200300)`."""
    boxed: bool
    """Whether all files together are one container, that is only good as a whole."""
    whole: bool
    """Whether all of the berth's saves are in it."""

    @property
    def address(self) -> str:
        """How a command names it."""
        return f"{self.game}/{self.edition}"


@dataclass(frozen=True)
class KeptFile:
    """One file as it stood: size in bytes, stamp in ns, digest in hex."""

    path: str
    size: int
    stamp: int
    digest: str
    attributes: Attributes
    seen: tuple[int, int] = (0, 0)
    """The system's own change time (ns) and number of the file, by which it is known again."""


@dataclass(frozen=True)
class KeptFolder:
    """One folder as it stood; '' is the root."""

    path: str
    stamp: int


@dataclass(frozen=True)
class KeptSave:
    """One save, as a player knows it, and its files."""

    slot: int
    title: str
    fields: Mapping[str, int | str]
    facts: tuple[tuple[str, str], ...]
    files: tuple[str, ...]

    @property
    def key(self) -> tuple[tuple[str, str], ...]:
        """What makes it out among its berth's saves, at any time."""
        return tuple(sorted((name, str(value)) for name, value in self.fields.items()))


def kept_save(save: Save) -> KeptSave:
    """Return what a snapshot says of a save."""
    facts = tuple((fact.label, fact.text) for fact in save.told)
    return KeptSave(save.slot, save.title, dict(save.fields), facts, save.files)


@dataclass(frozen=True)
class Kept:
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


@dataclass(frozen=True)
class Snapshot:
    """How the named paths of one folder stood at one time."""

    id: str
    kind: Kind
    made: int
    note: str
    root: str
    about: About
    saves: tuple[KeptSave, ...]
    files: tuple[KeptFile, ...]
    absent: tuple[str, ...] = ()
    folders: tuple[KeptFolder, ...] = ()
    absent_folders: tuple[str, ...] = ()

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

    def as_data(self) -> dict[str, Any]:
        """Return it as plain data."""
        return _body(self)

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
        """Keep a snapshot; it lasts when this returns."""
        disk.make_folder(self.folder)
        body = _body(snapshot)
        data = {"snapshot": 1, "digest": _digest(body), "body": body}
        disk.write_synced(self.folder / f"{snapshot.id}.json", json.dumps(data).encode())
        disk.sync_folder(self.folder.parent)

    def read(self, ident: str) -> Snapshot:
        """Read a snapshot; raises DamagedError where it is missing or not as it was written."""
        path = self.folder / f"{ident}.json"
        try:
            data = json.loads(disk.read_whole(path, _MOST))
            body = data["body"]
            if data["snapshot"] != 1 or data["digest"] != _digest(body):
                raise ValueError("it is not as it was written")
            snapshot = _snapshot(body)
            if snapshot.id != ident:
                raise ValueError("it is of another name")
            return snapshot
        except (OSError, ValueError, KeyError, TypeError, RecursionError) as error:
            told = error.strerror if isinstance(error, OSError) else error
            raise DamagedError(f"The backup {path} can't be read: {told}.") from None

    def remove(self, ident: str) -> None:
        """Remove one."""
        disk.unlink(self.folder / f"{ident}.json")

    def sync(self) -> None:
        """Make removals last."""
        if self.folder.is_dir():
            disk.sync_folder(self.folder)

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


def _body(snapshot: Snapshot) -> dict[str, Any]:
    return {
        "id": snapshot.id,
        "kind": snapshot.kind,
        "made": snapshot.made,
        "note": snapshot.note,
        "root": snapshot.root,
        "about": vars(snapshot.about),
        "saves": [
            {
                "slot": one.slot,
                "title": one.title,
                "fields": dict(one.fields),
                "facts": [list(fact) for fact in one.facts],
                "files": list(one.files),
            }
            for one in snapshot.saves
        ],
        "files": [
            {
                "path": one.path,
                "size": one.size,
                "stamp": one.stamp,
                "digest": one.digest,
                "attributes": one.attributes.as_data(),
                "seen": list(one.seen),
            }
            for one in snapshot.files
        ],
        "absent": list(snapshot.absent),
        "folders": [[one.path, one.stamp] for one in snapshot.folders],
        "absent_folders": list(snapshot.absent_folders),
    }


_Count = Annotated[int, Meta(ge=0)]
_Time = Annotated[int, Meta(ge=-(1 << 63), le=(1 << 63) - 1)]
_Text = Annotated[str, Meta(max_length=100_000)]
_Path = Annotated[str, Meta(max_length=32_768)]


class _Attributes(Struct):
    mode: Annotated[int, Meta(ge=0, le=0o777)]
    owner: tuple[_Count, _Count] | None = None
    extended: dict[
        Annotated[str, Meta(pattern="^user[.].")], Annotated[str, Meta(pattern="^([0-9a-f]{2})*$")]
    ] = {}
    flags: Annotated[int, Meta(ge=0, lt=1 << 32)] = 0


class _File(Struct):
    path: _Path
    size: _Count
    stamp: _Time
    digest: Annotated[str, Meta(pattern="^[0-9a-f]{64}$")]
    attributes: _Attributes
    seen: tuple[int, int]


class _Save(Struct):
    slot: int
    title: _Text
    fields: dict[str, int | str]
    facts: list[tuple[_Text, _Text]]
    files: list[_Path]


class _About(Struct):
    game: _Text
    edition: _Text
    title: _Text
    boxed: bool
    whole: bool


class _Body(Struct):
    """What a snapshot's file may say; it may come from a stranger."""

    id: Annotated[str, Meta(pattern=f"^{_IDENT.pattern}$")]
    kind: Kind
    made: _Time
    note: _Text
    root: _Path
    about: _About
    saves: list[_Save]
    files: list[_File]
    absent: list[_Path]
    folders: list[tuple[_Path, _Time]]
    absent_folders: list[_Path]


def _snapshot(data: Any) -> Snapshot:
    """Take plain data; raises ValueError where it is none, or a path would lead elsewhere."""
    body = convert(data, _Body)
    named = [*body.absent, *(one.path for one in body.files)]
    folders = [path for path in (*body.absent_folders, *(one[0] for one in body.folders)) if path]
    for path in (*named, *folders):
        if any(part in ("", ".", "..") or "\0" in part for part in path.split("/")):
            raise ValueError(f"the path {path!r} would lead out of its folder")
    if "\0" in body.root or not (PurePosixPath(body.root).is_absolute()
                                 or PureWindowsPath(body.root).is_absolute()):  # fmt: skip
        raise ValueError(f"{body.root!r} is no folder's whole path")
    return Snapshot(
        body.id, body.kind, body.made, body.note, body.root, About(**asdict(body.about)),
        tuple(_save(one) for one in body.saves),
        tuple(
            KeptFile(
                one.path, one.size, one.stamp, one.digest,
                Attributes.from_data(asdict(one.attributes)), one.seen,
            )
            for one in body.files
        ),
        tuple(body.absent),
        tuple(KeptFolder(path, stamp) for path, stamp in body.folders),
        tuple(body.absent_folders),
    )  # fmt: skip


def saves_from(data: Any) -> list[KeptSave]:
    """Read saves from plain data; raises ValueError where it is none."""
    return [_save(one) for one in convert(data, list[_Save])]


def about_from(data: Any) -> About:
    """Read whose saves they are from plain data; raises ValueError where it is none."""
    return About(**asdict(convert(data, _About)))


def _save(one: _Save) -> KeptSave:
    return KeptSave(one.slot, one.title, one.fields, tuple(one.facts), tuple(one.files))
