"""`cferry slots`: sorted as players sort, throwaways marked, two places compared."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest
from msgspec.structs import replace

from clever_ferry.cargo import Fact, Piece, Save
from clever_ferry.cli.screen import escape
from clever_ferry.payload import BytesPayload
from clever_ferry.proving.relating import relate
from clever_ferry.recipes import Recipes
from clever_ferry.visible import visible
from tests.conftest import Den


def order(den: Den, *options: str) -> list[int]:
    data = den.cferry("slots", "saltglass/depot", "--json", *options).data
    return [save["slot"] for save in data[0]["saves"]]


def test_the_newest_comes_first_or_what_is_asked_for(den: Den) -> None:
    den.game("depot", "new", "--slot", "7", "--name", "Aspen")
    assert order(den) == [7, 3, 1]
    shown = den.cferry("slots", "saltglass/depot").out
    assert shown.count("a throwaway") == 1
    assert "cross saltglass/depot:3" in shown  # which is no throwaway
    assert order(den, "--sort", "slot") == [1, 3, 7]
    assert order(den, "--sort", "name") == [7, 3, 1]
    assert order(den, "--sort", "size")[-1] == 7
    assert "newest" in den.cferry("slots", "saltglass", "--sort", "day", code=2).err


def test_two_places_say_which_side_is_ahead(den: Den) -> None:
    den.cferry("cross", "saltglass/tern:1", "saltglass/depot:5", "--yes")
    den.game("depot", "play", "--slot", "1", "--days", "2")
    data = den.cferry("slots", "saltglass/tern", "saltglass/depot", "--json").data["compared"]
    # Both have a Heron Point of their own: another seed, another world.
    told = {(one["first"], one["second"]): one["first_is"] for one in data}
    assert told == {(1, 5): "the same", (2, 1): "newer", (None, 3): None}
    shown = den.cferry("slots", "saltglass/depot", "saltglass/tern").out
    assert "is ahead" in shown
    assert "the same progress" in shown
    assert "another one of that name" in shown
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:8", "--yes")
    data = den.cferry("slots", "saltglass/tern", "saltglass/depot", "--json").data["compared"]
    near = {one["second"]: (one["near"], one["is_to_near"]) for one in data if not one["first"]}
    assert near == {1: (2, "older"), 3: (None, None)}
    shown = den.cferry("slots", "saltglass/tern", "saltglass/depot").out
    assert "slot 2 is ahead of it" in shown
    den.cferry("slots", "saltglass", "saltglass/tern", code=2)
    den.cferry("slots", "saltglass/tern", "saltglass/depot", "saltglass/tern", code=2)


def test_the_way_that_is_named_goes_from_the_side_that_is_ahead(den: Den) -> None:
    for command in ("slots", "pairs"):
        for places in ("saltglass/tern", "saltglass/depot"), ("saltglass/depot", "saltglass/tern"):
            told = den.cferry(command, *places).out.splitlines()
            assert told[-2] == "Saltmarsh is ahead in Tern Arcade (account 5a17c0ffee42)."
            route = ("saltglass/tern:2", "saltglass/depot:1")
            assert told[-1] == f"To carry it over: cferry cross {' '.join(route)} --dry-run"
    den.cferry("cross", *route, "--yes", "--replace")
    told = den.cferry("pairs", "saltglass/tern:2", "saltglass/depot:1").out.splitlines()
    assert told[-1] == "Both sides have the same progress: nothing needs to be carried."


GAME = Recipes(Path("nowhere")).game("saltglass")


def save(
    slot: int, played: float, data: bytes, stamp: int = 0, name: str = "Town", **more: int
) -> Save:
    piece = Piece("world", {}, BytesPayload(data), len(data), stamp, "w", ("w",))
    facts = (Fact("name", "Name", name), Fact("time", "Played", played, "s"))
    more = {"seed": 7, **more}
    own = tuple(Fact(key, key, value) for key, value in more.items())
    return Save(slot, {"slot": slot}, (piece,), facts + own)


@pytest.mark.parametrize(
    ("first", "second", "told"),
    [
        (save(1, 900, b"x"), save(2, 900, b"x"), "the same"),
        (save(1, 900, b"x"), save(2, 900, b"y"), "different"),
        (save(1, 901, b"x"), save(2, 900, b"x"), "newer"),
        (save(1, 899, b"x", 9), save(2, 900, b"x"), "older"),
    ],
)
def test_relations(first: Save, second: Save, told: str) -> None:
    (one,) = relate([first], [second], GAME)
    assert one.relation == told
    back = relate([second], [first], GAME)[0].relation
    assert back == {"newer": "older", "older": "newer"}.get(told, told)


def test_where_facts_differ_but_play_time_does_not_the_date_tells() -> None:
    one, other = save(1, 900, b"x", 5, coins=3), save(2, 900, b"y", 9, coins=4)
    assert relate([one], [other], GAME)[0].relation == "older"
    cut = replace(other, pieces=(replace(other.pieces[0], problem="it is cut"),))
    assert relate([one], [cut], GAME)[0].relation == "older"  # its bytes are not asked


def test_of_several_of_one_name_the_same_and_then_the_nearest_are_paired() -> None:
    left = [save(1, 100, b"a"), save(2, 500, b"b"), save(3, 10, b"c", name="Other")]
    right = [save(4, 520, b"d"), save(5, 100, b"a"), save(6, 9000, b"e"), save(7, 10, b"f")]
    pairs = {
        (one.first.slot if one.first else 0, one.second.slot if one.second else 0): one.relation
        for one in relate(left, right, GAME)
    }
    assert pairs == {(1, 5): "the same", (2, 4): "older", (3, 0): None, (0, 6): None, (0, 7): None}
    near = [one.near.slot for one in relate(left, right, GAME) if one.near is not None]
    assert near == [2, 1]  # of 6, and of 7


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("Day\N{NO-BREAK SPACE}31 · Zoë 🏝", "Day\N{NO-BREAK SPACE}31 · Zoë 🏝"),
        ("two\nlines", "two\nlines"),
        ("a\x1b[2Jb\x07\r\x9bc", "a�[2Jb���c"),
        ("save\N{RIGHT-TO-LEFT OVERRIDE}txt.exe", "save�txt.exe"),
        ("bad\udcff byte", "bad� byte"),
    ],
)
def test_what_a_terminal_would_obey_is_shown_as_a_mark(text: str, shown: str) -> None:
    assert visible(text) == shown
    assert "�" not in escape(shown.replace("�", ""))


def test_facts_are_shown_with_the_spaces_of_any_script(den: Den) -> None:
    meta = next(den.depot.glob("voyage-00-*")) / "meta.json"
    name = "潮\N{IDEOGRAPHIC SPACE}湿地"
    meta.write_text(meta.read_text("utf-8").replace("Saltmarsh", name), "utf-8")
    for line in (("check", "saltglass/depot"), ("slots", "saltglass")):
        told = den.cferry(*line).out
        assert "�" not in told
        assert name in told


def test_names_are_shown_letter_by_letter(den: Den) -> None:
    name = "Base :heart: [bold]at sea[/] :+1:"
    den.game("depot", "new", "--slot", "7", "--name", name)
    den.game("depot", "play", "--slot", "7", "--days", "3")
    for command in (("slots", "saltglass/depot"), ("check", "saltglass/depot:7"),
                    ("cross", "saltglass/depot:7", "saltglass/tern", "--dry-run"),
                    ("slots", "saltglass/depot:7", "saltglass/tern")):  # fmt: skip
        told = den.cferry(*command)
        assert name in told.out, command


def test_a_folder_without_saves_says_what_is_in_it(den: Den, tmp_path: Path) -> None:
    folder = tmp_path / "some folder"
    folder.mkdir()
    (folder / "letter.txt").touch()
    (folder / "photo.png").touch()
    told = den.cferry("slots", f"saltglass/depot@{folder}", code=3).out
    assert "no saves" in told
    assert "2 files that its recipe does not know, such as letter.txt" in told
    assert f'cferry look "{folder}"' in told


def test_one_damaged_place_spoils_no_other(den: Den) -> None:
    whole = den.cferry("slots", "saltglass", "--json").data
    index = den.tern / "hold.ledger"
    index.write_bytes(b"junk" + index.read_bytes()[4:])
    told = {one["address"]: one for one in den.cferry("slots", "saltglass", "--json").data}
    assert [told[one["address"]] for one in whole if one["address"] != "saltglass/tern"] == [
        one for one in whole if one["address"] != "saltglass/tern"
    ]
    assert "hold.ledger is damaged" in told["saltglass/tern"]["problems"][0]
    assert "no saves that can be read" in den.cferry("slots", "saltglass").out
    done = den.cferry("backup", "saltglass", "--json", code=8)
    assert [one["address"] for one in done.data["backups"]] == ["saltglass/depot"]
    assert [one["address"] for one in done.data["failed"]] == ["saltglass/tern"]
    assert "✗ saltglass/tern was not safely kept" in den.cferry("backup", "saltglass", code=8).out
    den.cferry("slots", "saltglass/tern", code=5)
    shutil.copytree(den.tern.parent, den.tern.parent.with_name("5a17c0ffee43"))
    refused = den.cferry("cross", "saltglass/depot:1", "saltglass/tern", "--dry-run", code=2)
    assert refused.err.count("can't be read") == 2
