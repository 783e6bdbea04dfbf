"""The box for a description, whatever its kind."""

from __future__ import annotations

from collections.abc import Mapping

from clever_ferry.boxes.archives import ArchiveBox
from clever_ferry.boxes.box import Box
from clever_ferry.boxes.indexed import IndexedBox
from clever_ferry.boxes.packed import PackedBox
from clever_ferry.boxes.spec import ArchiveSpec, BoxSpec, IndexedSpec, PackedSpec, TableSpec
from clever_ferry.boxes.tables import TableBox
from clever_ferry.layouts import Layout

__all__ = ["make_box"]


def make_box(name: str, spec: BoxSpec, layouts: Mapping[str, Layout]) -> Box:
    """Return the box; raises DamagedError or NamingError where its parts do not fit together."""
    match spec:
        case IndexedSpec():
            return IndexedBox(name, spec, layouts)
        case PackedSpec():
            return PackedBox(name, spec, layouts)
        case ArchiveSpec():
            return ArchiveBox(spec)
        case TableSpec():
            return TableBox(spec)
