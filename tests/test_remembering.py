"""Remembered berths: what was read is shown again only where nothing at all has changed."""

from __future__ import annotations

import json
import os
import shutil
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from clever_ferry.api import open_ferry
from clever_ferry.cargo import Piece, Save
from clever_ferry.finding.berths import Berth, OpenBerth, open_berth
from clever_ferry.finding.remembering import open_remembered
from clever_ferry.keeping.readings import Readings
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.system import changed
from clever_ferry.payload import BytesPayload
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from tests.conftest import Den

RECIPES = b"as they are"


def later() -> int:
    """Tell a time at which all files have long been as they are."""
    return time.time_ns() + 3600 * 10**9


def shown(opened: OpenBerth) -> object:
    """Return what a listing says, without bytes and headers, which are not remembered."""
    plain = BytesPayload(b"")

    def bare(pieces: tuple[Piece, ...]) -> tuple[Piece, ...]:
        return tuple(replace(one, payload=plain, wrapped=None, headers={}) for one in pieces)

    def told(saves: tuple[Save, ...]) -> tuple[Save, ...]:
        return tuple(replace(one, pieces=bare(one.pieces)) for one in saves)

    listing = opened.listing
    return replace(
        listing, saves=told(listing.saves), behind=told(listing.behind),
        shared=bare(listing.shared),
    )  # fmt: skip


class Reader:
    """Opens one berth again and again, and counts how often it was really read."""

    def __init__(self, berth: Berth, folder: Path) -> None:
        self.berth, self.readings, self.recipes = berth, Readings(folder), RECIPES
        self.clock: Callable[[], int] = later

    def read(self) -> OpenBerth:
        return open_remembered(
            self.berth, self.readings, self.recipes, clock=self.clock, worth=0
        )  # fmt: skip

    def is_remembered(self) -> bool:
        """Open it, check that the listing is right, and tell whether it came from memory."""
        opened = self.read()
        assert shown(opened) == shown(open_berth(self.berth, lenient=True))
        return not opened.contents.entries


@pytest.fixture
def reader(den: Den, tmp_path: Path) -> Reader:
    berth = open_ferry(den.top).look("saltglass").sights[0].berth
    assert berth.edition.id == "depot"
    one = Reader(berth, tmp_path / "readings")
    assert not one.is_remembered()
    assert one.is_remembered()
    return one


def test_every_berth_is_shown_as_it_was_read(den: Den, tmp_path: Path) -> None:
    lay_moth_lantern(den.top)
    lay_orrery_yard(den.top, "wren", demo_yards())
    sights = open_ferry(den.top).look().sights
    kinds = {type(sight.berth.edition.box).__name__ for sight in sights}
    assert "FolderBox" in kinds
    assert len(kinds) > 1
    assert len(sights) >= 6
    for sight in sights:
        one = Reader(sight.berth, tmp_path / "readings")
        assert not one.is_remembered(), sight.berth.address
        assert one.is_remembered(), sight.berth.address


def test_the_bytes_of_a_remembered_piece_are_not_to_be_had(reader: Reader) -> None:
    piece = reader.read().listing.saves[0].pieces[0]
    with pytest.raises(RuntimeError, match="remembered"):
        list(piece.payload.chunks())


def rewrite_in_place(meta: Path) -> None:
    """Change a day, but neither the file's size nor its time."""
    data = meta.stat()
    text = meta.read_bytes()
    day = json.loads(text)["clock"]["day"]
    meta.write_bytes(text.replace(b'"day": %d' % day, b'"day": %d' % (day + 1)))
    os.utime(meta, ns=(data.st_atime_ns, data.st_mtime_ns))
    now = meta.stat()
    assert (now.st_size, now.st_mtime_ns) == (data.st_size, data.st_mtime_ns)
    assert meta.read_bytes() != text


def put_back_as_a_copy(meta: Path) -> None:
    copy = meta.with_name("x")
    shutil.copy2(meta, copy)
    copy.replace(meta)


CHANGES: dict[str, Callable[[Path], object]] = {
    "in place, with size and time kept": rewrite_in_place,
    "longer": lambda meta: meta.write_text(meta.read_text("utf-8") + "\n", "utf-8"),
    "broken": lambda meta: meta.write_text("{", "utf-8"),
    "gone": lambda meta: meta.unlink(),
    "another save": lambda meta: shutil.copytree(
        meta.parent, meta.parent.with_name(f"voyage-06-{'9' * 16}")
    ),
    "a save less": lambda meta: shutil.rmtree(meta.parent),
    "renamed": lambda meta: meta.parent.rename(meta.parent.with_name(f"voyage-07-{'8' * 16}")),
    "put back as a copy": put_back_as_a_copy,
    "the file of all saves": lambda meta: (meta.parents[1] / "options.ini").write_text("[a]\n"),
}  # fmt: skip


@pytest.mark.parametrize("change", CHANGES)
def test_any_change_is_read(reader: Reader, change: str) -> None:
    meta = sorted(Path(reader.berth.root).glob("voyage-*/meta.json"))[0]
    CHANGES[change](meta)
    assert not reader.is_remembered()
    assert reader.is_remembered()


def test_what_else_decides_a_listing(reader: Reader, tmp_path: Path) -> None:
    reader.recipes = b"another text"
    assert not reader.is_remembered()
    assert reader.is_remembered()
    reader.berth = replace(reader.berth, fields={"account": "100200301"})
    assert not reader.is_remembered()
    root = Path(reader.berth.root)
    moved = root.rename(root.with_name("100200301"))
    reader.berth = replace(reader.berth, root=moved, files=FolderFiles(moved))
    assert not reader.is_remembered()


def test_what_has_just_changed_is_not_remembered(reader: Reader) -> None:
    meta = next(Path(reader.berth.root).glob("voyage-*/meta.json"))
    rewrite_in_place(meta)
    reader.clock = lambda: changed(meta.stat(), meta) + 3 * 10**9
    assert not reader.is_remembered()
    assert not reader.is_remembered()
    reader.clock = lambda: changed(meta.stat(), meta) + 5 * 10**9
    assert not reader.is_remembered()
    assert reader.is_remembered()


@given(st.data())
def test_what_is_damaged_is_no_memory(data: st.DataObject) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        readings = Readings(Path(folder))
        value = {"saves": [1, "Gull Rock", None], "more": data.draw(st.binary(max_size=50))}
        readings.keep("it", b"s" * 32, value)
        assert readings.get("it", b"s" * 32) == value
        assert readings.get("it", b"t" * 32) is None
        assert readings.get("other", b"s" * 32) is None
        file = Path(folder) / "it"
        raw = bytearray(file.read_bytes())
        at = data.draw(st.integers(0, len(raw) - 1))
        raw[at] ^= data.draw(st.integers(1, 255))
        file.write_bytes(raw if data.draw(st.booleans()) else raw[:at])
        assert readings.get("it", b"s" * 32) is None


def test_nowhere_to_remember_is_no_loss(reader: Reader, tmp_path: Path) -> None:
    (tmp_path / "taken").write_text("no folder")
    reader.readings = Readings(tmp_path / "taken")
    assert not reader.is_remembered()
    assert not reader.is_remembered()


@pytest.mark.skipif(os.name == "nt", reason="such names are of Linux and macOS")
def test_names_that_are_no_text_are_read_each_time(reader: Reader) -> None:
    strange = os.fsdecode(b"voyage-\xff.bak")
    (Path(reader.berth.root) / strange).write_bytes(b"")
    assert not reader.is_remembered()
    assert not reader.is_remembered()


def test_the_program_shows_a_large_berth_as_it_is(den: Den) -> None:
    like = next(den.depot.glob("voyage-*"))
    for slot in range(10, 100):
        for copy in range(6):  # of which five are in each other's way, which is told of each
            shutil.copytree(like, den.depot / f"voyage-{slot:02}-{slot * 10 + copy:016x}")
    long_ago = time.time_ns() - 10**12
    for path in den.depot.rglob("*"):
        os.utime(path, ns=(long_ago, long_ago))
    time.sleep(4.5)
    first = den.cferry("slots", "saltglass/depot", "--json").out
    assert list((den.home / "readings").iterdir())
    assert den.cferry("slots", "saltglass/depot", "--json").out == first
    rewrite_in_place(next(den.depot.glob("voyage-0*/meta.json")))
    again = den.cferry("slots", "saltglass/depot", "--json").out
    assert again != first
    # What is compared and checked is read, whatever is remembered.
    assert den.cferry("slots", "saltglass/depot:1", "saltglass/tern:1").out
    assert den.cferry("check", "saltglass/depot:1").out
