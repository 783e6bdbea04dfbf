"""Layers: reversible wrappings of bytes, chained by name, unwrapped and wrapped as streams."""

from clever_ferry.layers.chain import Chain, Unwrapped
from clever_ferry.layers.compiling import compile_layers
from clever_ferry.layers.document_spec import IdentitySpec
from clever_ferry.layers.known import UNKNOWN, Known
from clever_ferry.layers.spec import LayerSpec

__all__ = [
    "UNKNOWN",
    "Chain",
    "IdentitySpec",
    "Known",
    "LayerSpec",
    "Unwrapped",
    "compile_layers",
]
