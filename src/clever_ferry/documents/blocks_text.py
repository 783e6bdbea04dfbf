"""Texts of names, values and blocks as documents, read as they go by; a recipe states the signs.

Names may stand several times. A block's own words (`player "Isa" { … }`) are in it under the empty
name.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from msgspec import Struct

from clever_ferry.documents.block_rows import BlockRows, RowTools, is_plain, row_signs
from clever_ferry.documents.form import First, Splice, whole_text
from clever_ferry.documents.matching import Matcher, Wanted
from clever_ferry.documents.nodes import Node, Single
from clever_ferry.documents.places import Step, text_of
from clever_ferry.documents.spec import BlocksSpec
from clever_ferry.documents.tabled import Columns
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.payload import Payload

__all__ = ["Blocks"]

_MOST = 256 << 20
_LONGEST_LINE = 1 << 20
_DEEPEST = 200
_FLAT = 3
"""So deep blocks are within another that is passed by at one go."""


class _Word(NamedTuple):
    """A word or a quoted text, and where it stands."""

    raw: bytes
    start: int
    end: int


class _Statement(Struct):
    """A name and what follows it, as far as it has been read."""

    words: list[_Word]
    indent: int
    ended: bool = False
    """Whether its line is over, so that only the opening of its block can follow."""


class _Block(Struct):
    """A block that is open."""

    first: int
    indent: int


class Blocks:
    """Blocks by signs or by indentation."""

    title = "text of blocks"
    several = True

    def __init__(self, spec: BlocksSpec) -> None:
        self.spec = spec
        own = () if spec.indented else (spec.opens, spec.closes)
        signs = sorted((*own, *spec.assigns, *filter(None, [spec.ends])), key=len, reverse=True)
        self._opens = b"" if spec.indented else spec.opens.encode()
        self._closes = b"" if spec.indented else spec.closes.encode()
        self._ends = (spec.ends or "").encode()
        self._assigns = {sign.encode() for sign in spec.assigns}
        self._quote = (spec.quote or "").encode()
        self._escape = (spec.escape or "").encode() if spec.quote else b""
        comment = "|".join(re.escape(sign) for sign in spec.comments) or "(?!)"
        sign = "|".join(re.escape(sign) for sign in signs) or "(?!)"
        quote = re.escape(spec.quote or "")
        escape = re.escape(spec.escape or "") if spec.quote else ""
        ends_text = _letters(filter(None, [spec.quote, spec.escape if spec.quote else None]))
        inner = rf"[^\n{ends_text}]++|(?!{quote}){escape or '(?!)'}[^\n]|(?!{quote})[^\n]"
        quoted = f"{quote}(?:{inner})*+{quote}" if quote else "(?!)"
        stop = f"{comment}|{sign}" + (f"|{quote}" if quote else "")
        apart = _letters((*signs, *spec.comments, *filter(None, [spec.quote])))
        word = rf"(?:[^\s{apart}]++|(?!{stop})\S)++"
        over_ = rf"(?![^\s{apart}]|(?!{stop})\S)"
        self._token = re.compile(
            rf"(?P<line>\r?\n)|(?P<blank>[ \t\f\v\r]+)|(?P<comment>(?:{comment})[^\n]*)"
            rf"|(?P<quoted>{quoted})|(?P<sign>{sign})|(?P<word>{word})|(?P<other>.)".encode()
        )
        opens, closes = re.escape(self._opens.decode()), re.escape(self._closes.decode())
        self._turning = re.compile(
            rf"(?:{comment})[^\n]*|{quoted}|(?P<opens>{opens})|(?P<closes>{closes})".encode()
        )
        assign = "|".join(re.escape(one) for one in spec.assigns) or "(?!)"
        ends = f"(?:[ \\t]*{re.escape(spec.ends)})?" if spec.ends else ""
        between = rf"(?:[ \t]*(?:{assign})[ \t]*|[ \t]+)"
        over = rf"{ends}[ \t]*\r?\n"
        alone = rf"(?=(?:\s|(?:{comment})[^\n]*\n)*(?!{opens}|{comment})\S)"
        self._run = (
            rf"(?:[ \t]*(?!(?:@)(?:[\s]|{sign})){word}{between}(?:{word}|{quoted}){over})+{alone}"
        )
        self._runs: dict[frozenset[str], re.Pattern[bytes]] = {}
        last = alone.replace(r")\S)", r")(?:\S|\Z))")
        simple = rf"[ \t]*(?P<name>{word}){between}(?P<value>{word}|{quoted}){over}{alone}"
        self._simple = re.compile(simple.encode())
        """A name and its value on a line, after which no block can follow."""
        words = rf"(?P<words>(?:[ \t]+(?:{word}|{quoted}))*)(?:[ \t]*(?:{assign}))?\s*{opens}"
        self._head = re.compile(rf"\s*(?P<name>{word}){words}".encode())
        """A name, further words, and the opening of a block."""
        apart = _letters(filter(None, [spec.opens, spec.closes, *spec.comments, spec.quote]))
        dull = rf"[^{apart}]++|{quoted}|(?:{comment})[^\n]*|(?!{opens}|{closes})[\s\S]"
        inner = rf"(?:{dull})*+"
        for _ in range(_FLAT):
            inner = rf"(?:{dull}|{opens}{inner}{closes})*+"
        self._rest = re.compile(rf"{inner}{closes}".encode())
        """A block that has begun, to its end, where few others are in it."""
        unnamed = words.replace("?P<words>", "?:")
        self._rows = row_signs(
            word=word, quoted=quoted, comment=comment, between=between, opens=opens,
            closes=closes, ends=ends, words=words, inner=inner, apart=apart,
            word_over=over_, statement_over=f"{over}{last}", own=RowTools(
                tuple(filter(None, [self._opens, *(sign.encode() for sign in spec.comments)])),
                self._opens, self._ends, self._token, self.plain, self.find,
            ),
        )  # fmt: skip
        self._block = rf"\s*@{unnamed}{inner}{closes}{ends}"
        self._blocks: dict[tuple[str, bool], re.Pattern[bytes]] = {}
        self._needs_quotes = re.compile(rf"\s|{stop}".encode())

    def run(self, names: frozenset[str]) -> re.Pattern[bytes]:
        """Return what reads names with values on lines of their own, but for some names."""
        run = self._runs.get(names)
        if run is None:
            some = "|".join(re.escape(name) for name in sorted(names)) or "(?!)"
            run = self._runs[names] = re.compile(self._run.replace("@", some, 1).encode())
        return run

    def blocks(self, name: str, *, many: bool) -> re.Pattern[bytes]:
        """Return what reads a block of a name, or `many` of them, in which few others are."""
        found = self._blocks.get((name, many))
        if found is None:
            one = self._block.replace("@", re.escape(name), 1)
            found = re.compile((f"(?:{one})++" if many else one).encode())
            self._blocks[name, many] = found
        return found

    def columns(
        self, source: Payload, rows: str, columns: Sequence[str | None], most: int
    ) -> Columns | None:
        """Return what stands in columns of the blocks of one name; None for deeper places."""
        if self.spec.indented or not is_plain(rows, columns):
            return None
        try:
            return BlockRows(self._rows, rows, columns, most).read(source)
        except UnicodeDecodeError as error:
            raise DamagedError(f"This is no {self.title} that can be read: {error}.") from None

    def find(self, source: Payload, places: Sequence[Sequence[Step]]) -> list[list[Node]]:
        """Return for each place what stands there."""
        matcher = Matcher(places)
        return matcher.end(self._read(source, matcher))

    def first(self, source: Payload, places: Sequence[Sequence[Step]], most: int) -> list[First]:
        """Return the first that stand at each place."""
        matcher = Matcher(places, most)
        return matcher.first(self._read(source, matcher))

    def _read(self, source: Payload, matcher: Matcher) -> Node:
        try:
            return _Reading(self, matcher).read(source)
        except UnicodeDecodeError as error:
            raise DamagedError(f"This is no {self.title} that can be read: {error}.") from None

    def put(self, source: Payload, node: Node, old: bytes, value: Single) -> bytes:
        """Return a value, quoted where the old one was or where it must be."""
        if node.start < 0:
            raise RefusedError("A name without a value can't be given one.")
        return self._written(text_of(value), quoted=bool(self._quote) and old[:1] == self._quote)

    def remove(self, source: Payload, steps: Sequence[Step], nodes: Sequence[Node]) -> list[Splice]:
        """Return what takes names and blocks away, with their lines where they have them alone."""
        raw = whole_text(source, _MOST, self.title)
        splices = []
        for node in nodes:
            start, end = node.first, node.last
            if self._ends and raw[end:].lstrip(b" \t").startswith(self._ends):
                end = raw.index(self._ends, end) + len(self._ends)
            line = raw.rfind(b"\n", 0, start) + 1
            after = re.compile(rb"[ \t\r]*(?:\n|\Z)").match(raw, end)
            if not raw[line:start].strip() and after is not None:
                start, end = line, after.end()
            splices.append(Splice(start, end, b""))
        return splices

    def insert(self, source: Payload, steps: Sequence[Step], above: Node, value: Single) -> Splice:
        """Return what adds a line as the last of a block, set as its first one is."""
        raw = whole_text(source, _MOST, self.title)
        name = self._written(str(steps[-1]), quoted=False)
        end = b"\r\n" if b"\r\n" in raw else b"\n"
        head = raw[above.first : above.last]
        top = len(steps) == 1
        if above.inner is None:
            raise RefusedError("Nothing can be added there: a single value stands there.")
        first = re.search(rb"\n([ \t]*)[^\s]", head) if not top else None
        lead = first[1] if first else b""
        sign = next((one for one in self.spec.assigns if one.encode() in head), "")
        line = name + (f" {sign} ".encode() if sign else b" ")
        line += self._written(text_of(value), quoted=False) + self._ends
        if top or self.spec.indented:
            at = len(raw) if top else raw.find(b"\n", above.last) + 1 or len(raw)
            before = b"" if not raw[:at] or raw[:at].endswith(b"\n") else end
            return Splice(at, at, before + lead + line + (end if not before else b""))
        close = raw.rindex(self._closes, above.first, above.last)
        start = raw.rfind(b"\n", above.first, close) + 1
        if not start or raw[start:close].strip():
            return Splice(close, close, end + line + end)
        return Splice(start, start, lead + line + end)

    def plain(self, raw: bytes) -> str:
        """Return the text that a word or a quoted text stands for."""
        if not (self._quote and raw.startswith(self._quote)):
            return raw.decode()
        bare = raw[len(self._quote) : -len(self._quote)]
        inner = bare.decode()
        if not self._escape or self._escape not in bare:
            return inner
        return re.sub(re.escape(self._escape.decode()) + "(.)", r"\1", inner, flags=re.DOTALL)

    def spelled(self, texts: Iterable[str]) -> list[bytes]:
        """Return what must stand where one of some texts does."""
        found = [text.encode() for text in texts]
        return [*found, self._escape] if found and self._escape else found

    def may_have(self, texts: Iterable[str], raw: bytes, start: int, end: int) -> bool:
        """Tell whether one of some texts may stand in a part of a document."""
        escape = self._escape
        escaped = bool(escape) and raw.find(escape, start, end) >= 0  # free: it spares work
        return any(escaped or raw.find(text.encode(), start, end) >= 0 for text in texts)

    def _written(self, text: str, *, quoted: bool) -> bytes:
        raw = text.encode()
        if any(char in text for char in "\r\n\0"):
            raise RefusedError(f"A value of this text can't be {text!r}.")
        if not quoted and raw and not self._needs_quotes.search(raw):
            return raw
        if not self._quote:
            raise RefusedError(f"A value of this text can't be {text!r}: it has no quotes.")
        for sign in (self._escape, self._quote):
            if sign and sign in raw:
                if not self._escape:
                    raise RefusedError(f"A text between quotes can't be {text!r}.")
                raw = raw.replace(sign, self._escape + sign)
        return self._quote + raw + self._quote


def _letters(signs: Iterable[str]) -> str:
    """Return the letters that signs begin with, as they stand in a class of letters."""
    return "".join(sorted({re.escape(sign[0]) for sign in signs}))


class _Reading:
    """One way through a text."""

    def __init__(self, form: Blocks, matcher: Matcher) -> None:
        self._form, self._matcher = form, matcher
        self._open: list[_Block] = []
        self._statement: _Statement | None = None
        self._end = 0  # free: a word sets it before it is asked for
        """Where the last word has ended."""
        self._nexts: dict[bytes, int] = {}
        """Where texts that are asked for stand next in what is read."""
        self._deeper = 0
        """How many further blocks are open in one in which nothing is asked for."""

    def read(self, source: Payload) -> Node:
        """Return the whole of it; raises DamagedError for blocks left open."""
        rest, at, indented = b"", 0, self._form.spec.indented
        for chunk in source.chunks():
            whole = rest + chunk
            cut = whole.rfind(b"\n") + 1
            lines, rest = whole[:cut], whole[cut:]
            if len(rest) > _LONGEST_LINE:
                raise DamagedError(f"A line is longer than {_LONGEST_LINE:,} bytes.")
            if not at and lines.startswith(_MARK):
                lines, at = lines[len(_MARK) :], len(_MARK)
            (self._by_lines if indented else self._by_signs)(lines, at)
            at += len(lines)
        if not at and rest.startswith(_MARK):
            rest, at = rest[len(_MARK) :], len(_MARK)
        (self._by_lines if indented else self._by_signs)(rest, at)
        at += len(rest)
        self._flush()
        while indented and self._open:
            self._close(self._end)
        if self._open:
            raise DamagedError(f"A block that begins at byte {self._open[-1].first:,} never ends.")
        return Node(0, at, None, {}, 0, at)  # free: no place is the whole text

    def _by_signs(self, text: bytes, shift: int) -> None:
        """Read lines whose blocks are told by signs; what nobody asks for is passed by."""
        form, matcher, at = self._form, self._matcher, 0
        self._nexts = {}
        simple, head, token = form._simple.match, form._head.match, form._token.match
        while at < len(text):
            if self._open and matcher.idle:
                at = self._pass_by(text, at, shift)
                continue
            between = self._statement is None or self._statement.ended
            names = matcher.values
            if between and names is not None and (run := form.run(names).match(text, at)):
                self._flush()
                at = run.end()
                continue
            if between and (line := simple(text, at)):
                self._flush()
                self._simple(line, shift)
                at = line.end()
                continue
            if self._statement is None and (opening := head(text, at)):
                at = self._head(text, opening, shift)
                continue
            part = token(text, at)
            assert part is not None
            self._take(part.lastgroup, part[0], shift + at, shift + part.end(), 0)
            at = part.end()

    def _pass_by(self, text: bytes, at: int, shift: int) -> int:
        """Go to where a block ends in which nothing is asked for, or to the text's end."""
        for turn in self._form._turning.finditer(text, at):
            kind = turn.lastgroup
            if kind == "opens":
                self._deeper += 1
            elif kind == "closes" and self._deeper:
                self._deeper -= 1
            elif kind == "closes":
                self._statement = None
                self._close(shift + turn.end())
                return turn.end()
        return len(text)

    def _head(self, text: bytes, head: re.Match[bytes], shift: int) -> int:
        """A block begins; return where to go on: behind it, if it is whole and not asked for."""
        name = head["name"].decode()
        wanted = self._matcher.only_by(name)
        if wanted is not None and (end := self._passed(text, head.start(), name, wanted)):
            return end
        end = self._block_end(text, head.end()) if wanted is not None else 0
        if end and wanted and not self._form.may_have(wanted.texts, text, head.start(), end):
            self._matcher.pass_over(name)
            return end
        start = head.start("name")
        words = [_Word(head["name"], shift + start, shift + head.end("name"))]
        if head["words"]:
            tokens = self._form._token.finditer(text, head.start("words"), head.end("words"))
            words += [_Word(one[0], shift + one.start(), shift + one.end())
                      for one in tokens if one.lastgroup in ("word", "quoted")]  # fmt: skip
        self._statement = _Statement(words, 0)
        self._begin(shift + start, 0)
        return head.end()

    def _passed(self, text: bytes, at: int, name: str, wanted: Wanted) -> int:
        """Pass by blocks of one name that nobody asks for; return where they end, 0 for none."""
        stop = min((self._next(text, one, at) for one in self._form.spelled(wanted.texts)),
                   default=len(text))  # fmt: skip
        if not wanted.counted:
            many = self._form.blocks(name, many=True).match(text, at, stop)
            if many is None:
                return 0
            self._matcher.pass_over(name)
            return many.end()
        one, count, end = self._form.blocks(name, many=False).match, 0, 0
        while count != wanted.most and (block := one(text, end or at, stop)):
            count, end = count + 1, block.end()
        if count:
            self._matcher.pass_over(name, count)
        return end

    def _next(self, text: bytes, sought: bytes, at: int) -> int:
        """Return where something stands next in the text that is read, or its end."""
        known = self._nexts.get(sought, -1)
        if known < at:
            known = text.find(sought, at)
            known = self._nexts[sought] = known if known >= 0 else len(text)
        return known

    def _block_end(self, text: bytes, at: int) -> int:
        """Return where a block ends that has begun; 0 where that is further on."""
        whole = self._form._rest.match(text, at)  # free: else it is gone through, likewise
        if whole is not None:
            return whole.end()
        deeper = 1  # free: else it is gone through, which takes longer
        for turn in self._form._turning.finditer(text, at):
            kind = turn.lastgroup
            deeper += (kind == "opens") - (kind == "closes")
            if not deeper:
                return turn.end()
        return 0

    def _simple(self, line: re.Match[bytes], shift: int) -> None:
        name = line["name"].decode()
        if self._matcher.wants_value(name):
            self._matcher.enter(name)
            start, end = shift + line.start("value"), shift + line.end("value")
            value = self._form.plain(line["value"])
            self._matcher.leave(Node(start, end, value, None, shift + line.start("name"), end))

    def _by_lines(self, text: bytes, shift: int) -> None:
        """Read lines whose blocks are told by their indentation."""
        at = 0
        for line in text.splitlines(keepends=True):
            indent, begun = len(line) - len(line.lstrip(b" \t")), False
            for part in self._form._token.finditer(line):
                start, kind = shift + at + part.start(), part.lastgroup
                if not begun and kind not in ("line", "blank", "comment"):
                    begun = True
                    self._outdent(indent, start)
                self._take(kind, part[0], start, shift + at + part.end(), indent)
            at += len(line)

    def _take(self, kind: str | None, raw: bytes, start: int, end: int, indent: int) -> None:
        """Take in one part of the text."""
        form = self._form
        if kind == "line":
            if self._statement is not None:
                self._statement.ended = True
        elif kind in ("blank", "comment"):
            return
        elif kind == "other":
            raise DamagedError(f"A text that is opened at byte {start:,} never ends.")
        elif kind == "sign" and raw == form._opens:
            self._begin(start, indent)
        elif kind == "sign" and raw == form._closes:
            self._flush()
            if not self._open:
                raise DamagedError(f"A block ends at byte {start:,}, and none is open.")
            self._close(end)
        elif kind == "sign" and raw == form._ends:
            self._flush()
        elif kind != "sign":  # else it is between a name and its value
            if self._statement is not None and self._statement.ended:
                self._flush()
            if self._statement is None:
                self._statement = _Statement([], indent)
            self._statement.words.append(_Word(raw, start, end))
            self._end = end

    def _outdent(self, indent: int, at: int) -> None:
        """A line begins: what came before it is a block if it is further in, else a value."""
        waiting = self._statement
        if waiting is not None and indent > waiting.indent:
            self._begin(at, waiting.indent)
            return
        self._flush()
        while self._open and self._open[-1].indent >= indent:
            self._close(self._end)

    def _begin(self, at: int, indent: int) -> None:
        words = self._statement.words if self._statement is not None else []
        indent = self._statement.indent if self._statement is not None else indent
        self._statement = None
        if len(self._open) >= _DEEPEST:
            raise DamagedError(f"It nests more than {_DEEPEST} blocks.")
        self._matcher.enter(self._form.plain(words[0].raw) if words else "")
        self._open.append(_Block(words[0].start if words else at, indent))
        if words[1:] and not self._matcher.idle:
            self._matcher.enter("")
            self._matcher.leave(self._value(words[1:], words[1].start))

    def _close(self, end: int) -> None:
        block = self._open.pop()
        self._matcher.leave(Node(block.first, end, None, {}, block.first, end))

    def _flush(self) -> None:
        """A statement ends that no block follows."""
        if self._statement is None:
            return
        words, self._statement = self._statement.words, None
        name = self._form.plain(words[0].raw)
        if not self._matcher.wants_value(name):
            return
        self._matcher.enter(name)
        if self._matcher.idle:
            node = _NOTHING
        elif words[1:]:
            node = self._value(words[1:], words[0].start)
        else:
            at, end = words[0].start, words[0].end
            node = Node(-1, -1, "", None, at, end)  # free: whatever is below zero is no place
        self._matcher.leave(node)

    def _value(self, words: Sequence[_Word], first: int) -> Node:
        start, end = words[0].start, words[-1].end
        if len(words) == 1:
            return Node(start, end, self._form.plain(words[0].raw), None, first, end)
        joined = b" ".join(word.raw for word in words).decode()
        return Node(start, end, joined, None, first, end)


_NOTHING = Node(0, 0, "")
_MARK = b"\xef\xbb\xbf"
