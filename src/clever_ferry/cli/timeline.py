"""A picture of a game's saves over time: one lane per berth, crossings as arrows."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from matplotlib import rc_context
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from clever_ferry.cli.screen import facts_line, size, when
from clever_ferry.moving.outputs import new_file
from clever_ferry.proving.stories import story_of
from clever_ferry.sheets.looks import BAND, INK, LINE, NAMES, PAPER, SHAPES, SOFT
from clever_ferry.visible import visible

if TYPE_CHECKING:
    from clever_ferry.cargo import Save
    from clever_ferry.finding.berths import OpenBerth
    from clever_ferry.keeping.logbook import Record
    from clever_ferry.recipes import Game

__all__ = ["draw_timeline"]

_WIDTH, _HEIGHT, _DPI = 12.8, 8.0, 100
_TICKS = (
    (0.0, "now"), (1, "1 hour ago"), (6, "6 hours"), (24, "1 day"), (72, "3 days"),
    (168, "1 week"), (720, "1 month"), (2160, "3 months"), (8766, "1 year"), (43830, "5 years"),
)  # fmt: skip
_FONTS: Any = {
    "font.family": ["DejaVu Serif"], "text.color": INK, "axes.edgecolor": INK, "xtick.color": INK,
    "axes.facecolor": PAPER, "text.parse_math": False,
}  # fmt: skip
_MOST_LANES, _MOST_LABELS = 14, 12
_MOST_LIKES = 60
"""Saves of one name among which the furthest are looked for."""
_SMALLEST, _LARGEST = 40.0, 900.0
"""Areas of the dots, in points squared."""
_MOST_ARROWS = 8


class _Dot(NamedTuple):
    """One save in the picture."""

    lane: int
    at: float
    save: Save


def draw_timeline(
    berths: Sequence[OpenBerth], crossings: Sequence[Record], file: Path, now_ns: int | None = None
) -> int:
    """Draw the saves of berths into a PNG of 1280x800; return how many were drawn.

    To the right is now; distances shrink with age, so that yesterday and last year both show.
    Areas go with sizes, colours with names.
    """
    now = now_ns or time.time_ns()
    shown = list(berths[:_MOST_LANES])
    dots = [
        _Dot(lane, _place(save.stamp, now), save)
        for lane, one in enumerate(shown)
        for save in one.listing.saves
    ]
    with rc_context(_FONTS):
        figure = _drawn(shown, dots, crossings)
    FigureCanvasAgg(figure)
    with new_file(file) as part:
        figure.savefig(part, format="png", metadata={"Description": _described(shown)})
    return len(dots)


def _described(berths: Sequence[OpenBerth]) -> str:
    """Return the picture in words, for those who can't see it; it goes into the file."""
    told = []
    for one in berths:
        saves = [f"{save.title} {when(save.stamp)}" for save in one.listing.saves[:_MOST_LABELS]]
        more = len(one.listing.saves) - len(saves)
        saves += [f"and {more} more"] if more else []
        told.append(f"{one.berth.edition.title}: {'; '.join(saves) or 'no saves'}.")
    return visible(" ".join(["When each side was saved last.", *told]))


def _drawn(shown: Sequence[OpenBerth], dots: Sequence[_Dot], crossings: Sequence[Record]) -> Figure:
    figure = Figure(figsize=(_WIDTH, _HEIGHT), dpi=_DPI, facecolor=PAPER)
    axes = figure.add_axes((0.21, 0.09, 0.76, 0.80))
    furthest = min((dot.at for dot in dots), default=-1.0)
    left = min(furthest * 1.08, -1.0) - 0.05
    _lanes(axes, shown, left)
    _dots(axes, dots, shown[0].berth.game)
    roots = {str(one.berth.root): lane for lane, one in enumerate(shown)}
    _arrows(axes, crossings, roots, left)
    _time_axis(axes, left)
    game = shown[0].berth.game.title
    axes.set_title(f"{game}: when each side was saved last", loc="left", fontsize=15, pad=34)
    axes.text(
        0, 1.02, "Right is newer. Larger is more bytes. One shape is one name; the ring is the "
        "furthest of one story. Hollow: a throwaway. At the right: crossings.",
        transform=axes.transAxes, fontsize=9.5, color=SOFT, va="bottom",
    )  # fmt: skip
    return figure


def _place(stamp: int | None, now: int) -> float:
    """Return where a time stands: 0 for now, and less the older it is."""
    hours = max(0.0, (now - (stamp or 0)) / 3.6e12)
    return -math.log10(1 + min(hours, 300_000.0))


def _lanes(axes: Axes, berths: Sequence[OpenBerth], left: float) -> None:
    for lane, one in enumerate(berths):
        axes.axhline(lane, color=LINE, linewidth=1.2, zorder=0)
        title = f"{one.berth.edition.title}\n{one.berth.address}"
        fields = ", ".join(f"{name} {value}" for name, value in one.berth.fields.items())
        axes.annotate(
            title + (f"\n{fields}" if fields else ""), (left, lane), (-12, 0),
            textcoords="offset points", ha="right", va="center", fontsize=9.5, color=INK,
            annotation_clip=False,
        )  # fmt: skip
        if not one.listing.saves:
            axes.annotate("no saves", (left / 2, lane), (0, 6), textcoords="offset points",
                          fontsize=9, color=SOFT, ha="center")  # fmt: skip
    axes.set_ylim(len(berths) - 0.4, -0.75)
    axes.set_xlim(left, 0.12)


def _dots(axes: Axes, dots: Sequence[_Dot], game: Game) -> None:
    stories = list(dict.fromkeys(dot.save.title.casefold() for dot in dots))
    largest = max((dot.save.size for dot in dots), default=1) or 1
    likes = {one: [d for d in dots if d.save.title.casefold() == one] for one in stories}
    ahead = {id(dot) for own in likes.values() for dot in own if _is_ahead(dot, own, game)}
    taken: dict[int, list[tuple[float, int]]] = {}
    for dot in sorted(dots, key=lambda one: one.at):
        number = stories.index(dot.save.title.casefold())
        ink, shape = NAMES[number % len(NAMES)], SHAPES[number % len(SHAPES)]
        area = _SMALLEST + (_LARGEST - _SMALLEST) * dot.save.size / largest
        hollow = dot.save.throwaway
        axes.scatter(
            [dot.at], [dot.lane], s=area, zorder=3, linewidths=1.8, alpha=0.9,
            marker="X" if dot.save.problems else shape,
            facecolors=PAPER if hollow else ink, edgecolors=ink,
        )  # fmt: skip
        radius = math.sqrt(area / math.pi)
        if id(dot) in ahead:
            axes.scatter([dot.at], [dot.lane], s=(2 * radius + 11) ** 2 * math.pi / 4, zorder=2,
                         facecolors="none", edgecolors=ink, linewidths=1.4)  # fmt: skip
        _label(axes, dot, ink, radius, taken.setdefault(dot.lane, []))


def _label(axes: Axes, dot: _Dot, ink: str, radius: float, taken: list[tuple[float, int]]) -> None:
    """Write a save's name where no other of its lane stands: above, below, or further off."""
    if len(taken) >= _MOST_LABELS:
        return
    near = [level for at, level in taken if abs(at - dot.at) < 0.62]
    level = next(one for one in range(len(near) + 1) if one not in near)
    taken.append((dot.at, level))
    up = level % 2 == 0
    away = radius + 5 + 27 * (level // 2)
    facts = facts_line(dot.save, most=1)
    axes.annotate(
        f"{dot.save.title}\n{facts + ' · ' if facts else ''}{size(dot.save.size)}",
        (dot.at, dot.lane), (0, away if up else -away), textcoords="offset points",
        ha="right" if dot.at > -0.15 else "center", va="bottom" if up else "top", fontsize=9,
        color=ink,
    )  # fmt: skip


def _is_ahead(dot: _Dot, dots: Sequence[_Dot], game: Game) -> bool:
    """Tell whether a save is the furthest of several that are surely of one story."""
    if len(dots) > _MOST_LIKES:
        return False
    own = [one for one in dots if one is dot or story_of(one.save, dot.save, game) == "same"]
    return len(own) > 1 and any(one is dot for one in _furthest(own))


def _furthest(dots: Sequence[_Dot]) -> list[_Dot]:
    """Return those that are furthest: by play time, else by the time of saving."""

    def far(dot: _Dot) -> float:
        played = [fact.value for fact in dot.save.facts if fact.unit == "s"]
        known = [float(value) for value in played if isinstance(value, int | float)]
        return max(known, default=(dot.save.stamp or 0) / 1e18)

    furthest = max(map(far, dots))
    return [dot for dot in dots if far(dot) == furthest]


def _arrows(axes: Axes, crossings: Sequence[Record], roots: dict[str, int], left: float) -> None:
    """Draw the newest crossings between these lanes in a strip of their own, the newest last."""
    known = []
    for record in crossings:
        ends = [roots.get(side.root) for side in (record.details.source, record.details.target)]
        if record.state in ("proved", "undone") and None not in ends and ends[0] != ends[1]:
            known.append((record, ends))
    shown = known[:_MOST_ARROWS][::-1]
    step = -left * 0.034
    axes.set_xlim(left, 0.12 + step * (len(shown) + 1) * bool(shown))
    for number, (record, (start, end)) in enumerate(shown, 1):
        undone = record.state == "undone"
        ink = SOFT if undone else INK
        at = 0.12 + step * number
        axes.annotate(
            "", (at, float(end or 0)), (at, float(start or 0)), zorder=4,
            arrowprops={"arrowstyle": "-|>", "color": ink, "linestyle": "--" if undone else "-",
                        "linewidth": 1.6, "shrinkA": 3, "shrinkB": 3, "mutation_scale": 16},
        )  # fmt: skip
        names = ", ".join(move.save.name for move in record.details.moves[:2])
        ago = when(record.started).partition("(")[2].rstrip(")")
        axes.annotate(
            f"{names}, {'undone' if undone else ago}", (at, ((start or 0) + (end or 0)) / 2),
            (-3, 0), textcoords="offset points", fontsize=8.5, rotation=90, ha="right",
            va="center", color=ink,
        )  # fmt: skip


def _time_axis(axes: Axes, left: float) -> None:
    ticks = [(-math.log10(1 + hours), text) for hours, text in _TICKS]
    shown = [tick for tick in ticks if tick[0] >= left]
    axes.set_xticks([at for at, _ in shown], [text for _, text in shown], fontsize=9.5)
    axes.set_yticks([])
    axes.grid(axis="x", color=BAND, linewidth=1)
    axes.set_axisbelow(True)
    for side in ("left", "right", "top"):
        axes.spines[side].set_visible(False)
