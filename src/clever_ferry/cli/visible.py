"""Text from saves, recipes and file names: what a terminal would obey is shown as a mark."""

from __future__ import annotations

__all__ = ["visible"]


def visible(text: str) -> str:
    """Return text in which every character that does not print, but line ends, is a mark.

    >>> visible("Salt\\x1b[31mmarsh")
    'Salt�[31mmarsh'
    """
    if text.isprintable():
        return text
    return "".join(
        char if char.isprintable() or char == "\n" else "\N{REPLACEMENT CHARACTER}" for char in text
    )
