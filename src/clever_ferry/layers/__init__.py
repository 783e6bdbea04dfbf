"""Layers: reversible wrappings of bytes, chained by name, peeled and dressed as streams."""

from clever_ferry.layers.chain import Chain, Peeled
from clever_ferry.layers.compiling import compile_layers
from clever_ferry.layers.spec import IdentitySpec, LayerSpec, told_layer

__all__ = ["Chain", "IdentitySpec", "LayerSpec", "Peeled", "compile_layers", "told_layer"]
