"""What became of a campaign that was left to another game: the map before and after, as a page or
a picture."""

from __future__ import annotations

import io
import math
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from clever_ferry.sheets.looks import INK, LINE, NAMES, PAPER, SOFT
from clever_ferry.sheets.pages import page
from clever_ferry.visible import visible
from clever_ferry.wording import in_words

__all__ = ["BequestView", "MapGround", "MapSpot", "bequest_page", "bequest_picture"]

_LARGEST = 10
"""So many owners are named, by number."""
_FONTS: Any = {"font.family": ["DejaVu Serif"], "text.color": INK, "text.parse_math": False}


class MapSpot(Struct, frozen=True):
    """One place of a map."""

    x: float
    y: float
    owner: str
    """The owner's id; '' where it is nobody's."""
    size: float


class MapGround(Struct, frozen=True):
    """One side's map."""

    title: str
    spots: tuple[MapSpot, ...]
    names: dict[str, str]
    """Owners by their ids."""

    def largest(self) -> list[tuple[str, str, float, int]]:
        """Return the largest owners: id, name, size in all, and how many places."""
        sums: dict[str, list[float]] = {}
        for spot in self.spots:
            if spot.owner:
                own = sums.setdefault(spot.owner, [0, 0])
                own[0] += spot.size
                own[1] += 1
        order = sorted(sums, key=lambda owner: (-sums[owner][0], owner))
        return [(one, self.names.get(one, one), sums[one][0], int(sums[one][1]))
                for one in order[:_LARGEST]]  # fmt: skip

    def scaled(self) -> MapGround:
        """Return it with places about 1 apart, from 0 on, whatever its game measures them in."""
        if not self.spots:
            return self
        left, top = min(one.x for one in self.spots), min(one.y for one in self.spots)
        wide = max(one.x for one in self.spots) - left
        high = max(one.y for one in self.spots) - top
        unit = math.sqrt(wide * high) / max(1.0, math.sqrt(len(self.spots)) - 1)
        unit = unit or max(wide, high) / max(1, len(self.spots) - 1) or 1.0
        spots = [MapSpot((one.x - left) / unit, (one.y - top) / unit, one.owner, one.size)
                 for one in self.spots]  # fmt: skip
        return MapGround(self.title, tuple(spots), self.names)

    def middle(self, owner: str) -> tuple[float, float]:
        """Return the owner's place that is nearest to the middle of all of its places."""
        own = [spot for spot in self.spots if spot.owner == owner]
        x, y = (sum(getattr(one, at) for one in own) / len(own) for at in ("x", "y"))
        near = min(own, key=lambda one: (one.x - x) ** 2 + (one.y - y) ** 2)
        return near.x, near.y


class BequestView(Struct, frozen=True):
    """One step, as it is shown."""

    title: str
    where: str
    chosen: tuple[tuple[str, str], ...]
    sums: tuple[tuple[str, str, float, float], ...]
    """Of each column whose total stays: table, column, before and after."""
    told: tuple[tuple[str, tuple[str, ...]], ...]
    """What was split, merged, left out, or got what is usual; and its names."""
    grounds: tuple[MapGround, ...] = ()
    """The map before and after, where the recipe says how they are drawn."""
    rules: tuple[tuple[str, str, int], ...] = ()
    """By mapping: where a rule stands, and for how many rows it counted."""


def bequest_page(views: Sequence[BequestView]) -> str:
    """Return steps as a page: one file, without a script."""
    colours = _colours([ground for one in views for ground in one.grounds])
    return page("bequest", views=[(one, [_svg(ground, colours) for ground in one.grounds])
                                  for one in views])  # fmt: skip


def _svg(ground: MapGround, colours: Mapping[str, str]) -> dict[str, Any]:
    """Return what a page draws of a map: squares, numbers, and who is which."""
    ground = ground.scaled()
    squares = []
    for spot, side in zip(ground.spots, _sides(ground), strict=True):
        x, y = spot.x + 0.5 - side / 2, spot.y + 0.5 - side / 2
        name = ground.names.get(spot.owner, spot.owner) or "nobody"
        told = f"{name}: {in_words(spot.size, 'count')}"
        squares.append((f"{x:.2f}", f"{y:.2f}", f"{side:.2f}", colours.get(spot.owner, LINE), told))
    numbers = []
    for number, (owner, *_) in enumerate(ground.largest(), 1):
        x, y = ground.middle(owner)
        numbers.append((f"{x + 0.5:.2f}", f"{y + 0.5:.2f}", number))
    wide = max((spot.x for spot in ground.spots), default=0) + 1
    high = max((spot.y for spot in ground.spots), default=0) + 1
    return {
        "title": ground.title, "squares": squares, "numbers": numbers, "wide": f"{wide:g}",
        "high": f"{high:g}", "largest": ground.largest(), "colours": colours,
    }  # fmt: skip


def _colours(grounds: Sequence[MapGround]) -> dict[str, str]:
    """Return a colour for each owner, the same on all maps: the largest ones have their own."""
    found = {spot.owner: SOFT for ground in grounds for spot in ground.spots if spot.owner}
    large = dict.fromkeys(owner for ground in grounds for owner, *_ in ground.largest())
    return found | dict(zip(large, NAMES, strict=False))


def _sides(ground: MapGround) -> list[float]:
    """Return the sides of the places' squares, the areas of which go with their sizes."""
    most = max((spot.size for spot in ground.spots), default=0) or 1
    return [0.3 + 0.66 * float((max(spot.size, 0) / most) ** 0.5) for spot in ground.spots]


def bequest_picture(views: Sequence[BequestView]) -> bytes:
    """Return the first map and the last as a PNG (1280x800); raises ImportError.

    The largest owners have a number each, so that black and white is enough.
    """
    from matplotlib import rc_context
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure
    from matplotlib.patches import Rectangle

    grounds = [views[0].grounds[0].scaled(), views[-1].grounds[-1].scaled()]
    colours = _colours(grounds)
    with rc_context(_FONTS):
        figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor=PAPER)
        told = " to ".join([views[0].title.split(" to ")[0], *(v.title.split(" to ")[-1]
                                                               for v in views)])  # fmt: skip
        figure.text(0.03, 0.95, visible(told), fontsize=16)
        figure.text(0.03, 0.915, visible(views[0].where), fontsize=10, color=SOFT)
        about = "A square is a place, larger where there is more; the ten largest have a number."
        figure.text(0.03, 0.885, about, fontsize=9.5, color=SOFT)
        for place, ground in enumerate(grounds):
            axes = figure.add_axes((0.03 + 0.49 * place, 0.33, 0.46, 0.5))
            for spot, side in zip(ground.spots, _sides(ground), strict=True):
                axes.add_patch(Rectangle(
                    (spot.x - side / 2, spot.y - side / 2), side, side,
                    color=colours.get(spot.owner, LINE), linewidth=0,
                ))  # fmt: skip
            axes.set_title(
                visible(f"{('Before', 'After')[place]}: {ground.title}"), loc="left", fontsize=12
            )
            for number, (owner, name, total, count) in enumerate(ground.largest(), 1):
                x, y = ground.middle(owner)
                axes.text(
                    x, y, str(number), ha="center", va="center", fontsize=9,
                    bbox={"boxstyle": "round,pad=0.2", "fc": PAPER, "ec": INK, "lw": 0.6},
                )  # fmt: skip
                line = f"{number:>2}  {name}: {in_words(total, 'count')} in {count} places"
                column, row = divmod(number - 1, 5)
                figure.text(
                    0.03 + 0.49 * place + 0.235 * column, 0.285 - 0.033 * row, visible(line),
                    fontsize=9, color=colours[owner],
                )  # fmt: skip
            axes.set_aspect("equal", anchor="NW")
            axes.autoscale_view()
            axes.invert_yaxis()
            axes.axis("off")
        lines = [f"{table}, {column}: {in_words(before, 'count')} before, "
                 f"{in_words(after, 'count')} after"
                 for view in views for table, column, before, after in view.sums]  # fmt: skip
        figure.text(0.03, 0.085, visible("\n".join(lines[:4])), fontsize=9.5, va="top")
        FigureCanvasAgg(figure)
        made = io.BytesIO()
        words = "; ".join(lines)
        figure.savefig(made, format="png", metadata={"Description": visible(f"{told}. {words}")})
    return made.getvalue()
