"""How the tool's own records are written: JSON that names its kind and version, read strictly."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from typing import Annotated, Any, Generic, TypeVar

from msgspec import Meta, convert, to_builtins

__all__ = ["Format", "NewerError", "Time"]

T = TypeVar("T")
Time = Annotated[int, Meta(ge=-(1 << 63), le=(1 << 63) - 1)]
"""A moment in ns since 1970."""


class NewerError(ValueError):
    """A record is of a version that only a newer program knows; `data` is what it says."""

    def __init__(self, data: dict[str, Any]) -> None:
        super().__init__("a newer cferry has written it")
        self.data = data


class Format(Generic[T]):
    """One kind of record: a JSON object with its version under `kind`, and the members of a type.

    Each of `steps` takes the members as one version has them and returns them as the next one
    does; the first is for version `oldest`. A record without a version has version 0.
    """

    def __init__(
        self,
        kind: str,
        of: type[T],
        oldest: int = 1,
        steps: Sequence[Callable[[dict[str, Any]], dict[str, Any]]] = (),
    ) -> None:
        self._kind, self._of, self._oldest, self._steps = kind, of, oldest, steps
        self._version = oldest + len(steps)

    def written(self, value: T) -> bytes:
        """Return a record as the newest version has it."""
        return json.dumps({self._kind: self._version, **to_builtins(value)}).encode()

    def read(self, raw: bytes) -> T:
        """Read a record of any version; raises NewerError, and ValueError where it is none."""
        try:
            data = json.loads(raw)
        except RecursionError:
            raise ValueError("it is nested too deeply") from None
        if not isinstance(data, dict):
            raise ValueError("it is no record")
        version = 0
        if type(data.get(self._kind)) is int:
            version = data.pop(self._kind)
        if version > self._version:
            raise NewerError(data)
        if version < self._oldest:
            raise ValueError("it is of no version that there ever was")
        for step in self._steps[version - self._oldest :]:
            data = step(data)
        return convert(data, self._of)
