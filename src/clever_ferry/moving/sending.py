"""Sending: files written into a zip, for another computer to take up."""

from __future__ import annotations

import zipfile
from collections.abc import Iterable
from pathlib import Path

from clever_ferry.moving.outputs import new_file
from clever_ferry.moving.zip_times import stamped
from clever_ferry.tree import Output

__all__ = ["write_zip"]


def write_zip(path: Path, files: Iterable[Output]) -> int:
    """Write files into a new zip, and return how many; times are kept to the second.

    Raises RefusedError where something is there already, NotMadeError where it can't be written.
    """
    count = 0
    with new_file(path) as part, zipfile.ZipFile(part, "x", zipfile.ZIP_DEFLATED) as made:
        for file in files:
            if file.payload is None:
                continue
            info = stamped(file.path, file.stamp)
            info.compress_type = zipfile.ZIP_DEFLATED
            with made.open(info, "w", force_zip64=True) as out:
                for chunk in file.payload.chunks():
                    out.write(chunk)
            count += 1
    return count
