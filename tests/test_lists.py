"""Lists of a save's files, with names, sizes and checksums: held against them, and made anew."""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.errors import DamagedError
from clever_ferry.layers import Known, LayerSpec, compile_layers
from clever_ferry.layers.known import Writing, Written
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload, Payload
from tests.conftest import Den
from tests.test_layers import whole

WEIR = """
recipe = 1
game = { id = "weir", title = "Weir" }
[pieces]
world = { needed = true }
folk = { each = "player" }
card = { needed = true, holds = "json" }
[facts]
day = { label = "Day", from = "card", at = "/day" }
[layers]
packed = [{ kind = "stage", name = "once" }, { kind = "zlib" }]
list = [{ kind = "lists", holds = "json", at = "/files/*", of = ["world", "folk"], values = [
  { at = "/name", what = "name" }, { at = "/bytes", what = "size" },
  { at = "/sum", what = "crc32", spelled = "hex" },
] }]
paths = [{ kind = "lists", holds = "json", at = "/files/*", of = ["world", "folk"], values = [
  { at = "/name", what = "path" }, { at = "/sum", what = "crc32", spelled = "hex" },
] }]
[editions.one]
title = "One"
berths = [{ on = "any", under = "given", path = "one" }]
fields = { slot = { type = "number", width = 2 }, player = { type = "word" } }
files = [
  { role = "world", path = "w{slot}/world.bin", layers = ["packed"] },
  { role = "folk", path = "w{slot}/{player}.folk" },
  { role = "card", path = "w{slot}/card.json", layers = ["list"] },
]
[editions.two]
title = "Two"
berths = [{ on = "any", under = "given", path = "two" }]
fields = { slot = { type = "number", first = 0 }, player = { type = "word" } }
files = [
  { role = "world", path = "isle{slot}.world" },
  { role = "folk", path = "isle{slot}-{player}.who" },
  { role = "card", path = "isle{slot}.json", layers = ["list"] },
]
[editions.three]
title = "Three"
berths = [{ on = "any", under = "given", path = "three" }]
fields = { slot = { type = "number" }, player = { type = "word" } }
files = [
  { role = "world", path = "{slot}/world" },
  { role = "folk", path = "{slot}/folk/{player}" },
  { role = "card", path = "{slot}/card", layers = ["paths"] },
]
""".replace('{ kind = "stage", name = "once" }, ', "")


def lay(folder: Path, slot: int, folk: list[str], day: int) -> None:
    """Write a save as its game does: a line for each file, each with a key of its own."""
    files = {"world.bin": zlib.compress(b"world" * 50), **{f"{n}.folk": b"f" * 9 for n in folk}}
    (here := folder / "one" / f"w{slot:02}").mkdir(parents=True)
    rows = []
    for name, data in files.items():
        (here / name).write_bytes(data)
        rows.append({"tag": f"t-{name[:2]}", **row(here / name)})
    (here / "card.json").write_text(json.dumps({"day": day, "files": rows, "end": 1}, indent=1))


def row(path: Path) -> dict[str, Any]:
    data = path.read_bytes()
    return {"name": path.name, "bytes": len(data), "sum": f"{zlib.crc32(data):08x}"}


@pytest.fixture
def weir(linux: Callable[..., Den], tmp_path: Path) -> Den:
    den = linux(home="home")
    den.recipe("weir", WEIR)
    lay(tmp_path, 1, ["Wren", "Isa"], 31)
    lay(tmp_path, 2, [], 3)
    (tmp_path / "two").mkdir()
    (tmp_path / "three").mkdir()
    return den


def test_a_list_names_what_is_there_on_either_side(weir: Den, tmp_path: Path) -> None:
    one, two, three = (f"weir/{name}@{tmp_path}" for name in ("one", "two", "three"))
    before = {path: path.read_bytes() for path in (tmp_path / "one" / "w01").iterdir()}
    weir.cferry("cross", f"{one}:1", f"{two}:3", "--yes")
    there = tmp_path / "two"
    card = json.loads((there / "isle2.json").read_text())
    names = ["isle2.world", "isle2-Wren.who", "isle2-Isa.who"]
    assert [{k: v for k, v in one.items() if k != "tag"} for one in card["files"]] == [
        row(there / name) for name in names
    ]
    assert [one["tag"] for one in card["files"]] == ["t-wo", "t-Wr", "t-Is"]
    assert (card["day"], card["end"]) == (31, 1)
    weir.cferry("check", two)
    weir.cferry("cross", f"{two}:3", f"{three}:7", "--yes")
    names = ["7/world", "7/folk/Wren", "7/folk/Isa"]
    files = json.loads((tmp_path / "three/7/card").read_text())["files"]
    assert {one["name"]: one["sum"] for one in files} == {
        name: row(tmp_path / "three" / name)["sum"] for name in names
    }
    weir.cferry("check", three)
    # Onto a save of one file: two lines go, one stays, and its own key with it.
    weir.cferry("cross", f"{one}:2", f"{two}:3", "--yes", "--replace")
    card = json.loads((there / "isle2.json").read_text())
    assert card["files"] == [{"tag": "t-wo", **row(there / "isle2.world")}]
    weir.cferry("undo", "--yes")
    weir.cferry("cross", f"{two}:3", f"{one}:1", "--yes", "--replace")
    assert {path: path.read_bytes() for path in (tmp_path / "one" / "w01").iterdir()} == before


SPOILT: dict[str, tuple[Callable[[list[dict[str, Any]]], object], str]] = {
    "another size": (lambda files: files[1].update(bytes=8), "says 8 at /files/*/bytes"),
    "another sum": (lambda files: files[2].update(sum="00000001"), "but the folk's crc32 is"),
    "one is not named": (lambda files: files.pop(), "does not name it in its list"),
    "one that is not there": (
        lambda files: files[0].update(name="world.old"),
        "it lists world.old",
    ),
    "one twice": (lambda files: files.append(files[0]), "names 'world.bin' twice"),
    "none": (lambda files: files.clear(), "no list with one of each value"),
    "a line that lacks a value": (lambda files: files[0].pop("sum"), "no list with one of each"),
    "no number": (lambda files: files[0].update(sum="x"), "is no crc32"),
}


@pytest.mark.parametrize("case", SPOILT)
def test_each_line_that_is_spoilt_is_found(weir: Den, tmp_path: Path, case: str) -> None:
    change, said = SPOILT[case]
    path = tmp_path / "one" / "w01" / "card.json"
    card = json.loads(path.read_text())
    change(card["files"])
    path.write_text(json.dumps(card))
    where = f"weir/one@{tmp_path}"
    assert said in weir.cferry("check", f"{where}:1", code=5).out
    weir.cferry("cross", f"{where}:1", f"weir/two@{tmp_path}", "--yes", code=5)
    assert not any((tmp_path / "two").iterdir())


WRONG = {
    "itself": ('of = ["world", "folk"], values = [\n  { at', 'of = ["card"], values = [\n  { at',
               "can't list itself"),
    "nobody": ('of = ["world", "folk"], values = [\n  { at', 'of = ["wrld"], values = [\n  { at',
               "no piece 'wrld' here"),
    "no name": ('{ at = "/name", what = "name" }, ', "", "is the `name` or the `path`"),
    "two names": ('what = "path" }', 'what = "path" }, { at = "/n" }', "`name` or the `path`"),
    "no stage": ('what = "crc32"', 'what = "crc32", stage = "twice"', "stage 'twice'"),
    "no form": ('holds = "json", at', 'holds = "sqlite", at', "no lines that could be made anew"),
    "no place": ('at = "/bytes"', 'at = "bytes"', "starts with '/'"),
    "a name that is spelled": ('what = "name"', 'spelled = "hex"', "not `spelled` otherwise"),
    "what all share": ("folk = {", "folk = { shared = true, ", "must both be of one save"),
}  # fmt: skip


@pytest.mark.parametrize("case", WRONG)
def test_lists_that_can_not_be_are_refused(linux: Callable[..., Den], case: str) -> None:
    right, wrong, said = WRONG[case]
    assert right in WEIR
    here = linux(home="home")
    here.recipe("weir", WEIR.replace(right, wrong, 1))
    told = here.cferry("recipe", "check", here.home / "recipes" / "weir.toml", code=5).err
    assert said in told


@given(
    st.lists(st.text(st.characters(codec="utf-8", exclude_characters="/\0\r\n",
                                   exclude_categories=["Cc", "Cs", "Zs"]), min_size=1, max_size=8),
             min_size=1, max_size=5, unique=True),
    st.sampled_from(["", "\n", "\n  "]), st.data(),
)  # fmt: skip
def test_a_list_is_put_together_as_it_was_and_follows_any_files(
    names: list[str], gap: str, data: st.DataObject
) -> None:
    text = "{" + gap + '"files":[' + f",{gap}".join(json.dumps(name) for name in names) + "]}"
    spec = convert(
        {"kind": "lists", "holds": "json", "at": "/files/*", "of": ["world"], "values": [{}]},
        LayerSpec,
    )
    chain = compile_layers({"it": (spec,)}, {})["it"]
    raw = text.encode()
    unwrapped = chain.unwrap(BytesPayload(raw))
    assert len(json.loads(whole(unwrapped.payload))["files"]) == 1
    assert whole(chain.wrap(unwrapped.payload, residue=unwrapped.residue)) == raw
    new = data.draw(st.lists(st.sampled_from([*names, "other", "ö"]), min_size=1, unique=True))

    def stage(name: str) -> Payload:
        raise AssertionError(name)

    files = [Written(f"there/{name}", f"here/{name}", stage) for name in new]
    known = Known(writing=Writing(0, pieces=lambda roles: files if "world" in roles else []))
    made = whole(chain.wrap(unwrapped.payload, known, headers=unwrapped.headers))
    order = {name: at for at, name in enumerate(names)}
    assert json.loads(made)["files"] == sorted(new, key=lambda name: order.get(name, len(names)))
    assert made.startswith(raw[: raw.index(b"[")])


@pytest.mark.parametrize(("raw", "at", "said"), [
    (b"<m><f>a</f><f>b</f></m>", "/m/f", ""),  # nothing stands between them
    (b"<m><f>a<f>b</f></f></m>", "/m/*", "within each other|stands in no line"),
    (b"<m/>", "/m/f", "no list with one of each value"),
])  # fmt: skip
def test_lines_stand_beside_each_other(raw: bytes, at: str, said: str) -> None:
    values: list[dict[str, str]] = [{}]
    spec = {"kind": "lists", "holds": "xml", "at": at, "of": ["world"], "values": values}
    chain = compile_layers({"it": (convert(spec, LayerSpec),)}, {})["it"]
    if said:
        with pytest.raises(DamagedError, match=said):
            chain.unwrap(BytesPayload(raw))
        return
    unwrapped = chain.unwrap(BytesPayload(raw))
    assert whole(unwrapped.payload) == b"<m><f>no_line</f></m>"
    assert whole(chain.wrap(unwrapped.payload, residue=unwrapped.residue)) == raw
