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

from clever_ferry.documents.document import each_in, form_of, held, with_splices, with_values
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
    source = held(_edited(kind, source, rows, edits))
    (own,) = kind.find(source, [steps_of(rows)])
    names = _names(kind, source, rows, own)
    raw = b"".join(source.chunks())
    found = []
    for at in wanted:
        node = own[at]
        start, end = node.first, node.last
        if raw[start : start + 1] != b"<":  # its name stands before it, and is written anew
            start, end = node.start, node.end
        found.append(TakenRow(names[at], raw[start:end]))
    return found


def grown(form: Form | str, source: Payload, rows: str, growth: Growth) -> Payload:
    """Return a document with fewer and with more like rows, and other values in those that stay.

    Raises as `rows_out_of`.
    """
    kind = _kind(form)
    if isinstance(kind, Growing):
        return kind.grow(source, rows, growth.gone, growth.edits,
                         [row.spelled for row in growth.added])  # fmt: skip
    source = held(_edited(kind, source, rows, growth.edits))
    if growth.gone:
        (own,) = kind.find(source, [steps_of(rows)])
        nodes = [own[at] for at in sorted(growth.gone)]
        source = held(with_splices(source, kind.remove(source, steps_of(rows), nodes)))
    if growth.added:
        assert isinstance(kind, Joining)
        above = each_in(kind, source, [rows.rpartition("/")[0]])
        if len(above) != 1:
            raise RefusedError(f"Rows can't be added at {rows}: there is not one place for them.")
        news = [(row.name, row.spelled) for row in growth.added]
        source = with_splices(source, [kind.join(source, above[0], news)])
    return source


def _kind(form: Form | str) -> Form:
    kind = form_of(form) if isinstance(form, str) else form
    if not isinstance(kind, Growing | Joining):
        raise UnsupportedError(f"Rows of {kind.title} can't be carried one by one.")
    return kind


def _edited(form: Form, source: Payload, rows: str, edits: Edits) -> Payload:
    """Return a document with other values at places in its rows."""
    places = sorted({at for own in edits.values() for at in own})
    if not places:
        return source
    found = form.find(source, [steps_of(rows), *(steps_of(rows + at) for at in places)])
    begins = [node.first for node in found[0]]
    if begins != sorted(begins) or any(node.start < 0 for nodes in found for node in nodes):
        raise UnsupportedError(f"Rows of {form.title} can't be changed here.")
    values = []
    for at, nodes in zip(places, found[1:], strict=True):
        cells: dict[int, Node] = {}
        for node in nodes:
            cells.setdefault(bisect(begins, max(node.start, node.first)) - 1, node)
        for row, own in edits.items():
            if at not in own:
                continue
            if row not in cells:
                raise RefusedError(f"Nothing stands at {at} in row {row + 1} of {rows}.")
            values.append((cells[row], own[at]))
    return with_values(form, source, values)


def _names(form: Form, source: Payload, rows: str, own: Sequence[Node]) -> list[str]:
    """Return what rows are called: by their places' last step, or in what holds them."""
    above, _, last = rows.rpartition("/")
    if last != "*":
        return [str(steps_of(rows)[-1])] * len(own)
    names = [name for node in each_in(form, source, [above]) for name in node.names]
    return names if len(names) == len(own) else [""] * len(own)
