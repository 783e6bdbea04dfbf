"""A snapshot as a bag: a zip that other tools can check and unpack, long after this one.

Source: RFC 8493, The BagIt File Packaging Format (V1.0).
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from datetime import UTC, datetime
from hashlib import sha256, sha512
from pathlib import Path

from msgspec import to_builtins

from clever_ferry.keeping.locker import Locker
from clever_ferry.keeping.snapshots import Snapshot
from clever_ferry.moving.outputs import new_file
from clever_ferry.moving.zip_times import stamped

__all__ = ["export_bag"]


def export_bag(
    locker: Locker,
    snapshot: Snapshot,
    file: Path,
    progress: Callable[[int], None] = lambda _: None,
) -> list[str]:
    """Write a snapshot as a zipped bag; return the paths that had to be written otherwise.

    Time stamps and attributes to the last digit, and what was absent, stand in the bag's own
    file `snapshot.json`. Raises RefusedError where the file is there already, DamagedError
    where a content is damaged; nothing is left of the file then.
    """
    with new_file(file) as part:
        renamed = _write(locker, snapshot, part, progress)
        closed = 0o077  # who may not read one of the saves may not read it here
        for kept in snapshot.files:
            closed &= kept.attributes.mode
        if os.name != "nt":
            part.chmod(part.stat().st_mode & (0o700 | closed))
        return renamed


def _write(
    locker: Locker, snapshot: Snapshot, part: Path, progress: Callable[[int], None]
) -> list[str]:
    import zipfile

    top = f"clever-ferry-{snapshot.id}"
    sums: dict[str, list[str]] = {"sha256": [], "sha512": []}
    renamed, taken = [], set[str]()
    with zipfile.ZipFile(part, "x", zipfile.ZIP_DEFLATED, compresslevel=1) as bag:
        for kept in snapshot.files:
            path = _portable(kept.path, taken)
            if path != kept.path:
                renamed.append(f"{kept.path!r} is data/{path}")
            info = stamped(f"{top}/data/{path}", kept.stamp)
            info.compress_type = zipfile.ZIP_DEFLATED
            info.external_attr = (0o100000 | kept.attributes.mode) << 16
            hashes = {"sha256": sha256(), "sha512": sha512()}
            with bag.open(info, "w", force_zip64=kept.size > 1 << 31) as out:
                for chunk in locker.payload(kept).chunks():
                    out.write(chunk)
                    for running in hashes.values():
                        running.update(chunk)
                    progress(len(chunk))
            for name, running in hashes.items():
                sums[name].append(f"{running.hexdigest()}  data/{path}\n")
        tags = _tags(snapshot, renamed)
        tags |= {f"manifest-{name}.txt": "".join(lines) for name, lines in sums.items()}
        tags["tagmanifest-sha512.txt"] = "".join(
            f"{sha512(text.encode()).hexdigest()}  {name}\n" for name, text in tags.items()
        )
        for name, text in tags.items():
            bag.writestr(f"{top}/{name}", text.encode())
    return renamed


def _tags(snapshot: Snapshot, renamed: list[str]) -> dict[str, str]:
    made = datetime.fromtimestamp(snapshot.made / 1e9, UTC)
    about = snapshot.about
    told = {
        "Bagging-Date": f"{made:%Y-%m-%d}",
        "External-Description": f"Save games of {about.title}",
        "External-Identifier": snapshot.id,
        "Internal-Sender-Description": snapshot.note,
        "Payload-Oxum": f"{snapshot.size}.{len(snapshot.files)}",
        "Bag-Software-Agent": "Clever Ferry",
    }
    lines = [f"{key}: {' '.join(value.split())}\n" for key, value in told.items() if value]
    return {
        "bagit.txt": "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n",
        "bag-info.txt": "".join(lines),
        "snapshot.json": json.dumps({**to_builtins(snapshot), "renamed": renamed}, indent=1),
    }


def _portable(path: str, taken: set[str]) -> str:
    """Return a path that a zip and a bag can hold; what may be misread is said by its number.

    A bag's manifest would spell a percent sign otherwise (RFC 8493, 2.1.3), which not all
    tools know, so that there is none.
    """
    raw = "".join(
        f"={ord(char) - 0xDC00:02X}" if 0xDC80 <= ord(char) <= 0xDCFF
        else f"={ord(char):02X}" if ord(char) < 32 or char in "\\%"
        else char
        for char in path
    )  # fmt: skip
    found, number = raw, 1
    while found in taken:
        number += 1  # free: any that is not taken
        found = f"{raw}~{number}"
    taken.add(found)
    return found
