"""YAML as documents: positions by ruamel.yaml, and changes at these alone."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError
from ruamel.yaml.nodes import MappingNode, ScalarNode, SequenceNode

from clever_ferry.documents.form import Splice, whole_text
from clever_ferry.documents.nodes import FRESH, Node, Single, nodes_at
from clever_ferry.documents.places import Step
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.payload import Payload

__all__ = ["Yaml"]

_MOST = 1 << 20
_DEEPEST = 200
_KIND = "tag:yaml.org,2002:"
_WORDS: dict[str, Single] = {"true": True, "false": False}
_SAFE = re.compile(r"[A-Za-z][A-Za-z0-9_./-]*( [A-Za-z0-9_./-]+)*")
"""Texts that are themselves wherever they stand, but for the words that mean something else."""
_MEANING = {"true", "false", "null", "yes", "no", "on", "off", "y", "n"}


class Yaml:
    """One document of YAML 1.2; anchors, tags and text in blocks are only read."""

    title = "YAML"
    several = False

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return for each place what stands there."""
        text = whole_text(source, _MOST, self.title).decode()
        top = _Reading(text).top()
        return [nodes_at(top, steps) for steps in places]

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Return a scalar: a text is plain where the old one was and that is safe, else quoted."""
        if node.start < 0:
            raise RefusedError("What is anchored, tagged or in a block of text is left as it is.")
        if (isinstance(value, float) and value != value) or value in (float("inf"), -float("inf")):
            raise RefusedError(f"{value!r} is not written.")
        if isinstance(value, str):
            if old[:1] == b"'" and value.isprintable():
                return ("'" + value.replace("'", "''") + "'").encode()
            plain = old[:1] not in (b'"', b"'") and _SAFE.fullmatch(value)
            if plain and value.lower() not in _MEANING:
                return value.encode()
            return _quoted(value).encode()
        text = json.dumps(value)
        if isinstance(value, float) and "." not in text:  # 1e+20 is a text to some readers
            text = text.replace("e", ".0e")
        return text.encode()

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Return what takes members away that have lines of their own."""
        raw = whole_text(source, _MOST, self.title)
        (every,) = self.find(source, [steps[:-1]])
        gone = {(node.first, node.last) for node in nodes}
        splices = []
        for above in every:
            stays = [one for one in above.within if (one.first, one.last) not in gone]
            if not stays:
                raise RefusedError("The last one of a mapping or list of YAML can't be taken away.")
            for node in above.within:
                if (node.first, node.last) in gone:
                    splices.append(_lines(raw, above, node))
        return splices

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Return what adds a line behind the last one of a mapping or list, set as that is."""
        raw = whole_text(source, _MOST, self.title)
        if not above.within:
            raise RefusedError("Nothing can be added to what is empty or a single value.")
        last = above.within[-1]
        line = _lines(raw, above, last)
        lead = raw[raw.rfind(b"\n", 0, last.first) + 1 : last.first]
        if lead.strip(b" ") and not re.fullmatch(rb"[ -]* ", lead):
            raise RefusedError("Nothing can be added to what shares its line.")
        lead = lead.replace(b"-", b" ") if isinstance(above.inner, dict) else lead
        name = b"" if isinstance(above.inner, list) else (
            self.put(source, FRESH, b"x", str(steps[-1])) + b": "
        )  # fmt: skip
        end = b"\r\n" if b"\r\n" in raw else b"\n"
        new = lead + name + self.put(source, FRESH, b"x", value)
        at = line.end
        if raw[:at].endswith(b"\n"):
            return Splice(at, at, new + end)
        return Splice(at, at, end + new)


def _quoted(text: str) -> str:
    """Return a text between double quotes; what is not printable is written by its number."""
    found = ""
    for char in text:
        if char in '"\\':
            found += f"\\{char}"
        elif char.isprintable():
            found += char
        else:
            found += f"\\U{ord(char):08x}" if ord(char) > 0xFFFF else f"\\u{ord(char):04x}"
    return f'"{found}"'


def _lines(raw: bytes, above: Node, node: Node) -> Splice:
    """Return the lines that a member has for itself; raises RefusedError where it shares them."""
    start = raw.rfind(b"\n", 0, node.first) + 1
    end = raw.find(b"\n", max(node.first, node.last - 1))
    end = len(raw) if end < 0 else end + 1
    inner = above.within
    number = next(at for at, one in enumerate(inner) if one is node or one.first == node.first)
    lead = raw[start : node.first]
    shares = (
        (lead.strip(b" ") and not (isinstance(above.inner, list) and lead.strip(b" ") == b"-"))
        or (number + 1 < len(inner) and inner[number + 1].first < end)
        or raw[above.start : above.start + 1] in (b"{", b"[")
    )
    if shares:
        raise RefusedError("What shares its line with something else of YAML is left as it is.")
    return Splice(start, end, b"")


class _Reading:
    """A text on its way to be nodes."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._bytes = None if text.isascii() else self._counted()

    def _counted(self) -> list[int]:
        """Return how many bytes stand before each letter."""
        found, count = [0], 0
        for char in self._text:
            count += len(char.encode())
            found.append(count)
        return found

    def top(self) -> Node:
        """Return the whole; raises DamagedError where it is none."""
        reader = YAML(pure=True)
        reader.allow_duplicate_keys = True
        try:
            found = reader.compose(self._text)
            if found is None:
                return Node(0, len(self._text.encode()))
            return self._node(found, 0)
        except (YAMLError, ValueError, RecursionError, AttributeError) as error:
            told = str(error).partition("\n")[0]
            raise DamagedError(f"This is no YAML that can be read ({told}).") from None

    def _node(self, found: Any, deep: int, first: int = -1) -> Node:
        if deep > _DEEPEST:
            raise ValueError(f"it nests more than {_DEEPEST} deep")
        start, end = self._at(found.start_mark.index), self._at(found.end_mark.index)
        node = Node(start, end, first=first if first >= 0 else start, last=end)
        if isinstance(found, MappingNode):
            inner: dict[str, Node] = {}
            for key, value in found.value:
                name = key.value if isinstance(key, ScalarNode) else repr(key.start_mark.index)
                inner.pop(name, None)
                inner[name] = self._node(value, deep + 1, self._at(key.start_mark.index))
            node.inner = inner
            self._end(node, found)
        elif isinstance(found, SequenceNode):
            node.inner = [self._node(one, deep + 1) for one in found.value]
            self._end(node, found)
        else:
            node.value = _value(found)
            odd = found.anchor or found.style in ("|", ">") or not self._plainly(found)
            if odd:
                node.start = node.end = -1
        return node

    @staticmethod
    def _end(node: Node, found: Any) -> None:
        """End what has lines of its own where the last in it does: not where the next begins."""
        if node.inner and not found.flow_style:
            node.end = node.last = node.within[-1].last

    def _plainly(self, found: Any) -> bool:
        """Tell whether a scalar begins where it is said to: no tag, no alias, and not empty."""
        text = self._text[found.start_mark.index : found.end_mark.index]
        return bool(text) and text[:1] not in "!&*" and "\n" not in text

    def _at(self, index: int) -> int:
        return index if self._bytes is None else self._bytes[index]


def _value(found: Any) -> Single:
    kind = str(found.tag).removeprefix(_KIND)
    text = str(found.value)
    try:
        if kind == "int":
            return int(text.replace("_", ""), 0) if not text.lstrip("+-").startswith("0") or (
                text[:2].lower() in ("0x", "0o")
            ) else int(text)  # fmt: skip
        if kind == "float":
            return float(text.replace("_", "").replace(".inf", "inf").replace(".nan", "nan"))
    except ValueError:
        return text
    if kind == "bool":
        return _WORDS.get(text.lower(), text)
    return None if kind == "null" else text
