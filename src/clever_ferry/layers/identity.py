"""Whose a text piece is, at places that a recipe names: taken out on reading, put in on writing.

What is carried has a mark in its place, so that nobody's identity travels; the target's is written
where the mark stands. Only these places are touched, and the text around them stays as it is.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layers.found import Found
from clever_ferry.layers.places import Place, find_places, read_text, replaced
from clever_ferry.layers.spec import IdentitySpec
from clever_ferry.naming import Value
from clever_ferry.payload import Payload, StreamPayload

__all__ = ["Identity"]


class _Kept(NamedTuple):
    """Whose a text was at the source, where that may stay."""

    value: Value


class Identity:
    """One name field's value in a JSON or INI text, in one or several places."""

    def __init__(self, spec: IdentitySpec) -> None:
        self.spec = spec
        self.bound = frozenset([] if spec.kept else [spec.bound])

    def peel(self, source: Payload, found: Found) -> tuple[Payload, list[str]]:
        """Return the text with marks in the value's places; the residue is what stood there."""
        text = read_text(source)
        places = self._places(text)
        values = {str(place.value) for place in places}
        if not values:
            raise DamagedError(
                f"There is no {self.spec.bound} at {' or '.join(self.spec.at)}, where one belongs."
            )
        if len(values) > 1:
            told = ", ".join(sorted(values)[:4])
            raise DamagedError(
                f"It is not plain whose it is: its places name more than one {self.spec.bound} "
                f"({told})."
            )
        found.bound[self.spec.bound] = places[0].value
        found.said[self._key] = {"places": len(places), "value": places[0].value}
        literals = [text[place.start : place.end] for place in places]
        marked = replaced(text, places, [self._mark(place) for place in places])
        return StreamPayload(lambda: iter([marked])), literals

    def dress(
        self, inside: Payload, whole: Payload, residue: Any, fields: Mapping[str, Value]
    ) -> Payload:
        """Return the text with the target's value where the marks stand."""
        if self.spec.kept and isinstance(residue, _Kept):
            fields = {self.spec.bound: residue.value, **fields}
        if self.spec.bound not in fields:
            raise RefusedError(f"The target's {self.spec.bound} is not known, and must be written.")
        return StreamPayload(lambda: self._written(inside, residue, fields[self.spec.bound]))

    @property
    def _key(self) -> str:
        return f"identity {self.spec.bound}"

    def recall(self, said: Mapping[str, Mapping[str, Any]]) -> _Kept | None:
        """Return whose it was where the text comes from."""
        own = said.get(self._key)
        return _Kept(own["value"]) if own is not None else None

    def _written(self, inside: Payload, residue: Any, value: Value) -> Iterator[bytes]:
        text = read_text(inside)
        places = self._places(text)
        new = [self._literal(place, value) for place in places]
        if isinstance(residue, list) and len(residue) == len(new):
            new = [old if _plain(old) == _plain(one) else one
                   for old, one in zip(residue, new, strict=True)]  # fmt: skip
        yield replaced(text, places, new)

    def _mark(self, place: Place) -> str:
        if self.spec.holds == "ini":
            return f"@{self.spec.bound}"
        return "0" if isinstance(place.value, int) else json.dumps(f"@{self.spec.bound}")

    def _literal(self, place: Place, value: Value) -> str:
        if self.spec.holds == "ini":
            return str(value)
        if not isinstance(place.value, int):
            return json.dumps(str(value), ensure_ascii=False)
        if not str(value).isdecimal():
            raise RefusedError(f"The {self.spec.bound} {value!r} must stand as a number.")
        return str(int(value))

    def _places(self, text: str) -> list[Place]:
        return find_places(text, self.spec.holds, self.spec.at)


def _plain(literal: str) -> str:
    try:
        return str(json.loads(literal))
    except ValueError:
        return literal
