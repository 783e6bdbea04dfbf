"""Files replaced as one change: all new ones are staged and synced first, then renamed in."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from clever_ferry.cargo import DigestedPayload
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.system import copy_attributes, replace_file, sync_folder
from clever_ferry.tree import Output

__all__ = ["Replacement", "Staged"]

Progress = Callable[[int], None]
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
    """

    def __init__(self, files: FolderFiles, token: str) -> None:
        self._files = files
        self._root = files.root
        self.anchor = files.root
        while not self.anchor.exists():
            self.anchor = self.anchor.parent
        self.anchor_stamp = self.anchor.stat().st_mtime_ns
        self._folder = self.anchor / f".cferry-{token}"
        self.staged: list[Staged] = []

    def __enter__(self) -> Replacement:
        self._folder.mkdir()
        return self

    def __exit__(self, *_: object) -> None:
        self.discard()

    def discard(self) -> None:
        """Remove what was staged and is not in its place yet."""
        shutil.rmtree(self._folder, ignore_errors=True)

    def forget(self) -> None:
        """Leave no trace: for use when nothing was replaced; the folder's stamp comes back too."""
        self.discard()
        with suppress(OSError):
            os.utime(self.anchor, ns=(self.anchor_stamp, self.anchor_stamp))

    def stage(self, output: Output, progress: Progress = lambda _: None) -> None:
        """Write one new file beside its place, to the disk itself, and note its digest."""
        path = self._real_name(output.path)
        if output.payload is None:
            self.staged.append(Staged(path, None, 0, output.stamp, None, output.tidy))
            return
        payload = output.payload
        if not isinstance(payload, DigestedPayload):
            payload = DigestedPayload(payload)
        file = self._folder / f"{len(self.staged):06}"
        size = 0
        with file.open("xb", buffering=0) as out:
            for chunk in payload.chunks():
                view = memoryview(chunk)
                while view:
                    view = view[out.write(view) :]
                size += len(chunk)
                progress(len(chunk))
            os.fsync(out.fileno())
        stamp = max(-_FAR, min(output.stamp, _FAR))  # what a file system can hold
        self.staged.append(Staged(path, file, size, stamp, payload.digest))

    def _real_name(self, path: str) -> str:
        """Return the path in the spelling that the file already has, where cases are the same."""
        real = self._files.find(path)
        if real is None:
            self._files.refuse_links(path)
            return path
        return real.relative_to(self._root).as_posix()

    def folders(self) -> list[str]:
        """Return every folder between the root and a staged file, the root itself as ''."""
        found = {""}
        for item in self.staged:
            parts = item.path.split("/")[:-1]
            found.update("/".join(parts[:depth]) for depth in range(1, len(parts) + 1))
        return sorted(found)

    def commit(self) -> None:
        """Rename all staged files into place, in order, and remove what is to go."""
        for item in self.staged:
            place = self._root / item.path
            if item.file is None:
                place.unlink(missing_ok=True)
                if item.tidy:
                    self._drop_empty(place.parent)
                continue
            place.parent.mkdir(parents=True, exist_ok=True)
            if place.exists():
                copy_attributes(place.stat().st_mode, item.file)
            os.utime(item.file, ns=(item.stamp, item.stamp))
            replace_file(item.file, place)
        for folder in self.folders():
            if (self._root / folder).is_dir():
                sync_folder(self._root / folder)

    def _drop_empty(self, folder: Path) -> None:
        while folder != self._root and self._root in folder.parents and not any(folder.iterdir()):
            folder.rmdir()
            folder = folder.parent
