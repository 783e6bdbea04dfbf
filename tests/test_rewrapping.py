"""Real saves put into other wrappings by recipe alone, and loaded by the games' own servers."""

from __future__ import annotations

import lzma
import os
import re
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import LONG, Den
from tests.test_openttd import SERVER, Server

FREECIV = shutil.which("freeciv-server") or shutil.which("freeciv-server", path="/usr/games")

_EDITION = """
[editions.{name}]
title = "{name}"
berths = [{{ on = "any", under = "given", path = "{folder}" }}]
fields.name = {{ type = "text" }}
files = [{{ role = "game", path = "{path}", layers = [{layers}] }}]
"""


def recipe(game: str, editions: list[tuple[str, str, str, str]], more: str) -> str:
    text = f'recipe = 1\n[game]\nid = "{game}"\ntitle = "{game}"\n[pieces]\n'
    text += "game = { needed = true }\n" + more
    for name, folder, path, layers in editions:
        text += _EDITION.format(name=name, folder=folder, path=path, layers=layers)
    return text


_TRAINS = """
[layouts.front]
order = "big"
fields = [
  { type = "text", name = "tag", size = 4 },
  { type = "u16", name = "version" },
  { type = "u16", name = "flags" },
]
[layouts.lzo-block]
order = "big"
fields = [
  { type = "u32", name = "sum", computed = { what = "adler32", of = "onward", seed = 0 } },
  { type = "u32", name = "size", computed = { what = "size", of = "inside" } },
]
[layers]
lzma = [{ kind = "xz" }]
zlib = [{ kind = "zlib" }]
lzo = [{ kind = "chunks", most = 8192, header = "lzo-block", layers = ["lzo-data"] }]
lzo-data = [{ kind = "lzo", most = 16384 }]
"""


@pytest.mark.long
@pytest.mark.game
@pytest.mark.skipif(SERVER is None and not os.environ.get("CI"), reason="OpenTTD is not installed")
def test_openttd_loads_each_wrapping(linux: Callable[..., Den], tmp_path: Path) -> None:
    here = linux(home="home")
    wraps = {"as-xz": "OTTX", "as-zlib": "OTTZ", "as-none": "OTTN", "as-lzo": "OTTD"}
    text = _TRAINS
    for name, tag in wraps.items():
        text += (
            f'{name} = [{{ kind = "by-tag", layout = "front", tag = "/tag", usual = "{tag}", '
            'of = { OTTX = ["lzma"], OTTZ = ["zlib"], OTTN = [], OTTD = ["lzo"] } }]\n'
        )
    editions = [(name, "save", "{name}.sav", f'"{name}"') for name in wraps]
    here.recipe("trains", recipe("trains", editions, text))
    maker = Server(tmp_path / "as-xz")
    maker.run(until="Map generated", commands=('save "Gull Town"', "successfully saved"))
    route = [
        ("as-xz", "as-zlib"),
        ("as-zlib", "as-none"),
        ("as-none", "as-lzo"),
        ("as-lzo", "as-xz-again"),
    ]
    for start, goal in route:
        if not LONG and goal == "as-xz-again":
            continue
        server = Server(tmp_path / goal)
        source = f"trains/{start}@{tmp_path / start}"
        target = goal.removesuffix("-again")
        here.cferry("cross", source, f"trains/{target}@{server.folder}", "--yes")
        save = server.folder / "save" / "Gull Town.sav"
        assert save.read_bytes()[:4] == wraps[target].encode()
        log = server.run("-g", "save/Gull Town.sav", until="Loading savegame version")
        assert "Load Failed" not in log
        assert "Generating map" not in log


class Civilizations:
    """A Freeciv server, run as an ordinary user, as it refuses to run as root."""

    def __init__(self, folder: Path) -> None:
        assert FREECIV is not None, "Freeciv's server must be installed where CI runs"
        self.folder = folder

    def run(self, commands: str, *options: str) -> str:
        user = {"user": 65534, "group": 65534, "extra_groups": []} if os.geteuid() == 0 else {}
        for path in (self.folder, *self.folder.parents):
            if path.stat().st_uid == os.geteuid() and path != Path("/tmp"):
                path.chmod(0o777)
        done = subprocess.run(
            [FREECIV or "", "-p", "0", "-s", self.folder, *options],
            input=commands + "\nquit\n", capture_output=True, encoding="utf-8", errors="replace",
            timeout=1200, check=False, cwd=self.folder,
            env={**os.environ, "HOME": str(self.folder)},
            **user,  # type: ignore[call-overload]
        )  # fmt: skip
        return str(done.stdout) + str(done.stderr)


def leaders(log: str) -> set[str]:
    """Return the players that the server's list shows."""
    return set(re.findall(r"^(.+) \[#[0-9a-f]{6}\]: Team", log, re.MULTILINE))


@pytest.mark.game
@pytest.mark.skipif(FREECIV is None and not os.environ.get("CI"), reason="no Freeciv server here")
def test_freeciv_loads_each_wrapping(linux: Callable[..., Den], tmp_path: Path) -> None:
    here = linux(home="home")
    kinds = {"plain": "", "gz": "gzip", "xz": "xz", "zst": "zstd"}
    layers = "[layers]\n" + "".join(
        f'{name} = [{{ kind = "{kind}" }}]\n' for name, kind in kinds.items() if kind
    )
    editions = [
        (name, name, "{name}.sav" + (f".{name}" if kind else ""), f'"{name}"' if kind else "")
        for name, kind in kinds.items()
    ]
    here.recipe("civs", recipe("civs", editions, layers))
    folder = tmp_path / "civs"
    for name in kinds:
        (folder / name).mkdir(parents=True)
    server = Civilizations(folder / "plain")
    made = server.run(
        "set minplayers 0\nset aifill 2\nset size 1\nset compresstype plain\nstart\nsave isle"
    )
    assert (folder / "plain" / "isle.sav").is_file(), made
    rulers = set(re.findall(r"(?:^|> )2: (.+) rules the", made, re.MULTILINE))
    assert len(rulers) == 2
    place = f"@{folder}"
    for start, goal in [("plain", "gz"), ("gz", "xz"), ("xz", "zst"), ("zst", "plain")]:
        if goal == "plain":
            (folder / "plain" / "isle.sav").unlink()
        here.cferry("cross", f"civs/{start}{place}:isle", f"civs/{goal}{place}", "--yes")
        file = next((folder / goal).glob("isle.sav*"))
        if goal == "zst":
            continue  # Debian's server is built without zstd; what comes out of it again is judged
        log = Civilizations(folder / goal).run("list players", "-f", str(file))
        assert leaders(log) == rulers, log
    broken = folder / "xz" / "broken.sav.xz"
    broken.write_bytes((folder / "xz" / "isle.sav.xz").read_bytes()[:2000])
    log = Civilizations(folder / "xz").run("list players", "-f", str(broken))
    assert leaders(log) != rulers


@pytest.mark.game
@pytest.mark.skipif(FREECIV is None and not os.environ.get("CI"), reason="no Freeciv server here")
def test_freeciv_loads_what_is_carried_and_goes_on_with_what_was_changed_in_it(
    linux: Callable[..., Den], tmp_path: Path
) -> None:
    here = linux(home="home")
    saves = here.top / "home" / ".freeciv" / "saves"
    saves.mkdir(parents=True)
    server = Civilizations(saves)
    made = server.run(
        "set minplayers 0\nset aifill 2\nset size 1\nset gameseed 7\nset mapseed 7\n"
        "start\nsave isle"
    )
    (written,) = saves.glob("isle.sav*")  # packed as this server is built
    (save,) = (
        one for one in here.cferry("slots", "freeciv", "--json").data[0]["saves"]
        if one["name"] == "isle"
    )  # fmt: skip
    facts = save["facts"]
    assert (facts["turn"], facts["rules"]) == (1, "civ2civ3"), made
    (folder := tmp_path / "served").mkdir()
    here.cferry("cross", "freeciv/linux:isle", f"freeciv/server@{folder}", "--yes")
    apart, carried = tmp_path / "apart", folder / "isle.sav.xz"
    at = f"freeciv/server@{folder}"
    here.cferry("loader", "allow", "freeciv/server")
    (asked,) = here.cferry("check", at, "--with-game", "--json").data["saves"]
    assert (asked["level"], {one["fact"] for one in asked["game"]["told"]}) == (
        "loads", {"turn", "year", "rules"},
    )  # fmt: skip
    text = lzma.decompress(carried.read_bytes()).decode()
    for name, wrong, verdict in (
        ("half", text[: text.index("[map]")], "unlike"),
        ("bad", text.replace("\nturn=1\n", "\nturn=1x\n"), "unlike"), ("other", "hello", "refused"),
    ):  # fmt: skip
        (folder / f"{name}.sav").write_text(wrong, "utf-8")
        done = here.cferry("check", f"{at}:{name}", "--with-game", "--json", code=12)
        assert done.data["saves"][0]["game"]["verdict"] == verdict
        (folder / f"{name}.sav").unlink()
    here.cferry("unbox", carried, "--as", "freeciv:packed", "-o", apart)
    (piece,) = (apart / "pieces").iterdir()
    changed, count = re.subn("\ngold=\\d+\n", "\ngold=4321\n", piece.read_text("utf-8"))
    assert count == 2
    piece.write_text(changed, "utf-8", newline="\n")
    here.cferry("box", apart, "-o", folder / "rich.sav.xz")
    log = Civilizations(folder).run(
        "list players\nset compresstype plain\nsave again", "-f", str(folder / "rich.sav.xz")
    )
    assert len(leaders(log)) == 2, log
    assert (folder / "again.sav").is_file(), log
    assert (folder / "again.sav").read_text("utf-8").count("\ngold=4321\n") == 2
    there = here.cferry("slots", f"freeciv/server@{folder}", "--json").data[0]["saves"]
    names = ("isle", "rich", "again")
    assert {one["name"]: one["facts"] for one in there} == {
        name: {**facts, "name": name} for name in names
    }
    assert written.is_file()
