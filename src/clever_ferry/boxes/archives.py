"""Zip and tar files as boxes: in several parts, and zips within zips."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import tarfile
import zipfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase

from clever_ferry.boxes.beside import files_beside, written_beside
from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.companions import going_with, with_companions
from clever_ferry.boxes.spec import ArchiveSpec
from clever_ferry.errors import DamagedError, NotFoundError
from clever_ferry.moving.zip_times import stamp_of, stamped
from clever_ferry.payload import (
    CHUNK,
    BytesPayload,
    Payload,
    StreamPayload,
    most_unpacked,
    read_all,
)
from clever_ferry.tree import Files, Output
from clever_ferry.zips import BROKEN, DEEPEST, MOST_MEMBERS, open_zip

__all__ = ["ArchiveBox"]

_LARGEST = 1 << 30
_BROKEN = (*BROKEN, tarfile.TarError, lzma.LZMAError)


@dataclass(frozen=True)
class _Member:
    """One file in an archive: its own name there, its time in ns, its bytes."""

    name: str
    stamp: int
    payload: Payload
    size: int
    head: zipfile.ZipInfo | None = None
    """How a zip keeps it: packed or stored, its attributes, its remark."""


@dataclass(frozen=True)
class _Archive:
    """What is in one archive, in its order, and the remark at its end."""

    members: list[_Member]
    remark: bytes = b""


class ArchiveBox:
    """One or several archives, read as one; or each as a folder of its name, beside other files."""

    def __init__(self, spec: ArchiveSpec) -> None:
        self.spec = spec
        self.before, self.star, self.after = spec.file.partition("*")

    def _is_part(self, path: str) -> bool:
        if not self.star:
            return path == self.spec.file
        enough = len(path) >= len(self.before) + len(self.after)
        return enough and path.startswith(self.before) and path.endswith(self.after)

    def _archive_of(self, name: str) -> str:
        """Return the archive that an entry is in, or would be; '' for a file beside them."""
        parts = name.split("/")
        ways = ("/".join(parts[:depth]) for depth in range(1, len(parts)))
        return next((path for path in ways if self._is_part(path)), "")

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return the archives' files; folders and links in them are passed over."""
        each = self.spec.each
        there = files.walk(enter if each else lambda _: False)
        parts = [info.path for info in there if self._is_part(info.path)]
        if not parts and not each:
            raise NotFoundError(f"There is no archive {self.spec.file}.")
        entries = [*files_beside(files, enter, self._is_part)] if each else []
        seen: dict[str, str] = {}
        archives: dict[str, _Archive] = {}
        for path in parts:
            archives[path] = self._read(files, path)
            for member in archives[path].members:
                for own, found in self._opened(member, 0):
                    name = f"{path}/{own}" if each else own
                    other = seen.setdefault(name, path)
                    problem = f"it is in {other} too" if other != path else ""
                    checked = "the zip's checksum" if self.spec.kind == "zip" else ""
                    entries.append(
                        Entry(
                            name, found.size, found.stamp, found.payload, (path,), problem, checked
                        )
                    )
                    if len(entries) > MOST_MEMBERS:
                        raise DamagedError(f"{path} holds more than {MOST_MEMBERS:,} files.")
        return Contents(tuple(with_companions(entries)), {}, archives, tuple(parts))

    def _read(self, files: Files, path: str) -> _Archive:
        try:
            raw = read_all(files.payload(path), limit=_LARGEST, what=path)
            if self.spec.kind == "tar":
                return _Archive(list(_bounded(_read_tar(raw), path, len(raw))))
            archive = open_zip(io.BytesIO(raw), "it")
            return _Archive(list(_bounded(_members(archive), path, len(raw))), archive.comment)
        except _BROKEN as error:
            if isinstance(error, OSError) and error.errno is not None:
                raise
            raise DamagedError(f"The archive {path} can't be read: {error}.") from None

    def _opened(self, member: _Member, depth: int) -> Iterator[tuple[str, _Member]]:
        if not (self.spec.nested and member.name.lower().endswith(".zip")):
            yield member.name, member
            return
        if depth >= DEEPEST:
            raise DamagedError(f"{member.name}: archives are nested more than {DEEPEST} deep.")
        try:
            raw = read_all(member.payload, limit=_LARGEST, what=member.name)
            inner = list(_bounded(_read_zip(raw), member.name, len(raw)))
        except _BROKEN as error:
            raise DamagedError(f"The archive {member.name} can't be read: {error}.") from None
        for one in inner:
            for name, found in self._opened(one, depth + 1):
                yield f"{member.name}/{name}", found

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the archives that change; a new entry goes into its own, or into the last one."""
        known = {entry.name: entry for entry in contents.entries}
        beside = [one for put in puts for one in going_with(put, known)]
        beside += [one for name in removes if name in known for one in known[name].beside]
        if self.spec.each:
            yield from self._each(contents, puts, [*beside, *removes], making)
            return
        holders = {name: entry.files[0] for name, entry in known.items()}
        last = max(contents.state)
        new = {put.name: put for put in puts}
        for path, archive in contents.state.items():
            gone = {name for name in removes if holders.get(name) == path}
            gone.update(one for one in beside if self._is_in(archive.members, one))
            here = {n: put for n, put in new.items() if self._holder(n, holders, last) == path}
            if gone or here:
                yield Output(path, BytesPayload(self._written(archive, here, gone)), making.now)

    def _each(
        self, contents: Contents, puts: Sequence[Put], gone: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield each archive that changes; one of which nothing is left goes, too."""
        yield from written_beside(puts, gone, lambda name: bool(self._archive_of(name)), making)
        by_archive: dict[str, dict[str, Put]] = {}
        without: dict[str, set[str]] = {}
        for put in puts:
            if path := self._archive_of(put.name):
                by_archive.setdefault(path, {})[put.name.removeprefix(f"{path}/")] = put
        for name in gone:
            if path := self._archive_of(name):
                without.setdefault(path, set()).add(name.removeprefix(f"{path}/"))
        for path in dict.fromkeys([*by_archive, *without]):
            archive = contents.state.get(path, _Archive([]))
            here, off = by_archive.get(path, {}), without.get(path, set())
            if not here and off.issuperset(one.name for one in archive.members):
                yield Output(path, None, making.now, tidy=True)
                continue
            stamp = max((put.stamp for put in here.values()), default=making.now)
            yield Output(path, BytesPayload(self._written(archive, here, off)), stamp)

    def _is_in(self, members: list[_Member], name: str) -> bool:
        return any(one.name == name or (self.spec.nested and name.startswith(f"{one.name}/"))
                   for one in members)  # fmt: skip

    def _holder(self, name: str, holders: dict[str, str], last: str) -> str:
        """Return the part that an entry is in, or that a new one goes into."""
        if name in holders or not self.spec.nested:
            return holders.get(name, last)
        archive = name[: name.lower().find(".zip/") + 5] if ".zip/" in name.lower() else ""
        beside = (part for known, part in holders.items() if archive and known.startswith(archive))
        return next(beside, last)

    def _written(self, archive: _Archive, puts: dict[str, Put], gone: set[str]) -> bytes:
        kept: dict[str, _Member] = {}
        for member in archive.members:
            inside = f"{member.name}/"
            inner_puts = {
                n.removeprefix(inside): p for n, p in puts.items() if n.startswith(inside)
            }
            inner_gone = {n.removeprefix(inside) for n in gone if n.startswith(inside)}
            if self.spec.nested and (inner_puts or inner_gone):
                raw = read_all(member.payload, limit=_LARGEST, what=member.name)
                opened = open_zip(io.BytesIO(raw), member.name)
                inner = _Archive(list(_members(opened)), opened.comment)
                data = self._written(inner, inner_puts, inner_gone)
                stamp = max([member.stamp, *(put.stamp for put in inner_puts.values())])
                kept[member.name] = _Member(
                    member.name, stamp, BytesPayload(data), len(data), member.head
                )
            elif member.name not in gone:
                kept[member.name] = member
        within = tuple(f"{one.name}/" for one in archive.members) if self.spec.nested else ()
        for name, put in puts.items():
            if not (within and name.startswith(within)):
                data = read_all(put.payload, limit=_LARGEST, what=name)
                head = kept[name].head if name in kept else None
                kept[name] = _Member(name, put.stamp, BytesPayload(data), len(data), head)
        if self.spec.kind == "tar":
            return _write_tar(list(kept.values()), self.spec.packed)
        return self._zipped(list(kept.values()), archive.remark)

    def _zipped(self, members: list[_Member], remark: bytes) -> bytes:
        """Return a zip; what was in it is packed or stored as it was."""
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.comment = remark
            for member in members:
                data = read_all(member.payload, limit=_LARGEST, what=member.name)
                archive.writestr(self._head(member), data)
        return out.getvalue()

    def _head(self, member: _Member) -> zipfile.ZipInfo:
        info, was = stamped(member.name, member.stamp), member.head
        if was is not None and stamp_of(was) == member.stamp:
            info.date_time = was.date_time
        stored = any(fnmatchcase(member.name, one) for one in self.spec.stored)
        usual = zipfile.ZIP_DEFLATED if self.spec.packed and not stored else zipfile.ZIP_STORED
        info.compress_type = was.compress_type if was is not None else usual
        info.external_attr = was.external_attr if was is not None else 0o644 << 16
        info.create_system = was.create_system if was is not None else info.create_system
        info.comment = was.comment if was is not None else b""
        return info


def _bounded(members: Iterator[_Member], archive: str, size: int) -> Iterator[_Member]:
    """A small archive must not unpack to a full disk, nor a flat list to a full memory."""
    most, total = most_unpacked(size), 0
    for count, member in enumerate(members, 1):
        total += member.size
        if total > most:
            raise DamagedError(f"{archive} has {size:,} bytes and would unpack to over {most:,}.")
        if count > MOST_MEMBERS:
            raise DamagedError(f"{archive} holds more than {MOST_MEMBERS:,} files.")
        yield member


def _read_zip(raw: bytes) -> Iterator[_Member]:
    return _members(open_zip(io.BytesIO(raw), "it"))


def _members(archive: zipfile.ZipFile) -> Iterator[_Member]:
    for info in archive.infolist():
        if info.is_dir():
            continue
        if info.file_size > _LARGEST:
            raise DamagedError(f"{info.filename} would unpack to {info.file_size:,} bytes.")
        yield _Member(
            info.filename, stamp_of(info), StreamPayload(_unzipper(archive, info), info.file_size),
            info.file_size, info,
        )  # fmt: skip


def _unzipper(archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> Callable[[], Iterator[bytes]]:
    def chunks() -> Iterator[bytes]:
        try:
            with archive.open(info) as file:
                while chunk := file.read(CHUNK):
                    yield chunk
        except _BROKEN as error:
            raise DamagedError(f"{info.filename} can't be unpacked: {error}.") from None

    return chunks


def _read_tar(raw: bytes) -> Iterator[_Member]:
    most = min(_LARGEST, most_unpacked(len(raw)))
    for magic, opened in _PACKED:
        if raw.startswith(magic):
            with opened(io.BytesIO(raw)) as packed:
                raw = packed.read(most + 1)
            if len(raw) > most:
                raise DamagedError(f"it unpacks to more than {most:,} bytes.")
    archive = tarfile.open(fileobj=io.BytesIO(raw), mode="r:")  # noqa: SIM115 - read later
    for info in archive:
        if info.isfile():
            payload = StreamPayload(_untarrer(archive, info), info.size)
            yield _Member(info.name, int(info.mtime) * 10**9, payload, info.size)


_Packed = gzip.GzipFile | bz2.BZ2File | lzma.LZMAFile
_PACKED: tuple[tuple[bytes, Callable[[io.BytesIO], _Packed]], ...] = (
    (b"\x1f\x8b", lambda raw: gzip.GzipFile(fileobj=raw)),
    (b"BZh", bz2.BZ2File),
    (b"\xfd7zXZ", lzma.LZMAFile),
)


def _untarrer(archive: tarfile.TarFile, info: tarfile.TarInfo) -> Callable[[], Iterator[bytes]]:
    def chunks() -> Iterator[bytes]:
        try:
            file = archive.extractfile(info)
            while file is not None and (chunk := file.read(CHUNK)):
                yield chunk
        except _BROKEN as error:
            raise DamagedError(f"{info.name} can't be read: {error}.") from None

    return chunks


def _write_tar(members: list[_Member], packed: bool) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:gz" if packed else "w") as archive:
        for member in members:
            info = tarfile.TarInfo(member.name)
            info.size, info.mtime = member.size, member.stamp // 10**9
            data = read_all(member.payload, limit=_LARGEST, what=member.name)
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()
