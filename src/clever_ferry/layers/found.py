"""What peeling finds beside the payload."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from clever_ferry.errors import DamagedError
from clever_ferry.layouts import Running
from clever_ferry.payload import Payload

__all__ = ["Check", "Checked", "Found"]


class Check(NamedTuple):
    """A size or checksum that a header states of other bytes."""

    layout: str
    field: str
    what: str
    right: int


@dataclass
class Found:
    """Collected while the layers of one piece are peeled, the outermost first."""

    bound: dict[str, int | str] = field(default_factory=dict)
    """What headers say of name fields: field name -> number, or hex digits."""
    of_payload: list[Check] = field(default_factory=list)
    """What headers say of the innermost payload."""


@dataclass(frozen=True)
class Checked:
    """A payload whose reading ends with checks; DamagedError where one fails."""

    inner: Payload
    checks: tuple[Check, ...]

    @property
    def size(self) -> int | None:
        """The size, as stated where it is stated."""
        stated = [check.right for check in self.checks if check.what == "size"]
        return stated[0] if stated else self.inner.size

    def chunks(self) -> Iterator[bytes]:
        """Yield the bytes and check them at their end."""
        running = [(check, Running(check.what)) for check in self.checks]
        for chunk in self.inner.chunks():
            for check, digest in running:
                digest.update(chunk)
                if check.what == "size" and digest.value > check.right:
                    raise _mismatch(check, digest.value, "or more ")
            yield chunk
        for check, digest in running:
            if digest.value != check.right:
                raise _mismatch(check, digest.value, "")


def _mismatch(check: Check, found: int, more: str) -> DamagedError:
    if check.what == "size":
        said = f"{check.right:,} bytes, but there are {found:,} {more}of them"
    else:
        said = f"the {check.what} {check.right:#x}, but the bytes give {found:#x}"
    return DamagedError(f"The header says ({check.layout}/{check.field}) {said}.")
