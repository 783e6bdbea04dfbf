"""At a terminal: questions are asked, and the answer is what counts."""

from __future__ import annotations

import os
import sys
import time
from typing import Any

import pytest

from tests.conftest import Den, state

pty = pytest.importorskip("pty", reason="this system has no pseudo terminals")


def at_terminal(den: Den, *arguments: str, answers: list[str]) -> tuple[int, str]:
    """Run the program at a pseudo terminal; give each answer when it asks (a line that waits)."""
    pid, handle = pty.fork()
    if pid == 0:
        environment: dict[str, Any] = {**os.environ, **den.env, "TERM": "xterm", "COLUMNS": "120"}
        os.execve(sys.executable, [sys.executable, "-m", "clever_ferry", *arguments], environment)
    shown = b""
    deadline = time.monotonic() + 600
    while time.monotonic() < deadline:
        try:
            part = os.read(handle, 65536)
        except OSError:  # the program has ended
            break
        if not part:
            break
        shown += part
        if answers and (
            shown.rstrip().endswith((b"]:", b"one:", b"(1<=x<=2):", b"show):", b"know:"))
        ):
            os.write(handle, answers.pop(0).encode() + b"\n")
            time.sleep(0.2)
    _, status = os.waitpid(pid, 0)
    return os.waitstatus_to_exitcode(status), shown.decode("utf-8", "replace")


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
