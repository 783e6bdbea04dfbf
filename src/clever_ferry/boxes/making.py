"""The box for a description, whatever its kind."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from clever_ferry.boxes.box import Box
from clever_ferry.boxes.spec import BoxSpec
from clever_ferry.layouts import Layout, LayoutSpec
from clever_ferry.model import class_of
from clever_ferry.wording import known

__all__ = ["box_faults", "make_box"]


def make_box(spec: BoxSpec, layouts: Mapping[str, Layout]) -> Box:
    """Return the box, made with all layouts if it names any; only its own kind is imported.

    Raises DamagedError or NamingError where its parts do not fit together.
    """
    made_by = class_of(__package__, spec.MADE_BY)
    made: Box = made_by(spec, layouts) if spec.layouts else made_by(spec)
    return made


def box_faults(spec: BoxSpec, layouts: Mapping[str, LayoutSpec]) -> list[str]:
    """Say where a box's description names what is not there, and which keys would be idle."""
    return [f"format.{key}: {what}" for key, what in _faults(spec, layouts)]


def _faults(spec: BoxSpec, layouts: Mapping[str, LayoutSpec]) -> Iterable[tuple[str, str]]:
    for name in spec.layouts:
        if name not in layouts:
            return [("layout", f"there is no layout {name!r}; {known(layouts)}")]
    return spec.faults(layouts)
