"""Payloads cut into chunks: each with its own header, or with all sizes in a table in front."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import Struct, field

from clever_ferry.documents.places import set_at, value_at
from clever_ferry.errors import DamagedError
from clever_ferry.layers.chain import Chain, Parts, Stages
from clever_ferry.layers.found import Checked, Found, Stated
from clever_ferry.layers.headers import LARGEST_HEADER, compute, evidence_by
from clever_ferry.layers.known import UNKNOWN, Known
from clever_ferry.layers.spec import ChunksSpec
from clever_ferry.layouts import Layout
from clever_ferry.payload import BytesPayload, Payload, StreamPayload, pieces_of, read_all

__all__ = ["Chunks"]

_MOST_CHUNKS = 1 << 20
_ROOM = 64 << 20
"""Bytes of one chunk, packed or not, at the most."""


class _Cuts(Struct):
    """How the payload was cut; known once it was read to its end."""

    known: Known = UNKNOWN
    """What is known of where they are, such as the key of each chunk."""
    plain: list[int] = field(default_factory=list)
    headers: list[dict[str, Any]] = field(default_factory=list)
    table: dict[str, Any] | None = None


class Chunks:
    """Chunks of at most so many bytes of the payload."""

    bound: frozenset[str] = frozenset()

    @property
    def secrets(self) -> set[str]:
        """What only the user can state of what each chunk is wrapped in, by its names."""
        return self.chain.secrets

    @classmethod
    def of(cls, spec: ChunksSpec, parts: Parts) -> Chunks:
        """Return the layer that a recipe says."""
        header = parts.layout(spec.header) if spec.header else None
        table = parts.layout(spec.table) if spec.table else None
        return cls(spec, header, table, parts.joined(spec.layers))

    def __init__(
        self, spec: ChunksSpec, header: Layout | None, table: Layout | None, inner: Chain
    ) -> None:
        self.spec, self.header, self.table, self.chain = spec, header, table, inner
        self.evidence = evidence_by(header) if header is not None else None
        self.size_field = ""
        if header is not None:
            sizes = [
                c.field for c in header.computed if (c.spec.what, c.spec.of) == ("size", "inside")
            ]
            if not sizes:
                raise DamagedError(
                    f"layouts.{header.name}: a chunk's header needs a number that is computed "
                    "as `size` of `inside`."
                )
            self.size_field = sizes[0]

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, _Cuts]:
        """Return the chunks' payloads, joined."""
        if self.evidence is not None:
            found.evidence.append(self.evidence)
        cuts = _Cuts(found.known)
        return StreamPayload(lambda: self._joined(source, cuts)), cuts

    def _joined(self, source: Payload, cuts: _Cuts) -> Iterator[bytes]:
        fresh = _Cuts(cuts.known)
        if self.header is None and self.table is None:
            yield from source.chunks()
            return
        reading = self._by_table(source, fresh) if self.table else self._by_header(source, fresh)
        for chunk in reading:
            fresh.plain.append(len(chunk))
            if len(fresh.plain) > _MOST_CHUNKS:
                raise DamagedError(f"There are more than {_MOST_CHUNKS:,} chunks.")
            yield chunk
        cuts.plain, cuts.headers, cuts.table = fresh.plain, fresh.headers, fresh.table

    def _by_header(self, source: Payload, cuts: _Cuts) -> Iterator[bytes]:
        assert self.header is not None
        reader = _Reader(source)
        while window := reader.ahead(LARGEST_HEADER):
            values, after = self.header.read(window)
            raw = reader.take(after)
            size = values[self.size_field] - _plus(self.header, self.size_field)
            data = reader.take(size)
            cuts.headers.append(values)
            yield self._opened(data, self.header, values, raw, cuts.known)

    def _opened(
        self, data: bytes, layout: Layout, values: Mapping[str, Any], raw: bytes,
        known: Known,
    ) -> bytes:  # fmt: skip
        def stated(*of: str) -> tuple[Stated]:
            wanted = tuple((own, spec) for own, spec in layout.computed if spec.of in of)
            return (Stated(layout, wanted, values, raw),)

        inside = Checked(BytesPayload(data), stated("inside", "onward", "whole"))
        plain = self.chain.unwrap(inside, known).payload
        return read_all(Checked(plain, stated("payload")), limit=_ROOM, what="A chunk")

    def _by_table(self, source: Payload, cuts: _Cuts) -> Iterator[bytes]:
        assert self.table is not None
        reader = _Reader(source)
        cuts.table, after = self.table.read(reader.ahead(16 << 20))
        reader.take(after)
        for number, record in enumerate(value_at(cuts.table, self.spec.at)):
            data = reader.take(record[self.spec.size])
            plain = self.chain.unwrap(BytesPayload(data), cuts.known).payload
            chunk = read_all(plain, limit=_ROOM, what="A chunk")
            if self.spec.plain is not None and record[self.spec.plain] != len(chunk):
                raise DamagedError(
                    f"Chunk {number} has {len(chunk):,} bytes, but the table says "
                    f"{record[self.spec.plain]:,}."
                )
            yield chunk
        if reader.ahead(1):
            raise DamagedError("Bytes are left over after the last chunk.")

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Cut as it was cut before where the size is the same, else as the recipe says."""
        if self.header is None and self.table is None:
            return inside
        cuts = residue if isinstance(residue, _Cuts) else _Cuts()
        return StreamPayload(lambda: self._cut(inside, cuts, known))

    def _cut(self, inside: Payload, cuts: _Cuts, known: Known) -> Iterator[bytes]:
        chunks = self._pieces(inside, cuts)
        if self.table is None:
            assert self.header is not None
            for number, chunk in enumerate(chunks):
                said = cuts.headers[number] if number < len(cuts.headers) else {}
                payload = BytesPayload(chunk)
                packed = self.chain.wrap(payload, known)
                values, body = compute(self.header, packed, {"payload": payload}, said)
                yield self.header.write({**said, **values})
                yield from body.chunks()
            return
        packed_chunks: list[bytes] = []
        records: list[dict[str, Any]] = []
        for chunk in chunks:
            data = read_all(
                self.chain.wrap(BytesPayload(chunk), known), limit=2 * _ROOM, what="A chunk"
            )
            packed_chunks.append(data)
            record = {self.spec.size: len(data)}
            if self.spec.plain is not None:
                record[self.spec.plain] = len(chunk)
            records.append(record)
        table = cuts.table or self.table.blank()
        old = value_at(table, self.spec.at)
        for number, record in enumerate(records):
            if number < len(old):
                records[number] = {**old[number], **record}
        set_at(table, self.spec.at, records)
        yield self.table.write(table)
        yield from packed_chunks

    def _pieces(self, inside: Payload, cuts: _Cuts) -> Iterator[bytes]:
        sizes = cuts.plain if inside.size is None or inside.size == sum(cuts.plain) else []
        reader = _Reader(inside)
        for size in sizes:
            if reader.ahead(1) or size == 0:
                yield reader.take(min(size, len(reader.ahead(size))))
        if not sizes or reader.ahead(1):
            for piece in pieces_of(StreamPayload(reader.rest), self.spec.most):
                if piece:
                    yield piece


def _plus(layout: Layout, name: str) -> int:
    return next(c.spec.plus for c in layout.computed if c.field == name)


class _Reader:
    """A payload read forward, with a look ahead."""

    def __init__(self, source: Payload) -> None:
        self._chunks, self._held = source.chunks(), b""

    def ahead(self, count: int) -> bytes:
        """Return up to `count` bytes that come next, without taking them."""
        parts, total = [self._held], len(self._held)
        while total < count:
            chunk = next(self._chunks, None)
            if chunk is None:
                break
            parts.append(chunk)
            total += len(chunk)
        self._held = b"".join(parts)
        return self._held[:count]

    def take(self, count: int) -> bytes:
        """Return the next `count` bytes; they must be there."""
        if not 0 <= count <= 2 * _ROOM:
            raise DamagedError(f"A chunk of {count:,} bytes is larger than any chunk is.")
        data = self.ahead(count)
        if len(data) < count:
            raise DamagedError(f"{count:,} bytes should follow, but {len(data):,} are left.")
        self._held = self._held[count:]
        return data

    def rest(self) -> Iterator[bytes]:
        """Yield all that is left."""
        if self._held:
            yield self._held
        self._held = b""
        yield from self._chunks
