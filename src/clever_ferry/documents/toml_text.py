"""TOML as documents, by tomlkit: it keeps what it does not change."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError

from clever_ferry.documents.form import Splice, whole_text
from clever_ferry.documents.nodes import Node, Single, nodes_at
from clever_ferry.documents.places import Step
from clever_ferry.errors import DamagedError, RefusedError, UnsupportedError
from clever_ferry.payload import Payload

__all__ = ["Toml"]

_MOST = 4 << 20
_STAND_IN = "\ue0dd"
"""A letter for private use, between two of which a number stands in for a value."""


class Toml:
    """TOML 1.0."""

    title = "TOML"
    several = False

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return for each place what stands there; times are their texts."""
        text = self._text(source)
        top, paths = _tree(text)
        found = [nodes_at(top, steps) for steps in places]
        wanted = {id(node): node for nodes in found for node in nodes
                  if node.inner is None and id(node) in paths}  # fmt: skip
        if wanted:
            _locate(text, wanted, paths)
        return found

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Return a literal; a text stays between single quotes where it was and can be."""
        if value is None:
            raise RefusedError("TOML has no word for nothing.")
        if node.start < 0 or (old[:1].isdigit() and isinstance(node.value, str)):
            raise RefusedError("A table or a time can't be given another value.")
        if old[:1] == b"'" and isinstance(value, str) and "'" not in value and value.isprintable():
            return f"'{value}'".encode()
        return tomlkit.item(value).as_string().encode()

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Return what takes values or tables away, as tomlkit does."""
        text = self._text(source)
        top, paths = _tree(text)
        gone = [paths[id(node)] for node in nodes_at(top, steps)]
        document = _parsed(text)
        for path in sorted(gone, key=_last_first, reverse=True):
            holder = _at(document, path[:-1])
            del holder[path[-1]]
        return [_difference(text, tomlkit.dumps(document))]

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Return what adds a value as the last of its table or list, as tomlkit does."""
        text = self._text(source)
        holders, paths = _tree(text)
        (holder,) = nodes_at(holders, steps[:-1])
        if holder.inner is None or value is None:
            raise RefusedError("Nothing can be added there, or TOML has no word for it.")
        document = _parsed(text)
        into = _at(document, paths[id(holder)])
        if isinstance(holder.inner, list):
            into.append(value)
        else:
            into[str(steps[-1])] = value
        return _difference(text, tomlkit.dumps(document))

    def _text(self, source: Payload) -> str:
        return whole_text(source, _MOST, self.title).decode()


_Path = tuple[str | int, ...]


def _parsed(text: str) -> tomlkit.TOMLDocument:
    try:
        return tomlkit.parse(text)
    except (TOMLKitError, ValueError, RecursionError) as error:
        raise DamagedError(f"This is no TOML that can be read ({error}).") from None


def _tree(text: str) -> tuple[Node, dict[int, _Path]]:
    """Return a text as nodes, not yet located, and the path of each."""
    paths: dict[int, _Path] = {}

    def node(value: Any, path: _Path) -> Node:
        made = Node(-1, -1)
        paths[id(made)] = path
        if isinstance(value, dict):
            made.inner = {str(key): node(one, (*path, key)) for key, one in value.items()}
        elif isinstance(value, list):
            made.inner = [node(one, (*path, at)) for at, one in enumerate(value)]
        else:
            made.value = value if isinstance(value, bool | int | float) else str(value)
        return made

    return node(_parsed(text).unwrap(), ()), paths


def _at(document: Any, path: _Path) -> Any:
    for step in path:
        document = document[step]
    return document


def _locate(text: str, nodes: Mapping[int, Node], paths: Mapping[int, _Path]) -> None:
    """Find where values stand: where others come, when these are put there, all in one go."""
    document = _parsed(text)
    mark = _STAND_IN
    while mark in text:
        mark += _STAND_IN
    olds: dict[int, str] = {}
    for number in nodes:
        *above, last = paths[number]
        holder = _at(document, tuple(above))
        olds[number] = _literal(holder, last)
        holder[last] = f"{mark}{number}{mark}"
    pieces = re.split(f'"{mark}([0-9]+){mark}"', tomlkit.dumps(document))
    at, count = 0, 0
    for before, number in zip(pieces[::2], [*map(int, pieces[1::2]), -1], strict=True):
        old = olds.get(number, "")
        if not text.startswith(f"{before}{old}", at):
            raise UnsupportedError("A value of this TOML can't be told from what is around it.")
        count += len(before.encode())
        if number >= 0:
            node = nodes[number]
            node.start = node.first = count
            node.end = node.last = count + len(old.encode())
        at, count = at + len(before) + len(old), count + len(old.encode())
    if at != len(text):
        raise UnsupportedError("This TOML can't be written as it is.")


def _literal(holder: Any, name: str | int) -> str:
    """Return how a value of a table or list is spelled."""
    item = holder.item(name) if hasattr(holder, "item") else list.__getitem__(holder, int(name))
    return str(item.as_string()) if hasattr(item, "as_string") else json.dumps(item)


def _difference(old: str, new: str) -> Splice:
    """Return the one change between two texts."""
    before = _alike(old, new)
    most = min(len(old), len(new)) - before
    behind = _alike(old[::-1][:most], new[::-1][:most])
    start = len(old[:before].encode())
    end = len(old[: len(old) - behind].encode())
    added = new[before : len(new) - behind]
    if "\r\n" in old:
        added = re.sub(r"\r?\n", "\r\n", added)
    return Splice(start, end, added.encode())


def _alike(one: str, other: str) -> int:
    """Return how many letters two texts begin with that are the same."""
    pairs = enumerate(zip(one, other, strict=False))
    return next((at for at, (a, b) in pairs if a != b), min(len(one), len(other)))


def _last_first(path: _Path) -> list[tuple[int, str]]:
    return [(one, "") if isinstance(one, int) else (0, one) for one in path]
