"""No key of a recipe is without effect: what the engine would pass over in silence is a fault."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from clever_ferry.layers.document_spec import AGREEING, LOOKING, PathsSpec
from clever_ferry.layers.spec import LayerSpec
from clever_ferry.layouts import LayoutSpec
from clever_ferry.layouts.tracing import refers, trace
from clever_ferry.naming import FieldSpec, JoinedField, NumberField
from clever_ferry.recipes.fact_models import FactInfo
from clever_ferry.recipes.models import BoxRecipe, EditionInfo, GameRecipe
from clever_ferry.wording import known

__all__ = [
    "box_layout_effects",
    "edition_effects",
    "every_fact",
    "field_effects",
    "game_effects",
    "held",
]

_NOWHERE = {
    "nested": "it stands within another layout, where nothing compares or writes it; a layer of "
    "the kind `agrees`, which holds a layout of the whole file, does",
    "chunk": "a chunk's header says nothing of whose a save is",
    "table": "a table of chunks says nothing beyond their sizes",
    "box": "only the layout of an index can say whose it is",
    "fact": "it is only read, and never written",
    "document": "say it as a place of an `agrees` layer that holds this layout",
    "opened": "it stays wrapped when it is carried, so the target's is never written",
}


def game_effects(recipe: GameRecipe) -> list[str]:
    """Say which layouts, layers, pieces and facts of a game's recipe would do nothing."""
    uses = _uses(recipe)
    faults = [*_unused(recipe, uses)]
    for name, spec in recipe.layouts.items():
        faults += _layout_effects(name, spec, uses.get(name, set()))
    for key, fact in every_fact(recipe):
        faults += [f"{key}.{at}: {what}" for at, what in _fact_effects(fact, recipe)]
    for role, piece in recipe.pieces.items():
        for number, reach in enumerate(piece.reaches, 1):
            if reach.layout not in recipe.layouts:
                told = f"there is no layout {reach.layout!r}; {known(recipe.layouts)}"
                faults.append(f"pieces.{role}.reaches[{number}].layout: {told}")
            elif "number" not in trace(recipe.layouts, reach.layout, reach.at):
                told = f"no number stands at {reach.at} in {reach.layout}"
                faults.append(f"pieces.{role}.reaches[{number}].at: {told}")
        if piece.shared and piece.needed:
            faults.append(f"pieces.{role}.needed: what all saves share is asked for by none")
    return faults


def box_layout_effects(recipe: BoxRecipe) -> list[str]:
    """Say which layouts and layers of a box's recipe would do nothing."""
    layouts = recipe.layouts
    uses = {name: {use} for name, use in recipe.format.layouts.items()}
    reached = _reached(recipe.layers, recipe.format.within)
    for layer in reached:
        for step in recipe.layers.get(layer, ()):
            for name, use in step.layouts.items():
                uses.setdefault(name, set()).add(use)
    _spread(uses, layouts)
    faults = [f"layouts.{name}: nothing uses it" for name in layouts if name not in uses]
    faults += [f"layers.{name}: nothing uses it" for name in recipe.layers if name not in reached]
    faults += [f"layers.{name}: a box has no name fields or pieces that it could agree with"
               for name in reached for step in recipe.layers.get(name, ())
               if isinstance(step, (*LOOKING, PathsSpec))]  # fmt: skip
    for name, one in layouts.items():
        faults += _layout_effects(name, one, uses.get(name, set()))
    return faults


def _uses(recipe: GameRecipe) -> dict[str, set[str]]:
    """Return as what each layout is used: `header`, `sidecar`, `chunk`, `table`, `fact` …"""
    uses: dict[str, set[str]] = {}
    files = _worn(recipe)
    for name in _reached(recipe.layers, files):
        for spec in recipe.layers.get(name, ()):
            for layout, use in spec.layouts.items():
                uses.setdefault(layout, set()).add(use)
    for name in _reached(recipe.layers, _opened(recipe)):
        for spec in recipe.layers.get(name, ()):
            for layout in spec.layouts:
                uses.setdefault(layout, set()).add("opened")
    for one in recipe.editions.values():
        for layout, use in one.format.layouts.items() if one.format is not None else ():
            uses.setdefault(layout, set()).add(use)
        for file in one.files:
            if file.layout is not None:
                uses.setdefault(file.layout, set()).add("sidecar")
    for holds in held(recipe):
        if holds in recipe.layouts:
            uses.setdefault(holds, set()).add("document")
    named = [fact.layout for _, fact in every_fact(recipe) if fact.layout is not None]
    named += [reach.layout for piece in recipe.pieces.values() for reach in piece.reaches]
    for layout in named:
        uses.setdefault(layout, set()).add("fact")
    _spread(uses, recipe.layouts)
    return uses


def held(recipe: GameRecipe) -> set[str]:
    """Return the forms that pieces and layers hold."""
    found = {piece.holds for piece in recipe.pieces.values() if piece.holds is not None}
    every = [spec for steps in recipe.layers.values() for spec in steps]
    return found | {spec.holds for spec in every if isinstance(spec, (*LOOKING, PathsSpec))}


def every_fact(recipe: GameRecipe) -> Iterator[tuple[str, FactInfo]]:
    """Yield the facts by key, and those of editions where they stand elsewhere."""
    yield from ((f"facts.{key}", fact) for key, fact in recipe.facts.items())
    for edition, info in recipe.editions.items():
        for key, place in info.facts.items():
            if key in recipe.facts:
                yield f"editions.{edition}.facts.{key}", recipe.facts[key].standing(place)


def _spread(uses: dict[str, set[str]], layouts: Mapping[str, LayoutSpec]) -> None:
    """Add the layouts that used ones refer to, as nested."""
    waiting = list(uses)
    seen = set()
    while waiting:
        name = waiting.pop()
        if name in seen or name not in layouts:
            continue
        seen.add(name)
        for inner in refers(layouts[name]):
            uses.setdefault(inner, set()).add("nested")
            waiting.append(inner)


def _worn(recipe: GameRecipe) -> set[str]:
    """Return the layers that files and editions' own boxes have on."""
    every = recipe.editions.values()
    files = {layer for one in every for file in one.files for layer in file.layers}
    return files.union(*(one.format.within for one in every if one.format is not None))


def _opened(recipe: GameRecipe) -> set[str]:
    found = {layer for piece in recipe.pieces.values() for layer in piece.opens}
    found |= {layer for _, fact in every_fact(recipe) for layer in fact.opens or ()}
    return found | {*((recipe.packs.opens or ()) if recipe.packs else ())}


def _reached(layers: Mapping[str, Sequence[LayerSpec]], names: set[str]) -> set[str]:
    """Return layers with all that stand within them."""
    found: set[str] = set()
    waiting = list(names)
    while waiting:
        name = waiting.pop()
        if name not in found:
            found.add(name)
            waiting += [i for spec in layers.get(name, ()) for i in spec.within]
    return found


def _unused(recipe: GameRecipe, uses: Mapping[str, set[str]]) -> Iterator[str]:
    files = _worn(recipe)
    reached = _reached(recipe.layers, files | _opened(recipe))
    for name in recipe.layers:
        if name not in reached:
            yield f"layers.{name}: no file and no piece uses it"
    for name in recipe.layouts:
        if name not in uses and not any(
            name in spec.layouts for steps in recipe.layers.values() for spec in steps
        ):
            yield f"layouts.{name}: nothing uses it"
    roles = {file.role for one in recipe.editions.values() for file in one.files}
    for role in recipe.pieces:
        if role not in roles:
            yield f"pieces.{role}: no edition has a file of it"


def _layout_effects(name: str, spec: LayoutSpec, uses: set[str]) -> Iterator[str]:
    """Say which fields of a layout claim what its uses don't do."""
    for number, field in enumerate(spec.fields, 1):
        key = f"layouts.{name}.fields[{number}]"
        bound, computed = getattr(field, "bound", None), getattr(field, "computed", None)
        if bound is not None:
            idle_uses = ("nested", "chunk", "table", "box", "document", "opened")
            worst: str | None = next((use for use in idle_uses if use in uses), None)
            if worst is None and not uses & {"header", "sidecar", "index"}:
                worst = "fact"
            if worst is not None and not (worst == "opened" and "header" in uses):
                yield f"{key}.bound: {_NOWHERE[worst]}"
        if computed is not None and computed.outside:
            idle = uses & {"nested", "table", "box", "index", "document"}
            if idle or not uses & {"header", "sidecar", "chunk", "opened"}:
                yield (
                    f"{key}.computed.of: {computed.of!r} are bytes beside this layout, which only "
                    "a layer's header or footer has"
                )


def _fact_effects(fact: FactInfo, recipe: GameRecipe) -> Iterator[tuple[str, str]]:
    if fact.source is None:
        told = "the files tell" if fact.files else "a table tells" if fact.table else ""
        what = f"what {told}" if told else "a fact that is a part of the name"
        for key in ("at", "header", "layout", "opens"):
            if getattr(fact, key) is not None:
                yield key, f"{what} is read from no piece"
        if fact.files is not None and fact.compared is not True:
            yield "compared", "what the files tell is compared nowhere: another edition has others"
    if fact.table is not None or fact.files is not None:
        return
    if fact.field is not None:
        keys = {name for one in recipe.editions.values() for name in one.fields}
        if fact.field not in keys:
            yield "field", f"no edition has a field {fact.field!r}; {known(keys)}"
        return
    whole = None
    if fact.source in recipe.pieces and fact.layout is None:
        whole = fact.header or recipe.pieces[fact.source or ""].holds
    layout = fact.layout or whole
    if layout in recipe.layouts and fact.at is not None:
        kinds = trace(recipe.layouts, layout or "", fact.at)
        if not kinds & {"number", "text", "time", "identifier"}:
            found = f"a {' or '.join(sorted(kinds))}" if kinds else "nothing"
            yield "at", f"{found} stands at {fact.at} in {layout}, and no single value"
    if fact.header is not None:
        using = [
            one for one in recipe.editions.values() for file in one.files
            if file.role == fact.source and fact.header in _headers(recipe, file.layers)
        ]  # fmt: skip
        if not using:
            yield "header", f"no edition wraps the {fact.source} in a header {fact.header!r}"


def _headers(recipe: GameRecipe, layers: Iterable[str]) -> set[str]:
    steps = [
        spec for name in _reached(recipe.layers, {*layers}) for spec in recipe.layers.get(name, ())
    ]
    return {name for spec in steps for name, use in spec.layouts.items() if use == "header"}


def edition_effects(
    info: EditionInfo, recipe: GameRecipe, berth_fields: frozenset[str], keys: tuple[str, ...]
) -> Iterator[tuple[str, str]]:
    """Yield keys of an edition that would do nothing, with why."""
    for number, place in enumerate(info.berths, 1):
        if place.under == "given" and place.on != "any":
            yield f"berths[{number}].on", "a folder that the user names is on whatever it is on"
    for number, file in enumerate(info.files, 1):
        piece = recipe.pieces.get(file.role)
        if piece is not None and piece.shared and file.needed:
            yield f"files[{number}].needed", "what all saves share is asked for by none"
    beyond = ("given", "export")
    for number, cloud in enumerate(info.cloud, 1):
        if cloud.under in beyond:
            yield f"cloud[{number}].under", "that is no known folder"
    if info.packs is not None and info.packs.under in beyond:
        yield "packs.under", "that is no known folder"
    yield from _bound_effects(info, recipe)
    for name, field in info.fields.items():
        yield from field_effects(name, field)
        arriving = name in keys and not (
            name == "slot" and isinstance(field, NumberField | JoinedField)
        )
        if field.on_arrival != ("kept",) and not arriving:
            what = "a berth's own" if name in berth_fields else "no part of which save it is"
            yield f"fields.{name}.on_arrival", f"{name} is {what}, so a crossing looks for no value"
        if "made" in field.on_arrival and field.made(bytes) is None:
            yield f"fields.{name}.on_arrival", "only hex, digits and identifiers can be made"


def _bound_effects(info: EditionInfo, recipe: GameRecipe) -> Iterator[tuple[str, str]]:
    """Yield where a wrapping repeats a name field that this edition does not have."""
    names = {*info.fields}
    for one in info.fields.values():
        names |= {*one.of} if isinstance(one, JoinedField) else set()
    for number, file in enumerate(info.files, 1):
        for layer in _reached(recipe.layers, set(file.layers)):
            for spec in recipe.layers.get(layer, ()):
                bound = []
                if isinstance(spec, AGREEING):
                    bound = [one.field for one in spec.values if one.field and not one.kept]
                for layout, use in spec.layouts.items():
                    if use == "header":
                        bound += {*_bound_of(recipe, layout)} - recipe.facts.keys()
                for name in bound:
                    if name not in names:
                        told = f"{layer} repeats the field {name!r}, which this edition has not"
                        yield f"files[{number}].layers", f"{told}; {known(names)}"
        for name in _bound_of(recipe, file.layout or ""):
            if name not in names and name not in recipe.facts:
                yield f"files[{number}].layout", f"{name!r} is no field and no fact"


def _bound_of(recipe: GameRecipe, layout: str) -> list[str]:
    """Return the name fields that a layout's own fields repeat."""
    fields = recipe.layouts[layout].fields if layout in recipe.layouts else ()
    return [bound for field in fields if (bound := getattr(field, "bound", None)) is not None]


def field_effects(name: str, field: FieldSpec) -> Iterator[tuple[str, str]]:
    """Yield keys of a name field that would do nothing, with why."""
    if isinstance(field, NumberField):
        if field.only and field.first != 1:
            yield f"fields.{name}.first", "`only` says which number is the first"
        if field.base == 10 and field.case != "lower":
            yield f"fields.{name}.case", "decimal digits have none"
