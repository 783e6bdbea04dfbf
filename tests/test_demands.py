"""What targets of other games ask for: owners, sidecars, generations, systems, add-ons, hosts."""

from __future__ import annotations

import json
import os
import shutil
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from clever_ferry.layers import Known, compile_layers
from clever_ferry.layers.document_spec import PathsSpec
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry_demo.moth_lantern.program import lay_moth_lantern
from clever_ferry_demo.orrery_yard.program import demo_yards, lay_orrery_yard
from clever_ferry_demo.orrery_yard.yard import begin
from clever_ferry_demo.world import lay_loft
from tests.conftest import LONG, Den, Outcome, laid, run_module, state


def game(den: Den, name: str, edition: str, *arguments: str, code: int = 0) -> Outcome:
    module = f"clever_ferry_demo.{name.replace('-', '_')}.program"
    done = run_module(module, "--edition", edition, *arguments, env=den.env)
    assert done.code == code, done.err
    return done


def loads(den: Den, name: str, edition: str, slot: str) -> str:
    return game(den, name, edition, "load", "--slot", slot).out.partition(": ")[2].strip()


@pytest.fixture
def moth(den: Den) -> Den:
    lay_moth_lantern(den.top)
    return den


def folder(den: Den, edition: str) -> Path:
    home = den.top / "C/Users/Wren"
    return (
        home
        / {
            "classic": "Documents/Moth and Lantern",
            "anniversary": "Saved Games/Moth & Lantern Anniversary",
            "finch": "Documents/Pocket Finch/00471100/MOTHLANT",
        }[edition]
    )


def test_a_release_to_its_remaster_and_back(moth: Den) -> None:
    before = state(folder(moth, "classic"))
    told = moth.cferry("cross", "moth-lantern/classic:1", "moth-lantern/anniversary:throwaway",
                       "--yes", "--replace").out.replace("\n", " ")  # fmt: skip
    assert "lists tales of the first release under Old tales" in told
    assert "1. Start the Anniversary edition, look under Old tales" in told
    assert state(folder(moth, "classic")) == before  # copied, never moved
    assert loads(moth, "moth-lantern", "anniversary", "1").startswith("Ada's first, The Stair")
    game(moth, "moth-lantern", "anniversary", "play", "--slot", "1")
    route = ("cross", "moth-lantern/anniversary:1", "moth-lantern/classic:7", "--yes")
    refused = moth.cferry(*route, code=4).err
    assert "needs its own table" in refused
    assert "Make a throwaway save in that slot" in refused
    game(moth, "moth-lantern", "classic", "new", "--slot", "7")
    done = moth.cferry(*route, "--replace").out
    assert "adopted" in done or "usual" in done
    assert loads(moth, "moth-lantern", "classic", "7").startswith(
        "Ada's first, The Lantern, page 31"
    )
    assert "page 28" in loads(moth, "moth-lantern", "classic", "1")


def test_an_owners_number_is_the_targets_the_usual_one_or_given(moth: Den) -> None:
    classic = folder(moth, "classic")
    route = ("cross", "moth-lantern/anniversary:1", "moth-lantern/classic:1")
    plan = moth.cferry(*route, "--dry-run", "--json").data["plan"]["moves"][0]
    assert plan["changed_fields"] == [{"field": "owner", "value": "7700112", "how": "adopted"}]
    game(moth, "moth-lantern", "classic", "new", "--slot", "5")
    for name in ("7700112-tale01.mth", "7700112-tale01.not"):
        shutil.copy2(classic / name, classic / name.replace("7700112", "99"))
    told = moth.cferry(*route, "--dry-run", code=2).err
    assert "Slot 1 of the target is held by 2 saves" in told
    (classic / "99-tale01.mth").unlink()
    (classic / "99-tale01.not").unlink()
    moved = [path.rename(classic.parent / path.name) for path in classic.iterdir()]
    told = moth.cferry(*route, "--yes", code=4).err
    assert "needs the target's owner" in told
    assert "--give owner=VALUE" in told
    for path in moved:
        path.rename(classic / path.name)
    plan = moth.cferry("cross", "moth-lantern/anniversary:1", "moth-lantern/classic:5",
                       "--give", "owner=55", "--dry-run").out  # fmt: skip
    assert "55-tale05.mth" in plan


def test_a_devices_account_is_told_by_its_folder_or_given(moth: Den, tmp_path: Path) -> None:
    stick = tmp_path / "stick" / "00000031" / "MOTHLANT"
    stick.mkdir(parents=True)
    moth.cferry("cross", "moth-lantern/classic:3", f"moth-lantern/finch@{stick}:1", "--yes")
    assert (stick / "ML1.SLP").read_bytes()[4:8] == (31).to_bytes(4, "little")
    (tmp_path / "empty").mkdir()
    route = ("cross", "moth-lantern/classic:3", f"moth-lantern/finch@{tmp_path / 'empty'}:1")
    told = moth.cferry(*route, "--dry-run", code=4).err  # before anything is written
    assert "The target's account is not known" in told
    assert "--give account=VALUE" in told
    assert "it takes 8 digits" in moth.cferry(*route, "--give", "account=7", code=2).err
    moth.cferry(*route, "--give", "account=00000007", "--yes")
    assert (tmp_path / "empty" / "ML1.SLP").read_bytes()[4:8] == (7).to_bytes(4, "little")
    known = (
        "cross",
        "moth-lantern/classic:3",
        "moth-lantern/finch:2",
        "--give",
        "account=00000007",
    )
    assert "no 'account' to give" in moth.cferry(*known, "--yes", code=2).err


def test_a_handhelds_slip_is_made_and_held_against_the_tale(moth: Den) -> None:
    finch = folder(moth, "finch")
    plan = moth.cferry("cross", "moth-lantern/classic:3", "moth-lantern/finch:2", "--yes").out
    assert "ML2.SLP, the slip that describes the tale" in plan
    assert loads(moth, "moth-lantern", "finch", "2").startswith("By candle, Dusk, page 7")
    game(moth, "moth-lantern", "finch", "play", "--slot", "2", "--days", "2")
    tales = moth.cferry("pairs", "moth-lantern/classic", "moth-lantern/finch", "--json").data[
        "pairs"
    ]
    labels = {one["label"] for pair in tales for one in pair["files"] if one["first"] is None}
    assert "the device's slip, which describes the tale" in labels
    moth.cferry("cross", "moth-lantern/finch:2", "moth-lantern/classic:3", "--yes", "--replace")
    assert loads(moth, "moth-lantern", "classic", "3").startswith("By candle, The Moth, page 13")
    for there, *pair in (("second", "classic", "finch"), ("first", "finch", "classic")):
        paired = moth.cferry("pairs", *(f"moth-lantern/{one}" for one in pair), "--json").data
        would = [one[f"would_{there}"] for saves in paired["pairs"] for one in saves["files"]]
        assert "ML1.SLP" in would
    sidecar = bytearray((finch / "ML2.SLP").read_bytes())
    assert sidecar[18:27] == b"FINCH-2.7"
    sidecar[16] ^= 1
    (finch / "ML2.SLP").write_bytes(sidecar)
    assert "for the page, but the save" in moth.cferry("check", "moth-lantern/finch:2", code=5).out
    sidecar[16] ^= 1
    sidecar[12] ^= 1
    (finch / "ML2.SLP").write_bytes(sidecar)
    assert "it says" in moth.cferry("check", "moth-lantern/finch:2", code=5).out
    (finch / "ML2.SLP").unlink()
    assert "its slip is missing" in moth.cferry("slots", "moth-lantern/finch").out


def test_what_the_device_has_no_memory_for_is_refused_and_its_system_file_stays(moth: Den) -> None:
    game(moth, "moth-lantern", "classic", "play", "--slot", "1", "--days", "5")
    before = state(folder(moth, "finch"))
    route = ("cross", "moth-lantern/classic:1", "moth-lantern/finch:2", "--yes")
    told = moth.cferry(*route, code=4).err
    assert "too large for Pocket Finch" in told
    assert "bytes, and 8,000 are the most" in told
    assert "no memory for more" in told
    assert state(folder(moth, "finch")) == before
    assert "it takes a tale of 8,000 bytes at the most" in moth.cferry(
        "explain", "moth-lantern/finch"
    ).out.replace("\n", " ")  # fmt: skip
    other = moth.top / "C/Users/Wren/Documents/Pocket Finch/00000002/MOTHLANT"
    other.mkdir(parents=True)
    shutil.copy(folder(moth, "finch") / "SYSTEM.DAT", other / "SYSTEM.DAT")
    options = ("--from-account", "00471100", "--to-account", "00000002", "--yes")
    moth.cferry("cross", "moth-lantern/finch:1", "moth-lantern/finch:3", *options)
    assert (other / "ML3.SLP").read_bytes()[4:8] == (2).to_bytes(4, "little")
    (other / "SYSTEM.DAT").unlink()
    told = moth.cferry("cross", "moth-lantern/finch:1", "moth-lantern/finch:2", *options).out
    assert "the target has none" in told
    assert (other / "SYSTEM.DAT").is_file()


def test_what_the_game_writes_in_front_is_found_and_tidied(moth: Den) -> None:
    anniversary = folder(moth, "anniversary")
    moth.cferry("cross", "moth-lantern/classic:1", "moth-lantern/anniversary:1", "--yes",
                "--replace")  # fmt: skip
    assert "nothing to tidy" in moth.cferry("tidy", "moth-lantern/anniversary", "--yes", code=3).out
    # The game's first start writes what it still had in memory, as a newer generation.
    for end in ("tale", "note"):
        shutil.copy(next(moth.home.parent.rglob(f"lantern-1.2.{end}")),
                    anniversary / f"lantern-1.3.{end}")  # fmt: skip
    mine = json.loads((anniversary / "lantern-1.3.note").read_text("utf-8"))
    game(moth, "moth-lantern", "anniversary", "new", "--slot", "9")
    for end in ("tale", "note"):
        (anniversary / f"lantern-9.1.{end}").replace(anniversary / f"lantern-1.3.{end}")
    assert mine["page"] == 28
    assert loads(moth, "moth-lantern", "anniversary", "1").startswith("a try")
    before = state(anniversary)
    plan = moth.cferry("tidy", "moth-lantern/anniversary", "--dry-run").out.replace("\n", " ")
    assert "the game would load a try" in plan
    assert "crossing 1 carried: Ada's first" in plan
    assert state(anniversary) == before
    assert "--yes" in moth.cferry("tidy", "moth-lantern/anniversary", code=2).err
    moth.cferry("tidy", "moth-lantern/anniversary:1", "--yes")
    assert loads(moth, "moth-lantern", "anniversary", "1").startswith("Ada's first")
    assert [one["state"] for one in moth.cferry("log", "--json").data] == ["read back", "read back"]
    moth.cferry("undo", "--yes")
    assert state(anniversary) == before
    moth.cferry("tidy", "moth-lantern/anniversary", "--yes")
    game(moth, "moth-lantern", "anniversary", "play", "--slot", "1")
    told = moth.cferry("tidy", "moth-lantern/anniversary", "--yes", code=3).out
    assert "was played on since it was carried; it stays" in told
    data = moth.cferry("tidy", "moth-lantern/anniversary", "--json", "--dry-run", code=3).data
    assert [one["goes_on"] for one in data["hidden"]] == [True]


SHELF = """
recipe = 1
[game]
id = "shelf"
title = "Kingfisher Crown"
[pieces]
reign = { needed = true, holds = "json" }
profile = { shared = true, holds = "json" }
[facts]
name = { label = "Reign", from = "reign", at = "/reign" }
[editions.store]
title = "Tern Arcade"
most_slots = 3
berths = [{ on = "any", under = "documents", path = "shelf/{account}" }]
files = [
  { role = "reign", path = "{id}.blob", told = { text = '{"reign"', least = 20 } },
  { role = "profile", path = "{id}.blob", told = { text = "{", most = 19 } },
]
[editions.store.fields]
account = { type = "word" }
id = { type = "hex", length = 8, on_arrival = ["adopted", "made"] }
"""


def test_pieces_of_like_names_are_told_by_size_and_content(den: Den) -> None:
    den.recipe("shelf", SHELF)
    here = den.top / "C/Users/Wren/Documents/shelf"
    for account, blobs in (
        ("one", {"00000001": '{"reign": "Crown the First"}', "00000002": '{"hat": "red"}'}),
        ("two", {"0000000a": '{"reign": "A try, no more"}', "0000000b": '{"hat": "blue"}'}),
    ):
        (here / account).mkdir(parents=True)
        for name, text in blobs.items():
            (here / account / f"{name}.blob").write_text(text, "utf-8")
    (here / "one" / "00000003.blob").write_text("other", "utf-8")
    route = ("cross", "shelf/store:1", "shelf/store/two:A try, no more", "--from-account", "one",
             "--yes", "--replace")  # fmt: skip
    den.cferry(*route)
    assert (here / "two/0000000a.blob").read_text("utf-8") == '{"reign": "Crown the First"}'
    assert (here / "two/0000000b.blob").read_text("utf-8") == '{"hat": "blue"}'
    again = (*route[:2], "shelf/store/two:Crown the First", *route[3:], "--with", "profile")
    assert "as you ask" in den.cferry(*again).out
    assert (here / "two/0000000b.blob").read_text("utf-8") == '{"hat": "red"}'
    assert sorted(path.name for path in (here / "two").iterdir()) == [
        "0000000a.blob", "0000000b.blob"
    ]  # fmt: skip
    for number in range(4, 6):
        text = f'{{"reign": "Crown number {number}"}}'
        (here / "two" / f"{number:08}.blob").write_text(text, "utf-8")
    (here / "one" / "00000001.blob").write_text('{"reign": "Crown the Last"}', "utf-8")
    full = ("cross", "shelf/store/one:1", "shelf/store", "--to-account", "two")
    told = den.cferry(*full, "--yes", code=4).err
    assert "shows only 3 saves; this would make 4" in told
    assert "The oldest there is" in told


PICTURED = SHELF.replace('profile = { shared = true, holds = "json" }', "picture = {}")
PICTURED = (
    PICTURED[: PICTURED.index("[editions.store]")]
    + """
[editions.plain]
title = "without pictures"
berths = [{ on = "any", under = "documents", path = "plain" }]
files = [{ role = "reign", path = "{slot}.json" }]
fields.slot = { type = "number" }
[editions.store]
title = "with pictures"
berths = [{ on = "any", under = "documents", path = "shelf" }]
files = [
  { role = "reign", path = "{slot}/r.json" },
  { role = "picture", path = "{slot}/p.png", needed = true },
]
fields.slot = { type = "number" }
"""
)


def test_a_picture_comes_along_or_is_the_replaced_saves(den: Den) -> None:
    den.recipe("shelf", PICTURED)
    here = den.top / "C/Users/Wren/Documents"
    (here / "plain").mkdir()
    (here / "plain" / "1.json").write_text('{"reign": "Crown the First"}', "utf-8")
    (here / "shelf" / "2").mkdir(parents=True)
    (here / "shelf" / "2" / "r.json").write_text('{"reign": "A try"}', "utf-8")
    (here / "shelf" / "2" / "p.png").write_bytes(b"PNG of a try")
    told = den.cferry("cross", "shelf/plain:1", "shelf/store:3", "--yes", code=4).err
    assert "has no picture, and with pictures does not load a save without" in told
    told = den.cferry("cross", "shelf/plain:1", "shelf/store:2", "--yes", "--replace").out
    assert "the picture of the save it replaces, as this one has none" in told
    assert (here / "shelf/2/p.png").read_bytes() == b"PNG of a try"
    assert "Crown" in (here / "shelf/2/r.json").read_text("utf-8")
    den.cferry("cross", "shelf/store:2", "shelf/store:5", "--yes")
    assert (here / "shelf/5/p.png").read_bytes() == b"PNG of a try"


def test_several_in_front_go_and_what_was_played_since_stays(moth: Den) -> None:
    anniversary = folder(moth, "anniversary")
    moth.cferry("cross", "moth-lantern/classic:1", "moth-lantern/anniversary:1", "--yes",
                "--replace")  # fmt: skip
    game(moth, "moth-lantern", "anniversary", "play", "--slot", "1")  # the second turn, page 31
    for turn in (4, 5):
        game(moth, "moth-lantern", "anniversary", "new", "--slot", str(turn), "--name", "odd")
        for end in ("tale", "note"):
            (anniversary / f"lantern-{turn}.1.{end}").rename(
                anniversary / f"lantern-1.{turn}.{end}"
            )
    plan = moth.cferry("tidy", "moth-lantern/anniversary", "--dry-run").out.replace("\n", " ")
    assert "and what was played since: Ada's first" in plan
    assert "lantern-1.4.tale" in plan
    assert "lantern-1.3." not in plan
    before = state(anniversary)
    moth.cferry("tidy", "moth-lantern/anniversary", "--yes")
    assert "page 31" in loads(moth, "moth-lantern", "anniversary", "1")
    moth.cferry("undo", "--yes")
    assert state(anniversary) == before


# Systems -------------------------------------------------------------------------------------

MAC = """name = "attic"
system = "macos"
[folders]
home = "Users/oona"
documents = "Users/oona/Documents"
app-support = "Users/oona/Library/Application Support"
"""


class Yards:
    """Three computers of three systems, which see each other as harbours."""

    def __init__(self, tmp_path: Path, den: Den) -> None:
        self.den = den
        lay_orrery_yard(den.top, "wren", demo_yards())
        self.loft = Den(laid(lay_loft, tmp_path / "loft"), tmp_path / "loft-own")
        attic = tmp_path / "attic"
        attic.mkdir()
        (attic / "computer.toml").write_text(MAC, "utf-8")
        self.attic = Den(attic, tmp_path / "attic-own")
        tries = (("Isa", self.loft), ("Oona", self.attic))
        self.folders = {
            name: lay_orrery_yard(at.top, name.lower(), (begin(f"{name}'s try", name),))
            for name, at in tries
        }
        for own in (den, self.loft, self.attic):
            for other in (den, self.loft, self.attic):
                if own is not other:
                    own.cferry("harbour", "add", other.top.name, other.top)

    def at(self, edition: str) -> Den:
        return {"windows": self.den, "linux": self.loft, "macos": self.attic}[edition]


@pytest.fixture
def yards(tmp_path: Path, den: Den) -> Yards:
    return Yards(tmp_path, den)


def host(yards: Yards, edition: str, name: str, to: str) -> None:
    """Have a yard on a computer hosted by somebody else."""
    yards.at(edition).cferry(
        "handover", f"orrery-yard/{edition}:{name}", "--to", to, "--here", "--yes"
    )


def test_settings_follow_their_system_and_times_stay(yards: Yards) -> None:
    loft, isa = yards.loft, yards.folders["Isa"]
    told = loft.cferry("cross", "orrery-yard/windows@den:2", "orrery-yard/linux", "--yes",
                       "--host-ok", "--with", "settings").out.replace("\n", " ")  # fmt: skip
    assert "1 folder named in the settings: written as the target has them" in told
    assert "E:\\Music, named in the settings, is in no folder that is known" in told
    text = (isa / "settings.ini").read_bytes()
    assert text == (
        b"[folders]\npictures = /home/isa/Documents/Yard pictures\nmusic = E:\\Music\n[sound]\n"
        b"bells = 4\n"
    )
    source = next(yards.den.top.rglob("Comet Lane"))
    assert b"\r\n" in (source / "yard.xml").read_bytes()
    carried = isa / "yards" / "Comet Lane"
    assert b"\r" not in (carried / "yard.xml").read_bytes()
    for name in ("yard.xml", "card.json"):
        assert (carried / name).stat().st_mtime_ns == (source / name).stat().st_mtime_ns
    order = [path.name for path in sorted((isa / "yards").iterdir(), key=lambda p: p.name)]
    assert order == ["Comet Lane", "Isa's try"]
    den = yards.den
    den.cferry("cross", "orrery-yard/linux@loft:1", "orrery-yard/windows", "--yes", "--replace",
               "--with", "settings")  # fmt: skip
    settings = next(den.top.rglob("settings.ini")).read_bytes()
    assert b"pictures = C:\\Users\\Wren\\Documents\\Yard pictures\r\n" in settings


def test_into_a_compatibility_prefix_and_out_of_it(yards: Yards) -> None:
    loft, isa = yards.loft, yards.folders["Isa"]
    player = next(loft.top.rglob("481516")) / "inside/drive_c/users/player"
    own = player / "Documents/My Yards/Orrery Yard/isa"
    own.mkdir(parents=True)
    (own / "packs").mkdir()
    loft.cferry("cross", "orrery-yard/linux", "orrery-yard/windows@lamplight-481516", "--yes")
    settings = (own / "settings.ini").read_bytes()
    assert b"pictures = /home/isa/Documents/Yard pictures" not in settings
    assert b"pictures = c:\\users\\player\\documents\\yard pictures\r\n" in settings.lower()
    assert b"\r\n" in (own / "yards/Isa's try/yard.xml").read_bytes()
    shutil.rmtree(isa / "yards")
    (isa / "settings.ini").unlink()
    loft.cferry("cross", "orrery-yard/windows@lamplight-481516", "orrery-yard/linux", "--yes")
    assert b"pictures = /home/isa/Documents/Yard pictures\n" in (isa / "settings.ini").read_bytes()
    assert loads(loft, "orrery-yard", "linux", "Isa's try").startswith("Isa's try, day 1")


def test_settings_that_can_not_be_spelled_stay_behind(yards: Yards) -> None:
    loft, isa = yards.loft, yards.folders["Isa"]
    settings = next(yards.den.top.rglob("settings.ini"))
    text = settings.read_bytes().replace(b"E:\\Music", b"C:\\Users\\Wren\\AppData\\LocalLow\\m")
    settings.write_bytes(text)
    (isa / "settings.ini").unlink()
    route = ("cross", "orrery-yard/windows@den:2", "orrery-yard/linux", "--yes", "--host-ok")
    told = loft.cferry(*route, "--with", "settings", code=4).err
    assert "leads into the source's folder 'low-data', and the target has none" in told
    told = loft.cferry(*route).out.replace("\n", " ")
    assert "The settings, which the target lacks, stays behind" in told
    assert not (isa / "settings.ini").exists()


def test_packs_that_a_save_uses_must_be_there(yards: Yards) -> None:
    loft, isa = yards.loft, yards.folders["Isa"]
    (isa / "packs" / "comets.pack").unlink()
    route = ("cross", "orrery-yard/windows@den:2", "orrery-yard/linux", "--yes", "--host-ok")
    told = loft.cferry(*route, code=4).err.replace("\n", " ")
    assert "Comet Lane uses what the target's game does not have: comets" in told
    assert "This yard needs a pack that you do not have" in told
    assert not (isa / "yards" / "Comet Lane").exists()
    loft.cferry(*route, "--packs-ok")
    loft.cferry("undo", "--yes")
    recipe = loft.cferry("recipe", "show", "orrery-yard").out
    recipe = recipe.replace('studio = "Nine', 'replaces_shipped = true\nstudio = "Nine')
    loft.recipe(
        "orrery-yard", recipe.replace('do not have." }', 'do not have.", passable = true }')
    )
    assert "That can be passed." in loft.cferry(*route).out.replace("\n", " ")


def test_a_hostile_card_can_not_command_the_terminal(yards: Yards) -> None:
    card = next(yards.den.top.rglob("Comet Lane/card.json"))
    told = json.loads(card.read_text("utf-8"))
    evil = "\x1b[2Jcomets"
    card.write_text(json.dumps({**told, "packs": [evil], "founder": evil}), "utf-8")
    route = ("cross", "orrery-yard/windows@den:2", "orrery-yard/linux", "--yes")
    told_by = [
        yards.loft.cferry(*route, code=4).err,
        yards.den.cferry("handover", "orrery-yard/windows:2", "--to", "Isa", code=3).err,
        yards.den.cferry("slots", "orrery-yard").out,
    ]
    assert "\N{REPLACEMENT CHARACTER}[2Jcomets" in told_by[0]
    assert not any("\x1b" in one for one in told_by)


@pytest.mark.skipif(os.name == "nt", reason="Windows can't have files of such names")
def test_names_that_another_system_forbids_or_takes_for_one_are_refused(yards: Yards) -> None:
    isa = yards.folders["Isa"] / "yards"
    for name in ("Con", "brass court"):
        shutil.copytree(isa / "Isa's try", isa / name)
        card = json.loads((isa / name / "card.json").read_text("utf-8"))
        (isa / name / "card.json").write_text(json.dumps({**card, "yard": name}), "utf-8")
    den = yards.den
    told = den.cferry("cross", "orrery-yard/linux@loft:Con", "orrery-yard/windows", "--yes",
                      code=4).err  # fmt: skip
    assert "Con" in told
    shutil.rmtree(isa / "Con")
    shutil.copytree(isa / "brass court", isa / "BRASS COURT")
    route = (
        "cross",
        "orrery-yard/linux@loft",
        "orrery-yard/windows",
        "--yes",
        "--host-ok",
        "--replace",
    )
    told = den.cferry(*route, code=4).err
    assert "would both become" in told
    shutil.rmtree(isa / "BRASS COURT")
    plan = den.cferry(*route, "--dry-run").out  # another letter case is the same name there
    assert "Brass Court" in plan
    assert "Will be backed up first" in plan


# Hosts ---------------------------------------------------------------------------------------


def test_a_world_is_handed_over_in_two_halves_and_back(yards: Yards, tmp_path: Path) -> None:
    den, loft = yards.den, yards.loft
    before = state(den.top / "C")
    parcel = tmp_path / "for isa.zip"
    told = den.cferry("handover", "orrery-yard/windows:Brass Court", "--to", "isa", "-o", parcel)
    assert "Wren → Isa" in told.out
    assert state(den.top / "C") == before
    assert "READ ME.txt" in zipfile.ZipFile(parcel).namelist()
    route = ("cross", "orrery-yard/windows@den:1", "orrery-yard/linux", "--yes")
    refused = loft.cferry(*route, code=4).err
    assert "loads only worlds that Isa hosts" in refused
    assert 'handover "orrery-yard/windows@den:Brass Court" --to Isa -o brass-court.zip' in refused
    loft.cferry(*route, "--host-ok")
    assert "its game will refuse it" in loft.cferry("check", "orrery-yard/linux", code=4).out
    no = game(loft, "orrery-yard", "linux", "load", "--slot", "Brass Court", code=1).err
    assert "Wren hosts it, and here plays Isa" in no
    loft.cferry("undo", "--yes")
    loft.cferry("handover", "orrery-yard/linux", "--take", parcel, "--yes")
    there = loads(loft, "orrery-yard", "linux", "Brass Court")
    assert there.startswith("Brass Court, day 31, 12 h 35 min, ")
    assert there.endswith("Isa (95 cogs), Wren (125 cogs), Oona (125 cogs)")
    game(loft, "orrery-yard", "linux", "play", "--slot", "Brass Court", "--days", "4")
    back = tmp_path / "for wren.zip"
    loft.cferry("handover", "orrery-yard/linux:Brass Court", "--to", "Wren", "-o", back)
    assert "replace" in den.cferry("handover", "orrery-yard/windows", "--take", back, "--yes",
                                   code=4).err  # fmt: skip
    den.cferry("handover", "orrery-yard/windows", "--take", back, "--yes", "--replace")
    there = loads(den, "orrery-yard", "windows", "Brass Court")
    assert there.startswith("Brass Court, day 35, ")
    assert "Wren (141 cogs), Isa (107 cogs)" in there
    assert b"\r\n" in next(den.top.rglob("Brass Court/founder.xml")).read_bytes()


def test_ones_own_copy_is_handed_over_and_back(yards: Yards) -> None:
    den = yards.den
    before = state(next(den.top.rglob("Orrery Yard")))
    where = "orrery-yard/windows:Brass Court"
    data = den.cferry("handover", where, "--to", "Oona", "--here", "--yes", "--json").data
    assert (data["host_was"], data["host"]) == ("Wren", "Oona")
    refused = game(den, "orrery-yard", "windows", "load", "--slot", "Brass Court", code=1).err
    assert "Oona hosts it" in refused
    den.cferry("undo", "--yes")
    assert state(next(den.top.rglob("Orrery Yard"))) == before
    den.cferry("handover", where, "--to", "Oona", "--here", "--yes")
    den.cferry("handover", where, "--to", "Wren", "--here", "--yes")
    assert "Wren (125 cogs)" in loads(den, "orrery-yard", "windows", "Brass Court")
    assert {path: one[0] for path, one in state(next(den.top.rglob("Brass Court"))).items()} == {
        path.partition("Brass Court")[2].lstrip("/") or ".": one[0]
        for path, one in before.items()
        if "Brass Court" in path
    }


def test_a_handover_that_can_not_be_is_refused(yards: Yards, tmp_path: Path) -> None:
    den = yards.den
    where = "orrery-yard/windows:Brass Court"
    told = den.cferry("handover", where, "--to", "Ada", "--here", "--yes", code=3).err
    assert "There are: Isa, Oona." in told
    assert "hosts Brass Court already" in den.cferry(
        "handover", where, "--to", "wren", "--here", "--yes", code=4
    ).err  # fmt: skip
    assert "one world is handed over at a time" in den.cferry(
        "handover", "orrery-yard/windows", "--to", "Isa", "--here", "--yes", code=2
    ).err  # fmt: skip
    lay_moth_lantern(den.top)
    told = den.cferry(
        "handover", "moth-lantern/finch:1", "--to", "Isa", "--here", "--yes", code=5
    ).err  # fmt: skip
    assert "does not say how" in told
    assert "say where the world goes" in den.cferry("handover", where, "--to", "Isa", code=2).err
    founder = next(den.top.rglob("Brass Court/founder.xml"))
    founder.rename(founder.with_name("founder.away"))
    told = den.cferry("handover", where, "--to", "Isa", "--here", "--yes", code=4).err
    assert "has no founder, whose place could be taken" in told
    founder.with_name("founder.away").rename(founder)
    assert "either --to" in den.cferry("handover", where, code=2).err
    (tmp_path / "x.zip").write_bytes(b"mine")
    assert "is there already" in den.cferry(
        "handover", where, "--to", "Isa", "-o", tmp_path / "x.zip", code=4
    ).err  # fmt: skip
    assert (tmp_path / "x.zip").read_bytes() == b"mine"
    gone = tmp_path / "no" / "folder" / "x.zip"
    assert "can't be written" in den.cferry(
        "handover", where, "--to", "Isa", "-o", gone, code=4
    ).err  # fmt: skip


def test_a_world_of_players_in_one_list_changes_its_host(den: Den, tmp_path: Path) -> None:
    assert den.loads("tern", 2).endswith("with Wren, Isa")
    parcel = tmp_path / "marsh.zip"
    boxed = tmp_path / "boxed.zip"  # out of a box, it is a parcel
    den.cferry("handover", "saltglass/tern:2", "--to", "Isa", "-o", boxed)
    shown = den.cferry("parcel", "check", boxed).out
    assert "Isa hosts it now: cferry handover saltglass/tern --take THIS-FILE" in shown
    den.cferry("handover", "saltglass/depot:6", "--take", boxed, "--yes")
    assert den.loads("depot", 6).endswith("with Isa, Wren")
    assert den.loads("tern", 2).endswith("with Wren, Isa")
    den.cferry("handover", "saltglass/tern:2", "--to", "isa", "--here", "--yes")
    assert den.loads("tern", 2).startswith("Saltmarsh, day 31")
    assert den.loads("tern", 2).endswith("with Isa, Wren")
    den.cferry("handover", "saltglass/depot:1", "--to", "Isa", "-o", parcel)
    den.cferry("handover", "saltglass/tern:5", "--take", parcel, "--yes")
    assert den.loads("tern", 5).startswith("Saltmarsh, day 12")
    assert den.loads("tern", 5).endswith("with Isa, Wren")
    assert den.loads("depot", 1).endswith("with Wren, Isa")
    assert "It has no guests" in den.cferry(
        "handover", "saltglass/depot:3", "--to", "Isa", "--here", "--yes", code=3
    ).err  # fmt: skip
    meta = next(den.depot.glob("voyage-00-*")) / "meta.json"
    told = json.loads(meta.read_text("utf-8"))
    meta.write_text(json.dumps({**told, "players": []}), "utf-8")
    told = den.cferry("handover", "saltglass/depot:1", "--to", "Isa", "-o", tmp_path / "x.zip",
                      code=4).err  # fmt: skip
    assert "does not say who hosts it" in told


# All of it -----------------------------------------------------------------------------------


@pytest.mark.long
def test_every_moth_and_lantern_to_every_other_and_back(
    moth: Den, record_property: Callable[[str, object], None]
) -> None:
    editions, count = ("classic", "anniversary", "finch"), 0
    slots = {"classic": "3", "anniversary": "2", "finch": "2"}
    for edition in ("anniversary", "finch"):
        moth.cferry("cross", "moth-lantern/classic:3", f"moth-lantern/{edition}:2", "--yes")
    game(moth, "moth-lantern", "classic", "new", "--slot", "6")  # whose header is adopted
    for start in editions:
        for goal in editions:
            if start == goal or not (LONG or "finch" in (start, goal)):
                continue
            free = {"classic": "6", "anniversary": "5", "finch": "3"}[goal]
            moth.cferry("cross", f"moth-lantern/{start}:{slots[start]}",
                        f"moth-lantern/{goal}:{free}", "--yes", "--replace")  # fmt: skip
            data = moth.cferry("slots", f"moth-lantern/{start}:{slots[start]}",
                               f"moth-lantern/{goal}:{free}", "--json").data  # fmt: skip
            assert [one["first_is"] for one in data["compared"]] == ["the same"], (start, goal)
            assert loads(moth, "moth-lantern", goal, free).startswith("By candle, Dusk, page 7")
            game(moth, "moth-lantern", goal, "play", "--slot", free)
            assert "page 10" in loads(moth, "moth-lantern", goal, free)
            moth.cferry("undo", "--yes", "--lose-later-play")
            count += 1
    record_property("routes", count)
    assert count == (6 if LONG else 4)


@pytest.mark.long
def test_every_system_to_every_other_and_back(
    yards: Yards, record_property: Callable[[str, object], None]
) -> None:
    count, hosts = 0, {"windows": "Wren", "linux": "Isa", "macos": "Oona"}
    names = {"windows": "den", "linux": "loft", "macos": "attic"}
    for goal in ("linux", "macos", "windows"):
        for start in hosts:
            if start == goal or not (LONG or "windows" in (start, goal)):
                continue
            own, name = yards.at(goal), "Brass Court"
            if goal == "windows" or start != "windows":
                name = f"{hosts[start]}'s try"
            source = f"orrery-yard/{start}@{names[start]}:{name}"
            own.cferry("cross", source, f"orrery-yard/{goal}", "--yes", "--host-ok")
            data = own.cferry("slots", source, f"orrery-yard/{goal}:{name}", "--json").data
            assert [one["first_is"] for one in data["compared"]] == ["the same"], (start, goal)
            refused = game(own, "orrery-yard", goal, "load", "--slot", name, code=1).err
            assert f"hosts it, and here plays {hosts[goal]}" in refused
            if name == "Brass Court":
                host(yards, goal, name, hosts[goal])
                game(own, "orrery-yard", goal, "play", "--slot", name, "--days", "2")
                assert loads(own, "orrery-yard", goal, name).startswith("Brass Court, day 33")
            count += 1
    record_property("routes", count)
    assert count == (6 if LONG else 4)


PARTS = st.text(st.characters(codec="utf-8", exclude_characters='\\/:*?"<>|@\r\n;#=[]',
                              exclude_categories=["C", "Z"]), min_size=1, max_size=8)  # fmt: skip


@example(["u", "¡"], "json")  # a backslash and a u that are no letter's number
@given(st.lists(PARTS, min_size=1, max_size=4), st.sampled_from(["json", "ini"]))
def test_paths_in_known_folders_go_round_between_systems(parts: list[str], holds: str) -> None:
    spec = convert({"kind": "paths", "holds": holds, "at": ["/a/b"]}, PathsSpec)
    chain = compile_layers({"it": (spec,)}, {})["it"]
    home = r"C:\Users\Wren"
    windows = Known(folders={"home": home, "documents": rf"{home}\Documents"})
    linux = Known(folders={"home": "/home/isa", "documents": "/home/isa/Documents"})

    def text(path: str) -> bytes:
        inner = json.dumps({"a": {"b": path}}, ensure_ascii=False)
        return (inner if holds == "json" else f"[a]\nb = {path}\n").encode()

    def carried(raw: bytes, start: Known, goal: Known) -> bytes:
        unwrapped = chain.unwrap(BytesPayload(raw), start)
        same = chain.wrap(unwrapped.payload, start, unwrapped.residue)
        assert read_all(same, limit=1 << 16, what="it") == raw
        return read_all(chain.wrap(unwrapped.payload, goal), limit=1 << 16, what="it")

    here = text("C:\\Users\\wren\\documents\\" + "\\".join(parts))
    there = text("/home/isa/Documents/" + "/".join(parts))
    assert carried(here, windows, linux) == there
    back = text("C:\\Users\\Wren\\Documents\\" + "\\".join(parts))
    assert carried(there, linux, windows) == back
    if holds == "ini":
        quoted = text('"C:\\Users\\Wren\\' + "\\".join(parts) + '"')
        assert carried(quoted, windows, linux) == text('"/home/isa/' + "/".join(parts) + '"')
    inner = [text("\\".join(parts)), text("/".join(parts))]
    assert carried(inner[0], windows, linux) == inner[1]
    assert carried(inner[1], linux, windows) == inner[0]
    for odd in ("https://a/b", r"D:\else", "/srv/else", "@documents", "@@x", r"\\host\share",
                "/home/isa2/x", r"C:\Users\Wren2\x"):  # fmt: skip
        for start, goal in ((windows, linux), (linux, windows)):
            assert carried(text(odd), start, goal) == text(odd)
