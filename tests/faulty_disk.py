"""A disk that fails, dies or forgets at a chosen operation, in place of `moving.disk`'s own.

`Trouble` numbers every operation by which the tool touches files. At the chosen one it raises
an error of the system, or ends the program (nothing that is called afterwards has an effect),
or cuts the power: then only what was synced is sure to be there afterwards, and of the rest,
any part.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from typing import Any

import pytest

from clever_ferry.moving import disk

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


@contextmanager
def troubled(trouble: Trouble) -> Iterator[Trouble]:
    """Have all of the tool's operations go through a troubled disk."""
    power = Power(trouble.top) if trouble.mode == "power" else None
    trouble.power = power

    class Writer(disk.Writer):
        def __init__(self, path: Path, mode: int = 0o666) -> None:
            trouble.step("create", path)
            super().__init__(path, mode)
            if power:
                power.made_file(path)

        def write(self, data: bytes | memoryview) -> None:
            try:
                trouble.step("write", self.path)
            except Killed:
                if trouble.mode == "tear" and trouble.hit.startswith("write"):
                    trouble.hit = trouble.hit.replace("write", "torn write")
                    super().write(memoryview(data)[: len(data) // 2])
                raise
            super().write(data)

        def sync(self) -> None:
            trouble.step("sync", self.path)
            if power:
                power.synced(self.path)

    class Reader(disk.Reader):
        def __init__(self, path: Path | str) -> None:
            self.path = Path(path)
            trouble.step("open", self.path)
            super().__init__(path)

        def read(self, count: int) -> bytes:
            trouble.step("read", self.path)
            return super().read(count)

    def wrapped(name: str, told: str) -> Callable[..., Any]:
        real = getattr(disk, name)

        def operation(*arguments: Any) -> Any:
            trouble.step(name, arguments[0])
            result = real(*arguments)
            if power and told:
                getattr(power, told)(*arguments)
            return result

        return operation

    def synced_folder(path: Path) -> None:
        trouble.step("sync_folder", path)
        if power:
            power.synced_folder(path)

    def synced(path: Path) -> None:
        trouble.step("sync", path)
        if power:
            power.synced(path)

    def unlinked(path: Path) -> None:
        trouble.step("unlink", path)
        path.unlink(missing_ok=True)
        if power:
            power.removed(path)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(disk, "Writer", Writer)
        patch.setattr(disk, "Reader", Reader)
        patch.setattr(disk, "sync_folder", synced_folder)
        patch.setattr(disk, "unlink", unlinked)
        patch.setattr(disk, "sync", synced)
        for name, told in (
            ("rename", "renamed"),
            ("_make_one", "made_folder"),
            ("remove_folder", "removed"),
            ("set_times", ""),
            ("give_attributes", ""),
            ("free_bytes", ""),
        ):
            patch.setattr(disk, name, wrapped(name, told))
        yield trouble
    if power and trouble.dead:
        power.cut(trouble.random)
