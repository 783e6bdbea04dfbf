"""Binary layouts: one description of fields in order reads bytes into values and writes them."""

from clever_ferry.layouts.codec import Computed, Layout, LayoutError, compile_layouts
from clever_ferry.layouts.digests import Running, start_digest
from clever_ferry.layouts.spec import LayoutSpec

__all__ = [
    "Computed",
    "Layout",
    "LayoutError",
    "LayoutSpec",
    "Running",
    "compile_layouts",
    "start_digest",
]
