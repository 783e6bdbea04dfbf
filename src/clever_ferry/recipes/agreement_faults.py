"""What is wrong with a recipe's agreements: what can't be reached, or would be without effect."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from clever_ferry.layers.document_spec import (
    AGREEING,
    LOOKING,
    AgreementSpec,
    ListsSpec,
    PathsSpec,
    StageSpec,
)
from clever_ferry.layers.spec import ChunksSpec, LayerSpec
from clever_ferry.recipes.models import EditionInfo, FileInfo, GameRecipe
from clever_ferry.wording import known

__all__ = ["agreement_faults"]

_ALWAYS = ("file", "payload")
"""The stages that every piece has."""


def agreement_faults(recipe: GameRecipe) -> list[str]:
    """Say which agreements can't be reached, and which stages nothing speaks of."""
    faults = list(_misplaced(recipe))
    spoken = set[str]()
    for name, info in recipe.editions.items():
        for number, file in enumerate(info.files, 1):
            key = f"editions.{name}.files[{number}].layers"
            faults += [f"{key}: {what}" for what in _stage_faults(recipe, file, spoken)]
            for one in _agreements(recipe, file.layers):
                faults += [f"{key}: {what}" for what in _unreachable(recipe, info, file, one)]
                spoken.add(one.stage)
            for own in _lists(recipe, file.layers):
                faults += [f"{key}: {what}" for what in _unlistable(recipe, info, file, own)]
                spoken |= {one.stage for one in own.values}
        if circle := _circle(recipe, info):
            faults.append(f"editions.{name}.files: {circle}")
    for layer, steps in recipe.layers.items():
        for number, spec in enumerate(steps, 1):
            if isinstance(spec, StageSpec) and spec.name not in spoken:
                told = f"nothing speaks of the stage {spec.name!r}"
                faults.append(f"layers.{layer}[{number}].name: {told}")
    return faults


def _flat(recipe: GameRecipe, names: Iterable[str]) -> Iterator[LayerSpec]:
    """Yield layers in order, with those that stand within others behind them."""
    for name in names:
        for spec in recipe.layers.get(name, ()):
            yield spec
            if not isinstance(spec, ChunksSpec):
                yield from _flat(recipe, sorted(spec.within))


def _agreements(recipe: GameRecipe, names: Iterable[str]) -> list[AgreementSpec]:
    every = (spec for spec in _flat(recipe, names) if isinstance(spec, AGREEING))
    return [one for spec in every for one in spec.values]


def _lists(recipe: GameRecipe, names: Iterable[str]) -> list[ListsSpec]:
    return [spec for spec in _flat(recipe, names) if isinstance(spec, ListsSpec)]


def _misplaced(recipe: GameRecipe) -> Iterator[str]:
    """Yield where layers agree that are never written."""
    opened = {role: piece.opens for role, piece in recipe.pieces.items()}
    for role, names in opened.items():
        if any(isinstance(one, LOOKING) for one in _flat(recipe, names)):
            yield f"pieces.{role}.opens: it stays wrapped when it is carried, so nothing is made so"
    for name, steps in recipe.layers.items():
        for number, spec in enumerate(steps, 1):
            inner = _flat(recipe, spec.within) if isinstance(spec, ChunksSpec) else ()
            if any(isinstance(one, (*LOOKING, StageSpec)) for one in inner):
                yield f"layers.{name}[{number}].layers: a chunk has no agreements and no stages"


def _unreachable(
    recipe: GameRecipe, info: EditionInfo, file: FileInfo, one: AgreementSpec
) -> Iterator[str]:
    field = info.fields.get(one.field or "")
    if one.spelled in ("hex", "HEX") and field is not None and field.kind in ("number", "digits"):
        yield f"{one.field!r} is a number; one in hex digits is `spelled` number-{one.spelled}"
    if one.fact is not None:
        fact = recipe.facts.get(one.fact)
        if fact is None:
            yield f"there is no fact {one.fact!r}; {known(recipe.facts)}"
        else:
            here = fact.standing(info.facts[one.fact]) if one.fact in info.facts else fact
            if here.source == file.role and here.header is None:
                yield f"the fact {one.fact!r} is read from here, and can't agree with itself"
    if one.piece is None:
        return
    other = next((each for each in info.files if each.role == one.piece), None)
    own = recipe.pieces.get(file.role)
    if other is None or one.piece not in recipe.pieces:
        yield f"there is no piece {one.piece!r} here; {known(each.role for each in info.files)}"
    elif other is file:
        yield f"the {file.role} can't say the {one.what} of its own bytes, which that would change"
    elif own is not None and own.shared:
        yield f"what all saves share can't say the {one.what} of one save's {one.piece}"
    elif recipe.pieces[one.piece].shared or other.tree:
        yield f"the {one.piece} is no single piece of a save"
    elif recipe.pieces[one.piece].each not in (None, own.each if own is not None else None):
        yield f"there are several {one.piece}s, and it is not plain of which the {one.what} is"
    elif one.stage == "payload" and _opened_up(recipe, other.layers):
        yield (
            f"the {one.piece}'s payload has nothing in the places that agree; name a `stage` in "
            "front of that layer"
        )
    elif one.stage not in (*_ALWAYS, *_stages(recipe, other.layers)):
        yield f"the {one.piece} has no stage {one.stage!r} here; it has " + ", ".join(
            [*_ALWAYS, *_stages(recipe, other.layers)]
        )


def _unlistable(
    recipe: GameRecipe, info: EditionInfo, file: FileInfo, own: ListsSpec
) -> Iterator[str]:
    """Yield which roles a list can't be of, and which stages they do not have."""
    for role in own.of:
        other = next((each for each in info.files if each.role == role), None)
        if other is None or role not in recipe.pieces:
            yield f"there is no piece {role!r} here; {known(each.role for each in info.files)}"
        elif other is file:
            yield f"the {role} can't list itself, as that would change it"
        elif recipe.pieces[role].shared or (file.role in recipe.pieces
                                            and recipe.pieces[file.role].shared):  # fmt: skip
            yield f"the {role} and its list must both be of one save"
        else:
            for one in own.values:
                payload = one.stage == "payload" and _opened_up(recipe, other.layers)
                if payload or one.stage not in (*_ALWAYS, *_stages(recipe, other.layers)):
                    yield f"the {role} has no bytes of the stage {one.stage!r} that are listable"


def _opened_up(recipe: GameRecipe, names: Iterable[str]) -> bool:
    """Tell whether a layer takes values out, so that the payload is not what a game has."""
    return any(isinstance(spec, (*LOOKING, PathsSpec)) for spec in _flat(recipe, names))


def _stages(recipe: GameRecipe, names: Sequence[str]) -> list[str]:
    return [spec.name for spec in _flat(recipe, names) if isinstance(spec, StageSpec)]


def _stage_faults(recipe: GameRecipe, file: FileInfo, spoken: set[str]) -> Iterator[str]:
    """Yield where a header speaks of a stage that is not within it; note those that are."""
    steps = list(_flat(recipe, file.layers))
    stages = [spec.name if isinstance(spec, StageSpec) else "" for spec in steps]
    for name in {one for one in stages if one and stages.count(one) > 1}:
        yield f"two of its layers are the stage {name!r}"
    for at, spec in enumerate(steps):
        for layout in spec.layouts:
            for field in recipe.layouts[layout].fields if layout in recipe.layouts else ():
                computed = getattr(field, "computed", None)
                stage = computed.stage if computed is not None else ""
                if (
                    stage == "payload"
                    and spec.layouts[layout] in ("header", "footer")
                    and (_opened_up(recipe, file.layers))
                ):
                    yield (
                        f"the header {layout} speaks of the payload, which has nothing in the "
                        "places that agree; let it speak of a `stage` in front of that layer"
                    )
                if stage in ("", "payload"):
                    continue
                spoken.add(stage)
                if stage not in stages[at + 1 :]:
                    yield f"the header {layout} speaks of a stage {stage!r}, which is not within it"


def _circle(recipe: GameRecipe, info: EditionInfo) -> str:
    """Return which pieces speak of each other's bytes, so that none can be written first."""
    needs = {
        file.role: {one.piece for one in _agreements(recipe, file.layers) if one.piece}.union(
            *(own.of for own in _lists(recipe, file.layers))
        )
        for file in info.files
    }
    done: set[str] = set()
    while ready := {role for role in needs if role not in done and needs[role] <= done}:
        done |= ready
    waiting = sorted(needs.keys() - done)
    return f"{' and '.join(waiting)} speak of each other's bytes in a circle" if waiting else ""
