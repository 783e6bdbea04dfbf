"""XML as documents, read as it goes by: no entity is expanded, nothing outside is fetched.

An element with nothing but text is its text; else it has its attributes (`@name`), its children by
their tags, which may stand several times, and its own text (`text`).
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any
from xml.parsers import expat
from xml.sax.saxutils import escape

from msgspec import Struct

from clever_ferry.documents.form import First, Splice, whole_text
from clever_ferry.documents.matching import Matcher
from clever_ferry.documents.nodes import FRESH, Node, Single
from clever_ferry.documents.places import Step, text_of
from clever_ferry.errors import DamagedError, RefusedError, UnsupportedError
from clever_ferry.payload import BytesPayload, Payload, head, read_all

__all__ = ["Xml"]

_DEEPEST = 100
_MOST = 256 << 20
_LONGEST_TAG = 1 << 20
_NAME = re.compile(r"[^\W\d][\w.:-]*")
_TAG = re.compile(rb"<[^\s/>]+")
_ATTRIBUTE = re.compile(rb"""\s+([^\s=/>]+)\s*=\s*("[^"]*"|'[^']*')""")
_ENCODING = re.compile(rb"""(?:\xef\xbb\xbf)?<\?xml[^>]*?encoding\s*=\s*["']([\w.-]+)""")
_CONTROL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")


class _Element(Struct):
    """An element that has begun."""

    tag: str
    start: int
    parts: list[str]
    """Its own text."""
    text_start: int = -1
    text_end: int = -1
    plain: bool = True
    """Whether nothing but text is in it, and no attribute at its tag."""
    filled: bool = False
    """Whether there is anything between its tags."""
    whole: bool = True
    """Whether its text stands in one run, without a comment or the like between."""


class Xml:
    """XML 1.0 in an encoding in which a letter of ASCII is its own byte."""

    title = "XML"
    several = True

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return for each place what stands there; what is in UTF-16 is only read."""
        matcher = Matcher(places)
        whole, only_read = self._read(source, matcher)
        found = matcher.end(whole)
        for node in (node for nodes in found for node in nodes) if only_read else ():
            node.start = node.end = node.first = node.last = -1
        return found

    def first(self, source: Payload, places: Sequence[Sequence[Step]], most: int) -> list[First]:
        """Return the first that stand at each place."""
        matcher = Matcher(places, most)
        return matcher.first(self._read(source, matcher)[0])

    def _read(self, source: Payload, matcher: Matcher) -> tuple[Node, bool]:
        """Return the whole of it, and whether it is in UTF-16, in which nothing can be put."""
        try:
            if head(source, 2) not in (b"\xff\xfe", b"\xfe\xff"):
                return _Reading(matcher).read(source), False
            text = read_all(source, limit=_MOST, what="The XML").decode("utf-16")
            return _Reading(matcher, "UTF-8").read(BytesPayload(text.encode())), True
        except (expat.ExpatError, ValueError, LookupError) as error:
            raise DamagedError(f"This is no XML that can be read ({error}).") from None

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Return a text or an attribute with a value in it; refuses what XML has no word for."""
        if node.start < 0:
            raise RefusedError(
                "That text can't be changed: a comment stands within it, or it is XML in UTF-16."
            )
        text = text_of(value)
        if _CONTROL.search(text) or text != text.strip():
            raise RefusedError(f"A text of XML can't be {text!r} and stay that.")
        if old[:1] in (b'"', b"'") and node.last == node.end and node.first != node.start:
            quote = old[:1].decode()
            quoted = {quote: "&quot;" if quote == '"' else "&apos;",
                      "\n": "&#10;", "\r": "&#13;", "\t": "&#9;"}  # fmt: skip
            return _encoded(source, quote + escape(text, quoted) + quote)
        new = _encoded(source, escape(text, {"\r": "&#13;"}))
        if tag := re.match(rb"<([^\s/>]+)", old):  # an element that is closed where it begins
            return old.removesuffix(b"/>").rstrip() + b">" + new + b"</" + tag[1] + b">"
        return new

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Return what takes elements away, with the line that one has for itself, or attributes."""
        raw = whole_text(source, _MOST, self.title)
        splices = list[Splice]()
        for node in nodes:
            if node.start < 0:
                raise RefusedError("That text stands in parts, and can't be taken away.")
            blank = rb"\r?\n[ \t]*$" if raw.startswith(b"<", node.first) else rb"\s+$"
            before = re.search(blank, raw[max(0, node.first - 4096) : node.first])
            first = node.first - (len(before[0]) if before else 0)
            splices.append(Splice(first, node.last, b""))
        return splices

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Return what adds an element as the last child, on a line like the first, or `@name`."""
        name = str(steps[-1])
        raw = whole_text(source, _MOST, self.title)
        if above.inner is None and not raw.startswith(b"<", above.first):
            raise RefusedError(f"Nothing can be added as {name!r}: a single value stands there.")
        tag = _tag_end(raw, above.first)
        if name.startswith("@"):
            at = tag - (2 if raw[tag - 2 : tag] == b"/>" else 1)
            _refuse_name(name[1:])
            literal = self.put(source, Node(1, 2, first=0, last=2), b'"', value)
            return Splice(at, at, b" " + name[1:].encode() + b"=" + literal)
        _refuse_name(name)
        text = self.put(source, FRESH, b"", value)
        element = f"<{name}>".encode() + text + f"</{name}>".encode()
        return self.join(source, above, [(name, element)])

    def join(self, source: Payload, above: Node, new: Sequence[tuple[str, bytes]]) -> Splice:
        """Return what adds elements that are spelled already, each on a line like the first."""
        elements = [element for _, element in new]
        raw = whole_text(source, _MOST, self.title)
        tag = _tag_end(raw, above.first)
        if raw[tag - 2 : tag] == b"/>":
            own = re.match(rb"<([^\s/>]+)", raw[above.first : tag])
            closing = b"</" + (own[1] if own else b"") + b">"
            return Splice(tag - 2, tag, b">" + b"".join(elements) + closing)
        end = raw.rindex(b"</", above.first, above.last)
        outer = re.search(rb"\r?\n[ \t]*$", raw[tag:end])
        at = end - (len(outer[0]) if outer else 0)
        gap = re.match(rb"\r?\n[ \t]*", raw[tag:end])
        lead = gap[0] if gap and outer else b""
        return Splice(at, at, b"".join(lead + element for element in elements))


def _encoded(source: Payload, text: str) -> bytes:
    """Return a text in the document's encoding; letters that may not be in it as their numbers."""
    said = _ENCODING.match(head(source, 200))
    if said is None or said[1].upper() == b"UTF-8":
        return text.encode()
    return text.encode("ascii", "xmlcharrefreplace")


def _refuse_name(name: str) -> None:
    if not _NAME.fullmatch(name):
        raise RefusedError(f"XML has no name {name!r}.")


def _tag_end(raw: bytes, start: int) -> int:
    """Return where a tag that begins at a `<` ends."""
    at = _TAG.match(raw, start)
    assert at is not None
    end = at.end()
    while attribute := _ATTRIBUTE.match(raw, end):
        end = attribute.end()
    return raw.index(b">", end) + 1


class _Reading:
    """One way through a document."""

    def __init__(self, matcher: Matcher, encoding: str | None = None) -> None:
        self._matcher = matcher
        self._open: list[_Element] = []
        self._window = b""
        self._from = 0  # free: the first bytes set it
        self._idle = 0
        """How deep it is in an element in which nothing is asked for."""
        self._parser = parser = expat.ParserCreate(encoding)
        parser.buffer_text = False
        self._listen(idle=False)
        parser.StartDoctypeDeclHandler = _refuse_doctype

    def _listen(self, *, idle: bool) -> None:
        """Have elements told to those who look into them, or who only count."""
        parser = self._parser
        parser.StartElementHandler = self._deeper if idle else self._begin
        parser.EndElementHandler = self._back if idle else self._end
        parser.CharacterDataHandler = None if idle else self._text
        between = None if idle else self._between
        parser.CommentHandler = parser.ProcessingInstructionHandler = between
        parser.StartCdataSectionHandler = parser.EndCdataSectionHandler = between

    def _deeper(self, tag: str, attributes: dict[str, str]) -> None:
        self._idle += 1
        if len(self._open) + self._idle > _DEEPEST:
            raise DamagedError(f"It nests more than {_DEEPEST} elements.")

    def _back(self, tag: str) -> None:
        self._idle -= 1
        if not self._idle:
            self._matcher.leave(_NOTHING)
            self._listen(idle=False)

    def read(self, source: Payload) -> Node:
        """Go through all of it; return what it is as a whole."""
        total = 0
        for chunk in source.chunks():
            total += len(chunk)
            self._window = self._window[-_LONGEST_TAG:] + chunk
            self._from = total - len(self._window)
            self._parser.Parse(chunk, False)
        self._parser.Parse(b"", True)
        return Node(0, total, inner={}, first=0, last=total)

    def _near(self, place: int) -> int:
        """Return where in the window a place of the document is."""
        if place < self._from:
            raise UnsupportedError(f"A tag of XML is longer than {_LONGEST_TAG:,} bytes.")
        return place - self._from

    def _begin(self, tag: str, attributes: dict[str, str]) -> None:
        start = self._parser.CurrentByteIndex
        if self._open:
            self._stop_text(start)
            self._open[-1].plain, self._open[-1].filled = False, True
        if len(self._open) >= _DEEPEST:
            raise DamagedError(f"It nests more than {_DEEPEST} elements.")
        matcher = self._matcher
        matcher.enter(tag)
        if matcher.idle:
            self._idle = 1
            self._listen(idle=True)
            return
        self._open.append(_Element(tag, start, [], plain=not attributes))
        if attributes:
            self._attributes(start, attributes)

    def _attributes(self, start: int, attributes: dict[str, str]) -> None:
        window, shift = self._window, self._from
        at = _TAG.match(window, self._near(start))
        end = at.end() if at else 0
        while one := _ATTRIBUTE.match(window, end):
            end = one.end()
            name = one[1].decode()
            self._matcher.enter(f"@{name}")
            first, last = shift + one.start(1), shift + one.end()
            self._matcher.leave(
                Node(shift + one.start(2), last, attributes[name], None, first, last)
            )

    def _text(self, data: str) -> None:
        element = self._open[-1]
        element.filled = True
        if element.text_start < 0:
            if not data.strip():
                return
            element.text_start = self._parser.CurrentByteIndex
        elif element.text_end >= 0:
            if not data.strip():
                return
            element.whole, element.text_end = False, -1
        element.parts.append(data)

    def _between(self, *_: Any) -> None:
        if self._open:
            element = self._open[-1]
            element.filled = True
            if element.text_start >= 0:
                self._stop_text(self._parser.CurrentByteIndex)
                element.whole = False

    def _stop_text(self, at: int) -> None:
        element = self._open[-1]
        if element.text_start >= 0 and element.text_end < 0:
            element.text_end = at

    def _end(self, tag: str) -> None:
        at = self._parser.CurrentByteIndex
        self._stop_text(at)
        element = self._open.pop()
        matcher = self._matcher
        near, closed = self._near(at), False
        if not element.filled and self._window[near - 2 : near] == b"/>":
            closed = _tag_end(self._window, self._near(element.start)) == near
        end = at if closed else self._from + self._window.index(b">", near) + 1
        value = "".join(element.parts).strip()
        start, stop = (element.start, end) if closed else self._trimmed(element, at)
        if element.plain:
            matcher.leave(Node(start, stop, value, None, element.start, end))
            return
        if value:
            matcher.enter("text")
            here = start if start >= 0 else element.start  # which element it is of, in any case
            matcher.leave(Node(start, stop, value, None, here, max(stop, here)))
        matcher.leave(Node(element.start, end, None, {}, element.start, end))

    def _trimmed(self, element: _Element, at: int) -> tuple[int, int]:
        """Return where the text stands without what is blank around it; -1 where it is in parts."""
        if not element.parts:
            return at, at
        if not element.whole:
            return -1, -1
        near = self._near(element.text_start)
        raw = self._window[near : near + element.text_end - element.text_start]
        left = len(raw) - len(raw.lstrip())
        return element.text_start + left, element.text_start + len(raw.rstrip())


_NOTHING = Node(0, 0, inner={})  # free: what holds others, and no more


def _refuse_doctype(*_: Any) -> None:
    raise DamagedError("It declares entities, which no save needs.")
