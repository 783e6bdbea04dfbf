"""Files replaced as one change: all new ones are staged and synced first, then renamed in."""

from __future__ import annotations

import errno
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from clever_ferry.cargo import DigestedPayload
from clever_ferry.moving import disk
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.following import mode_for_file, mode_for_folder
from clever_ferry.moving.presence import folder_stands, stands
from clever_ferry.moving.system import Attributes, Unkept, attributes_of
from clever_ferry.payload import CHUNK
from clever_ferry.tree import Output

__all__ = ["STAGING", "Replacement", "Staged", "sweep", "sweep_quietly"]

Progress = Callable[[int], None]
STAGING = ".cferry-"
"""What the names of staging folders begin with; the change's token follows."""
_FAR = 8_000_000_000 * 10**9
"""A time stamp in the year 2223 in ns; boxes may state later ones, and mean nothing by it."""


@dataclass(frozen=True)
class Staged:
    """One file as it will be; `digest` is None where it will be removed."""

    path: str
    file: Path | None
    size: int
    stamp: int
    digest: str | None
    tidy: bool = False


class Replacement:
    """The change of one folder's files.

    Leaving the `with` block without `commit` having finished removes what was staged. What
    `commit` has already replaced is for its caller to put back, from a copy made before.

    New files are staged on the file system that they will be on, as only there a rename is one
    step: in a hidden folder of the target itself, and in one more for each file system that
    is mounted below it. `announce` is told of each such place, with its time stamp, before
    anything is made there.
    """

    def __init__(
        self,
        files: FolderFiles,
        token: str,
        *,
        announce: Callable[[Path, int], None] = lambda place, stamp: None,
    ) -> None:
        self._files = files
        self._root = files.root
        self._token = token
        self._announce = announce
        self.anchor = files.root
        while not stands(self.anchor):
            self.anchor = self.anchor.parent
        self._stages: dict[int, Path] = {}
        self._stamps: dict[Path, int] = {}
        self._beside = disk.Beside()
        self.staged: list[Staged] = []
        self.unkept: list[str] = []
        """Attributes that new files could not be given, in words."""
        self.excused: set[str] = set()
        """The files of these, where nobody could have given them."""
        self.failing = False
        """Whether one of these could have been given, but for a fault of the disk."""
        self.clean = True
        """Whether all that was staged is in its place or removed again."""

    def claim(self) -> None:
        """Make the staging folder of the anchor, by which another ferry sees that one is here."""
        self._stage_in(self.anchor, disk.device_of(self.anchor))

    def __enter__(self) -> Replacement:
        return self

    def __exit__(self, *_: object) -> None:
        self.discard()

    def discard(self) -> None:
        """Remove what was staged and is not in its place yet."""
        with suppress(OSError):
            self._beside.wait()
        for stage in self._stages.values():
            self.clean &= sweep(stage.parent, self._token)
        self._stages = {}

    def forget(self) -> None:
        """Leave no trace: for use when nothing was replaced; the folder's stamp comes back too."""
        self.discard()
        try:
            for place, stamp in self._stamps.items():
                disk.set_times(place, stamp)
        except OSError:
            self.clean = False

    def stage(self, output: Output, progress: Progress = lambda _: None) -> None:
        """Write one new file beside its place, to the disk itself, and note its digest."""
        path = self._real_name(output.path)
        if output.payload is None:
            self.staged.append(Staged(path, None, 0, output.stamp, None, output.tidy))
            return
        payload = output.payload
        if not isinstance(payload, DigestedPayload):
            payload = DigestedPayload(payload)
        place = self._root / path
        file = self._stage_for(place) / f"{len(self.staged):06}"
        stamp = max(-_FAR, min(output.stamp, _FAR))  # what a file system can hold
        attributes = output.attributes
        if attributes is None:
            attributes = attributes_of(place) if stands(place) else mode_for_file(place, self._root)
        size = 0
        out = disk.create(file)
        try:
            for chunk in payload.chunks():
                out.write(chunk)
                size += len(chunk)
                progress(len(chunk))
        except BaseException:
            out.close()
            raise
        self._beside.do(partial(self._finish, out, path, stamp, attributes), size)
        self.staged.append(Staged(path, file, size, stamp, payload.digest))

    def _finish(
        self, out: disk.Writer, path: str, stamp: int, attributes: Attributes | None
    ) -> None:
        with out:
            self._note(path, out.finish(stamp, attributes))

    def _note(self, path: str, unkept: list[Unkept]) -> None:
        self.unkept += [f"{path} could not keep {one.what}: {one.why}" for one in unkept]
        if any(one.can_not for one in unkept):
            self.excused.add(path)
        self.failing |= any(not one.can_not for one in unkept)

    def _stage_for(self, place: Path) -> Path:
        """Return the staging folder on the file system of a place; it is made when needed."""
        above = place.parent
        while not stands(above):
            above = above.parent
        device = disk.device_of(above)
        if device not in self._stages:
            while above != self.anchor and disk.device_of(above.parent) == device:
                above = above.parent
            self._stage_in(above, device)
        return self._stages[device]

    def _stage_in(self, above: Path, device: int) -> None:
        stage = above / f"{STAGING}{self._token}"
        self._stamps[above] = above.stat().st_mtime_ns
        self._announce(above, self._stamps[above])
        self._stages[device] = stage  # before it is made: whatever comes now, it is swept
        disk.make_folder(stage)

    def _real_name(self, path: str) -> str:
        """Return the path in the spelling that the file already has, where cases are the same."""
        self._files.inside(path)
        real = self._files.find(path)
        if real is None:
            return path
        return real.relative_to(self._root).as_posix()

    def folders(self) -> list[str]:
        """Return every folder between the root and a staged file, the root itself as ''."""
        found = {""}
        for item in self.staged:
            parts = item.path.split("/")[:-1]
            found.update("/".join(parts[:depth]) for depth in range(1, len(parts) + 1))
        return sorted(found)

    def stamps(self) -> dict[str, int]:
        """Return the time stamps that folders below the root had before anything was staged."""
        return {
            "" if place == self._root else place.relative_to(self._root).as_posix(): stamp
            for place, stamp in self._stamps.items()
            if place.is_relative_to(self._root)
        }

    def settle(self) -> None:
        """Return once all that was staged is on the disk itself."""
        self._beside.wait()

    def commit(self) -> None:
        """Rename all staged files into place, in order, and remove what is to go."""
        self.settle()
        touched: dict[Path, None] = {}
        for item in self.staged:
            place = self._root / item.path
            if item.file is None:
                disk.unlink(place)
                touched[place.parent] = None
                if item.tidy:
                    self._drop_empty(place.parent, touched)
                continue
            self._make_folders(place.parent, touched)
            self._into_place(item.file, place)
            touched[place.parent] = None
        for folder in touched:
            if folder_stands(folder):
                disk.sync_folder(folder)

    def _into_place(self, file: Path, place: Path) -> None:
        try:
            disk.rename(file, place)
        except OSError as error:
            if error.errno != errno.EXDEV:
                raise
            # Some layered file systems have one device number and yet rename across no layer.
            near = place.with_name(f"{STAGING}{self._token}-{file.name}")
            self._announce(place.parent, place.parent.stat().st_mtime_ns)
            with disk.open_to_read(file) as source, disk.create(near) as out:
                while chunk := source.read(CHUNK):
                    out.write(chunk)
                self._note(place.name, out.finish(source.stat().st_mtime_ns, attributes_of(file)))
            disk.rename(near, place)

    def _make_folders(self, folder: Path, touched: dict[Path, None]) -> None:
        missing = []
        while not folder_stands(folder):
            missing.append(folder)
            folder = folder.parent
        for new in reversed(missing):
            own = mode_for_folder(new, self._root)
            disk.make_folder(new)
            if own is not None:
                self._note(new.name, disk.give_attributes(new, own))
            touched[new.parent] = None

    def _drop_empty(self, folder: Path, touched: dict[Path, None]) -> None:
        while folder != self._root and self._root in folder.parents and not any(folder.iterdir()):
            disk.remove_folder(folder)
            folder = folder.parent
            touched[folder] = None


def sweep(anchor: Path, token: str) -> bool:
    """Remove what a change has staged in a folder and not used; return whether that was done.

    It lasts when this returns, as the journal's entry, which knows of it, may go then.
    """
    try:
        staged = [one for one in sorted(anchor.iterdir()) if one.name.startswith(STAGING + token)]
        for path in staged:
            _remove(path)
        if staged:
            disk.sync_folder(anchor)
    except FileNotFoundError:
        return True
    except OSError:
        return False
    return True


def sweep_quietly(place: Path, token: str, stamp: int | None) -> None:
    """Remove what a change has staged in a folder; the folder's time stays, or becomes `stamp`.

    Raises OSError where it can't be removed.
    """
    if not folder_stands(place):
        return
    stamp = place.stat().st_mtime_ns if stamp is None else stamp
    if not sweep(place, token):
        raise OSError(None, "what was staged can't be removed", str(place))
    disk.set_times(place, stamp)


def _remove(path: Path) -> None:
    if folder_stands(path):
        for inner in sorted(path.iterdir()):
            disk.unlink(inner)
        disk.remove_folder(path)
    else:
        disk.unlink(path)
