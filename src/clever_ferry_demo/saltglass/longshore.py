"""Saltglass as Longshore streamed it: the export that its players got when it closed."""

from __future__ import annotations

import io
import time
import zipfile
from collections.abc import Mapping
from pathlib import Path

from clever_ferry_demo.saltglass.pieces import World

__all__ = ["write_export"]


def write_export(
    folder: Path, account: str, worlds: Mapping[int, tuple[World, int]], parts: int = 2
) -> None:
    """Write an export of several zips, each save zipped again within; `worlds` by slot."""
    folder.mkdir(parents=True, exist_ok=True)
    for part in range(1, parts + 1):
        with zipfile.ZipFile(folder / f"longshore-export-{part}-of-{parts}.zip", "w") as outer:
            if part == 1:
                outer.writestr("READ ME.txt", "Longshore has closed. Thank you for playing.\n")
                outer.writestr(f"players/{account}/saltglass/options.ini", "[sound]\nwaves = 3\n")
            for slot, (world, stamp_ns) in worlds.items():
                if slot % parts == part - 1:
                    name = f"players/{account}/saltglass/save-{slot:03}.zip"
                    _put(outer, name, _zipped(world, stamp_ns), stamp_ns, zipfile.ZIP_STORED)


def _zipped(world: World, stamp_ns: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as inner:
        for name, data in (
            ("island.world", world.encode_body()),
            ("about.json", world.encode_meta()),
            *((f"folk/{one.name}", one.encode()) for one in world.travellers),
        ):
            _put(inner, name, data, stamp_ns, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def _put(archive: zipfile.ZipFile, name: str, data: bytes, stamp_ns: int, method: int) -> None:
    day = time.localtime(stamp_ns // 10**9)[:6]
    info = zipfile.ZipInfo(name, day)
    info.compress_type = method
    archive.writestr(info, data)
