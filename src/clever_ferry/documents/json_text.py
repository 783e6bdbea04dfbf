"""JSON as documents: strict, or with comments and commas behind the last (`relaxed`)."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import Any

import msgspec

from clever_ferry.documents.form import Splice, whole_text
from clever_ferry.documents.nodes import Node, Single, nodes_at
from clever_ferry.documents.places import COUNT, EVERY, Choice, Step, stands_in
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.payload import Payload

__all__ = ["Json", "read_json", "refuse_other", "rows_in_json"]

_MOST = 256 << 20
_DEEPEST = 500
_BLANK = re.compile(r"[ \t\r\n]*")
_IDLE = re.compile(r"(?:[ \t\r\n]+|//[^\n]*|/\*(?:[^*]|\*(?!/))*\*/)*")
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?")
_ESCAPED = re.compile(rb"(?:[^\\]|\\[^u])*\\u")
"""A text in which a letter is written by its number; a backslash before a `u` is none."""
_WORDS: dict[str, Single] = {"true": True, "false": False, "null": None}
_scan: Any = vars(json.JSONDecoder())["scan_once"]
_text = json.decoder.scanstring  # type: ignore[attr-defined]


def read_json(raw: bytes, title: str) -> Any:
    """Return strict JSON as nested values; raises DamagedError where it is none."""
    try:
        return msgspec.json.decode(raw)  # the same values as by `json`, but strict, and quicker
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        pass
    try:
        return json.loads(raw)
    except (ValueError, RecursionError) as error:
        raise DamagedError(f"{title} is no JSON that can be read ({error}).") from None


def rows_in_json(
    raw: bytes, path: Sequence[str], columns: Sequence[str], most: int
) -> tuple[int, list[list[Any]]] | None:
    """Return how many objects a list has, and of the first ones the values by name, None for none.

    `path` are the names that lead to the list. Nothing else of the text is kept in memory. None
    where the text is otherwise: not such objects, or not as strict as `read_json` begins.
    """
    names = {f"c{number}": name for number, name in enumerate(dict.fromkeys(columns))}
    row: Any = msgspec.defstruct("Row", [(name, Any, None) for name in names],
                                 rename=names, gc=False)  # fmt: skip
    wanted: Any = list[row]
    for name in reversed(path):
        wanted = msgspec.defstruct("Top", [("inner", wanted, [])], rename={"inner": name})
    try:
        found = msgspec.json.decode(raw, type=wanted)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        return None
    for _ in path:
        found = found.inner
    at = {name: own for own, name in names.items()}
    values: list[list[Any]] = []
    for column in columns:
        cells = [getattr(one, at[column]) for one in found[:most]]
        values.append([None if isinstance(one, dict | list) else one for one in cells])
    return len(found), values


def refuse_other(raw: bytes) -> None:
    """Raise DamagedError where a text is no JSON; its values are not made."""
    try:
        msgspec.json.decode(raw, type=msgspec.Raw)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        read_json(raw, "It")


class Json:
    """JSON (RFC 8259), which may begin with a byte order mark."""

    several = False

    def __init__(self, *, relaxed: bool = False) -> None:
        self.relaxed = relaxed
        self.title = "commented JSON" if relaxed else "JSON"

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return for each place what stands there; of one name that is said twice, the last."""
        raw = whole_text(source, _MOST, self.title)
        mark = 3 if raw.startswith(b"\xef\xbb\xbf") else 0
        text = raw[mark:].decode()
        try:
            if self.relaxed:
                top = _Relaxed(text).top()
                found = [nodes_at(top, steps) for steps in places]
            else:
                refuse_other(raw[mark:])
                found = [list(_look(text, _after(text, 0), steps)) for steps in places]
        except (ValueError, RecursionError, IndexError) as error:
            raise DamagedError(f"This is no {self.title} that can be read: {error}.") from None
        _to_bytes([node for nodes in found for node in nodes], text, mark)
        return found

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Return a value's literal; letters beyond ASCII stay letters unless `old` has none so."""
        return _literal(value, ascii_only=_ESCAPED.match(old) is not None)

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Return what takes members away, with the commas that part them from their neighbours."""
        raw, gone = whole_text(source, _MOST, self.title), {one.start for one in nodes}
        (every,) = self.find(source, [steps[:-1]])
        return [splice for above in every for splice in self._without(raw, above, gone)]

    def _without(self, raw: bytes, above: Node, gone: set[int]) -> list[Splice]:
        inner, splices = above.within, list[Splice]()
        before: Node | None = None
        for run, stays in _runs(inner, gone):
            if stays:
                before = run[-1]
                continue
            behind = run[-1].last + self._comma(raw[run[-1].last : above.end].decode())
            ends = run[-1] is inner[-1]
            parts = [(run[0].first, behind if ends else inner[inner.index(run[-1]) + 1].first)]
            if not _blank(raw, run, *parts[0]):  # comments stay
                parts = [(one.first, one.last + self._comma(raw[one.last : above.end].decode()))
                         for one in run]  # fmt: skip
            if ends and before is not None and behind == run[-1].last:
                comma = before.last + self._comma(raw[before.last : above.end].decode())
                if raw[comma : run[0].first].isspace() or comma == run[0].first:
                    parts[0] = (comma - 1, parts[0][1])
                else:
                    parts.append((comma - 1, comma))
            splices += [Splice(start, end, b"") for start, end in parts]
        return splices

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Return what adds a member, set off as the last one is."""
        return self.join(source, above, [(str(steps[-1]), _literal(value, ascii_only=False))])

    def join(self, source: Payload, above: Node, new: Sequence[tuple[str, bytes]]) -> Splice:
        """Return what adds members that are spelled already."""
        if above.inner is None:
            told = f"Nothing can be added as {new[0][0]!r}"
            raise RefusedError(f"{told}: a single value stands there.")
        raw = whole_text(source, _MOST, self.title)
        named = isinstance(above.inner, dict)
        inner = above.within
        last = inner[-1] if inner else None
        colon = re.search(rb'"(\s*:\s*)$', raw[last.first : last.start]) if last else None
        sign = colon[1] if colon else b": "
        members = [
            json.dumps(name, ensure_ascii=False).encode() + sign + member if named else member
            for name, member in new
        ]
        if last is None:
            return Splice(above.start + 1, above.start + 1, b", ".join(members))
        blank = re.search(rb"[ \t\r\n]*$", raw[above.start + 1 : last.first])
        gap = blank[0] if blank else b""
        if comma := self._comma(raw[last.last : above.end].decode()):
            at = last.last + comma
            return Splice(at, at, b"".join(gap + member + b"," for member in members))
        return Splice(last.last, last.last, b"".join(b"," + gap + member for member in members))

    def _comma(self, behind: str) -> int:
        """Return how many bytes reach to the end of a comma that stands behind the last member."""
        at = _skip(behind, 0) if self.relaxed else _after(behind, 0)
        return len(behind[: at + 1].encode()) if behind[at : at + 1] == "," else 0


def _literal(value: Single, *, ascii_only: bool) -> bytes:
    try:
        return json.dumps(value, ensure_ascii=ascii_only, allow_nan=False).encode()
    except ValueError:
        raise RefusedError(f"JSON has no word for {value!r}.") from None


def _runs(inner: Sequence[Node], gone: set[int]) -> list[tuple[list[Node], bool]]:
    """Cut members into runs of those that go, and of those that stay (True)."""
    return [(list(run), stays) for stays, run in groupby(inner, lambda one: one.start not in gone)]


def _blank(raw: bytes, run: Sequence[Node], start: int, end: int) -> bool:
    """Tell whether nothing but the members of a run and commas stands somewhere."""
    gaps = [start, *(at for one in run for at in (one.first, one.last)), end]
    return all(not raw[begin:stop].strip(b" \t\r\n,") for begin, stop in zip(gaps[::2], gaps[1::2],
                                                                        strict=True))  # fmt: skip


def _to_bytes(nodes: Sequence[Node], text: str, mark: int) -> None:
    """Turn positions that count letters into those that count bytes."""
    every: list[Node] = []
    waiting = list(nodes)
    seen: set[int] = set()
    while waiting:
        node = waiting.pop()
        if id(node) not in seen:
            seen.add(id(node))
            every.append(node)
            waiting += node.within
    if text.isascii():
        places = None
    else:
        wanted = sorted(
            {at for node in every for at in (node.start, node.end, node.first, node.last)}
        )
        places, count, before = {}, 0, 0
        for at in wanted:
            if at >= 0:
                count += len(text[before:at].encode())
                places[at], before = count, at
    for node in every:
        for name in ("start", "end", "first", "last"):
            at = getattr(node, name)
            setattr(node, name, mark + (places[at] if places is not None and at >= 0 else at))


def _after(text: str, at: int) -> int:
    blank = _BLANK.match(text, at)
    return blank.end() if blank else at


def _skip(text: str, at: int) -> int:
    idle = _IDLE.match(text, at)
    return idle.end() if idle else at


def _look(text: str, at: int, steps: Sequence[Step], first: int = -1) -> Iterator[Node]:
    """Yield the nodes that steps lead to from a value on; what is passed by is read by C."""
    if not steps:
        value, end = _scan(text, at)
        node = _node(value, first if first >= 0 else at, at, end)
        members = [_node(one, key_at, start, stop)
                   for _, key_at, start, one, stop in _members(text, at, read=True)
                   ] if node.inner is not None else []  # fmt: skip
        if isinstance(value, dict):
            names = [key for key, *_ in _members(text, at)]
            node.inner = {}
            for name, member in zip(names, members, strict=True):
                node.inner.pop(name, None)
                node.inner[name] = member
        elif isinstance(value, list):
            node.inner = members
        yield node
        return
    step = steps[0]
    if text[at] not in "{[":
        return
    if step is COUNT:
        if text[at] == "[":
            value, end = _scan(text, at)
            if len(steps) == 1:
                yield Node(end, end, len(value))
        return
    if isinstance(step, Choice):
        for _, key_at, start, value, _ in _members(text, at, read=True):
            if stands_in(value, step):
                yield from _look(text, start, steps[1:], key_at)
        return
    last: tuple[int, int] | None = None
    for key, key_at, start, _, _ in _members(text, at):
        if step is EVERY:
            yield from _look(text, start, steps[1:], key_at)
        elif key == step:
            last = start, key_at
            ends = _text(text, key_at + 1, True)[1] if text[at] == "{" else key_at
            if text[at] == "[" or text.find(text[key_at:ends], ends) < 0:
                break  # none of that name can follow
    if last is not None:
        yield from _look(text, last[0], steps[1:], last[1])


def _node(value: Any, first: int, start: int, end: int) -> Node:
    inner: Any = {} if isinstance(value, dict) else [] if isinstance(value, list) else None
    return Node(start, end, value if inner is None else None, inner, first, end)


def _members(text: str, at: int, *, read: bool = False) -> Iterator[tuple[str, int, int, Any, int]]:
    """Yield of all members the name (or number), where that stands, and where the value does.

    With `read`, also the value and where it ends; else a member is read when the next is wanted.
    """
    named, closing = text[at] == "{", "}" if text[at] == "{" else "]"
    number = 0
    at = _after(text, at + 1)
    while text[at] != closing:
        first = at
        if named:
            key, at = _text(text, at + 1, True)
            at = _after(text, _after(text, at) + 1)
        else:
            key = str(number)
        if read:
            value, end = _scan(text, at)
            yield key, first, at, value, end
        else:
            yield key, first, at, None, 0
            end = _scan(text, at)[1]
        at, number = _after(text, end), number + 1
        if text[at] == ",":
            at = _after(text, at + 1)


class _Relaxed:
    """A text with comments (`//`, `/* */`) and commas behind the last member, as nodes."""

    def __init__(self, text: str) -> None:
        self._text = text

    def top(self) -> Node:
        """Return the whole; raises ValueError where it is none."""
        node = self._node(_skip(self._text, 0), 0)
        if _skip(self._text, node.end) != len(self._text):
            raise ValueError(f"something follows at {node.end}")
        return node

    def _node(self, at: int, depth: int) -> Node:
        text = self._text
        if depth > _DEEPEST:
            raise ValueError(f"it nests more than {_DEEPEST} deep")
        char = text[at : at + 1]
        if char and char in "{[":
            return self._branch(at, depth)
        if char == '"':
            value, end = _text(text, at + 1, True)
            return Node(at, end, value, first=at, last=end)
        if number := _NUMBER.match(text, at):
            return Node(at, number.end(), json.loads(number[0]), first=at, last=number.end())
        for word, meant in _WORDS.items():
            if text.startswith(word, at):
                return Node(at, at + len(word), meant, first=at, last=at + len(word))
        raise ValueError(f"no value stands at {at}")

    def _branch(self, at: int, depth: int) -> Node:
        text, named = self._text, self._text[at] == "{"
        closing = "}" if named else "]"
        inner: dict[str, Node] = {}
        start, at, number = at, _skip(text, at + 1), 0
        while text[at : at + 1] != closing:
            first, key = at, str(number)
            if named:
                if text[at : at + 1] != '"':
                    raise ValueError(f"no name stands at {at}")
                key, at = _text(text, at + 1, True)
                at = _skip(text, at)
                if text[at : at + 1] != ":":
                    raise ValueError(f"no colon stands at {at}")
                at = _skip(text, at + 1)
            node = self._node(at, depth + 1)
            node.first = first
            inner.pop(key, None)
            inner[key] = node
            at, number = _skip(text, node.end), number + 1
            if text[at : at + 1] == ",":
                at = _skip(text, at + 1)
            elif text[at : at + 1] != closing:
                raise ValueError(f"no comma stands at {at}")
        end = at + 1
        return Node(start, end, None, inner if named else list(inner.values()), start, end)
