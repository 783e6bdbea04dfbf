"""What every layer offers."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Protocol

from clever_ferry.layers.found import Found
from clever_ferry.naming import Value
from clever_ferry.payload import Payload

__all__ = ["Layer"]


class Layer(Protocol):
    """One reversible wrapping, read and written by one definition."""

    @property
    def bound(self) -> frozenset[str]:
        """The name fields that it repeats."""

    def peel(self, source: Payload, found: Found) -> tuple[Payload, Any]:
        """Return what is within, and the residue that dressing may need."""

    def dress(
        self, inside: Payload, whole: Payload, residue: Any, fields: Mapping[str, Value]
    ) -> Payload:
        """Put it on; `whole` is the innermost payload, `residue` None where there is none."""
