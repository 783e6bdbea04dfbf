"""Layers compiled from what a recipe says of them, by name."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from clever_ferry.errors import DamagedError
from clever_ferry.layers.chain import Chain, Layer
from clever_ferry.layers.chunks import Chunks
from clever_ferry.layers.ciphers import Aes, Xor
from clever_ferry.layers.compressed import Compressed
from clever_ferry.layers.encoded import Encoded, Swap, Text
from clever_ferry.layers.headers import After, ByTag, Footer, Header
from clever_ferry.layers.identity import Identity
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
    SwapSpec,
    TextSpec,
    XorSpec,
)
from clever_ferry.layouts import Layout

__all__ = ["compile_layers"]


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
