"""What rows of a document have in columns."""

from __future__ import annotations

from typing import NamedTuple

from clever_ferry.documents.nodes import Single

__all__ = ["Columns"]


class Columns(NamedTuple):
    """What stands in columns, row by row; None where nothing does, or what holds others."""

    rows: int
    """How many there are, also those beyond the last that was read."""
    values: list[list[Single]]
    several: list[int]
    """In how many rows more than one value stands, by column; the first one counts."""
