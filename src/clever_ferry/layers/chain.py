"""Chains of layers, by a recipe's names: peeled from outside in, dressed from inside out.

>>> from clever_ferry.layers import compile_layers
>>> from clever_ferry.layers.spec import CompressedSpec
>>> from clever_ferry.payload import BytesPayload, read_all
>>> chain = compile_layers({"packed": (CompressedSpec(kind="gzip"),)}, {})["packed"]
>>> dressed = chain.dress(BytesPayload(b"day 31"), {})
>>> read_all(chain.peel(dressed).payload, limit=100, what="the example")
b'day 31'
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct

from clever_ferry.certainty import Evidence
from clever_ferry.errors import DamagedError
from clever_ferry.layers.chunks import Chunks
from clever_ferry.layers.ciphers import Aes, Xor
from clever_ferry.layers.compressed import Compressed
from clever_ferry.layers.encoded import Encoded, Swap, Text
from clever_ferry.layers.found import Checked, Found
from clever_ferry.layers.headers import After, ByTag, Footer, Header
from clever_ferry.layers.identity import Identity
from clever_ferry.layers.layer import Holding, Layer, Recalling
from clever_ferry.layers.paths import Paths
from clever_ferry.layers.spec import (
    AesSpec,
    AfterSpec,
    ByTagSpec,
    ChunksSpec,
    CompressedSpec,
    EncodedSpec,
    FooterSpec,
    HeaderSpec,
    IdentitySpec,
    LayerSpec,
    PathsSpec,
    SecretSpec,
    SwapSpec,
    TextSpec,
    XorSpec,
)
from clever_ferry.layouts import Layout
from clever_ferry.naming import Value
from clever_ferry.payload import Payload

__all__ = ["Chain", "Peeled", "compile_layers"]


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
        aes = [layer.spec for layer in self.layers if isinstance(layer, Aes)]
        parts = [part for spec in aes for part in (spec.key, spec.vector)]
        own = {part.given for part in parts if isinstance(part, SecretSpec) and part.given}
        holding = [layer for layer in self.layers if isinstance(layer, Holding)]
        return own.union(*(chain.secrets for layer in holding for chain in layer.inner))

    def then(self, other: Chain) -> Chain:
        """Return this chain with another's layers within."""
        return Chain(self.layers + other.layers)


def compile_layers(
    specs: Mapping[str, Sequence[LayerSpec]], layouts: Mapping[str, Layout]
) -> dict[str, Chain]:
    """Compile named layers; raises DamagedError where a name is not known or refers to itself."""
    done: dict[str, Chain] = {}

    def layout(name: str, of: str) -> Layout:
        if name not in layouts:
            known = ", ".join(sorted(layouts)) or "none"
            raise DamagedError(f"layers.{of}: there is no layout {name!r}; known here: {known}.")
        return layouts[name]

    def joined(names: Iterable[str], open_ones: tuple[str, ...]) -> Chain:
        chain = Chain(())
        for name in names:
            chain = chain.then(build(name, open_ones))
        return chain

    def build(name: str, open_ones: tuple[str, ...]) -> Chain:
        if name in done:
            return done[name]
        if name in open_ones:
            raise DamagedError(
                f"layers.{name} is made of itself: {' > '.join((*open_ones, name))}."
            )
        if name not in specs:
            known = ", ".join(sorted(specs)) or "none"
            raise DamagedError(f"There is no layer {name!r}; known here: {known}.")
        made = [one(spec, name, (*open_ones, name)) for spec in specs[name]]
        done[name] = Chain(tuple(made))
        return done[name]

    def one(spec: LayerSpec, name: str, open_ones: tuple[str, ...]) -> Layer:
        match spec:
            case CompressedSpec():
                return Compressed(spec)
            case HeaderSpec():
                return Header(layout(spec.layout, name))
            case FooterSpec():
                return Footer(layout(spec.layout, name), spec.size)
            case ByTagSpec():
                inner = {tag: joined(of, open_ones) for tag, of in spec.of.items()}
                return ByTag(spec, layout(spec.layout, name), inner)
            case AfterSpec():
                return After(spec.data, spec.keep)
            case XorSpec():
                return Xor(spec)
            case AesSpec():
                return Aes(spec)
            case EncodedSpec():
                return Encoded(spec)
            case SwapSpec():
                return Swap(spec)
            case TextSpec():
                return Text(spec)
            case PathsSpec():
                return Paths(spec)
            case IdentitySpec():
                return Identity(spec)
            case ChunksSpec():
                header = layout(spec.header, name) if spec.header else None
                table = layout(spec.table, name) if spec.table else None
                return Chunks(spec, header, table, joined(spec.layers, open_ones))

    for name in specs:
        build(name, ())
    return done
