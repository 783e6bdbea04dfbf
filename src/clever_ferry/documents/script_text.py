"""Start scripts as documents: the value behind each option, and what is set before.

`--world Isle`, `--world=Isle` and `+map Isle` are `/--world` and `/+map`; `WORLD=Isle`, `export
WORLD=Isle` and `set WORLD=Isle` are `/WORLD`. Of a name that stands twice, the last counts. Nothing
of a script is run, and nothing is written into one that its shell would take for more than a text.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from clever_ferry.documents.form import Splice, whole_text
from clever_ferry.documents.nodes import FRESH, Node, Single, nodes_at
from clever_ferry.documents.places import Step, text_of
from clever_ferry.documents.spec import ScriptSpec
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.payload import Payload

__all__ = ["Script"]

_MOST = 1 << 20
_PARTS = {
    "sh": re.compile(
        r"""(?P<blank>(?:[ \t]|\\\r?\n)+)|(?P<end>[\r\n;|&]+)"""
        r"""|(?P<word>(?:'[^']*'|"(?:[^"\\]|\\.)*"|\\.|[^\s'"\\;|&])+)|(?P<other>.)""", re.DOTALL,
    ),
    "bat": re.compile(
        r"""(?P<blank>(?:[ \t]|\^\r?\n)+)|(?P<end>[\r\n|&]+)"""
        r"""|(?P<word>(?:"[^"\r\n]*"|\^.|[^\s"^|&])+)|(?P<other>.)""", re.DOTALL,
    ),
}  # fmt: skip
_REMARK = {"sh": re.compile(r"#[^\r\n]*"), "bat": re.compile(r"@?(?:rem\b|::)[^\r\n]*", re.I)}
_OPTION = re.compile(r"(--?|\+)[A-Za-z]")
_SETS = re.compile(r"[A-Za-z_]\w*(?==)")
_PLAIN = re.compile(r"[\w.,:/@+-]+")
_SETTING = ("export", "set", "local", "readonly")


class _Word(NamedTuple):
    raw: str
    start: int
    end: int


class Script:
    """A script of a POSIX shell, or of Windows' own."""

    several = False

    def __init__(self, spec: ScriptSpec) -> None:
        self.shell = spec.shell
        self.title = "shell script" if spec.shell == "sh" else "batch file"

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return for each place what stands there; every name is right at the top."""
        text = whole_text(source, _MOST, self.title).decode()
        top: dict[str, Node] = {}
        for command in self._commands(text):
            for name, node in self._said(command, text):
                top.pop(name, None)
                top[name] = node
        _to_bytes(list(top.values()), text)
        whole = Node(0, len(text.encode()), None, top, 0, len(text.encode()))
        return [nodes_at(whole, steps) for steps in places]

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Return a word that the shell takes for this text and nothing else."""
        text = text_of(value)
        if node.start < 0:
            raise RefusedError("An option without a value can't be given one.")
        if node.bare:
            if not text.isprintable() or text != text.strip() or re.search(r'["%^!&|<>]', text):
                raise RefusedError(f"A {self.title} can't be given {text!r} as nothing but a text.")
            return text.encode()
        if _PLAIN.fullmatch(text) and text.isascii() and old[:1] not in (b'"', b"'"):
            return text.encode()
        quote = "'" if self.shell == "sh" else '"'
        unsafe = "'" if self.shell == "sh" else '"%^!'
        if not text.isprintable() or any(char in text for char in unsafe):
            raise RefusedError(f"A {self.title} can't be given {text!r} as nothing but a text.")
        return f"{quote}{text}{quote}".encode()

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Return what takes options away, with their values."""
        raw = whole_text(source, _MOST, self.title)
        splices = []
        for node in nodes:
            before = re.search(rb"[ \t]+$", raw[: node.first])
            splices.append(Splice(node.first - len(before[0] if before else b""), node.last, b""))
        return splices

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Return what adds an option behind the last one that the script has."""
        name = str(steps[-1])
        options = [node for key, node in (above.inner or {}).items() if _OPTION.match(key)] if (
            isinstance(above.inner, dict)
        ) else []  # fmt: skip
        if not options or not re.fullmatch(r"(--?|\+)[A-Za-z][\w.-]*", name):
            raise RefusedError(f"There is no option to add {name!r} behind, or it is none.")
        at = max(node.last for node in options)
        new = self.put(source, FRESH, b"", value)
        return Splice(at, at, b" " + name.encode() + b" " + new)

    def _commands(self, text: str) -> list[list[_Word]]:
        found: list[list[_Word]] = [[]]
        at = 0
        while at < len(text):
            may = self.shell == "sh" or not found[-1]
            remark = _REMARK[self.shell].match(text, at) if may else None
            part = remark or _PARTS[self.shell].match(text, at)
            assert part is not None
            kind = None if remark else part.lastgroup
            if kind == "other":
                raise DamagedError(f"This is no {self.title}: a quote at letter {at:,} never ends.")
            if kind == "end":
                found.append([])
            elif kind == "word":
                found[-1].append(_Word(part[0], at, part.end()))
            at = part.end()
        return found

    def _said(self, command: Sequence[_Word], text: str) -> list[tuple[str, Node]]:
        """Return what a command sets, and its options with the values behind them."""
        found: list[tuple[str, Node]] = []
        setting = True
        for number, word in enumerate(command):
            setting = setting and (
                word.raw.lower() in _SETTING or bool(_SETS.match(word.raw.lstrip('"')))
            )
            if setting:
                shift = len(word.raw) - len(word.raw.lstrip('"'))
                if name := _SETS.match(word.raw, shift):
                    start, end = word.start + name.end() + 1, word.end
                    if self.shell == "bat":  # all that follows is the value, quotes and blanks too
                        end = command[-1].end
                        behind = text[start:end]
                        end -= 1 if shift and behind.endswith('"') else 0
                        node = Node(start, end, text[start:end], None, word.start, command[-1].end)
                        node.bare = True
                        return [(name[0], node)]
                    value = self._meant(text[start:end])
                    found.append((name[0], Node(start, end, value, None, word.start, end)))
            elif _OPTION.match(word.raw):
                name_, sign, value = word.raw.partition("=")
                after = command[number + 1] if number + 1 < len(command) else None
                if sign:
                    start = word.start + len(name_) + 1
                    node = Node(start, word.end, self._meant(value), None, word.start, word.end)
                elif after is not None and not _OPTION.match(after.raw):
                    value = self._meant(after.raw)
                    node = Node(after.start, after.end, value, None, word.start, after.end)
                else:
                    node = Node(-1, -1, "", None, word.start, word.end)
                found.append((name_, node))
        return found

    def _meant(self, raw: str) -> str:
        """Return a word without its quotes; what a shell would put in stays as it is written."""
        if self.shell == "bat":
            return re.sub(r"\^(.)", r"\1", raw.replace('"', ""), flags=re.DOTALL)
        return re.sub(
            r"""'([^']*)'|"((?:[^"\\]|\\.)*)"|\\(.)""",
            lambda one: one[1] if one[1] is not None else one[3] if one[3] is not None
            else re.sub(r"\\([\"\\$`])", r"\1", one[2]),
            raw, flags=re.DOTALL,
        )  # fmt: skip


def _to_bytes(nodes: Sequence[Node], text: str) -> None:
    """Turn positions that count letters into those that count bytes."""
    for node in nodes if not text.isascii() else ():
        for name in ("start", "end", "first", "last"):
            at = getattr(node, name)
            setattr(node, name, len(text[:at].encode()) if at >= 0 else at)
