"""Layers and chains of them: unwrapped from outside in, wrapped from inside out.

>>> from clever_ferry.layers import compile_layers
>>> from clever_ferry.layers.spec import CompressedSpec
>>> from clever_ferry.model import tagged
>>> from clever_ferry.payload import BytesPayload, read_all
>>> chain = compile_layers({"packed": (tagged(CompressedSpec, "gzip")(),)}, {})["packed"]
>>> wrapped = chain.wrap(BytesPayload(b"day 31"))
>>> read_all(chain.unwrap(wrapped).payload, limit=100, what="the example")
b'day 31'
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Set
from typing import Any, NamedTuple, Protocol, runtime_checkable

from msgspec import Struct

from clever_ferry.certainty import Evidence
from clever_ferry.documents.form import Form
from clever_ferry.layers.found import Found
from clever_ferry.layers.known import UNKNOWN, Known
from clever_ferry.layouts import Layout
from clever_ferry.payload import Payload

__all__ = [
    "Blanking",
    "Chain",
    "Keyed",
    "Layer",
    "Needing",
    "Parts",
    "Recalling",
    "Stages",
    "Unwrapped",
]


Stages = dict[str, Payload]
"""The bytes at each named stage that is further within; `payload` is the innermost."""


class Layer(Protocol):
    """One reversible wrapping, read and written by one definition."""

    @property
    def bound(self) -> frozenset[str]:
        """The name fields that it repeats."""

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, Any]:
        """Return what is within, and the residue that wrapping may need."""

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Put it on; `residue` is None where there is none."""


@runtime_checkable
class Recalling(Protocol):
    """A layer that can use what a wrapping elsewhere has said."""

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> Any:
        """Return a residue of it, or what is false where nothing is known."""


@runtime_checkable
class Blanking(Protocol):
    """A layer that takes values out of a document."""

    def blanked(self, source: Payload) -> Payload:
        """Return a document that nobody has filled in yet as one from which they were taken."""


@runtime_checkable
class Keyed(Protocol):
    """A layer that needs, itself or within, what only the user can state."""

    @property
    def secrets(self) -> Set[str]:
        """That, by its names, such as a key."""


@runtime_checkable
class Needing(Protocol):
    """A layer that says something of other pieces' bytes."""

    @property
    def needs(self) -> Set[str]:
        """Their roles."""


class Parts(NamedTuple):
    """What a layer may be made of; one that is made of any has `of(spec, parts)`.

    Both raise DamagedError where there is no such thing.
    """

    layout: Callable[[str], Layout]
    form: Callable[[str], Form]
    joined: Callable[[Iterable[str]], Chain]
    """The chain of the layers that have these names."""


class Unwrapped(Struct, frozen=True, gc=False):
    """A payload without its wrapping, and what the wrapping said."""

    payload: Payload
    residue: tuple[Any, ...]
    bound: Mapping[str, int | str]
    headers: Mapping[str, Mapping[str, Any]]
    evidence: tuple[Callable[[], Evidence], ...] = ()
    """What having read the payload to its end establishes."""
    claims: tuple[Any, ...] = ()
    """What it says of other pieces' bytes."""


class Chain(Struct, frozen=True):
    """Layers in the order in which they are unwrapped."""

    layers: tuple[Layer, ...]

    def unwrap(self, source: Payload, known: Known = UNKNOWN) -> Unwrapped:
        """Unwrap all layers; checks over the payload run when it is read.

        `given` is what the user has stated, such as a key.
        """
        found = Found(known=known)
        payload, residue = self.unwrap_into(source, found)
        payload = found.checked("payload", payload)
        return Unwrapped(
            payload, residue, found.bound, found.headers, tuple(found.evidence),
            tuple(found.claims),
        )  # fmt: skip

    def unwrap_into(self, source: Payload, found: Found) -> tuple[Payload, tuple[Any, ...]]:
        """Unwrap all layers and leave checks over the payload to the caller, in `found`."""
        residues = []
        for layer in self.layers:
            source, residue = layer.unwrap(source, found)
            residues.append(residue)
        return source, tuple(residues)

    def at_stage(self, stage: str, source: Payload, known: Known = UNKNOWN) -> Payload:
        """Return the bytes as they are at a stage; raises KeyError where there is none."""
        found = Found(known=known)
        payload, _ = self.unwrap_into(source, found)
        return payload if stage == "payload" else found.at[stage]

    def wrap(
        self,
        payload: Payload,
        known: Known = UNKNOWN,
        residue: tuple[Any, ...] | None = None,
        headers: Mapping[str, Mapping[str, Any]] | None = None,
    ) -> Payload:
        """Put all layers on; headers repeat the name fields that are `known` of the target.

        Without a `residue` of these same layers, a header takes what one of the same layout
        said where the payload comes from, which is in `headers`.
        """
        return self.wrap_into(payload, {}, known, residue, headers)

    def wrap_into(
        self,
        payload: Payload,
        stages: Stages,
        known: Known = UNKNOWN,
        residue: tuple[Any, ...] | None = None,
        headers: Mapping[str, Mapping[str, Any]] | None = None,
    ) -> Payload:
        """Do the same, and note in `stages` the bytes at each."""
        stages.setdefault("payload", payload)
        wrapped = payload
        residues = residue or self.recalled(headers or {})
        for layer, own in zip(reversed(self.layers), reversed(residues), strict=True):
            wrapped = layer.wrap(wrapped, stages, own, known)
        return wrapped

    def recalled(self, headers: Mapping[str, Mapping[str, Any]]) -> tuple[Any, ...]:
        """Return what each layer can use of what the payload's own headers said."""
        return tuple(
            layer.recall(headers) or None if isinstance(layer, Recalling) else None
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

    @property
    def asked(self) -> set[str]:
        """The fields of headers that the user may state."""
        return {name for layer in self.layers for name in getattr(layer, "asked", ())}

    @property
    def needs(self) -> set[str]:
        """The roles of other pieces whose bytes these layers speak of."""
        return {role for layer in self.layers if isinstance(layer, Needing) for role in layer.needs}

    def then(self, other: Chain) -> Chain:
        """Return this chain with another's layers within."""
        return Chain(self.layers + other.layers)
