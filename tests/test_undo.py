"""Undo, failed proofs and killed crossings: the target is as it was, to the byte."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

from clever_ferry.api import Ferry
from clever_ferry.errors import NotProvenError, PutBackError
from clever_ferry.keeping.keeps import Keeps
from tests.conftest import Den, bins, link, state

ROUTES = [
    ("saltglass/tern:2", "saltglass/depot:5"),
    ("saltglass/tern:2", "saltglass/depot:1"),
    ("saltglass/tern", "saltglass/depot"),
    ("saltglass/depot:3", "saltglass/tern:2"),
    ("saltglass/depot:3", "saltglass/tern:9"),
    ("saltglass/depot", "saltglass/tern"),
]


@pytest.mark.parametrize(("source", "target"), ROUTES)
def test_undo_brings_back_bytes_names_and_stamps(den: Den, source: str, target: str) -> None:
    before = state(den.top)
    den.cferry("cross", source, target, "--yes", "--replace")
    assert state(den.top) != before
    den.cferry("undo", "--yes")
    assert state(den.top) == before
    assert "no crossing to undo" in den.cferry("undo", "--yes", code=3).err


def test_folders_that_were_made_for_it_go_again_and_no_more(den: Den, tmp_path: Path) -> None:
    for name in ("near", "far"):
        (tmp_path / name).mkdir()
    (tmp_path / "near" / "1.w").write_bytes(b"one")
    before = state(tmp_path / "far")
    den.recipe("bin", bins(near="{slot}.w", far="own/deep/saves > in/{slot}.w"))
    den.cferry("cross", f"bin/near@{tmp_path / 'near'}:1", f"bin/far@{tmp_path / 'far'}:4", "--yes")
    assert (tmp_path / "far/own/deep/saves/in/4.w").read_bytes() == b"one"
    den.cferry("undo", "--yes")
    assert state(tmp_path / "far") == before


def test_crossings_over_the_same_files_are_undone_last_first(den: Den) -> None:
    before = state(den.depot)
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")
    between = state(den.depot)
    den.cferry("cross", "saltglass/tern:1", "saltglass/depot:1", "--yes", "--replace")
    assert "Undo the later one first" in den.cferry("undo", "1", "--yes", code=4).err
    later = state(den.top)
    assert "comes back" in den.cferry("undo", "--dry-run").out
    assert state(den.top) == later
    den.cferry("undo", "2", "--yes")
    assert state(den.depot) == between
    den.cferry("undo", "1", "--yes")
    assert state(den.depot) == before
    den.cferry("undo", "1", "--yes", code=4)
    den.cferry("undo", "9", "--yes", code=2)


@pytest.mark.parametrize(("source", "target"), ROUTES)
def test_a_failed_proof_puts_the_target_back(den: Den, source: str, target: str) -> None:
    """Between writing and reading back, something (a cloud sync, say) writes its own bytes."""
    before = state(den.top)
    ferry = den.ferry()
    plan = ferry.plan(source, target)
    root = Path(plan.target.berth.root)
    known = {path.read_bytes() for path in root.rglob("*") if path.is_file()}

    def meddle(step: str, done: int, total: int | None) -> None:
        if step == "proving" and done == 0:
            every = (p for p in root.rglob("*") if p.suffix in (".sgw", ".tern"))
            newest = next(p for p in every if p.read_bytes() not in known)
            data = bytearray(newest.read_bytes())
            data[-1] ^= 1
            newest.write_bytes(data)

    with pytest.raises(NotProvenError) as caught:
        ferry.carry_out(plan, meddle)
    assert caught.value.details
    assert state(den.top) == before
    assert ferry.log()[0].state == "put back"


def test_a_save_that_appears_while_proving_is_noticed(den: Den) -> None:
    ferry = den.ferry()
    plan = ferry.plan("saltglass/tern:2", "saltglass/depot:5")
    other = next(den.depot.glob("voyage-02-*/meta.json"))

    def meddle(step: str, done: int, total: int | None) -> None:
        if step == "proving":
            other.write_bytes(other.read_bytes() + b" ")

    with pytest.raises(NotProvenError, match="put back"):
        ferry.carry_out(plan, meddle)
    (record,) = ferry.log()
    assert (record.state, record.details.reason) == (
        "put back", "the target does not read back as it should",
    )  # fmt: skip


def test_while_one_writes_another_waits_outside(den: Den) -> None:
    ferry = den.ferry()
    plan = ferry.plan("saltglass/tern:2", "saltglass/depot:5")
    seen: list[str] = []

    def during(step: str, done: int, total: int | None) -> None:
        if step == "replacing":
            other = den.cferry("cross", "saltglass/tern:1", "saltglass/depot:6", "--yes", code=4)
            seen.append(other.err)
            assert den.cferry("look").err == ""  # and does not take it for a killed one

    ferry.carry_out(plan, during)
    assert "carrying saltglass/tern to saltglass/depot" in seen[0]
    assert den.loads("depot", 5).startswith("Saltmarsh")


def test_a_damaged_backup_is_never_put_back_silently(den: Den) -> None:
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace")
    largest = max((den.home / "locker" / "objects").rglob("*"), key=lambda p: p.stat().st_size)
    data = bytearray(largest.read_bytes())
    data[len(data) // 2] ^= 0x40
    largest.write_bytes(data)
    now = state(den.depot)
    done = den.cferry("undo", "--yes", code=5)
    assert "damaged" in done.err
    assert state(den.depot) == now


def test_a_link_in_the_target_is_not_written_through(den: Den, tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    world = next(den.depot.glob("voyage-00-*"))
    people = world / "people"
    for file in people.iterdir():
        file.unlink()
    people.rmdir()
    link(people, outside)
    done = den.cferry(
        "cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace", code=4
    )
    assert "link" in done.err
    assert not any(outside.iterdir())


@pytest.mark.skipif(not hasattr(os, "seteuid"), reason="this system has no users of that kind")
def test_a_folder_that_cant_be_written(den: Den) -> None:
    """Run as an ordinary user, as root may write anywhere."""
    ferry = den.ferry()
    # Another crossing first, so that all code is loaded: that user may not be let to read it.
    other = Ferry(ferry.computer, ferry.recipes, Keeps(den.home.with_name("other")))
    other.carry_out(other.plan("saltglass/tern:1", "saltglass/depot:4"))
    plan = ferry.plan("saltglass/tern:2", "saltglass/depot:5")
    den.home.mkdir(exist_ok=True)
    den.home.chmod(0o777)
    for path in den.home.parents:
        if os.geteuid() == 0 and path.name.startswith(("test_", "popen-", "pytest-")):
            path.chmod(0o755)
    den.depot.chmod(0o555)
    before = state(den.depot)
    root = os.geteuid() == 0
    if root:
        os.seteuid(65534)
    try:
        with pytest.raises(PutBackError, match="permission denied"):
            ferry.carry_out(plan)
    finally:
        if root:
            os.seteuid(0)
    assert state(den.depot) == before


def test_a_folder_that_is_named_from_where_one_works(
    den: Den, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What the records say of it holds wherever one works later."""
    shutil.copytree(den.depot, tmp_path / "old" / "100200300")
    before, there = state(tmp_path / "old"), "saltglass/depot@old/100200300"
    monkeypatch.chdir(tmp_path)
    den.cferry("backup", there)
    den.cferry("cross", "saltglass/tern:2", f"{there}:1", "--yes", "--replace")
    den.cferry("harbour", "add", "mine", "old")
    assert state(tmp_path / "old") != before
    monkeypatch.chdir(tmp_path / "world")
    assert "can't be read" not in den.cferry("backup", "list").out
    assert den.cferry("slots", "saltglass/depot@mine", "--json").data[0]["saves"]
    den.cferry("undo", "--yes")
    assert state(tmp_path / "old") == before
    den.cferry("restore", "latest", "--yes", "--replace", code=3)
