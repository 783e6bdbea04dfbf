"""What was made of a campaign, as it is told and drawn."""

from __future__ import annotations

from collections.abc import Mapping

from clever_ferry.bequeathing.deriving import MakeReport
from clever_ferry.bequeathing.making import Made
from clever_ferry.bequeathing.rows import RowTable, number, text
from clever_ferry.recipes.bequest_models import MapInfo
from clever_ferry.sheets.bequest_views import BequestView, MapGround, MapSpot

__all__ = ["named", "view_of"]


def view_of(made: Made, where: str) -> BequestView:
    """Return what a page or a picture shows of one step of a bequest."""
    recipe = made.bequest.recipe
    told: list[tuple[str, tuple[str, ...]]] = []
    sums, rules = [], []
    for info in recipe.make:
        one = made.told[info.table]
        sums += [(one.label, column, *pair) for column, pair in one.sums.items()]
        rules += [(name, at, count) for name, hits in one.rules.items()
                  for at, count in hits.items()]  # fmt: skip
        told += [(what, tuple(names)) for what, names, _ in named(one) if names]
    grounds = []
    if recipe.maps is not None:
        for side, title in ((recipe.maps.before, made.bequest.source.title),
                            (recipe.maps.after, made.bequest.target.title)):  # fmt: skip
            grounds.append(_ground(side, title, made.tables))
    chosen = [(name, text(value)) for name, value in made.options.items()]
    chosen += [("add-ons", ", ".join(made.addons))] if made.addons else []
    return BequestView(recipe.bequest.title, where, tuple(chosen), tuple(sums), tuple(told),
                       tuple(grounds), tuple(rules))  # fmt: skip


def named(told: MakeReport) -> list[tuple[str, list[str], bool]]:
    """Return what was done to rows that a player should know of, their names, and if it is odd."""
    label = told.label
    alike: dict[tuple[str, ...], list[str]] = {}
    for column, names in told.defaults.items():
        alike.setdefault(tuple(names), []).append(column)
    return [
        (f"{label}: went to more than one place", told.split, False),
        (f"{label}: came together out of several", told.merged, False),
        (f"{label}: nothing says where they go, so they went to the rest", told.unmapped, True),
        (f"{label}: nothing went there", told.unreached, True),
        (f"{label}: left out, as the recipe says", told.left_out, True),
        *((f"{label}, {' and '.join(columns)}: what is usual, as nothing else was said",
           [*names], True) for names, columns in alike.items()),
    ]  # fmt: skip


def _ground(info: MapInfo, title: str, tables: Mapping[str, RowTable]) -> MapGround:
    rows, owners = tables[info.table], tables[info.of]
    there = tables[info.at] if info.at is not None else rows
    at, spots = there.by_id(), []
    for ident, owner, size in zip(
        rows.ids(), rows.columns[info.owner], rows.columns[info.size], strict=True
    ):
        place = at.get(ident)
        x, y = (number(there.columns[one][place]) if place is not None else None
                for one in (info.x, info.y))  # fmt: skip
        if x is not None and y is not None:  # else it is on no map
            spots.append(MapSpot(x, y, text(owner), number(size) or 0))
    names = {ident: owners.name(row) for row, ident in enumerate(owners.ids())}
    return MapGround(title, tuple(spots), names)
