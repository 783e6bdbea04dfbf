"""What all kinds of layers say of themselves, and what is wrong with it."""

from collections.abc import Iterator, Mapping
from typing import ClassVar

from clever_ferry.layouts import LayoutSpec
from clever_ferry.model import Model

__all__ = ["Fault", "LayerModel", "Layouts"]

Fault = tuple[str, str]
Layouts = Mapping[str, LayoutSpec]


class LayerModel(Model, tag_field="kind"):
    """What all kinds say of themselves."""

    MADE_BY: ClassVar[str] = ""
    """The layer's class, behind the room of this package that it is in."""

    @property
    def layouts(self) -> dict[str, str]:
        """The layouts that it names, and as what: `header`, `chunk` or `table`."""
        return {}

    @property
    def within(self) -> set[str]:
        """The names of the layers that stand within it."""
        return set()

    @property
    def words(self) -> str:
        """What it is, in a few words: its kind, or what it says of a text."""
        return self.kind

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield which of its keys lead nowhere or would be idle, and why; all layouts are there."""
        yield from ()
