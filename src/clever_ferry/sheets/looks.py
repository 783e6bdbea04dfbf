"""How all that is drawn looks: the colours of pages and pictures, and shapes that tell without."""

from __future__ import annotations

__all__ = ["BAND", "INK", "LINE", "NAMES", "PAPER", "SHAPES", "SOFT"]

INK = "#1d2b33"
SOFT = "#52646e"
LINE = "#c3d0d4"
PAPER = "#fbfaf5"
BAND = "#eef2ee"
NAMES = ("#14606e", "#a8441c", "#4d6a1f", "#6b4a8a", "#8a2f4f", "#7a5c14", "#3d4f7a", "#2f6b58")
"""One for each name in a picture; with `SHAPES`, so that black and white is enough."""
SHAPES = ("o", "s", "D", "^", "v", "p", "h", "P")
"""Matplotlib's words for: circle, square, diamond, two triangles, five corners, six, plus."""
