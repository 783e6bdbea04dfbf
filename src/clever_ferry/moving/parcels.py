"""Parcels: files written into a zip, for another computer to take up."""

from __future__ import annotations

import zipfile
from collections.abc import Iterable
from pathlib import Path

from clever_ferry.errors import RefusedError
from clever_ferry.moving.zip_times import stamped
from clever_ferry.tree import Output

__all__ = ["write_parcel"]


def write_parcel(path: Path, files: Iterable[Output]) -> int:
    """Write files into a new zip, and return how many; a half-written one is removed.

    Times are kept to the second. Raises RefusedError where something is
    there already, or the folder can't be written.
    """
    if path.exists():
        raise RefusedError(f"{path} is there already.", advice="Name another file.")
    count = 0
    try:
        with zipfile.ZipFile(path, "x", zipfile.ZIP_DEFLATED) as made:
            for file in files:
                if file.payload is None:
                    continue
                info = stamped(file.path, file.stamp)
                info.compress_type = zipfile.ZIP_DEFLATED
                with made.open(info, "w", force_zip64=True) as out:
                    for chunk in file.payload.chunks():
                        out.write(chunk)
                count += 1
    except OSError as error:
        path.unlink(missing_ok=True)
        raise RefusedError(f"{path} can't be written: {error.strerror or error}.") from error
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return count
