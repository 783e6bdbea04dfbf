"""Values of fields that nobody knows and any will do, out of random bytes."""

from __future__ import annotations

import uuid
from typing import TYPE_CHECKING

from clever_ferry.layouts.spec import BytesSpec, FieldSpec, IdentifierSpec, NumberSpec

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["made", "parsed", "random_bytes"]


def random_bytes(spec: FieldSpec) -> int:
    """Return of how many random bytes a field can be made; 0 where it can't."""
    if isinstance(spec, NumberSpec) and spec.kind[0] in "ui":
        return int(spec.kind[1:]) // 8
    if isinstance(spec, BytesSpec) and isinstance(spec.size, int):
        return spec.size
    return 16 if isinstance(spec, IdentifierSpec) else 0


def made(spec: FieldSpec, random: Callable[[int], bytes]) -> int | bytes | str:
    """Return a value for a field that can be made; signed numbers are not below zero.

    >>> from clever_ferry.model import tagged
    >>> made(tagged(NumberSpec, "i16")(name="n"), lambda count: b"\\xff" * count)
    32767
    """
    raw = random(random_bytes(spec))
    if isinstance(spec, NumberSpec):
        return int.from_bytes(raw) >> (spec.kind[0] == "i")
    return str(uuid.UUID(bytes=raw)) if isinstance(spec, IdentifierSpec) else raw


def parsed(spec: FieldSpec, text: str) -> int | float | bytes | str:
    """Return what a user has stated for a field; raises ValueError where it is none."""
    if isinstance(spec, NumberSpec):
        return float(text) if spec.kind[0] == "f" else int(text)
    return bytes.fromhex(text) if isinstance(spec, BytesSpec) else text
