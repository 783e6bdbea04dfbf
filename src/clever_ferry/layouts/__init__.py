"""Binary layouts: one description of fields in order reads bytes into values and writes them."""

from clever_ferry.layouts.codec import Computed, Layout, LayoutError, compile_layouts
from clever_ferry.layouts.digests import Running, start_digest
from clever_ferry.layouts.pointer import PointerError, every, point, put
from clever_ferry.layouts.spec import LayoutSpec

__all__ = [
    "Computed",
    "Layout",
    "LayoutError",
    "LayoutSpec",
    "PointerError",
    "Running",
    "compile_layouts",
    "every",
    "point",
    "put",
    "start_digest",
]
