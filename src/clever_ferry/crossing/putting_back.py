"""Putting a folder back as a manifest says it stood: bytes, names, permissions, time stamps."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

from clever_ferry.keeping import Locker, Manifest
from clever_ferry.moving import FolderFiles, Replacement
from clever_ferry.moving.system import copy_attributes
from clever_ferry.tree import Output

__all__ = ["put_back", "sweep"]


def put_back(
    locker: Locker, manifest: Manifest, token: str, anchor: Path, anchor_stamp: int
) -> None:
    """Bring every path that the manifest names to what it was. May be repeated after a kill.

    `anchor` is the folder that was there before, the manifest's root or one above it, and
    `anchor_stamp` its time stamp then. Raises DamagedError, before anything changes, where a
    kept object can't be read.
    """
    root = Path(manifest.root)
    files = FolderFiles(root)
    if root.exists() or manifest.files:
        with Replacement(files, token) as change:
            for kept in manifest.files:
                change.stage(Output(kept.path, locker.payload(kept), kept.stamp))
            for path in manifest.absent:
                if files.find(path) is not None:
                    change.stage(Output(path, None, 0))
            change.commit()
    for kept in manifest.files:
        copy_attributes(kept.mode, root / kept.path)
    for folder in sorted(manifest.absent_folders, key=len, reverse=True):
        place = root / folder
        if place.is_dir() and not any(place.iterdir()):
            place.rmdir()
    for there in manifest.folders:
        (root / there.path).mkdir(parents=True, exist_ok=True)
    for there in sorted(manifest.folders, key=lambda folder: len(folder.path), reverse=True):
        os.utime(root / there.path, ns=(there.stamp, there.stamp))
    if not root.exists():
        os.utime(anchor, ns=(anchor_stamp, anchor_stamp))


def sweep(anchor: Path, token: str, stamp: int | None = None) -> None:
    """Remove what a killed crossing had staged; `stamp` is the folder's own, where it is kept."""
    shutil.rmtree(anchor / f".cferry-{token}", ignore_errors=True)
    if stamp is not None and anchor.is_dir():
        os.utime(anchor, ns=(stamp, stamp))
