"""Files replaced as one change: all new ones are staged and synced first, then renamed in."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import PurePath

from clever_ferry.cargo import DigestedPayload
from clever_ferry.moving import disk
from clever_ferry.moving.files import STAGING, FolderFiles
from clever_ferry.moving.following import mode_for_file, mode_for_folder
from clever_ferry.moving.shore import Shore, Writer, anchor_of
from clever_ferry.moving.system import Attributes, Unkept
from clever_ferry.payload import CHUNK, Payload
from clever_ferry.tree import Output

__all__ = ["Replacement", "Staged", "sweep", "sweep_quietly"]

Progress = Callable[[int], None]
_FAR = 8_000_000_000 * 10**9
"""A time stamp in the year 2223 in ns; boxes may state later ones, and mean nothing by it."""


@dataclass(frozen=True)
class Staged:
    """One file as it will be; `digest` is None where it will be removed."""

    path: str
    file: PurePath | None
    size: int
    stamp: int
    digest: str | None
    tidy: bool = False
    payload: Payload | None = None
    """Where its bytes came from."""


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
        announce: Callable[[PurePath, int], None] = lambda place, stamp: None,
    ) -> None:
        self._files = files
        self._root = files.root
        self._shore = files.shore
        self._token = token
        self._announce = announce
        self.anchor = anchor_of(files.shore, files.root)
        self._stages: dict[int, PurePath] = {}
        self._stamps: dict[PurePath, int] = {}
        self._beside = disk.Beside(files.shore.capabilities.at_once)
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
        self._stage_in(self.anchor, self._shore.volume_of(self.anchor))

    def __enter__(self) -> Replacement:
        return self

    def __exit__(self, *_: object) -> None:
        self.discard()

    def discard(self) -> None:
        """Remove what was staged and is not in its place yet."""
        with suppress(OSError):
            self._beside.wait()
        for stage in self._stages.values():
            self.clean &= sweep(self._shore, stage.parent, self._token)
        self._stages = {}

    def forget(self) -> None:
        """Leave no trace: for use when nothing was replaced; the folder's stamp comes back too."""
        self.discard()
        try:
            for place, stamp in self._stamps.items():
                self._shore.set_times(place, stamp)
        except OSError:
            self.clean = False

    def _stamp(self, folder: PurePath) -> int:
        node = self._shore.node(folder)
        if node is None:
            raise FileNotFoundError(None, "the folder is gone", str(folder))
        return node.stamp

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
            attributes = (
                self._shore.attributes(place)
                if self._shore.kind(place)
                else mode_for_file(self._shore, place, self._root)
            )
        size = 0
        out = self._shore.create(file)
        try:
            for chunk in payload.chunks():
                out.write(chunk)
                size += len(chunk)
                progress(len(chunk))
        except BaseException:
            out.close()
            raise
        self._beside.do(partial(self._finish, out, path, stamp, attributes), size)
        self.staged.append(Staged(path, file, size, stamp, payload.digest, payload=payload))

    def _finish(self, out: Writer, path: str, stamp: int, attributes: Attributes | None) -> None:
        with out:
            self._note(path, out.finish(stamp, attributes))

    def _note(self, path: str, unkept: list[Unkept]) -> None:
        self.unkept += [f"{path} could not keep {one.what}: {one.why}" for one in unkept]
        if any(one.can_not for one in unkept):
            self.excused.add(path)
        self.failing |= any(not one.can_not for one in unkept)

    def _stage_for(self, place: PurePath) -> PurePath:
        """Return the staging folder on the file system of a place; it is made when needed."""
        above = anchor_of(self._shore, place.parent)
        device = self._shore.volume_of(above)
        if device not in self._stages:
            while above != self.anchor and self._shore.volume_of(above.parent) == device:
                above = above.parent
            self._stage_in(above, device)
        return self._stages[device]

    def _stage_in(self, above: PurePath, device: int) -> None:
        stage = above / f"{STAGING}{self._token}"
        self._stamps[above] = self._stamp(above)
        self._announce(above, self._stamps[above])
        self._stages[device] = stage  # before it is made: whatever comes now, it is swept
        self._shore.make_folder(stage)

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

    def flush(self) -> None:
        """Return once all that was staged is on the disk itself."""
        self._beside.wait()

    def commit(self) -> None:
        """Rename all staged files into place, in order, and remove what is to go."""
        self.flush()
        touched: dict[PurePath, None] = {}
        for item in self.staged:
            place = self._root / item.path
            if item.file is None:
                self._shore.unlink(place)
                touched[place.parent] = None
                if item.tidy:
                    self._drop_empty(place.parent, touched)
                continue
            self._make_folders(place.parent, touched)
            self._into_place(item.file, place)
            touched[place.parent] = None
        for folder in touched:
            if self._shore.kind(folder) == "folder":
                self._shore.sync_folder(folder)

    def _into_place(self, file: PurePath, place: PurePath) -> None:
        if not self._shore.capabilities.replaces:
            self._shore.unlink(place)
        try:
            self._shore.rename(file, place)
        except OSError as error:
            if error.errno != errno.EXDEV:
                raise
            # Some layered file systems have one device number and yet rename across no layer.
            near = place.with_name(f"{STAGING}{self._token}-{file.name}")
            self._announce(place.parent, self._stamp(place.parent))
            with self._shore.open(file) as source, self._shore.create(near) as out:
                while chunk := source.read(CHUNK):
                    out.write(chunk)
                own = self._shore.attributes(file)
                self._note(place.name, out.finish(source.node().stamp, own))
            self._shore.rename(near, place)

    def _make_folders(self, folder: PurePath, touched: dict[PurePath, None]) -> None:
        missing = []
        while self._shore.kind(folder) != "folder":
            if folder == self.anchor:  # it was there: what is made now would be on another drive
                raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(folder))
            missing.append(folder)
            folder = folder.parent
        for new in reversed(missing):
            own = mode_for_folder(self._shore, new, self._root)
            self._shore.make_folder(new)
            if own is not None:
                self._note(new.name, self._shore.give_attributes(new, own))
            touched[new.parent] = None

    def _drop_empty(self, folder: PurePath, touched: dict[PurePath, None]) -> None:
        while (
            folder != self._root and self._root in folder.parents and not self._shore.names(folder)
        ):
            self._shore.remove_folder(folder)
            folder = folder.parent
            touched[folder] = None


def sweep(shore: Shore, anchor: PurePath, token: str) -> bool:
    """Remove what a change has staged in a folder and not used; return whether that was done.

    It lasts when this returns, as the journal's entry, which knows of it, may go then.
    """
    try:
        staged = [one for one in shore.names(anchor) if one.startswith(STAGING + token)]
        for name in staged:
            _remove(shore, anchor / name)
        if staged:
            shore.sync_folder(anchor)
    except FileNotFoundError:
        return True
    except OSError:
        return False
    return True


def sweep_quietly(shore: Shore, place: PurePath, token: str, stamp: int | None) -> None:
    """Remove what a change has staged in a folder; the folder's time stays, or becomes `stamp`.

    Raises OSError where it can't be removed.
    """
    node = shore.node(place)
    if node is None or shore.kind(place) != "folder":
        return
    stamp = node.stamp if stamp is None else stamp
    if not sweep(shore, place, token):
        raise OSError(None, "what was staged can't be removed", str(place))
    shore.set_times(place, stamp)


def _remove(shore: Shore, path: PurePath) -> None:
    if shore.kind(path) == "folder":
        for name in shore.names(path):
            shore.unlink(path / name)
        shore.remove_folder(path)
    else:
        shore.unlink(path)
