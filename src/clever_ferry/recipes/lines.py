"""Where in a recipe's file stands what is wrong with it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from clever_ferry.documents.nodes import Node
from clever_ferry.documents.places import Step
from clever_ferry.errors import FerryError
from clever_ferry.model import parse_toml
from clever_ferry.payload import BytesPayload

__all__ = ["placed"]

_KEY = re.compile(r"((?:[\w-]+(?:\[\d+\])*\.)*[\w-]+(?:\[\d+\])*)(?: = |: )")
_PART = re.compile(r"[\w-]+|\[\d+\]")

_MOST, _LARGEST = 100, 1 << 18
"""Faults whose lines are told, and characters of a file in which they are looked for."""

_Path = tuple[str, ...]


def placed(text: str, faults: Sequence[str]) -> tuple[str, ...]:
    """Return faults that begin with the key they are of, with the line where that stands.

    A value's own column is told, too, both counted from 1. A key that is missing has the line of
    the first value beside it; what can't be told, and what is beyond a hundred, stays as it is.
    """
    try:
        data = parse_toml(text.encode())
        known = {fault: _nearest(data, fault) for fault in faults}
        paths = dict.fromkeys(path for path, _ in known.values() if path)
        lines = _lines(text, list(paths)[:_MOST]) if len(text) <= _LARGEST else {}
    except (FerryError, ValueError, RecursionError):
        return tuple(faults)
    return tuple(
        f"line {line}{f', column {column}' if exact else ''}: {fault}" if line else fault
        for fault, (path, exact) in known.items()
        for line, column in [lines.get(path, (0, 0))]
    )


def _nearest(data: dict[str, Any], fault: str) -> tuple[_Path, bool]:
    """Return the path of the value that a fault is of, or of the first one where its key is not.

    Also tells which of the two it is; the path is empty where not even that can be told.
    """
    found = _KEY.match(fault)
    here: Any = data
    path: list[str] = []
    parts = _PART.findall(found[1]) if found else []
    exact = True
    for number, part in enumerate(parts, 1):
        try:
            if part.startswith("["):
                step: str | int = int(part[1:-1]) - 1
                here = here[step]
            else:
                step = part
                here = here[part]
        except (LookupError, TypeError):
            if number < len(parts):
                return (), False  # a name that is not told by its letters alone
            exact = False
            break
        path.append(str(step))
    while path and isinstance(here, dict | list) and here:
        exact = False
        step, here = next(iter(here.items() if isinstance(here, dict) else enumerate(here)))
        path.append(str(step))
    return tuple(path), exact


def _lines(text: str, paths: list[_Path]) -> dict[_Path, tuple[int, int]]:
    """Return line and column of the values at paths, those of a value's name where it has one."""
    from clever_ferry.documents.toml_text import Toml  # only for recipes that are wrong

    raw = text.encode()
    wanted: list[tuple[Step, ...]] = [(*path,) for path in paths]
    found: dict[_Path, tuple[int, int]] = {}
    for path, nodes in zip(paths, Toml().find(BytesPayload(raw), wanted), strict=True):
        if len(nodes) == 1 and nodes[0].start >= 0:
            found[path] = _line(raw, nodes[0], path[-1])
    return found


def _line(raw: bytes, node: Node, name: str) -> tuple[int, int]:
    begin = raw.rfind(b"\n", 0, node.start) + 1
    before = raw[begin : node.start].decode()
    named = before.rfind(name)
    column = named if named >= 0 and not name.isdigit() else len(before)
    return raw.count(b"\n", 0, node.start) + 1, column + 1
