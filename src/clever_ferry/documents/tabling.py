"""Like elements of a document as rows, and values in them as columns."""

from __future__ import annotations

from bisect import bisect
from collections.abc import Sequence
from typing import Any, Protocol, runtime_checkable

from clever_ferry.documents.document import form_of, json_bytes, json_in
from clever_ferry.documents.form import First, Form, Passing
from clever_ferry.documents.nodes import Node, Single, nodes_at
from clever_ferry.documents.places import steps_of, values_at
from clever_ferry.documents.tabled import Columns
from clever_ferry.payload import Payload

__all__ = ["MOST_ROWS", "Columns", "Tabular", "columns_in"]

MOST_ROWS = 2_000_000
"""So many rows of a table are read; what is beyond is told."""
_MOST_NODES = 1_000_000
"""So many values are held at a time, where each is held with where it stands."""


@runtime_checkable
class Tabular(Protocol):
    """A form that reads rows quicker than place by place."""

    def columns(
        self, source: Payload, rows: str, columns: Sequence[str | None], most: int
    ) -> Columns | None:
        """Do what `columns_in` does; None where these places are not of the kind that it can."""


def columns_in(
    form: Form | str,
    source: Payload,
    rows: str,
    columns: Sequence[str | None],
    most: int = MOST_ROWS,
) -> Columns:
    """Return what stands at places (`columns`) in each of the elements at `rows`.

    A column that is None is the element's own name. Raises DamagedError where the bytes are no such
    document.
    """
    if form == "json":
        return _json_rows(source, rows, columns, most) or _in_json(
            json_in(source), rows, columns, most
        )
    kind = form_of(form) if isinstance(form, str) else form
    if isinstance(kind, Tabular):
        found = kind.columns(source, rows, columns, most)
        if found is not None:
            return found
    above, _, last = rows.rpartition("/")
    keyed = None in columns and last == "*"
    asked = [rows, *(rows + at for at in columns if at is not None), *([above] if keyed else ())]
    steps = [steps_of(place) for place in asked]
    firsts: list[First] = []
    if isinstance(kind, Passing):
        share = _MOST_NODES // len(asked)
        firsts = kind.first(source, steps, share + 1)
        nodes, count = [one.nodes for one in firsts], firsts[0].every
        most = min(most, share)
    else:
        nodes = kind.find(source, steps)
        count = len(nodes[0])
    own, inner = nodes[0], iter(nodes[1:])
    named = steps_of(rows)[-1:]  # like elements have one name, which is that of the place
    names = (
        [name for one in nodes[-1] for name in one.names]
        if keyed
        else ([str(named[0])] * len(own) if named and isinstance(named[0], str) else [])
    )
    if any(node.path for one in nodes for node in one):
        return _by_path(len(steps_of(rows)), own, [None if at is None else next(inner)
                                                   for at in columns], names, most)  # fmt: skip
    if any(node.inner for node in own):
        return _in_tree(own, columns, names, most)
    own = sorted(own, key=lambda node: node.first)
    begins = [node.first for node in own]
    end = max((own[-1].end, own[-1].last)) if own else 0
    if firsts:  # rows whose values are not all held are only counted
        lasts = [one.nodes[-1] for one in firsts[1:] if one.every > len(one.nodes)]
        most = min([most, *(bisect(begins, max(one.start, one.first)) - 1 for one in lasts)])
    values, several = [], []
    for at in columns:
        if at is None:
            keys: list[Single] = list(names) if len(names) == len(own) else [None] * len(own)
            values.append(keys[:most])
            several.append(0)
            continue
        cells: list[Single] = [None] * min(len(own), most)
        seen: set[int] = set()
        doubled: set[int] = set()
        for node in next(inner):
            if node.start >= end:
                break  # of rows that are only counted
            row = bisect(begins, max(node.start, node.first)) - 1
            if row in seen:
                doubled.add(row)
            elif 0 <= row < len(cells):
                seen.add(row)
                cells[row] = node.value if node.inner is None else None
        values.append(cells)
        several.append(len(doubled))
    return Columns(count, values, several)


def _in_tree(
    own: Sequence[Node], columns: Sequence[str | None], names: Sequence[str], most: int
) -> Columns:
    """Do so where nodes have in them what is within."""
    values, several = [], []
    for at in columns:
        cells: list[Single] = list(names[:most]) if len(names) == len(own) else [None] * len(own)
        doubled = 0
        if at is not None:
            steps = steps_of(at) if at else ()
            found = [nodes_at(node, steps) for node in own[:most]]
            doubled = sum(len(nodes) > 1 for nodes in found)
            cells = [nodes[0].value if nodes else None for nodes in found]
        values.append(cells[:most])
        several.append(doubled)
    return Columns(len(own), values, several)


def _by_path(
    depth: int, own: Sequence[Node], columns: Sequence[Sequence[Node] | None],
    names: Sequence[str], most: int,
) -> Columns:  # fmt: skip
    """Do so where nodes say by names and numbers where they stand."""
    rows: dict[tuple[str | int, ...], int] = {}
    for node in (*own, *(node for column in columns for node in column or ())):
        rows.setdefault(node.path[:depth], len(rows))
    values, several = [], []
    for column in columns:
        cells: list[Single] = [None] * min(len(rows), most)
        if column is None and len(names) == len(rows):
            cells = list(names[:most])
        seen: set[int] = set()
        doubled = 0
        for node in column or ():
            row = rows[node.path[:depth]]
            doubled += row in seen
            if row not in seen and row < len(cells):
                cells[row] = node.value
            seen.add(row)
        values.append(cells)
        several.append(doubled)
    return Columns(len(rows), values, several)


def _json_rows(
    source: Payload, rows: str, columns: Sequence[str | None], most: int
) -> Columns | None:
    """Do what `_in_json` does for objects in a list, with only what is asked for in memory."""
    *path, last = rows.split("/")[1:] or [""]
    plain = [at[1:] for at in columns if at is not None and at[:1] == "/"]
    if last != "*" or len(plain) < len(columns) or not all(map(str.isidentifier, (*path, *plain))):
        return None
    from clever_ferry.documents.json_text import rows_in_json

    found = rows_in_json(json_bytes(source), path, plain, most)
    return None if found is None else Columns(found[0], found[1], [0] * len(plain))


def _in_json(top: Any, rows: str, columns: Sequence[str | None], most: int) -> Columns:
    own = values_at(top, rows)
    above, _, last = rows.rpartition("/")
    holders = values_at(top, above) if last == "*" else []
    names = [name for one in holders if isinstance(one, dict) for name in one]
    values, several = [], []
    for at in columns:
        cells: list[Single] = []
        doubled = 0
        plain = at[1:] if at is not None and at[:1] == "/" and at[1:].isidentifier() else None
        if at is None:
            cells = list(names[:most]) if len(names) == len(own) else [None] * len(own[:most])
        for row in own[:most] if at is not None else ():
            if plain is not None and type(row) is dict:
                found = [row[plain]] if plain in row else []
            else:
                found = values_at(row, at or "")
            doubled += len(found) > 1
            value = found[0] if found else None
            cells.append(None if isinstance(value, dict | list) else value)
        values.append(cells)
        several.append(doubled)
    return Columns(len(own), values, several)
