"""Paths written inside a text: those in folders that both computers have, as each spells them.

What is carried names such a folder by its meaning (`@documents/yards`), with `/` between; a path
that lies in no known folder stays as it is.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from clever_ferry.errors import RefusedError
from clever_ferry.layers.found import Found
from clever_ferry.layers.places import Place, find_places, read_text, replaced
from clever_ferry.layers.spec import PathsSpec
from clever_ferry.naming import Value
from clever_ferry.payload import Payload, StreamPayload

__all__ = ["FOLDER", "Paths"]

FOLDER = "folder:"
"""Before the name of a known folder, where what is known for peeling or dressing gives its path."""

_DRIVE = re.compile(r"[A-Za-z]:[\\/]")
_MARK = re.compile(r"@([a-z-]+)(/|$)")


class Paths:
    """The paths at some places of a JSON or INI text."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: PathsSpec) -> None:
        self.spec = spec

    def peel(self, source: Payload, found: Found) -> tuple[Payload, list[str]]:
        """Return the text with folders by their meaning; the residue is what stood there."""
        text = read_text(source)
        places = self._places(text)
        folders = _folders(found.given)
        plain = [self._through(str(place.value), folders, _meant) for place in places]
        left = [
            str(place.value)
            for place, new in zip(places, plain, strict=True)
            if _absolute(new.strip("\"'"))
        ]
        found.said["paths"] = {"places": len(places) - len(left), "left": left}
        marked = replaced(text, places, [self._literal(one) for one in plain])
        literals = [text[place.start : place.end] for place in places]
        return StreamPayload(lambda: iter([marked])), literals

    def dress(
        self, inside: Payload, whole: Payload, residue: Any, fields: Mapping[str, Value]
    ) -> Payload:
        """Return the text with the target's own spelling of each folder.

        Raises RefusedError where the target has no such folder.
        """
        if _folders(fields):
            text, folders = read_text(inside), _folders(fields)
            for place in self._places(text):
                self._through(str(place.value), folders, _spelled)
        return StreamPayload(lambda: self._written(inside, residue, fields))

    def _written(
        self, inside: Payload, residue: Sequence[str] | None, fields: Mapping[str, Value]
    ) -> Iterator[bytes]:
        text = read_text(inside)
        places = self._places(text)
        folders = _folders(fields)
        new = [
            self._literal(self._through(str(place.value), folders, _spelled)) for place in places
        ]
        if residue is not None and len(residue) == len(new):
            same = [self._through(self._value(old), folders, _meant) for old in residue]
            new = [
                old if one == str(place.value) else literal
                for old, one, place, literal in zip(residue, same, places, new, strict=True)
            ]
        yield replaced(text, places, new)

    def _places(self, text: str) -> list[Place]:
        found = find_places(text, self.spec.holds, self.spec.at)
        return [place for place in found if isinstance(place.value, str)]

    def _through(
        self, value: str, folders: Mapping[str, str],
        change: Callable[[str, Mapping[str, str]], str],
    ) -> str:  # fmt: skip
        """Change a path; in INI it may stand in quotation marks."""
        if "://" in value:
            return value  # an address of the net
        quote = value[:1] if self.spec.holds == "ini" and value[:1] in ("'", '"') else ""
        if quote and len(value) > 1 and value.endswith(quote):
            return f"{quote}{change(value[1:-1], folders)}{quote}"
        return change(value, folders)

    def _literal(self, value: str) -> str:
        return value if self.spec.holds == "ini" else json.dumps(value, ensure_ascii=False)

    def _value(self, literal: str) -> str:
        return literal if self.spec.holds == "ini" else str(json.loads(literal))


def _folders(known: Mapping[str, Value]) -> dict[str, str]:
    """Return the known folders' paths by name, the longest first."""
    found = {
        name.removeprefix(FOLDER): str(path)
        for name, path in known.items()
        if name.startswith(FOLDER)
    }
    return dict(sorted(found.items(), key=lambda one: -len(one[1])))


def _absolute(path: str) -> bool:
    return bool(_DRIVE.match(path)) or path.startswith(("/", "\\"))


def _windows(folders: Mapping[str, str]) -> bool:
    return any(_DRIVE.match(folder) for folder in folders.values())


def _meant(path: str, folders: Mapping[str, str]) -> str:
    """Return a path as it is carried."""
    if path.startswith("@"):
        return f"@{path}"
    for name, folder in folders.items():
        drive = bool(_DRIVE.match(folder))
        if drive != bool(_DRIVE.match(path)):
            continue
        above, own = (one.replace("\\", "/") if drive else one for one in (folder, path))
        start = own[: len(above)]
        same = start.casefold() == above.casefold() if drive else start == above
        if same and own[len(above) : len(above) + 1] in ("", "/"):
            return f"@{name}{own[len(above) :]}"
    return path if _absolute(path) or not _windows(folders) else path.replace("\\", "/")


def _spelled(path: str, folders: Mapping[str, str]) -> str:
    """Return a carried path as the computer with these folders spells it."""
    if path.startswith("@@"):
        return path[1:]
    windows = _windows(folders)
    mark = _MARK.match(path)
    if mark is None:
        return path.replace("/", "\\") if windows and not _absolute(path) else path
    if mark[1] not in folders:
        raise RefusedError(
            f"A path inside leads into the source's folder {mark[1]!r}, and the target has none.",
            advice="Leave that piece out; the target's own stays then.",
        )
    inner = path[mark.end(1) :]
    return folders[mark[1]] + (inner.replace("/", "\\") if windows else inner)
