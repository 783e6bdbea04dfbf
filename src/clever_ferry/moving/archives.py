"""Zip archives as a folder to read from: in several parts, with zips within, where they lie.

Only the directories at the archives' ends are read to list them. A zip that stands unpacked
within another is read through it; one that is packed is unpacked into a temporary file when its
files are first asked for. Nothing is ever written to an archive.
"""

from __future__ import annotations

import io
import os
import re
import struct
import zipfile
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

from clever_ferry.errors import DamagedError, FerryError, NotFoundError, UnsupportedError
from clever_ferry.moving.disk import open_plain
from clever_ferry.moving.names import folded
from clever_ferry.moving.system import changed
from clever_ferry.moving.zip_times import stamp_of
from clever_ferry.payload import CHUNK, UNPACKED_ALWAYS, Payload, most_unpacked
from clever_ferry.tree import FileInfo
from clever_ferry.zips import BROKEN, DEEPEST, open_zip

__all__ = ["ArchiveFiles", "archive_parts", "archive_sets", "open_archives"]

_MOST_PARTS = 200
_IN_MEMORY = 16 << 20
_BUFFER = 16 << 10
_SPLIT = re.compile(r"(?i)(.+\.zip)\.(\d{3})")
_OF = re.compile(r"(?i)(.*?)(?<!\d)(\d{1,4})([ _-]*(?:of|von|de|sur)[ _-]*)(\d{1,4})(\D*\.zip)")
_NUMBERED = re.compile(r"(?i)(.*?)(?<!\d)(\d{1,3})(\D*\.zip)")
_ENCRYPTED = 0x01


@dataclass
class _Folder:
    """A folder of the tree; a zip within an archive is one that is opened when it is needed."""

    inner: dict[str, _Folder | _File] = field(default_factory=dict)


@dataclass
class _File:
    """A file of the tree, by the archive that it is in."""

    archive: _Archive
    info: zipfile.ZipInfo
    opened: _Folder | None = None

    @property
    def zipped(self) -> bool:
        return self.info.filename.lower().endswith(".zip") and self.archive.depth < DEEPEST


@dataclass
class _Archive:
    """One open zip: a part on disk, or one within another."""

    title: str
    raw: IO[bytes]
    zip: zipfile.ZipFile
    depth: int


class ArchiveFiles:
    """The files of archives, read as one folder; a zip in them is a folder of its own name.

    `problems` says in words which parts are missing or broken, as far as is known by now.
    """

    fold = True

    def __init__(self, root: _Folder, problems: list[str]) -> None:
        self._root = root
        self.problems = problems

    def walk(self, enter: Callable[[str], bool]) -> Iterator[FileInfo]:
        """Yield the files in the folders that `enter` lets in, sorted by path."""
        yield from self._walk(self._root, "", enter)

    def _walk(
        self, folder: _Folder, above: str, enter: Callable[[str], bool]
    ) -> Iterator[FileInfo]:
        for name, node in sorted(folder.inner.items()):
            path = f"{above}{name}"
            inside = node if isinstance(node, _Folder) else None
            if isinstance(node, _File):
                if node.zipped and enter(path):
                    inside = self._opened(node)
                if inside is None:
                    yield _file_info(path, node)
            elif not enter(path):
                inside = None
            if inside is not None:
                yield from self._walk(inside, f"{path}/", enter)

    def folders(self, path: str) -> list[str]:
        """Return the names of a folder's folders (zips are folders), '' being the top."""
        folder = self._folder(path)
        return [
            name
            for name, node in sorted(folder.inner.items() if folder else ())
            if isinstance(node, _Folder) or node.zipped
        ]

    def heavy(self, path: str) -> bool:
        """Tell whether a folder is a large zip that must be unpacked to look into it."""
        node = self._node(path)
        return (
            isinstance(node, _File)
            and node.opened is None
            and node.info.compress_type != zipfile.ZIP_STORED
            and node.info.file_size > UNPACKED_ALWAYS
        )

    def below(self, path: str) -> ArchiveFiles:
        """Return the files of one folder, by their paths from there."""
        return ArchiveFiles(self._folder(path) or _Folder(), self.problems)

    def info(self, path: str) -> FileInfo | None:
        """Return one file's data; None where there is no such file."""
        node = self._node(path)
        return _file_info(path, node) if isinstance(node, _File) else None

    def listed(self, info: FileInfo) -> Payload:
        """Return the bytes of a file that was listed."""
        return self.payload(info.path)

    def payload(self, path: str) -> Payload:
        """Return a file's bytes as a stream; an absent file fails when it is read."""
        node = self._node(path)
        if not isinstance(node, _File):
            raise NotFoundError(f"There is no file {path} in the archive.")
        return _Zipped(node)

    def _folder(self, path: str) -> _Folder | None:
        node = self._node(path) if path else self._root
        return self._opened(node) if isinstance(node, _File) else node

    def _node(self, path: str) -> _Folder | _File | None:
        here: _Folder | _File | None = self._root
        for part in path.split("/"):
            folder = self._opened(here) if isinstance(here, _File) else here
            if folder is None:
                return None
            here = folder.inner.get(part) or next(
                (node for name, node in folder.inner.items() if folded(name) == folded(part)), None
            )
        return here

    def _opened(self, node: _File) -> _Folder | None:
        if not node.zipped:
            return None
        if node.opened is None:
            node.opened = _Folder()
            title = f"{node.archive.title}/{node.info.filename}"
            try:
                archive = _open(title, _raw_within(node), node.archive.depth + 1)
                _plant(node.opened, archive, self.problems)
            except FerryError as error:
                self.problems.append(error.what)
        return node.opened


def _file_info(path: str, node: _File) -> FileInfo:
    return FileInfo(path, node.info.file_size, stamp_of(node.info), checked="the zip's checksum")


@dataclass(frozen=True)
class _Zipped:
    """One zipped file's bytes."""

    node: _File

    @property
    def size(self) -> int:
        return self.node.info.file_size

    def chunks(self) -> Iterator[bytes]:
        info, archive = self.node.info, self.node.archive
        if info.flag_bits & _ENCRYPTED:
            raise UnsupportedError(
                f"{info.filename} in {archive.title} is locked with a password.",
                advice="Unpack the archive with that password first, then name the folder.",
            )
        try:
            with archive.zip.open(info) as file:
                while chunk := file.read(CHUNK):
                    yield chunk
        except BROKEN as error:
            raise DamagedError(
                f"{info.filename} in {archive.title} can't be unpacked: {error}.",
                advice="If it was downloaded, download that part again.",
            ) from None


def archive_parts(paths: Iterable[Path]) -> tuple[list[list[Path]], list[str]]:
    """Sort the files of an export: each inner list is one zip, in pieces if it was cut.

    Also returns the names of parts that are missing, as the others' numbers tell.
    """
    whole: list[list[Path]] = []
    split: dict[Path, list[Path]] = {}
    problems: list[str] = []
    for path in sorted(paths):
        if cut := _SPLIT.fullmatch(path.name):
            split.setdefault(path.with_name(cut[1]), []).append(path)
        elif path.name.lower().endswith(".zip"):
            whole.append([path])
    for joined, pieces in split.items():
        numbers = [int(one.name[-3:]) for one in pieces]
        gaps = sorted(set(range(1, max(numbers) + 1)) - set(numbers))
        if gaps:
            names = ", ".join(f"{joined.name}.{number:03}" for number in gaps)
            problems.append(f"a part is missing: {names}, so {joined.name} can't be read")
        else:
            whole.append(pieces)
    problems += [f"a part is missing: {name}" for name in _gaps([one[0].name for one in whole])]
    return whole, problems


def archive_sets(paths: Iterable[Path]) -> list[list[Path]]:
    """Return the zips among files by what belongs together: those that name themselves as one set.

    Those are the pieces of one cut zip, and the parts of a series whose names say of how many they
    are (`x-2-of-3.zip`). Any other zip is for itself, however alike its name is to others.
    """
    sets: dict[tuple[str, ...], list[Path]] = {}
    for path in sorted(paths):
        if cut := _SPLIT.fullmatch(path.name):
            name = cut[1]
        elif path.name.lower().endswith(".zip"):
            name = path.name
        else:
            continue
        of = _OF.fullmatch(name)
        key = (of[1], of[3], of[4], of[5]) if of else (name,)
        sets.setdefault((str(path.parent), *key), []).append(path)
    return list(sets.values())


def _gaps(names: list[str]) -> list[str]:
    """Return the names that a numbered series lacks: `x-2-of-3.zip`, or `x-002.zip`."""
    series: dict[tuple[str, ...], set[int]] = {}
    for name in names:
        if of := _OF.fullmatch(name):
            series.setdefault((of[1], str(len(of[2])), of[3], of[4], of[5]), set()).add(int(of[2]))
        elif number := _NUMBERED.fullmatch(name):
            width = str(len(number[2])) if number[2][0] == "0" else "0"
            series.setdefault((number[1], width, "", "", number[3]), set()).add(int(number[2]))
    missing = []
    for (before, width, of_, total, after), there in series.items():
        if not total and len(there) < 2:
            continue  # a number, but no series
        first = 0 if 0 in there else 1
        last = max(int(total), max(there)) if total else max(there)
        names = [
            f"{before}{number:0{width}}{of_}{total}{after}"
            for number in range(first, last + 1)
            if number not in there
        ]
        if not total and len(names) > len(there):
            continue  # numbered alike by chance
        more = [f"{len(names) - 8:,} more of them"] if len(names) > 8 else []
        missing += names[:8] + more
    return missing


def open_archives(parts: list[list[Path]], problems: list[str]) -> ArchiveFiles:
    """Open zips and read them as one folder; what can't be read stands in `problems`."""
    root = _Folder()
    for pieces in parts:
        name = pieces[0].name
        try:
            raw = _OnDisk(pieces[0]) if len(pieces) == 1 else _joined(pieces)
            _plant(root, _open(name, io.BufferedReader(raw, _BUFFER), 0), problems)
        except FerryError as error:
            problems.append(error.what)
        except OSError as error:
            problems.append(f"{name} can't be read: {error.strerror or error}")
    return ArchiveFiles(root, problems)


def _open(title: str, raw: IO[bytes], depth: int) -> _Archive:
    return _Archive(title, raw, open_zip(raw, title), depth)


def _plant(root: _Folder, archive: _Archive, problems: list[str]) -> None:
    """Put an archive's files into a tree; a path that would lead out of it is left out."""
    for info in archive.zip.infolist():
        # Some writers use Windows' separators, though the format says "/".
        parts = info.filename.replace("\\", "/").rstrip("/").split("/")
        if any(part in ("", ".", "..") or "\0" in part or ":" in part for part in parts):
            problems.append(f"{archive.title} names a file outside itself: {_short(info)}")
            continue
        if len(parts) > _MOST_PARTS:
            problems.append(f"{archive.title} has a file in over {_MOST_PARTS} folders")
            continue
        folder: _Folder | None = root
        for part in parts if info.is_dir() else parts[:-1]:
            node = folder.inner.setdefault(part, _Folder()) if folder else None
            folder = node if isinstance(node, _Folder) else None
        if folder is None:
            problems.append(f"{archive.title}: {_short(info)} is both a file and a folder")
        elif not info.is_dir():
            other = folder.inner.get(parts[-1])
            if other is None:
                folder.inner[parts[-1]] = _File(archive, info)
            elif not isinstance(other, _File) or _differ(other.info, info):
                where = other.archive.title if isinstance(other, _File) else archive.title
                problems.append(
                    f"{info.filename} is in {where} and, with other contents, in {archive.title}; "
                    "the first is taken"
                )


def _short(info: zipfile.ZipInfo) -> str:
    return repr(info.filename[:200])


def _differ(one: zipfile.ZipInfo, other: zipfile.ZipInfo) -> bool:
    return (one.CRC, one.file_size) != (other.CRC, other.file_size)


def _raw_within(node: _File) -> IO[bytes]:
    """Return a zip within a zip as a file: a window onto it, or what it unpacks to."""
    info, archive = node.info, node.archive
    if info.compress_type == zipfile.ZIP_STORED and not info.flag_bits & _ENCRYPTED:
        try:
            archive.raw.seek(info.header_offset)
            lengths = struct.unpack("<26xHH", archive.raw.read(30))
        except BROKEN as error:
            raise DamagedError(f"{archive.title}/{info.filename} can't be read: {error}.") from None
        start = info.header_offset + 30 + sum(lengths)
        return io.BufferedReader(_Window([(archive.raw, start, info.file_size)]))
    most = most_unpacked(info.compress_size)
    if info.file_size > most:
        raise DamagedError(
            f"{archive.title}/{info.filename} has {info.compress_size:,} bytes and would unpack "
            f"to {info.file_size:,}."
        )
    import tempfile

    unpacked = tempfile.SpooledTemporaryFile(_IN_MEMORY)  # noqa: SIM115 - lives as long as the tree
    for chunk in _Zipped(node).chunks():
        unpacked.write(chunk)
    return unpacked


class _Seekable(io.RawIOBase):
    """What can be read from any place: `_size` bytes, the next of them at `_at`."""

    _size: int
    _at = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        start = {os.SEEK_SET: 0, os.SEEK_CUR: self._at, os.SEEK_END: self._size}[whence]
        self._at = max(0, start + offset)
        return self._at

    def tell(self) -> int:
        return self._at


class _OnDisk(_Seekable):
    """A file that is open only while it is read: Windows keeps others from one that is open.

    Raises OSError where another file stands there by then, or it was changed.
    """

    def __init__(self, path: Path) -> None:
        super().__init__()
        self._path = path
        with open_plain(path) as file:
            self._known = self._looks(file)
            self._size = self._known[0]

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        with open_plain(self._path) as file:
            if self._looks(file) != self._known:
                raise OSError(None, "it was changed while it was being read", str(self._path))
            file.seek(self._at)
            data = file.read(len(buffer))
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)

    def _looks(self, file: IO[bytes]) -> tuple[int, int, int, int]:
        data = os.fstat(file.fileno())
        return data.st_size, data.st_mtime_ns, data.st_ino, changed(data, self._path)


class _Window(_Seekable):
    """Ranges of other files, read as one file."""

    def __init__(self, ranges: list[tuple[io.RawIOBase | IO[bytes], int, int]]) -> None:
        super().__init__()
        self._ranges = ranges
        self._size = sum(size for _, _, size in ranges)

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        before = 0
        for file, start, size in self._ranges:
            if self._at < before + size:
                file.seek(start + self._at - before)
                data = file.read(min(len(buffer), before + size - self._at)) or b""
                buffer[: len(data)] = data
                self._at += len(data)
                return len(data)
            before += size
        return 0


def _joined(pieces: list[Path]) -> _Window:
    return _Window([(_OnDisk(path), 0, path.stat().st_size) for path in pieces])
