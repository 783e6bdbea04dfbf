"""Bytes, text, identifiers, magic and padding in layouts."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from uuid import UUID

from clever_ferry.layouts.frame import Frame, Output, value_of
from clever_ferry.layouts.numbers import Length
from clever_ferry.layouts.spec import BytesSpec, IdentifierSpec, MagicSpec, PaddingSpec, TextSpec
from clever_ferry.wording import bytes_in_words

__all__ = ["Bytes", "Identifier", "Magic", "Padding", "Text", "framed_size"]

_UNIT = {"utf-16-le": 2, "utf-16-be": 2}


def framed_size(size: int | str | None, frame: Frame, at: int, values: Mapping[str, Any]) -> int:
    """Return a size that is a number, an earlier field's value, or the rest."""
    if isinstance(size, int):
        return size
    if size is None or size == "rest":
        return frame.end - at
    found = values[size]
    if not isinstance(found, int) or found < 0:
        raise frame.fail(size, at, f"{found!r} can't be a size")
    return found


class Bytes:
    """Bytes as they are, framed by a size, an earlier field, a length in front, or the end."""

    def __init__(self, spec: BytesSpec, order: str, computed: frozenset[str]) -> None:
        self.follows = spec.size in computed
        self.spec, self.name = spec, spec.name
        self.length = Length(spec.length, order, spec.name) if spec.length else None

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read them."""
        if self.length is not None:
            size, at = self.length.read(frame, at)
        else:
            size = framed_size(self.spec.size, frame, at, values)
        after = frame.need(self.name, at, size)
        values[self.name] = bytes(frame.data[at:after])
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write them; what is computed is filled in later."""
        size = self.spec.size
        if self.spec.computed is not None and isinstance(size, int):
            outside = self.spec.computed.outside
            data = values[self.name] if outside else bytes(size)
        else:
            data = bytes(value_of(out, values, self.name))
        if self.length is not None:
            self.length.write(out, len(data))
        elif not self.follows:
            _refuse_other_size(out, self.name, len(data), size, values)
        out.data += data

    def blank(self, values: dict[str, Any]) -> None:
        """Set zeros of a fixed size, else nothing."""
        values[self.name] = bytes(self.spec.size) if isinstance(self.spec.size, int) else b""


def _refuse_other_size(
    out: Output, name: str, size: int, wanted: int | str | None, values: Mapping[str, Any]
) -> None:
    right = values.get(wanted) if isinstance(wanted, str) else wanted
    if wanted != "rest" and size != right:
        raise out.fail(name, f"{size} bytes are given where {right} must stand")


def _aligned(data: bytes, mark: bytes, at: int, end: int, unit: int) -> int:
    """Return where a mark stands first, at a whole number of units behind `at`; -1 if nowhere."""
    here = at
    while True:
        found = data.find(mark, here, end)
        if found < 0 or (found - at) % unit == 0:
            return found
        here = found + 1


class Text:
    """Text, framed by a length, a zero, a fixed size with padding, or the end."""

    def __init__(self, spec: TextSpec, order: str, computed: frozenset[str]) -> None:
        self.follows = spec.size in computed
        self.spec, self.name = spec, spec.name
        self.unit = _UNIT.get(spec.encoding, 1)
        self.errors = "surrogatepass" if self.unit == 2 else "strict"
        self.length = Length(spec.length, order, spec.name) if spec.length else None
        self.end = bytes(self.unit)
        if spec.ends not in (None, "zero"):
            self.end = str(spec.ends).encode(spec.encoding)
        self.said = "zero" if spec.ends in (None, "zero") else repr(spec.ends)

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read it."""
        start, size = at, 0
        if self.length is not None:
            size, start = self.length.read(frame, at)
            size *= self.unit if self.spec.counts == "characters" else 1
        elif self.spec.ends is not None:
            size = self._to_end(frame, at) + len(self.end)
        else:
            size = framed_size(self.spec.size, frame, at, values)
        after = frame.need(self.name, start, size)
        data = bytes(frame.data[start:after])
        if self.spec.zero == "extra":
            after = frame.need(self.name, after, self.unit)
            if any(frame.data[after - self.unit : after]):
                raise frame.fail(self.name, after - self.unit, "no zero ends this text")
        elif self.spec.ends is not None:
            data = data[: -len(self.end)]
        elif self.spec.zero == "counted" and size:
            if any(data[-self.unit :]):
                raise frame.fail(self.name, after - self.unit, "no zero ends this text")
            data = data[: -self.unit]
        text = self._decoded(frame, start, self._unpadded(data))
        values[self.name] = text if self.spec.number is None else self._number(frame, start, text)
        return after

    def _number(self, frame: Frame, at: int, text: str) -> int:
        """Return a number that is written as text; raises where it could not be written so."""
        base = 10 if self.spec.number == "decimal" else 16
        plain = text.removeprefix("-") if base == 10 else text
        if not (plain.isascii() and plain.isalnum()):
            raise frame.fail(self.name, at, f"{text!r} is no {self.spec.number} number")
        try:
            value = int(text, base)
        except ValueError:
            raise frame.fail(self.name, at, f"{text!r} is no {self.spec.number} number") from None
        if self._digits(value) != text:
            raise frame.fail(self.name, at, f"{text!r} is not how {value} is written here")
        return value

    def _digits(self, value: int) -> str:
        form = {"decimal": "d", "hex": "x", "HEX": "X"}[self.spec.number or "decimal"]
        fixed = self.spec.size if isinstance(self.spec.size, int) and self.spec.pad is None else 0
        return f"{value:0{self.spec.digits or fixed or 1}{form}}"

    def _to_end(self, frame: Frame, at: int) -> int:
        found = _aligned(frame.data, self.end, at, frame.end, self.unit)
        if found < 0:
            raise frame.fail(self.name, at, f"no {self.said} ends this text")
        return found - at

    def _unpadded(self, data: bytes) -> bytes:
        if self.spec.pad is None:
            return data
        pad = bytes([self.spec.pad]).ljust(self.unit, b"\0")
        if self.spec.encoding == "utf-16-be":
            pad = pad[::-1]
        while data.endswith(pad) and len(data) >= self.unit:
            data = data[: -self.unit]
        return data

    def _decoded(self, frame: Frame, at: int, data: bytes) -> str:
        encoding = self.spec.encoding
        try:
            text = data.decode(encoding, self.errors)
        except UnicodeDecodeError as error:
            raise frame.fail(self.name, at, f"this is no {encoding} text ({error})") from None
        if encoding == "shift-jis" and text.encode(encoding) != data:
            raise frame.fail(self.name, at, "this text could not be written back the same")
        if self.spec.equals is not None and text != self.spec.equals:
            raise frame.fail(self.name, at, f"{text!r} stands where {self.spec.equals!r} should")
        return text

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write it with its frame."""
        text = self.spec.equals
        if text is None and self.spec.usual is not None:
            text = str(values.get(self.name, self.spec.usual))
        if text is None:
            value = value_of(out, values, self.name)
            text = str(value) if self.spec.number is None else self._digits(int(value))
        try:
            data = text.encode(self.spec.encoding, self.errors)
        except UnicodeEncodeError as error:
            raise out.fail(self.name, str(error)) from None
        zero = bytes(self.unit)
        if self.spec.ends is not None:
            whole = data + self.end
            if _aligned(whole, self.end, 0, len(whole), self.unit) < len(data):
                raise out.fail(self.name, f"a {self.said} within the text would end it")
            out.data += whole
            return
        if self.spec.zero == "counted":
            data += zero
        if self.length is not None:
            self.length.write(out, len(data) // self._counted())
        else:
            data = self._padded(out, data, values)
        out.data += data + (zero if self.spec.zero == "extra" else b"")

    def _counted(self) -> int:
        return self.unit if self.spec.counts == "characters" else 1

    def _padded(self, out: Output, data: bytes, values: Mapping[str, Any]) -> bytes:
        size = self.spec.size
        if self.spec.pad is not None and isinstance(size, int):
            if self._unpadded(data) != data:
                raise out.fail(self.name, "the text ends like its padding")
            pad = bytes([self.spec.pad]).ljust(self.unit, b"\0")
            pad = pad[::-1] if self.spec.encoding == "utf-16-be" else pad
            data += pad * ((size - len(data)) // self.unit)
        if not self.follows:
            _refuse_other_size(out, self.name, len(data), size, values)
        return data

    def blank(self, values: dict[str, Any]) -> None:
        """Set no text."""
        fixed = isinstance(self.spec.size, int) and self.spec.pad is None
        count = int(self.spec.size or 0) // self.unit if fixed else 0
        values[self.name] = self.spec.equals or self.spec.usual or "\0" * count
        if self.spec.number is not None:
            values[self.name] = 0


class Identifier:
    """A 16-byte identifier as text."""

    def __init__(self, spec: IdentifierSpec) -> None:
        self.name, self.mixed = spec.name, spec.order == "mixed"

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read it."""
        after = frame.need(self.name, at, 16)
        data = bytes(frame.data[at:after])
        values[self.name] = str(UUID(bytes_le=data) if self.mixed else UUID(bytes=data))
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write it."""
        text = value_of(out, values, self.name)
        try:
            ident = UUID(str(text))
        except ValueError:
            raise out.fail(self.name, f"{text!r} is no identifier") from None
        out.data += ident.bytes_le if self.mixed else ident.bytes

    def blank(self, values: dict[str, Any]) -> None:
        """Set the identifier of zeros."""
        values[self.name] = str(UUID(int=0))


class Magic:
    """Bytes that must stand so."""

    name = "magic"

    def __init__(self, spec: MagicSpec) -> None:
        self.data = spec.data

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Check them."""
        found = frame.data[at : min(at + len(self.data), frame.end)]
        if found != self.data:
            told = f"there is {bytes_in_words(found)} where {bytes_in_words(self.data)} should be"
            raise frame.fail("magic", at, told)
        return at + len(self.data)

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Write them."""
        out.data += self.data

    def blank(self, values: dict[str, Any]) -> None:
        """There is no value."""


class Padding:
    """Bytes that only fill; where they are not as they should be, they are kept as a value."""

    def __init__(self, spec: PaddingSpec, number: int) -> None:
        self.spec, self.name = spec, f"padding_{number}"

    def _size(self, before: int) -> int:
        return self.spec.size or -before % (self.spec.to or 1)

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Pass over it."""
        size = self._size(at - frame.start)
        after = frame.need(self.name, at, size)
        data = bytes(frame.data[at:after])
        if data.strip(bytes([self.spec.fill])):
            values[self.name] = data
        return after

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Fill."""
        size = self._size(len(out.data))
        kept = values.get(self.name, b"")
        out.data += kept if len(kept) == size else bytes([self.spec.fill]) * size

    def blank(self, values: dict[str, Any]) -> None:
        """There is no value."""
