"""The demo and the stand-in: what a newcomer runs first, and how picky the game is."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest

from tests.conftest import Den, run_module


def test_the_demo_runs_both_ways_and_keeps_a_world(tmp_path: Path) -> None:
    env = {"CFERRY_HOME": str(tmp_path / "own"), "HOME": str(tmp_path)}
    world = tmp_path / "demo world"
    env["CFERRY_COMPUTER"] = str(world / "den")  # of a demo that is gone: this makes it anew
    assert run_module("clever_ferry", "look", env=env).code != 0
    named = run_module("clever_ferry", "--computer", tmp_path, "demo", env=env)
    assert (named.code, "Leave out --computer" in named.err) == (2, True)
    done = run_module("clever_ferry", "demo", "--at", world, env=env, cwd=tmp_path)
    assert done.code == 0, done.err
    commands = re.findall(r"^\$ (.*)$", done.out, re.MULTILINE)
    assert len(commands) == 15
    assert "Loaded slot 5: Saltmarsh, day 31" in done.out
    assert "Loaded slot 2: Saltmarsh, day 33" in done.out
    assert "2  Saltmarsh, day 31" in done.out
    again = run_module("clever_ferry", "demo", "--at", world, env=env)
    assert again.code == 2
    assert "Loaded slot 2: Gull Rock, day 24" in done.out
    loft = commands.index("cferry slots saltglass/longshore") - 1
    for number, line in enumerate(commands):  # each can be repeated, and does what was shown
        top = world / ("den" if number < loft else "loft")
        own = {"CFERRY_COMPUTER": str(top)}
        line = line.replace("home/isa", f"{top}/home/isa").replace("demo world", "demo\0world")
        program, *arguments = (one.replace("\0", " ") for one in line.split())
        module = "clever_ferry" if program == "cferry" else "clever_ferry_demo.saltglass.program"
        ran = run_module(module, *arguments, env=own)
        assert ran.code == 0, (line, ran.err)
    assert (world / "den" / "ferry" / "logbook.sqlite").is_file()


def test_the_demo_goes_over_a_link(den: Den, tmp_path: Path) -> None:
    done = den.cferry("demo", "--over-a-link", cwd=tmp_path)
    assert "Serving isle-2 to 6 players: Saltmarsh, day 31" in done.out
    assert "slot 2  Saltmarsh: goes on" in done.out
    assert "Loaded slot 2: Saltmarsh, day 35" in done.out
    assert den.cferry("demo", "--over-a-link", "--at", tmp_path / "x", code=2)


def world_of(den: Den) -> Path:
    return next(den.depot.glob("voyage-00-*"))


def other_world(den: Den) -> Path:
    return next(den.depot.glob("voyage-02-*"))


def copy_piece(den: Den, name: str) -> None:
    shutil.copy(other_world(den) / name, world_of(den) / name)


SPOILED = {
    "a missing piece": (lambda den: (world_of(den) / "meta.json").unlink(), "meta.json is missing"),
    "a missing traveller": (lambda den: (world_of(den) / "people/Isa.sgt").unlink(), "Isa"),
    "pieces mixed up": (lambda den: copy_piece(den, "meta.json"), "different saves"),
    "another world's file": (lambda den: copy_piece(den, "world.sgw"), "its folder of"),
    "another account": (
        lambda den: den.depot.rename(den.depot.with_name("111111111")), "belongs to account",
    ),
    "a newer version": (
        lambda den: (world_of(den) / "meta.json").write_text(
            (world_of(den) / "meta.json").read_text().replace("3.4.1", "4.0.0")
        ),
        "newer version 4.0.0",
    ),
    "a wrong checksum": (
        lambda den: (world_of(den) / "world.sgw").write_bytes(
            (world_of(den) / "world.sgw").read_bytes()[:-4] + b"abcd"
        ),
        "unpacked",
    ),
    "too many slots": (
        lambda den: world_of(den).rename(den.depot / f"voyage-08-{world_of(den).name[-16:]}"),
        "more than 8 slots",
    ),
    "a slot twice": (
        lambda den: shutil.copytree(world_of(den), den.depot / f"voyage-00-{'0' * 16}"), "twice",
    ),
}  # fmt: skip


@pytest.mark.parametrize("spoiled", SPOILED)
def test_the_stand_in_is_picky(den: Den, spoiled: str) -> None:
    spoil, said = SPOILED[spoiled]
    spoil(den)  # type: ignore[no-untyped-call]
    account = "111111111" if "account" in spoiled else None
    done = den.game("depot", "load", "--slot", "1", account=account)
    assert done.code == 1
    assert said in done.err
