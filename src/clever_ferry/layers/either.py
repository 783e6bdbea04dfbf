"""One of several wrappings, told by how the bytes begin, or by trying."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from typing import Any

from clever_ferry.errors import DamagedError, UnsupportedError
from clever_ferry.layers.chain import Chain, Parts, Stages
from clever_ferry.layers.found import Found
from clever_ferry.layers.known import Known
from clever_ferry.layers.spec import EitherSpec
from clever_ferry.payload import Payload, head

__all__ = ["Either"]


class Either:
    """The first of several chains of layers that a piece shows to be in."""

    @classmethod
    def of(cls, spec: EitherSpec, parts: Parts) -> Either:
        """Return the layer that a recipe says."""
        return cls(spec, [parts.joined(one.layers) for one in spec.of])

    def __init__(self, spec: EitherSpec, chains: list[Chain]) -> None:
        self.spec, self.chains = spec, chains
        self.bound = frozenset[str]().union(*(chain.bound for chain in chains))
        self._window = max((len(one.start) for one in spec.of), default=0)
        self._key = f"either {'; '.join('+'.join(one.layers) for one in spec.of)}"

    @property
    def secrets(self) -> set[str]:
        """What only the user can state of any of them, by its names."""
        return set[str]().union(*(chain.secrets for chain in self.chains))

    @property
    def needs(self) -> set[str]:
        """The roles of the pieces whose bytes any of them speaks of."""
        return set[str]().union(*(chain.needs for chain in self.chains))

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, Any]:
        """Return what is within; raises UnsupportedError where it is in none of them."""
        number = self._which(source, found.known)
        payload, residue = self.chains[number].unwrap_into(source, found)
        found.headers[self._key] = {"which": number}
        return payload, (number, residue)

    def _which(self, source: Payload, known: Known) -> int:
        front = head(source, self._window)
        for number, (one, chain) in enumerate(zip(self.spec.of, self.chains, strict=True)):
            if one.start:
                if front.startswith(one.start):
                    return number
                continue
            if not chain.layers:
                return number
            with suppress(DamagedError, UnsupportedError):
                head(chain.unwrap(source, known).payload, 1)
                return number
        raise UnsupportedError("It is in none of the wrappings that are known for it.")

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> Any:
        """Return which it was in where the payload comes from, and what that has said."""
        own = headers.get(self._key)
        if own is None:
            return None
        number = own["which"]
        return number, self.chains[number].recalled(headers)

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Wrap as what is replaced was, or as this was; else in the first."""
        number, inner = residue or (0, None)
        if known.writing is not None and (before := known.writing.before.get(self._key)):
            number, inner = before["which"], None
        elif known.writing is not None and self.spec.written is not None:
            number, inner = self.spec.written - 1, None
        chain = self.chains[number]
        if inner is None and known.writing is not None:
            inner = chain.recalled(known.writing.before)
        return chain.wrap_into(inside, stages, known, inner)
