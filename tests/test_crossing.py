"""Crossings through the built program, judged by the stand-in game."""

from __future__ import annotations

import pytest

from clever_ferry.crossing import changing
from tests.conftest import Den, state


def test_tern_to_depot_and_back_loads_and_plays_on(den: Den) -> None:
    before = den.loads("tern", 2)
    done = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes")
    assert "Read back and the same" in done.out
    assert "Load slot 5 and look" in done.out
    assert den.loads("depot", 5) == before
    assert den.game("depot", "play", "--slot", "5", "--days", "3").code == 0
    played = den.loads("depot", 5)
    assert "day 34" in played
    den.cferry("cross", "saltglass/depot:5", "saltglass/tern:2", "--yes", "--replace")
    assert den.loads("tern", 2) == played
    assert den.game("tern", "play", "--slot", "2").code == 0
    assert "can't be loaded" not in den.game("tern", "list").out  # index, blobs, sizes and strays


def test_what_is_replaced_is_kept_while_much_is_read(
    den: Den, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = state(den.tern)
    monkeypatch.setattr(changing, "_WORTH_A_THREAD", 0)
    ferry = den.ferry()
    ferry.carry_out(ferry.plan("saltglass/depot:3", "saltglass/tern:2"))
    assert den.loads("tern", 2) == den.loads("depot", 3)
    den.cferry("undo", "--yes")
    assert state(den.tern) == before


def test_entries_not_concerned_stay_byte_for_byte(den: Den) -> None:
    from clever_ferry_demo.saltglass.tern import Crate

    before, files = Crate.read(den.tern), state(den.tern / "stow")
    den.cferry("cross", "saltglass/depot:3", "saltglass/tern:1", "--yes", "--replace")
    after = Crate.read(den.tern)
    kept = {r.name: r for r in before.records if not r.name.startswith("isle1.")}
    assert {r.name: r for r in after.records if r.name in kept} == kept
    idents = {record.ident.hex() for record in kept.values()}
    now = state(den.tern / "stow")
    for path, was in files.items():
        if path[:20] in idents:
            assert now[path] == was
    assert den.loads("tern", 1).endswith("with Wren")  # the other traveller there is gone
    assert (after.revision, after.owner, after.flags) == (before.revision + 1, before.owner, 0)


def test_a_replaced_world_gives_its_identity(den: Den) -> None:
    name = next(path.name for path in den.depot.iterdir() if path.name.startswith("voyage-00"))
    done = den.cferry(
        "cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", "--replace", "--json"
    )
    move = done.data["plan"]["moves"][0]
    assert move["changed_fields"] == [{"field": "world", "value": name[-16:], "how": "adopted"}]
    assert (den.depot / name).is_dir()
    assert "day 31" in den.loads("depot", 1)


def test_a_given_identity_is_used(den: Den) -> None:
    ident = "00112233445566ff"
    den.cferry(
        "cross", "saltglass/tern:2", "saltglass/depot:4", "--yes", "--give", f"world={ident}"
    )
    assert (den.depot / f"voyage-03-{ident}").is_dir()
    den.loads("depot", 4)
    bad = den.cferry(
        "cross", "saltglass/tern:2", "saltglass/depot:6", "--give", "world=xyz", code=2
    )
    assert "16 hexadecimal digits" in bad.err


def test_several_slots_by_list_range_and_name(den: Den) -> None:
    before = state(den.tern)
    den.cferry("cross", "saltglass/tern:1,2", "saltglass/depot:7,8", "--yes")
    assert state(den.tern) == before
    first, second = (next(den.depot.glob(f"voyage-0{n}-*/meta.json")) for n in (6, 7))
    assert first.stat().st_mtime_ns < second.stat().st_mtime_ns
    assert den.loads("depot", 7).startswith("Heron Point, day 20")
    assert den.loads("depot", 8).startswith("Saltmarsh, day 31")
    den.cferry("cross", "saltglass/depot:7-8", "saltglass/tern:5-6", "--yes")
    assert den.loads("tern", 6).startswith("Saltmarsh, day 31")
    den.cferry("cross", "saltglass/tern:1,2", "saltglass/tern:2,1", "--yes", "--replace")
    assert den.loads("tern", 1).startswith("Saltmarsh")
    assert den.loads("tern", 2).startswith("Heron Point")
    den.cferry("cross", "saltglass/tern:heron point", "saltglass/depot:2", "--yes", code=2)
    den.cferry("cross", "saltglass/depot:heron point", "saltglass/tern:9", "--yes", code=2)


def test_a_save_by_its_name(den: Den) -> None:
    den.cferry("cross", "saltglass/tern:SALTMARSH", "saltglass/depot:2", "--yes")
    assert den.loads("depot", 2).startswith("Saltmarsh, day 31")
    den.cferry(
        "cross", "saltglass/tern:Saltmarsh", "saltglass/depot:Heron Point", "--yes", "--replace"
    )
    assert den.loads("depot", 3).startswith("Saltmarsh, day 31")
    told = den.cferry("check", "saltglass/depot:Saltmarsh", code=2).err
    route = ("cross", "saltglass/depot:3", "saltglass/tern:Saltmars", "--dry-run")
    assert "Did you mean Saltmarsh?" in den.cferry(*route, code=2).err
    assert "  1  Saltmarsh  (Day 12, Played 4 h 21 min, " in told
    assert "Say which one by its slot's number.\n" in told, "its name is that of others"


def test_all_saves_where_none_is_chosen(den: Den) -> None:
    """Each goes onto its own story where that is behind, else to a free slot."""
    den.cferry("cross", "saltglass/depot", "saltglass/tern", "--yes")
    assert den.loads("tern", 1).startswith("Heron Point, day 20")
    assert den.loads("tern", 2).startswith("Saltmarsh, day 31")
    assert den.loads("tern", 3).startswith("Heron Point, day 57")
    assert den.loads("tern", 4).startswith("Saltmarsh, day 12")  # behind: no reason to replace
    again = den.cferry("cross", "saltglass/depot", "saltglass/tern", "--yes", code=3)
    assert "the same progress already" in again.err
    back = ("cross", "saltglass/tern:1-3", "saltglass/depot", "--yes")
    refused = den.cferry(*back, code=4).err
    assert "Saltmarsh" in refused
    assert "Then: cferry cross saltglass/tern:1-3 saltglass/depot --yes --replace" in refused
    told = den.cferry(*back, "--replace").out
    assert "Stays: Heron Point" in told
    assert "Load slot 4 and look" in told
    assert "Load slot 1 and look" in told, "steps are for each save that was carried"
    assert den.loads("depot", 1).startswith("Saltmarsh, day 31")
    assert den.loads("depot", 4).startswith("Heron Point, day 20")
    assert den.loads("depot", 3).startswith("Heron Point, day 57")


def test_a_free_slot_is_named_free(den: Den) -> None:
    dry = den.cferry("cross", "saltglass/tern", "saltglass/depot:free", "--dry-run").out
    assert "To carry it out: cferry cross saltglass/tern saltglass/depot:free --yes\n" in dry
    den.cferry("cross", "saltglass/tern", "saltglass/depot:free", "--yes")
    assert den.loads("depot", 2).startswith("Heron Point, day 20")
    assert den.loads("depot", 4).startswith("Saltmarsh, day 31")
    for _ in range(4):
        den.cferry("cross", "saltglass/tern:2", "saltglass/depot:free", "--yes")
    full = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:free", "--yes", code=4).err
    assert "Free slots: none." in full
    assert "Could be replaced" in full


def test_the_plan_is_shown_and_nothing_changes_without_a_word(den: Den) -> None:
    before = state(den.top)
    done = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:1", "--dry-run")
    for said in ("Saltmarsh", "Day 31", "Day 12", "adopted",
                 "Will be backed up first", "isle2.level", "world.sgw", "Left alone"):  # fmt: skip
        assert said in done.out
    done = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:1", "--yes", code=4)
    assert "--replace" in done.err
    assert "Saltmarsh" in done.err
    assert "--yes" in den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", code=2).err
    done = den.cferry("cross", "saltglass/depot:1", "saltglass/tern:1", "--dry-run")
    assert "another save than Saltmarsh" in done.out
    assert "newer than what you carry" in done.out
    assert state(den.top) == before
    data = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:1", "--dry-run", "--json").data
    assert data["carried"] is False
    assert data["plan"]["moves"][0]["replaces"]["facts"]["day"] == 12


def test_the_log_and_its_json_agree(den: Den) -> None:
    assert "Nothing was carried yet" in den.cferry("log").out
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes")
    shown = den.cferry("log").out
    assert "saltglass/tern:2" in shown
    assert "read back" in shown
    record = den.cferry("log", "--json").data[0]
    assert (record["number"], record["state"]) == (1, "read back")
    assert record["moves"][0]["save"]["facts"]["Day"] == "31"
    den.cferry("undo", "--yes")
    assert den.cferry("log", "--json").data[0]["state"] == "undone"
