"""Zip and tar files as boxes: in several parts, and zips within zips."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from fnmatch import fnmatchcase
from itertools import islice

from clever_ferry.boxes.beside import Containers, files_beside, unreadable, written_beside
from clever_ferry.boxes.box import Contents, Entry, Making, Put
from clever_ferry.boxes.companions import going_with, with_companions
from clever_ferry.boxes.spec import ArchiveSpec
from clever_ferry.errors import DamagedError, NotFoundError
from clever_ferry.layers.archives import (
    LARGEST_ARCHIVE,
    Archive,
    Member,
    archive_written,
    read_archive,
)
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.tree import Files, Output
from clever_ferry.zips import DEEPEST, MOST_MEMBERS

__all__ = ["ArchiveBox"]


class ArchiveBox:
    """One or several archives, read as one; or each as a folder of its name, beside other files."""

    def __init__(self, spec: ArchiveSpec) -> None:
        self.spec = spec
        self.archives = Containers(spec.file)

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return the archives' files; folders and links in them are passed over."""
        each = self.spec.each
        there = files.walk(enter if each else lambda _: False)
        parts = [info.path for info in there if self.archives.has(info.path)]
        if not parts and not each:
            raise NotFoundError(f"There is no archive {self.spec.file}.")
        entries = [*files_beside(files, enter, self.archives.has)] if each else []
        seen: dict[str, str] = {}
        archives: dict[str, Archive] = {}
        problems: list[str] = []
        for path in parts:
            try:
                archive = self._read(files, path)
                every = (one for member in archive.members for one in self._opened(member, 0))
                opened = list(islice(every, MOST_MEMBERS + 1))  # more are refused below
            except DamagedError as error:
                if not each:
                    raise DamagedError(unreadable(path, error) + ".") from None
                problems.append(unreadable(path, error))
                continue
            archives[path] = archive
            for own, found in opened:
                name = f"{path}/{own}" if each else own
                other = seen.setdefault(name, path)
                problem = f"it is in {other} too" if other != path else ""
                checked = "the zip's checksum" if self.spec.kind == "zip" else ""
                entries.append(
                    Entry(name, found.size, found.stamp, found.payload, (path,), problem, checked)
                )
                if len(entries) > MOST_MEMBERS:
                    raise DamagedError(f"{path} holds more than {MOST_MEMBERS:,} files.")
        return Contents(
            tuple(with_companions(entries)), {}, archives, tuple(parts), problems=tuple(problems)
        )

    def refuse(self, contents: Contents, name: str) -> None:
        """Raise RefusedError where an entry's own archive is there and could not be read."""
        if self.spec.each:
            self.archives.refuse(contents, name)

    def _read(self, files: Files, path: str) -> Archive:
        return read_archive(files.payload(path), self.spec.kind, path)

    def _opened(self, member: Member, depth: int) -> Iterator[tuple[str, Member]]:
        if not (self.spec.nested and member.name.lower().endswith(".zip")):
            yield member.name, member
            return
        if depth >= DEEPEST:
            raise DamagedError(f"{member.name}: archives are nested more than {DEEPEST} deep.")
        for one in read_archive(member.payload, "zip", member.name).members:
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
        yield from written_beside(puts, gone, lambda name: bool(self.archives.of(name)), making)
        by_archive: dict[str, dict[str, Put]] = {}
        without: dict[str, set[str]] = {}
        for put in puts:
            if path := self.archives.of(put.name):
                by_archive.setdefault(path, {})[put.name.removeprefix(f"{path}/")] = put
        for name in gone:
            if path := self.archives.of(name):
                without.setdefault(path, set()).add(name.removeprefix(f"{path}/"))
        for path in dict.fromkeys([*by_archive, *without]):
            archive = contents.state.get(path, Archive([]))
            here, off = by_archive.get(path, {}), without.get(path, set())
            if not here and off.issuperset(one.name for one in archive.members):
                yield Output(path, None, making.now, tidy=True)
                continue
            stamp = max((put.stamp for put in here.values()), default=making.now)
            yield Output(path, BytesPayload(self._written(archive, here, off)), stamp)

    def _is_in(self, members: list[Member], name: str) -> bool:
        return any(one.name == name or (self.spec.nested and name.startswith(f"{one.name}/"))
                   for one in members)  # fmt: skip

    def _holder(self, name: str, holders: dict[str, str], last: str) -> str:
        """Return the part that an entry is in, or that a new one goes into."""
        if name in holders or not self.spec.nested:
            return holders.get(name, last)
        archive = name[: name.lower().find(".zip/") + 5] if ".zip/" in name.lower() else ""
        beside = (part for known, part in holders.items() if archive and known.startswith(archive))
        return next(beside, last)

    def _written(self, archive: Archive, puts: dict[str, Put], gone: set[str]) -> bytes:
        kept: dict[str, Member] = {}
        for member in archive.every:
            inside = f"{member.name}/"
            inner_puts = {
                n.removeprefix(inside): p for n, p in puts.items() if n.startswith(inside)
            }
            inner_gone = {n.removeprefix(inside) for n in gone if n.startswith(inside)}
            if self.spec.nested and (inner_puts or inner_gone):
                inner = read_archive(member.payload, "zip", member.name)
                data = self._written(inner, inner_puts, inner_gone)
                stamp = max([member.stamp, *(put.stamp for put in inner_puts.values())])
                kept[member.name] = Member(
                    member.name, stamp, BytesPayload(data), len(data), member.head
                )
            elif member.name not in gone:
                kept[member.name] = member
        within = tuple(f"{one.name}/" for one in archive.members) if self.spec.nested else ()
        for name, put in puts.items():
            if not (within and name.startswith(within)):
                data = read_all(put.payload, limit=LARGEST_ARCHIVE, what=name)
                head = kept[name].head if name in kept else None
                kept[name] = Member(name, put.stamp, BytesPayload(data), len(data), head)
        return archive_written(
            Archive([*kept.values()], archive.remark), self.spec.kind, self._is_packed
        )

    def _is_packed(self, name: str) -> bool:
        """Tell whether a new member is packed."""
        return self.spec.packed and not any(fnmatchcase(name, one) for one in self.spec.stored)
