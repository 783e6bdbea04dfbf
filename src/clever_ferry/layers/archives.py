"""Zip and tar files: their members read, and written with the others as they were."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import tarfile
import zipfile
from collections.abc import Callable, Iterator, Mapping
from copy import copy
from dataclasses import dataclass
from typing import Any

from clever_ferry.certainty import Evidence
from clever_ferry.errors import DamagedError
from clever_ferry.layers.chain import Stages
from clever_ferry.layers.found import Found
from clever_ferry.layers.kept import Kept, dress_or_keep
from clever_ferry.layers.known import Known
from clever_ferry.layers.spec import MemberSpec
from clever_ferry.moving.zip_times import stamp_of, stamped
from clever_ferry.payload import (
    CHUNK,
    BytesPayload,
    Payload,
    StreamPayload,
    most_unpacked,
    read_all,
)
from clever_ferry.zips import BROKEN, MOST_MEMBERS, open_zip

__all__ = [
    "LARGEST_ARCHIVE", "Archive", "InArchive", "Member", "archive_written",
    "read_archive",
]  # fmt: skip

LARGEST_ARCHIVE = 1 << 30
_BROKEN = (*BROKEN, tarfile.TarError, lzma.LZMAError)


@dataclass(frozen=True)
class Member:
    """One file in an archive: its own name there, its time in ns, its bytes."""

    name: str
    stamp: int
    payload: Payload
    size: int
    head: zipfile.ZipInfo | tarfile.TarInfo | None = None
    """How the archive keeps it: packed or stored, its attributes, its remark."""
    aside: bool = False
    """Whether it is no file: a folder, or in a tar a link. It is kept as it is."""


@dataclass(frozen=True)
class Archive:
    """What is in one archive, in its order, and the remark at its end."""

    every: list[Member]
    remark: bytes = b""

    @property
    def members(self) -> list[Member]:
        """The files in it."""
        return [one for one in self.every if not one.aside]


def read_archive(payload: Payload, kind: str, title: str) -> Archive:
    """Read an archive's list; raises DamagedError where it is none, or would unpack to too much."""
    raw = read_all(payload, limit=LARGEST_ARCHIVE, what=title)
    try:
        if kind == "tar":
            return Archive(list(_bounded(_read_tar(raw), title, len(raw))))
        archive = open_zip(io.BytesIO(raw), "it")
        return Archive(list(_bounded(_members(archive), title, len(raw))), archive.comment)
    except _BROKEN as error:
        raise DamagedError(f"The archive {title} can't be read: {error}.") from None


def archive_written(archive: Archive, kind: str, packs: Callable[[str], bool]) -> bytes:
    """Return an archive's bytes; what was in a zip is packed or stored as it was.

    `packs` tells by its name whether a member that was in none is packed (a tar: whether all is).
    """
    if kind == "tar":
        return _write_tar(archive.every, packs(""))
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as zipped:
        zipped.comment = archive.remark
        for member in archive.every:
            data = read_all(member.payload, limit=LARGEST_ARCHIVE, what=member.name)
            zipped.writestr(_head(member, packs), data)
    return out.getvalue()


def _head(member: Member, packs: Callable[[str], bool]) -> zipfile.ZipInfo:
    info = stamped(member.name, member.stamp)
    was = member.head if isinstance(member.head, zipfile.ZipInfo) else None
    if was is not None and stamp_of(was) == member.stamp:
        info.date_time = was.date_time
    usual = zipfile.ZIP_DEFLATED if packs(member.name) else zipfile.ZIP_STORED
    info.compress_type = was.compress_type if was is not None else usual
    info.external_attr = was.external_attr if was is not None else 0o644 << 16
    info.create_system = was.create_system if was is not None else info.create_system
    info.comment = was.comment if was is not None else b""
    return info


def _bounded(members: Iterator[Member], archive: str, size: int) -> Iterator[Member]:
    """A small archive must not unpack to a full disk, nor a flat list to a full memory."""
    most, total = most_unpacked(size), 0
    for count, member in enumerate(members, 1):
        total += member.size
        if total > most:
            raise DamagedError(f"{archive} has {size:,} bytes and would unpack to over {most:,}.")
        if count > MOST_MEMBERS:
            raise DamagedError(f"{archive} holds more than {MOST_MEMBERS:,} files.")
        yield member


def _members(archive: zipfile.ZipFile) -> Iterator[Member]:
    for info in archive.infolist():
        if info.file_size > LARGEST_ARCHIVE:
            raise DamagedError(f"{info.filename} would unpack to {info.file_size:,} bytes.")
        yield Member(
            info.filename, stamp_of(info), StreamPayload(_unzipper(archive, info), info.file_size),
            info.file_size, info, info.is_dir(),
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


def _read_tar(raw: bytes) -> Iterator[Member]:
    most = min(LARGEST_ARCHIVE, most_unpacked(len(raw)))
    for magic, opened in _PACKED:
        if raw.startswith(magic):
            with opened(io.BytesIO(raw)) as packed:
                raw = packed.read(most + 1)
            if len(raw) > most:
                raise DamagedError(f"it unpacks to more than {most:,} bytes.")
    archive = tarfile.open(fileobj=io.BytesIO(raw), mode="r:")  # noqa: SIM115 - read later
    for info in archive:
        size = info.size if info.isfile() else 0
        payload = StreamPayload(_untarrer(archive, info), size)
        yield Member(
            info.name, int(info.mtime) * 10**9, payload, size, info, aside=not info.isfile()
        )


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


def _write_tar(members: list[Member], packed: bool) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:gz" if packed else "w") as archive:
        for member in members:
            was = member.head
            info = copy(was) if isinstance(was, tarfile.TarInfo) else tarfile.TarInfo(member.name)
            if member.aside:
                archive.addfile(info)
                continue
            info.size = member.size
            if was is None or int(info.mtime) * 10**9 != member.stamp:
                info.mtime = member.stamp // 10**9
                info.pax_headers = {k: v for k, v in info.pax_headers.items() if k != "mtime"}
            data = read_all(member.payload, limit=LARGEST_ARCHIVE, what=member.name)
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


class InArchive:
    """An archive of which one member counts; the others are as they were."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: MemberSpec) -> None:
        self.spec = spec
        self._key = f"{spec.archive}: {spec.name}"

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, Kept]:
        """Return the member's bytes; reading them raises DamagedError where there is none."""
        checked = "the zip's checksum" if self.spec.archive == "zip" else ""
        found.headers[self._key] = {"archive": source}
        found.evidence.append(
            lambda: Evidence("verified", checked) if checked else Evidence("opened", "read as tar")
        )
        payload = StreamPayload(lambda: self._member(source).chunks())
        return payload, Kept(source, payload)

    def _member(self, source: Payload) -> Payload:
        spec = self.spec
        named = [one for one in read_archive(source, spec.archive, "it").members
                 if one.name == spec.name]  # fmt: skip
        if len(named) != 1:
            raise DamagedError(
                f"The {spec.archive} has {len(named) or 'no'} members that are named {spec.name}."
            )
        return named[0].payload

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> Any:
        """Return nothing: another edition's archive has its own other members."""
        return None

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Put it among the members of what it comes from, of what is replaced, or alone."""
        return dress_or_keep(inside, residue, lambda: self._with(inside, residue, known))

    def _with(self, inside: Payload, residue: Any, known: Known) -> Payload:
        spec = self.spec
        base = residue.source if isinstance(residue, Kept) else None
        if base is None and known.writing is not None:
            base = known.writing.before.get(self._key, {}).get("archive")
        archive = read_archive(base, spec.archive, "it") if base is not None else Archive([])
        data = read_all(inside, limit=LARGEST_ARCHIVE, what=spec.name)
        was = {one.name: one for one in archive.every}
        stamp = known.writing.now if known.writing is not None else 0
        own = was.get(spec.name)
        was[spec.name] = Member(
            spec.name, stamp, BytesPayload(data), len(data), own.head if own is not None else None
        )
        written = Archive([*was.values()], archive.remark)
        return BytesPayload(archive_written(written, spec.archive, lambda _: spec.packed))
