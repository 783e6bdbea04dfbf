"""What differs between operating systems when files are touched. All of it is here."""

from __future__ import annotations

import contextlib
import errno
import json
import os
import signal
import stat
import sys
import threading
import time
from collections.abc import Iterator, Mapping
from pathlib import Path, PurePath
from typing import Annotated, Any, NamedTuple

from msgspec import Meta, Struct

from clever_ferry.errors import RefusedError

__all__ = [
    "Attributes",
    "Unkept",
    "WriteLock",
    "attributes_of",
    "changed",
    "give_attributes",
    "held_open",
    "inherit_owner",
    "is_link",
    "mounted_disks",
    "remove_file",
    "replace_file",
    "running_programs",
    "same_time",
    "sync_folder",
    "undisturbed",
]

_PATIENCE = 2.0
_KEPT_FLAGS = 0x01 | 0x02 | 0x04 | 0x20 | 0x2000
"""Windows: read-only, hidden, system, archive, not indexed (winnt.h, FILE_ATTRIBUTE_*)."""


# Folders and names ---------------------------------------------------------------------------


def sync_folder(folder: Path) -> None:
    """Make renames in a folder last; where the system has no such call, there is nothing to do."""
    if os.name == "nt":
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def changed(data: os.stat_result, path: PurePath | str) -> int:
    """Return when the system itself says that a file changed last, in ns; 0 where it does not.

    No usual program sets that time. Python tells of Windows' files when they were made in its
    place, so that Windows is asked itself.
    """
    return _change_time(path) if sys.platform == "win32" else data.st_ctime_ns


def _change_time(path: PurePath | str) -> int:
    if sys.platform == "win32":
        import ctypes

        kernel = ctypes.WinDLL("kernel32")
        kernel.CreateFileW.restype = ctypes.c_void_p
        wanted, shared, existing, as_it_is = 0x80, 7, 3, 0x02200000  # attributes; a link, too
        handle = ctypes.c_void_p(
            kernel.CreateFileW(str(path), wanted, shared, None, existing, as_it_is, None)
        )
        if handle.value == ctypes.c_void_p(-1).value:
            return 0
        try:
            info = ctypes.create_string_buffer(40)  # FILE_BASIC_INFO: four times, attributes
            if not kernel.GetFileInformationByHandleEx(handle, 0, info, len(info)):
                return 0
        finally:
            kernel.CloseHandle(handle)
        ticks = int.from_bytes(info.raw[24:32], "little")  # of 100 ns, since 1601
        return max(0, ticks - 116_444_736_000_000_000) * 100
    return 0


def is_link(data: os.stat_result) -> bool:
    """Tell from a path's own data whether it is a symbolic link or a junction."""
    if stat.S_ISLNK(data.st_mode):
        return True
    return getattr(data, "st_reparse_tag", 0) in (0xA0000003, 0xA000000C)  # mount point, symlink


def replace_file(new: Path, old: Path) -> None:
    """Put `new` in the place of `old` in one step, also where `old` is write-protected."""
    _patiently(lambda: new.replace(old), old)


def remove_file(path: Path) -> None:
    """Remove a file, also a write-protected one."""
    _patiently(path.unlink, path)


def _patiently(step: Any, in_the_way: Path) -> None:
    """Take a step that Windows may refuse at first.

    A write-protected file is not replaced there, and a virus scanner or indexer may hold one
    open for a moment; this takes the protection off, and waits up to two seconds.
    """
    deadline = time.monotonic() + _PATIENCE
    while True:
        try:
            step()
            return
        except PermissionError:
            if os.name != "nt" or time.monotonic() > deadline:
                raise
            with contextlib.suppress(OSError):
                in_the_way.chmod(stat.S_IWRITE)
            time.sleep(0.05)


# Attributes ----------------------------------------------------------------------------------


class Attributes(Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """What a file has beyond bytes, name and times."""

    mode: Annotated[int, Meta(ge=0, le=0o777)]
    """Permission bits; on Windows, only whether it is write-protected."""
    owner: tuple[Annotated[int, Meta(ge=0)], Annotated[int, Meta(ge=0)]] | None = None
    """User and group, where the system has them."""
    extended: Mapping[
        Annotated[str, Meta(pattern="^user[.].")], Annotated[str, Meta(pattern="^([0-9a-f]{2})*$")]
    ] = {}
    """Names and values (hex) of its extended attributes that belong to users (Linux)."""
    flags: Annotated[int, Meta(ge=0, lt=1 << 32)] = 0
    """Windows' file attributes, macOS' and BSD's file flags."""


def attributes_of(path: Path) -> Attributes:
    """Read a file's attributes."""
    data = path.stat(follow_symlinks=False)
    owner = None if os.name == "nt" else (data.st_uid, data.st_gid)
    if sys.platform == "win32":
        flags = data.st_file_attributes & _KEPT_FLAGS
    else:
        flags = getattr(data, "st_flags", 0)
    return Attributes(data.st_mode & 0o777, owner, dict(_extended(path)), flags)


def _extended(path: Path) -> Iterator[tuple[str, str]]:
    """Yield a file's user attributes; a file system without any has none."""
    if sys.platform == "linux":
        try:
            names = sorted(os.listxattr(path, follow_symlinks=False))
        except OSError as error:
            if error.errno in _CAN_NOT:
                return
            raise
        for name in names:
            if name.startswith("user."):
                yield name, os.getxattr(path, name, follow_symlinks=False).hex()


_CAN_NOT = frozenset({errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP, errno.ENOSYS})
"""What systems say where a user may not do it, or a file system has no such thing."""


class Unkept(NamedTuple):
    """An attribute that a file could not be given."""

    what: str
    """In words, such as `its owner`."""
    why: str
    can_not: bool
    """Whether nobody could here: the user may not, or the file system has no such thing."""


def give_attributes(path: Path, attributes: Attributes) -> list[Unkept]:
    """Give a file these attributes, each for itself; return what it could not be given.

    Raises OSError where the permissions can't be set.
    """
    unkept: list[Unkept] = []

    @contextlib.contextmanager
    def attempted(what: str) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            why = (error.strerror or str(error)).lower()
            unkept.append(Unkept(what, why, error.errno in _CAN_NOT))

    if sys.platform == "linux":
        for name, value in attributes.extended.items():
            with attempted(f"its attribute {name.removeprefix('user.')}"):
                os.setxattr(path, name, bytes.fromhex(value), follow_symlinks=False)
    if sys.platform != "win32" and attributes.owner is not None:
        data = path.stat(follow_symlinks=False)
        if (data.st_uid, data.st_gid) != attributes.owner:
            with attempted("its owner"):
                os.chown(path, *attributes.owner, follow_symlinks=False)
    path.chmod(attributes.mode)
    if sys.platform == "win32":
        import ctypes

        usual = 0x80  # FILE_ATTRIBUTE_NORMAL
        with attempted("its Windows attributes"):
            flags = attributes.flags or usual
            if not ctypes.windll.kernel32.SetFileAttributesW(str(path), flags):
                raise ctypes.WinError()
    elif attributes.flags and hasattr(os, "chflags"):
        with attempted("its flags"):
            os.chflags(path, attributes.flags)
    return unkept


def same_time(now: int, kept: int, step: int = 1) -> bool:
    """Tell whether a file's time (ns) is one that was set, in the steps that file systems have.

    Windows' own has steps of 100 ns, others of one second or two; `step` is what is known of it.
    """
    return abs(now - kept) < max(100, step) or (now % 10**9 == 0 and abs(now - kept) <= 2 * 10**9)


def inherit_owner(path: Path) -> None:
    """Have what the system's administrator makes belong to whoever owns the folder it is in."""
    if sys.platform != "win32" and os.geteuid() == 0:
        above, own = path.parent.stat(), path.stat()
        if (above.st_uid, above.st_gid) != (own.st_uid, own.st_gid):
            try:
                os.chown(path, above.st_uid, above.st_gid)
            except OSError as error:
                if error.errno not in _CAN_NOT:
                    raise


def held_open(folder: Path) -> list[tuple[Path, str]]:
    """Return files below a folder that another program has open, and which, as far as shows.

    Programs of other users, and on Windows all that share a file with anybody, do not show.
    """
    if sys.platform == "win32":
        found = ((path, "another program") for path in folder.rglob("*") if _refused(path))
        return list(found)
    import psutil

    top, own = os.path.realpath(folder) + os.sep, os.getpid()
    seen = []
    for process in psutil.process_iter(["name"]):
        with contextlib.suppress(psutil.Error, OSError):
            if process.pid != own:
                seen += [
                    (Path(file.path), f"{process.info['name']} (process {process.pid})")
                    for file in process.open_files()
                    if file.path.startswith(top)
                ]
    return seen


def _refused(path: Path) -> bool:
    """Ask Windows for a file that nobody else may have open at the same time."""
    if sys.platform == "win32":
        import ctypes

        read, existing, taken = 0x80000000, 3, 32  # GENERIC_READ, OPEN_EXISTING, sharing violation
        handle = ctypes.windll.kernel32.CreateFileW(str(path), read, 0, None, existing, 0, None)
        if handle != -1:
            ctypes.windll.kernel32.CloseHandle(handle)
            return False
        return bool(ctypes.windll.kernel32.GetLastError() == taken)
    return False


def mounted_disks() -> list[Path]:
    """Return where the disks of this computer are mounted, but for the system's own."""
    import psutil

    own = Path(Path.home().anchor)
    found = []
    for one in psutil.disk_partitions(all=False):
        place = Path(one.mountpoint)
        usual = not one.mountpoint.startswith(("/boot", "/snap", "/System", "/etc", "/var"))
        if place != own and usual and place.is_dir():
            found.append(place)
    return found


def running_programs() -> list[tuple[str, int]]:
    """Return the names of running programs and their numbers, one name per way to call it.

    A Windows program in a compatibility layer shows by the file that it was started from.
    """
    import psutil

    found: list[tuple[str, int]] = []
    for process in psutil.process_iter(["name", "cmdline"]):
        names = {process.info["name"] or ""}
        if line := process.info["cmdline"]:
            names.add(line[0].replace("\\", "/").rsplit("/")[-1])
        found += [(name, process.pid) for name in sorted(names) if name]
    return found


@contextlib.contextmanager
def undisturbed() -> Iterator[None]:
    """Put off Ctrl-C until the block has ended: for the few steps that must not be left half-way.

    It comes then, but where the block raises: that is said instead. Other threads never get it.
    """
    usual = signal.getsignal(signal.SIGINT)
    if threading.current_thread() is not threading.main_thread() or not callable(usual):
        yield
        return
    came: list[int] = []
    signal.signal(signal.SIGINT, lambda number, _: came.append(number))
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, usual)
    if came:
        usual(came[0], None)


# Locks ---------------------------------------------------------------------------------------


class WriteLock:
    """Held while something is written; the system frees it when its holder ends, however that is.

    `what` says in words what the holder does, for whoever finds it taken.
    """

    def __init__(self, path: Path, what: str = "") -> None:
        self._path, self._what = path, what
        self._file: int | None = None

    def take(self, patience: float = 0.0) -> bool:
        """Take the lock; return False where another has it for longer than `patience` seconds."""
        self._path.parent.mkdir(parents=True, exist_ok=True)
        deadline = time.monotonic() + patience
        handle = os.open(self._path, os.O_RDWR | os.O_CREAT, 0o600)
        while True:
            try:
                _lock(handle)
                break
            except OSError:
                if time.monotonic() >= deadline:
                    os.close(handle)
                    return False
                time.sleep(0.05)
        self._file = handle
        holder = {"process": os.getpid(), "what": self._what, "since": time.time()}
        with contextlib.suppress(OSError):
            os.ftruncate(handle, 0)
            os.write(handle, json.dumps(holder).encode())
        return True

    def holder(self) -> str:
        """Return in words who has the lock, as far as can be told."""
        try:
            holder = json.loads(self._path.read_bytes())
            since = time.strftime("%H:%M:%S", time.localtime(float(holder["since"])))
            return f"process {int(holder['process'])}, {holder['what']}, since {since}"
        except (OSError, ValueError, KeyError, TypeError):
            return "it does not say more"

    def __enter__(self) -> WriteLock:
        if self._file is None and not self.take():
            raise RefusedError(
                "Another cferry is writing just there.",
                details=(f"It is {self.holder()}.",),
                advice="Wait until it has finished, then run the same command again.",
            )
        return self

    def __exit__(self, *_: object) -> None:
        self.release()

    def release(self) -> None:
        """Let go of the lock, if it is held."""
        if self._file is not None:
            handle, self._file = self._file, None
            os.close(handle)  # closing frees the lock on every system


if sys.platform == "win32":
    import msvcrt

    _BEYOND = 1 << 30
    """Windows locks bytes against reading too; this one is far behind what the file says."""

    def _lock(handle: int) -> None:
        os.lseek(handle, _BEYOND, os.SEEK_SET)
        msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)
        os.lseek(handle, 0, os.SEEK_SET)

else:
    import fcntl

    def _lock(handle: int) -> None:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
