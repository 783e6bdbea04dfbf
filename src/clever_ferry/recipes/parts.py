"""What an edition is compiled of: places, files of pieces, marks, clouds, add-ons."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import NamedTuple

from msgspec import Struct

from clever_ferry.boxes import Entry
from clever_ferry.layers import Chain
from clever_ferry.naming import Pattern, Value
from clever_ferry.payload import head
from clever_ferry.recipes.facts import UNREADABLE
from clever_ferry.recipes.loader_models import RunningInfo
from clever_ferry.recipes.models import BerthInfo, CloudInfo, LooksInfo, MarkInfo, PacksHere
from clever_ferry.recipes.sidecars import Sidecar

__all__ = ["WITHIN", "Berthing", "Cloud", "Mark", "Packs", "PieceFile", "Running"]

WITHIN = "file"
"""The field that says where in a tree a file lies."""


class Berthing(NamedTuple):
    """Where an edition keeps its saves: below which known folder, in folders of which names."""

    info: BerthInfo
    pattern: Pattern | None
    archives: tuple[Pattern, ...] = ()
    """How the zips of its export are named."""


class Mark(NamedTuple):
    """A file in a berth that shows which store or release made it."""

    info: MarkInfo
    pattern: Pattern


class Packs(NamedTuple):
    """How an edition keeps add-ons."""

    info: PacksHere
    pattern: Pattern


class Cloud(NamedTuple):
    """A store's own copy of the saves, and the file that shows that it is on."""

    info: CloudInfo
    sign: Pattern | None


class Running(NamedTuple):
    """What shows that a game runs, beside its process."""

    info: RunningInfo
    sign: Pattern | None


class PieceFile(Struct, frozen=True, dict=True):
    """One role's names and wrapping in an edition."""

    role: str
    patterns: tuple[Pattern, ...]
    chain: Chain
    old: tuple[str, ...] = ()
    """Endings of the old copies that the game leaves."""
    wrapping: tuple[str, ...] = ()
    """Its layers in words, the outermost first."""
    sidecar: Sidecar | None = None
    """What it describes and how, where that is all it does."""
    needed: bool = False
    """Whether a save is not whole here without it."""
    looks: LooksInfo | None = None
    """What tells it from others, where names do not."""
    shared: bool = False
    """Whether all saves share it."""
    tree: bool = False
    """Whether it is all else in a folder, which its pattern names."""
    without: tuple[str, ...] = ()
    """What of such a folder is left out."""

    def write(self, values: Mapping[str, Value]) -> str:
        """Return the entry's name for the values of its fields; raises NamingError."""
        name = self.patterns[0].write(values)
        return f"{name}/{values[WITHIN]}" if self.tree else name

    def partly(self, values: Mapping[str, Value]) -> str:
        """Return the entry's name as far as its fields' values are known."""
        name = self.patterns[0].partly(values)
        return f"{name}/{values.get(WITHIN, '…')}" if self.tree else name

    def beneath(self, name: str, *, fold: bool) -> Mapping[str, Value] | None:
        """Return the fields of an entry (or folder) that lies in this tree; None for any other."""
        parts = name.split("/")
        depth = self.patterns[0].depth + 1
        values = self.patterns[0].match("/".join(parts[:depth]), fold=fold)
        if not isinstance(values, dict) or len(parts) < depth:
            return None
        inner = "/".join(parts[depth:])
        if any(inner == one or inner.startswith(f"{one}/") for one in self.without):
            return None
        return {**values, WITHIN: inner}

    @cached_property
    def bare(self) -> bool:
        """Whether it has no wrapping and is none."""
        return not self.chain.layers and self.sidecar is None

    @cached_property
    def describes(self) -> str:
        """The role of the piece that it only describes; '' where it does not."""
        return self.sidecar.of if self.sidecar is not None else ""

    def is_it(self, entry: Entry) -> bool:
        """Tell by size and content whether an entry is such a file, as far as that is stated."""
        if self.looks is None or entry.problem:
            return True
        size = entry.size or 0
        if size < self.looks.least or (self.looks.most is not None and size > self.looks.most):
            return False
        start = self.looks.start
        try:
            return not start or head(entry.payload, len(start)) == start
        except (*UNREADABLE, OSError):
            return False
