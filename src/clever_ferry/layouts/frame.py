"""Where reading a layout is, what a step of it offers, and the error that names the place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Protocol

from msgspec import Struct, field

from clever_ferry.errors import DamagedError

__all__ = ["DEEPEST", "Frame", "LayoutError", "Output", "Step", "value_of"]

DEEPEST = 64
"""Layouts within layouts; more is taken for damage (or harm)."""


class LayoutError(DamagedError):
    """Bytes that a layout can't read, or values that it can't write.

    `field` is the path of the field from the outermost layout; `offset` is in bytes.
    """

    def __init__(self, layout: str, field: str, offset: int, found: str) -> None:
        super().__init__(f"{layout}/{field}, at byte {offset}: {found}.")
        self.layout, self.field, self.offset, self.found = layout, field, offset, found

    def under(self, layout: str, path: str) -> LayoutError:
        """Return the error as the outer layout names it."""
        return LayoutError(layout, f"{path}/{self.field}", self.offset, self.found)


class Frame(Struct):
    """The bytes, the layout's first and last byte, how deep it is, and where its fields stand."""

    layout: str
    data: bytes
    start: int
    end: int
    depth: int
    places: dict[str, tuple[int, int]] = field(default_factory=dict)

    def fail(self, name: str, at: int, found: str) -> LayoutError:
        """Return an error at a field of this layout."""
        return LayoutError(self.layout, name, at, found)

    def need(self, name: str, at: int, size: int) -> int:
        """Return the position after `size` bytes; they must be there."""
        if size > self.end - at:
            raise self.fail(name, at, f"{size} bytes should follow, but {self.end - at} are left")
        return at + size


class Output(Struct):
    """The bytes of one layout as they are written, and where its fields stand."""

    layout: str
    data: bytearray = field(default_factory=bytearray)
    places: dict[str, tuple[int, int]] = field(default_factory=dict)

    def fail(self, name: str, found: str) -> LayoutError:
        """Return an error at a field of this layout."""
        return LayoutError(self.layout, name, len(self.data), found)


class Step(Protocol):
    """One field, or a run of them: read and written by one definition."""

    @property
    def name(self) -> str:
        """The field's name, or the first one's of a run."""

    def read(self, frame: Frame, at: int, values: dict[str, Any]) -> int:
        """Read from `at` into `values`; return the position after it."""

    def write(self, out: Output, values: Mapping[str, Any]) -> None:
        """Append the bytes."""

    def blank(self, values: dict[str, Any]) -> None:
        """Set a value with nothing in it."""


def value_of(out: Output, values: Mapping[str, Any], name: str) -> Any:
    """Return a field's value, which must be given."""
    if name not in values:
        raise out.fail(name, "no value is given for this field")
    return values[name]
