"""`.properties` as documents: names and values on lines, with escapes.

Of a name that is said twice, the last counts. Letters beyond ASCII are written by their numbers,
which reads the same in whatever encoding the file is taken for.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from clever_ferry.documents.form import Splice, whole_text
from clever_ferry.documents.nodes import Node, Single, nodes_at
from clever_ferry.documents.places import Step, text_of
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.payload import Payload

__all__ = ["Properties"]

_MOST = 64 << 20
_LINE = re.compile(rb"(?:[^\\\r\n]|\\(?:\r\n|[^\r]|\r|\Z))*(?:\r\n|\r|\n|\Z)")
"""A line with those that it goes on with, as a backslash at the end says."""
_IDLE = re.compile(rb"[ \t\f]*+(?:[#!][^\r\n]*+)?(?:\r\n|\r|\n|\Z)")
"""A line with nothing on it, or a remark, which does not go on."""
_NAME = re.compile(rb"(?:[^\\=: \t\f\r\n]|\\.)*", re.DOTALL)
_SIGN = re.compile(rb"(?:[ \t\f]|\\\r?\n)*(?:[=:])?(?:[ \t\f]|\\\r?\n)*")
_GOES_ON = re.compile(r"\\(?:\r\n|\r|\n)[ \t\f]*")
_ESCAPED = re.compile(r"\\(?:u([0-9a-fA-F]{4})|(.))", re.DOTALL)
_MEANT = {"t": "\t", "n": "\n", "r": "\r", "f": "\f"}
_WRITTEN = {"\t": "\\t", "\n": "\\n", "\r": "\\r", "\f": "\\f", "\\": "\\\\"}


class Properties:
    """Names and values as Java reads them (java.util.Properties, `load`)."""

    title = "properties"
    several = False

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return for each place what stands there; every name is right at the top."""
        raw = whole_text(source, _MOST, self.title)
        top: dict[str, Node] = {}
        at = 3 if raw.startswith(b"\xef\xbb\xbf") else 0
        begin = at
        while at < len(raw):
            idle = _IDLE.match(raw, at)
            line = idle or _LINE.match(raw, at)
            if line is None or line.end() == at:
                raise DamagedError(f"It is no properties text at byte {at:,}.")
            if idle is None:
                bare = line[0].lstrip(b" \t\f")
                _put_in(top, raw, line.end() - len(bare), at, line.end())
            at = line.end()
        whole = Node(begin, len(raw), None, top, begin, len(raw))
        return [nodes_at(whole, steps) for steps in places]

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Return a value as it is escaped; raises RefusedError behind a name without a sign."""
        if node.start < 0:
            raise RefusedError("A name without a sign behind it can't be given a value.")
        return _escaped(text_of(value))

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Return what takes names away, with their lines."""
        return [Splice(node.first, node.last, b"") for node in nodes]

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Return what adds a line at the end, with blanks around the sign if others have them."""
        if not isinstance(above.inner, dict):
            raise RefusedError("Nothing can be added there: a single value stands there.")
        raw = whole_text(source, _MOST, self.title)
        end = b"\r\n" if b"\r\n" in raw else b"\n"
        lead = b"" if not raw or raw.endswith((b"\n", b"\r")) else end
        blank = any(raw[max(0, node.start - 1) : node.start] == b" " for node in above.within)
        name = re.sub(rb"(?<!\\)([=: #!])", rb"\\\1", _escaped(str(steps[-1])))
        line = name + (b" = " if blank else b"=") + _escaped(text_of(value)) + end
        return Splice(len(raw), len(raw), lead + line)


def _put_in(top: dict[str, Node], raw: bytes, start: int, first: int, last: int) -> None:
    name = _NAME.match(raw, start)
    assert name is not None
    sign = _SIGN.match(raw, name.end())
    assert sign is not None
    stop = start + len(raw[start:last].rstrip(b"\r\n"))
    begin = min(sign.end(), stop)
    text = raw[begin:stop].decode()
    node = Node(begin, stop, _plain(text), None, first, last)
    if begin == name.end():
        node.start = node.end = -1
    key = _plain(name[0].decode())
    top.pop(key, None)
    top[key] = node


def _plain(text: str) -> str:
    """Return a text without its escapes, and with the lines joined that it stands on."""

    def meant(found: re.Match[str]) -> str:
        return chr(int(found[1], 16)) if found[1] else _MEANT.get(found[2], found[2])

    plain = _ESCAPED.sub(meant, _GOES_ON.sub("", text))
    return plain.encode("utf-16", "surrogatepass").decode("utf-16", "replace")


def _escaped(text: str) -> bytes:
    parts = []
    for number, char in enumerate(text):
        if char in _WRITTEN:
            parts.append(_WRITTEN[char])
        elif char in " =:" and not number:
            parts.append(f"\\{char}")
        elif " " <= char < "\x7f":
            parts.append(char)
        else:
            units = char.encode("utf-16-be", "surrogatepass")
            parts += [f"\\u{units[at : at + 2].hex()}" for at in range(0, len(units), 2)]
    return "".join(parts).encode()
