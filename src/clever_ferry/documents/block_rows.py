"""Rows of a text of blocks: read for some of their values by whole blocks, and not word by word.

What a pattern can't take in one go is read word by word, so that both ways say the same.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import NamedTuple

from clever_ferry.documents.nodes import Node, Single
from clever_ferry.documents.places import Step
from clever_ferry.documents.tabled import Columns
from clever_ferry.payload import BytesPayload, Payload

__all__ = ["BlockRows", "RowSigns", "is_plain"]

_MOST_ALIKE = 50_000
_MOST_SHAPES = 6
_LARGEST_BLOCK = 16 << 20
_MARK = b"\xef\xbb\xbf"
_SIGNS = frozenset("/*#[]~-")
"""What a place with more in it than a name has."""


class RowTools(NamedTuple):
    """What a form of blocks does to bytes itself."""

    noise: tuple[bytes, ...]
    """The signs without one of which no comment and no block is there."""
    opens: bytes
    ends: bytes
    token: re.Pattern[bytes]
    plain: Callable[[bytes], str]
    find: Callable[[Payload, Sequence[Sequence[Step]]], list[list[Node]]]


class RowSigns(NamedTuple):
    """How blocks of one form look, as patterns; `@` stands for a block's name."""

    row: str
    """A block, with its further `words` and its `inner` text."""
    other: str
    """A statement or a block that is whole, or a line with nothing in it."""
    begin: str
    """A block's name, further words and opening."""
    end: str
    """Its closing."""
    line: str
    """A line of a block, with the named block that begins on it, if it ends there."""
    cell: str
    """What follows a name: a value and the end of its line, or of the block."""
    value: str
    """The same, at a line's end."""
    over: str
    """That a word is over."""
    within: re.Pattern[bytes]
    """What stands in a block and is no statement of it: texts, comments, further blocks."""
    own: RowTools


def row_signs(
    *, word: str, quoted: str, comment: str, between: str, opens: str, closes: str, ends: str,
    words: str, inner: str, apart: str, word_over: str, statement_over: str, own: RowTools,
) -> RowSigns:  # fmt: skip
    """Return the patterns, made of those of a form: of a word, what is between quotes, and so on.

    `words` are those behind a block's name, up to its opening; `inner` is what is in a block.
    """
    unnamed = words.replace("?P<words>", "?:")
    alone = rf"(?!(?:\s|(?:{comment})[^\n]*\n)*{opens})"  # else it begins a block
    return RowSigns(
        row=rf"\s*@{words}(?P<inner>{inner}){closes}{ends}",
        other=rf"(?:[ \t]*{word}{between}(?:{word}|{quoted}){statement_over}"
        rf"|\s*{word}{unnamed}{inner}{closes}{ends}"
        rf"|[ \t]*(?:(?:{comment})[^\n]*)?\r?\n)",
        begin=rf"\s*@{words}",
        end=rf"{closes}{ends}",
        line=rf"(?![ \t]*{opens})(?:[^{apart}\n]++|{quoted}|(?:{comment})[^\n]*"
        rf"|{opens}{inner}{closes}(?=[ \t]*(?:\r?\n|{closes}|{comment}))"
        rf"|(?!{opens}|{closes})[^\n])*+",
        cell=rf"{between}({word}|{quoted})[ \t]*(?:\r?\n{alone}|(?={closes}))",
        value=rf"{between}(?P<value>{word}|{quoted})[ \t]*\r?$(?!\s*{opens})",
        over=word_over,
        within=re.compile(
            rf"(?P<kept>{quoted})|(?:{comment})[^\n]*|(?P<block>{opens}{inner}{closes})".encode()
        ),
        own=own,
    )


def is_plain(rows: str, places: Sequence[str | None]) -> bool:
    """Tell whether rows are blocks of one name at the top, and places names right within."""
    names = [rows[1:], *(at[1:] for at in places if at is not None)]
    rooted = rows[:1] == "/" and all(at is None or at[:1] == "/" for at in places)
    return rooted and bool(names[0]) and not any(_SIGNS & set(name) for name in names)


class BlockRows:
    """The blocks of one name, read for some of their values: by whole blocks, not by words."""

    def __init__(self, signs: RowSigns, rows: str, places: Sequence[str | None], most: int) -> None:
        """`rows` and `places` are plain ones, such as `/realm`, `/gold` and `/`."""
        name, columns = rows[1:], [None if at is None else at[1:] for at in places]
        self._signs, self._own = signs, signs.own
        self._name, self._columns, self._most = name, columns, most
        self._row = re.compile(signs.row.replace("@", re.escape(name), 1).encode())
        own = rf"(?!\s*{re.escape(name)}{signs.over})"
        self._others = re.compile(f"(?:{own}{signs.other})++".encode())
        wanted = [column for column in columns if column]
        names = "|".join(re.escape(column) for column in wanted) or "(?!)"
        self._starts = re.compile(rf"^[ \t]*(?:{names}){signs.over}".encode(), re.MULTILINE)
        self._cells = re.compile(rf"^[ \t]*(?P<name>{names}){signs.value}".encode(), re.MULTILINE)
        self._bare = re.compile(rb"^[ \t]*" + re.escape(self._own.opens), re.MULTILINE)
        self._at = {column.encode(): at for at, column in enumerate(columns) if column}
        self._values: list[list[Single]] = [[] for _ in columns]
        self._several = [0] * len(columns)
        self._count = 0
        self._known: dict[bytes, str] = {}
        self._labels = [at for at, column in enumerate(columns) if column == ""]
        fixed = {at for at, column in enumerate(columns) if column is None}
        self._appending = [(at, values.append) for at, values in enumerate(self._values)
                           if at not in fixed]  # fmt: skip
        self._shapes: list[tuple[Callable[..., re.Match[bytes] | None], tuple[int, ...]]] = []

    def read(self, source: Payload) -> Columns | None:
        """Read all rows; None where what stands between them is not plain to see."""
        rest, first = b"", True
        for chunk in source.chunks():
            text = rest + chunk
            if first:
                text, first = text.removeprefix(_MARK), False
            cut = text.rfind(b"\n") + 1
            rest = text[self._taken(text, cut) :]
            if len(rest) > _LARGEST_BLOCK:
                return None
        rest += b"\n"
        if rest[self._taken(rest, len(rest)) :].strip():
            return None
        for at, column in enumerate(self._columns):
            if column is None:
                self._values[at] = [self._name] * min(self._count, self._most)
        return Columns(self._count, self._values, self._several)

    def _taken(self, text: bytes, cut: int) -> int:
        """Read as many whole rows and other statements as there are; return where they end."""
        row, other, at = self._row.match, self._others.match, 0
        while at < cut:
            for shape, places in self._shapes:
                found = shape(text, at, cut)
                if found is not None:
                    if self._count < self._most:
                        self._put(places, found.groups())
                    break
            else:
                found = row(text, at, cut)
                if found is not None and self._count < self._most:
                    self._take(found)
            if found is not None:
                self._count += 1
            else:
                found = other(text, at, cut)
            if found is None or found.end() == at:
                break
            at = found.end()
        return at

    def _put(self, places: Sequence[int], groups: Sequence[bytes]) -> None:
        """Put the values of a row; the first group is the words behind the block's name."""
        cells: list[Single] = [None] * len(self._columns)
        known = self._known
        twice: set[int] | None = None
        for at, raw in zip(places, groups[1:], strict=True):
            if cells[at] is None:
                cells[at] = known.get(raw) or self._text(raw)
            else:
                twice = {at, *(twice or ())}
        for at in twice or ():
            self._several[at] += 1
        if self._labels:
            words = groups[0].strip()
            for at in self._labels:
                cells[at] = known.get(words) or self._label(words)
        for at, values in self._appending:
            values(cells[at])

    def _take(self, row: re.Match[bytes]) -> None:
        """Read a row of a shape that is not known yet, and remember that."""
        inner, signs = row["inner"], self._signs
        if self._own.ends and self._own.ends in inner:
            self._take_slowly(row[0])
            return
        if any(sign in inner for sign in self._own.noise):
            inner = signs.within.sub(self._plain, inner)
        found = list(self._cells.finditer(inner))
        bare = self._labels and self._own.opens in inner and self._bare.search(inner)
        if bare or len(found) != len(self._starts.findall(inner)):
            self._take_slowly(row[0])
            return
        places = tuple(self._at[cell["name"]] for cell in found)
        self._put(places, (row["words"], *(cell["value"] for cell in found)))
        if len(self._shapes) < _MOST_SHAPES:
            self._shapes.append((self._shaped(places).match, places))

    def _shaped(self, places: Sequence[int]) -> re.Pattern[bytes]:
        """Return what reads at one go a row that has these columns in this order."""
        signs = self._signs
        names = "|".join(re.escape(str(self._columns[at])) for at in self._at.values()) or "(?!)"
        bare = rf"(?![ \t]*(?:{names}){signs.over}){signs.line}"
        others = rf"(?:{bare}\n)*+"
        cells = "".join(
            rf"{others}[ \t]*{re.escape(str(self._columns[at]))}{signs.cell}" for at in places
        )
        begin = signs.begin.replace("@", re.escape(self._name), 1)
        return re.compile(f"{begin}{cells}{others}{bare}{signs.end}".encode())

    def _plain(self, found: re.Match[bytes]) -> bytes:
        """Return what stands for a text, a comment or a block: of a block, that it began."""
        if found.lastgroup == "kept":
            return found[0]
        return self._own.opens + b"\n" if found.lastgroup == "block" else b""

    def _take_slowly(self, block: bytes) -> None:
        """Read one block word by word."""
        places: list[list[Step]] = [[self._name, column] for column in self._columns
                                    if column is not None]  # fmt: skip
        nodes = iter(self._own.find(BytesPayload(block), places))
        for at, column in enumerate(self._columns):
            if column is None:
                continue
            there = next(nodes)
            self._several[at] += len(there) > 1
            value = there[0].value if there and there[0].inner is None else None
            self._values[at].append(value)

    def _label(self, raw: bytes) -> str | None:
        """Return what the words behind a block's name say together."""
        if raw.isalnum():
            return self._text(raw)
        words = [one[0] for one in self._own.token.finditer(raw)
                 if one.lastgroup in ("word", "quoted")]  # fmt: skip
        if len(words) == 1:
            return self._text(words[0])
        return b" ".join(words).decode() if words else None

    def _text(self, raw: bytes) -> str:
        """Return a value's text; the same one for the same bytes, as many rows say alike."""
        text = self._known.get(raw)
        if text is None:
            if len(self._known) > _MOST_ALIKE:
                self._known.clear()
            text = self._known[raw] = self._own.plain(raw)
        return text
