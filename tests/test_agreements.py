"""Values that must be so because of something else: found wrong one by one, and written right."""

from __future__ import annotations

import base64
import gzip
import hashlib
import json
import random
import struct
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.layers import Known, LayerSpec, compile_layers
from clever_ferry.layers.known import Writing
from clever_ferry.model import convert
from clever_ferry.payload import BytesPayload
from clever_ferry_demo.invented import Ropewalk
from tests.conftest import Den
from tests.test_invented import RECIPES, saves
from tests.test_layers import whole

WALK = (RECIPES / "ropewalk.toml").read_text("utf-8")
OWN = """
[editions.made.facts]
own = { from = "card", at = "/writes" }
"""
SPOILT: dict[str, Callable[[dict[str, Any]], object]] = {
    "slot": lambda card: card.update(slot=9),
    "day": lambda card: card.update(day=card["day"] + 1),
    "style": lambda card: card.update(style="gaudy"),
    "size": lambda card: card["rope"].update(bytes=card["rope"]["bytes"] + 1),
    "crc32": lambda card: card["rope"].update(packed=f"{int(card['rope']['packed'], 16) ^ 1:08X}"),
    "sha256": lambda card: card["rope"].update(plain="A" + card["rope"]["plain"][1:-1] + "="),
    "adler32": lambda card: card["note"].update(sum=card["note"]["sum"][:-1] or "0"),
}


@pytest.fixture
def walk(linux: Callable[..., Den], tmp_path: Path) -> Den:
    den = linux(home="home")
    den.recipe("ropewalk", WALK)
    (tmp_path / "made").mkdir()
    Ropewalk.write(tmp_path / "made", saves(4, (1, 2)))
    return den


@pytest.mark.parametrize("what", SPOILT)
def test_each_agreement_that_is_spoilt_is_found(walk: Den, tmp_path: Path, what: str) -> None:
    made = f"ropewalk/made@{tmp_path}"
    assert "verified" in walk.cferry("check", made).out
    path = tmp_path / "made" / "02.card"
    card = json.loads(path.read_text())
    SPOILT[what](card)
    path.write_text(json.dumps(card))
    told = walk.cferry("check", made, code=5)
    assert what in told.err + told.out or what in ("style", "slot"), told
    assert "Isle 1" in walk.cferry("check", f"{made}:1").out


def test_a_counter_goes_up_and_the_rest_of_a_card_is_the_targets(walk: Den, tmp_path: Path) -> None:
    path = tmp_path / "made" / "02.card"
    card = {**json.loads(path.read_text()), "writes": 41, "tar": [1.50, "Isa's"]}
    path.write_text(json.dumps(card, indent=5) + "\n\n")
    before = path.read_text()
    told = walk.cferry("cross", f"ropewalk/made@{tmp_path}:1", f"ropewalk/made@{tmp_path}:2",
                       "--yes", "--replace").out  # fmt: skip
    assert "as carried but for 7 values that must agree here" in " ".join(told.split())
    after = json.loads(path.read_text())
    assert (after["writes"], after["tar"], after["slot"]) == (42, [1.5, "Isa's"], 2)
    for value in ("1.5", "\n     ", "\n\n"):
        assert path.read_text().count(value) == before.count(value)
    assert Ropewalk.read(tmp_path / "made").keys() == {1, 2}


WRONG = {
    "no such fact": ('fact = "day"', 'fact = "dawn"', "'dawn'"),
    "no such piece": ('piece = "note"', 'piece = "nota"', "'nota'"),
    "no such stage": ('stage = "packed"', 'stage = "pakced"', "it has file, payload, packed"),
    "its own bytes": ('piece = "note"', 'piece = "card"', "its own bytes"),
    "no such field": ('field = "slot"', 'field = "berth"', "'berth'"),
    "two partners": ('field = "slot"', 'field = "slot", always = 3', "say one of"),
    "a stage of nothing": ('fact = "day"', 'fact = "day", stage = "payload"', "one of a `piece`"),
    "digits of nothing": ('at = "/day"', 'digits = 3, at = "/day"', "`digits` are of"),
    "an idle stage": ('stage = "packed", what', "what", "nothing speaks of the stage"),
    "no place": ('at = "/style"', 'at = "style"', "must start with"),
    "no value of a layout": ("[layers]", '[layers]\nodd = [{ kind = "agrees", holds = "hemp", '
                             'values = [{ at = "/x", always = 1 }] }]', "no value stands at /x"),
    "a template without a place": ('"writes": 0, ', "", "no count at /writes"),
    "a template that is none": ('{"bytes": 0', '{bytes: 0', "no JSON"),
    "a number as digits": ('"/slot", field = "slot"', '"/slot", field = "slot", spelled = "hex"',
                           "is `spelled` number-hex"),
    "a payload that is opened up": ('{ kind = "zlib" },', '{ kind = "zlib" }, { kind = "agrees", '
                                    'holds = "json", values = [{ at = "/x", field = "slot" }] },',
                                    "the world's payload has nothing"),
    "itself": ('fact = "day"', 'fact = "own"', "read from here"),
    "a layer for nothing": ('layers = ["card"], describes', "describes", "a layer that `agrees`"),
}  # fmt: skip


@pytest.mark.parametrize("case", WRONG)
def test_what_can_not_be_reached_is_refused(walk: Den, case: str) -> None:
    old, new, said = WRONG[case]
    assert old in WALK
    changed = WALK.replace(old, new)
    if case == "itself":
        changed = (
            changed.replace("[facts]", '[facts]\nown = { label = "Own", field = "slot" }') + OWN
        )
    path = walk.recipe("ropewalk", changed)
    told = walk.cferry("recipe", "check", path, code=5)
    assert said in told.err, told.err


def test_a_card_of_the_games_own_form_agrees_too(walk: Den, tmp_path: Path) -> None:
    own = WALK.replace('holds = "json", values', 'holds = "slip", values').replace(
        'card = { holds = "json" }', 'card = { holds = "slip" }')  # fmt: skip
    template = own[own.index("template = '''") : own.index("''' },") + 3]
    slip = "slot: 0\\nday: 0\\nwrites: 0\\nstyle: plain\\nrope {\\n bytes: 0\\n packed: 0\\n"
    slip += " plain: 0\\n}\\nnote {\\n sum: 0\\n}\\n"
    own = own.replace(template, f'template = "{slip}"')
    own += '[forms.slip]\nkind = "blocks"\nassigns = [":"]\n'
    walk.cferry("recipe", "check", walk.recipe("ropewalk", own))
    (tmp_path / "plain").mkdir()
    (tmp_path / "plain" / "5.world").write_bytes(b"isle")
    (tmp_path / "plain" / "5.note").write_bytes(b'{"name": "Five", "day": 5}')
    for card in (tmp_path / "made").glob("*"):
        card.unlink()
    walk.cferry("cross", f"ropewalk/plain@{tmp_path}", f"ropewalk/made@{tmp_path}:5", "--yes")
    told = (tmp_path / "made" / "05.card").read_text().splitlines()
    assert told[:4] == ["slot: 5", "day: 5", "writes: 1", "style: plain"]
    assert told[5] == f" bytes: {(tmp_path / 'made' / '05.rope').stat().st_size}"
    walk.cferry("check", f"ropewalk/made@{tmp_path}")


def test_a_header_speaks_of_a_stage_further_within(walk: Den, tmp_path: Path) -> None:
    sized = WALK.replace(
        '[{ type = "magic", text = "HEMP" }]',
        '[{ type = "magic", text = "HEMP" }, { type = "u32", name = "once", '
        'computed = { what = "size", at_stage = "packed" } }]',
    ).replace('{ kind = "stage"', '{ kind = "gzip" }, { kind = "stage"')
    path = walk.recipe("ropewalk", sized)
    walk.cferry("recipe", "check", path)
    (tmp_path / "plain").mkdir()
    (tmp_path / "plain" / "5.world").write_bytes(b"isle" * 999)
    (tmp_path / "plain" / "5.note").write_bytes(b'{"name": "Five", "day": 5}')
    walk.cferry("cross", f"ropewalk/plain@{tmp_path}", f"ropewalk/made@{tmp_path}:5", "--yes")
    rope = tmp_path / "made" / "05.rope"
    raw = Ropewalk._masked(rope.read_bytes())
    once = gzip.decompress(raw[8:])
    assert (raw[:4], int.from_bytes(raw[4:8], "little")) == (b"HEMP", len(once))
    assert zlib.decompress(once) == b"isle" * 999
    card = json.loads((tmp_path / "made" / "05.card").read_text())
    assert card["rope"]["packed"] == f"{zlib.crc32(once):08X}"
    walk.cferry("check", f"ropewalk/made@{tmp_path}:5")
    rope.write_bytes(Ropewalk._masked(raw[:4] + b"\1\0\0\0" + raw[8:]))
    told = walk.cferry("check", f"ropewalk/made@{tmp_path}:5", code=5).out
    assert "more bytes than the 1 that the header says" in told
    lost = sized.replace('at_stage = "packed"', 'at_stage = "unpacked"')
    walk.recipe("ropewalk", lost)
    assert "not within it" in walk.cferry("recipe", "check", path, code=5).err


def test_pieces_that_speak_of_each_other_in_a_circle_are_refused(walk: Den) -> None:
    turn = """\
turn = [{ kind = "agrees", holds = "json", values = [
  { at = "/c", piece = "card", what = "size" },
] }]
card = [{ kind"""
    both = WALK.replace('"{slot}.txt"', '"{slot}.txt", layers = ["turn"]')
    both = both.replace("card = [{ kind", turn)
    path = walk.recipe("ropewalk", both)
    assert "in a circle" in walk.cferry("recipe", "check", path, code=5).err


CARDS = {
    "json": b'{"a": {"sum": "", "n": 0}, "kept": 1.50}\n',
    "ini": b"; mine\n[a]\nsum =\nn = 0\n",
    "xml": b"<c><a n='0'><sum></sum></a><!-- mine --></c>",
    "properties": b"a/sum=\na/n = 0\n",
}
NUMBERED = {"xml": "/c/a/@n", "properties": "/a~1n"}
SUMMED = {"xml": "/c/a/sum", "properties": "/a~1sum"}
RIGHT: dict[str, Callable[[bytes], int | bytes]] = {
    "crc32": zlib.crc32, "adler32": zlib.adler32, "size": len,
    "sha1": lambda data: hashlib.sha1(data).digest(),
    "sha256": lambda data: hashlib.sha256(data).digest(),
}  # fmt: skip


@given(st.sampled_from(sorted(CARDS)), st.sampled_from(sorted(RIGHT)), st.data())
def test_any_checksum_in_any_spelling_is_written_right_and_found_wrong(
    form: str, what: str, data: st.DataObject
) -> None:
    right = RIGHT[what](raw := data.draw(st.binary(max_size=60)))
    bytes_of = ["hex", "HEX", "base64", "hex-little"]
    ways = bytes_of if isinstance(right, bytes) else ["decimal", "hex", "HEX"]
    spelled, account = data.draw(st.sampled_from(ways)), data.draw(st.integers(0, 10**12))
    values = [
        {"at": SUMMED.get(form, "/a/sum"), "piece": "world", "what": what, "spelled": spelled},
        {"at": NUMBERED.get(form, "/a/n"), "field": "account", "plus": 3},
    ]
    spec = convert([{"kind": "agrees", "holds": form, "values": values}], list[LayerSpec])
    chain = compile_layers({"card": spec}, {})["card"]
    (layer,) = chain.layers
    writing = Writing(0, stage=lambda role, stage: BytesPayload(raw))
    known = Known({"account": account}, writing=writing)
    blank = layer.blanked(BytesPayload(CARDS[form]))  # type: ignore[attr-defined]
    card = whole(chain.wrap(blank, known))
    digits = right.hex() if isinstance(right, bytes) else f"{right:x}"
    text = {
        "decimal": str(right), "hex": digits, "HEX": digits.upper(),
        "base64": base64.b64encode(bytes.fromhex(digits) if len(digits) % 2 == 0 else b"").decode(),
        "hex-little": bytes.fromhex(digits)[::-1].hex() if len(digits) % 2 == 0 else "",
    }[spelled]  # fmt: skip
    assert text.encode() in card.replace(b"\\=", b"=")
    assert str(account + 3).encode() in card
    found = chain.unwrap(BytesPayload(card))
    assert whole(found.payload) == whole(blank)
    if form == "json":
        owner = {"at": "/a/sum", "field": "account", "spelled": "hex"}  # digits, not a number
        spec = convert([{"kind": "agrees", "holds": form, "values": [owner]}], list[LayerSpec])
        named = compile_layers({"card": spec}, {})["card"]
        own = whole(named.wrap(BytesPayload(CARDS[form]), Known({"account": "00ab"})))
        assert named.unwrap(BytesPayload(own)).bound == {"account": "00ab"}
    assert found.bound == {"account": account} or found.bound == {"account": str(account)}
    (claim,) = found.claims
    assert claim.fault(BytesPayload(raw)) == ""
    assert claim.fault(BytesPayload(raw + b"!")) != ""
    for here in (known, Known({"account": account})):  # carried, and put together again alone
        assert whole(chain.wrap(found.payload, here, found.residue)) == card


CELLAR = """\
recipe = 1
[game]
id = "cellar"
title = "Cellar"
[pieces]
jar = { needed = true, holds = "jar" }
lid = {}
[facts]
name = { label = "Name", from = "jar", at = "/title" }
day = { label = "Day", from = "lid", header = "lid", at = "/day", compared = false }
[editions.one]
title = "Cellar"
berths = [{ on = "any", under = "given", path = "{account}" }]
fields = { account = { type = "hex", length = 16 }, slot = { type = "number" } }
files = [
  { role = "jar", path = "{slot}.jar", layers = ["owned"] },
  { role = "lid", path = "{slot}.lid", layers = ["lid"] },
]
[layers]
owned = [{ kind = "agrees", holds = "jar", values = [
  { at = ["/shelves/*/jars/[kind=7]/owner", "/keeper"], field = "account" },
  { at = "/stamp", written = "ns" },
] }]
lid = [{ kind = "header", layout = "lid" }]
[layouts.jar]
fields = [
  { type = "magic", text = "JARS" },
  { type = "text", name = "title", length = "u8" },
  { type = "text", name = "keeper", size = 16 },
  { type = "time", name = "stamp", within = "u64", unit = "ms" },
  { type = "list", name = "shelves", of = "shelf", count = "u8" },
  { type = "u32", name = "crc", computed = { what = "crc32", of = "all" } },
]
[layouts.shelf]
fields = [{ type = "list", name = "jars", of = "pot", count = "u8" }]
[layouts.pot]
fields = [{ type = "u8", name = "kind" }, { type = "bytes", name = "owner", size = 8 }]
[layouts.lid]
fields = [
  { type = "u16", name = "day", usual = 0 },
  { type = "text", name = "name", length = "u8", bound = "name" },
]
"""


def jar(owner: str, pots: list[list[int]], stamp: int) -> bytes:
    data = b"JARS\x04Jams" + owner.encode() + struct.pack("<Q", stamp) + bytes([len(pots)])
    for shelf in pots:
        data += bytes([len(shelf)])
        for kind in shelf:
            data += bytes([kind]) + (bytes.fromhex(owner) if kind == 7 else b"neighbor")
    return data + struct.pack("<I", zlib.crc32(data + bytes(4)))


def test_an_owner_deep_in_a_layout_becomes_the_targets(
    linux: Callable[..., Den], tmp_path: Path
) -> None:
    den = linux(home="home")
    den.recipe("cellar", CELLAR)
    isa, wren = "00112233445566aa", "ffeeddccbbaa9988"
    dice = random.Random(3)
    pots = [[dice.choice([1, 7, 9]) for _ in range(dice.randrange(9))] for _ in range(40)] + [[7]]
    for account, slot in ((isa, 1), (wren, 2)):
        (tmp_path / account).mkdir()
        (tmp_path / account / f"{slot}.jar").write_bytes(jar(account, pots, 1000))
        (tmp_path / account / f"{slot}.lid").write_bytes(b"\x1f\x00\x04Jams" + b"lid")
    there, here = f"cellar/one@{tmp_path / wren}", f"cellar/one@{tmp_path / isa}"
    assert den.cferry("slots", here, "--json").data[0]["saves"][0]["facts"] == {
        "name": "Jams", "day": 31,
    }  # fmt: skip
    assert "crc32" in den.cferry("check", here).out
    plan = den.cferry("cross", f"{here}:1", f"{there}:3", "--dry-run").out
    count = sum(shelf.count(7) for shelf in pots) + 1
    assert f"the target's account ({count} places in the jar)" in plan
    den.cferry("cross", f"{here}:1", f"{there}:3", "--yes")
    found = (tmp_path / wren / "3.jar").read_bytes()
    stamp = int.from_bytes(found[25:33], "little")
    assert found == jar(wren, pots, stamp)
    assert stamp > 1_700_000_000_000
    assert (tmp_path / wren / "3.lid").read_bytes() == b"\x1f\x00\x04Jams" + b"lid"
    # One that names another within is not this account's; one whose places differ is nobody's.
    (tmp_path / wren / "4.jar").write_bytes(jar(isa, pots, 1))
    assert "belongs to another account" in den.cferry("check", f"{there}:4", code=5).out
    half = bytearray(jar(wren, pots, 1))
    half[half.index(bytes.fromhex(wren))] ^= 1
    half[-4:] = struct.pack("<I", zlib.crc32(half[:-4] + bytes(4)))
    (tmp_path / wren / "4.jar").write_bytes(half)
    assert "more than one account" in den.cferry("check", f"{there}:4", code=5).out
    (tmp_path / wren / "3.lid").write_bytes(b"\x1f\x00\x04Jars" + b"lid")
    assert (
        "says Jars for the name, but the save's is Jams"
        in den.cferry("check", f"{there}:3", code=5).out
    )


def test_an_owner_that_nobody_can_write_bars_a_save_of_another(
    linux: Callable[..., Den], tmp_path: Path
) -> None:
    den = linux(home="home")
    owned = CELLAR.replace('field = "account" }', 'field = "account", fixed = true }')
    den.recipe("cellar", owned.replace('  { at = "/stamp", written = "ns" },\n', ""))
    isa, wren = "00112233445566aa", "ffeeddccbbaa9988"
    for account, slot in ((isa, 1), (wren, 2)):
        (tmp_path / account).mkdir()
        (tmp_path / account / f"{slot}.jar").write_bytes(jar(account, [[7]], 1000))
    there, here = f"cellar/one@{tmp_path / wren}", f"cellar/one@{tmp_path / isa}"
    den.cferry("check", here)
    told = den.cferry("cross", f"{here}:1", f"{there}:3", "--yes", code=4).err
    assert f"belongs to the account {isa}" in told
    assert [path.name for path in (tmp_path / wren).iterdir()] == ["2.jar"]
    den.cferry("cross", f"{here}:1", f"{here}:3", "--yes")
    assert (tmp_path / isa / "3.jar").read_bytes() == jar(isa, [[7]], 1000)
