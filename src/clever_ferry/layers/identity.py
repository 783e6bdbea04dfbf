"""Whose a text piece is, at places that a recipe names: taken out on reading, put in on writing.

What is carried has a mark in its place, so that nobody's identity travels; the target's is written
where the mark stands. Only these places are touched, and the text around them stays as it is.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from clever_ferry.documents.document import Was, each_in, held, spelled_in, with_values
from clever_ferry.documents.form import Form
from clever_ferry.documents.nodes import Node, Single
from clever_ferry.documents.places import text_of
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layers.chain import Parts
from clever_ferry.layers.found import Found
from clever_ferry.layers.known import Known
from clever_ferry.layers.spec import IdentitySpec
from clever_ferry.naming import Value
from clever_ferry.payload import Payload, StreamPayload

__all__ = ["Identity"]


class _Kept(NamedTuple):
    """Whose a text was at the source, where that may stay."""

    value: Value


class Identity:
    """One name field's value in a document, in one or several places."""

    @classmethod
    def of(cls, spec: IdentitySpec, parts: Parts) -> Identity:
        """Return the layer that a recipe says."""
        return cls(spec, parts.form(spec.holds))

    def __init__(self, spec: IdentitySpec, form: Form) -> None:
        self.spec, self.form = spec, form
        self.bound = frozenset([] if spec.kept else [spec.bound])

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, list[Was]]:
        """Return the text with marks in the value's places; the residue is what stood there."""
        source = held(source)
        nodes = self._nodes(source)
        values = {text_of(node.value) for node in nodes}
        if not values:
            raise DamagedError(
                f"There is no {self.spec.bound} at {' or '.join(self.spec.at)}, where one belongs."
            )
        if len(values) > 1:
            told = ", ".join(sorted(values)[:4])
            raise DamagedError(
                f"It is not plain whose it is: its places name more than one {self.spec.bound} "
                f"({told})."
            )
        value = nodes[0].value
        whose = value if isinstance(value, int) else text_of(value)
        found.bound[self.spec.bound] = whose
        found.headers[self._key] = {"places": len(nodes), "value": whose}
        was = spelled_in(source, nodes)
        marked = with_values(self.form, source, [(node, self._mark(node)) for node in nodes])
        return marked, was

    def wrap(self, inside: Payload, whole: Payload, residue: Any, known: Known) -> Payload:
        """Return the text with the target's value where the marks stand."""
        value = known.fields.get(self.spec.bound)
        if value is None and self.spec.kept and isinstance(residue, _Kept):
            value = residue.value
        if value is None:
            raise RefusedError(f"The target's {self.spec.bound} is not known, and must be written.")
        return StreamPayload(lambda: self._written(inside, residue, value))

    @property
    def _key(self) -> str:
        return f"identity {self.spec.bound}"

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> _Kept | None:
        """Return whose it was where the text comes from."""
        own = headers.get(self._key)
        return _Kept(own["value"]) if own is not None else None

    def _written(self, inside: Payload, residue: Any, value: Value) -> Iterator[bytes]:
        inside = held(inside)
        nodes = self._nodes(inside)
        new: list[tuple[Node, Single | bytes]] = [(one, _typed(one, value)) for one in nodes]
        if isinstance(residue, list) and len(residue) == len(new):
            new = [(node, was.spelled if text_of(was.node.value) == text_of(put) else put)
                   for (node, put), was in zip(new, residue, strict=True)]  # fmt: skip
        yield from with_values(self.form, inside, new).chunks()

    def _mark(self, node: Node) -> Single:
        return 0 if isinstance(node.value, int) else f"@{self.spec.bound}"

    def _nodes(self, source: Payload) -> list[Node]:
        """Return the values at all places, each once, in order."""
        every = each_in(self.form, source, self.spec.at)
        return [node for node in every if _is_name(node.value)]


def _is_name(value: Single) -> bool:
    return isinstance(value, str | int) and not isinstance(value, bool)


def _typed(node: Node, value: Value) -> Single:
    """Return a value as what stands at a node: a number, where one does."""
    if not isinstance(node.value, int):
        return str(value)
    if not str(value).isdecimal():
        raise RefusedError(f"{value!r} must stand as a number.")
    return int(value)
