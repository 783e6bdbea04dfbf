"""What strict games count when they load: rows that are numbered, and lead to each other."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from clever_ferry_demo.playing import RefusalError

__all__ = ["Row", "leads", "numbered"]

Row = dict[str, int | str]


def numbered(part: str, rows: Sequence[Mapping[str, int | str]]) -> set[int | str]:
    """Return the rows' numbers, which must count from 1."""
    numbers = [row["no"] for row in rows]
    if numbers != [*range(1, len(rows) + 1)]:
        raise RefusalError(f"{part} is not counted from 1")
    return set(numbers)


def leads(
    part: str, rows: Sequence[Mapping[str, int | str]], name: str, there: Collection[int | str]
) -> None:
    """Refuse rows that name what is nowhere."""
    for row in rows:
        if row[name] not in there:
            raise RefusalError(f"{part} names the {name} {row[name]}, which is nowhere")
