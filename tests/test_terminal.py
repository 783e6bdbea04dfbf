"""At a terminal: questions are asked, and the answer is what counts."""

from __future__ import annotations

from tests.conftest import Den, at_terminal, state


def test_it_asks_and_carries_on_a_yes(den: Den) -> None:
    route = ("cross", "saltglass/tern:2", "saltglass/depot:1")
    code, shown = at_terminal(den, *route, answers=["y"])
    assert code == 0, shown
    assert "replace 1 save of the target (backed up first)?" in shown
    assert "day 31" in den.loads("depot", 1)
    code, shown = at_terminal(den, "undo", answers=["y"])
    assert code == 0, shown
    assert "day 12" in den.loads("depot", 1)


def test_a_no_changes_nothing(den: Den) -> None:
    before = state(den.top)
    code, shown = at_terminal(den, "cross", "saltglass/tern:2", "saltglass/depot:1", answers=["n"])
    assert code == 130
    assert "No save was changed" in shown
    assert state(den.top) == before


def test_two_accounts_are_asked_about(den: Den) -> None:
    (den.depot.parent / "900800700").mkdir()
    route = ("cross", "saltglass/tern:2", "saltglass/depot:5")
    code, shown = at_terminal(den, *route, answers=["2", "y"])
    assert code == 0, shown
    assert "account 100200300" in shown
    done = den.game("depot", "load", "--slot", "5", account="900800700")
    assert "day 31" in done.out
