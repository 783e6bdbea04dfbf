"""New files and folders that the user asked for: they appear whole, or not at all."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from clever_ferry.errors import FerryError, NotMadeError, RefusedError
from clever_ferry.moving.local import LOCAL
from clever_ferry.moving.system import undisturbed

__all__ = ["new_file", "new_folder"]


@contextmanager
def new_file(path: Path) -> Iterator[Path]:
    """Yield where a new file is to be written; it gets its name once the block has ended well.

    Raises RefusedError where something is there already, and NotMadeError, with nothing left
    of it, where the system can't write it.
    """
    if os.path.lexists(path):
        raise RefusedError(f"{path} is there already.", advice="Name a new file.")
    if not path.absolute().parent.is_dir():
        raise RefusedError(f"{path} can't be written: there is no folder {path.parent}.")
    part = _beside(path)
    try:
        with _said(path):
            yield part
            with undisturbed():
                LOCAL.sync(part)
                if os.path.lexists(path):
                    raise RefusedError(f"{path} is there by now.", advice="Name a new file.")
                LOCAL.rename(part, path)
    except BaseException:
        with suppress(OSError):
            LOCAL.unlink(part)
        raise
    with suppress(OSError):  # the file is there, whole; whether its name lasts is the disk's affair
        LOCAL.sync_folder(path.parent)


@contextmanager
def new_folder(path: Path) -> Iterator[Path]:
    """Yield a folder to write into, which gets its name once the block has ended well.

    `path` is not there yet, or empty. Where its parent can't be written, or it is a disk of its
    own, it is written into directly, and emptied again if that fails. Raises RefusedError where
    it holds something, NotMadeError where the system can't write it.
    """
    if os.path.lexists(path) and (not path.is_dir() or any(path.iterdir())):
        raise RefusedError(f"{path} is not empty.", advice="Name a new or an empty folder.")
    part, missing = _beside(path), []
    above = path.parent
    while not above.exists():
        missing.append(above)
        above = above.parent
    try:
        with _said(path):
            for folder in reversed(missing):
                LOCAL.make_folder(folder)
            part = _begun(part, path)
            yield part
            with undisturbed():
                if part != path:
                    if path.is_dir():
                        LOCAL.remove_folder(path)
                    LOCAL.rename(part, path)
    except BaseException:
        with suppress(OSError):
            for one in list(part.iterdir()) if part == path else [part]:
                shutil.rmtree(one) if one.is_dir() and not one.is_symlink() else one.unlink()
        with suppress(OSError):
            for folder in missing:
                LOCAL.remove_folder(folder)
        raise
    with suppress(OSError):
        LOCAL.sync_folder(path.parent)


def _begun(part: Path, path: Path) -> Path:
    if path.is_dir() and (path.is_mount() or not os.access(path.parent, os.W_OK)):
        return path
    LOCAL.make_folder(part)
    return part


def _beside(path: Path) -> Path:
    chance = os.urandom(3).hex()  # free: any few letters
    return path.with_name(f".{path.name[:80]}.{chance}.part")


@contextmanager
def _said(path: Path) -> Iterator[None]:
    try:
        yield
    except FerryError:
        raise
    except OSError as error:
        raise NotMadeError(
            f"{path} can't be written: {(error.strerror or str(error)).lower()}.",
            advice="Nothing of it is left. See that its folder may be written to and has room.",
        ) from error
