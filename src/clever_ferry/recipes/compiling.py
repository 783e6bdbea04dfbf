"""From a recipe's models to an edition that reads and writes; checks what models alone can't."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping

from clever_ferry.boxes import Box, FolderBox, make_box
from clever_ferry.errors import FerryError, RecipeError
from clever_ferry.layers import Chain, IdentitySpec, compile_layers, told_layer
from clever_ferry.layouts import Layout, LayoutError, LayoutSpec, compile_layouts
from clever_ferry.layouts.digests import DIGEST_BYTES
from clever_ferry.layouts.spec import (
    LENGTH_TYPES,
    NUMBER_TYPES,
    BytesSpec,
    ChoiceSpec,
    ComputedSpec,
    ListSpec,
    NestedSpec,
    PartsSpec,
    SpanSpec,
)
from clever_ferry.naming import FieldSpec, NumberField, Pattern, compile_pattern
from clever_ferry.recipes.edition import Edition, Game
from clever_ferry.recipes.facts import FactReader
from clever_ferry.recipes.models import BoxRecipe, EditionInfo, GameRecipe
from clever_ferry.recipes.parts import Berthing, Cloud, Mark, Packs, PieceFile
from clever_ferry.recipes.slips import Slip

__all__ = ["FindBox", "compile_box", "compile_game"]

FindBox = Callable[[str], tuple[str, Box]]
"""Gives the title and the box of a kind's id; raises FerryError where there is none."""


def compile_box(recipe: BoxRecipe) -> Box:
    """Compile a box recipe; raises RecipeError with what does not fit together."""
    faults = _layout_faults(recipe.layouts)
    if faults:
        raise RecipeError("This box recipe does not fit together.", details=tuple(faults))
    layouts = compile_layouts(recipe.layouts)
    faults = _unwritable(layouts)
    if faults:
        raise RecipeError("This box recipe does not fit together.", details=tuple(faults))
    try:
        return make_box(recipe.box.id, recipe.format, layouts)
    except FerryError as error:
        raise RecipeError(
            "This box recipe does not fit together.", details=(f"format: {error.what}",)
        ) from None


def compile_game(recipe: GameRecipe, find_box: FindBox) -> Game:
    """Compile a game recipe; raises RecipeError with all that does not fit together."""
    faults = _layout_faults(recipe.layouts)
    faults += _fact_faults(recipe)
    if faults:
        raise RecipeError("This recipe does not fit together.", details=tuple(faults))
    layouts = compile_layouts(recipe.layouts)
    faults += _unwritable(layouts)
    if faults:
        raise RecipeError("This recipe does not fit together.", details=tuple(faults))
    try:
        layers = compile_layers(recipe.layers, layouts)
    except FerryError as error:
        raise RecipeError("This recipe does not fit together.", details=(error.what,)) from None
    reader = FactReader(recipe.facts, recipe.pieces, layouts, layers, recipe.packs)
    editions: dict[str, Edition] = {}
    for name, info in recipe.editions.items():
        here = _Faults(f"editions.{name}")
        edition = _edition(name, info, recipe, layers, layouts, reader, find_box, here)
        if edition is not None and not here.lines:
            editions[name] = edition
        faults += here.lines
    if faults:
        raise RecipeError("This recipe does not fit together.", details=tuple(faults))
    return Game(
        recipe.game.id,
        recipe.game.title,
        recipe.game.studio,
        recipe.pieces,
        {key: info.label for key, info in recipe.facts.items()},
        frozenset(key for key, info in recipe.facts.items() if info.compared),
        editions,
        layers,
        recipe.handover,
    )


class _Faults:
    """Collects what is wrong below one key."""

    def __init__(self, key: str) -> None:
        self.key = key
        self.lines: list[str] = []

    def add(self, key: str, what: str) -> None:
        self.lines.append(f"{self.key}.{key}: {what}")

    def pattern(self, key: str, text: str, fields: Mapping[str, FieldSpec]) -> Pattern | None:
        try:
            return compile_pattern(text, fields)
        except FerryError as error:
            self.add(key, error.what)
            return None


def _edition(
    name: str,
    info: EditionInfo,
    recipe: GameRecipe,
    layers: Mapping[str, Chain],
    layouts: Mapping[str, Layout],
    reader: FactReader,
    find_box: FindBox,
    faults: _Faults,
) -> Edition | None:
    box: Box = FolderBox()
    box_title = None
    if info.box is not None:
        try:
            box_title, box = find_box(info.box)
        except FerryError as error:
            faults.add("box", error.what)
    berths = []
    for number, place in enumerate(info.berths, 1):
        pattern = None
        if place.path is not None:
            pattern = faults.pattern(f"berths[{number}].path", place.path, info.fields)
        elif place.under != "given":
            faults.add(f"berths[{number}]", 'only a place `under` = "given" can do without `path`')
        archives = [
            faults.pattern(f"berths[{number}].archives[{place_}]", text, info.fields)
            for place_, text in enumerate(place.archives, 1)
        ]
        berths.append(Berthing(place, pattern, tuple(one for one in archives if one is not None)))
    berth_fields = frozenset(f for b in berths if b.pattern for f in b.pattern.fields)
    files = _files(info, recipe, layers, layouts, faults)
    if files is None:
        return None
    keys = _key_fields(files, recipe, berth_fields, info.newest, faults)
    if info.newest is not None and not isinstance(info.fields.get(info.newest), NumberField):
        faults.add("newest", f"there is no field {info.newest!r} that is a number")
    _clashes(files, info.fields, faults)
    never = [
        faults.pattern(f"never[{number}]", text, info.fields)
        for number, text in enumerate(info.never, 1)
    ]
    clouds = []
    for number, cloud in enumerate(info.cloud, 1):
        sign = None
        if cloud.sign is not None:
            sign = faults.pattern(f"cloud[{number}].sign", cloud.sign, info.fields)
        clouds.append(Cloud(cloud, sign))
    marks = [
        Mark(mark, pattern)
        for number, mark in enumerate(info.marks, 1)
        if (pattern := faults.pattern(f"marks[{number}].path", mark.path, info.fields))
    ]
    rebuilt = [
        faults.pattern(f"rebuilt[{number}]", text, info.fields)
        for number, text in enumerate(info.rebuilt, 1)
    ]
    extra = [
        pattern
        for pattern in (
            *never,
            *rebuilt,
            *(c.sign for c in clouds),
            *(m.pattern for m in marks),
            *(one for berth in berths for one in berth.archives),
        )
        if pattern is not None
    ]
    packs = _packs(info, recipe, faults)
    if packs is not None:
        extra.append(packs.pattern)
    _demand_faults(info, recipe, faults)
    if info.not_newer is not None and info.not_newer not in recipe.facts:
        faults.add("not_newer", f"there is no fact {info.not_newer!r}; {_known(recipe.facts)}")
    used = berth_fields.union(
        *(pattern.fields for file in files for pattern in file.patterns),
        *(pattern.fields for pattern in extra),
    )
    for unused in sorted(info.fields.keys() - used):
        faults.add(f"fields.{unused}", "no path has this field, so it is never filled")
    return Edition(
        name, info.title, box, box_title, tuple(berths), info.fields, berth_fields, keys,
        tuple(files), recipe.pieces, reader, info.most_slots, info.start, info.after,
        info.runs_as, tuple(pattern for pattern in never if pattern is not None), tuple(clouds),
        info.apps, tuple(marks), tuple(pattern for pattern in rebuilt if pattern is not None),
        info.not_newer, packs, info.limits, info.arriving,
        info.newest,
    )  # fmt: skip


def _packs(info: EditionInfo, recipe: GameRecipe, faults: _Faults) -> Packs | None:
    if info.packs is None:
        return None
    pattern = faults.pattern("packs.path", info.packs.path, info.fields)
    if recipe.packs is None:
        faults.add("packs", "the recipe has no table `packs` that says where a save names them")
    if pattern is not None and info.packs.field not in pattern.fields:
        faults.add("packs.path", f"{pattern.text!r} lacks {{{info.packs.field}}}, their name")
    return Packs(info.packs, pattern) if pattern is not None else None


def _demand_faults(info: EditionInfo, recipe: GameRecipe, faults: _Faults) -> None:
    """Say where limits and notes name what the recipe does not have."""
    for number, limit in enumerate(info.limits, 1):
        if limit.piece is not None and limit.piece not in recipe.pieces:
            faults.add(f"limits[{number}].piece", f"there is no piece {limit.piece!r}; "
                       f"{_known(recipe.pieces)}")  # fmt: skip
        if limit.fact is not None and limit.fact not in recipe.facts:
            faults.add(f"limits[{number}].fact", f"there is no fact {limit.fact!r}; "
                       f"{_known(recipe.facts)}")  # fmt: skip
    for source in info.arriving:
        if source not in recipe.editions:
            faults.add(f"arriving.{source}", f"there is no such edition; {_known(recipe.editions)}")


def _files(
    info: EditionInfo, recipe: GameRecipe, layers: Mapping[str, Chain],
    layouts: Mapping[str, Layout], faults: _Faults,
) -> list[PieceFile] | None:  # fmt: skip
    files: list[PieceFile] = []
    for number, file in enumerate(info.files, 1):
        key = f"files[{number}]"
        if file.role not in recipe.pieces:
            faults.add(f"{key}.role", f"there is no piece {file.role!r}; {_known(recipe.pieces)}")
        chain = Chain(())
        for layer in file.layers:
            if layer not in layers:
                faults.add(f"{key}.layers", f"there is no layer {layer!r}; {_known(layers)}")
            else:
                chain = chain.then(layers[layer])
        patterns = [faults.pattern(f"{key}.path", text, info.fields) for text in file.paths]
        kinds = [told_layer(one) for layer in file.layers for one in recipe.layers.get(layer, ())]
        named = tuple(pattern for pattern in patterns if pattern)
        piece = recipe.pieces.get(file.role)
        needed = file.needed or (piece is not None and piece.needed)
        shared = piece is not None and piece.shared
        slip = None
        if file.describes is not None and file.layout is not None:
            if file.layout not in layouts:
                faults.add(f"{key}.layout", f"there is no layout {file.layout!r}; "
                           f"{_known(layouts)}")  # fmt: skip
            else:
                slip = Slip(file.describes, layouts[file.layout])
        files.append(
            PieceFile(
                file.role, named, chain, file.old, tuple(kinds), slip, needed, file.told, shared
            )
        )
    roles = [file.role for file in files]
    for role in {role for role in roles if roles.count(role) > 1}:
        faults.add("files", f"the role {role!r} stands twice; give one entry a list of paths")
    for slip in (file.slip for file in files if file.slip):
        if slip.of not in roles or any(one.role == slip.of and one.slip for one in files):
            faults.add("files", f"{slip.of!r}, which a file describes, has no file of its own here")
    slips = {file.role for one in recipe.editions.values() for file in one.files if file.describes}
    for role, piece in recipe.pieces.items():
        if piece.needed and role not in roles and role not in slips:
            faults.add("files", f"the piece {role!r} is needed, but has no file here")
    return None if faults.lines else files


def _clashes(files: list[PieceFile], fields: Mapping[str, FieldSpec], faults: _Faults) -> None:
    """Say where a name that one role's pattern writes would also be read as another role's."""
    values = {name: field.sample() for name, field in fields.items()}
    for number, file in enumerate(files, 1):
        for pattern in file.patterns:
            try:
                name = pattern.write(values)
            except FerryError as error:
                faults.add(f"files[{number}].path", error.what)
                continue
            for other in files:
                clashing = [p.text for p in other.patterns if p.match(name) is not None]
                apart = other.told is not None or file.told is not None
                if other is not file and clashing and not apart:
                    faults.add(
                        f"files[{number}].path",
                        f"{name!r} fits {pattern.text!r} and {clashing[0]!r} of the {other.role}",
                    )


def _key_fields(
    files: list[PieceFile], recipe: GameRecipe, berth_fields: frozenset[str], newest: str | None,
    faults: _Faults,
) -> tuple[str, ...]:  # fmt: skip
    """Return the fields that make out a save; every piece's name must hold all of them."""
    keys: dict[str, None] = {}
    own = {file.role: recipe.pieces[file.role] for file in files}
    for file in files:
        if not own[file.role].shared:
            each = own[file.role].each
            named = file.patterns[0].fields
            apart = {each, newest} | berth_fields
            keys.update(dict.fromkeys(f for f in named if f not in apart))
    for number, file in enumerate(files, 1):
        piece = own[file.role]
        for pattern in file.patterns:
            every = [*keys, *filter(None, [newest])]
            missing = [] if piece.shared else [f for f in every if f not in pattern.fields]
            if piece.each and piece.each not in pattern.fields:
                missing.append(piece.each)
            if missing:
                faults.add(
                    f"files[{number}].path",
                    f"{pattern.text!r} lacks {{{missing[0]}}}, so it does not tell "
                    "which save the file belongs to",
                )
            if any(keys and "slot" not in one.fields for one in pattern.shorter if "slot" in keys):
                faults.add(f"files[{number}].path", "{slot} can't be in an optional part")
    return tuple(keys)


def _layout_faults(layouts: Mapping[str, LayoutSpec]) -> list[str]:
    faults: list[str] = []
    for name, spec in layouts.items():
        earlier: list[str] = []
        every = {getattr(field, "name", "") for field in spec.fields}
        for number, field in enumerate(spec.fields, 1):
            for key, what in _field_faults(field, layouts, earlier, every):
                faults.append(f"layouts.{name}.fields[{number}].{key}: {what}")
            earlier.append(getattr(field, "name", ""))
    return faults


def _unwritable(layouts: Mapping[str, Layout]) -> list[str]:
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


def _field_faults(
    field: object, layouts: Mapping[str, LayoutSpec], earlier: list[str], every: set[str]
) -> Iterator[tuple[str, str]]:
    match field:
        case NestedSpec() if field.of not in layouts:
            yield "of", f"there is no layout {field.of!r}; {_known(layouts)}"
        case ListSpec() if field.of not in layouts and field.of not in NUMBER_TYPES:
            yield "of", f"there is no layout {field.of!r}; {_known(layouts)}"
        case ChoiceSpec():
            for of in (*field.of.values(), *filter(None, [field.otherwise])):
                if of not in layouts and of not in NUMBER_TYPES:
                    yield "of", f"there is no layout {of!r}; {_known(layouts)}"
    references = {
        "size": getattr(field, "size", None) if not isinstance(field, PartsSpec) else None,
        "count": getattr(field, "count", None),
        "by": getattr(field, "by", None),
        "table": getattr(field, "table", None),
    }
    for key, value in references.items():
        own_words = ("rest", *LENGTH_TYPES) if key == "count" else ("rest",)
        if isinstance(value, str) and value not in own_words and value not in earlier:
            yield key, f"no earlier field is named {value!r}; {_known(earlier)}"
    computed = getattr(field, "computed", None)
    if computed is not None:
        yield from _computed_faults(computed, field, every)


def _computed_faults(
    spec: ComputedSpec, field: object, every: set[str]
) -> Iterator[tuple[str, str]]:
    names = [spec.of.from_, spec.of.to] if isinstance(spec.of, SpanSpec) else [spec.of]
    for name in names:
        words = ("before", "after", "all", "inside", "onward", "payload")
        if name not in every and (isinstance(spec.of, SpanSpec) or name not in words):
            yield "computed.of", f"no field is named {name!r}; {_known(every)}, and {words}"
    wanted = DIGEST_BYTES.get(spec.what)
    if isinstance(field, BytesSpec) and field.size != wanted:
        yield "computed.what", f"{spec.what} needs a `bytes` of `size` {wanted}, or a number"
    elif not isinstance(field, BytesSpec) and wanted is not None:
        yield "computed.what", f"{spec.what} is {wanted} bytes, so it needs a `bytes` field"


def _fact_faults(recipe: GameRecipe) -> list[str]:
    faults = _handover_faults(recipe)
    if recipe.packs is not None:
        source = recipe.packs.source
        if source not in recipe.pieces or not recipe.pieces[source].holds:
            faults.append(f"packs.from: {source!r} is no piece that says what it `holds`")
    opening = [
        *((f"pieces.{role}", piece.opens) for role, piece in recipe.pieces.items()),
        *((f"facts.{name}", fact.opens or ()) for name, fact in recipe.facts.items()),
        *([("packs", recipe.packs.opens or ())] if recipe.packs is not None else ()),
    ]
    faults += [
        f"{place}.opens: there is no layer {layer!r}; {_known(recipe.layers)}"
        for place, layers in opening
        for layer in layers
        if layer not in recipe.layers
    ]
    for name, fact in recipe.facts.items():
        if fact.source is not None and fact.source not in recipe.pieces:
            faults.append(
                f"facts.{name}.from: there is no piece {fact.source!r}; {_known(recipe.pieces)}"
            )
        elif fact.source is not None and not fact.layout and not recipe.pieces[fact.source].holds:
            faults.append(
                f"facts.{name}.from: pieces.{fact.source} does not say what it `holds`, "
                "and the fact names no `layout`"
            )
        if fact.layout is not None and fact.layout not in recipe.layouts:
            faults.append(
                f"facts.{name}.layout: there is no layout {fact.layout!r}; {_known(recipe.layouts)}"
            )
    return faults


def _handover_faults(recipe: GameRecipe) -> list[str]:
    info = recipe.handover
    if info is None:
        return []
    named = {"host": info.host or info.guest, "guest": info.guest}
    named |= {f"lists[{n}].piece": one.piece for n, one in enumerate(info.lists, 1)}
    named |= {"says.piece": info.says.piece} if info.says else {}
    faults = [
        f"handover.{key}: there is no piece {role!r}; {_known(recipe.pieces)}"
        for key, role in named.items()
        if role not in recipe.pieces
    ]
    if info.guest in recipe.pieces and not recipe.pieces[info.guest].each:
        faults.append(f"handover.guest: there is only one {info.guest}; it needs `each`")
    layers = [layer for steps in recipe.layers.values() for layer in steps]
    kept = [one.bound for one in layers if isinstance(one, IdentitySpec) and one.kept]
    if info.named and info.named not in kept:
        faults.append(f"handover.named: no identity layer with `kept` is bound to {info.named!r}")
    return faults


def _known(names: Iterable[str]) -> str:
    shown = ", ".join(sorted(name for name in names if name))
    return f"there are {shown}" if shown else "there are none"
