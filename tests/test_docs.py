"""What the documents show is tried: every example is read, compiled, written and read back."""

from __future__ import annotations

import doctest
import importlib
import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from runpy import run_path
from typing import Any, get_args

import pytest

from clever_ferry.documents.spec import FormSpec
from clever_ferry.layers import Known, LayerSpec, compile_layers
from clever_ferry.layouts import LayoutSpec, compile_layouts
from clever_ferry.model import convert
from clever_ferry.naming import FieldSpec
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.recipes.fact_models import FactInfo
from clever_ferry.recipes.models import EditionInfo, PieceInfo
from clever_ferry_demo.invented import Cashbox
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from clever_ferry_demo.world import lay_finch
from tests.conftest import Den

CODE = Path(__file__).parents[1] / "src"
DOCS = Path(__file__).parents[1] / "docs"


def blocks(name: str) -> list[str]:
    """Return a document's indented blocks."""
    found: list[str] = []
    lines: list[str] = []
    for line in [*(DOCS / name).read_text("utf-8").splitlines(), "end"]:
        if line.startswith("    ") or (not line and lines):
            lines.append(line[4:])
        elif lines:
            found.append("\n".join(lines))
            lines = []
    return found


EXAMPLES = [path for path in CODE.rglob("*.py") if "\n>>> " in path.read_text("utf-8")
            or " >>> " in path.read_text("utf-8")]  # fmt: skip


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda path: path.stem)
def test_examples_in_the_code(path: Path) -> None:
    name = ".".join(path.relative_to(CODE).with_suffix("").parts).removesuffix(".__init__")
    failed, tried = doctest.testmod(importlib.import_module(name))
    assert tried
    assert not failed


def test_the_page_for_scripts(den: Den, monkeypatch: pytest.MonkeyPatch) -> None:
    import clever_ferry.api as api

    lay_finch(den.top)
    lay_orrery_yard(den.top, "wren", demo_yards())
    monkeypatch.chdir(den.top.parent)
    monkeypatch.setenv("CFERRY_HOME", str(den.home))
    failed, tried = doctest.testfile(str(DOCS / "api.md"), module_relative=False, encoding="utf-8")
    assert (failed, tried > 15) == (0, True)
    told = set(re.findall(r"\b(\w+)\b", (DOCS / "api.md").read_text("utf-8")))
    methods = {name for name in vars(api.Ferry) if not name.startswith("_")}
    assert methods - told <= {"berth", "game_and_edition", "give_up", "destination_for", "recover"}
    for name in api.__all__:
        assert getattr(api, name).__doc__


def tables() -> dict[str, Any]:
    """Return all that the reference's examples say, table by table."""
    merged: dict[str, Any] = {}
    for block in blocks("recipes.md"):
        for name, table in tomllib.loads(block).items():
            if isinstance(table, dict):
                merged.setdefault(name, {}).update(table)
    return merged


def kinds_of(union: Any) -> set[str]:
    return {
        kind for model in get_args(union) for kind in (model.TAGS or (model.__struct_config__.tag,))
    }


def test_the_references_examples_are_right() -> None:
    shown = tables()
    for name, model in (("pieces", PieceInfo), ("facts", FactInfo)):
        for one in shown[name].values():
            convert(one, model)
    editions = shown["editions"]["depot"]
    fields = convert(editions.pop("fields"), dict[str, FieldSpec])
    convert(
        {"title": "x", "berths": [{"on": "any", "under": "given"}],
         "files": [{"role": "a", "path": "b"}], **editions}, EditionInfo,
    )  # fmt: skip
    assert {field.kind for field in fields.values()} == kinds_of(FieldSpec)


def test_the_page_of_all_keys_is_what_the_models_say() -> None:
    page = (DOCS / "keys.md").read_text("utf-8")
    made = run_path(str(DOCS / "make_keys.py"))["reference"]()
    assert page == made, "run: python docs/make_keys.py"
    rows = [line for line in page.splitlines() if line.startswith("| ")]
    assert [line for line in rows if line.endswith("|  |")] == [], "a key without a word"


def test_every_kind_of_layer_has_an_example_that_works() -> None:
    shown = tables()
    layouts = compile_layouts(
        {name: convert(spec, LayoutSpec) for name, spec in shown["layouts"].items()}
    )
    specs = convert(shown["layers"], dict[str, list[LayerSpec]])
    assert {step.kind for steps in specs.values() for step in steps} == kinds_of(LayerSpec)
    forms = convert(shown["forms"], dict[str, FormSpec])
    assert {one.kind for one in forms.values()} == kinds_of(FormSpec)
    known = Known({"account": "100200300", "world": "00" * 8}, {"key": "00" * 16})
    card = specs.pop("card")  # it speaks of another piece, which a chain alone does not have
    bill = specs.pop("bill")  # as does a list
    assert [one.kind for one in (*card, *bill)] == ["agrees", "lists"]
    for name, chain in compile_layers(specs, layouts).items():
        headers: dict[str, Mapping[str, Any]] = {"front": {"tag": "OTTX", "version": 3}}
        owned = name in ("owned", "agreed")
        inside = b'{"owner": "no_account"}' if owned else b"day 31\n"
        if name.startswith("at-"):  # what stands before the mark must come from somewhere
            headers = {**chain.unwrap(BytesPayload(b"map 4 DATE\x03day 1\n")).headers}
        wrapped = chain.wrap(BytesPayload(inside), known, headers=headers)
        unwrapped = chain.unwrap(wrapped, known).payload
        assert read_all(unwrapped, limit=100, what=name) == inside, name


def test_every_type_of_field_has_an_example_that_works() -> None:
    from clever_ferry.layouts.spec import FieldSpec as LayoutField

    shown = tables()["layouts"]
    specs = {name: convert(spec, LayoutSpec) for name, spec in shown.items()}
    used = {field.kind for spec in specs.values() for field in spec.fields}
    numbers = {"u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64", "f32", "f64"}
    assert used | numbers == kinds_of(LayoutField)
    layout = compile_layouts(specs)["everything"]
    value = layout.blank()
    value["leaves"] = [{"kind": 7, "value": b"odd"}, {"kind": 0, "value": b""}]
    value["rows"], value["blobs"] = [{"at": 0, "size": 0}] * 2, [b"abc", b"de"]
    value["rows"] = [dict(row) for row in value["rows"]]
    value["town"], value["days"] = "Gull Röck", [1, 2]
    data = layout.write(value)
    read = layout.read_whole(data)
    assert (read["town"], read["days"], read["blobs"]) == ("Gull Röck", [1, 2], [b"abc", b"de"])
    assert layout.write(read) == data


def test_the_first_recipe_step_by_step(den: Den, tmp_path: Path) -> None:
    folder = tmp_path / "the-folder"
    (folder / "made").mkdir(parents=True)
    (folder / "plain").mkdir()
    world = (b"isle of glass " * 900)[:12_000]
    saves = {n: (world[: 12_000 - 900 * (n - 1)], b'{"name": "Isle %d", "day": 31}' % n)
             for n in (1, 2, 3)}  # fmt: skip
    Cashbox.write(folder / "made", saves)
    for slot, (body, note) in saves.items():
        (folder / "plain" / f"{slot}.world").write_bytes(body)
        (folder / "plain" / f"{slot}.note").write_bytes(note)
    shown = blocks("first-recipe.md")
    first = next(block for block in shown if block.startswith("recipe = 1"))
    layers = next(block for block in shown if block.startswith("[layers]"))
    drafted = den.cferry(
        "draft", folder / "plain", folder / "made", "-o", tmp_path / "cashbox.toml"
    )
    assert drafted.out.count("the same, pieces and facts") == 2
    looked = den.cferry("study", folder / "made").out
    for line in next(block for block in shown if block.startswith("cash_{n1}.csb")).splitlines():
        assert line.split() in [one.split() for one in looked.splitlines()], line
    file = den.recipe("cashbox", first)
    tried = den.cferry("recipe", "check", file, "--try", folder, "--json").data["tried"]
    assert [one["edition"] for one in tried] == ["plain", "made"]
    packed = first.replace('cash_{slot}.csb" }', 'cash_{slot}.csb", layers = ["twice"] }')
    den.recipe("cashbox", f"{packed}\n{layers}")
    done = den.cferry("recipe", "check", file, "--try", folder)
    assert "packed otherwise" in done.out or "same bytes" in done.out
    for start, goal in (("plain", "made"), ("made", "plain")):
        slot = 1 if start == "plain" else 5
        den.cferry(
            "cross", f"cashbox/{start}@{folder}:{slot}",
            f"cashbox/{goal}@{folder}:{slot + 4}", "--yes",
        )  # fmt: skip
    assert Cashbox.read(folder / "made")[5] == saves[1]
    assert (folder / "plain" / "9.world").read_bytes() == world


@pytest.mark.parametrize(
    "name", ["README.md", "docs/first-recipe.md", "docs/recipes.md", "docs/api.md"]
)
def test_links_lead_somewhere(name: str) -> None:
    path = DOCS.parent / name
    for link in re.findall(r"\]\(([^)#]+)\)", path.read_text("utf-8")):
        assert (path.parent / link).exists(), link
