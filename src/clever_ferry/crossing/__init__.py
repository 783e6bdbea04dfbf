"""Crossings: planned, carried out, proved, recorded; undone, restored, set right."""

from clever_ferry.crossing.carrying import Crossed, carry_out
from clever_ferry.crossing.planning import Move, Plan, make_plan
from clever_ferry.crossing.progress import Progress, Step, silent
from clever_ferry.crossing.recovering import Recovered, recover
from clever_ferry.crossing.undoing import Undoing, plan_undo, undo

__all__ = [
    "Crossed",
    "Move",
    "Plan",
    "Progress",
    "Recovered",
    "Step",
    "Undoing",
    "carry_out",
    "make_plan",
    "plan_undo",
    "recover",
    "silent",
    "undo",
]
