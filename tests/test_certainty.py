"""Words of certainty: each is said only of what was established, and by what."""

from __future__ import annotations

import gzip
import io
import random
import sqlite3
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from clever_ferry.errors import DamagedError
from clever_ferry.forms.recognising import _MAGICS, recognise
from clever_ferry.forms.verifying import verify
from clever_ferry.layers import LayerSpec, compile_layers
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload, read_all
from tests.conftest import Den

CUT = 'cut = [{ kind = "after", text = "DATE" }]'
RECIPE = """
recipe = 1
game = {{ id = "bin", title = "Bins" }}
[pieces]
world = {{ needed = true {holds} }}
extra = {{ {extra} }}
{more}
[layers]
{layers}
[editions.one]
title = "One"
berths = [{{ on = "any", under = "given" }}]
fields.name = {{ type = "text" }}
files = [
  {{ role = "world", path = "{{name}}/world.bin", layers = [{unwrapped}] }},
  {{ role = "extra", path = "{{name}}/extra.bin" }},
]
[editions.two]
title = "Two"
berths = [{{ on = "any", under = "given" }}]
fields.name = {{ type = "text" }}
files = [
  {{ role = "world", path = "{{name}}.bin", layers = [{unwrapped}] }},
  {{ role = "extra", path = "{{name}}.extra" }},
]
"""


@pytest.fixture
def bins(den: Den, tmp_path: Path) -> Callable[..., dict[str, Any]]:
    """Return a function that puts files into a save and checks it."""
    folder = tmp_path / "bins"

    def check(
        world: bytes = b"x", extra: bytes | None = None, code: int = 0, **recipe: str
    ) -> dict[str, Any]:
        parts = dict.fromkeys(("holds", "extra", "more", "layers", "unwrapped"), "") | recipe
        den.recipe("bin", RECIPE.format(**parts))
        (folder / "mine").mkdir(parents=True, exist_ok=True)
        (folder / "mine" / "world.bin").write_bytes(world)
        if extra is not None:
            (folder / "mine" / "extra.bin").write_bytes(extra)
        told = den.cferry("check", f"bin/one@{folder}", "--json", code=code).data
        (save,) = told["saves"]
        found: dict[str, Any] = {one["piece"]: one for one in save["established"]}
        return {**found, "damaged": told["damaged"], "suspicious": told["suspicious"]}

    return check


def zipped(text: bytes = b"day 31") -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as made:
        made.writestr("a.txt", text)
    return out.getvalue()


def database(folder: Path) -> bytes:
    path = folder / "made.sqlite"
    with sqlite3.connect(path) as book:
        book.execute("CREATE TABLE blocks (at INTEGER, data BLOB)")
        book.executemany("INSERT INTO blocks VALUES (?, ?)", [(n, bytes(900)) for n in range(50)])
    book.close()
    return path.read_bytes()


def picture() -> bytes:
    def part(kind: bytes, data: bytes) -> bytes:
        return (
            len(data).to_bytes(4) + kind + data + zlib.crc32(kind + data).to_bytes(4)
        )  # fmt: skip

    head = part(b"IHDR", bytes([0, 0, 0, 1, 0, 0, 0, 1, 8, 0, 0, 0, 0]))
    return b"\x89PNG\r\n\x1a\n" + head + part(b"IDAT", zlib.compress(b"\0\0")) + part(b"IEND", b"")


@pytest.mark.parametrize(
    ("form", "level"),
    [
        ("zip", "verified"), ("png", "verified"), ("gzip", "verified"), ("sqlite", "verified"),
        ("json", "opened"), ("xml", "opened"), ("noise", "only read"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("stated", [True, False], ids=["stated", "seen"])
def test_a_piece_is_verified_by_its_own_form(
    bins: Callable[..., dict[str, Any]], tmp_path: Path, form: str, level: str, stated: bool
) -> None:
    noise = random.Random(7).randbytes(5000)
    right = {
        "zip": zipped(), "png": picture(), "gzip": gzip.compress(noise),
        "sqlite": database(tmp_path), "json": b'{"day": 31}', "xml": b'<?xml version="1.0"?><a/>',
        "noise": noise,
    }[form]  # fmt: skip
    recipe = {"holds": f', holds = "{form}"'} if stated and form != "noise" else {}
    told = bins(right, **recipe)
    assert (told["world"]["established"], told["damaged"]) == (level, False)
    assert bool(told["world"]["by"]) is (level != "only read")
    if form == "noise":
        return
    at = {"sqlite": 4096, "png": 17}.get(form, 0)  # within a part's data, so that its sum tells
    cut, other = right[: len(right) * 2 // 3], flipped(right, at)
    for wrong in (cut,) if level == "opened" else (cut, other):
        told = bins(wrong, code=5 if stated else 0, **recipe)
        assert told["world"]["established"] == "only read", "what is broken is not verified"
        assert told["damaged"] is stated
        assert told["suspicious"] is not stated, "where nobody stated it, it is only suspicious"


def test_a_picture_that_ends_before_its_end_is_cut() -> None:
    """Also where it is cut between two parts, each of which agrees with its checksum."""
    whole = picture()
    assert verify("png", BytesPayload(whole)).level == "verified"
    for cut in range(1, 24):
        with pytest.raises(DamagedError):
            verify("png", BytesPayload(whole[:-cut]))


@pytest.mark.parametrize(
    ("head", "kind"),
    [(b"\0\1\2", "unknown"), (b"\x78\x9c" + b"\xff" * 9, "unknown"),
     (zlib.compress(b"day 31"), "zlib"), (zlib.compress(b""), "unknown"), (b"ab", "text"),
      (b"\x80", "unknown"), (b"", "unknown"),
     (("é" * 2048).encode(), "text"), (("x" + "é" * 2048).encode()[:4096], "text"),
     (b"x" * 4000 + b"\xc3", "unknown"),
     ("héron".encode("utf-16"), "text"), (b"\xff\xfe\0", "unknown")],
)  # fmt: skip
def test_text_is_what_reads_as_text(head: bytes, kind: str) -> None:
    assert recognise(head) == kind


def test_a_form_is_told_where_its_sign_begins_and_not_a_byte_behind() -> None:
    for at, magic, kind in _MAGICS:
        assert recognise(bytes(at) + magic + bytes(9)) == kind
        assert recognise(bytes(at + 1) + magic + bytes(9)) == "unknown"


def test_a_zip_of_nothing_is_a_zip(bins: Callable[..., dict[str, Any]]) -> None:
    empty = b"PK\5\6" + bytes(18)
    assert "zip" in bins(empty)["world"]["by"]
    assert bins(empty[:-1])["suspicious"]


def flipped(data: bytes, at: int) -> bytes:
    at = at or len(data) // 2
    return data[:at] + bytes([data[at] ^ 0xFF]) + data[at + 1 :]


def test_a_database_replaced_by_noise_or_zeros_is_damaged(
    bins: Callable[..., dict[str, Any]], tmp_path: Path
) -> None:
    for wrong in (bytes(40_000), random.Random(1).randbytes(40_000), b""):
        assert bins(wrong, code=5, holds=', holds = "sqlite"')["damaged"]


def test_zeros_at_the_end_and_a_far_smaller_file_are_suspicious(
    bins: Callable[..., dict[str, Any]], tmp_path: Path
) -> None:
    noise = random.Random(3).randbytes(20_000)
    assert not bins(noise + bytes(3000))["suspicious"]
    (told,) = bins(noise + bytes(5000))["world"]["suspicions"]
    assert "its last 5,000 bytes are zero" in told
    (told,) = bins(noise * 30 + bytes(3 << 20))["world"]["suspicions"]
    assert "its last 3,145,728 bytes are zero" in told
    assert not bins(picture() + bytes(9000))["suspicious"], "what is verified is not suspected"
    assert bins(noise)["world"]["established"] == "only read"
    for number in range(3):
        (tmp_path / f"bins/mine{number}").mkdir()
        (tmp_path / f"bins/mine{number}/world.bin").write_bytes(noise)
    done = bins_of_all(tmp_path)
    assert not any("mostly" in line for line in done.splitlines())
    (tmp_path / "bins/mine/world.bin").write_bytes(noise[:1900])
    assert "it has 1,900 bytes; such files here have 20,000 mostly" in bins_of_all(tmp_path)


def bins_of_all(tmp_path: Path) -> str:
    den = Den(tmp_path / "world" / "den", tmp_path / "own")
    return den.cferry("check", f"bin/one@{tmp_path / 'bins'}").out


def test_a_position_beyond_the_end_is_suspicious(bins: Callable[..., dict[str, Any]]) -> None:
    recipe = {
        "holds": ', reaches = [{ layout = "front", at = "/last" }]',
        "more": '[layouts.front]\nfields = [{ type = "u32", name = "last" }]',
    }
    assert not bins((9).to_bytes(4, "little") + b"12345", **recipe)["suspicious"]
    told = bins((10).to_bytes(4, "little") + b"12345", **recipe)
    assert "it speaks of byte 10, but it ends at 9" in told["world"]["suspicions"][0]


def test_a_journal_beside_a_database_is_read_with_it(
    bins: Callable[..., dict[str, Any]], tmp_path: Path
) -> None:
    """A game that was killed leaves half of the database in its log: the two are one."""
    path = tmp_path / "live.sqlite"
    book = sqlite3.connect(path)
    book.execute("PRAGMA journal_mode = WAL")
    book.execute("CREATE TABLE blocks (data BLOB)")
    book.executemany("INSERT INTO blocks VALUES (?)", [(bytes(900),)] * 40)
    book.commit()
    wal = Path(f"{path}-wal").read_bytes()
    assert wal
    folder = tmp_path / "bins" / "mine"
    folder.mkdir(parents=True)
    (folder / "world.bin-wal").write_bytes(wal)
    told = bins(path.read_bytes(), holds=', holds = "sqlite"')
    assert told["world"]["established"] == "verified"
    book.close()


def test_a_fact_that_fits_another_release_is_a_note_and_no_damage(
    bins: Callable[..., dict[str, Any]], den: Den, tmp_path: Path
) -> None:
    recipe = {
        "more": '[facts]\nday = { label = "Day", from = "world", layout = "front", at = "/day" }\n'
        'page = { label = "Page", from = "world", opens = ["cut"], layout = "front", '
        'at = "/day" }\n'
        '[layouts.front]\nfields = [{ type = "magic", text = "OLD" }, '
        '{ type = "u8", name = "day" }]',
        "layers": CUT,
    }
    assert not bins(b"NEWrelease", **recipe)["damaged"]
    (save,) = den.cferry("slots", f"bin/one@{tmp_path / 'bins'}", "--json").data[0]["saves"]
    assert save["problems"] == []
    assert [note.partition(":")[0] for note in save["notes"]] == [
        "Day is not known", "Page is not known",
    ]  # fmt: skip


def test_damage_of_what_a_piece_opens_by_is_damage_also_in_a_list(
    bins: Callable[..., dict[str, Any]], den: Den, tmp_path: Path
) -> None:
    recipe = {
        "holds": ', opens = ["packed"]',
        "layers": 'packed = [{ kind = "gzip" }]',
        "more": '[facts]\nday = { label = "Day", from = "world", layout = "front", at = "/day" }\n'
        '[layouts.front]\nfields = [{ type = "u8", name = "day" }]',
    }
    bins(gzip.compress(b"\x1f" * 9000)[:-9], code=5, **recipe)
    told = den.cferry("slots", f"bin/one@{tmp_path / 'bins'}", "--json").data[0]
    assert "gzip data ends" in told["saves"][0]["problems"][0]


def test_what_stands_before_a_mark_goes_along(den: Den, tmp_path: Path) -> None:
    parts = dict.fromkeys(("holds", "extra", "more"), "")
    den.recipe("bin", RECIPE.format(**parts, layers=CUT, unwrapped='"cut"'))
    (tmp_path / "a" / "mine").mkdir(parents=True)
    (tmp_path / "b").mkdir()
    (tmp_path / "a/mine/world.bin").write_bytes(b"HEADdataDATEbody")
    den.cferry("cross", f"bin/one@{tmp_path}/a", f"bin/two@{tmp_path}/b", "--yes")
    assert (tmp_path / "b/mine.bin").read_bytes() == b"HEADdataDATEbody"


def test_a_front_larger_than_memory_is_meant_for_goes_along_whole() -> None:
    steps = convert([{"kind": "after", "text": "DATE"}], list[LayerSpec])
    chain = compile_layers({"it": steps}, {})["it"]
    whole = bytes(40 << 20) + b"DATEbody"
    unwrapped = chain.unwrap(BytesPayload(whole))
    assert read_all(unwrapped.payload, limit=9, what="it") == b"body"
    wrapped = chain.wrap(unwrapped.payload, headers=unwrapped.headers)
    assert read_all(wrapped, limit=1 << 30, what="it") == whole


def test_what_is_not_known_before_a_mark_is_refused_and_not_left_out(
    den: Den, tmp_path: Path
) -> None:
    parts = dict.fromkeys(("holds", "extra", "more"), "")
    text = RECIPE.format(**parts, layers=CUT, unwrapped='"cut"')
    text = text.replace('world.bin", layers = ["cut"]', 'world.bin"')
    den.recipe("bin", text)
    (tmp_path / "a" / "mine").mkdir(parents=True)
    (tmp_path / "b").mkdir()
    (tmp_path / "a/mine/world.bin").write_bytes(b"body")
    places = (f"bin/one@{tmp_path}/a", f"bin/two@{tmp_path}/b")
    assert "before 'DATE'" in den.cferry("cross", *places, "--yes", code=4).err
    (tmp_path / "b/mine.bin").write_bytes(b"HEADDATEold")
    den.cferry("cross", *places, "--yes", "--replace")
    assert (tmp_path / "b/mine.bin").read_bytes() == b"HEADDATEbody"


def test_a_key_within_other_layers_can_be_given(den: Den, tmp_path: Path) -> None:
    from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

    key = bytes(range(16))
    worker = Cipher(algorithms.AES(key), modes.CTR(bytes(16))).encryptor()
    secret = worker.update(b"the isle") + worker.finalize()
    parts = dict.fromkeys(("holds", "extra"), "")
    parts["layers"] = (
        'locked = [{ kind = "by-tag", layout = "tag", tag = "/tag", of = { L = ["aes"] } }]\n'
        'aes = [{ kind = "chunks", most = 100, header = "size", layers = ["key"] }]\n'
        'key = [{ kind = "aes", mode = "ctr", key = { given = "key" } }]'
    )
    parts["more"] = (
        '[layouts.tag]\nfields = [{ type = "text", name = "tag", size = 1 }]\n[layouts.size]\n'
        'fields = [{ type = "u8", name = "n", computed = { what = "size", of = "inside" } }]'
    )
    den.recipe("bin", RECIPE.format(**parts, unwrapped='"locked"'))
    (tmp_path / "a" / "mine").mkdir(parents=True)
    (tmp_path / "b").mkdir()
    packed = bytes(16) + secret
    (tmp_path / "a/mine/world.bin").write_bytes(b"L" + bytes([len(packed)]) + packed)
    places = (f"bin/one@{tmp_path}/a", f"bin/two@{tmp_path}/b", "--yes")
    assert "--give key=" in den.cferry("cross", *places, code=2).err
    den.cferry("cross", *places, "--give", f"key={key.hex()}")
    new = (tmp_path / "b/mine.bin").read_bytes()
    worker = Cipher(algorithms.AES(key), modes.CTR(new[2:18])).decryptor()
    assert worker.update(new[18:]) == b"the isle"


def test_a_cut_database_of_saves_is_no_smaller_one(den: Den, tmp_path: Path) -> None:
    path = tmp_path / "box" / "saves.db"
    path.parent.mkdir()
    with sqlite3.connect(path) as book:
        book.execute("CREATE TABLE saves (name TEXT, data BLOB)")
        rows = [(f"{n}.world", random.Random(n).randbytes(9000)) for n in range(1, 4)]
        book.executemany("INSERT INTO saves VALUES (?, ?)", rows)
    book.close()
    den.recipe(
        "chest",
        'recipe = 1\nbox = { id = "chest", title = "A chest" }\n[format]\nkind = "sqlite"\n'
        'file = "saves.db"\ntable = "saves"\nname = "name"\ndata = "data"\n',
    )
    den.recipe(
        "bin",
        'recipe = 1\ngame = { id = "bin", title = "Bins" }\npieces.world = { needed = true }\n'
        '[editions.one]\ntitle = "One"\nbox = "chest"\n'
        'berths = [{ on = "any", under = "given" }]\nfields.slot = { type = "number" }\n'
        'files = [{ role = "world", path = "{slot}.world" }]\n',
    )
    told = den.cferry("check", f"bin/one@{path.parent}", "--json").data
    assert {one["established"][0]["by"] for one in told["saves"]} == {"SQLite's own check"}
    whole = path.read_bytes()
    path.write_bytes(whole[: len(whole) - 4096])
    assert "cut short" in den.cferry("check", f"bin/one@{path.parent}", code=5).err
    at = whole.index(rows[1][1][4000:4010])
    page = bytearray(whole)
    page[at // 4096 * 4096 : at // 4096 * 4096 + 4] = b"\xff\xff\xff\xff"
    path.write_bytes(page)
    den.cferry("check", f"bin/one@{path.parent}", code=5)


def test_a_backup_says_verified_only_of_what_was_read_through_its_wrapping(den: Den) -> None:
    """It did so of a world whose checksum nobody had computed."""
    world = next(den.depot.glob("voyage-00-*")) / "world.sgw"
    raw = bytearray(world.read_bytes())
    raw[-1] ^= 1
    world.write_bytes(raw)
    (made,) = den.cferry("backup", "saltglass/depot:1", "--json").data
    pieces = {one["piece"]: one for one in made["established"][0]["pieces"]}
    assert pieces["world"]["faults"]
    assert pieces["world"]["established"] == "only read"
    assert "damaged, and kept as it is" in den.cferry("backup", "saltglass/depot", "--reread").out
