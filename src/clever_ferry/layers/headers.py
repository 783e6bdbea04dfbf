"""Headers as layers: a layout before the bytes, whose sizes and checksums follow the bytes."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import Any

from msgspec import Struct

from clever_ferry.certainty import Evidence
from clever_ferry.documents.places import value_at
from clever_ferry.errors import DamagedError, RefusedError, UnsupportedError
from clever_ferry.layers.chain import Chain, Parts, Stages
from clever_ferry.layers.found import Checked, Found, Stated
from clever_ferry.layers.known import Arrived, Known, Writing
from clever_ferry.layers.spec import AfterSpec, ByTagSpec, FooterSpec, HeaderSpec
from clever_ferry.layouts import Layout, LayoutError, start_digest
from clever_ferry.layouts.spec import ComputedSpec
from clever_ferry.naming import Value
from clever_ferry.payload import (
    BytesPayload,
    JoinedPayload,
    Payload,
    SlicedPayload,
    StreamPayload,
    head,
    tail,
    without_tail,
)
from clever_ferry.wording import bytes_in_words

__all__ = ["LARGEST_HEADER", "After", "ByTag", "Footer", "Header", "compute", "evidence_by"]

LARGEST_HEADER = 1 << 16
_KEPT = 32 << 20
_NO_WAYS: Mapping[str, Sequence[str]] = MappingProxyType({})


class Header:
    """A layout before the bytes."""

    @classmethod
    def of(cls, spec: HeaderSpec, parts: Parts) -> Header:
        """Return the layer that a recipe says."""
        return cls(parts.layout(spec.layout), spec.on_arrival)

    def __init__(self, layout: Layout, on_arrival: Mapping[str, Sequence[str]] = _NO_WAYS) -> None:
        self.layout, self.on_arrival = layout, on_arrival
        self.asked = frozenset(name for name, ways in on_arrival.items() if "given" in ways)
        """What the user may state for it, by its fields' names."""
        self.bound = frozenset(layout.bound.values())
        self._window = layout.size or LARGEST_HEADER
        by_stage: dict[str, list[tuple[str, ComputedSpec]]] = {}
        for own, spec in layout.computed:
            by_stage.setdefault(spec.stage, []).append((own, spec))
        self._stated = [(stage, tuple(each)) for stage, each in by_stage.items()]
        self._evidence = evidence_by(layout)

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, dict[str, Any]]:
        """Return what follows the header, checked by it, and the header's values."""
        window = head(source, self._window)
        values, after = self.layout.read(window)
        inside = SlicedPayload(source, after)
        return self.checked(inside, values, found, window[:after]), values

    def checked(
        self, inside: Payload, values: Mapping[str, Any], found: Found, raw: bytes
    ) -> Payload:
        """Return the bytes with the checks that the values (read from `raw`) state of them."""
        layout = self.layout
        found.headers[layout.name] = values
        if layout.bound:
            found.bound.update(layout.repeated(values))
        for stage, computed in self._stated:
            stated = Stated(layout, computed, values, raw)
            if stage:
                found.of_stages.setdefault(stage, []).append(stated)
            else:
                inside = Checked(inside, (stated,))
        if self._evidence is not None:
            found.evidence.append(self._evidence)
        return inside

    def wrap(
        self,
        inside: Payload,
        stages: Stages,
        residue: Mapping[str, Any] | None,
        known: Known,
    ) -> Payload:
        """Return header and bytes; `residue` gives what the layout neither binds nor computes."""
        values, at = self.values(residue, known), dict(stages)  # as they are by now

        def written() -> Iterator[bytes]:
            computed, body = compute(self.layout, inside, at, values)
            yield self.layout.write({**values, **computed})
            yield from body.chunks()

        return StreamPayload(written)

    def refuse_lacking(self, values: Mapping[str, Any]) -> None:
        """Raise RefusedError where a value is known from nowhere, and can't be computed."""
        computed = dict.fromkeys((one.field for one in self.layout.computed), 0)
        missing = self.layout.lacks({**computed, **values})
        if missing in self.layout.bound:
            name = self.layout.bound[missing]
            raise RefusedError(
                f"The target's {name} is not known, and its header ({self.layout.name}) must "
                "state it.",
                advice=f"State it with --give {name}=VALUE, or name the folder that the game made "
                "for it.",
            )
        if missing in self.asked:
            raise RefusedError(
                f"The target's header ({self.layout.name}) needs its {missing}.",
                advice=f"State it with --give {missing}=VALUE.",
            )
        if missing:
            raise RefusedError(
                f"The target's header ({self.layout.name}) needs its own {missing}, which only its "
                "game makes.",
                advice="Make a throwaway save in that slot with the target's game, then carry "
                "onto it: its header is taken over.",
                in_game="there",
            )

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> dict[str, Any]:
        """Return what a header of the same layout has said where the payload comes from."""
        own = {computed.field for computed in self.layout.computed} | self.layout.bound.keys()
        values = headers.get(self.layout.name, {})
        return {name: value for name, value in values.items() if name not in own}

    def values(self, residue: Mapping[str, Any] | None, known: Known) -> dict[str, Any]:
        """Return the values that are known before the bytes are.

        These are the residue's, the bound, and those that the recipe says where to take from.
        Raises RefusedError where one is known from nowhere.
        """
        values, fields, writing = dict(residue or {}), known.values, known.writing
        for own, field in self.layout.bound.items():
            if field in fields:
                values[own] = self._bound_value(own, fields[field])
        for name, ways in self.on_arrival.items() if writing is not None else ():
            assert writing is not None
            values.pop(name, None)
            found = next(filter(None, (self._by(way, name, known, writing) for way in ways)), None)
            if found is not None:
                values[name] = found.value
                writing.arrived.append(found)
        self.refuse_lacking(values)
        if writing is not None:
            known_ones = self.layout.plain & values.keys()
            plain = {name: self.layout.as_written(name, values[name]) for name in known_ones}
            writing.said.setdefault(self.layout.name, plain)
        return values

    def _by(self, way: str, name: str, known: Known, writing: Writing) -> Arrived | None:
        """Return a field's value by one of the ways that it can come, or None."""
        layout = self.layout.name
        value: Any = None
        if way == "kept":  # from a header of another layout, too, where a field has that name
            others = (one for one in writing.own.values() if name in one)
            value = writing.own.get(layout, next(others, {})).get(name)
        elif way == "adopted":
            value = writing.before.get(layout, {}).get(name)
        elif way == "made" and name in self.layout.times:
            value = writing.now
        elif way == "made" and writing.random is not None:
            random = writing.random
            value = self.layout.made(name, lambda count: random(f"{layout}.{name}", count))
        elif way == "given" and name in known.stated:
            value = self._given(name, known.stated[name])
        is_time = name in self.layout.times
        value = self.layout.as_written(name, value)
        return Arrived(layout, name, value, way, is_time) if value is not None else None

    def _given(self, name: str, text: str) -> Any:
        try:
            return self.layout.parsed(name, text)
        except ValueError:
            raise RefusedError(
                f"{text!r} can't stand as {name} in the header ({self.layout.name})."
            ) from None

    def _bound_value(self, own: str, value: Value) -> int | bytes | str:
        if own in self.layout.texts:
            return str(value)
        try:
            if own in self.layout.numbers:
                return int(value) + self.layout.plus.get(own, 0)
            return bytes.fromhex(str(value))
        except ValueError:
            kind = "number" if own in self.layout.numbers else "hexadecimal text"
            raise LayoutError(self.layout.name, own, 0, f"{value!r} is no {kind}") from None


def evidence_by(layout: Layout) -> Callable[[], Evidence] | None:
    """Return what agrees where bytes are as a header's checksums of them say, if it has any."""
    digests = [one.spec.what for one in layout.computed if one.spec.what != "size"]
    if not digests:
        return None
    evidence = Evidence("verified", ", ".join(dict.fromkeys(digests)))
    return lambda: evidence


def compute(
    layout: Layout, inside: Payload, stages: Mapping[str, Payload], headers: Mapping[str, Any]
) -> tuple[dict[str, int | bytes], Payload]:
    """Reckon the computed fields; returns them and the inside, kept if it is small.

    `headers` are the layout's other values, `stages` the bytes further within.
    """
    values: dict[str, int | bytes] = {}
    spoken = dict.fromkeys(spec.stage for _, spec in layout.computed if spec.stage)
    for of, payload in (("", inside), *((stage, stages[stage]) for stage in spoken)):
        running = [
            (name, spec, start_digest(spec.what, spec.seed, spec.xor))
            for name, spec in layout.computed
            if (spec.stage == of if of else spec.of == "inside")
        ]
        if not running:
            continue
        kept: list[bytes] = []
        total = 0
        for chunk in payload.chunks():
            for _, _, digest in running:
                digest.update(chunk)
            total += len(chunk)
            if total <= _KEPT:
                kept.append(chunk)
        for name, spec, digest in running:
            value = digest.value
            if isinstance(value, int) and spec.what == "size":
                value += spec.plus
            values[name] = value
        if not of and total <= _KEPT:
            inside = BytesPayload(b"".join(kept))
    # What speaks of the layout, too, comes after what it speaks of: the last field of it first.
    onward = [one for one in reversed(layout.computed) if one.spec.of == "onward"]
    for name, spec in [*onward, *(one for one in layout.computed if one.spec.of == "whole")]:
        digest = start_digest(spec.what, spec.seed, spec.xor)
        known = {**layout.zeros, **headers, **values}
        digest.update(layout.counted(layout.write(known), name, spec.of))
        for chunk in inside.chunks():
            digest.update(chunk)
        values[name] = digest.value
    return values, inside


class ByTag:
    """A header, one of whose values names the layers within."""

    @classmethod
    def of(cls, spec: ByTagSpec, parts: Parts) -> ByTag:
        """Return the layer that a recipe says."""
        chains = {tag: parts.joined(names) for tag, names in spec.of.items()}
        return cls(spec, parts.layout(spec.layout), chains)

    def __init__(self, spec: ByTagSpec, layout: Layout, chains: Mapping[str, Chain]) -> None:
        self.header, self.spec, self.chains = Header(layout), spec, chains
        self.bound = self.header.bound.union(*(chain.bound for chain in chains.values()))

    def _inner(self, values: Mapping[str, Any]) -> Chain:
        tag = value_at(dict(values), self.spec.tag)
        if str(tag) not in self.chains:
            known = ", ".join(sorted(self.chains))
            raise UnsupportedError(f"The wrapping {str(tag)!r} is not known; known are {known}.")
        return self.chains[str(tag)]

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> Any:
        """Return what was said, with the usual tag where there is one."""
        values = self.header.recall(headers)
        if self.spec.usual is not None:
            values[self.spec.tag.lstrip("/")] = self.spec.usual
        return (values, self._inner(values).recalled(headers)) if values else None

    @property
    def secrets(self) -> set[str]:
        """What only the user can state of the layers within, of any tag, by its names."""
        return set().union(*(chain.secrets for chain in self.chains.values()))

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, Any]:
        """Return the innermost payload and, as residue, the header's and the layers' own."""
        inside, values = self.header.unwrap(source, found)
        payload, residue = self._inner(values).unwrap_into(inside, found)
        return payload, (values, residue)

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Wrap by the residue's tag, or by the usual one where there is none."""
        values, inner = residue or self.recall({}) or ({}, None)
        wrapped = self._inner(values).wrap_into(inside, stages, known, inner)
        return self.header.wrap(wrapped, stages, values, known)


class Footer:
    """A layout of fixed size after the bytes."""

    @classmethod
    def of(cls, spec: FooterSpec, parts: Parts) -> Footer:
        """Return the layer that a recipe says."""
        return cls(Header(parts.layout(spec.layout), spec.on_arrival), spec.size)

    def __init__(self, header: Header, size: int) -> None:
        self.header, self.size = header, size
        self.bound, self.asked = header.bound, header.asked

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> dict[str, Any]:
        """Return what a footer of the same layout has said where the payload comes from."""
        return self.header.recall(headers)

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, Any]:
        """Return what stands before the footer, checked by it, and the footer's values."""
        last = tail(source, self.size)
        if len(last) < self.size:
            raise DamagedError(
                f"A footer of {self.size} bytes should follow; {len(last)} are left."
            )
        values, after = self.header.layout.read(last)
        if after != self.size:
            raise DamagedError(f"The footer {self.header.layout.name} has {after} bytes.")
        size = None if source.size is None else source.size - self.size
        inside: Payload = StreamPayload(lambda: without_tail(source, self.size, []), size)
        return self.header.checked(inside, values, found, last), values

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the bytes and the footer."""
        values, at = self.header.values(residue, known), dict(stages)

        def written() -> Iterator[bytes]:
            computed, body = compute(self.header.layout, inside, at, values)
            yield from body.chunks()
            yield self.header.layout.write({**values, **computed})

        return StreamPayload(written)


class _Before(Struct, frozen=True):
    """What stands before the first place of a mark; read again whenever it is asked for."""

    source: Payload
    marker: bytes

    def chunks(self) -> Iterator[bytes]:
        """Yield it; raises UnsupportedError where the mark is nowhere."""
        for chunk, before in _cut(self.source, self.marker):
            if not before:
                return
            yield chunk


def _cut(source: Payload, marker: bytes) -> Iterator[tuple[bytes, bool]]:
    """Yield what comes before the first place of a mark (True), then all from it on (False)."""
    held, chunks = b"", source.chunks()
    for chunk in chunks:
        held += chunk
        at = held.find(marker)
        if at >= 0:
            if at:
                yield held[:at], True
            yield held[at:], False
            yield from ((rest, False) for rest in chunks)
            return
        sure = max(0, len(held) - len(marker) + 1)
        if sure:
            yield held[:sure], True
        held = held[sure:]
    raise UnsupportedError(f"the mark {bytes_in_words(marker)} is nowhere in it.")


class After:
    """What follows a mark, or begins with it; what comes before is kept for writing."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: AfterSpec) -> None:
        self.marker, self.keep = spec.data, spec.keep
        self._key = f"before {spec.data.hex()}"

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, _Before]:
        """Return what follows the first mark; reading raises UnsupportedError without one."""
        before = _Before(source, self.marker)
        found.headers[self._key] = {"before": before}
        return StreamPayload(lambda: self._after(source)), before

    def _after(self, source: Payload) -> Iterator[bytes]:
        skip = 0 if self.keep else len(self.marker)
        for chunk, before in _cut(source, self.marker):
            if not before:
                yield chunk[skip:]
                skip = 0

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> _Before | None:
        """Return what stands before the same mark where the payload comes from."""
        return headers.get(self._key, {}).get("before")

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Put what stood before back in front; raises RefusedError where nothing is known of it."""
        if not isinstance(residue, _Before):
            raise RefusedError(
                f"What stands before {bytes_in_words(self.marker)} in the target is not known.",
                advice="Make a throwaway save in that slot with the target's game, then carry "
                "onto it: what stands there is taken over.",
                in_game="there",
            )
        marker = BytesPayload(b"" if self.keep else self.marker)
        return JoinedPayload((StreamPayload(residue.chunks), marker, inside))
