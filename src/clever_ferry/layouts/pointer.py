"""Paths to values: `/players/3/name`, into nested mappings and lists.

The spelling is that of RFC 6901 (JSON Pointer), `~1` for a slash in a name and `~0` for a tilde.
"""

from __future__ import annotations

from contextlib import suppress
from functools import lru_cache
from typing import Any

from clever_ferry.errors import DamagedError

__all__ = ["PointerError", "every", "point", "put"]


class PointerError(DamagedError):
    """A path that leads nowhere in the value at hand."""


@lru_cache(1024)
def _steps(path: str) -> tuple[str, ...]:
    if path == "":
        return ()
    if not path.startswith("/"):
        raise PointerError(f"The path {path!r} must start with '/'.")
    return tuple(step.replace("~1", "/").replace("~0", "~") for step in path[1:].split("/"))


def point(value: Any, path: str) -> Any:
    """Return what stands at a path; raises PointerError where nothing does."""
    steps = _steps(path)
    found = value
    try:
        for step in steps:
            found = len(found) if step == "#" and type(found) is list else found[step]
        return found
    except (KeyError, TypeError):
        pass  # a place in a list is on the way, or nothing stands there
    for step in steps:
        if isinstance(value, dict) and step in value:
            value = value[step]
        elif isinstance(value, list) and step == "#":
            value = len(value)
        elif isinstance(value, list) and step.isdecimal() and int(step) < len(value):
            value = value[int(step)]
        else:
            raise PointerError(f"Nothing stands at {path!r}: {step!r} is not there.")
    return value


def every(value: Any, path: str) -> list[Any]:
    """Return all that stands at a path in which `*` is every name, or every place of a list."""
    found = [value]
    for step in _steps(path):
        inner: list[Any] = []
        for one in found:
            if step == "*" and isinstance(one, dict | list):
                inner += one.values() if isinstance(one, dict) else one
            elif step != "*":
                with suppress(PointerError):
                    inner.append(point(one, "/" + step.replace("~", "~0").replace("/", "~1")))
        found = inner
    return found


def put(value: Any, path: str, new: Any) -> None:
    """Set what stands at a path in place; raises PointerError where nothing does yet."""
    steps = _steps(path)
    point(value, path)
    parent = point(value, "/" + "/".join(steps[:-1]) if steps[:-1] else "")
    parent[int(steps[-1]) if isinstance(parent, list) else steps[-1]] = new
