"""Evidence: what shows which store or release made a berth."""

from __future__ import annotations

from collections.abc import Mapping

from clever_ferry.errors import FerryError
from clever_ferry.finding.berths import Berth
from clever_ferry.naming import Pattern, Value
from clever_ferry.payload import head
from clever_ferry.tree import Files

__all__ = ["evidence_of", "file_saying"]

_LARGEST_SIGN = 1 << 20


def evidence_of(berth: Berth) -> tuple[str, ...]:
    """Return in words what speaks for a berth's store: its box, marker files, account's shape."""
    edition = berth.edition
    found = []
    if edition.box_title is not None:
        found.append(f"it is kept as {edition.box_title}")
    for mark in edition.marks:
        seen = file_saying(
            berth.files, mark.pattern, mark.info.says, berth.fields, fold=berth.files.fold
        )
        if seen is not None:
            found.append(f"{seen}: {mark.info.means}")
    for name, value in berth.fields.items():
        found.append(f"the {name} {value} has the right shape: {edition.fields[name].wants()}")
    return tuple(found)


def file_saying(
    files: Files, pattern: Pattern, says: str | None, fields: Mapping[str, Value], *, fold: bool
) -> str | None:
    """Return the first file that a pattern fits, with these fields, and that holds a text."""
    segments = pattern.segments

    def enter(folder: str) -> bool:
        parts = folder.split("/")
        return len(parts) < len(segments) and all(
            isinstance(segment.match(part, fold=fold), dict)
            for segment, part in zip(segments, parts, strict=False)
        )

    try:
        for file in files.walk(enter):
            match = pattern.match(file.path, fold=fold)
            fits = isinstance(match, dict) and all(fields.get(k, v) == v for k, v in match.items())
            if fits and (says is None or says.encode() in _start(files, file.path)):
                return file.path
    except (FerryError, OSError):
        return None  # what can't be read shows nothing
    return None


def _start(files: Files, path: str) -> bytes:
    return head(files.payload(path), _LARGEST_SIGN)
