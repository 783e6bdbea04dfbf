"""What every layer offers."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable

from clever_ferry.layers.found import Found
from clever_ferry.naming import Value
from clever_ferry.payload import Payload

if TYPE_CHECKING:
    from clever_ferry.layers.chain import Chain

__all__ = ["Holding", "Layer", "Recalling"]


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


@runtime_checkable
class Recalling(Protocol):
    """A layer that can use what a wrapping elsewhere has said."""

    def recall(self, said: Mapping[str, Mapping[str, Any]]) -> Any:
        """Return a residue of it, or what is false where nothing is known."""


@runtime_checkable
class Holding(Protocol):
    """A layer with layers of its own within."""

    @property
    def inner(self) -> Iterable[Chain]:
        """Those layers, in all the ways that there are."""
