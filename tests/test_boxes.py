"""Tern's crate against the demo's own reader and writer, for any entries and any changes."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Mapping
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from clever_ferry.boxes import Contents, Making, Put
from clever_ferry.errors import DamagedError
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.replacing import Replacement
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.recipes import Recipes
from clever_ferry_demo.saltglass.pieces import RefusalError
from clever_ferry_demo.saltglass.tern import Crate, Record

BOX = Recipes(None).box("tern-crate")[1]
NAMES = st.sampled_from([f"isle{n}.{kind}" for n in (1, 2, 3) for kind in ("level", "about")])
DATA = st.one_of(
    st.binary(max_size=200),
    st.integers(32_760, 32_780).map(lambda size: b"\x5a" * size),
    st.just(bytes(70_000)),
)
ENTRIES = st.dictionaries(NAMES, DATA, max_size=6)
OWNER = bytes.fromhex("5a17c0ffee42")


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    return crate_in(
        tmp_path, {"isle1.level": bytes(70_000), "isle1.about": b"{}", "settings": b"x"}
    )


def crate_in(folder: Path, entries: Mapping[str, bytes]) -> Path:
    crate = Crate(OWNER, revision=6, flags=5)
    for number, (name, data) in enumerate(entries.items()):
        crate.records.append(
            Record(bytes([number] * 10), 1_700_000_000_000 + number, name, data, b"\x07" * number)
        )
    crate.write(folder, 1_800_000_000_000)
    return folder


def read(folder: Path) -> Contents:
    return BOX.read(FolderFiles(folder), lambda _: True)


def contents(folder: Path) -> dict[str, bytes]:
    return {
        entry.name: read_all(entry.payload, limit=1 << 20, what=entry.name)
        for entry in read(folder).entries
    }


def change(folder: Path, puts: Mapping[str, bytes], removes: list[str]) -> None:
    """Have the box write, and put its outputs into the folder as a crossing does."""
    items = [Put(name, BytesPayload(data), 1_750_000_000 * 10**9) for name, data in puts.items()]
    making = Making(1_900_000_000 * 10**9, os.urandom)
    with Replacement(FolderFiles(folder), "test") as replacement:
        for output in BOX.write(read(folder), items, removes, making):
            replacement.stage(output)
        replacement.commit()


@settings(max_examples=25)
@given(before=ENTRIES, puts=ENTRIES, gone=st.sets(NAMES))
def test_any_change_is_read_by_the_games_own_reader(
    before: dict[str, bytes], puts: dict[str, bytes], gone: set[str]
) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = crate_in(Path(name), before)
        old = {record.name: record for record in Crate.read(folder).records}
        assert contents(folder) == before
        removes = [one for one in gone if one not in puts]
        change(folder, puts, removes)
        right = {k: v for k, v in {**before, **puts}.items() if k not in removes}
        after = Crate.read(folder)  # strict: refuses strays, wrong sizes, sums and stamps
        assert {record.name: record.data for record in after.records} == right
        assert (after.owner, after.revision, after.flags) == (OWNER, 8, 5)
        for record in after.records:
            if record.name in old:
                was = old[record.name]
                assert (record.ident, record.tail) == (was.ident, was.tail)
                assert (record.stamp == was.stamp) == (record.name not in puts)
        assert contents(folder) == right


@given(cut=st.integers(0, 60), flip=st.integers(0, 400))
def test_a_damaged_ledger_is_refused(cut: int, flip: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = crate_in(Path(name), {"isle1.level": b"abc", "isle1.about": b"{}"})
        ledger = folder / "hold.ledger"
        raw = bytearray(ledger.read_bytes())
        if cut:
            del raw[-cut:]
        else:
            raw[flip % len(raw)] ^= 1 + flip % 255
        ledger.write_bytes(raw)
        with pytest.raises(DamagedError, match="damaged"):
            read(folder)
        with pytest.raises(RefusalError):
            Crate.read(folder)


def blob(folder: Path, number: int) -> Path:
    return sorted((folder / "stow").iterdir())[number]


def test_a_missing_or_short_blob_shows_without_reading(folder: Path, tmp_path: Path) -> None:
    blob(folder, 1).unlink()
    blob(folder, 2).write_bytes(b"short")
    problems = [entry.problem for entry in read(folder).entries]
    assert "is missing" in problems[0]
    whole = crate_in(tmp_path / "other", {"isle1.level": bytes(70_000)})
    blob(whole, 2).write_bytes(b"short")
    assert "has 5 bytes, but the index says 4,464" in read(whole).entries[0].problem


def test_a_changed_blob_shows_when_it_is_read(folder: Path) -> None:
    path = blob(folder, 1)
    path.write_bytes(b"\x01" + path.read_bytes()[1:])
    with pytest.raises(DamagedError, match="crc32"):
        contents(folder)


def test_an_index_that_names_an_entry_twice(tmp_path: Path) -> None:
    crate = Crate(OWNER)
    crate.records = [Record(bytes([n] * 10), 1, "settings", b"x") for n in (1, 2)]
    crate.write(tmp_path, 2)
    with pytest.raises(DamagedError, match="two entries 'settings'"):
        read(tmp_path)


def test_a_missing_index(tmp_path: Path) -> None:
    with pytest.raises(DamagedError, match=r"hold\.ledger is missing"):
        read(tmp_path)
