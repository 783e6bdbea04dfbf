"""A binary layout as a document: its values by place, written anew with all that follows from them.

>>> from clever_ferry.documents.document import Put, changed, values_in
>>> from clever_ferry.layouts import LayoutSpec, compile_layouts
>>> from clever_ferry.model import convert
>>> from clever_ferry.payload import BytesPayload, read_all
>>> spec = convert({"fields": [
...     {"type": "u16", "name": "day"},
...     {"type": "u8", "name": "sum", "computed": {"what": "sum8", "of": "before"}}]}, LayoutSpec)
>>> log = LayoutForm(compile_layouts({"log": spec})["log"])
>>> values_in(log, BytesPayload(b"\\x1f\\x00\\x1f"), ["/day"])
[[31]]
>>> read_all(changed(log, BytesPayload(b"\\x1f\\x00\\x1f"), [Put("/day", 32)]), limit=9, what="it")
b' \\x00 '
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any
from uuid import UUID

from clever_ferry.documents.form import Splice
from clever_ferry.documents.nodes import Node, Single, nowhere
from clever_ferry.documents.places import COUNT, EVERY, Choice, Step, stands_in
from clever_ferry.errors import RefusedError
from clever_ferry.layouts.codec import Layout
from clever_ferry.layouts.frame import LayoutError
from clever_ferry.payload import BytesPayload, Payload, StreamPayload, read_all

__all__ = ["LayoutForm"]

_MOST = 256 << 20
_Path = tuple[str | int, ...]


class LayoutForm:
    """A layout that is the whole of a document. Bytes in it are hex digits, times are in ns."""

    several = False

    def __init__(self, layout: Layout) -> None:
        self.layout, self.title = layout, f"layout {layout.name}"
        self.checks = layout.checks

    def _read(self, source: Payload) -> dict[str, Any]:
        return self.layout.read_whole(read_all(source, limit=_MOST, what="It"))

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return what stands at each place; raises LayoutError where the bytes do not fit."""
        whole = self._read(source)
        return [[_node(path, one) for path, one in _found(whole, steps)] for steps in places]

    def blank(self, node: Node) -> Single:
        """Return zero, no text, or as many bytes of zeros."""
        if not isinstance(node.value, str):
            return 0
        return "0" * len(node.value) if node.bare else ""

    def rewrite(self, source: Payload, values: Sequence[tuple[Node, Single]]) -> Payload:
        """Return the layout with other values; what is computed is computed anew."""
        return StreamPayload(lambda: self._rewritten(source, values))

    def _rewritten(self, source: Payload, values: Sequence[tuple[Node, Single]]) -> Iterator[bytes]:
        whole = self._read(source)
        _set_all(whole, values)
        try:
            data = self.layout.write(whole)
        except LayoutError as error:
            filled = [(node, _filled(node) if value == "" else value) for node, value in values]
            if filled == [*values]:
                raise RefusedError(f"It can't be written: {error.what}") from None
            data = self._refilled(source, filled)
        yield from BytesPayload(data).chunks()

    def _refilled(self, source: Payload, values: Sequence[tuple[Node, Single]]) -> bytes:
        """Write once more, as some text is of a fixed size and can't be empty."""
        whole = self._read(source)
        _set_all(whole, values)
        try:
            return self.layout.write(whole)
        except LayoutError as error:
            raise RefusedError(f"It can't be written: {error.what}") from None

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Raise RefusedError: a value has no spelling of its own."""
        raise RefusedError("A layout is written anew as a whole.")

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Raise RefusedError: what stands in a layout stands there always."""
        raise RefusedError("Nothing can be taken out of a layout.")

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Raise RefusedError, likewise."""
        raise RefusedError("Nothing can be added to a layout.")


def _node(path: _Path, value: Any) -> Node:
    if isinstance(value, bytes):
        return nowhere(value.hex(), path, bare=True)
    if isinstance(value, dict | list):
        return Node(-1, -1, None, [], path=path)
    return nowhere(value, path)


def _found(whole: Any, steps: Sequence[Step]) -> list[tuple[_Path, Any]]:
    found: list[tuple[_Path, Any]] = [((), whole)]
    for step in steps:
        found = [(path + more, inner) for path, one in found for more, inner in _within(one, step)]
    return found


def _within(value: Any, step: Step) -> Iterator[tuple[_Path, Any]]:
    """Yield what one step leads to, with how; a number of how many has no place of its own."""
    every: list[tuple[str | int, Any]] = []
    if isinstance(value, dict):
        every = list(value.items())
    elif isinstance(value, list):
        every = list(enumerate(value))
    if step is COUNT and isinstance(value, list):
        yield ("#",), len(value)
    for name, inner in every:
        chosen = isinstance(step, Choice) and stands_in(inner, step)
        if step is EVERY or chosen or str(name) == step:
            yield (name,), inner


def _set_all(whole: Any, values: Sequence[tuple[Node, Single]]) -> None:
    for node, value in values:
        inner: Any = whole
        for step in node.path[:-1]:
            inner = inner[step]
        inner[node.path[-1]] = _typed(inner[node.path[-1]], value)


def _filled(node: Node) -> str:
    """Return what is empty where nothing can't stand: zeros, in the shape of an identifier."""
    text = str(node.value)
    return str(UUID(int=0)) if _is_identifier(text) else "0" * len(text.encode())


def _typed(was: Any, value: Single) -> Any:
    """Return a value as what stood there: bytes from hex digits, a number where one was."""
    try:
        if isinstance(was, bytes):
            return bytes.fromhex(str(value))
        return int(value or 0) if isinstance(was, int) and not isinstance(value, float) else value
    except ValueError:
        raise RefusedError(f"{value!r} can't stand where {was!r} does.") from None


def _is_identifier(text: str) -> bool:
    try:
        return str(UUID(text)) == text
    except ValueError:
        return False
