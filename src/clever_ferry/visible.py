"""Text from saves, recipes and file names: what a terminal would obey is shown as a mark."""

from __future__ import annotations

import re

__all__ = ["escaped", "visible"]

_TURNING = frozenset("\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")
"""Characters that turn the direction of what follows (Unicode's bidirectional controls)."""


_UNSEEN = re.compile(r"[\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")


def escaped(text: str) -> str:
    """Return JSON in which all that a terminal would obey is spelled by its number.

    >>> escaped('"\\x9b1m"')
    '"\\\\u009b1m"'
    """
    return _UNSEEN.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def visible(text: str, also: str = "") -> str:
    """Return text in which control characters, but line ends and those of `also`, are marks.

    >>> visible("Salt\\x1b[31mmarsh")
    'Salt�[31mmarsh'
    """
    if text.isprintable():
        return text
    return "".join(
        "\N{REPLACEMENT CHARACTER}" if _obeyed(char) and char not in also else char for char in text
    )


def _obeyed(char: str) -> bool:
    code = ord(char)
    control = code < 0x20 or 0x7F <= code < 0xA0 or 0xD800 <= code < 0xE000
    return (control and char != "\n") or char in _TURNING or code in (0x2028, 0x2029)
