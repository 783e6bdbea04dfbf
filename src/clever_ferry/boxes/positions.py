"""Boxes of one file in which every slot has its place: fixed in number, and of one size."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from clever_ferry.boxes.beside import files_beside, written_beside
from clever_ferry.boxes.box import BoxParts, Contents, Entry, Making, Put, one_file
from clever_ferry.boxes.one_file_spec import PositionsSpec
from clever_ferry.documents.places import set_at, value_at
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layers import Chain
from clever_ferry.layouts import Layout
from clever_ferry.naming import Pattern, Value, compile_pattern
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.tree import Files, Output

__all__ = ["PositionsBox"]

_LARGEST = 512 << 20


class _State(Struct, frozen=True):
    """One file as it was read, for writing it again."""

    data: bytes
    residue: tuple[Any, ...]
    front: dict[str, Any]
    first: int


class PositionsBox:
    """One file: a front that says which slots are taken, the slots, and what follows them."""

    @classmethod
    def of(cls, spec: PositionsSpec, parts: BoxParts) -> PositionsBox:
        """Return the box that a recipe says."""
        front = parts.layouts[spec.layout] if spec.layout is not None else None
        head = parts.layouts[spec.used.layout] if spec.used is not None else None
        return cls(spec, front, head, parts.joined(spec.layers))

    def __init__(
        self, spec: PositionsSpec, front: Layout | None, head: Layout | None, chain: Chain
    ) -> None:
        self.spec, self.front, self.head, self.chain = spec, front, head, chain
        self.pattern: Pattern = compile_pattern(spec.name, spec.fields)
        self.blank = bytes([spec.fill]) * spec.size

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return the slots that are taken."""
        spec, file = self.spec, one_file(files, self.spec.file)
        try:
            unwrapped = self.chain.unwrap(file)
            data = read_all(unwrapped.payload, limit=_LARGEST, what=spec.file)
            front, after = self.front.read(data) if self.front is not None else ({}, 0)
            state = _State(data, unwrapped.residue, front, after if spec.first is None
                           else spec.first)  # fmt: skip
            self._refuse_short(state)
            entries = [one for slot in range(spec.count) if (one := self._entry(state, slot))]
        except DamagedError as error:
            raise DamagedError(f"{spec.file} is damaged: {error.what}") from None
        bound = self.front.repeated(front) if self.front is not None else {}
        if spec.beside:
            entries += files_beside(files, enter, lambda path: path == spec.file)
        return Contents(tuple(entries), bound, state, (spec.file,))

    def _refuse_short(self, state: _State) -> None:
        spec = self.spec
        end = state.first + spec.count * spec.size
        if len(state.data) < end:
            raise DamagedError(
                f"{spec.count} slots of {spec.size:,} bytes end at byte {end:,}, and it has "
                f"{len(state.data):,}."
            )

    def _slot(self, state: _State, slot: int) -> bytes:
        at = state.first + slot * self.spec.size
        return state.data[at : at + self.spec.size]

    def _entry(self, state: _State, slot: int) -> Entry | None:
        """Return what is in a slot; None where it is free."""
        raw = self._slot(state, slot)
        if not self._taken(state, slot, raw):
            return None
        used, problem = len(raw), ""
        try:
            used = self._used(state, slot, raw)
        except DamagedError as error:  # of this slot alone
            problem = f"slot {slot + 1} of {self.spec.file}: {error.what.rstrip('.')}"
        if not 0 <= used <= len(raw):
            problem = f"slot {slot + 1} of it uses {used:,} bytes, and has {len(raw):,}"
            used = len(raw)
        name = self.pattern.write(self._named(slot))
        return Entry(name, used, None, BytesPayload(raw[:used]), (self.spec.file,), problem)

    def _named(self, slot: int) -> dict[str, Value]:
        return {"slot": slot + 1}

    def _taken(self, state: _State, slot: int, raw: bytes) -> bool:
        spec = self.spec
        if spec.bits is not None:
            return bool(int(value_at(state.front, spec.bits)) >> slot & 1)
        if spec.flags is not None:
            return bool(value_at(state.front, f"{spec.flags}/{slot}"))
        if spec.starts is not None:
            return raw.startswith(spec.starts.data)
        if spec.sizes is not None:
            return bool(value_at(state.front, f"{spec.sizes}/{slot}"))
        return raw != self.blank

    def _used(self, state: _State, slot: int, raw: bytes) -> int:
        spec = self.spec
        if spec.sizes is not None:
            return int(value_at(state.front, f"{spec.sizes}/{slot}"))
        if self.head is not None and spec.used is not None:
            return int(value_at(self.head.read(raw)[0], spec.used.at)) + spec.used.plus
        return len(raw)

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the file anew; every other slot, and what follows them, is as it was."""
        if self.spec.beside:
            yield from written_beside(puts, removes, self._is_slot, making)
            puts = [put for put in puts if self._is_slot(put.name)]
            removes = [name for name in removes if self._is_slot(name)]
            if not puts and not removes:
                return
        state: _State = contents.state
        data, front = bytearray(state.data), _copied(state.front)
        for name in removes:
            self._set(data, front, state.first, self._number(name), None)
        for put in puts:
            raw = read_all(put.payload, limit=_LARGEST, what=put.name)
            if len(raw) > self.spec.size:
                raise RefusedError(
                    f"{put.name} has {len(raw):,} bytes, and a slot of {self.spec.file} takes "
                    f"{self.spec.size:,}.",
                    advice="This edition has no place for so large a save.",
                )
            self._set(data, front, state.first, self._number(put.name), raw)
        if self.front is not None:
            written = self.front.write(front)
            before = len(self.front.write(state.front))
            if len(written) != before:
                raise RefusedError(f"The front of {self.spec.file} would move all of its slots.")
            data[:before] = written
        whole = self.chain.wrap(BytesPayload(bytes(data)), residue=state.residue)
        yield Output(self.spec.file, whole, making.now)

    def refuse(self, contents: Contents, name: str) -> None:
        """Raise RefusedError where a name is that of no slot here, and of no file beside it."""
        if not self.spec.beside or self._is_slot(name):
            self._number(name)

    def _is_slot(self, name: str) -> bool:
        return isinstance(self.pattern.match(name), dict)

    def _number(self, name: str) -> int:
        values = self.pattern.match(name)
        slot = int(values["slot"]) - 1 if isinstance(values, dict) else -1
        if not 0 <= slot < self.spec.count:
            raise RefusedError(
                f"{self.spec.file} has {self.spec.count} slots, and {name} is none of them."
            )
        return slot

    def _set(
        self, data: bytearray, front: dict[str, Any], first: int, slot: int, raw: bytes | None
    ) -> None:
        spec, size = self.spec, self.spec.size
        if spec.bits is not None:
            bits = int(value_at(front, spec.bits))
            mask = 1 << slot
            set_at(front, spec.bits, bits | mask if raw is not None else bits & ~mask)
        if spec.flags is not None and bool(value_at(front, f"{spec.flags}/{slot}")) != (
            raw is not None
        ):
            set_at(front, f"{spec.flags}/{slot}", int(raw is not None))
        if spec.sizes is not None:
            set_at(front, f"{spec.sizes}/{slot}", len(raw or b""))
        fill = bytes([spec.fill])
        at = first + slot * size
        data[at : at + size] = (raw or b"").ljust(size, fill)


def _copied(value: Any) -> Any:
    """Return nested values anew, so that what was read stays."""
    if isinstance(value, dict):
        return {name: _copied(one) for name, one in value.items()}
    return [_copied(one) for one in value] if isinstance(value, list) else value
