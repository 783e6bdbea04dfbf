"""What is left for the player to do: before a crossing, and in the game after it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import PurePath

from clever_ferry.cargo import Save
from clever_ferry.crossing.plan import Plan
from clever_ferry.naming import Value

__all__ = ["steps_after", "steps_before"]

_MOST = 8


def steps_before(plan: Plan, shown: Callable[[PurePath], str] = str) -> tuple[str, ...]:
    """Return what to do before the target is written, such as fetching a device's newer copy.

    `shown` spells the target's folder for the player.
    """
    edition = plan.target.berth.edition
    return tuple(_filled(line, _known(plan, shown)) for line in edition.before)


def steps_after(
    plan: Plan, carried: Sequence[Save], shown: Callable[[PurePath], str] = str
) -> list[str]:
    """Return what to do now, in order; what concerns one save is said for each that was carried."""
    if not carried:
        return []
    source, edition = plan.source.berth.edition, plan.target.berth.edition
    arriving = edition.arriving.get(source.id)
    lines = [line for cloud in plan.signs.clouds for line in cloud.answer]
    lines += [*(arriving.after if arriving else ()), *edition.after]
    return [step for line in lines for step in _each(line, _known(plan, shown), carried)]


def _each(line: str, known: Mapping[str, Value], carried: Sequence[Save]) -> Iterator[str]:
    told = [
        _filled(line, {**known, **save.fields, "slot": save.slot, "title": save.title})
        for save in carried
    ]
    told = list(dict.fromkeys(told))
    yield from told[:_MOST]
    if len(told) > _MOST:
        yield f"… and the same for {len(told) - _MOST:,} more."


def _known(plan: Plan, shown: Callable[[PurePath], str]) -> Mapping[str, Value]:
    berth = plan.target.berth
    return {**berth.fields, "berth": shown(berth.root)}


def _filled(line: str, values: Mapping[str, Value]) -> str:
    for name, value in values.items():
        line = line.replace("{" + name + "}", str(value))
    return line
