"""Crossings: planned, carried out, proved, recorded; and undone."""

from clever_ferry.crossing.carrying import Crossed, carry_out
from clever_ferry.crossing.planning import Move, Plan, make_plan
from clever_ferry.crossing.progress import Progress, Step, silent
from clever_ferry.crossing.undoing import Recovered, Undoing, plan_undo, recover, undo

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
