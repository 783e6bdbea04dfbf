"""What is wrong with layers that models alone can't tell: places that lead nowhere, idle keys."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from clever_ferry.layers.spec import (
    AesSpec,
    ByTagSpec,
    ChunksSpec,
    CompressedSpec,
    EncodedSpec,
    FooterSpec,
    HeaderSpec,
    LayerSpec,
    SecretSpec,
    TextSpec,
)
from clever_ferry.layouts import LayoutSpec
from clever_ferry.layouts.tracing import trace
from clever_ferry.wording import known

__all__ = ["inner_layers", "layer_faults", "layouts_of"]

_HIGHEST = {
    "deflate": 9, "zlib": 9, "gzip": 9, "xz": 9, "lzma": 9, "bzip2": 9, "zstd": 19, "lz4": 16,
}  # fmt: skip
_LARGEST_BLOCK = 256 << 20


def layer_faults(
    layers: Mapping[str, Sequence[LayerSpec]], layouts: Mapping[str, LayoutSpec]
) -> list[str]:
    """Say where layers name what is not there, and which of their keys would be idle."""
    return [
        f"layers.{name}[{number}].{key}: {what}"
        for name, steps in layers.items()
        for number, spec in enumerate(steps, 1)
        for key, what in _faults(spec, layouts)
    ]


def inner_layers(spec: LayerSpec) -> set[str]:
    """Return the names of the layers that stand within one."""
    match spec:
        case ByTagSpec():
            return {name for names in spec.of.values() for name in names}
        case ChunksSpec():
            return set(spec.layers)
    return set()


def layouts_of(spec: LayerSpec) -> dict[str, str]:
    """Return the layouts that a layer names, and as what: `header`, `chunk` or `table`."""
    match spec:
        case HeaderSpec() | FooterSpec() | ByTagSpec():
            return {spec.layout: "header"}
        case ChunksSpec():
            every = {spec.header: "chunk", spec.table: "table"}
            return {name: use for name, use in every.items() if name is not None}
    return {}


def _faults(spec: LayerSpec, layouts: Mapping[str, LayoutSpec]) -> Iterator[tuple[str, str]]:
    for name in layouts_of(spec):
        if name not in layouts:
            yield "layout", f"there is no layout {name!r}; {known(layouts)}"
            return
    match spec:
        case CompressedSpec():
            yield from _compressed(spec)
        case ByTagSpec():
            if not trace(layouts, spec.layout, spec.tag) & {"number", "text", "identifier"}:
                yield "tag", f"nothing that could be a tag stands at {spec.tag} in {spec.layout}"
            if spec.usual is not None and spec.usual not in spec.of:
                yield "usual", f"{spec.usual!r} is none of the tags; {known(spec.of)}"
        case AesSpec():
            yield from _aes(spec)
        case EncodedSpec() if spec.ending != "lf" and not spec.line:
            yield "ending", "there are no lines without `line`"
        case TextSpec() if spec.mark and not spec.encoding.startswith("utf"):
            yield "mark", f"{spec.encoding} has no byte order mark"
        case ChunksSpec():
            yield from _chunks(spec, layouts)


def _compressed(spec: CompressedSpec) -> Iterator[tuple[str, str]]:
    highest = _HIGHEST.get(spec.kind)
    if spec.level is not None and highest is None:
        yield "level", f"{spec.kind} has none"
    elif spec.level is not None and highest is not None and spec.level > highest:
        yield "level", f"{highest} is the highest of {spec.kind}"
    if spec.most is not None and highest is None and spec.most > _LARGEST_BLOCK:
        yield "most", f"a block of {spec.kind} has at most {_LARGEST_BLOCK:,} bytes"


def _aes(spec: AesSpec) -> Iterator[tuple[str, str]]:
    if spec.mode == "ecb" and spec.vector != "front":
        yield "vector", "the mode ecb has none"
    if spec.mode in ("ctr", "gcm") and spec.padding != "pkcs7":
        yield "padding", f"the mode {spec.mode} pads nothing"
    if spec.mode != "gcm" and spec.tag != "end":
        yield "tag", f"the mode {spec.mode} has none"
    if spec.key.hex is not None and len(spec.key.hex) not in (32, 48, 64):
        yield "key.hex", "a key has 16, 24 or 32 bytes"
    own = spec.vector.hex if isinstance(spec.vector, SecretSpec) else None
    if own is not None and spec.mode != "gcm" and len(own) != 32:
        yield "vector.hex", "a vector has 16 bytes"


def _chunks(spec: ChunksSpec, layouts: Mapping[str, LayoutSpec]) -> Iterator[tuple[str, str]]:
    if spec.table is None:
        for key, usual in (("at", "/chunks"), ("size", "size"), ("plain", None)):
            if getattr(spec, key) != usual:
                yield key, "it is a place in a `table`, and there is none"
        return
    if "list" not in trace(layouts, spec.table, spec.at):
        yield "at", f"no list stands at {spec.at} in {spec.table}"
    for key, name in (("size", spec.size), ("plain", spec.plain)):
        if name is not None and "number" not in trace(layouts, spec.table, f"{spec.at}/0/{name}"):
            yield key, f"the records at {spec.at} in {spec.table} have no number {name!r}"
