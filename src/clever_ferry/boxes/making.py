"""The box for a description, whatever its kind."""

from __future__ import annotations

from collections.abc import Mapping

from clever_ferry.boxes.box import Box
from clever_ferry.boxes.spec import (
    ArchiveSpec,
    BoxSpec,
    IndexedSpec,
    PackedSpec,
    ShelvesSpec,
    TableSpec,
)
from clever_ferry.layouts import Layout

__all__ = ["make_box"]


def make_box(name: str, spec: BoxSpec, layouts: Mapping[str, Layout]) -> Box:
    """Return the box; only the kind that is asked for is imported.

    Raises DamagedError or NamingError where its parts do not fit together."""
    match spec:
        case IndexedSpec():
            from clever_ferry.boxes.indexed import IndexedBox

            return IndexedBox(name, spec, layouts)
        case ShelvesSpec():
            from clever_ferry.boxes.shelves import ShelvesBox

            return ShelvesBox(name, spec, layouts)
        case PackedSpec():
            from clever_ferry.boxes.packed import PackedBox

            return PackedBox(name, spec, layouts)
        case ArchiveSpec():
            from clever_ferry.boxes.archives import ArchiveBox

            return ArchiveBox(spec)
        case TableSpec():
            from clever_ferry.boxes.tables import TableBox

            return TableBox(spec)
