"""Paths written inside a text: those in folders that both computers have, as each spells them.

What is carried names such a folder by its meaning (`@documents/yards`), with `/` between; a path
that lies in no known folder stays as it is.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from clever_ferry.documents.document import Was, each_in, held, spelled_in, with_values
from clever_ferry.documents.form import Form
from clever_ferry.documents.nodes import Node, Single
from clever_ferry.errors import RefusedError
from clever_ferry.layers.chain import Parts, Stages
from clever_ferry.layers.document_spec import PathsSpec
from clever_ferry.layers.found import Found
from clever_ferry.layers.known import Known
from clever_ferry.payload import Payload, StreamPayload

__all__ = ["Paths"]

_DRIVE = re.compile(r"[A-Za-z]:[\\/]")
_MARK = re.compile(r"@([a-z-]+)(/|$)")


class Paths:
    """The paths at some places of a document."""

    bound: frozenset[str] = frozenset()

    @classmethod
    def of(cls, spec: PathsSpec, parts: Parts) -> Paths:
        """Return the layer that a recipe says."""
        return cls(spec, parts.form(spec.holds))

    def __init__(self, spec: PathsSpec, form: Form) -> None:
        self.spec, self.form = spec, form

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, list[Was]]:
        """Return the text with folders by their meaning; the residue is what stood there."""
        source = held(source)
        nodes = self._nodes(source)
        folders = _longest_first(found.known.folders)
        plain = [self._through(str(node.value), folders, _meant) for node in nodes]
        left = [
            str(node.value)
            for node, new in zip(nodes, plain, strict=True)
            if _absolute(new.strip("\"'"))
        ]
        found.headers["paths"] = {"places": len(nodes) - len(left), "left": left}
        was = spelled_in(source, nodes)
        return with_values(self.form, source, _differing(was, plain)), was

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the text with the target's own spelling of each folder.

        Raises RefusedError where the target has no such folder.
        """
        folders = _longest_first(known.folders)
        if folders:
            for node in self._nodes(inside):
                self._through(str(node.value), folders, _spelled)
        return StreamPayload(lambda: self._written(inside, residue, folders))

    def _written(
        self, inside: Payload, residue: Sequence[Was] | None, folders: Mapping[str, str]
    ) -> Iterator[bytes]:
        inside = held(inside)
        nodes = self._nodes(inside)
        spelled = [self._through(str(node.value), folders, _spelled) for node in nodes]
        new = _differing(spelled_in(inside, nodes), spelled)
        if residue is not None and len(residue) == len(new):
            same = [self._through(str(was.node.value), folders, _meant) for was in residue]
            new = [
                (node, was.spelled if meant == str(node.value) else put)
                for (node, put), was, meant in zip(new, residue, same, strict=True)
            ]
        yield from with_values(self.form, inside, new).chunks()

    def _nodes(self, source: Payload) -> list[Node]:
        """Return the texts at all places, each once, in order."""
        every = each_in(self.form, source, self.spec.at)
        return [node for node in every if isinstance(node.value, str)]

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


def _differing(was: Sequence[Was], new: Sequence[str]) -> list[tuple[Node, Single | bytes]]:
    """Return what is to stand at each node: what stood there, where that is the same."""
    return [
        (node, old if value == node.value else value)
        for (node, old), value in zip(was, new, strict=True)
    ]


def _longest_first(folders: Mapping[str, str]) -> dict[str, str]:
    return dict(sorted(folders.items(), key=lambda one: -len(one[1])))


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
