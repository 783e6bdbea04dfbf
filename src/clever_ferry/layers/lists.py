"""Lists: a document that has a line for each of its save's files, with its name, size or digest.

What is carried has one such line, with nothing in it, however many files there are; at the target
there is one for each file that is written. What else stands in a line goes along with its file.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import pairwise
from typing import Any, NamedTuple

from msgspec.structs import replace

from clever_ferry.documents.document import nodes_in
from clever_ferry.documents.form import Form
from clever_ferry.documents.nodes import Node
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layers.agreements import AGREED, Claim, read_value, spelled_value
from clever_ferry.layers.chain import Parts, Stages
from clever_ferry.layers.document_spec import AgreementSpec, ListsSpec
from clever_ferry.layers.found import Found
from clever_ferry.layers.known import Known, Written
from clever_ferry.payload import BytesPayload, Payload, StreamPayload, read_all

__all__ = ["ListClaim", "Lists", "Unlisted"]

_MOST = 16 << 20


class _Line(NamedTuple):
    """A line as it is spelled, where in it each value stands, and what these say."""

    raw: bytes
    nodes: tuple[Node, ...]
    """Their positions count from the line's start."""
    values: tuple[int | str, ...]
    name: str


class _Rows(NamedTuple):
    lines: tuple[_Line, ...]
    between: tuple[bytes, ...]
    """What stands behind each line but the last one."""


class Unlisted(NamedTuple):
    """That a list does not name a piece that it should."""

    spec: AgreementSpec

    def fault(self, payload: Payload) -> str:
        """Say so."""
        return f"does not name it in its list at {self.spec.at}"


class ListClaim(NamedTuple):
    """What a list says of the files of its save."""

    spec: ListsSpec
    agreements: tuple[AgreementSpec | None, ...]
    rows: Mapping[str, Sequence[int | str]]
    """By a file's name, in the order of the list's values."""

    def about(self, role: str, entry: str) -> list[Claim | Unlisted]:
        """Return what it says of one piece."""
        if role not in self.spec.of:
            return []
        row = self.rows.get(self.spec.name_of(entry))
        if row is None:
            return [Unlisted(AgreementSpec(at=self.spec.at, piece=role, what="size"))]
        return [
            Claim(replace(spec, piece=role), value)
            for spec, value in zip(self.agreements, row, strict=True)
            if spec is not None
        ]

    def lacking(self, entries: Sequence[str]) -> list[str]:
        """Return the files that it names and that are none of these."""
        there = {self.spec.name_of(entry) for entry in entries}
        return [name for name in self.rows if name not in there]


class Lists:
    """One list in a document."""

    bound: frozenset[str] = frozenset()

    @classmethod
    def of(cls, spec: ListsSpec, parts: Parts) -> Lists:
        """Return the layer that a recipe says."""
        return cls(spec, parts.form(spec.holds))

    def __init__(self, spec: ListsSpec, form: Form) -> None:
        self.spec, self.form = spec, form
        self.needs = frozenset(spec.of)
        self._places = [spec.at, *(f"{spec.at}{one.at}" for one in spec.values)]
        self._agreements = spec.agreements()
        self._named = next(at for at, one in enumerate(spec.values) if one.names)
        self._key = f"{AGREED} list at {' '.join(self._places)}"

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, _Rows]:
        """Return the document with one line in which nothing stands; the residue is the list."""
        raw, rows, span = self._read(source, said=True)
        told: dict[str, Sequence[int | str]] = {}
        for line in rows.lines:
            if line.name in told:
                raise DamagedError(f"Its list at {self.spec.at} names {line.name!r} twice.")
            told[line.name] = line.values
        found.claims.append(ListClaim(self.spec, self._agreements, told))
        count = len(rows.lines) * len(self.spec.values)
        found.headers[self._key] = {"places": count, "rows": rows}
        return self._emptied(raw, rows, span), rows

    def blanked(self, source: Payload) -> Payload:
        """Return a document that nobody has filled in yet as one that was taken apart."""
        return self._emptied(*self._read(source, said=False))

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> _Rows | None:
        """Return the list as it is where the document comes from."""
        rows: _Rows | None = headers.get(self._key, {}).get("rows")
        return rows

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the document with a line for each file that is written."""
        return StreamPayload(lambda: self._written(inside, residue, known))

    def _written(self, inside: Payload, residue: _Rows | None, known: Known) -> Iterator[bytes]:
        raw, own, span = self._read(inside, said=False)
        rows = residue if residue is not None else own
        if known.writing is None:  # nothing is carried: it is put together as it was taken apart
            lines = [line.raw for line in rows.lines]
        else:
            pieces = known.writing.pieces(self.spec.of)
            lines = self._lines(rows, pieces, BytesPayload(raw))
        last = rows.between[-1] if rows.between else self.spec.between.encode()
        between = [*rows.between, *[last] * len(lines)]
        made = b"".join(
            line + (between[at] if at + 1 < len(lines) else b"") for at, line in enumerate(lines)
        )
        yield raw[: span[0]] + made + raw[span[1] :]

    def _lines(self, rows: _Rows, pieces: Sequence[Written], within: Payload) -> list[bytes]:
        """Return a line for each piece, in the order in which the source has them."""
        if not pieces:
            raise RefusedError(
                f"None of the files that the list at {self.spec.at} is of is written."
            )
        places = {line.name: at for at, line in enumerate(rows.lines)}
        lines: list[tuple[int, bytes]] = []
        for piece in pieces:
            at = places.get(self.spec.name_of(piece.was), len(rows.lines))
            like = rows.lines[at] if at < len(rows.lines) else rows.lines[0]
            values = [
                self.spec.name_of(piece.name) if spec is None
                else spelled_value(spec, node, piece.stage(spec.stage))
                for spec, node in zip(self._agreements, like.nodes, strict=True)
            ]  # fmt: skip
            lines.append((at, self._filled(like, values, within)))
        return [line for _, line in sorted(lines, key=lambda one: one[0])]

    def _filled(self, line: _Line, values: Sequence[Any], source: Payload) -> bytes:
        """Return a line with other values, as it would stand in a document."""
        raw = line.raw
        nodes = sorted(zip(line.nodes, values, strict=True), key=lambda one: -one[0].start)
        for node, value in nodes:
            if value != node.value:
                old = raw[node.start : node.end]
                raw = raw[: node.start] + self.form.put(source, node, old, value) + raw[node.end :]
        return raw

    def _emptied(self, raw: bytes, rows: _Rows, span: tuple[int, int]) -> Payload:
        first = rows.lines[0]
        blank = self._filled(first, [self._blank(node) for node in first.nodes], BytesPayload(raw))
        return BytesPayload(raw[: span[0]] + blank + raw[span[1] :])

    @staticmethod
    def _blank(node: Node) -> int | str:
        number = isinstance(node.value, int | float)
        return 0 if number else "no_line"  # free: any; this needs no quotes anywhere

    def _read(self, source: Payload, *, said: bool) -> tuple[bytes, _Rows, tuple[int, int]]:
        """Return the document, its list, and where that stands; raises DamagedError.

        With `said`, what its values say is read, too.
        """
        raw = read_all(source, limit=_MOST, what="A document with a list")
        heads, *columns = nodes_in(self.form, BytesPayload(raw), self._places)
        if not heads or any(len(column) != len(heads) for column in columns):
            raise DamagedError(f"There is no list with one of each value at {self.spec.at}.")
        spans = [(one.first, one.last) if one.first >= 0 else (one.start, one.end) for one in heads]
        lines = [
            self._line(raw, span, [column[at] for column in columns], said)
            for at, span in enumerate(spans)
        ]
        between = [raw[one[1] : other[0]] for one, other in pairwise(spans)]
        if any(other[0] < one[1] for one, other in pairwise(spans)):
            raise DamagedError(f"The lines at {self.spec.at} stand within each other.")
        return raw, _Rows(tuple(lines), tuple(between)), (spans[0][0], spans[-1][1])

    def _line(self, raw: bytes, span: tuple[int, int], nodes: Sequence[Node], said: bool) -> _Line:
        begin, end = span
        if any(not begin <= node.start <= node.end <= end or node.inner for node in nodes):
            raise DamagedError(f"A value of the list at {self.spec.at} stands in no line of it.")
        own = tuple(
            replace(
                node, start=node.start - begin, end=node.end - begin, first=node.first - begin,
                last=node.last - begin,
            )
            for node in nodes
        )  # fmt: skip
        values = tuple(
            str(node.value) if spec is None else read_value(spec, node)
            for spec, node in zip(self._agreements, own, strict=True)
            if said
        )
        return _Line(raw[begin:end], own, values, str(own[self._named].value))
