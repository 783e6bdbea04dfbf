"""A shore in memory: no disk, a clock of its own, no numbers of files, paths of its own kind."""

from __future__ import annotations

import errno
import os
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path, PurePath, PurePosixPath

from clever_ferry.moving.shore import (
    Capabilities,
    Closing,
    Kind,
    Node,
    Reader,
    Reckoned,
    State,
    Walker,
    Writer,
)
from clever_ferry.moving.system import Attributes, Unkept
from clever_ferry.tree import FileInfo

AHEAD = 5 * 3600 * 10**9
"""Its clock is that far ahead, in ns."""


@dataclass
class Thing:
    data: bytes | None
    """A folder has none."""
    stamp: int
    mode: int = 0o644


class MemoryShore:
    """Whatever is in `things`, by path; `step` is told of each operation, and may fail it."""

    def __init__(
        self, step: Callable[[str, Path], None] = lambda name, path: None,
        capabilities: Capabilities | None = None,
    ) -> None:  # fmt: skip
        self.capabilities = capabilities or Capabilities()
        self.things = {PurePosixPath("/"): Thing(None, 0)}
        self.step = step
        self.reckons: Callable[[PurePath], Reckoned | None] = lambda path: None

    def take_in(self, folder: Path, root: PurePosixPath) -> None:
        """Have a folder of a disk here, as it is there."""
        for above in reversed(root.parents):
            self.things.setdefault(above, Thing(None, 0))
        for path in (folder, *folder.rglob("*")):
            data = path.read_bytes() if path.is_file() else None
            own = self.things[root / path.relative_to(folder).as_posix()] = Thing(
                data, self._rounded(path.stat().st_mtime_ns)
            )
            own.mode = path.stat().st_mode & 0o777

    def give_out(self, root: PurePosixPath, folder: Path) -> None:
        """Write what is here onto a disk."""
        for path, thing in sorted(self.things.items()):
            if path.is_relative_to(root):
                place = folder / path.relative_to(root)
                if thing.data is None:
                    place.mkdir(parents=True, exist_ok=True)
                else:
                    place.write_bytes(thing.data)

    def state(self) -> dict[str, tuple[bytes | None, int, int]]:
        return {str(at): (one.data, one.stamp, one.mode) for at, one in self.things.items()}

    def path(self, text: str) -> PurePosixPath:
        if not text.startswith("memory:/"):
            raise ValueError(text)
        return PurePosixPath(text.removeprefix("memory:"))

    def text(self, path: PurePath) -> str:
        return f"memory:{path}"

    def local(self, path: PurePath | str) -> None:
        return None

    def identity(self, path: PurePath) -> str:
        return self.text(path)

    def volume_of(self, path: PurePath) -> int:
        self._thing(path)
        return 1

    def _thing(self, path: PurePath | str) -> Thing:
        found = self.things.get(PurePosixPath(path))
        if found is None:
            raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(path))
        return found

    def kind(self, path: PurePath, *, follow: bool = True) -> Kind | None:
        found = self.things.get(PurePosixPath(path))
        return None if found is None else "folder" if found.data is None else "file"

    def node(self, path: PurePath) -> Node | None:
        found, kind = self.things.get(PurePosixPath(path)), self.kind(path)
        if found is None or kind is None:
            return None
        return Node(kind, len(found.data or b""), found.stamp, found.mode)

    def names(self, folder: PurePath) -> list[str]:
        self._thing(folder)
        return sorted(one.name for one in self.things if one.parent == folder and one != folder)

    def folders(self, folder: PurePath, *, follow: bool = True) -> list[str]:
        return [name for name in self.names(folder) if self.kind(folder / name) == "folder"]

    def walker(self, top: PurePath) -> _Walker:
        return _Walker(self, top)

    def attributes(self, path: PurePath) -> Attributes:
        return Attributes(self._thing(path).mode)

    def now(self) -> int:
        return self._rounded(time.time_ns() + AHEAD)

    def free_bytes(self, folder: PurePath) -> None:
        return None

    def reckoned(self, path: PurePath) -> Reckoned | None:
        return self.reckons(path)

    def open(self, path: PurePath | str) -> Reader:
        self.step("open", Path(path))
        return _Reader(self, PurePosixPath(path))

    def front(self, path: PurePath | str, count: int) -> tuple[bytes, State]:
        with self.open(path) as file:
            return file.read(count), file.node().state

    def create(self, path: PurePath) -> Writer:
        self.step("create", Path(path))
        if path in self.things:
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(path))
        return _Writer(self, PurePosixPath(path))

    def rename(self, old: PurePath, new: PurePath) -> None:
        self.step("rename", Path(old))
        self._thing(new.parent)
        if new in self.things and not self.capabilities.replaces:
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(new))
        self.things[PurePosixPath(new)] = self._thing(old)
        self._gone(old)
        self._touched(new)

    def unlink(self, path: PurePath) -> None:
        self.step("unlink", Path(path))
        if path in self.things:
            self._gone(path)

    def make_folder(self, path: PurePath, *, new: bool = False) -> None:
        if new and path in self.things:
            raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(path))
        for one in (*reversed(path.parents), path):
            if one not in self.things:
                self.step("make_folder", Path(one))
                self.things[PurePosixPath(one)] = Thing(None, self.now(), 0o755)
                self._touched(one)

    def remove_folder(self, path: PurePath) -> None:
        self.step("remove_folder", Path(path))
        if self.names(path):
            raise OSError(errno.ENOTEMPTY, os.strerror(errno.ENOTEMPTY), str(path))
        self._gone(path)

    def _gone(self, path: PurePath) -> None:
        del self.things[PurePosixPath(path)]
        self._touched(path)

    def _touched(self, path: PurePath) -> None:
        self._thing(path.parent).stamp = self.now()

    def set_times(self, path: PurePath, stamp: int) -> None:
        self.step("set_times", Path(path))
        self._thing(path).stamp = self._rounded(stamp)

    def _rounded(self, stamp: int) -> int:
        return stamp - stamp % self.capabilities.step

    def give_attributes(self, path: PurePath, attributes: Attributes) -> list[Unkept]:
        self.step("give_attributes", Path(path))
        self._thing(path).mode = attributes.mode
        return []

    def learn_time(self, stamp: int) -> None: ...

    def sync_folder(self, path: PurePath) -> None:
        self.step("sync_folder", Path(path))


class _Block(Closing):
    def close(self) -> None: ...


class _Reader(_Block):
    def __init__(self, shore: MemoryShore, path: PurePosixPath) -> None:
        self._shore, self._path, self._at = shore, path, 0
        self._data = shore._thing(path).data or b""

    def read(self, count: int) -> bytes:
        self._shore.step("read", Path(self._path))
        found = self._data[self._at : self._at + count]
        self._at += len(found)
        return found

    def seek(self, offset: int) -> None:
        self._at = offset

    def node(self) -> Node:
        found = self._shore.node(self._path)
        assert found is not None
        return found


class _Writer(_Block):
    def __init__(self, shore: MemoryShore, path: PurePosixPath) -> None:
        self._shore, self._path = shore, path
        shore.things[path] = Thing(b"", shore.now())
        shore._touched(path)

    def write(self, data: bytes | memoryview) -> None:
        self._shore.step("write", Path(self._path))
        thing = self._shore._thing(self._path)
        thing.data = (thing.data or b"") + bytes(data)

    def finish(self, stamp: int, attributes: Attributes | None = None) -> list[Unkept]:
        self._shore.set_times(self._path, stamp)
        return self._shore.give_attributes(self._path, attributes) if attributes else []


class _Walker(_Block):
    def __init__(self, shore: MemoryShore, top: PurePath) -> None:
        self._shore, self._top = shore, top

    def listed(self, folder: str) -> tuple[list[FileInfo], list[str]]:
        place = self._top / folder if folder else self._top
        files, inner = [], []
        for name in self._shore.names(place):
            path = f"{folder}/{name}" if folder else name
            node = self._shore.node(place / name)
            if node is not None and node.kind == "file":
                files.append(FileInfo(path, node.size, node.stamp))
            else:
                inner.append(path)
        return files, inner


_: Walker = _Walker(MemoryShore(), PurePosixPath("/"))
