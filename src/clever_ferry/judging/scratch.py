"""A save laid out for its game alone: a copy of its files, in a folder that is thrown away."""

from __future__ import annotations

import os
import socket
from pathlib import Path, PurePosixPath

from clever_ferry.cargo import Save
from clever_ferry.errors import RefusedError
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.moving.names import System, refuse_forbidden
from clever_ferry.naming import Value
from clever_ferry.recipes.loader_models import LoaderInfo, filled

__all__ = ["below", "lay_out"]


def lay_out(
    opened: OpenBerth, save: Save, loader: LoaderInfo, scratch: Path
) -> dict[str, Value | Path]:
    """Copy a save's files, and what else the program needs, into a scratch folder.

    Of a box, all of its files are copied, as its index speaks of all. Returns what stands in
    braces in the recipe. Raises RefusedError where a path would lead out of the folder.
    """
    berth = opened.berth
    values: dict[str, Value | Path] = {
        **berth.fields, **save.fields, "slot": save.slot, "title": save.title, "scratch": scratch,
        "free_port": _free_port(),
    }  # fmt: skip
    place = below(scratch, filled(loader.lays, values))
    values["place"] = place
    for path in {**_files(opened, save), **_also(opened, loader.also)}:
        _copy(opened, path, below(place, path))
    place.mkdir(parents=True, exist_ok=True)
    first = next((piece.files[0] for piece in save.pieces if piece.files), "")
    values["file"] = place / first
    for path, text in loader.files.items():
        made = below(scratch, path)
        made.parent.mkdir(parents=True, exist_ok=True)
        made.write_text(filled(text, values), "utf-8", newline="\n")
    return values


def _files(opened: OpenBerth, save: Save) -> dict[str, None]:
    if opened.berth.edition.box_title is not None:
        return dict.fromkeys(opened.contents.files)
    pieces = (*save.pieces, *opened.listing.shared)
    return {file: None for piece in pieces for file in piece.files}


def _also(opened: OpenBerth, names: tuple[str, ...]) -> dict[str, None]:
    """Return the files that some names of files or folders stand for."""

    def among(path: str) -> bool:
        return any(path == name or path.startswith(f"{name}/") for name in names)

    def leads(folder: str) -> bool:
        return among(folder) or any(name.startswith(f"{folder}/") for name in names)

    if not names:
        return {}
    return {info.path: None for info in opened.berth.files.walk(leads) if among(info.path)}


def _copy(opened: OpenBerth, path: str, to: Path) -> None:
    info = opened.berth.files.info(path)
    to.parent.mkdir(parents=True, exist_ok=True)
    with to.open("xb") as file:
        for chunk in opened.berth.files.payload(path).chunks():
            file.write(chunk)
    if info is not None:
        os.utime(to, ns=(info.stamp, info.stamp))


def below(folder: Path, path: str) -> Path:
    """Return a path below a folder; raises RefusedError where it would lead out of it."""
    system: System = "windows" if os.name == "nt" else "linux"
    parts = PurePosixPath(path).parts
    if not parts or parts[0] == "/" or ".." in parts:
        raise RefusedError(f"{path!r} is no path below a folder, so the game is not asked.")
    refuse_forbidden(path, system)
    return folder.joinpath(*parts)


def _free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])
