"""Rows that a document loses, and rows of another that it gets: every other byte is as it was.

>>> from clever_ferry.payload import BytesPayload, read_all
>>> old, new = BytesPayload(b'{"cats": [{"no": 7}, {"no": 9}]}'), BytesPayload(b'{"cats": []}')
>>> cats = rows_out_of("json", old, "/cats/*", [1], {1: {"/no": 1}})
>>> read_all(grown("json", new, "/cats/*", Growth(added=cats)), limit=99, what="it")
b'{"cats": [{"no": 1}]}'
"""

from __future__ import annotations

from bisect import bisect
from collections.abc import Collection, Mapping, Sequence
from typing import Any, NamedTuple, Protocol, runtime_checkable

from msgspec import Struct, field

from clever_ferry.documents.document import form_of, held, value_splices, with_splices
from clever_ferry.documents.form import Form, Joining
from clever_ferry.documents.nodes import Node, Single
from clever_ferry.documents.places import steps_of
from clever_ferry.errors import RefusedError, UnsupportedError
from clever_ferry.payload import Payload

__all__ = ["Edits", "Growing", "Growth", "TakenRow", "grown", "rows_out_of"]

Edits = Mapping[int, Mapping[str, Single]]
"""New values by a row's number, counted from 0, and the place in the row."""


class TakenRow(NamedTuple):
    """A row as its document spells it, and what it is called there."""

    name: str
    spelled: Any


class Growth(Struct, frozen=True):
    """What becomes of like rows of a document."""

    gone: Collection[int] = ()
    """Rows that are taken away, counted from 0."""
    edits: Edits = field(default_factory=dict)
    added: Sequence[TakenRow] = ()


@runtime_checkable
class Growing(Protocol):
    """A form that takes and adds rows in a way of its own."""

    def take(self, source: Payload, rows: str, wanted: Sequence[int], edits: Edits) -> list[Any]:
        """Return rows with other values in them, as `grow` takes them."""

    def grow(
        self, source: Payload, rows: str, gone: Collection[int], edits: Edits, added: Sequence[Any]
    ) -> Payload:
        """Return the document with fewer and with more rows; raises RefusedError."""


def rows_out_of(
    form: Form | str, source: Payload, rows: str, wanted: Sequence[int], edits: Edits
) -> list[TakenRow]:
    """Return some of the like rows of a document, with other values at places in them.

    Raises UnsupportedError where the form's rows can't be taken out, RefusedError where a value
    can't be put.
    """
    kind = _kind(form)
    if isinstance(kind, Growing):
        return [TakenRow("", row) for row in kind.take(source, rows, wanted, edits)]
    source = held(source)
    found = _Found(kind, source, rows, edits)
    splices = iter(sorted(value_splices(kind, source, found.values(edits))))
    raw = b"".join(source.chunks())
    waiting = next(splices, None)
    taken: dict[int, bytes] = {}
    for at in sorted(set(wanted)):
        start, end = found.own[at].first, found.own[at].last
        if raw[start : start + 1] != b"<":  # its name stands before it, and is written anew
            start, end = found.own[at].start, found.own[at].end
        parts = []
        while waiting is not None and waiting.start < end:
            parts += [raw[start : waiting.start], waiting.new] if waiting.start >= start else []
            start = max(start, waiting.end)
            waiting = next(splices, None)
        taken[at] = b"".join((*parts, raw[start:end]))
    return [TakenRow(found.name(at), taken[at]) for at in wanted]


def grown(form: Form | str, source: Payload, rows: str, growth: Growth) -> Payload:
    """Return a document with fewer and with more like rows, and other values in those that stay.

    Raises as `rows_out_of`.
    """
    kind = _kind(form)
    if isinstance(kind, Growing):
        return kind.grow(source, rows, growth.gone, growth.edits,
                         [row.spelled for row in growth.added])  # fmt: skip
    source = held(source)
    found = _Found(kind, source, rows, growth.edits)
    splices = value_splices(kind, source, found.values(growth.edits))
    if growth.gone:
        source = held(with_splices(source, splices))
        found = _Found(kind, source, rows, {})
        nodes = [found.own[at] for at in sorted(growth.gone)]
        source = held(with_splices(source, kind.remove(source, steps_of(rows), nodes)))
        found, splices = _Found(kind, source, rows, {}), []
    if growth.added:
        assert isinstance(kind, Joining)
        if len(found.above) != 1:
            raise RefusedError(f"Rows can't be added at {rows}: there is not one place for them.")
        news = [(row.name, row.spelled) for row in growth.added]
        splices = [*splices, kind.join(source, found.above[0], news)]
    return with_splices(source, splices)


def _kind(form: Form | str) -> Form:
    kind = form_of(form) if isinstance(form, str) else form
    if not isinstance(kind, Growing | Joining):
        raise UnsupportedError(f"Rows of {kind.title} can't be carried one by one.")
    return kind


class _Found:
    """Like rows of a document, what holds them, and the values in them that are asked for."""

    def __init__(self, form: Form, source: Payload, rows: str, edits: Edits) -> None:
        self._form, self._rows = form, rows
        self._places = sorted({at for own in edits.values() for at in own})
        above, _, self._last = rows.rpartition("/")
        asked = [rows, above, *(rows + at for at in self._places)]
        self.own, self.above, *self._cells = form.find(source, [steps_of(one) for one in asked])
        begins = [node.first for node in self.own]
        if begins != sorted(begins) or any(n.start < 0 for every in self._cells for n in every):
            raise UnsupportedError(f"Rows of {form.title} can't be changed here.")
        self._begins = begins
        names = [name for node in self.above for name in node.names] if self._last == "*" else []
        self._names = names if len(names) == len(self.own) else []

    def name(self, row: int) -> str:
        """Return what a row is called: by its place's last step, or in what holds it."""
        if self._last != "*":
            return str(steps_of(self._rows)[-1])
        return self._names[row] if self._names else ""

    def values(self, edits: Edits) -> list[tuple[Node, Single]]:
        """Return the nodes that get other values; raises RefusedError where nothing stands."""
        found = []
        for at, nodes in zip(self._places, self._cells, strict=True):
            cells: dict[int, Node] = {}
            for node in nodes:
                cells.setdefault(bisect(self._begins, max(node.start, node.first)) - 1, node)
            for row, own in edits.items():
                if at not in own:
                    continue
                if row not in cells:
                    raise RefusedError(f"Nothing stands at {at} in row {row + 1} of {self._rows}.")
                found.append((cells[row], own[at]))
        return found
