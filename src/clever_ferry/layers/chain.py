"""Layers and chains of them: peeled from outside in, dressed from inside out.

>>> from clever_ferry.layers import compile_layers
>>> from clever_ferry.layers.spec import CompressedSpec
>>> from clever_ferry.model import tagged
>>> from clever_ferry.payload import BytesPayload, read_all
>>> chain = compile_layers({"packed": (tagged(CompressedSpec, "gzip")(),)}, {})["packed"]
>>> dressed = chain.dress(BytesPayload(b"day 31"), {})
>>> read_all(chain.peel(dressed).payload, limit=100, what="the example")
b'day 31'
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Set
from typing import Any, Protocol, runtime_checkable

from msgspec import Struct

from clever_ferry.certainty import Evidence
from clever_ferry.layers.found import Checked, Found
from clever_ferry.naming import Value
from clever_ferry.payload import Payload

__all__ = ["Chain", "Keyed", "Layer", "Peeled", "Recalling"]


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
class Keyed(Protocol):
    """A layer that needs, itself or within, what only the user can state."""

    @property
    def secrets(self) -> Set[str]:
        """That, by its names, such as a key."""


class Peeled(Struct, frozen=True, gc=False):
    """A payload without its wrapping, and what the wrapping said."""

    payload: Payload
    residue: tuple[Any, ...]
    bound: Mapping[str, int | str]
    said: Mapping[str, Mapping[str, Any]]
    evidence: tuple[Callable[[], Evidence], ...] = ()
    """What having read the payload to its end establishes."""


class Chain(Struct, frozen=True):
    """Layers in the order in which they are peeled."""

    layers: tuple[Layer, ...]

    def peel(self, source: Payload, given: Mapping[str, Value] | None = None) -> Peeled:
        """Peel all layers; checks over the payload run when it is read.

        `given` is what the user has stated, such as a key.
        """
        found = Found(given=given or {})
        payload, residue = self.peel_into(source, found)
        if found.of_payload:
            payload = Checked(payload, tuple(found.of_payload))
        return Peeled(payload, residue, found.bound, found.said, tuple(found.evidence))

    def peel_into(self, source: Payload, found: Found) -> tuple[Payload, tuple[Any, ...]]:
        """Peel all layers and leave checks over the payload to the caller, in `found`."""
        residues = []
        for layer in self.layers:
            source, residue = layer.peel(source, found)
            residues.append(residue)
        return source, tuple(residues)

    def dress(
        self,
        payload: Payload,
        fields: Mapping[str, Value],
        residue: tuple[Any, ...] | None = None,
        said: Mapping[str, Mapping[str, Any]] | None = None,
    ) -> Payload:
        """Put all layers on; `fields` are the target's name fields, that headers repeat.

        Without a `residue` of these same layers, a header takes what one of the same layout
        has `said` where the payload comes from.
        """
        dressed = payload
        residues = residue or self.recalled(said or {})
        for layer, own in zip(reversed(self.layers), reversed(residues), strict=True):
            dressed = layer.dress(dressed, payload, own, fields)
        return dressed

    def recalled(self, said: Mapping[str, Mapping[str, Any]]) -> tuple[Any, ...]:
        """Return what each layer can use of what the payload's own wrapping has `said`."""
        return tuple(
            layer.recall(said) or None if isinstance(layer, Recalling) else None
            for layer in self.layers
        )

    @property
    def bound(self) -> set[str]:
        """The name fields that headers of these layers repeat."""
        return {field for layer in self.layers for field in layer.bound}

    @property
    def secrets(self) -> set[str]:
        """What only the user can state, such as a key, by its names."""
        return {name for layer in self.layers if isinstance(layer, Keyed) for name in layer.secrets}

    def then(self, other: Chain) -> Chain:
        """Return this chain with another's layers within."""
        return Chain(self.layers + other.layers)
