"""From a recipe's models to an edition that reads and writes; checks what models alone can't."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from functools import partial

from clever_ferry.boxes import Box, FolderBox, make_box
from clever_ferry.boxes.making import box_faults
from clever_ferry.documents.document import form_of
from clever_ferry.documents.form import Form
from clever_ferry.documents.spec import FormSpec
from clever_ferry.errors import FerryError, RecipeError
from clever_ferry.layers import Chain, compile_layers
from clever_ferry.layers.chain import Blanking
from clever_ferry.layers.compiling import layer_faults
from clever_ferry.layers.document_spec import LOOKING, StageSpec
from clever_ferry.layouts import Layout, compile_layouts
from clever_ferry.layouts.judging import layout_faults
from clever_ferry.layouts.whole import LayoutForm
from clever_ferry.naming import FieldSpec, NumberField
from clever_ferry.payload import BytesPayload, Payload, read_all
from clever_ferry.recipes.agreement_faults import agreement_faults
from clever_ferry.recipes.configs import compile_configs
from clever_ferry.recipes.edition import Edition, Game
from clever_ferry.recipes.effects import (
    box_layout_effects,
    edition_effects,
    game_effects,
    held,
)
from clever_ferry.recipes.facts import FactReader
from clever_ferry.recipes.faults import Faults, fact_faults, form_faults, unwritable
from clever_ferry.recipes.loader_models import LoaderInfo, loader_faults
from clever_ferry.recipes.models import BoxRecipe, EditionInfo, GameRecipe
from clever_ferry.recipes.parts import Berthing, Cloud, Mark, Packs, PieceFile, Running
from clever_ferry.recipes.sidecars import Sidecar
from clever_ferry.wording import known

__all__ = ["FindBox", "compile_box", "compile_game"]

_LONGEST = 1 << 20
_PLACEHOLDER = re.compile(r"\{([a-z_]+)\}")
FindBox = Callable[[str], tuple[str, Box]]
"""Gives the title and the box of a kind's id; raises FerryError where there is none."""


def compile_box(recipe: BoxRecipe) -> Box:
    """Compile a box recipe; raises RecipeError with what does not fit together."""
    faults = layout_faults(recipe.layouts) + box_faults(recipe.format, recipe.layouts)
    faults += layer_faults(recipe.layers, recipe.layouts)
    if faults:
        raise RecipeError("This box recipe does not fit together.", details=tuple(faults))
    layouts = compile_layouts(recipe.layouts)
    faults = unwritable(layouts) + box_layout_effects(recipe)
    if faults:
        raise RecipeError("This box recipe does not fit together.", details=tuple(faults))
    try:
        find = partial(_form, own=recipe.forms, layouts=layouts)
        layers = compile_layers(recipe.layers, layouts, find)
        return make_box(recipe.format, layouts, layers, find)
    except FerryError as error:
        raise RecipeError(
            "This box recipe does not fit together.", details=(f"format: {error.what}",)
        ) from None


def _form(name: str, own: Mapping[str, FormSpec], layouts: Mapping[str, Layout]) -> Form:
    """Return a document's form by its name, which may be that of a layout; raises KeyError."""
    if name in layouts and name not in own:
        return LayoutForm(layouts[name])
    if name == "sqlite":
        from clever_ferry.forms.rows import Rows  # SQLite takes its time

        return Rows()
    return form_of(name, own)


def compile_game(recipe: GameRecipe, find_box: FindBox) -> Game:
    """Compile a game recipe; raises RecipeError with all that does not fit together."""
    faults = layout_faults(recipe.layouts)
    faults += (
        form_faults(recipe) + fact_faults(recipe) + layer_faults(recipe.layers, recipe.layouts)
    )
    if faults:
        raise RecipeError("This recipe does not fit together.", details=tuple(faults))
    layouts = compile_layouts(recipe.layouts)
    faults += unwritable(layouts)
    if faults:
        raise RecipeError("This recipe does not fit together.", details=tuple(faults))
    try:
        find = partial(_form, own=recipe.forms, layouts=layouts)
        named = held(recipe) & {*layouts, "sqlite"}
        forms = {name: find(name) for name in (*recipe.forms, *named)}
        layers = compile_layers(recipe.layers, layouts, find)
    except FerryError as error:
        raise RecipeError("This recipe does not fit together.", details=(error.what,)) from None

    def reader(info: EditionInfo) -> FactReader:
        facts = {
            key: fact.standing(info.facts[key]) if key in info.facts else fact
            for key, fact in recipe.facts.items()
        }
        return made(facts)

    made = partial(
        FactReader, pieces=recipe.pieces, layouts=layouts, layers=layers, packs=recipe.packs,
        forms=forms, tables=recipe.tables,
    )  # fmt: skip
    usual = made(recipe.facts)
    editions: dict[str, Edition] = {}
    for name, info in recipe.editions.items():
        here = Faults(f"editions.{name}")
        own = reader(info) if info.facts else usual
        edition = _edition(name, info, recipe, layers, layouts, own, find_box, here)
        if edition is not None and not here.lines:
            editions[name] = edition
        faults += here.lines
    faults = faults or game_effects(recipe) or agreement_faults(recipe)
    if faults:
        raise RecipeError("This recipe does not fit together.", details=tuple(faults))
    return Game(
        id=recipe.game.id,
        title=recipe.game.title,
        studio=recipe.game.studio,
        pieces=recipe.pieces,
        fact_labels={key: info.label for key, info in recipe.facts.items()},
        compared={key: info.comparison for key, info in recipe.facts.items()},
        editions=editions,
        layers=layers,
        handover=recipe.handover,
        stories={
            key: info.story or "grows"
            for key, info in recipe.facts.items()
            if info.story is not None or info.unit == "s"
        },
        unshown=frozenset(key for key, info in recipe.facts.items() if not info.shown),
        forms=forms,
        tables=recipe.tables,
        parts=recipe.parts,
        map=recipe.game.map,
    )


def _edition(
    name: str,
    info: EditionInfo,
    recipe: GameRecipe,
    layers: Mapping[str, Chain],
    layouts: Mapping[str, Layout],
    reader: FactReader,
    find_box: FindBox,
    faults: Faults,
) -> Edition | None:
    box: Box = FolderBox()
    box_title = None
    if info.box is not None and info.format is not None:
        faults.add("format", "the edition names a `box` already")
    elif info.box is not None:
        try:
            box_title, box = find_box(info.box)
        except FerryError as error:
            faults.add("box", error.what)
    elif info.format is not None:
        wrong = box_faults(info.format, recipe.layouts)
        for line in wrong:
            key, _, what = line.partition(": ")
            faults.add(key, what)
        if not wrong:
            try:
                box_title, box = (
                    info.format.words,
                    make_box(
                        info.format,
                        layouts,
                        layers,
                        partial(_form, own=recipe.forms, layouts=layouts),
                    ),
                )
            except FerryError as error:
                faults.add("format", error.what)
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
    running = _running(info, faults)
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
            *((running.sign,) if running is not None else ()),
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
        faults.add("not_newer", f"there is no fact {info.not_newer!r}; {known(recipe.facts)}")
    if info.installed is not None:
        faults.pattern("installed.file", info.installed.file, {})
        if info.not_newer is None:
            faults.add("installed", "it is compared by `not_newer`, which is missing")
    _step_faults(info, berth_fields, keys, faults)
    loader = _loader(info, recipe, faults)
    if loader is not None:
        for key, what in loader_faults(loader, berth_fields.union(keys), recipe.facts):
            faults.add(key, what)
    configs = compile_configs(info, recipe, berth_fields.union(keys), files, never, faults)
    for key, what in edition_effects(info, recipe, berth_fields, keys):
        faults.add(key, what)
    used = berth_fields.union(
        *(pattern.fields for file in files for pattern in file.patterns),
        *(pattern.fields for pattern in extra),
    )
    for unused in sorted(info.fields.keys() - used):
        faults.add(f"fields.{unused}", "no path has this field, so it is never filled")
    return Edition(
        id=name,
        title=info.title,
        box=box,
        box_title=box_title,
        berths=tuple(berths),
        fields=info.fields,
        berth_fields=berth_fields,
        key_fields=keys,
        files=tuple(files),
        pieces=recipe.pieces,
        reader=reader,
        most_slots=info.most_slots,
        start=info.start,
        after=info.after,
        runs_as=info.runs_as,
        running=running,
        never=tuple(pattern for pattern in never if pattern is not None),
        clouds=tuple(clouds),
        apps=info.apps,
        marks=tuple(marks),
        rebuilt=tuple(pattern for pattern in rebuilt if pattern is not None),
        not_newer=info.not_newer,
        installed=info.installed,
        packs=packs,
        limits=info.limits,
        arriving=info.arriving,
        before=info.before,
        newest=info.newest,
        loader=loader,
        configs=configs,
    )


def _running(info: EditionInfo, faults: Faults) -> Running | None:
    shown = info.running
    if shown is None:
        return None
    if shown.file is None and shown.port is None and not (info.runs_as and shown.stop):
        told = "it says neither a `file` nor a `port`" if info.runs_as else (
            "nothing says how one sees that it runs: `file`, `port`, or `runs_as` beside it"
        )  # fmt: skip
        faults.add("running", told)
    sign = faults.pattern("running.file", shown.file, info.fields) if shown.file else None
    return Running(shown, sign)


def _loader(info: EditionInfo, recipe: GameRecipe, faults: Faults) -> LoaderInfo | None:
    """Return an edition's loader: its own, or that of the edition that it names."""
    if not isinstance(info.loader, str):
        return info.loader
    there = {
        name: one.loader
        for name, one in recipe.editions.items()
        if isinstance(one.loader, LoaderInfo)
    }
    if info.loader not in there:
        told = f"no edition {info.loader!r} has a loader of its own; {known(there)}"
        faults.add("loader", told)
    return there.get(info.loader)


def _step_faults(
    info: EditionInfo, berth_fields: frozenset[str], keys: tuple[str, ...], faults: Faults
) -> None:
    """Say where steps for the player have a placeholder that nothing will fill."""
    ahead = berth_fields | {"berth"}
    later = ahead | {*keys, "title"}
    steps = [("before", info.before, ahead), ("after", info.after, later)]
    steps += [(f"arriving.{one}.after", own.after, later) for one, own in info.arriving.items()]
    for key, lines, filled in steps:
        for number, line in enumerate(lines, 1):
            for name in _PLACEHOLDER.findall(line):
                if name not in filled:
                    faults.add(f"{key}[{number}]", f"nothing fills {{{name}}}; {known(filled)}")


def _packs(info: EditionInfo, recipe: GameRecipe, faults: Faults) -> Packs | None:
    if info.packs is None:
        return None
    pattern = faults.pattern("packs.path", info.packs.path, info.fields)
    if recipe.packs is None:
        faults.add("packs", "the recipe has no table `packs` that says where a save names them")
    if pattern is not None and info.packs.field not in pattern.fields:
        faults.add("packs.path", f"{pattern.text!r} lacks {{{info.packs.field}}}, their name")
    return Packs(info.packs, pattern) if pattern is not None else None


def _demand_faults(info: EditionInfo, recipe: GameRecipe, faults: Faults) -> None:
    """Say where limits and notes name what the recipe does not have."""
    for number, limit in enumerate(info.limits, 1):
        if limit.piece is not None and limit.piece not in recipe.pieces:
            faults.add(f"limits[{number}].piece", f"there is no piece {limit.piece!r}; "
                       f"{known(recipe.pieces)}")  # fmt: skip
        if limit.fact is not None and limit.fact not in recipe.facts:
            faults.add(f"limits[{number}].fact", f"there is no fact {limit.fact!r}; "
                       f"{known(recipe.facts)}")  # fmt: skip
    for source in info.arriving:
        if source not in recipe.editions:
            faults.add(f"arriving.{source}", f"there is no such edition; {known(recipe.editions)}")


def _files(
    info: EditionInfo, recipe: GameRecipe, layers: Mapping[str, Chain],
    layouts: Mapping[str, Layout], faults: Faults,
) -> list[PieceFile] | None:  # fmt: skip
    files: list[PieceFile] = []
    for number, file in enumerate(info.files, 1):
        key = f"files[{number}]"
        if file.role not in recipe.pieces:
            faults.add(f"{key}.role", f"there is no piece {file.role!r}; {known(recipe.pieces)}")
        chain = Chain(())
        for layer in file.layers:
            if layer not in layers:
                faults.add(f"{key}.layers", f"there is no layer {layer!r}; {known(layers)}")
            else:
                chain = chain.then(layers[layer])
        patterns = [faults.pattern(f"{key}.path", text, info.fields) for text in file.paths]
        steps = [one for layer in file.layers for one in recipe.layers.get(layer, ())]
        kinds = [one.words for one in steps if not isinstance(one, StageSpec)]
        named = tuple(pattern for pattern in patterns if pattern)
        piece = recipe.pieces.get(file.role)
        needed = file.needed or (piece is not None and piece.needed)
        shared = piece is not None and piece.shared
        sidecar = None
        if file.describes is not None:
            if file.layout is None:
                if not any(isinstance(one, LOOKING) for one in steps):
                    faults.add(
                        f"{key}.describes",
                        "that needs a `layout`, or a layer that `agrees` or `lists`",
                    )
                sidecar = Sidecar(file.describes, None, file.template)
                if file.template is not None and (wrong := _unfillable(file.template, chain)):
                    faults.add(f"{key}.template", wrong)
            elif file.layout not in layouts:
                faults.add(f"{key}.layout", f"there is no layout {file.layout!r}; "
                           f"{known(layouts)}")  # fmt: skip
            else:
                sidecar = Sidecar(file.describes, layouts[file.layout])
        files.append(
            PieceFile(
                file.role,
                named,
                chain,
                file.old,
                tuple(kinds),
                sidecar,
                needed,
                file.told,
                shared,
                file.tree,
                file.without,
            )
        )
    roles = [file.role for file in files]
    for role in {role for role in roles if roles.count(role) > 1}:
        faults.add("files", f"the role {role!r} stands twice; give one entry a list of paths")
    for sidecar in (file.sidecar for file in files if file.sidecar):
        if sidecar.of not in roles or any(one.role == sidecar.of and one.sidecar for one in files):
            faults.add(
                "files", f"{sidecar.of!r}, which a file describes, has no file of its own here"
            )
    sidecars = {
        file.role for one in recipe.editions.values() for file in one.files if file.describes
    }
    for role, piece in recipe.pieces.items():
        if piece.needed and role not in roles and role not in sidecars:
            faults.add("files", f"the piece {role!r} is needed, but has no file here")
    return None if faults.lines else files


def _unfillable(template: str, chain: Chain) -> str:
    """Return why a template is no document with all places that are to be filled in."""
    try:
        payload: Payload = BytesPayload(template.encode())
        for layer in chain.layers:
            if isinstance(layer, Blanking):
                payload = layer.blanked(payload)
        read_all(payload, limit=_LONGEST, what="It")
    except FerryError as error:
        return error.what
    return ""


def _clashes(files: list[PieceFile], fields: Mapping[str, FieldSpec], faults: Faults) -> None:
    """Say where a name that one role's pattern writes would also be read as another role's."""
    values = {name: field.sample() for name, field in fields.items()}
    for number, file in enumerate(files, 1):
        for pattern in () if file.tree else file.patterns:
            try:
                name = pattern.write(values)
            except FerryError as error:
                faults.add(f"files[{number}].path", error.what)
                continue
            for other in [one for one in files if not one.tree]:
                clashing = [p.text for p in other.patterns if p.match(name) is not None]
                apart = other.looks is not None or file.looks is not None
                if other is not file and clashing and not apart:
                    faults.add(
                        f"files[{number}].path",
                        f"{name!r} fits {pattern.text!r} and {clashing[0]!r} of the {other.role}",
                    )


def _key_fields(
    files: list[PieceFile], recipe: GameRecipe, berth_fields: frozenset[str], newest: str | None,
    faults: Faults,
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
