"""Layers compiled from what a recipe says of them, by name; kinds that none needs stay unloaded."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial

from clever_ferry.documents.document import form_of
from clever_ferry.documents.form import Form
from clever_ferry.errors import DamagedError
from clever_ferry.layers.chain import Chain, Layer, Parts
from clever_ferry.layers.spec import LayerSpec
from clever_ferry.layouts import Layout, LayoutSpec
from clever_ferry.model import class_of
from clever_ferry.wording import known

__all__ = ["compile_layers", "layer_faults"]


def compile_layers(
    specs: Mapping[str, Sequence[LayerSpec]],
    layouts: Mapping[str, Layout],
    form: Callable[[str], Form] = form_of,
) -> dict[str, Chain]:
    """Compile named layers; `form` knows documents' forms by name.

    Raises DamagedError where a name is not known or refers to itself.
    """
    done: dict[str, Chain] = {}

    def layout(name: str, of: str) -> Layout:
        if name not in layouts:
            known = ", ".join(sorted(layouts)) or "none"
            raise DamagedError(f"layers.{of}: there is no layout {name!r}; known here: {known}.")
        return layouts[name]

    def joined(open_ones: tuple[str, ...], names: Iterable[str]) -> Chain:
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
        made_by = class_of(__package__, spec.MADE_BY)
        parts = Parts(partial(layout, of=name), form, partial(joined, open_ones))
        made: Layer = made_by.of(spec, parts) if hasattr(made_by, "of") else made_by(spec)
        return made

    for name in specs:
        build(name, ())
    return done


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


def _faults(spec: LayerSpec, layouts: Mapping[str, LayoutSpec]) -> Iterable[tuple[str, str]]:
    for name in spec.layouts:
        if name not in layouts:
            return [("layout", f"there is no layout {name!r}; {known(layouts)}")]
    return spec.faults(layouts)
