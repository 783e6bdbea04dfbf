"""What unwrapping finds beside the payload."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from msgspec import Struct, field

from clever_ferry.certainty import Evidence
from clever_ferry.errors import DamagedError
from clever_ferry.layers.known import UNKNOWN, Known
from clever_ferry.layouts import Layout, start_digest
from clever_ferry.layouts.spec import ComputedSpec
from clever_ferry.payload import Payload

__all__ = ["Check", "Checked", "Found", "Stated"]


class Check(Struct, frozen=True, gc=False):
    """A size or checksum that a header states of other bytes."""

    layout: str
    field: str
    spec: ComputedSpec
    right: int | bytes
    front: bytes = b""
    """Bytes of the layout itself that count first."""


class Stated(Struct, frozen=True, gc=False):
    """What a header states of some bytes; it is looked up when these are read, if ever."""

    layout: Layout
    computed: tuple[tuple[str, ComputedSpec], ...]
    values: Mapping[str, Any]
    raw: bytes
    """The header itself."""

    def checks(self) -> list[Check]:
        """Return its checks, one by one."""
        layout = self.layout
        return [
            Check(layout.name, own, spec, self.values[own], layout.counted(self.raw, own, spec.of))
            for own, spec in self.computed
        ]


class Found(Struct, gc=False):
    """Collected while the layers of one piece are unwrapped, the outermost first."""

    bound: dict[str, int | str] = field(default_factory=dict)
    """What headers say of name fields: field name -> number, or hex digits."""
    of_stages: dict[str, list[Stated]] = field(default_factory=dict)
    """What headers say of bytes further within, by stage; `payload` is the innermost."""
    at: dict[str, Payload] = field(default_factory=dict)
    """The bytes at each named stage."""
    claims: list[Any] = field(default_factory=list)
    """What is said of other pieces' bytes."""
    headers: dict[str, Mapping[str, Any]] = field(default_factory=dict)
    """What headers say, by layout: for a wrapping elsewhere that has the same layout."""
    known: Known = UNKNOWN
    """What is known of where they are."""
    evidence: list[Callable[[], Evidence]] = field(default_factory=list)
    """What reading the payload to its end establishes, layer by layer."""

    def checked(self, stage: str, payload: Payload) -> Payload:
        """Return the bytes of a stage, checked by what was said of them further out."""
        if stated := self.of_stages.pop(stage, None):
            payload = Checked(payload, tuple(stated))
        if stage != "payload":
            self.at[stage] = payload
        return payload


class Checked(Struct, frozen=True, gc=False):
    """A payload whose reading ends with checks; DamagedError where one fails."""

    inner: Payload
    stated: tuple[Stated, ...]

    @property
    def checks(self) -> list[Check]:
        """The checks, one by one."""
        return [check for one in self.stated for check in one.checks()]

    @property
    def size(self) -> int | None:
        """The size, as stated where it is stated."""
        for check in self.checks:
            if check.spec.what == "size" and isinstance(check.right, int):
                return check.right - check.spec.plus
        return self.inner.size

    def chunks(self) -> Iterator[bytes]:
        """Yield the bytes and check them at their end."""
        checks = self.checks
        running = [
            (check, start_digest(check.spec.what, check.spec.seed, check.spec.xor))
            for check in checks
        ]
        for check, digest in running:
            digest.update(check.front)
        total, most = 0, self.size if any(c.spec.what == "size" for c in checks) else None
        for chunk in self.inner.chunks():
            total += len(chunk)
            if most is not None and total > most:
                raise DamagedError(f"There are more bytes than the {most:,} that the header says.")
            for _, digest in running:
                digest.update(chunk)
            yield chunk
        for check, digest in running:
            found = digest.value
            if isinstance(found, int):
                found += check.spec.plus if check.spec.what == "size" else 0
            if found != check.right:
                raise _mismatch(check, found)


def _mismatch(check: Check, found: int | bytes) -> DamagedError:
    if check.spec.what == "size":
        headers = f"{check.right!r} bytes, but there are {found!r} of them"
    else:
        headers = f"the {check.spec.what} {_shown(check.right)}, but the bytes give {_shown(found)}"
    return DamagedError(f"The header says ({check.layout}/{check.field}) {headers}.")


def _shown(value: int | bytes) -> str:
    return value.hex() if isinstance(value, bytes) else f"{value:#x}"
