"""A container's pieces in a folder, with what is needed to put it together again.

The folder gets `pieces/`, `original/` (the container as it was) and `parts.json`, which says
how it was opened and which file holds which entry. Putting together reads the original
again and replaces, adds and removes what is different: what is the same stays the same,
byte for byte.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import msgspec
from msgspec import Struct

from clever_ferry.boxes import Making, Put
from clever_ferry.cargo import digest_of
from clever_ferry.errors import DamagedError, FerryError, NotFoundError, RefusedError
from clever_ferry.layers import Known
from clever_ferry.moving.disk import read_whole
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.names import safe_name
from clever_ferry.moving.outputs import new_file, new_folder
from clever_ferry.payload import Payload
from clever_ferry.recipes import Recipes
from clever_ferry.unboxing.opening import Opened, opened_as

__all__ = ["Part", "Together", "parts_of", "put_together", "take_apart"]

_PARTS = "parts.json"
_MOST = 256 << 20


@dataclass(frozen=True)
class Part:
    """One plain piece of a container."""

    name: str
    file: str
    """Its path below `pieces`, which is its name as far as that can be a file's."""
    size: int | None
    stamp: int | None
    payload: Payload
    problem: str = ""


@dataclass(frozen=True)
class Together:
    """What putting a container together has come to."""

    path: Path
    same: bool
    """Whether every byte is as in the container that was taken apart; both were read for that."""
    changed: tuple[str, ...]
    added: tuple[str, ...]
    removed: tuple[str, ...]


def parts_of(opened: Opened) -> list[Part]:
    """Return the pieces of a container, each with a file name of its own."""
    if opened.unwrapped is not None:
        name = opened.file or "payload"
        stem = name.rsplit(".", 1)[0] if "." in name else f"{name}.plain"
        payload = opened.unwrapped.payload
        return [Part(name, safe_name(stem, set()), payload.size, None, payload)]
    taken: set[str] = set()
    entries = opened.contents.entries if opened.contents else ()
    return [
        Part(
            entry.name, safe_name(entry.name, taken), entry.size, entry.stamp, entry.payload,
            entry.problem,
        )
        for entry in entries
    ]  # fmt: skip


def take_apart(
    opened: Opened, folder: Path, progress: Callable[[int], None] = lambda _: None
) -> list[Part]:
    """Write the pieces into a folder that is new or empty; a piece that can't be read is left out.

    Returns the pieces; those left out have their problem.
    """
    with new_folder(folder) as part:
        return _take_apart(opened, part, progress)


def _take_apart(opened: Opened, folder: Path, progress: Callable[[int], None]) -> list[Part]:
    done: list[Part] = []
    parts = []
    for part in parts_of(opened):
        place = folder / "pieces" / part.file
        try:
            if part.problem:
                raise DamagedError(part.problem)
            digest = _write(part.payload, place, part.stamp, progress)
        except (DamagedError, FerryError) as error:
            place.unlink(missing_ok=True)
            done.append(Part(part.name, part.file, part.size, part.stamp, part.payload, error.what))
            continue
        done.append(part)
        parts.append({"name": part.name, "file": part.file, "digest": digest})
    for path in opened.paths:
        info = opened.files.info(path)
        stamp = info.stamp if info else None
        _write(opened.files.payload(path), folder / "original" / path, stamp, progress)
    data = {"parts": 1, "how": opened.how, "file": opened.file, "entries": parts}
    (folder / _PARTS).write_text(json.dumps(data, indent=1, ensure_ascii=False), "utf-8")
    return done


def _write(
    payload: Payload, place: Path, stamp: int | None, progress: Callable[[int], None]
) -> str:
    place.parent.mkdir(parents=True, exist_ok=True)
    with place.open("xb") as out:
        for chunk in payload.chunks():
            out.write(chunk)
            progress(len(chunk))
    if stamp is not None and stamp > 0:
        os.utime(place, ns=(stamp, stamp))
    files = FolderFiles(place.parent)
    return digest_of(files.payload(place.name))


def put_together(folder: Path, target: Path, recipes: Recipes, making: Making) -> Together:
    """Put the pieces of a folder together again, as a new file or folder `target`.

    Raises NotFoundError where the folder is not one that `take_apart` made, and RefusedError
    where the target is there already.
    """
    parts = _read_parts(folder / _PARTS)
    how, file = parts.how, parts.file
    known = {entry.name: (entry.file, entry.digest) for entry in parts.entries}
    if file is not None and safe_name(file, set()) != file:
        raise RefusedError(f"{folder / _PARTS} names a file that leaves its folder: {file!r}.")
    if os.path.lexists(target):
        raise RefusedError(f"{target} is there already.", advice="Name a new file or folder.")
    original = folder / "original"
    opened = opened_as(original / file if file else original, recipes, how)
    pieces = FolderFiles(folder / "pieces")
    there = {info.path: info for info in pieces.walk(lambda _: True)}
    changed = [
        name
        for name, (path, digest) in known.items()
        if path in there and digest_of(pieces.payload(path)) != digest
    ]
    removed = [name for name, (path, _) in known.items() if path not in there]
    added = sorted(set(there) - {path for path, _ in known.values()})
    if opened.chain is not None and opened.unwrapped is not None:
        if removed or added or len(parts.entries) != 1:
            raise RefusedError("A layered file has one piece: it can be changed, not more.")
        source = pieces.payload(parts.entries[0].file) if changed else opened.unwrapped.payload
        wrapped = opened.chain.wrap(source, Known(opened.unwrapped.bound), opened.unwrapped.residue)
        with new_file(target) as part:
            _write(wrapped, part, None, lambda _: None)
    else:
        puts = [(name, known[name][0]) for name in changed] + [(name, name) for name in added]
        with (new_file if opened.file else new_folder)(target) as part:
            place = (lambda _: part) if opened.file else part.joinpath
            _box_again(opened, pieces, puts, removed, place, making)
    made = FolderFiles(target.parent if opened.file else target)
    same = [info.path for info in made.walk(lambda _: True)] == opened.paths
    if opened.file:
        same = digest_of(made.payload(target.name)) == digest_of(opened.files.payload(opened.file))
    else:
        same = same and all(
            digest_of(made.payload(path)) == digest_of(opened.files.payload(path))
            for path in opened.paths
        )
    return Together(target, same, tuple(changed), tuple(added), tuple(removed))


class _Entry(Struct):
    name: str
    file: str
    digest: str


class _Parts(Struct):
    """What `parts.json` says."""

    how: str
    file: str | None
    entries: list[_Entry]


def _read_parts(path: Path) -> _Parts:
    try:
        return msgspec.json.decode(read_whole(path, _MOST), type=_Parts)
    except (OSError, ValueError, RecursionError):
        raise NotFoundError(
            f"{path.parent} does not hold a container that was taken apart: its {path.name} is "
            "missing or can't be read.",
            advice="`cferry unbox FILE -o FOLDER` makes such a folder.",
        ) from None


def _box_again(
    opened: Opened, pieces: FolderFiles, puts: list[tuple[str, str]], removed: list[str],
    place: Callable[[str], Path], making: Making,
) -> None:  # fmt: skip
    assert opened.box is not None
    assert opened.contents is not None
    outputs: dict[str, Path | None] = {}
    if puts or removed:
        items = []
        for name, path in puts:
            info = pieces.info(path)
            items.append(Put(name, pieces.payload(path), info.stamp if info else making.now))
        for output in opened.box.write(opened.contents, items, removed, making):
            outputs[output.path] = None
            if output.payload is not None:
                outputs[output.path] = place(output.path)
                _write(output.payload, place(output.path), output.stamp, lambda _: None)
    for path in opened.paths:
        if path not in outputs:
            info = opened.files.info(path)
            stamp = info.stamp if info else None
            _write(opened.files.payload(path), place(path), stamp, lambda _: None)
