"""Wrong input gets a clear error, a documented exit code, and an untouched target."""

from __future__ import annotations

import os
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Den, run_module, state

TO = ("saltglass/tern:2", "saltglass/depot:5", "--yes")
BACK = ("saltglass/depot:3", "saltglass/tern:5", "--yes")


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        (("cross", "saltglas/tern", "saltglass/depot"), 2, "Near to it: saltglass"),
        (("cross", "saltglass/terne", "saltglass/depot"), 2, "Did you mean saltglass/tern?"),
        (("cross", "saltglass", "saltglass/depot"), 2, "does not say which edition"),
        (("cross", "saltglass/tern:4", "saltglass/depot"), 2, "2  Saltmarsh"),
        (("cross", "saltglass/tern:saltmash", "saltglass/depot"), 2, "Did you mean Saltmarsh?"),
        (("cross", "saltglass/tern:1", "openttd/linux"), 2, "different games"),
        (("cross", "saltglass/tern:1,2", "saltglass/depot:5"), 2, ":5-6"),
        (("cross", "saltglass/tern:1", "saltglass/depot:9"), 4, "Free slots: 2, 4, 5"),
        (("cross", "saltglass/tern:1", "saltglass/tern:1"), 2, "onto itself"),
        (("cross", "saltglass/tern:1", "saltglass/depot:5", "--give", "world"), 2, "nobody sits"),
        (("cross", "saltglass/tern:1", "saltglass/depot:5", "--give", "x=1"), 2, "There is: world"),
        (("slots", "saltglass:"), 2, "lacks a slot"),
        (("slots", "nonsense!"), 2, "no address"),
        (("chek", "saltglass"), 2, "Did you mean check"),
        (("cross",), 2, "--help"),
        (("undo", "7", "--yes"), 2, "no crossing 7"),
        (("undo",), 3, "no crossing to undo"),
        (("recipe", "check", "nowhere.toml"), 5, "can't be read"),
    ],
)
def test_wrong_words(den: Den, arguments: tuple[str, ...], code: int, said: str) -> None:
    if os.name == "nt" and said == "nobody sits":
        pytest.skip("Windows' device without anything counts as a terminal")
    before = state(den.top)
    assert said in den.cferry(*arguments, code=code).err
    assert state(den.top) == before


def cut(path: Path) -> None:
    path.write_bytes(path.read_bytes()[:-7])


def flip(path: Path) -> None:
    data = bytearray(path.read_bytes())
    data[len(data) // 2] ^= 0x10
    path.write_bytes(data)


def blob(den: Den) -> Path:
    """Return a blob of the world that is carried: the largest of its entries' first parts."""
    from clever_ferry_demo.saltglass.tern import Crate

    record = next(r for r in Crate.read(den.tern).records if r.name == "isle2.level")
    return den.tern / "stow" / f"{record.ident.hex()}-00.tern"


def piece(den: Den, name: str) -> Path:
    return next(den.depot.glob(f"voyage-02-*/{name}"))


DAMAGE: dict[str, tuple[Callable[[Den], object], tuple[str, ...], str]] = {
    "ledger flipped": (lambda den: flip(den.tern / "hold.ledger"), TO, "hold.ledger is damaged"),
    "ledger cut": (lambda den: cut(den.tern / "hold.ledger"), TO, "hold.ledger is damaged"),
    "ledger empty": (lambda den: (den.tern / "hold.ledger").write_bytes(b""), TO, "magic"),
    "ledger gone": (lambda den: (den.tern / "hold.ledger").unlink(), TO, "is missing"),
    "target's ledger": (lambda den: flip(den.tern / "hold.ledger"), BACK, "damaged"),
    "blob gone": (lambda den: blob(den).unlink(), TO, "isle2.level: its blob stow/"),
    "blob short": (lambda den: cut(blob(den)), TO, "but the index says"),
    "blob flipped": (lambda den: flip(blob(den)), TO, "is damaged"),
    "world cut": (lambda den: cut(piece(den, "world.sgw")), BACK, "header says"),
    "world flipped": (lambda den: flip(piece(den, "world.sgw")), BACK, "damaged"),
    "world empty": (lambda den: piece(den, "world.sgw").write_bytes(b""), BACK, "magic"),
    "world gone": (lambda den: piece(den, "world.sgw").unlink(), BACK, "its world is missing"),
    "meta gone": (lambda den: piece(den, "meta.json").unlink(), BACK, "its meta is missing"),
    "meta flipped": (lambda den: cut(piece(den, "meta.json")), BACK, "no JSON"),
    "meta nested": (
        lambda den: piece(den, "meta.json").write_text("[" * 100_000), BACK, "no JSON",
    ),
}  # fmt: skip


@pytest.mark.parametrize("damage", DAMAGE)
def test_damage_at_the_source_changes_nothing(den: Den, damage: str) -> None:
    spoil, route, said = DAMAGE[damage]
    spoil(den)
    before = state(den.top)
    done = den.cferry("cross", *route, code=5)
    assert said in done.err, done.err
    assert state(den.top) == before
    assert den.cferry("look").code == 0  # and the rest is still shown


def test_one_damaged_save_does_not_stop_the_others(den: Den) -> None:
    blob(den).unlink()
    assert (
        "choose them with saltglass/tern:1"
        in den.cferry("cross", "saltglass/tern", "saltglass/depot:5-6", "--yes", code=5).err
    )
    done = den.cferry("check", "saltglass/tern", code=5)
    assert "✗ slot 2" in done.out
    assert "✓ slot 1" in done.out
    assert "is missing" in den.cferry("slots", "saltglass/tern").out
    den.cferry("cross", "saltglass/tern:1", "saltglass/depot:5", "--yes")


def test_check_reads_to_the_last_byte(den: Den) -> None:
    told = den.cferry("check", "saltglass/depot").out
    assert "2 verified" in told
    assert "only read: nothing in them tells" in told
    flip(piece(den, "world.sgw"))
    assert den.cferry("slots", "saltglass/depot").code == 0
    done = den.cferry("check", "saltglass/depot:3", "--json", code=5)
    assert done.data["damaged"] is True
    assert done.data["saves"][0]["problems"]
    den.cferry("check", "saltglass/depot:1")


def test_absurd_times_and_numbers_do_no_harm(den: Den) -> None:
    from clever_ferry_demo.saltglass.tern import Crate

    crate = Crate.read(den.tern)
    for record in crate.records:
        if record.name.startswith("isle2"):
            record.stamp = 2**63
        if record.name == "isle2.about":
            record.data = record.data.replace(b'"seconds": ', b'"seconds": 1e999, "x": ')
    crate.write(den.tern, 10**12)
    raw = bytearray((den.tern / "hold.ledger").read_bytes())
    raw[22:30] = (2**64 - 1).to_bytes(8, "little")
    raw[-4:] = zlib.adler32(raw[:-4]).to_bytes(4, "little")
    (den.tern / "hold.ledger").write_bytes(raw)
    shown = den.cferry("slots", "saltglass/tern").out
    assert "no date" in shown
    assert "no number" in shown
    den.cferry("look")
    den.cferry("cross", "saltglass/tern:2", "saltglass/depot:5", "--yes")
    den.cferry("undo", "--yes")


@pytest.mark.skipif(os.name == "nt", reason="Windows can't have files of such names")
def test_names_that_windows_forbids_are_refused(den: Den, tmp_path: Path) -> None:
    saves = tmp_path / "saves"
    saves.mkdir()
    (den.top / "C/Users/Wren/Documents/OpenTTD/save").mkdir(parents=True)
    before = state(den.top)
    for name, said in (("aux", "device"), ("x.", "dot"), ("com¹.x", "device")):
        (saves / f"{name}.sav").write_bytes(b"OTTN\x01\x2e\x00\x00")
        route = (f"openttd/linux@{saves}:{name}", "openttd/windows", "--yes")
        if name == "x.":
            den.cferry("cross", *route)  # the dot is not at the end: x..sav
            den.cferry("undo", "--yes")
        else:
            assert said in den.cferry("cross", *route, code=4).err
    assert state(den.top) == before


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("name = 1", "name"),
        ('name = "x"\nsystem = "beos"\n[folders]\n', "'windows'"),
        ('name = "x"\nsystem = "linux"\n[folders]\nhome = "../.."', "must lie below"),
        ('name = "x"\nsystem = "linux"\n[folders]\nhmoe = "a"', "no such known folder"),
        ("= nonsense", "can't be read"),
    ],
)
def test_a_description_that_cant_be_used(tmp_path: Path, text: str, said: str) -> None:
    (tmp_path / "computer.toml").write_text(text)
    done = run_module("clever_ferry", "--computer", tmp_path, "look", env={})
    assert done.code == 5
    assert said in done.err
    nowhere = run_module("clever_ferry", "--computer", tmp_path / "x", "look", env={})
    assert nowhere.code == 3
