"""No key of a recipe is without effect: dropped or changed, it is missed, or it is refused."""

from __future__ import annotations

import copy
import random
import re
import tomllib
from collections.abc import Callable, Iterable, Iterator
from importlib.resources import files
from itertools import zip_longest
from pathlib import Path
from typing import Any

import msgspec
import pytest
from msgspec import ValidationError

from clever_ferry.cargo import digest_of
from clever_ferry.crossing.planning import make_plan
from clever_ferry.crossing.rules import RULES
from clever_ferry.errors import FerryError, RecipeError
from clever_ferry.finding import Berth, described_computer, find_berths, open_berth
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.harbours import harbour_at
from clever_ferry.finding.searching import at_place
from clever_ferry.layers import LayerSpec
from clever_ferry.layers.compiling import layer_faults
from clever_ferry.layouts import LayoutSpec
from clever_ferry.layouts.judging import layout_faults
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload, Payload, read_all
from clever_ferry.recipes import Game, Recipes
from clever_ferry.recipes.compiling import compile_box, compile_game
from clever_ferry.recipes.establishing import Examiner
from clever_ferry.recipes.models import BoxRecipe, GameRecipe
from clever_ferry.recipes.tables import read_tables
from clever_ferry.tree import FileInfo, Files
from clever_ferry_demo.invented import FORMATS
from clever_ferry_demo.kingfisher_crown.lands import ADDON
from clever_ferry_demo.kingfisher_crown.program import demo_reigns, lay_kingfisher_crown
from clever_ferry_demo.kingfisher_crown.reign import beyond_the_map, play_on
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from clever_ferry_demo.orrery_yard.yard import begin
from clever_ferry_demo.world import lay_finch, lay_loft, lay_world
from tests.conftest import LONG, Den, laid
from tests.test_invented import plain, saves
from tests.test_layers import LAYOUTS, STEPS

SHIPPED = files("clever_ferry.recipes") / "data"
INVENTED = files("clever_ferry_demo") / "invented"
DEMO = ["saltglass", "moth-lantern", "orrery-yard", "kingfisher-crown"]


class Place:
    """Where a recipe's saves are: demo computers, or what an invented format's writer made."""

    def __init__(self, top: Path, invented: str = "") -> None:
        self.invented = invented
        self.loft = laid(lay_loft, top)
        self.den = laid(lay_world, top)
        if invented:
            self.folder = top / "made-up"
            (self.folder / "made").mkdir(parents=True)
            plain(self.folder, saves(4, (5,)))
            FORMATS[invented].write(self.folder / "made", saves(3, (1, 2)))
            return
        lay_finch(self.den)
        lay_moth_lantern(self.den)
        lay_kingfisher_crown(self.den, (beyond_the_map(demo_reigns()[1], ADDON),))
        lay_kingfisher_crown(self.loft, (play_on(demo_reigns()[1], 2),))
        lay_orrery_yard(self.loft, "isa", (begin("Isa's try", "Isa"),))
        yard = lay_orrery_yard(self.den, "wren", demo_yards())
        lines = "[folders]\r\npictures = C:\\Users\\Wren\\Documents\\p\r\nmusic = E:\\m\r\n"
        (yard / "settings.ini").write_bytes(lines.encode())

    def berths(self, game: Game) -> list[Berth]:
        if self.invented:
            here = described_computer(self.den)
            searches = [at_place(here, game, one, self.folder) for one in game.editions.values()]
            return [berth for search in searches for berth in search.berths]
        export = harbour_at(self.loft / "home/isa/Downloads/longshore-export", "export")
        computers = [described_computer(one) for one in (self.den, self.loft)]
        return [
            berth
            for edition in game.editions.values()
            for computer in (*computers, *export.computers)
            for berth in find_berths(computer, game, edition).berths
        ]


def behaviour(game: Game, place: Place) -> Iterator[Any]:
    """Yield all that a game's recipe makes of its saves: read, checked, and laid elsewhere.

    Rules that only speak in special cases (limits, clouds, marks …) stand here as they are
    compiled; other tests hold what they do.
    """
    yield [game.title, game.studio, game.handover, game.stories, game.unshown]
    yield [game.fact_labels, game.compared, list(game.pieces.items())]
    counts = [(table.numbered, table.counted) for table in game.tables.values()]
    yield [game.parts, game.map, counts]
    for edition in game.editions.values():
        yield [
            edition.title, edition.box_title, edition.start, edition.after, edition.before,
            edition.runs_as, edition.apps, edition.most_slots, edition.not_newer, edition.limits,
            edition.arriving, edition.newest, edition.fields,
            [(berth.info, [one.text for one in berth.archives]) for berth in edition.berths],
            [mark.info for mark in edition.marks], [one.info for one in edition.clouds],
            [one.text for one in (*edition.never, *edition.rebuilt)],
            [(f.old, f.looks, f.needed, f.shared, f.wrapping, [p.text for p in f.patterns])
             for f in edition.files],
            edition.packs.info if edition.packs else None, edition.loader,
            [one.info for one in edition.configs], edition.installed, edition.running,
        ]  # fmt: skip
    opened = [open_berth(berth) for berth in place.berths(game)]
    for one in opened:
        berth = one.berth
        examiner = Examiner(berth.edition, one.contents, one.known, berth.files)
        yield [berth.fields, one.listing.unread, one.listing.problems, one.contents.bound]
        yield [
            [s.slot, s.fields, [(f, f.text) for f in s.facts], s.problems, s.notes, s.packs]
            for s in one.listing.saves
        ]
        for save in one.listing.saves:
            told = examiner.examine(save)
            yield [(p.level, p.by, p.faults) for p in told.pieces]
            yield [(p.entry, p.bound, sorted(p.headers)) for p in save.pieces]
            tables = read_tables(game.tables, berth.edition.reader, save, one.known)
            yield [msgspec.to_builtins(table) for table in tables]
        yield from _damaged(one)
    for one in opened:
        for other in opened:
            yield _laid(one, other)


def _damaged(one: OpenBerth) -> Iterator[str]:
    """Yield what is said of a save's wrapped pieces, and of an index, a byte of which is wrong."""
    edition = one.berth.edition
    for piece in one.listing.saves[0].pieces if one.listing.saves else ():
        file = edition.file_of(piece.role)
        if file is None or file.bare or piece.wrapped is None:
            continue
        raw = read_all(piece.wrapped, limit=1 << 30, what="it")
        for at in _places(raw):
            try:
                unwrapped = file.chain.unwrap(BytesPayload(_flipped(raw, at)), one.known)
                yield digest_of(unwrapped.payload) + str(sorted(unwrapped.bound.items()))
            except FerryError as error:
                yield error.what
    for path in one.contents.own:
        raw = read_all(one.berth.files.payload(path), limit=1 << 30, what="it")
        for at in _places(raw):
            files = Wrong(one.berth.files, path, _flipped(raw, at))
            try:
                read = edition.box.read(files, lambda _: True)
                yield str([(e.name, e.size, e.stamp, e.problem) for e in read.entries])
            except FerryError as error:
                yield error.what


def _places(raw: bytes) -> list[int]:
    return sorted({*range(min(80, len(raw))), *range(0, len(raw), max(1, len(raw) // 40))})


def _flipped(raw: bytes, at: int) -> bytes:
    return raw[:at] + bytes([raw[at] ^ 0x41]) + raw[at + 1 :]


class Wrong:
    """A berth's files, of which one has other bytes."""

    def __init__(self, files: Files, path: str, data: bytes) -> None:
        self.files, self.path, self.data, self.fold = files, path, data, files.fold

    def walk(self, enter: Callable[[str], bool]) -> Iterable[FileInfo]:
        return self.files.walk(enter)

    def info(self, path: str) -> FileInfo | None:
        return self.files.info(path)

    def payload(self, path: str) -> Payload:
        return BytesPayload(self.data) if path == self.path else self.files.payload(path)

    def listed(self, info: FileInfo) -> Payload:
        return self.payload(info.path)


def _laid(one: Any, other: Any) -> Any:
    try:
        plan = make_plan(
            one, other, chosen=None, slots="free", given={},
            sharing={piece.role for piece in one.listing.shared},
            waived=[rule.waiver for rule in RULES if rule.waiver],
        )  # fmt: skip
        puts = [(item.put.name, digest_of(item.put.payload)) for item in plan.encoded]
        boxed = []
        if other.berth.edition.box_title is not None:
            from clever_ferry.boxes import Making

            making = Making(10**18, lambda count: bytes(range(count)))
            out = other.berth.edition.box.write(
                other.contents, [item.put for item in plan.encoded], [], making
            )
            boxed = [(o.path, digest_of(o.payload) if o.payload else None) for o in out]
        said = [item.piece.headers.get("paths") for item in plan.encoded]
        return [
            puts,
            said,
            boxed,
            [[c.how for c in move.changes] for move in plan.moves],
            plan.notes,
        ]
    except FerryError as error:
        return error.what


def mutations(data: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[str, Any]]:
    """Yield the data with one key dropped, or changed to another value of its kind."""
    items = data.items() if isinstance(data, dict) else enumerate(data)
    for key, value in items:
        here = (*path, key)
        name = ".".join(map(str, here))
        if isinstance(data, dict) and path:
            yield f"{name} dropped", lambda whole, here=here: _without(whole, here)
        if isinstance(value, dict | list):
            yield from mutations(value, here)
        else:
            yield f"{name} changed", lambda whole, here=here: _changed(whole, here)


def _at(whole: Any, path: tuple[Any, ...]) -> Any:
    for step in path:
        whole = whole[step]
    return whole


def _without(whole: Any, path: tuple[Any, ...]) -> Any:
    whole = copy.deepcopy(whole)
    del _at(whole, path[:-1])[path[-1]]
    return whole


def _changed(whole: Any, path: tuple[Any, ...]) -> Any:
    whole = copy.deepcopy(whole)
    above = _at(whole, path[:-1])
    old = above[path[-1]]
    above[path[-1]] = (
        not old if isinstance(old, bool) else old + 1 if isinstance(old, int) else f"{old}x"
    )
    return whole


def judged(data: Any, place: Place) -> Iterator[Any]:
    """Yield what a recipe does, or why it is refused."""
    recipes = Recipes(Path("nowhere"))
    boxes = {name: INVENTED / f"{name}.toml" for name in ("yard-pack", "dynamo-file",
                                                          "longshore-shelves")}  # fmt: skip

    def find(name: str) -> Any:
        if name in boxes:
            recipe = convert(tomllib.loads(boxes[name].read_text("utf-8")), BoxRecipe)
            return recipe.box.title, compile_box(recipe)
        return recipes.box(name)

    try:
        if "box" in data and "format" in data:
            made = convert(data, BoxRecipe)
            box = compile_box(made)
            owner = place.invented or "saltglass"
            source = INVENTED if place.invented else SHIPPED
            text = (source / f"{owner}.toml").read_text("utf-8")
            game = compile_game(
                convert(tomllib.loads(text), GameRecipe), lambda name: (made.box.title, box)
            )
        else:
            game = compile_game(convert(data, GameRecipe), find)
    except (RecipeError, ValidationError, FerryError) as error:
        yield f"refused: {error}"
        return
    try:
        yield from behaviour(game, place)
    except FerryError as error:
        yield f"stops: {error.what}"


EXCUSED = (
    "recipe",
    "game.id",
    "box.id",
    "replaces_shipped",  # which file it is
    ".level",  # other bytes only where packing pays
    ".most changed",
    ".most dropped",  # bounds, beyond what the examples have
    ".width changed",
    "identifier_size",
    "format.fields.id.length",
    "layouts.head.fields.1.equals",  # guards a fact against another release
)
NAMED = re.compile(r"layouts\.[a-z-]+\.fields\.\d+\.name changed")
"""A field that nothing refers to may be called as one likes."""  # fmt: skip


CASES = [(name, False) for name in (*DEMO, "tern-crate")] + [(name, True) for name in FORMATS]


@pytest.mark.long
@pytest.mark.parametrize(("name", "invented"), CASES)
def test_every_key_is_missed_or_refused(name: str, invented: bool, tmp_path: Path) -> None:
    source = INVENTED if invented else SHIPPED
    data = tomllib.loads((source / f"{name}.toml").read_text("utf-8"))
    place = Place(tmp_path / "places", name if invented else "")
    usual = list(judged(data, place))
    assert not isinstance(usual[-1], str) or not usual[-1].startswith(("refused: ", "stops: "))
    every = list(mutations(data))
    if not LONG:
        every = random.Random(tmp_path.name + name).sample(every, min(2, len(every)))
    idle = []
    for told, mutate in every:
        other = mutate(data)
        model = GameRecipe if "game" in data else BoxRecipe
        try:
            same = convert(other, model) == convert(data, model)
        except ValidationError:
            continue  # refused by its model
        if same or NAMED.fullmatch(told) or any(one in told for one in EXCUSED):
            continue
        if all(one == was for one, was in zip_longest(judged(other, place), usual)):
            idle.append(told)
    assert not idle, "\n".join(idle)


LIST = {"type": "list", "name": "rows", "of": "row", "count": "u8"}
ROW = [{"type": "u32", "name": "at"}, {"type": "u32", "name": "size"}]
IDLE_FIELDS: list[tuple[dict[str, Any], str]] = [
    ({"type": "u8", "name": "a", "order": "big"}, "order"),
    ({"type": "u32", "name": "a", "equals": 1, "usual": 2}, "usual"),
    ({"type": "u32", "name": "a", "equals": 1, "bound": "x"}, "bound"),
    ({"type": "bits", "name": "a", "within": "u8", "parts": {"x": 8}, "order": "big"}, "order"),
    ({"type": "text", "name": "a", "length": "u8", "counts": "characters"}, "counts"),
    ({"type": "text", "name": "a", "ends": "zero", "zero": "extra"}, "zero"),
    ({"type": "text", "name": "a", "length": "u8", "pad": 0}, "pad"),
    ({"type": "text", "name": "a", "length": {"type": "u8", "style": "ones"}}, "length.style"),
    ({"type": "text", "name": "a", "length": {"type": "varint", "order": "big"}}, "length.order"),
    ({"type": "list", "name": "a", "of": "u8", "until": {"x": 1}}, "until"),
    ({"type": "list", "name": "a", "of": "row", "until": {"nowhere": 1}}, "until"),
    ({"type": "list", "name": "a", "of": "row", "until": {"at": "text"}}, "until"),
    ({"type": "choice", "name": "a", "by": "kind", "of": {"one": "row"}}, "of"),
    ({"type": "parts", "name": "a", "table": "rows", "offset": "at", "size": "nil"}, "size"),
    ({"type": "parts", "name": "a", "table": "rows", "offset": "at", "size": "size", "fill": 1},
     "fill"),
    ({"type": "u32", "name": "a", "computed": {"what": "crc32", "of": "before", "plus": 1}},
     "computed.plus"),
    ({"type": "u32", "name": "a", "computed": {"what": "size", "of": "rows", "seed": 1}},
     "computed.seed"),
    ({"type": "u32", "name": "a", "computed": {"what": "size", "of": "rows", "xor": 1}},
     "computed.xor"),
    ({"type": "u32", "name": "a", "computed": {"what": "count", "of": "before"}}, "computed.of"),
    ({"type": "u32", "name": "a", "computed": {"what": "count", "of": "kind"}}, "computed.of"),
]  # fmt: skip


@pytest.mark.parametrize(("field", "key"), IDLE_FIELDS)
def test_a_field_of_a_layout_with_an_idle_key_is_refused(field: dict[str, Any], key: str) -> None:
    fields = [{"type": "u8", "name": "kind"}, LIST, field]
    specs = {"it": convert({"fields": fields}, LayoutSpec), "row": convert({"fields": ROW},
             LayoutSpec)}  # fmt: skip
    told = [one for one in layout_faults(specs) if f"fields[3].{key}:" in one]
    assert told, layout_faults(specs)
    by = [{"type": "text", "name": "tag", "length": "u8"},
          {"type": "choice", "name": "a", "by": "tag", "of": {"one": "row"}},
          {"type": "choice", "name": "b", "by": "/tag", "of": {"one": "row"}}]  # fmt: skip
    right = {"it": convert({"fields": [*fields[:2], *by]}, LayoutSpec), "row": specs["row"]}
    assert layout_faults(right) == []


@pytest.mark.parametrize(
    ("field", "idle"),
    [({"type": "text", "name": "a", "length": kind}, kind == "u8") for kind in ("u8", "u16")]
    + [({**LIST, "count": kind}, kind == "u8") for kind in ("u8", "u32")],
)
def test_an_order_of_bytes_needs_more_than_one(field: dict[str, Any], idle: bool) -> None:
    specs = {"it": {"fields": [field], "order": "big"}, "row": {"fields": ROW}}
    told = layout_faults({name: convert(one, LayoutSpec) for name, one in specs.items()})
    assert ["layouts.it.order: nothing in it has more than one byte to order"] * idle == told


IDLE_LAYERS: list[tuple[dict[str, Any], str]] = [
    ({"kind": "lzo", "level": 3}, "level"),
    ({"kind": "gzip", "level": 12}, "level"),
    ({"kind": "lzo", "most": 1 << 30}, "most"),
    ({"kind": "by-tag", "layout": "it", "tag": "/nil", "of": {"A": []}}, "tag"),
    ({"kind": "by-tag", "layout": "it", "tag": "/kind", "of": {"A": []}, "usual": "B"}, "usual"),
    ({"kind": "aes", "mode": "ecb", "key": {"front": 16}, "vector": {"given": "v"}}, "vector"),
    ({"kind": "aes", "mode": "gcm", "key": {"front": 16}, "padding": "zero"}, "padding"),
    ({"kind": "aes", "mode": "cbc", "key": {"front": 16}, "tag": "front"}, "tag"),
    ({"kind": "aes", "mode": "cbc", "key": {"hex": "00"}}, "key.hex"),
    ({"kind": "aes", "mode": "cbc", "key": {"front": 16}, "vector": {"hex": "00"}}, "vector.hex"),
    ({"kind": "base64", "ending": "crlf"}, "ending"),
    ({"kind": "text", "encoding": "latin-1", "mark": True}, "mark"),
    ({"kind": "chunks", "most": 9, "at": "/rows"}, "at"),
    ({"kind": "chunks", "most": 9, "table": "it", "at": "/kind"}, "at"),
    ({"kind": "chunks", "most": 9, "table": "it", "at": "/rows", "size": "nil"}, "size"),
    ({"kind": "header", "layout": "nil"}, "layout"),
]  # fmt: skip


@pytest.mark.parametrize(("layer", "key"), IDLE_LAYERS)
def test_a_layer_with_an_idle_key_is_refused(layer: dict[str, Any], key: str) -> None:
    fields = [{"type": "u8", "name": "kind"}, LIST]
    layouts = {"it": convert({"fields": fields}, LayoutSpec), "row": convert({"fields": ROW},
               LayoutSpec)}  # fmt: skip
    told = layer_faults({"one": convert([layer], list[LayerSpec])}, layouts)
    assert f"layers.one[1].{key}" in [one.partition(":")[0] for one in told]


def test_what_only_just_stands_in_a_layer_is_taken() -> None:
    """The bounds of what is refused above, from within."""
    levels = [(kind, 9) for kind in ("deflate", "zlib", "gzip", "xz", "lzma", "bzip2")]
    keys = [{"hex": "0f" * size} for size in (16, 24, 32)]
    aes = {"kind": "aes", "mode": "cbc"}
    steps = [
        *({"kind": kind, "level": level} for kind, level in [*levels, ("zstd", 19), ("lz4", 16)]),
        {"kind": "lzo", "most": 256 << 20},
        {"kind": "zstd", "most": 1 << 30},
        *({**aes, "key": key, "vector": {"hex": "0f" * 16}} for key in keys),
        {**aes, "mode": "gcm", "key": keys[0], "vector": {"hex": "00" * 12}, "tag": "front"},
        *[step for steps in STEPS.values() for step in steps],
    ]
    layouts = {name: convert(spec, LayoutSpec) for name, spec in LAYOUTS.items()}
    assert layer_faults({"it": convert(steps, list[LayerSpec])}, layouts) == []


@pytest.mark.parametrize(
    ("name", "old", "new", "key"),
    [
        ("tern-crate", 'index = "hold.ledger"', 'index = "{id}.ledger"', "format.index"),
        ("tern-crate", 'name = "/record/name"', 'name = "/record/nil"', "format.name"),
        ("tern-crate", 'size = "/record/size"', 'size = "/record/name"', "format.size"),
        ("tern-crate", 'counts = ["/revision"]', 'counts = ["/nil"]', "format.counts[1]"),
        ("tern-crate", 'entries = "/records"', 'entries = "/owner"', "format.entries"),
        ("tern-crate", 'record = "framed-record"', 'record = "record"', "format.record"),
        ("tern-crate", 'check = { at = "/crc"', 'check = { at = "/nil"', "format.parts.check.at"),
        ("tern-crate", "{part}.tern", "{id}.tern", "format.fields.part"),
        ("tern-crate", "[layouts.part]", '[layouts.more]\nfields = [{ type = "u8", name = "a" }]\n'
         "[layouts.part]", "layouts.more"),
        ("saltglass", 'name = "world", size = 8, bound = "world"',
         'name = "world", size = 8, bound = "wold"', "editions.depot.files[1].layers"),
        ("saltglass", 'player = { type = "word" }',
         'player = { type = "word", on_arrival = ["given"] }', "editions.finch.fields.player"),
        ("openttd", 'at = "/record/date"', 'at = "/record/day"', "facts.date.at"),
        ("minetest", '[{ on = "any", under = "given" }]', '[{ on = "linux", under = "given" }]',
         "editions.server.berths[1].on"),
        ("moth-lantern", 'at = "/seed"', 'at = "/sed"', "facts.seed.at"),
    ],
)  # fmt: skip
def test_what_leads_nowhere_in_a_recipe_is_refused(
    den: Den, tmp_path: Path, name: str, old: str, new: str, key: str
) -> None:
    text = (SHIPPED / f"{name}.toml").read_text("utf-8")
    assert old in text
    file = tmp_path / f"{name}.toml"
    file.write_text(text.replace(old, new, 1), "utf-8")
    assert key in den.cferry("recipe", "check", file, code=5).err


def test_an_owner_below_a_layouts_top_is_refused_and_not_passed_over(
    den: Den, tmp_path: Path
) -> None:
    """It was read over in silence, and the save still belonged to the old account."""
    text = (SHIPPED / "moth-lantern.toml").read_text("utf-8")
    own = '  { type = "u64", name = "owner", bound = "owner" },\n'
    nested = text.replace(own, '  { type = "layout", name = "who", of = "who" },\n')
    nested += f"[layouts.who]\nfields = [\n{own}]\n"
    (tmp_path / "moth-lantern.toml").write_text(nested, "utf-8")
    told = den.cferry("recipe", "check", tmp_path / "moth-lantern.toml", code=5).err
    assert "layouts.who.fields[1].bound: it stands within another layout" in told
