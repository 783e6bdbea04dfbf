"""A server's config is told which save to load: with the crossing, or not at all."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from clever_ferry.errors import NotProvenError, RefusedError
from clever_ferry_demo.saltglass.server import ServerStore
from tests.conftest import Den, bins, state

FORMS = {
    "properties": ("/level-name", b"# mine\nmotd = Hi\nlevel-name=2\n",
                   b"# mine\nmotd = Hi\nlevel-name=07-b\n"),
    "ini": ("/world/name", b"\xef\xbb\xbf[world]\r\n; mine\r\n",
            b"\xef\xbb\xbf[world]\r\nname = 07-b\r\n; mine\r\n"),
    "json": ("/world/load", b'{ "world": {"load":"x", "n": 1} }',
             b'{ "world": {"load":"07-b", "n": 1} }'),
    "toml": ("/load", b"load = 'x' # mine\n", b"load = '07-b' # mine\n"),
    "yaml": ("/world/load", b"world:\n  load: old # mine\n",
             b'world:\n  load: "07-b" # mine\n'),
    "start": ("/--world", b'exec ./it --port 7 --world "old one" # go\n',
              b"exec ./it --port 7 --world '07-b' # go\n"),
}  # fmt: skip
RECIPE = bins(home="{slot}-{name}.w", server="worlds/{slot}-{name}.w").replace(
    'fields.slot = { type = "number" }',
    'fields = { slot = { type = "number", width = 2 }, name = { type = "text" } }',
)
CONFIG = """
[[editions.server.config]]
file = "etc/load.cfg"
holds = "{}"
set = {{ "{}" = "{}" }}
[forms.start]
kind = "script"
"""


@pytest.fixture
def pier(linux: Callable[..., Den], tmp_path: Path) -> Callable[..., tuple[Den, Path]]:
    """Return a maker of a server's folder with a config, and a save at home."""

    def make(
        form: str = "properties", raw: bytes = b"", at: str = "/world", text: str = "{slot}-{name}"
    ) -> tuple[Den, Path]:
        here, server = linux(home="home"), tmp_path / "server"
        recipe = RECIPE + CONFIG.format(form, at, text)
        unused = "" if form == "start" else '[forms.start]\nkind = "script"\n'
        here.recipe("bin", recipe.replace(unused, "") if unused else recipe)
        (tmp_path / "home").mkdir()
        for slot in ("07-b", "08-c"):
            (tmp_path / "home" / f"{slot}.w").write_bytes(b"a world")
        (server / "etc").mkdir(parents=True)
        (server / "worlds").mkdir()
        (server / "etc/load.cfg").write_bytes(raw)
        return here, server

    return make


@pytest.mark.parametrize("form", FORMS)
def test_a_config_of_any_form_names_the_save_and_nothing_else_changes(
    pier: Callable[..., tuple[Den, Path]], tmp_path: Path, form: str
) -> None:
    at, before, after = FORMS[form]
    here, server = pier(form, before, at)
    route = ("cross", f"bin/home@{tmp_path / 'home'}:7", f"bin/server@{server}:7")
    was = state(server)
    plan = here.cferry(*route, "--dry-run", "--json").data["plan"]
    (told,) = plan["told"]
    assert told["file"] == "etc/load.cfg"
    assert [line[2:].encode() for line in told["lines"] if line[0] == "+"] == [
        line for line in after.removeprefix(b"\xef\xbb\xbf").splitlines() if line not in before
    ]
    assert state(server) == was
    report = tmp_path / "done.html"
    assert "Told in etc/load.cfg" in here.cferry(*route, "--yes", "--report", report).out
    assert "Told in etc/load.cfg" in report.read_text("utf-8")
    assert (server / "etc/load.cfg").read_bytes() == after
    again = here.cferry(*route, "--yes", "--replace").out
    assert "names that save already" in again
    here.cferry("undo", "--yes")
    here.cferry("undo", "--yes")
    assert state(server) == was
    left = here.cferry(*route, "--yes", "--no-tell", "--json").data["plan"]
    assert (left["told"], "stays as it is" in left["notes"][0]) == ([], True)
    back = ("cross", route[2], route[1].replace(":7", ":1"), "--dry-run", "--no-tell")
    assert "--no-tell changes nothing" in here.cferry(*back).out
    assert (server / "etc/load.cfg").read_bytes() == before


def test_where_nothing_can_be_told_that_is_said(
    pier: Callable[..., tuple[Den, Path]], tmp_path: Path
) -> None:
    here, server = pier("json", b"{", "/world/load", "{name} {slot}")
    both = ("cross", f"bin/home@{tmp_path / 'home'}", f"bin/server@{server}", "--dry-run")
    assert "names one save to load, and 2 are carried" in here.cferry(*both).out
    one = (both[0], f"{both[1]}:7", f"{both[2]}:7", "--yes")
    refused = here.cferry(*one, code=4).err
    assert "etc/load.cfg can't be told which save to load" in refused
    assert "--no-tell" in refused
    (server / "etc/load.cfg").write_text("[7]")
    assert "can't be told" in here.cferry(*one, code=4).err
    (server / "etc/load.cfg").unlink()
    assert "is not there, so the game is not told" in here.cferry(*one).out
    assert not (server / "etc/load.cfg").exists()


def test_a_config_that_somebody_else_writes_is_never_lost(
    pier: Callable[..., tuple[Den, Path]], tmp_path: Path
) -> None:
    here, server = pier("properties", b"world = x\n")
    ferry, file = here.ferry(), server / "etc/load.cfg"
    plan = ferry.plan(f"bin/home@{tmp_path / 'home'}:7", f"bin/server@{server}:7")
    file.write_bytes(b"world = y\n")
    with pytest.raises(RefusedError, match="changed after the plan"):
        ferry.carry_out(plan)
    assert file.read_bytes() == b"world = y\n"
    before = state(server)

    def meddle(step: str, done: int, total: int | None) -> None:
        if step == "proving":
            file.write_bytes(b"world = z\n")

    plan = ferry.plan(f"bin/home@{tmp_path / 'home'}:7", f"bin/server@{server}:7")
    with pytest.raises(NotProvenError) as told:
        ferry.carry_out(plan, meddle)
    assert "etc/load.cfg does not say which save to load" in str(told.value.details)
    assert state(server) == before


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("{slot}-{name}\" }", "{slto}\" }", "config[1].set: nothing fills {slto}"),
        ('"/world"', '"world"', "config[1].set: world: "),
        ('"properties"', '"zip"', "config[1].holds: there is no form 'zip'"),
        ("etc/load.cfg", "../load.cfg", "config[1].file"),
        ("etc/load.cfg", "worlds/01-x.w", "that is a file of its saves"),
        ("[editions.server]", '[editions.server]\nnever = ["etc/load.cfg"]', "not to be touched"),
    ],
)  # fmt: skip
def test_a_config_that_can_not_be_is_refused(
    pier: Callable[..., tuple[Den, Path]], old: str, new: str, said: str
) -> None:
    here, _ = pier()
    file = here.home / "recipes" / "bin.toml"
    text = file.read_text("utf-8")
    assert old in text
    file.write_text(text.replace(old, new, 1), "utf-8")
    assert said in here.cferry("recipe", "check", file, code=5).err
    twice = text + text[text.index("[[editions.server.config]]") :]
    file.write_text(twice, "utf-8")
    assert "stands here twice" in here.cferry("recipe", "check", file, code=5).err


def test_a_server_says_itself_of_which_version_it_is(den: Den, tmp_path: Path) -> None:
    rented = tmp_path / "rented"
    ServerStore(rented).set_up()
    to = ("cross", "saltglass/tern:2", f"saltglass/server@{rented}", "--dry-run")
    assert "Nothing is known" not in den.cferry(*to).out
    (rented / "VERSION").write_text("build 3.4.0\n")
    assert (
        "saved by a newer game (Version 3.4.1) than the target's (3.4.0)"
        in den.cferry(*to, code=4).err
    )
    den.cferry(*to, "--newer-ok")
    (rented / "VERSION").write_text("3.10")
    assert "the target's game of 3.10" in den.cferry(*to).out
    for none in ("no number", None):
        (rented / "VERSION").unlink()
        if none is not None:
            (rented / "VERSION").write_text(none)
        assert "Nothing is known of the target's" in den.cferry(*to).out
    recipe = den.cferry("recipe", "show", "saltglass").out
    for old, new, said in (
        ('{ file = "VERSION" }', '{ file = "V", says = "x" }', "`says` has"),
        ('not_newer = "version"\ninstalled', "installed", "which is missing"),
        ('file = "VERSION"', 'file = "../V"', "installed.file"),
    ):  # fmt: skip
        assert old in recipe
        file = tmp_path / "saltglass.toml"
        file.write_text(recipe.replace(old, new))
        assert said in den.cferry("recipe", "check", file, code=5).err
    own = recipe.replace('{ file = "VERSION" }', '{ file = "VERSION", says = "v{version};" }')
    (tmp_path / "saltglass.toml").write_text(own.replace(
        'id = "saltglass"', 'id = "saltglass"\nreplaces_shipped = true'
    ))  # fmt: skip
    den.recipe("saltglass", (tmp_path / "saltglass.toml").read_text())
    (rented / "VERSION").write_text("3.0 v2.9;")
    assert "than the target's (2.9)" in den.cferry(*to, code=4).err
