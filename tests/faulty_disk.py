"""A disk that fails, dies or forgets at a chosen operation: a shore like any other.

`Trouble` numbers every operation by which the tool touches files. At the chosen one it raises
an error of the system, or ends the program (nothing that is called afterwards has an effect),
or cuts the power: then only what was synced is sure to be there afterwards, and of the rest,
any part.
"""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass, field
from pathlib import Path, PurePath
from random import Random
from typing import Any

from clever_ferry.moving import disk
from clever_ferry.moving.local import LocalShore
from clever_ferry.moving.shore import Reader
from clever_ferry.moving.system import Attributes, Unkept

Mode = str
"""`count`, `kill`, `tear` (a kill in the middle of a write), `power`, `stop` (Ctrl-C), or the
name of an errno."""


class Killed(BaseException):
    """The program has ended here; no handler may mend anything."""


@dataclass
class Trouble:
    """What happens at which operation; `top` is the folder with all that is played with."""

    top: Path
    mode: Mode = "count"
    at: int = -1
    random: Random = field(default_factory=Random)
    done: int = 0
    dead: bool = False
    hit: str = ""
    power: Power | None = None

    def step(self, name: str, path: Path) -> None:
        """Count an operation, or let it come to grief."""
        if self.dead:
            raise Killed
        self.done += 1
        if self.done - 1 != self.at:
            return
        self.hit = f"{name} {path.name}"
        if self.mode in ("kill", "power", "tear"):
            self.dead = True
            raise Killed
        if self.mode == "stop":
            raise KeyboardInterrupt
        if self.mode != "count":
            import errno

            number = getattr(errno, self.mode)
            raise OSError(number, os.strerror(number), str(path))


@dataclass
class Power:
    """What of a folder tree would still be there after a power cut.

    Names: operations on them last once a folder that they touch is synced; of the later ones,
    none, all, the first few, or any may have lasted. Bytes: as they were when the file was
    synced; else as they are now, or cut off.
    """

    top: Path
    names: dict[Path, int] = field(default_factory=dict)
    bytes: dict[int, bytes] = field(default_factory=dict)
    stamps: dict[Path | int, int] = field(default_factory=dict)
    now: dict[Path, int] = field(default_factory=dict)
    pending: list[tuple[Any, ...]] = field(default_factory=list)
    count: int = 0

    def __post_init__(self) -> None:
        for path in sorted(self.top.rglob("*")):
            if ".sqlite" in path.name or path.suffix == ".lock":
                continue  # SQLite's own business; locks hold nothing
            self.count += 1
            self.names[path] = self.count
            self.stamps[self.count] = path.stat().st_mtime_ns
            if path.is_file():
                self.bytes[self.count] = path.read_bytes()
        self.now = dict(self.names)

    def made_file(self, path: Path) -> None:
        self.made_folder(path)
        self.bytes[self.count] = b""

    def made_folder(self, path: Path) -> None:
        self.count += 1
        self.now[path] = self.count
        self.pending.append(("make", path, self.count))

    def renamed(self, old: Path, new: Path) -> None:
        self.now[new] = self.now.pop(old, -1)
        self.pending.append(("rename", old, new, self.now[new]))

    def removed(self, path: Path) -> None:
        if self.now.pop(path, None) is not None:
            self.pending.append(("remove", path))

    def synced(self, path: Path) -> None:
        number = self.now.get(path, -1)
        if path.is_file():
            self.bytes[number] = path.read_bytes()
        self.stamps[number] = path.stat().st_mtime_ns

    def synced_folder(self, path: Path) -> None:
        last = max((n for n, op in enumerate(self.pending) if path in _touched(op)), default=-1)
        for op in self.pending[: last + 1]:
            _apply(self.names, op)
        del self.pending[: last + 1]
        self.stamps[self.now.get(path, -1)] = path.stat().st_mtime_ns

    def cut(self, random: Random) -> None:
        """Have on the real disk what is left after the power was cut."""
        there = {path: path.stat().st_mtime_ns for path in self.top.rglob("*")}
        bytes_now = {self.now[path]: path.read_bytes() for path in there
                     if path in self.now and path.is_file()}  # fmt: skip
        others = {path: path.read_bytes() for path in there
                  if path not in self.now and path.is_file()}  # fmt: skip
        names, changed = dict(self.names), set[Path]()
        for op in _lasting(self.pending, random):
            if _apply(names, op):
                changed |= _touched(op)
        for path in sorted(self.top.iterdir()):
            shutil.rmtree(path) if path.is_dir() else path.unlink()
        stamps: dict[Path, int] = {}
        for path, number in sorted(names.items()):
            if number not in self.bytes:
                path.mkdir(parents=True, exist_ok=True)
                stamps[path] = there.get(path, 0) if path in changed else self.stamps.get(number, 0)
                continue
            path.parent.mkdir(parents=True, exist_ok=True)
            old, new = self.bytes[number], bytes_now.get(number, self.bytes[number])
            torn = new[: random.randrange(len(new) + 1)]
            path.write_bytes(old if old == new else random.choice([old, new, torn]))
            stamps[path] = self.stamps.get(number, there.get(path, 0))
        for path, data in others.items():  # what is not in our hands: SQLite's files, locks
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
        for path, stamp in sorted(stamps.items(), reverse=True):
            os.utime(path, ns=(stamp, stamp))


def _touched(op: tuple[Any, ...]) -> set[Path]:
    return {op[1].parent, op[2].parent} if op[0] == "rename" else {op[1].parent}


def _apply(names: dict[Path, int], op: tuple[Any, ...]) -> bool:
    """Do to names what an operation did, if what it needs is there."""
    match op:
        case ("make", path, number) if path.parent in names or path.parent.parent == path.parent:
            names[path] = number
        case ("make", path, number):
            names[path] = number
        case ("rename", old, new, number) if names.get(old) == number:
            names[new] = names.pop(old)
        case ("remove", path) if path in names:
            if any(path in other.parents for other in names):
                return False
            del names[path]
        case _:
            return False
    return True


def _lasting(pending: list[tuple[Any, ...]], random: Random) -> list[tuple[Any, ...]]:
    match random.randrange(4):
        case 0:
            return []
        case 1:
            return pending
        case 2:
            return pending[: random.randrange(len(pending) + 1)]
        case _:
            return [op for op in pending if random.random() < 0.5]


class FaultyDisk(LocalShore):
    """This computer's disks, with trouble; `over` has the power cut at the end, if it was."""

    def __init__(self, trouble: Trouble) -> None:
        self.trouble = trouble
        self.power = Power(trouble.top) if trouble.mode == "power" else None
        trouble.power = self.power

    def over(self) -> None:
        if self.power and self.trouble.dead:
            self.power.cut(self.trouble.random)

    def open(self, path: PurePath | str) -> Reader:
        self.trouble.step("open", Path(path))
        return _Reader(Path(path), self.trouble)

    def create(self, path: PurePath, mode: int = 0o666) -> disk.Writer:
        self.trouble.step("create", Path(path))
        made = _Writer(Path(path), self, mode)
        if self.power:
            self.power.made_file(Path(path))
        return made

    def rename(self, old: PurePath, new: PurePath) -> None:
        self.trouble.step("rename", Path(old))
        super().rename(old, new)
        if self.power:
            self.power.renamed(Path(old), Path(new))

    def unlink(self, path: PurePath) -> None:
        self.trouble.step("unlink", Path(path))
        super().unlink(path)
        if self.power:
            self.power.removed(Path(path))

    def _make_one(self, path: Path) -> None:
        self.trouble.step("make_folder", path)
        super()._make_one(path)
        if self.power:
            self.power.made_folder(path)

    def remove_folder(self, path: PurePath) -> None:
        self.trouble.step("remove_folder", Path(path))
        super().remove_folder(path)
        if self.power:
            self.power.removed(Path(path))

    def set_times(self, path: PurePath, stamp: int) -> None:
        self.trouble.step("set_times", Path(path))
        super().set_times(path, stamp)

    def give_attributes(self, path: PurePath, attributes: Attributes) -> list[Unkept]:
        self.trouble.step("give_attributes", Path(path))
        return super().give_attributes(path, attributes)

    def free_bytes(self, folder: PurePath) -> int:
        self.trouble.step("free_bytes", Path(folder))
        return super().free_bytes(folder)

    def sync(self, path: Path) -> None:
        self.trouble.step("sync", path)
        if self.power:
            self.power.synced(path)

    def sync_folder(self, path: PurePath) -> None:
        self.trouble.step("sync_folder", Path(path))
        if self.power:
            self.power.synced_folder(Path(path))


class _Writer(disk.Writer):
    def __init__(self, path: Path, shore: FaultyDisk, mode: int) -> None:
        self.trouble, self.power = shore.trouble, shore.power
        super().__init__(path, shore, mode)

    def write(self, data: bytes | memoryview) -> None:
        try:
            self.trouble.step("write", self.path)
        except Killed:
            if self.trouble.mode == "tear" and self.trouble.hit.startswith("write"):
                self.trouble.hit = self.trouble.hit.replace("write", "torn write")
                super().write(memoryview(data)[: len(data) // 2])
            raise
        super().write(data)

    def sync(self) -> None:
        self.trouble.step("sync", self.path)
        if self.power:
            self.power.synced(self.path)


class _Reader(disk.Reader):
    def __init__(self, path: Path, trouble: Trouble) -> None:
        self.trouble = trouble
        super().__init__(path)

    def read(self, count: int) -> bytes:
        self.trouble.step("read", Path(self.path))
        return super().read(count)
