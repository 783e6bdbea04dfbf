"""Sidecars: small files that describe a piece (its sizes, digests, owner, day), made with it.

A sidecar is no progress of its own: a crossing never carries it, and makes it anew for its target.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import Struct

from clever_ferry.cargo import Piece
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layers import Known
from clever_ferry.layers.headers import LARGEST_HEADER, Header, compute
from clever_ferry.layouts import Layout
from clever_ferry.naming import Value
from clever_ferry.payload import BytesPayload, Payload, StreamPayload, head

__all__ = ["Sidecar"]


class Sidecar(Struct, frozen=True):
    """How the sidecar of one role is laid out."""

    of: str
    """The role that it describes."""
    layout: Layout | None
    """How it is laid out, where it is no document that agrees."""
    template: str | None = None
    """What it is made from where the save that is replaced has none."""

    @property
    def digests(self) -> tuple[str, ...]:
        """The checksums that it states of what it describes, by its layout."""
        if self.layout is None:
            return ()
        every = (one.spec.what for one in self.layout.computed if one.spec.what != "size")
        return tuple(dict.fromkeys(every))

    def values(self, payload: Payload) -> dict[str, Any]:
        """Read a sidecar; raises DamagedError (a LayoutError mostly) where it does not fit."""
        if self.layout is None:
            return {}
        raw = head(payload, LARGEST_HEADER + 1)
        if len(raw) > LARGEST_HEADER:
            raise DamagedError(f"it has more than {LARGEST_HEADER:,} bytes.")
        return self.layout.read_whole(raw)

    def bound(self, values: Mapping[str, Any]) -> dict[str, int | str]:
        """Return what it says of name fields and facts."""
        if self.layout is None:
            return {}
        return self.layout.repeated(values)

    def made(
        self,
        wrapped: Payload,
        payload: Payload,
        known: Mapping[str, Value],
        headers: Mapping[str, Mapping[str, Any]],
        before: Payload | None = None,
    ) -> Payload:
        """Return the sidecar of a piece, of its bytes as they will lie (`wrapped`) and its payload.

        What the layout neither computes nor binds is taken from what another sidecar has `headers`;
        a document is that of the save that is replaced (`before`), or made from the template.
        """
        if self.layout is None:
            if before is None and self.template is None:
                raise RefusedError(
                    f"Nothing shows how the file that describes the {self.of} looks here.",
                    advice="Make a throwaway save in that slot with the target's game, then carry "
                    "onto it: its own is taken over.",
                    in_game="there",
                )
            return before if before is not None else BytesPayload((self.template or "").encode())
        layout, header = self.layout, Header(self.layout)
        values = header.values(header.recall(headers), Known(known))

        def written() -> Iterator[bytes]:
            computed, _ = compute(layout, wrapped, {"payload": payload}, values)
            yield layout.write({**values, **computed})

        return StreamPayload(written)

    def faults(self, sidecar: Piece, piece: Piece) -> list[str]:
        """Return where a sidecar says otherwise than the piece is; reads the piece to its end."""
        values = sidecar.headers.get(self.layout.name) if self.layout is not None else None
        if self.layout is None or values is None or piece.wrapped is None:
            return []
        computed, _ = compute(self.layout, piece.wrapped, {"payload": piece.payload}, values)
        return [
            f"{sidecar.entry}: it says {_shown(values[name])} for {name}, but the {piece.title} "
            f"has {_shown(value)}"
            for name, value in computed.items()
            if values.get(name) != value
        ]


def _shown(value: Any) -> str:
    return value.hex() if isinstance(value, bytes) else f"{value:,}"
