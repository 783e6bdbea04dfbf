"""The box for a description, whatever its kind."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import partial

from clever_ferry.boxes.box import Box, BoxParts
from clever_ferry.boxes.spec import BoxSpec
from clever_ferry.documents.document import form_of
from clever_ferry.documents.form import Form
from clever_ferry.errors import DamagedError
from clever_ferry.layers import Chain
from clever_ferry.layouts import Layout, LayoutSpec
from clever_ferry.model import class_of
from clever_ferry.wording import known

__all__ = ["box_faults", "make_box"]


def make_box(
    spec: BoxSpec,
    layouts: Mapping[str, Layout],
    layers: Mapping[str, Chain] | None = None,
    form: Callable[[str], Form] = form_of,
) -> Box:
    """Return the box, made with all layouts if it names any; only its own kind is imported.

    Raises DamagedError or NamingError where its parts do not fit together.
    """
    made_by = class_of(__package__, spec.MADE_BY)
    if hasattr(made_by, "of"):
        made: Box = made_by.of(spec, BoxParts(layouts, partial(_joined, layers or {}), form))
    else:
        made = made_by(spec, layouts) if spec.layouts else made_by(spec)
    return made


def _joined(layers: Mapping[str, Chain], names: Iterable[str]) -> Chain:
    chain = Chain(())
    for name in names:
        if name not in layers:
            raise DamagedError(f"There is no layer {name!r}; {known(layers)}.")
        chain = chain.then(layers[name])
    if chain.secrets:
        raise DamagedError(
            f"The layers of a box can't need what only the user knows ({known(chain.secrets)})."
        )
    return chain


def box_faults(spec: BoxSpec, layouts: Mapping[str, LayoutSpec]) -> list[str]:
    """Say where a box's description names what is not there, and which keys would be idle."""
    return [f"format.{key}: {what}" for key, what in _faults(spec, layouts)]


def _faults(spec: BoxSpec, layouts: Mapping[str, LayoutSpec]) -> Iterable[tuple[str, str]]:
    for name in spec.layouts:
        if name not in layouts:
            return [("layout", f"there is no layout {name!r}; {known(layouts)}")]
    return spec.faults(layouts)
