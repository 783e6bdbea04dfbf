"""Finding saves on described computers of all three systems, and naming them."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from clever_ferry.errors import WrongUseError
from clever_ferry.finding import parse_address, this_computer
from clever_ferry.finding.addresses import Address, parse_slots
from tests.conftest import DEPOT, Den


def second_account(den: Den) -> None:
    other = den.depot.parent / "900800700"
    other.mkdir()
    den.env["ACCOUNT"] = "900800700"
    assert (
        den.game("depot", "new", "--slot", "1", "--name", "Eel Sound", account="900800700").code
        == 0
    )


def test_look_shows_all_berths(den: Den) -> None:
    done = den.cferry("look")
    for said in ("Cobalt Depot", "100200300", "Tern Arcade", "5a17c0ffee42", "saltglass/tern"):
        assert said in done.out
    berths = den.cferry("look", "--json").data["berths"]
    assert [(berth["address"], berth["saves"]) for berth in berths] == [
        ("saltglass/depot", 2),
        ("saltglass/tern", 2),
    ]
    berths = den.cferry("look", "saltglass", "--json").data["berths"]
    told = {berth["address"]: " ".join(berth["evidence"]) for berth in berths}
    assert "9 digits" in told["saltglass/depot"]
    assert "options.ini: Depot's edition" in told["saltglass/depot"]
    assert "Tern Arcade's crate" in told["saltglass/tern"]
    assert "cferry cross saltglass/depot:1 saltglass/tern" in den.cferry().out
    (den.top / DEPOT).rename(den.top / DEPOT.replace("Saltglass", "SALTGLASS"))
    assert len(den.cferry("look", "--json").data["berths"]) == 2  # as Windows takes names


def test_slots_show_each_save_as_the_games_menu_does(den: Den) -> None:
    done = den.cferry("slots", "saltglass")
    for said in ("Saltmarsh", "Heron Point", "11 h 46 min", "1,130", "9 days ago"):
        assert said in done.out
    only = den.cferry("slots", "saltglass/tern:2", "--json").data
    assert [save["name"] for save in only[0]["saves"]] == ["Saltmarsh"]
    assert len(only[0]["saves"][0]["pieces"]) == 4
    assert only[0]["shared"] == ["settings"]


def test_two_accounts_are_never_guessed(den: Den) -> None:
    second_account(den)
    done = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes", code=2)
    for said in ("100200300", "900800700", "Eel Sound", "Heron Point", "--to-account"):
        assert said in done.err
    den.cferry(
        "cross", "saltglass/tern:2", "saltglass/depot:5", "--yes", "--to-account", "900800700"
    )
    assert "day 31" in den.game("depot", "load", "--slot", "5", account="900800700").out
    assert den.game("depot", "load", "--slot", "5").code == 1
    moved = ["cross", "saltglass/depot:5", "saltglass/depot:6", "--yes", "--from-account",
             "900800700", "--to-account", "100200300"]  # fmt: skip
    den.cferry(*moved)
    assert "day 31" in den.loads("depot", 6)  # the owner's stamp is the target's
    world = next(den.depot.glob("voyage-00-*"))
    shutil.copytree(world, den.depot.parent / "900800700" / f"voyage-02-{world.name[-16:]}")
    done = den.cferry("check", "saltglass/depot", "--account", "900800700", code=5)
    assert "another account" in done.out
    assert den.game("depot", "load", "--slot", "3", account="900800700").code == 1
    assert "--account" in den.cferry("check", "saltglass/depot", code=2).err
    assert "nobody" in den.cferry("check", "saltglass/depot", "--account", "nobody", code=3).err


def test_a_folder_anywhere_can_be_named(den: Den, tmp_path: Path) -> None:
    stick = tmp_path / "old stick" / "Saltglass" / "100200300"
    shutil.copytree(den.depot, stick)
    done = den.cferry("slots", f"saltglass/depot@{stick}:3", "--json").data
    assert done[0]["saves"][0]["name"] == "Heron Point"
    assert f'saltglass/depot@{stick}:3" ' in den.cferry("slots", f"saltglass/depot@{stick}").out
    den.cferry("cross", f"saltglass/depot@{stick}:3", "saltglass/tern:4", "--yes")
    assert "day 57" in den.loads("tern", 4)
    assert "no folder" in den.cferry("slots", f"saltglass/depot@{stick}x", code=3).err
    assert "no harbour 'loft'" in den.cferry("slots", "saltglass/depot@loft", code=2).err
    den.cferry("slots", "saltglass/depot@den")


def test_no_berth_names_every_place(den: Den) -> None:
    shutil.rmtree(den.depot.parent)
    done = den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes", code=3)
    assert "LocalLow" in done.err
    assert "{account}" in done.err
    assert "Start Saltglass from Cobalt Depot once" in done.err
    assert "LocalLow" in den.cferry("slots", "saltglass/depot", code=3).err


@pytest.mark.parametrize(
    ("folders", "path", "edition"),
    [
        ({"xdg_data": "h/.local/share"}, "h/.local/share/openttd/save", "linux"),
        ({"home": "h"}, "h/.openttd/save", "linux"),
        ({"sandboxes": "h/.var/app"},
         "h/.var/app/org.openttd.OpenTTD/data/openttd/save", "flatpak"),
    ],
)  # fmt: skip
def test_openttd_on_linux(
    linux: Callable[..., Den], folders: dict[str, str], path: str, edition: str
) -> None:
    here = linux(**folders)
    (here.top / path).mkdir(parents=True)
    (here.top / path / "Old Town, 1951.sav").write_bytes(b"OTTN\x01\x2e\x00\x00")
    berths = here.cferry("look", "--json").data["berths"]
    assert [(b["address"], b["saves"]) for b in berths] == [(f"openttd/{edition}", 1)]


@pytest.mark.skipif(os.name == "nt", reason="these are rules for other systems' paths")
def test_this_computer_goes_by_the_xdg_rules(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setattr("sys.platform", "linux")
    monkeypatch.setenv("HOME", str(tmp_path))
    monkeypatch.delenv("XDG_DATA_HOME", raising=False)
    assert this_computer().folders["xdg-data"] == tmp_path / ".local" / "share"
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "elsewhere"))
    assert this_computer().folders["xdg-data"] == tmp_path / "elsewhere"
    monkeypatch.setenv("XDG_DATA_HOME", "not/absolute")
    assert this_computer().folders["xdg-data"] == tmp_path / ".local" / "share"


@pytest.mark.parametrize(
    ("text", "parts"),
    [
        ("saltglass", ("saltglass", None, None, None)),
        ("Saltglass/Depot", ("saltglass", "depot", None, None)),
        ("saltglass/depot:2", ("saltglass", "depot", None, "2")),
        ("saltglass/depot@den:2,5", ("saltglass", "depot", "den", "2,5")),
        ("saltglass/depot:Gull: Rock", ("saltglass", "depot", None, "Gull: Rock")),
        ("openttd/server@/srv/a b", ("openttd", "server", "/srv/a b", None)),
        ("openttd/server@C:\\ottd:Town", ("openttd", "server", "C:\\ottd", "Town")),
        ("openttd/server@C:\\ottd", ("openttd", "server", "C:\\ottd", None)),
    ],
)
def test_addresses(text: str, parts: tuple[str | None, ...]) -> None:
    address = parse_address(text)
    assert address == Address(*parts)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    "text", ["", "/depot", "salt glass", "saltglass/", "a/b@", "a/b:", "a/b/c/d"]
)
def test_what_is_no_address(text: str) -> None:
    with pytest.raises(WrongUseError):
        parse_address(text)


@pytest.mark.parametrize(
    ("text", "numbers"),
    [("2", (2,)), ("2,5", (2, 5)), ("1-3", (1, 2, 3)), ("1-2, 7", (1, 2, 7)), ("Gull Rock", ())],
)
def test_choices_of_slots(text: str, numbers: tuple[int, ...]) -> None:
    assert parse_slots(text).numbers == numbers


@pytest.mark.parametrize("text", ["0", "3-1", "1-999999999", "2,2"])
def test_choices_that_cant_be_meant(text: str) -> None:
    with pytest.raises(WrongUseError):
        parse_slots(text)
