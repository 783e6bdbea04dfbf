"""A picture of how unknown files are built: a strip for each stage, the density of its bytes."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from matplotlib import rc_context
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.patches import Patch

from clever_ferry.cli.screen import size
from clever_ferry.cli.studies import told_stage, told_step
from clever_ferry.moving.outputs import new_file
from clever_ferry.sheets.looks import INK, LINE, PAPER, SOFT
from clever_ferry.studying.looks import Block
from clever_ferry.studying.study import KindStudied, StageStudied, Study
from clever_ferry.visible import visible

__all__ = ["draw_study"]

_WIDTH, _HEIGHT, _DPI = 12.8, 8.0, 100
_FONTS: Any = {
    "font.family": ["DejaVu Serif"], "text.color": INK, "axes.edgecolor": INK, "xtick.color": INK,
    "axes.facecolor": PAPER, "text.parse_math": False, "hatch.linewidth": 0.6,
}  # fmt: skip
_MOST = 9
_KINDS = {
    "packed or encrypted": ("#7a4f2a", ""), "numbers": ("#b9c4a0", ".."),
    "letters": ("#4f7f8f", "//"),
    "zeros": (PAPER, ""), "the front": ("#d08c2e", "xx"),
}  # fmt: skip
"""Colours, and hatches by which they are told apart without them."""


def draw_study(found: Study, file: Path) -> int:
    """Draw the first file of each kind, stage by stage, into a PNG of 1280x800.

    Returns how many stages are in it: nine at the most.
    """
    rows = [
        (kind, number, stage)
        for kind in sorted(found.kinds, key=lambda one: -len(one.stages))
        for number, stage in enumerate(kind.stages)
        if stage.blocks
    ][:_MOST]
    with rc_context(_FONTS):
        figure = Figure(figsize=(_WIDTH, _HEIGHT), dpi=_DPI, facecolor=PAPER)
        figure.text(0.03, 0.955, "How these files are built", fontsize=15)
        told = (
            "One file of each kind, from its first byte to its last; below it, what comes out of "
            "it. The line is how dense the bytes are: at the top, packed or random."
        )
        figure.text(0.03, 0.925, told, fontsize=9.5, color=SOFT)
        height = 0.80 / max(len(rows), 4)
        for at, (kind, number, stage) in enumerate(rows):
            bottom = 0.90 - (at + 1) * height
            axes = figure.add_axes((0.30, bottom + height * 0.30, 0.67, height * 0.52))
            _strip(axes, stage)
            _words(figure, bottom + height * 0.80, kind, number, stage)
        figure.legend(
            handles=[Patch(facecolor=colour, hatch=hatch, edgecolor=INK, linewidth=0.6, alpha=0.75,
                      label=name)
                     for name, (colour, hatch) in _KINDS.items()],
            loc="lower center", ncol=len(_KINDS), frameon=False, fontsize=9.5,
        )  # fmt: skip
    FigureCanvasAgg(figure)
    told = "; ".join(f"{one.names.pattern}: {_line(one.stages, 0)}" for one, _, _ in rows)
    with new_file(file) as part:
        figure.savefig(part, format="png", metadata={"Description": visible(told)})
    return len(rows)


def _kind(block: Block) -> str:
    if block.zeros > 0.9:
        return "zeros"
    if block.letters > 0.85:
        return "letters"
    return "packed or encrypted" if block.density > 0.86 else "numbers"


def _strip(axes: Axes, stage: StageStudied) -> None:
    count = len(stage.blocks)
    step = stage.step
    front = len(step.fronts[0]) if step is not None and step.fronts else 0
    share = front / max(1, stage.sizes[0])
    begin = 0
    is_packed = step is not None and bool(step.fronts) and step.kind != "header"
    kinds = ["packed or encrypted" if is_packed else _kind(one) for one in stage.blocks]
    for at in range(1, count + 1):
        if at == count or kinds[at] != kinds[begin]:
            colour, hatch = _KINDS[kinds[begin]]
            axes.axvspan(begin / count, at / count, 0, 1, facecolor=colour, hatch=hatch,
                         edgecolor=INK, linewidth=0, alpha=0.75)  # fmt: skip
            begin = at
    if share:
        colour, hatch = _KINDS["the front"]
        axes.axvspan(
            0, max(share, 0.004), 0, 1, facecolor=colour, hatch=hatch, edgecolor=INK, linewidth=0.6
        )
    edges = [at / count for at in range(count + 1)]
    axes.stairs(
        [one.density for one in stage.blocks], edges, color=INK, linewidth=1.1, baseline=None
    )
    axes.set(xlim=(0, 1), ylim=(-0.03, 1.06), yticks=[], xticks=[0, 1])
    axes.set_xticklabels(["0", size(stage.sizes[0])], fontsize=8)
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_color(LINE)


def _words(figure: Figure, top: float, kind: KindStudied, number: int, stage: StageStudied) -> None:
    name = kind.names.pattern if number == 0 else f"   {told_stage(number, kind.stages).lower()}"
    name = name if len(name) <= 38 else f"…{name[-37:]}"
    figure.text(
        0.03,
        top,
        visible(name),
        fontsize=10,
        va="top",
        fontweight="bold" if number == 0 else "normal",
    )
    figure.text(
        0.03, top - 0.024, visible(_line(kind.stages, number)), fontsize=8.5, color=SOFT, va="top"
    )


def _line(stages: tuple[StageStudied, ...], number: int) -> str:
    stage = stages[number]
    if stage.step is not None:
        told = told_step(stage.step)
        return told if len(told) <= 56 else told.partition(";")[0][:56]
    if stage.looks_locked:
        return "looks encrypted, or packed in an unknown way"
    return "nothing more comes off" if stage.what == "bytes" else stage.what
