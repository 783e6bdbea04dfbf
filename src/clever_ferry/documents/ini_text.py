"""INI and `name = value` lines as documents: sections of names and values, every other line kept.

What stands before the first section is at the top. Of a name that is said twice, the last counts;
upper and lower case are the same in names, but not in those of sections. A line that is indented
below a value goes on with it.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from clever_ferry.documents.form import Splice, whole_text
from clever_ferry.documents.nodes import FRESH, Node, Single, nodes_at
from clever_ferry.documents.places import Choice, Step, text_of
from clever_ferry.documents.spec import SectionsSpec
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.payload import Payload

__all__ = ["Ini"]

_MOST = 64 << 20
_LINE = re.compile(rb"[^\r\n]*(?:\r\n|\r|\n|$)")
_SECTION = re.compile(rb"\[(.+)\]")
_SIGN = re.compile(rb"[=:]")


class Ini:
    """INI as Python's own reader takes it, without its interpolation; texts may be quoted."""

    title = "INI"
    several = False

    def __init__(self, spec: SectionsSpec | None = None) -> None:
        self._quote = spec.quote if spec is not None else ""
        self._escape = spec.escape or "" if spec is not None else ""
        quote, escape = re.escape(self._quote), re.escape(self._escape)
        escaped = f"{escape}({escape}|{quote})" if escape else "(?!)()"
        self._escaped = re.compile(escaped)
        inner = f"(?:{escaped}|(?!{quote}).)*+"
        self._text = re.compile(f"{quote}({inner}){quote}", re.DOTALL) if quote else None

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return for each place what stands there."""
        top = self._top(source)
        return [nodes_at(top, _folded(steps, top)) for steps in places]

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Return a value as it stands behind its name; raises RefusedError where it can't."""
        text = text_of(value)
        if node.start < 0:
            raise RefusedError("A name without a sign behind it can't be given a value.")
        bare = not self._quote or (self._bare(old.decode()) is None if old else type(value) is int)
        if any(sign in text for sign in "\r\n\0") or (bare and text != text.strip()):
            raise RefusedError(f"A line of INI can't hold {text!r}.")
        return (text if bare else self._quoted(text)).encode()

    def _top(self, source: Payload) -> Node:
        top = _read(whole_text(source, _MOST, self.title))
        if self._quote and isinstance(top.inner, dict):
            waiting = list(top.inner.values())
            for node in waiting:
                waiting += node.inner.values() if isinstance(node.inner, dict) else ()
                if isinstance(node.value, str):
                    inner = self._bare(node.value)
                    node.value = node.value if inner is None else inner
        return top

    def _bare(self, text: str) -> str | None:
        """Return a text without its quotes; None where it is not one text between them."""
        found = self._text.fullmatch(text) if self._text is not None else None
        return self._escaped.sub(r"\1", found[1]) if found is not None else None

    def _quoted(self, text: str) -> str:
        for sign in (self._escape, self._quote):
            if sign and sign in text:
                if not self._escape:
                    raise RefusedError(f"A text between {self._quote} can't hold {text!r} here.")
                text = text.replace(sign, self._escape + sign)
        return f"{self._quote}{text}{self._quote}"

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Return what takes names or sections away, with their lines."""
        if any(node.first < 0 for node in nodes):
            raise RefusedError("A section that stands in several parts can't be taken away.")
        return [Splice(node.first, node.last, b"") for node in nodes]

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Return what adds a line behind the last name of a section, set as that one is."""
        name = str(steps[-1])
        if not isinstance(above.inner, dict):
            raise RefusedError(f"Nothing can be added as {name!r}: a single value stands there.")
        if not name or _SIGN.search(name.encode()) or name != name.strip() or name[0] in "[#;":
            raise RefusedError(f"INI has no name {name!r}.")
        raw = whole_text(source, _MOST, self.title)
        last = [one for one in above.inner.values() if one.inner is None]
        end = b"\r\n" if b"\r\n" in raw else b"\n"
        text = self.put(source, FRESH, b"", value)
        if not last:
            at = above.start
            before = raw[:at].removeprefix(b"\xef\xbb\xbf")
            lead = b"" if not before or before.endswith((b"\n", b"\r")) else end
            return Splice(at, at, lead + name.encode() + b" = " + text + end)
        like = last[-1]
        sign = (
            re.search(rb"\s*[=:][ \t]*$", raw[like.first : like.start]) if like.start >= 0 else None
        )
        lead = b"" if raw[: like.last].endswith((b"\n", b"\r")) else end
        line = name.encode() + (sign[0] if sign else b" = ") + text
        return Splice(like.last, like.last, lead + line + (b"" if lead else end))

    def join(self, source: Payload, above: Node, new: Sequence[tuple[str, bytes]]) -> Splice:
        """Return what adds sections at the end, of lines that are there already."""
        raw = whole_text(source, _MOST, self.title)
        end = b"\r\n" if b"\r\n" in raw else b"\n"
        lead = b"" if not raw or raw.endswith((b"\n", b"\r")) else end
        added = []
        for name, lines in new:
            if above.end != len(raw) or not name or "]" in name or name != name.strip():
                raise RefusedError(f"INI has no section {name!r} there.")
            added.append(lead + f"[{name}]".encode() + end + lines)
            lead = b"" if lines.endswith((b"\n", b"\r")) or not lines else end
        return Splice(len(raw), len(raw), b"".join(added))


def _folded(steps: Sequence[Step], top: Node) -> list[Step]:
    """Return steps in which the names of values are as they are kept."""
    if not steps:
        return []
    *sections, last = steps
    if isinstance(last, str) and (sections or not _is_section(top, last)):
        last = last.lower()
    return [Choice(tuple(str(one).lower() for one in step.steps), step.value)
            if isinstance(step, Choice) else step for step in (*sections, last)]  # fmt: skip


def _is_section(top: Node, name: str) -> bool:
    return isinstance(top.inner, dict) and name in top.inner and top.inner[name].inner is not None


def _read(raw: bytes) -> Node:
    begin = 3 if raw.startswith(b"\xef\xbb\xbf") else 0
    names: dict[str, Node] = {}
    top = Node(begin, len(raw), None, names, begin, len(raw))
    section, last, indent, blank, at = top, None, 0, 0, begin
    while at < len(raw):
        found = _LINE.match(raw, at)
        assert found is not None
        line, end = found[0], found.end()
        bare = line.strip()
        here = section.inner
        assert isinstance(here, dict)
        own = len(line) - len(line.lstrip())
        if not bare:
            blank += 1
        elif bare.startswith((b"#", b";")):
            pass
        elif last is not None and own > indent:
            _go_on(last, bare, at + own, blank, end)
            blank = 0
        elif head := _SECTION.match(bare):
            name, last = head[1].decode(), None
            known = names.get(name)
            if known is None or known.inner is None:
                section = names[name] = Node(end, end, None, {}, at, end)
            else:
                section = known
                section.first = -1  # it stands in several parts
        else:
            last, indent, blank = _value(line, at, end), own, 0
            name = _SIGN.split(bare, maxsplit=1)[0].strip().decode().lower()
            if not name:
                raise DamagedError(f"It is no INI text: nothing stands before {bare[:40]!r}.")
            here.pop(name, None)
            here[name] = last
        if section is not top:
            section.end = section.last = end
        at = end
    return top


def _go_on(node: Node, bare: bytes, at: int, blank: int, end: int) -> None:
    """Add a line to the value that it goes on with."""
    if node.start < 0:
        raise DamagedError("It is no INI text: a line is indented below a key that has no value.")
    node.value = str(node.value) + "\n" * (blank + 1) + bare.decode()
    node.end, node.last = at + len(bare), end


def _value(line: bytes, at: int, end: int) -> Node:
    """Return what stands behind a name; without a sign, that is nothing."""
    sign = _SIGN.search(line)
    if sign is None:
        return Node(-1, -1, None, None, at, end)
    behind = line[sign.end() :].rstrip()
    start = at + sign.end() + len(behind) - len(behind.lstrip())
    value = behind.strip()
    return Node(start, start + len(value), value.decode(), None, at, end)
