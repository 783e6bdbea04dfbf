"""What is wrong with a recipe that models alone can't tell: names that refer to nothing."""

from __future__ import annotations

from collections.abc import Mapping

from clever_ferry.boxes.one_file_spec import NodesSpec
from clever_ferry.documents.document import FORMS as DOCUMENTS
from clever_ferry.documents.places import place_fault
from clever_ferry.errors import FerryError
from clever_ferry.forms.recognising import ANY, FORMS
from clever_ferry.layers.document_spec import AGREEING, LOOKING, PathsSpec
from clever_ferry.layouts import Layout, LayoutError
from clever_ferry.naming import FieldSpec, Pattern, compile_pattern
from clever_ferry.recipes.effects import every_fact
from clever_ferry.recipes.models import GameRecipe
from clever_ferry.recipes.part_models import part_faults
from clever_ferry.recipes.table_models import table_faults
from clever_ferry.wording import known

__all__ = ["Faults", "fact_faults", "unwritable"]


class Faults:
    """Collects what is wrong below one key."""

    def __init__(self, key: str) -> None:
        self.key = key
        self.lines: list[str] = []

    def add(self, key: str, what: str) -> None:
        """Note what is wrong at a key."""
        self.lines.append(f"{self.key}.{key}: {what}")

    def pattern(self, key: str, text: str, fields: Mapping[str, FieldSpec]) -> Pattern | None:
        """Return a compiled pattern; None where it is none, which is noted."""
        try:
            return compile_pattern(text, fields)
        except FerryError as error:
            self.add(key, error.what)
            return None


def unwritable(layouts: Mapping[str, Layout]) -> list[str]:
    """Say which layouts can't be written, whatever the values: a blank one is tried."""
    faults: list[str] = []
    for name, layout in layouts.items():
        try:
            blank = layout.blank()
        except RecursionError:
            faults.append(f"layouts.{name}: it holds itself without end, so it can't be written")
            continue
        values = {**dict.fromkeys(layout.outside, 0), **blank}
        try:
            layout.write(values)
        except LayoutError as error:
            faults.append(f"layouts.{name}: it can't be written: {error.what}")
    return faults


def form_faults(recipe: GameRecipe) -> list[str]:
    """Say where pieces and layers hold what is no form, and which own forms nothing holds."""
    documents = {*DOCUMENTS, *recipe.forms, *recipe.layouts}
    held = [(f"pieces.{role}.holds", piece.holds, {ANY, *FORMS, *documents})
            for role, piece in recipe.pieces.items() if piece.holds is not None]  # fmt: skip
    held += [(f"layers.{name}[{number}].holds", layer.holds,
              documents if isinstance(layer, PathsSpec) else {*documents, "sqlite"})
             for name, layers in recipe.layers.items() for number, layer in enumerate(layers, 1)
             if isinstance(layer, (*LOOKING, PathsSpec))]  # fmt: skip
    held += [(f"editions.{name}.format.holds", one.format.holds, {*DOCUMENTS, *recipe.forms})
             for name, one in recipe.editions.items() if isinstance(one.format, NodesSpec)
            ]  # fmt: skip
    held += [(f"editions.{name}.config[{number}].holds", one.holds, {*DOCUMENTS, *recipe.forms})
             for name, edition in recipe.editions.items()
             for number, one in enumerate(edition.config, 1)]  # fmt: skip
    faults = [f"{key}: there is no form {name!r}; {known(names)}"
              for key, name, names in held if name not in names]  # fmt: skip
    faults += [f"forms.{name}: a form of that name is known already"
               for name in recipe.forms if name in {ANY, *FORMS, *recipe.layouts}]  # fmt: skip
    faults += [f"layouts.{name}: a form of documents has that name, so nothing could hold it"
               for name in recipe.layouts if name in {ANY, *FORMS}]  # fmt: skip
    used = {name for _, name, _ in held}
    return faults + [f"forms.{name}: nothing holds it" for name in recipe.forms.keys() - used]


def fact_faults(recipe: GameRecipe) -> list[str]:
    """Say where facts, add-ons and handovers refer to pieces or layers that are not there."""
    faults = _handover_faults(recipe)
    documents = {ANY, *DOCUMENTS, "sqlite", *recipe.forms, *recipe.layouts}
    placed = [
        *((f"{name}.at", fact.at or "") for name, fact in every_fact(recipe)),
        *([("packs.at", recipe.packs.at)] if recipe.packs else ()),
        *([(f"handover.lists[{number}].at", one.at)
           for number, one in enumerate(recipe.handover.lists, 1)] if recipe.handover else ()),
        *([("handover.says.at", recipe.handover.says.at)]
          if recipe.handover and recipe.handover.says else ()),
    ]  # fmt: skip
    faults += [f"{key}: {why}" for key, place in placed if (why := place_fault(place))]
    if recipe.packs is not None:
        source = recipe.packs.source
        if source not in recipe.pieces or recipe.pieces[source].holds not in documents:
            told = " or ".join(DOCUMENTS)
            faults.append(f"packs.from: {source!r} is no piece that says that it `holds` {told}")
    opening = [
        *((f"pieces.{role}", piece.opens) for role, piece in recipe.pieces.items()),
        *((name, fact.opens or ()) for name, fact in every_fact(recipe)),
        *([("packs", recipe.packs.opens or ())] if recipe.packs is not None else ()),
    ]
    faults += [
        f"{place}.opens: there is no layer {layer!r}; {known(recipe.layers)}"
        for place, layers in opening
        for layer in layers
        if layer not in recipe.layers
    ]
    for name, fact in every_fact(recipe):
        if fact.source is not None and fact.source not in recipe.pieces:
            faults.append(f"{name}.from: there is no piece {fact.source!r}; {known(recipe.pieces)}")
        elif (
            fact.source is not None
            and not fact.layout
            and not fact.header
            and recipe.pieces[fact.source].holds not in documents
        ):
            faults.append(
                f"{name}.from: pieces.{fact.source} does not say that it `holds` "
                f"{' or '.join(DOCUMENTS)} or a layout, and the fact names no `layout`"
            )
        for key, layout in (("layout", fact.layout), ("header", fact.header)):
            if layout is not None and layout not in recipe.layouts:
                told = f"there is no layout {layout!r}; {known(recipe.layouts)}"
                faults.append(f"{name}.{key}: {told}")
    roles = {role: piece.holds in documents for role, piece in recipe.pieces.items()}
    tabled = {name.removeprefix("facts."): fact.table for name, fact in every_fact(recipe)
            if fact.table is not None}  # fmt: skip
    named = frozenset(name for one in recipe.editions.values() for name in one.fields)
    faults += [f"{key}: {why}" for key, why in table_faults(recipe.tables, tabled, roles, named)]
    shared = frozenset(role for role, piece in recipe.pieces.items() if piece.shared)
    faults += [
        f"{key}: {why}"
        for key, why in part_faults(
            recipe.parts, recipe.tables, roles, shared, mapped=recipe.game.map is not None
        )
    ]
    if recipe.game.map is not None and recipe.game.map not in recipe.facts:
        told = f"there is no fact {recipe.game.map!r}; {known(recipe.facts)}"
        faults.append(f"game.map: {told}")
    elif recipe.game.map is not None and not any(one.elsewhere for one in recipe.parts.values()):
        faults.append("game.map: no part says what is different `elsewhere`")
    for edition, info in recipe.editions.items():
        faults += [f"editions.{edition}.facts.{key}: there is no fact {key!r}; "
                   f"{known(recipe.facts)}" for key in info.facts.keys() - recipe.facts.keys()
        ]  # fmt: skip
    return faults


def _handover_faults(recipe: GameRecipe) -> list[str]:
    info = recipe.handover
    if info is None:
        return []
    named = {"host": info.host or info.guest, "guest": info.guest}
    named |= {f"lists[{n}].piece": one.piece for n, one in enumerate(info.lists, 1)}
    named |= {"says.piece": info.says.piece} if info.says else {}
    faults = [
        f"handover.{key}: there is no piece {role!r}; {known(recipe.pieces)}"
        for key, role in named.items()
        if role not in recipe.pieces
    ]
    if info.guest in recipe.pieces and not recipe.pieces[info.guest].each:
        faults.append(f"handover.guest: there is only one {info.guest}; it needs `each`")
    layers = [layer for steps in recipe.layers.values() for layer in steps]
    kept = [value.field for one in layers if isinstance(one, AGREEING)
            for value in one.values if value.kept]  # fmt: skip
    if info.named and info.named not in kept:
        faults.append(f"handover.named: no identity layer with `kept` is bound to {info.named!r}")
    return faults
