"""The real OpenTTD: its dedicated server makes the save, and judges what was carried."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import time
from collections.abc import Callable
from datetime import date, timedelta
from pathlib import Path

import pytest

from tests.conftest import Den, state

SERVER = shutil.which("openttd") or shutil.which("openttd", path="/usr/games")
pytestmark = [
    pytest.mark.game,
    pytest.mark.skipif(
        SERVER is None and not os.environ.get("CI"),
        reason="OpenTTD is not installed (packages openttd and openttd-opengfx)",
    ),
]
CONFIG = (
    "[game_creation]\nmap_x = 6\nmap_y = 7\n[network]\nserver_name = pier\nclient_name = wren\n"
)


class Server:
    """A dedicated server with a data folder of its own, driven by its console."""

    def __init__(self, folder: Path) -> None:
        assert SERVER is not None, "OpenTTD must be installed where CI runs"
        self.folder = folder
        folder.mkdir()
        (folder / "openttd.cfg").write_text(CONFIG)

    def run(self, *options: str, commands: tuple[str, ...] = (), until: str) -> str:
        """Run until its output holds `until` (then give it the commands), and return it all."""
        log = self.folder / "server.log"
        with log.open("wb") as out:
            server = subprocess.Popen(
                [SERVER or "", "-D", "127.0.0.1:0", "-c", "openttd.cfg", "-d", "net=3", "-d",
                 "sl=2", *options],
                cwd=self.folder, env={**os.environ, "HOME": str(self.folder)},
                stdin=subprocess.PIPE, stdout=out, stderr=subprocess.STDOUT, text=True,
            )  # fmt: skip
            try:
                assert server.stdin
                self._wait(log, until)
                time.sleep(1.5)  # a command that comes while it still loads is lost
                for command, answer in zip(commands[::2], commands[1::2], strict=True):
                    server.stdin.write(command + "\n")
                    server.stdin.flush()
                    if answer:
                        self._wait(log, answer)
                    else:
                        time.sleep(1.5)
                server.stdin.write("quit\n")
                server.stdin.flush()
                server.wait(30)
            finally:
                server.kill()
                server.wait()
        return log.read_text("utf-8", "replace")

    @staticmethod
    def _wait(log: Path, text: str) -> None:
        deadline = time.monotonic() + 600
        while text not in log.read_text("utf-8", "replace"):
            assert time.monotonic() < deadline, log.read_text("utf-8", "replace")[-2000:]
            time.sleep(0.1)


def fact_text(days: int) -> str:
    """Return a date as the game counts it, in days since the year 0."""
    return (date(1950, 1, 1) + timedelta(days - 712_223)).isoformat()


@pytest.fixture
def sandboxed(linux: Callable[..., Den], tmp_path: Path) -> Den:
    """A home with OpenTTD as a Flatpak, and a save in it that the real server made."""
    here = linux(sandboxes="home/.var/app", xdg_data="home/.local/share", home="home")
    saves = here.top / "home/.var/app/org.openttd.OpenTTD/data/openttd/save"
    saves.mkdir(parents=True)
    maker = Server(tmp_path / "maker")
    maker.run(until="Map generated", commands=('save "Gull Town"', "successfully saved"))
    shutil.copy2(maker.folder / "save" / "Gull Town.sav", saves)
    return here


def test_a_save_from_the_sandbox_loads_in_the_server(sandboxed: Den, tmp_path: Path) -> None:
    server = Server(tmp_path / "server")
    (server.folder / "content").mkdir()
    before = state(server.folder)
    slots = sandboxed.cferry("slots", "openttd", "--json").data[0]["saves"]
    facts = slots[0]["facts"]
    assert (facts["name"], facts["width"], facts["height"]) == ("Gull Town", 64, 128)
    assert facts["date"] >= 712_223  # 1 January 1950, as the game counts
    done = sandboxed.cferry(
        "cross", "openttd/flatpak:gull town", f"openttd/server@{server.folder}", "--yes"
    )
    assert "1950-01-" in done.out
    assert 'openttd -D -c openttd.cfg -g "save/Gull Town.sav"' in done.out
    target = server.folder / "save" / "Gull Town.sav"
    source = next((sandboxed.top / "home").rglob("Gull Town.sav"))
    assert target.read_bytes() == source.read_bytes()
    sandboxed.cferry("check", f"openttd/server@{server.folder}")
    there = f"openttd/server@{server.folder}"
    told = sandboxed.cferry("check", there, "--with-game", code=4).err
    assert "only when you have said so" in told
    sandboxed.cferry("loader", "allow", "openttd/server")
    was = state(server.folder)
    (save,) = sandboxed.cferry("check", there, "--with-game", "--json").data["saves"]
    day = fact_text(facts["date"])
    assert (save["level"], save["game"]["told"]) == (
        "loads", [{"fact": "date", "ours": day, "theirs": day, "same": True}],
    )  # fmt: skip
    other = server.folder / "save" / "Other.sav"
    other.write_bytes(b"OTTN" + target.read_bytes()[4:8] + b"XXXX" + bytes(5000))
    asked = sandboxed.cferry("check", f"{there}:Other", "--with-game", "--json", code=12)
    (save,) = asked.data["saves"]
    assert (save["game"]["verdict"], save["level"]) == ("refused", "fits")
    assert "Game Load Failed" in save["game"]["said"][0]
    other.unlink()
    assert {**state(server.folder), "save": None} == {**was, "save": None}
    log = server.run(
        "-g", "save/Gull Town.sav", until="Loading savegame version",
        commands=("getdate", ""),  # its answers stay in a buffer until it ends
    )  # fmt: skip
    assert re.search(r"^Date: 1950-01-\d\d", log, re.MULTILINE)  # it goes on from the save's day
    assert "Load Failed" not in log
    assert "Generating map" not in log
    sandboxed.cferry("undo", "--yes")
    for path in ("server.log", "openttd.cfg"):
        before.pop(path, None)
    now = state(server.folder)
    assert "save" not in now or not list((server.folder / "save").glob("*.sav"))


def test_undo_leaves_no_folder_that_was_not_there(sandboxed: Den, tmp_path: Path) -> None:
    folder = tmp_path / "bare"
    folder.mkdir()
    before = state(folder)
    sandboxed.cferry("cross", "openttd/flatpak", f"openttd/server@{folder}", "--yes")
    assert (folder / "save" / "Gull Town.sav").is_file()
    sandboxed.cferry("undo", "--yes")
    assert state(folder) == before


def test_a_truncated_save_shows_as_not_loading(sandboxed: Den, tmp_path: Path) -> None:
    """In the server's own output, in `check`, and as a refusal to carry it."""
    save = next((sandboxed.top / "home").rglob("Gull Town.sav"))
    raw = save.read_bytes()
    for keep in (len(raw) * 2 // 3, len(raw) - 1):
        save.write_bytes(raw[:keep])
        checked = sandboxed.cferry("check", "openttd/flatpak", code=5)
        assert "cut short" in checked.out
        sandboxed.cferry("loader", "allow", "openttd/flatpak")
        asked = sandboxed.cferry("check", "openttd/flatpak", "--with-game", code=5)
        assert "it was not asked" in asked.out
        folder = tmp_path / f"server{keep}"
        server = Server(folder)
        (folder / "save").mkdir()
        refused = sandboxed.cferry("cross", "openttd/flatpak", f"openttd/server@{folder}", "--yes",
                                   code=5)  # fmt: skip
        assert "cut short" in refused.err
        assert not any((folder / "save").iterdir())
    shutil.copy(save, folder / "save")
    save.write_bytes(raw[: len(raw) * 2 // 3])
    shutil.copy(save, folder / "save")
    log = server.run("-g", "save/Gull Town.sav", until="Map generated, starting game")
    assert "Game Load Failed" in log


def test_other_names_and_autosaves(sandboxed: Den, tmp_path: Path) -> None:
    """An autosave is read where the game puts it, and written as a save of the player's own."""
    save = next((sandboxed.top / "home").rglob("Gull Town.sav"))
    (save.parent / "autosave").mkdir()
    shutil.copy2(save, save.parent / "autosave" / "autosave3.sav")
    server = tmp_path / "server"
    (server / "save").mkdir(parents=True)
    where = f"openttd/server@{server}"
    sandboxed.cferry("cross", "openttd/flatpak:autosave3", where, "--yes")
    assert (server / "save" / "autosave3.sav").is_file()
    sandboxed.cferry("cross", "openttd/flatpak:autosave3", f"{where}:Pier, 1950", "--yes")
    assert (server / "save" / "Pier, 1950.sav").read_bytes() == save.read_bytes()
    route = ("cross", "openttd/flatpak:gull town")
    assert "have no slots" in sandboxed.cferry(*route, f"{where}:2", "--yes", code=2).err
    sandboxed.cferry(*route, f"{where}:autosave3", "--yes", "--replace")
    assert sorted(path.name for path in (server / "save").iterdir()) == [
        "Pier, 1950.sav",
        "autosave3.sav",
    ]
    refused = sandboxed.cferry("cross", "openttd/flatpak", f"{where}:a/b", "--yes", code=3)
    assert "no folder" in refused.err


@pytest.mark.long("drafts of real saves")
def test_a_draft_of_real_saves_carries_one_that_it_has_not_seen(
    sandboxed: Den, tmp_path: Path
) -> None:
    """As it lies, byte for byte; and the real server goes on with it."""
    home = next((sandboxed.top / "home").rglob("Gull Town.sav")).parent
    maker = tmp_path / "maker" / "save"
    Server(tmp_path / "second").run(
        until="Map generated", commands=('save "Old Pier"', "successfully saved")
    )
    shutil.copy2(tmp_path / "second" / "save" / "Old Pier.sav", home)
    server = Server(tmp_path / "server")
    shutil.copytree(home, server.folder / "save")
    file = tmp_path / "trains.toml"
    told = sandboxed.cferry("draft", home, server.folder / "save", "-o", file).out
    assert told.count("the same, pieces and facts") == 2
    assert "layers" not in file.read_text()
    sandboxed.recipe("trains", file.read_text())
    shutil.copy2(maker / "Gull Town.sav", home / "Late Ferry.sav")
    there = f"trains/second@{server.folder}"
    sandboxed.cferry("cross", "trains/save:Late Ferry", there, "--yes")
    carried = server.folder / "save" / "Late Ferry.sav"
    assert carried.read_bytes() == (home / "Late Ferry.sav").read_bytes()
    log = server.run("-g", "save/Late Ferry.sav", until="Loading savegame version")
    assert "Load Failed" not in log
    assert "Generating map" not in log
