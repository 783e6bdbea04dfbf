"""Checks that nothing else here would miss if they were left out: each by what only it refuses."""

from __future__ import annotations

import lzma
import os
import shutil
import sqlite3
import tarfile
import zlib
from collections.abc import Iterator
from contextlib import closing
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from msgspec.structs import replace

from clever_ferry.boxes import make_box
from clever_ferry.boxes.spec import ArchiveSpec, TableSpec
from clever_ferry.cargo import Fact, Piece, Save
from clever_ferry.crossing.carrying import carry_out
from clever_ferry.errors import (
    DamagedError,
    FerryError,
    NotProvenError,
    RefusedError,
    UnsupportedError,
)
from clever_ferry.finding.signs import Signs
from clever_ferry.forms import databases
from clever_ferry.forms.verifying import verify
from clever_ferry.keeping.journal import Entry
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.pruning import Rules, _stays
from clever_ferry.keeping.snapshots import About, Kept
from clever_ferry.layouts import LayoutSpec, compile_layouts
from clever_ferry.model import convert, tagged
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.names import safe_name
from clever_ferry.moving.outputs import new_folder
from clever_ferry.moving.presence import identity
from clever_ferry.naming import FieldSpec
from clever_ferry.payload import BytesPayload, Payload, StreamPayload
from clever_ferry.proving.comparing import prove
from clever_ferry.proving.relating import relate
from clever_ferry.proving.stories import story_of
from clever_ferry.recipes import Recipes
from clever_ferry.recipes.encoding import encode
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from tests.conftest import Den, bins, link, state, zips_within
from tests.test_boxes import change, contents
from tests.test_faults import hidden
from tests.test_layers import ALL, GIVEN, KEY, whole
from tests.test_layouts import TABLE


def layout(*fields: dict[str, Any]) -> Any:
    return compile_layouts({"it": convert({"fields": list(fields)}, LayoutSpec)})["it"]


def test_a_save_that_is_added_after_the_plan_was_shown(den: Den) -> None:
    ferry = den.ferry()
    plan = ferry.plan("saltglass/tern:2", "saltglass/depot:5")
    old = next(den.depot.glob("voyage-02-*"))
    shutil.copytree(old, den.depot / "voyage-03-00112233445566aa")  # and no other file changes
    before = state(den.depot)
    with pytest.raises(RefusedError, match="changed after the plan"):
        carry_out(plan, ferry.keeps, Signs)
    assert state(den.depot) == before


def test_an_extra_piece_is_not_what_was_carried(den: Den) -> None:
    plan = den.ferry().plan("saltglass/depot:3", "saltglass/depot:5")
    (move,) = plan.moves
    encoded = encode(move.encoding, 0)
    for item in encoded:
        for _ in item.payload.chunks():
            pass
    target, known = plan.target.berth, plan.target.known
    pieces = tuple(replace(item.piece, payload=item.payload) for item in encoded)
    found: Save = replace(move.save, pieces=pieces)
    more: Piece = replace(pieces[0], role="stranger")
    both = replace(found, pieces=(*pieces, more))

    def faults(save: Save) -> tuple[str, ...]:
        return prove(target.game, target.edition, move.save, encoded, save, known).faults

    assert [one for one in faults(both) if one not in faults(found)] == [
        f"the {more.title} was not carried, but is there"
    ]
    wrong = replace(pieces[0], payload=BytesPayload(b"another"))
    other = replace(found, pieces=(wrong, *pieces[1:]))
    assert f"the {wrong.title} is not what was carried" in faults(other)
    blind = replace(found, facts=tuple(fact for fact in found.facts if fact.key != "day"))
    assert "Day was 57 and is unknown" in faults(blind)
    assert not any(item.payload.digest for item in plan.encoded), "a plan is not filled in"


def encrypted(padded: bytes) -> bytes:
    vector = bytes(16)
    worker = Cipher(algorithms.AES(bytes.fromhex(KEY)), modes.CBC(vector)).encryptor()
    return vector + worker.update(padded) + worker.finalize()


@pytest.mark.parametrize("tail", [b"\x01\x02\x03", b"\x03\x02\x03", b"\x02\x03\x03"])
def test_every_byte_of_a_ciphers_padding_counts(tail: bytes) -> None:
    assert whole(
        ALL["cbc"].unwrap(BytesPayload(encrypted(bytes(13) + b"\3\3\3"))).payload
    ) == bytes(13)
    with pytest.raises(DamagedError, match="key or its bytes are wrong"):
        whole(ALL["cbc"].unwrap(BytesPayload(encrypted(bytes(13) + tail))).payload)


@pytest.mark.parametrize(
    "name", ["gzip", "zlib", "xz", "bzip2", "lzma", "zstd", "lz4", "sealed", "chunked", "tabled"]
)
def test_bytes_after_the_end_are_told(name: str) -> None:
    raw = whole(ALL[name].wrap(BytesPayload(b"the isle" * 40), GIVEN))
    with pytest.raises(DamagedError):
        whole(ALL[name].unwrap(BytesPayload(raw + b"more")).payload)


def test_a_chunk_is_as_large_as_its_table_says() -> None:
    raw = bytearray(whole(ALL["tabled"].wrap(BytesPayload(b"the isle" * 4))))
    assert raw[8:12] == (32).to_bytes(4, "little")
    raw[8] = 31
    with pytest.raises(DamagedError, match="31"):
        whole(ALL["tabled"].unwrap(BytesPayload(bytes(raw))).payload)


def test_chunks_are_cut_as_before_only_where_the_size_is_the_same() -> None:
    """Of a size that is not known beforehand, too: what does not fit is cut as the recipe says."""
    unwrapped = ALL["chunked"].unwrap(BytesPayload(whole(
        ALL["chunked"].wrap(BytesPayload(b"x" * 130))
    )))  # fmt: skip
    assert whole(unwrapped.payload) == b"x" * 130
    for size in (90, 131, 260):
        data = b"y" * size
        for payload in (BytesPayload(data), StreamPayload(partial(iter, [data]))):
            again = whole(ALL["chunked"].wrap(payload, residue=unwrapped.residue))
            assert whole(ALL["chunked"].unwrap(BytesPayload(again)).payload) == b"y" * size
    longer = whole(ALL["chunked"].wrap(BytesPayload(b"y" * 250), residue=unwrapped.residue))
    fresh = whole(ALL["chunked"].wrap(BytesPayload(b"y" * 250)))
    assert len(longer) == len(fresh), "cut by the recipe's size: 100, 100, 50"


def test_a_choice_fills_the_bytes_that_it_is_framed_in() -> None:
    chosen = layout(
        {"type": "u8", "name": "kind"},
        {"type": "choice", "name": "it", "by": "kind", "of": {"1": "u16"}, "length": "u8"},
        {"type": "u8", "name": "end"},
    )
    assert chosen.read_whole(b"\x01\x02\x07\0\x05") == {"kind": 1, "it": 7, "end": 5}
    for raw in (b"\x01\x03\x07\0\0", b"\x01\x01\x07\x05"):  # with the last, too, it would fit
        with pytest.raises(DamagedError):
            chosen.read_whole(raw)


def test_gaps_between_parts_are_empty() -> None:
    value = {
        "table": [{"note": one, "at": 0, "size": 0} for one in (1, 2)],
        "parts": [b"abc", b"de"],
    }
    raw = bytearray(TABLE.write(value))
    second = TABLE.read_whole(bytes(raw))["table"][1]["at"]
    raw[second - 1] = 7
    raw[-4:] = zlib.crc32(raw[:-4]).to_bytes(4, "big")
    with pytest.raises(DamagedError, match="gap before it is not empty"):
        TABLE.read_whole(bytes(raw))


@pytest.mark.parametrize(
    ("field", "value", "raw"),
    [
        ({"ends": "zero"}, "a\0b", b"ab"),
        ({"length": "u8", "zero": "extra"}, None, b"\2abX"),
        ({"length": "u8", "zero": "counted"}, None, b"\3abX"),
        ({"size": 5, "pad": 32}, "ab ", b"ab"),
        ({"size": 3, "pad": 32}, "abcd", b"ab"),
    ],
)
def test_how_a_text_ends(field: dict[str, Any], value: str | None, raw: bytes) -> None:
    made = layout({"type": "text", "name": "t", **field})
    step = partial(made.read_whole, raw) if value is None else partial(made.write, {"t": value})
    with pytest.raises(FerryError):
        step()


@pytest.mark.parametrize("raw", [b"\xff" * 10 + b"\1", b"\x80" * 9 + b"\2"])
def test_numbers_of_more_than_64_bits(raw: bytes) -> None:
    with pytest.raises(DamagedError, match="64 bits"):
        layout({"type": "varint", "name": "n"}).read_whole(raw)


def backups(days: list[int], noon: datetime = datetime(2026, 11, 25, 12)) -> list[Kept]:
    return [
        Kept(f"{day}", "backup", int((noon - timedelta(days=day)).timestamp() * 1e9), "", "/a",
             About("g", "e", "t", False, False), (), 1, 1)
        for day in days
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("rules", "stays"),
    [
        (Rules(last=2, daily=0, weekly=0, monthly=0), [0, 1]),
        (Rules(last=0, daily=3, weekly=0, monthly=0), [0, 1, 2]),
        (Rules(last=0, daily=0, weekly=2, monthly=0), [0, 3]),
        (Rules(last=0, daily=0, weekly=3, monthly=0), [0, 3, 10]),
        (Rules(last=0, daily=0, weekly=0, monthly=2), [0, 25]),
        (Rules(last=0, daily=0, weekly=0, monthly=14), [0, 25, 56, 390]),
    ],
)
def test_the_last_period_of_each_rule(rules: Rules, stays: list[int]) -> None:
    """25 November 2026 is a Wednesday: its week began two days before; 390 days ago is 2025."""
    every = backups([0, 1, 2, 3, 10, 25, 56, 390])
    assert sorted(map(int, _stays(every, rules, ()))) == stays


def test_what_pruning_keeps_unless_told_otherwise(den: Den) -> None:
    said = " ".join(den.cferry("backup", "prune", "--help").out.split())
    for name, usual in (("last", 5), ("daily", 14), ("weekly", 8), ("monthly", 12)):
        assert f"[default: {usual};" in said.partition(f"--keep-{name} ")[2][:200]
    assert Rules() == (5, 14, 8, 12)


def test_a_week_over_new_year_is_one() -> None:
    """29 December 2025 is the Monday of the week with 1 January 2026."""
    every = backups([0, 3, 4], datetime(2026, 1, 1, 12))
    weekly = Rules(last=0, daily=0, weekly=9, monthly=0)
    assert sorted(map(int, _stays(every, weekly, ()))) == [0, 4]


def test_a_tars_times_are_those_of_its_files(tmp_path: Path) -> None:
    with tarfile.open(tmp_path / "all.tar", "w") as made:
        info = tarfile.TarInfo("a")
        info.mtime = 1_700_000_000
        made.addfile(info)
    box = make_box(tagged(ArchiveSpec, "tar")(file="all.tar"), {})
    (entry,) = box.read(FolderFiles(tmp_path), lambda _: True).entries
    assert entry.stamp == 1_700_000_000 * 10**9


@pytest.mark.parametrize(("type_", "value"), [("hex", "ab" * 8), ("digits", "5" * 3)])
def test_an_identity_that_is_made_has_the_fields_own_letters(type_: str, value: str) -> None:
    field: Any = convert({"type": type_, "length": len(value)}, FieldSpec)
    made = field.made(lambda count: b"\xab" * count)
    assert len(made) == len(value)
    assert type_ == "digits" or made == value


def test_an_added_piece_goes_into_the_box_and_is_told(den: Den, tmp_path: Path) -> None:
    made = tmp_path / "made.xz"
    made.write_bytes(lzma.compress(b"the isle"))
    den.cferry("unbox", den.tern, "-o", tmp_path / "apart")
    den.cferry("box", tmp_path / "apart", "-o", tmp_path / "again")
    (tmp_path / "apart" / "pieces" / "new.level").write_bytes(b"new")
    told = den.cferry("box", tmp_path / "apart", "-o", tmp_path / "more", "--json").data
    assert (told["added"], told["same"]) == (["new.level"], False)
    den.cferry("unbox", tmp_path / "more", "-o", tmp_path / "apart2")
    assert (tmp_path / "apart2" / "pieces" / "new.level").read_bytes() == b"new"
    (tmp_path / "apart" / "pieces" / "new.level").unlink()
    told = den.cferry("box", tmp_path / "apart", "-o", tmp_path / "third", "--json").data
    assert (told["added"], told["same"]) == ([], True)


def test_the_same_is_said_only_of_bytes_that_were_compared(den: Den, tmp_path: Path) -> None:
    """Chunks that another effort has packed are packed anew, and that is said."""
    text = """
recipe = 1
game = { id = "bin", title = "Bins" }
pieces.world = { needed = true }
[layouts.chunk]
order = "big"
fields = [
  { type = "u32", name = "packed", computed = { what = "size", of = "inside" } },
]
[layers]
cut = [{ kind = "chunks", most = 1000, header = "chunk", layers = ["thin"] }]
thin = [{ kind = "zlib" }]
[editions.one]
title = "One"
berths = [{ on = "any", under = "given" }]
fields.slot = { type = "number" }
files = [{ role = "world", path = "{slot}.w", layers = ["cut"] }]
"""
    den.recipe("bin", text)
    for effort, same in ((6, True), (0, False)):
        body = zlib.compress(b"the isle" * 100, effort)
        (tmp_path / f"{effort}.w").write_bytes(len(body).to_bytes(4, "big") + body)
        apart, again = tmp_path / f"apart{effort}", tmp_path / f"again{effort}"
        den.cferry("unbox", tmp_path / f"{effort}.w", "--as", "bin:cut", "-o", apart)
        said = den.cferry("box", apart, "-o", again, "--json").data
        assert said["same"] is (again.read_bytes() == (tmp_path / f"{effort}.w").read_bytes())
        assert said["same"] is same
        words = den.cferry("box", apart, "-o", tmp_path / f"third{effort}").out
        assert ("the same as it was" in words) is same
        assert ("packed anew" in words) is not same


@pytest.mark.parametrize("field", ["size", "stamp"])
def test_an_edit_between_reading_and_carrying_is_seen(den: Den, field: str) -> None:
    """Also one that keeps size and time, where the system tells when a file changed."""
    ferry = den.ferry()
    plan = ferry.plan("saltglass/depot:3", "saltglass/tern:2")
    file = next(den.depot.glob("voyage-02-*")) / "world.sgw"
    data = file.stat()
    raw = bytearray(file.read_bytes())
    raw[-1] ^= 1
    file.write_bytes(bytes(raw) + (b"x" if field == "size" else b""))
    os.utime(file, ns=(data.st_atime_ns, data.st_mtime_ns))
    before = state(den.tern)
    with pytest.raises(FerryError, match="changed while"):
        ferry.carry_out(plan)
    assert state(den.tern) == before


def test_what_the_locker_had_begun_goes_at_the_next_start(den: Den) -> None:
    den.cferry("backup", "saltglass/depot")
    left = [
        den.home / "locker" / "objects" / ".new-0a0b",
        den.home / "locker" / "snapshots" / ".a.part",
    ]
    for path in left:
        path.write_bytes(b"half")
    den.cferry("log")
    assert not [path for path in left if path.exists()]


@pytest.mark.parametrize(("depth", "read"), [(3, True), (4, False)])
def test_how_deep_archives_may_lie_in_each_other(tmp_path: Path, depth: int, read: bool) -> None:
    (tmp_path / "all.zip").write_bytes(zips_within(depth))
    box = make_box(tagged(ArchiveSpec, "zip")(file="all.zip", nested=True), {})
    if read:
        (entry,) = box.read(FolderFiles(tmp_path), lambda _: True).entries
        assert whole(entry.payload) == b"x"
    else:
        with pytest.raises(DamagedError, match="nested more than"):
            box.read(FolderFiles(tmp_path), lambda _: True)


SAVES_NAMED = [("one", b"1" * 9, "x"), ("two", b"", "")]


def test_a_table_whose_rows_have_no_numbers(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with closing(sqlite3.connect(tmp_path / "all.db")) as book, book:
        book.execute("CREATE TABLE saves (name TEXT PRIMARY KEY, data BLOB) WITHOUT ROWID")
        book.executemany("INSERT INTO saves VALUES (?, ?)", [("one", b"1" * 9), ("two", b"")])
        book.execute("CREATE TABLE named (name TEXT, data BLOB, rowid TEXT)")  # no number of a row
        book.executemany("INSERT INTO named VALUES (?, ?, ?)", SAVES_NAMED)
    for table in ("saves", "named"):
        spec = tagged(TableSpec, "sqlite")(file="all.db", table=table, name="name", data="data")
        found = make_box(spec, {}).read(FolderFiles(tmp_path), lambda _: True).entries
        assert {one.name: whole(one.payload) for one in found} == {"one": b"1" * 9, "two": b""}
        with monkeypatch.context() as patch:
            patch.setattr("clever_ferry.boxes.tables._NO_NUMBER", 8)
            if table == "saves":
                with pytest.raises(DamagedError, match="too large"):
                    contents(make_box(spec, {}), tmp_path)
        change(make_box(spec, {}), tmp_path, {"two": b"22", "three": b"3"}, ["one"])
        assert contents(make_box(spec, {}), tmp_path) == {"two": b"22", "three": b"3"}


def test_a_check_by_sqlite_comes_to_an_end(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(databases, "_STEPS", 1)
    monkeypatch.setattr(databases, "_MOST_TURNS", 3)
    with closing(sqlite3.connect(tmp_path / "all.db")) as book, book:
        book.execute("CREATE TABLE saves AS SELECT 1 AS day")
    with pytest.raises(UnsupportedError, match="takes too long"):
        verify("sqlite", FolderFiles(tmp_path).payload("all.db"))


def test_an_empty_folder_stays_empty_until_all_is_there(tmp_path: Path) -> None:
    (tmp_path / "out").mkdir()
    with new_folder(tmp_path / "out") as part:
        (part / "piece").write_bytes(b"half")
        assert not list((tmp_path / "out").iterdir())
    assert [path.name for path in (tmp_path / "out").iterdir()] == ["piece"]


def test_every_place_that_is_staged_in_is_written_down_once(den: Den, tmp_path: Path) -> None:
    journal = Keeps(tmp_path).journal
    entry = Entry("20260101-000000-abcdef", "crossing 1", 1, "proved", "put back", "/a", "/a", 0)
    for place, stamp in (("/a", 1), ("/b", 2), ("/a", 3), ("/b", 4)):
        entry = journal.staging_at(entry, place, stamp)
    assert entry.stages == (("/a", 1), ("/b", 2))
    assert journal.read(entry.id) == entry


def test_a_folder_is_one_by_whatever_name(tmp_path: Path) -> None:
    """One that is not there is known by the nearest above it, which may have several names."""
    (tmp_path / "real").mkdir()
    link(tmp_path / "other", tmp_path / "real")
    data = (tmp_path / "real").stat()
    assert identity(tmp_path / "other") == f"{data.st_dev}:{data.st_ino}"
    assert identity(tmp_path / "other/a/b") == f"{data.st_dev}:{data.st_ino}/a/b"


def test_a_name_below_what_is_a_file_is_another_folders() -> None:
    assert safe_name("a/b/c", {"a"}) == "a~2/b/c"


def test_a_part_of_a_name_that_nothing_gives_is_left_out(den: Den, tmp_path: Path) -> None:
    den.recipe("bin", bins(here="{slot}.bin", there="{slot}<-{tag}>.bin").replace(
        '[editions.there]', '[editions.there]\nfields.tag = { type = "text" }'
    ))  # fmt: skip
    for name in ("here", "there"):
        (tmp_path / name).mkdir()
    (tmp_path / "here" / "1.bin").write_bytes(b"day 3")
    den.cferry(
        "cross", f"bin/here@{tmp_path / 'here'}:1", f"bin/there@{tmp_path / 'there'}:2", "--yes"
    )
    assert [path.name for path in (tmp_path / "there").iterdir()] == ["2.bin"]


def test_what_a_tidying_does_not_bring_to_the_front_is_put_back(den: Den) -> None:
    """The game writes one more generation, just as the one in front goes."""
    lay_moth_lantern(den.top)
    ferry = den.ferry()
    store = hidden(ferry)
    opened, found = ferry.hidden("moth-lantern/anniversary")
    folder = Path(opened.berth.root)

    def meddle(step: str, done: int, total: int | None) -> None:
        if step == "replacing":
            for path in folder.glob("lantern-1.3.*"):
                shutil.copy(path, path.with_name(path.name.replace("1.3", "1.4")))

    assert store
    with pytest.raises(NotProvenError, match="does not come to the front"):
        ferry.tidy(opened, found, meddle)
    assert len(list(folder.glob("lantern-1.3.*"))) == 2


STORIES = """
recipe = 1
game = { id = "tale", title = "Tales" }
[pieces.world]
needed = true
holds = "json"
[pieces.card]
each = "who"
[facts]
name = { label = "Name", from = "world", at = "/name" }
seed = { label = "Seed", from = "world", at = "/seed", story = "is" }
size = { label = "Size", from = "world", at = "/size", story = "stays" }
day = { label = "Day", from = "world", at = "/day", story = "grows" }
coins = { label = "Coins", from = "world", at = "/coins", story = "grows" }
[editions.one]
title = "One"
berths = [{ on = "any", under = "given" }]
fields.world = { type = "hex" }
fields.slot = { type = "number" }
fields.who = { type = "text" }
files = [
    { role = "world", path = "{slot}-{world}.json" },
    { role = "card", path = "{slot}-{world}/{who}" },
]
"""


@pytest.mark.parametrize(
    ("first", "second", "said"),
    [
        ({}, {}, "unsure"),
        ({"name": "OUR TOWN"}, {"seed": 5}, "unsure"),
        ({"name": "Theirs", "seed": 5}, {"seed": 5}, "other"),
        ({"seed": 5}, {"seed": 5}, "same"),
        ({"seed": 5}, {"seed": 6}, "other"),
        ({"size": 64}, {"size": 64}, "unsure"),
        ({"size": 64, "seed": 5}, {"size": 128, "seed": 5}, "other"),
        ({"size": 64, "who": ["Isa"]}, {"size": 64, "who": ["isa"]}, "same"),
        ({"size": 64, "who": ["Isa"]}, {"size": 64, "who": ["Wren"]}, "unsure"),
        ({"size": 64, "day": 3, "coins": 7}, {"size": 64, "day": 5, "coins": 9}, "same"),
        ({"size": 64, "day": 5, "coins": 7}, {"size": 64, "day": 5, "coins": 9}, "same"),
        ({"size": 64, "day": 3}, {"size": 64, "day": 5}, "unsure"),
        ({"size": 64, "who": ["Isa"], "day": 3, "coins": 9},
         {"size": 64, "who": ["Isa"], "day": 5, "coins": 7}, "unsure"),
        ({"who": ["Isa"], "day": 3, "coins": 7}, {"who": ["Isa"], "day": 3, "coins": 7}, "same"),
        ({"world": "0123456789ab"}, {"world": "0123456789ab"}, "same"),
        ({"world": "0123456789a"}, {"world": "0123456789a"}, "unsure"),
        ({"world": "0123456789ab", "seed": 5}, {"world": "0123456789ac", "seed": 5}, "same"),
    ],
)  # fmt: skip
def test_when_two_saves_are_of_one_story(
    tmp_path: Path, first: dict[str, Any], second: dict[str, Any], said: str
) -> None:
    """By name, what makes it out, what stays, what grows, who plays, and a long identifier."""
    (tmp_path / "tale.toml").write_text(STORIES, "utf-8")
    game = Recipes(tmp_path).game("tale")

    def save(own: dict[str, Any]) -> Save:
        nothing, said = BytesPayload(b""), {"name": "Our Town", **own}
        pieces = tuple(
            Piece("card", {"who": who}, nothing, 0, 0, who, ()) for who in said.pop("who", ())
        )
        fields = {"slot": 1, **({"world": said.pop("world")} if "world" in said else {})}
        facts = tuple(Fact(key, key, value) for key, value in said.items())
        return Save(1, fields, pieces, facts)

    for one, other in ((first, second), (second, first)):
        assert story_of(save(one), save(other), game) == said


def test_what_can_not_be_read_is_never_the_same(tmp_path: Path) -> None:
    (tmp_path / "tale.toml").write_text(STORIES, "utf-8")
    game = Recipes(tmp_path).game("tale")

    def cut() -> Iterator[bytes]:
        raise DamagedError("It is cut.")
        yield b""

    def save(payload: Payload) -> Save:
        facts = tuple(Fact(key, key, value) for key, value in (("name", "Our Town"), ("seed", 5)))
        return Save(1, {}, (Piece("world", {}, payload, 0, 0, "1", ()),), facts)

    day, same, other = (save(BytesPayload(raw)) for raw in (b"31", b"31", b"32"))
    broken = save(StreamPayload(cut))
    for second, said in ((same, "the same"), (other, "different"), (broken, "unsure")):
        for ways in (((day,), (second,)), ((second,), (day,))):
            assert [one.relation for one in relate(*ways, game)] == [said]
