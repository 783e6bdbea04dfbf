"""Bytes as text (base64, hex), text in another form, and words with their bytes turned."""

from __future__ import annotations

import base64
import binascii
import codecs
from collections.abc import Callable, Iterator
from typing import Any

from clever_ferry.errors import DamagedError
from clever_ferry.layers.chain import Stages
from clever_ferry.layers.found import Found
from clever_ferry.layers.kept import Kept, dress_or_keep
from clever_ferry.layers.known import Known
from clever_ferry.layers.spec import EncodedSpec, SwapSpec, TextSpec
from clever_ferry.payload import CHUNK, Payload, StreamPayload, pieces_of

__all__ = ["Encoded", "Swap", "Text"]

_ENDINGS = {"lf": b"\n", "crlf": b"\r\n"}


class Encoded:
    """Bytes written as text."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: EncodedSpec) -> None:
        self.kind, self.line, self.ending = spec.kind, spec.line, _ENDINGS[spec.ending]
        self.group = 4 if spec.kind == "base64" else 2

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, Kept]:
        """Return the bytes."""
        payload = StreamPayload(lambda: self._decoded(source))
        return payload, Kept(source, payload)

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the text: as it was where the bytes are the same (spaces and letter case too)."""
        return dress_or_keep(inside, residue, lambda: StreamPayload(lambda: self._encoded(inside)))

    def _decoded(self, source: Payload) -> Iterator[bytes]:
        decode: Callable[[bytes], bytes] = binascii.unhexlify
        if self.kind == "base64":
            decode = lambda data: base64.b64decode(data, validate=True)  # noqa: E731
        held = b""
        try:
            for chunk in source.chunks():
                held += b"".join(chunk.split())
                whole = len(held) - len(held) % self.group
                # The last group waits: only there may base64 have its padding.
                whole = max(0, whole - self.group)
                yield decode(held[:whole])
                held = held[whole:]
            yield decode(held)
        except ValueError as error:
            raise DamagedError(f"This is no {self.kind} text: {error}.") from None

    def _encoded(self, inside: Payload) -> Iterator[bytes]:
        encode = base64.b64encode if self.kind == "base64" else binascii.hexlify
        text = StreamPayload(lambda: map(encode, pieces_of(inside, CHUNK // 12 * 12)))
        if not self.line:
            yield from filter(None, text.chunks())
            return
        for piece in pieces_of(text, self.line):
            if piece:
                yield piece + self.ending


class Swap:
    """Words with their bytes in turned order."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: SwapSpec) -> None:
        self.size = spec.size

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, None]:
        """Return them turned back."""
        return StreamPayload(lambda: self._turned(source), source.size), None

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return them turned, which is the same."""
        return StreamPayload(lambda: self._turned(inside), inside.size)

    def _turned(self, source: Payload) -> Iterator[bytes]:
        for piece in pieces_of(source, CHUNK):
            whole = len(piece) - len(piece) % self.size
            turned = bytearray(piece)
            for at in range(self.size):
                turned[at : whole : self.size] = piece[self.size - 1 - at : whole : self.size]
            yield bytes(turned)


class Text:
    """Text that is UTF-8 with line feeds within, whatever it is outside."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: TextSpec) -> None:
        self.spec = spec
        self.mark = "\N{BYTE ORDER MARK}".encode(spec.encoding) if spec.mark else b""

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, Kept]:
        """Return the text; where its line endings are mixed, they stay as they are."""
        payload = StreamPayload(lambda: self._read(source))
        return payload, Kept(source, payload)

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the text in its outer form."""
        return dress_or_keep(inside, residue, lambda: StreamPayload(lambda: self._written(inside)))

    def _read(self, source: Payload) -> Iterator[bytes]:
        ends = [0, 0]
        for text in self._decoded(source):
            ends[0] += text.count("\n")
            ends[1] += text.count("\r\n")
        # Also where line feeds are the rule: the same edition may have come from another system.
        alike = ends[0] == ends[1]
        for text in self._decoded(source):
            yield (text.replace("\r\n", "\n") if alike else text).encode()

    def _decoded(self, source: Payload) -> Iterator[str]:
        """Yield the text, cut anywhere but between the two signs of a line's end."""
        encoding = self.spec.encoding
        decoder = codecs.getincrementaldecoder(encoding)()
        held, front = "", b"" if self.mark else None
        try:
            for chunk in source.chunks():
                if front is not None:
                    front += chunk
                    if len(front) < len(self.mark):
                        continue
                    chunk, front = front.removeprefix(self.mark), None
                text = held + decoder.decode(chunk)
                held = "\r" if text.endswith("\r") else ""
                yield text.removesuffix("\r") if held else text
            yield held + decoder.decode(front or b"", final=True)
        except UnicodeDecodeError as error:
            raise DamagedError(f"This is no {encoding} text: {error}.") from None

    def _written(self, inside: Payload) -> Iterator[bytes]:
        yield self.mark
        ends = self.spec.ending == "crlf" and not any(
            "\r\n" in text for text in _UTF_8._decoded(inside)
        )
        try:
            for text in _UTF_8._decoded(inside):
                yield (text.replace("\n", "\r\n") if ends else text).encode(self.spec.encoding)
        except (UnicodeError, DamagedError) as error:
            raise DamagedError(
                f"This can't be written as {self.spec.encoding} text: {error}."
            ) from None


_UTF_8 = Text(TextSpec())
