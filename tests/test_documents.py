"""Documents: an edit is just that, as an independent reader sees it; no other byte changes."""

from __future__ import annotations

import configparser
import contextlib
import copy
import json
import re
import shlex
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import javaproperties
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.documents.blocks_text import Blocks, _Reading
from clever_ferry.documents.document import (
    Insert,
    Put,
    Remove,
    changed,
    nodes_in,
    values_in,
)
from clever_ferry.documents.form import Form
from clever_ferry.documents.ini_text import Ini
from clever_ferry.documents.places import PlaceError, steps_of, value_at, values_at
from clever_ferry.documents.script_text import Script
from clever_ferry.documents.spec import BlocksSpec, ScriptSpec, SectionsSpec
from clever_ferry.errors import DamagedError, FerryError, RefusedError
from clever_ferry.payload import BytesPayload, StreamPayload, read_all
from tests.conftest import Den

NAMES = st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=5)
SINGLES = st.none() | st.booleans() | st.integers(-(2**63), 2**63) | st.text(max_size=6) | (
    st.floats(allow_nan=False, allow_infinity=False)
)  # fmt: skip
VALUES = st.recursive(
    SINGLES, lambda inner: st.lists(inner, max_size=4) | st.dictionaries(NAMES, inner, max_size=4),
    max_leaves=12,
)  # fmt: skip


def whole(form: Form | str, raw: bytes, *changes: Any, cut: int = 7) -> bytes:
    """Return a document with changes; it comes in pieces of a few bytes."""
    pieces = [raw[at : at + cut] for at in range(0, len(raw), cut)]
    return read_all(changed(form, StreamPayload(lambda: pieces), changes), limit=1 << 20, what="it")


def spelled(name: str | int) -> str:
    """Return a step of a place, as the page on recipes has it."""
    text = str(name)
    for sign, written in (("~", "~0"), ("/", "~1"), ("*", "~*"), ("#", "~#"), ("[", "~[")):
        text = text.replace(sign, written)
    return f"/{text}"


def places(value: Any, above: str = "") -> list[tuple[str, Any]]:
    """Return every place in nested values, and what stands there."""
    found = [(above, value)]
    inner = value.items() if isinstance(value, dict) else enumerate(
        value if isinstance(value, list) else ()
    )  # fmt: skip
    for name, one in inner:
        found += places(one, above + spelled(name))
    return found


def with_(value: Any, place: str, how: str, new: Any = None) -> Any:
    """Change nested values as plain Python does."""
    top = {"top": copy.deepcopy(value)}
    here: Any = top
    steps = ["top", *(str(step) for step in steps_of(place))]
    for step in steps[:-1]:
        here = here[int(step)] if isinstance(here, list) else here[step]
    last = int(steps[-1]) if isinstance(here, list) else steps[-1]
    if how == "remove":
        del here[last]
    elif isinstance(here, list) and how == "insert":
        here.append(new)
    else:
        here[last] = new
    return top["top"]


def commented(value: Any, notes: list[str]) -> str:
    """Write JSON with a note wherever one can stand, and a comma behind the last of some."""

    def note() -> str:
        notes.append(("/*n*/", "//n\n", " ")[len(notes) % 3])
        return notes[-1]

    if isinstance(value, dict):
        members = [f"{note()}{json.dumps(key)}{note()}:{commented(one, notes)}"
                   for key, one in value.items()]  # fmt: skip
    elif isinstance(value, list):
        members = [commented(one, notes) for one in value]
    else:
        return f"{note()}{json.dumps(value)}{note()}"
    signs = "{}" if isinstance(value, dict) else "[]"
    more = "," if members and len(notes) % 2 else ""
    return f"{note()}{signs[0]}{','.join(members)}{more}{note()}{signs[1]}{note()}"


def read_commented(raw: bytes) -> Any:
    """Read that again by its own notes, which no value has."""
    text = raw.decode().replace("/*n*/", "").replace("//n\n", "")
    outside = re.split(r'("(?:[^"\\]|\\.)*")', text)
    parts = [re.sub(r",(\s*)$", r"\1", one) if re.match(r"\s*[\]}]", after) else one
             for one, after in zip(outside, [*outside[1:], ""], strict=True)]  # fmt: skip
    bare = "".join(one if one.startswith('"') else re.sub(r",(\s*[\]}])", r"\1", one)
                   for one in parts)  # fmt: skip
    return json.loads(bare)


@given(VALUES, SINGLES, st.data())
def test_json_is_edited_at_one_place_alone(value: Any, new: Any, data: st.DataObject) -> None:
    form = data.draw(st.sampled_from(["json", "relaxed-json"]))
    if form == "json":
        indent = data.draw(st.sampled_from([None, 1, "\t"]))
        mark = data.draw(st.sampled_from([b"", b"\xef\xbb\xbf"]))
        text = json.dumps(value, indent=indent, ensure_ascii=data.draw(st.booleans()))
        raw = mark + text.replace("\n", data.draw(st.sampled_from(["\n", "\r\n"]))).encode()
    else:
        raw = commented(value, []).encode()

    def read(out: bytes) -> Any:
        return json.loads(out.decode("utf-8-sig")) if form == "json" else read_commented(out)

    assert read(raw) == value
    every = places(value)
    singles = [(place, one) for place, one in every if not isinstance(one, dict | list)]
    found = values_in(form, BytesPayload(raw), [place for place, _ in singles])
    assert [one for (one,) in found] == [one for _, one in singles]
    if singles:
        place, _ = data.draw(st.sampled_from(singles))
        ((node,),) = nodes_in(form, BytesPayload(raw), [place])
        out = whole(form, raw, Put(place, new))
        assert read(out) == with_(value, place, "put", new)
        tail = len(raw) - node.end
        assert out[: node.start] == raw[: node.start]
        assert out[len(out) - tail :] == raw[node.end :]
    inner = [place for place, _ in every if place]
    if inner:
        place = data.draw(st.sampled_from(inner))
        assert read(whole(form, raw, Remove(place))) == with_(value, place, "remove")
    holders = [(place, one) for place, one in every if isinstance(one, dict | list)]
    if holders:
        place, holder = data.draw(st.sampled_from(holders))
        name = data.draw(NAMES.filter(lambda one: bool(one) and one not in holder))
        step = spelled(len(holder) if isinstance(holder, list) else name)
        out = whole(form, raw, Insert(place + step, new))
        assert read(out) == with_(value, place + step, "insert", new)
        again = whole(form, out, Remove(place + step))
        assert read(again) == value


TAGS = st.sampled_from(["a", "b", "c-1", "d"])
TEXTS = st.text(
    st.characters(codec="utf-8", exclude_categories=("Cc", "Cs", "Cn"), exclude_characters="\x85"),
    max_size=6,
).map(str.strip)  # fmt: skip


@st.composite
def elements(draw: st.DrawFn, deep: int = 3) -> ElementTree.Element:
    made = ElementTree.Element(draw(TAGS))
    for name in draw(st.lists(st.sampled_from(["id", "who"]), unique=True, max_size=2)):
        made.set(name, draw(TEXTS))
    if deep and draw(st.booleans()):
        made.extend(draw(st.lists(elements(deep - 1), max_size=3)))
    else:
        made.text = draw(TEXTS)
    return made


def ways(element: ElementTree.Element, above: str) -> list[tuple[str, ElementTree.Element, str]]:
    """Return the place of every element and attribute, and which attribute it is."""
    found = [(above, element, "")] + [
        (f"{above}/@{name}", element, name) for name in element.attrib
    ]
    seen: dict[str, int] = {}
    for child in element:
        number = seen[child.tag] = seen.get(child.tag, -1) + 1
        found += ways(child, f"{above}/{child.tag}/{number}")
    return found


def same(one: ElementTree.Element, other: ElementTree.Element) -> bool:
    return (
        (one.tag, one.attrib, (one.text or "").strip()) ==
        (other.tag, other.attrib, (other.text or "").strip())
        and len(one) == len(other) and all(map(same, one, other))
    )  # fmt: skip


@given(elements(), TEXTS, st.booleans(), st.data())
def test_xml_is_edited_at_one_place_alone(
    top: ElementTree.Element, new: str, lined: bool, data: st.DataObject
) -> None:
    if lined:
        ElementTree.indent(top, "\t")
    raw = (
        b"<?xml version='1.0'?>\r\n<!-- a note -->" + ElementTree.tostring(top, "unicode").encode()
    )
    every = ways(top, f"/{top.tag}")
    place, element, name = data.draw(st.sampled_from(every))
    if name or not (len(element) or element.attrib):
        ((node,),) = nodes_in("xml", BytesPayload(raw), [place])
        assert node.value == (element.get(name) if name else (element.text or "").strip())
        out = whole("xml", raw, Put(place, new))
        if name:
            element.set(name, new)
        else:
            element.text = new
        assert same(ElementTree.fromstring(out), top)
        tail = len(raw) - node.end
        assert (out[: node.start], out[len(out) - tail :]) == (raw[: node.start], raw[node.end :])
        raw = out
    place, element, name = data.draw(st.sampled_from(ways(top, f"/{top.tag}")))
    if not name and (len(element) or element.attrib):
        out = whole("xml", raw, Insert(f"{place}/new", new), Insert(f"{place}/@own", new))
        child = ElementTree.SubElement(element, "new")
        child.text = new
        element.set("own", new)
        if element.text and element.text.strip():
            assert values_in("xml", BytesPayload(out), [f"{place}/text"]) == [[element.text]]
        assert same(ElementTree.fromstring(out), top)
        assert whole("xml", out, Remove(f"{place}/@own")).count(b"own=") == 0
        back = ElementTree.fromstring(whole("xml", out, Remove(f"{place}/new")))
        element.remove(child)
        assert same(back, top)


LINES = st.sampled_from([
    "", "; a note", "# another", "[one]", "[Two]", "Name = isle", "day: 7", "  deep = 1", "flag",
    "gold=30", "path = a=b:c", "[Two] ; more", "empty =", "   goes on", "wide\t=\t spaced  ",
])  # fmt: skip


@given(st.lists(LINES, max_size=12), st.sampled_from(["\n", "\r\n"]), st.booleans(), st.data())
def test_ini_is_edited_at_one_place_alone(
    lines: list[str], end: str, last: bool, data: st.DataObject
) -> None:
    text = end.join(lines) + (end if last else "")

    def read(raw: bytes) -> dict[str, dict[str, str | None]]:
        parser = configparser.ConfigParser(
            interpolation=None, strict=False, allow_no_value=True, default_section="\0"
        )
        parser.read_string("[\0top]\n" + raw.decode())
        return {name: dict(parser[name]) for name in parser.sections()}

    raw = text.encode()
    try:
        known = read(raw)
    except (AttributeError, configparser.Error):
        with pytest.raises(DamagedError):
            values_in("ini", BytesPayload(raw), [])
        return
    keys = [(section, key) for section, inner in known.items() for key in inner]

    def place(section: str, key: str) -> str:
        return spelled(key) if section == "\0top" else spelled(section) + spelled(key)

    found = values_in("ini", BytesPayload(raw), [place(*one) for one in keys])
    assert [one for (one,) in found] == [known[section][key] for section, key in keys]
    valued = [(section, key) for section, key in keys if known[section][key] is not None]
    if valued:
        section, key = data.draw(st.sampled_from(valued))
        ((node,),) = nodes_in("ini", BytesPayload(raw), [place(section, key)])
        out = whole("ini", raw, Put(place(section, key), "x y"))
        known[section][key] = "x y"
        assert read(out) == known
        tail = len(raw) - node.end
        assert (out[: node.start], out[len(out) - tail :]) == (raw[: node.start], raw[node.end :])
        raw = out
    section = data.draw(st.sampled_from(list(known)))
    if not any(line.startswith("  ") for line in lines):  # else the new one may go on with another
        raw = whole("ini", raw, Insert(place(section, "new"), 5))
        assert read(raw) == {**known, section: {**known[section], "new": "5"}}
        out = whole("ini", raw, Remove(place(section, "new")))
        assert read(out) == known


@given(
    st.lists(st.text(st.sampled_from("a \"\\'n,=;"), max_size=6), min_size=1, max_size=5),
    st.sampled_from(['"', "'", "<<"]), st.sampled_from(["\\", "^", None]), st.data(),
)  # fmt: skip
def test_texts_between_quotes_are_read_without_and_written_with_them(
    texts: list[str], quote: str, escape: str | None, data: st.DataObject
) -> None:
    form = Ini(SectionsSpec(quote=quote, escape=escape))

    def spelled_so(text: str) -> str:
        for sign in filter(None, (escape, quote)):
            text = text.replace(sign, f"{escape}{sign}")
        return f"{quote}{text}{quote}"

    texts = [text for text in texts if escape or quote not in text] or ["a"]
    lines = [f"n{at}={spelled_so(text)}" for at, text in enumerate(texts)]
    row = f"{quote}a{quote},{quote}b{quote}"
    raw = "\n".join(["[s]", *lines, f"row={row}", "count=7", ""]).encode()
    places = [f"/s/n{at}" for at in range(len(texts))]
    found = values_in(form, BytesPayload(raw), [*places, "/s/row", "/s/count"])
    assert [one for (one,) in found] == [*texts, row, "7"]
    at, new = data.draw(st.sampled_from(range(len(texts)))), data.draw(st.sampled_from(texts))
    lines[at] = f"n{at}={spelled_so(new)}"
    changes = (Put(places[at], new), Put("/s/count", 31), Insert("/s/more", new), Insert("/s/m", 8))
    out = whole(form, raw, *changes)
    more = [f"row={row}", "count=31", f"more={spelled_so(new)}", "m=8", ""]
    assert out == "\n".join(["[s]", *lines, *more]).encode()


@pytest.mark.parametrize(("raw", "place", "right"), [
    (b"", "/a", b"a = 1\n"), (b"\xef\xbb\xbf", "/a", b"\xef\xbb\xbfa = 1\n"),
    (b"[s]", "/s/a", b"[s]\na = 1\n"), (b"[s]\r\n", "/s/a", b"[s]\r\na = 1\r\n"),
    (b"b=2", "/a", b"b=2\na=1"),
])  # fmt: skip
def test_the_first_line_of_an_ini_needs_none_before_it(
    raw: bytes, place: str, right: bytes
) -> None:
    assert whole("ini", raw, Insert(place, 1)) == right


BARE = st.sampled_from(["day", "gold", "name", "a-1", "seed", "x_2"])
PLAIN = st.booleans() | st.integers(-(2**60), 2**60) | st.text(
    st.characters(codec="utf-8", exclude_categories=("Cc", "Cs", "Zl", "Zp", "Cf", "Co", "Cn")),
    max_size=6,
)  # fmt: skip


def toml(value: Any, notes: bool) -> str:
    """Write a value of TOML, lists on several lines."""
    if isinstance(value, list):
        note = " # n" if notes else ""
        return "[" + ",".join(f"{note}\n  {toml(one, False)}" for one in value) + "]"
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {toml(one, False)}" for key, one in value.items()) + " }"
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")


def edited(
    form: str,
    raw: bytes,
    value: Any,
    new: Any,
    read: Callable[[bytes], Any],
    data: st.DataObject,
) -> bytes:
    """Put a value at one place of a document, and hold it against what another reader says."""
    assert read(raw) == value
    singles = [(place, one) for place, one in places(value) if not isinstance(one, dict | list)]
    found = values_in(form, BytesPayload(raw), [place for place, _ in singles])
    assert [one for (one,) in found] == [one for _, one in singles]
    if not singles:
        return raw
    place, _ = data.draw(st.sampled_from(singles))
    ((node,),) = nodes_in(form, BytesPayload(raw), [place])
    out = whole(form, raw, Put(place, new))
    assert read(out) == with_(value, place, "put", new)
    tail = len(raw) - node.end
    assert (out[: node.start], out[len(out) - tail :]) == (raw[: node.start], raw[node.end :])
    return raw


@given(
    st.dictionaries(BARE, PLAIN | st.lists(PLAIN, max_size=3) | st.dictionaries(BARE, PLAIN)),
    st.dictionaries(BARE.map(str.upper), st.dictionaries(BARE, PLAIN, min_size=1), max_size=2),
    PLAIN, st.booleans(), st.sampled_from(["\n", "\r\n"]), st.data(),
)  # fmt: skip
def test_toml_is_edited_at_one_place_alone(
    top: dict[str, Any], tables: dict[str, Any], new: Any, notes: bool, end: str,
    data: st.DataObject,
) -> None:  # fmt: skip
    note = "  # a note" if notes else ""
    lines = ["# é", *(f"{key}  =  {toml(one, notes)}{note}" for key, one in top.items())]
    for name, inner in tables.items():
        lines += ["", f"[{name}]{note}"]
        lines += [f"\t{key}={toml(one, notes)}" for key, one in inner.items()]
    raw = end.join("\n".join(lines).split("\n")).encode()

    def read(out: bytes) -> Any:
        return tomllib.loads(out.decode())

    value = {**top, **tables}
    edited("toml", raw, value, new, read, data)
    table = data.draw(st.sampled_from(["", *(f"/{name}" for name in tables)]))
    out = whole("toml", raw, Insert(f"{table}/new", new))
    assert read(out) == with_(value, f"{table}/new", "insert", new)
    assert {part.strip() for line in lines for part in line.split("\n")} <= {
        line.strip() for line in re.split(r"\r?\n", out.decode())
    }
    assert end not in raw.decode() or out.count(b"\n") == out.count(end.encode())
    inner = [place for place, _ in places(value) if place]
    if inner:
        place = data.draw(st.sampled_from(inner))
        assert read(whole("toml", raw, Remove(place))) == with_(value, place, "remove")
    lists = [name for name, one in top.items() if isinstance(one, list) and one]
    if lists:
        assert read(whole("toml", raw, Remove(f"/{lists[0]}/*"))) == {**value, lists[0]: []}


ALIKE = PLAIN.filter(lambda one: not isinstance(one, str) or not re.match(r"[-+.0-9]", one))
"""Without texts that YAML 1.1 and 1.2 take for different things."""


@given(
    st.dictionaries(BARE, st.recursive(
        ALIKE, lambda one: st.lists(one, max_size=3) | st.dictionaries(BARE, one, max_size=3),
        max_leaves=6,
    )),
    ALIKE | st.floats(allow_nan=False, allow_infinity=False), st.booleans(), st.data(),
)  # fmt: skip
def test_yaml_is_edited_at_one_place_alone(
    value: dict[str, Any], new: Any, flow: bool, data: st.DataObject
) -> None:
    text = yaml.safe_dump(value, default_flow_style=flow, allow_unicode=True, sort_keys=False)
    raw = (
        ("# a note: é\n" + text).replace("\n", data.draw(st.sampled_from(["\n", "\r\n"]))).encode()
    )
    with contextlib.suppress(RefusedError):  # a text over several lines
        edited("yaml", raw, value, new, yaml.safe_load, data)
    inner = [place for place, _ in places(value) if place]
    place = data.draw(st.sampled_from(["", *inner]))
    holder = value_at(value, place)
    with contextlib.suppress(RefusedError):
        out = whole("yaml", raw, Insert(f"{place}/new", new))
        assert read_inner(out, place) == ([*holder, new] if isinstance(holder, list) else
                                          {**holder, "new": new})  # fmt: skip
    if place:
        with contextlib.suppress(RefusedError):
            out = whole("yaml", raw, Remove(place))
            assert yaml.safe_load(out) == with_(value, place, "remove")


def read_inner(out: bytes, place: str) -> Any:
    return value_at(yaml.safe_load(out), place)


def test_yaml_in_lines_of_its_own_is_added_to_and_taken_from() -> None:
    raw = b"# n\ntown:  Isle # old\nplayers:\n  - name: Isa\n    gold: 5\n  - name: Wren\nday: 7\n"
    changes = (
        Put("/town", "New: isle"), Insert("/players/0/host", True), Remove("/players/[name=Wren]"),
        Insert("/players/2", "Oona"), Remove("/day"), Insert("/seed", 9),
    )  # fmt: skip
    assert whole("yaml", raw, *changes) == (
        b'# n\ntown:  "New: isle" # old\nplayers:\n  - name: Isa\n    gold: 5\n    host: true\n'
        b"  - Oona\nseed: 9\n"
    )
    for number in (1e20, -5e-7, 1.5, 2.0, 1.5e300):  # some are texts to YAML unless they have a dot
        assert yaml.safe_load(whole("yaml", raw, Put("/day", number)))["day"] == number
    for wrong in (Put("/a", 1), Put("/b", 1), Put("/c", 1), Remove("/d/x"), Insert("/d/y", 1)):
        with pytest.raises(RefusedError):
            whole("yaml", b"a: &x 1\nb: |\n  text\nc: !t 5\nd: {x: 1}\n", wrong)


@pytest.mark.parametrize(
    ("old", "new"),
    [
        (r"\u00e9", r"\u00fc"),
        (r"a\\\u00e9", r"\u00fc"),
        (r"\\u", "ü"),
        (r"\n\\\\u", "ü"),
        ("e", "ü"),
    ],
)
def test_letters_are_spelled_as_the_old_text_has_them(old: str, new: str) -> None:
    """By their numbers only where it has some: a backslash before a `u` is none."""
    for form in ("json", "relaxed-json"):
        assert whole(form, f'{{"a": "{old}"}}'.encode(), Put("/a", "ü")) == (
            f'{{"a": "{new}"}}'.encode()
        )
        assert whole(form, b'{"a": 1}', Insert("/b", "ü")) == '{"a": 1,"b": "ü"}'.encode()


WORDS = st.text(st.characters(codec="utf-8"), max_size=6)


@given(
    st.dictionaries(WORDS.filter(bool), WORDS, max_size=5), st.sampled_from(["=", " = ", ":", " "]),
    WORDS, st.booleans(), st.data(),
)  # fmt: skip
def test_properties_are_edited_at_one_place_alone(
    value: dict[str, str], sign: str, new: str, ends: bool, data: st.DataObject
) -> None:
    lines = [javaproperties.join_key_value(key, one, separator=sign) for key, one in value.items()]
    last = "\n" if ends or not lines else ""
    mark = data.draw(st.sampled_from(["", "\ufeff"]))
    notes = data.draw(st.sampled_from([[], ["# a note \\", "", "  ! x=1"]]))
    raw = (mark + "\n".join([*notes, *lines])).encode() + last.encode()

    def read(out: bytes) -> dict[str, str]:
        return dict(javaproperties.loads(out.decode("utf-8-sig")))

    assert read(raw) == value
    asked = [spelled(key) for key in value]
    found = values_in("properties", BytesPayload(raw), asked)
    assert [one for (one,) in found] == list(value.values())
    assert read(whole("properties", raw, Insert("/own: #1", new))) == {**value, "own: #1": new}
    for key, place in zip(value, asked, strict=True):
        left = {name: one for name, one in value.items() if name != key}
        assert read(whole("properties", raw, Remove(place))) == left
        ((node,),) = nodes_in("properties", BytesPayload(raw), [place])
        if node.start < 0:
            continue
        out = whole("properties", raw, Put(place, new))
        assert read(out) == {**value, key: new}
        tail = len(raw) - node.end
        assert (out[: node.start], out[len(out) - tail :]) == (raw[: node.start], raw[node.end :])


def test_properties_as_they_are_written_by_hand() -> None:
    raw = (b"# not \\\nserver-port=25565\n  motd : The \\\n   isle\\u00e9\n\n! x=1\nflag\n"
           b"a\\ b = c=d\nlevel-name=old\nlevel-name=world\n")  # fmt: skip
    asked = ["/server-port", "/motd", "/flag", "/a b", "/level-name", "/x"]
    found = values_in("properties", BytesPayload(raw), asked)
    assert found == [["25565"], ["The isleé"], [""], ["c=d"], ["world"], []]
    out = whole("properties", raw, Put("/motd", " é\n"), Put("/level-name", "new"), Insert("/z", 1))
    assert out == raw.replace(b"The \\\n   isle\\u00e9", b"\\ \\u00e9\\n").replace(
        b"=world", b"=new"
    ) + (b"z = 1\n")
    with pytest.raises(RefusedError):
        whole("properties", raw, Put("/flag", 1))


Block = list[tuple[str, Any]]
"""Names with values, or with further blocks and their labels."""
LEAVES = st.tuples(BARE, st.text("abc 12{}=#;é", max_size=5).map(str.strip))
BLOCKS = st.recursive(
    st.lists(LEAVES, max_size=3),
    lambda inner: st.lists(LEAVES | st.tuples(BARE, st.tuples(st.text("xyz", max_size=2), inner)),
                           max_size=3),
    max_leaves=8,
)  # fmt: skip


def blocks(value: Block, style: str, notes: bool, deep: int = 0) -> str:
    """Write blocks: by braces with signs or without, all on few lines, or by indentation."""
    lead, lines = "  " * deep if style != "tight" else "", []
    for name, one in value:
        note = " # a { note" if notes and style != "tight" else ""
        if isinstance(one, tuple):
            label = f" {one[0]}" if one[0] else ""
            inner = blocks(one[1], style, notes, deep + 1)
            if style == "indented":
                lines.append(f"{lead}{name}{label}{note}\n{inner}" if one[1] else f"{lead}{name} x")
            else:
                gap = f"\n{lead}" if notes else " "
                lines.append(f"{lead}{name}{label}{gap}{{{note}\n{inner}{lead}}}")
            continue
        plain = re.fullmatch(r"[abc12é]+", one)
        text = one if plain else '"' + re.sub(r'(["\\\\])', r"\\\1", one) + '"'
        sign = {"tight": "=", "signed": " = "}.get(style, " ")
        lines.append(f"{lead}{name}{sign}{text}{note}")
    return "".join(f"{line};" if style == "tight" else f"{line}\n" for line in lines)


def read_blocks(text: str) -> Block:
    """Read braces again by the standard library's own reader of words."""
    reader = shlex.shlex(text.replace(" # a { note", ""), posix=False, punctuation_chars="{}=;\n")
    reader.whitespace, reader.commenters = " \t\r", "#"
    reader.wordchars += "é-"
    top: Block = []
    open_, words, over = [top], list[str](), False
    for token in [*reader, ";"]:
        for sign in [token] if token.strip("{}=;\n") else token:
            if words and (sign in "};" or (over and sign not in "{\n")):
                open_[-1].append((words[0], " ".join(words[1:])))
                words = []
            over = sign == "\n"
            if sign == "{":
                inner: Block = []
                open_[-1].append((words[0], (" ".join(words[1:]), inner)))
                open_.append(inner)
                words = []
            elif sign == "}":
                open_.pop()
            elif sign not in "=;\n":
                words.append(sign.strip('"'))
    return top


def without(value: Block, steps: list[str]) -> Block:
    """Return blocks without what is at `name`, `number`, and so on."""
    left, number = [], -1
    for name, one in value:
        number += name == steps[0]
        if name != steps[0] or number != int(steps[1]):
            left.append((name, one))
        elif steps[2:]:
            left.append((name, (one[0], without(one[1], steps[2:]))))
    return left


def block_places(value: Block, above: str = "") -> list[tuple[str, Any, int]]:
    """Return the place of every name, what stands there, and the how many-eth of its like it is."""
    found, seen = [], dict[str, int]()
    for name, one in value:
        number = seen[name] = seen.get(name, -1) + 1
        place = f"{above}/{name}/{number}"
        found.append((place, one, number))
        if isinstance(one, tuple):
            found += block_places(one[1], place)
    return found


SPECS = {
    "signed": BlocksSpec(), "plain": BlocksSpec(assigns=()), "tight": BlocksSpec(ends=";"),
    "indented": BlocksSpec(indented=True, assigns=()),
}  # fmt: skip


@given(
    BLOCKS, st.sampled_from(list(SPECS)), st.booleans(), st.text('ab 1="', max_size=4), st.data()
)
def test_blocks_are_edited_at_one_place_alone(
    value: Block, style: str, notes: bool, new: str, data: st.DataObject
) -> None:
    raw = blocks(value, style, notes).encode()
    form = Blocks(SPECS[style])
    every = [one for one in block_places(value) if style != "indented" or not (
        isinstance(one[1], tuple) and not one[1][1])]  # fmt: skip
    leaves = [(place, one) for place, one, _ in every if not isinstance(one, tuple)]
    found = values_in(form, BytesPayload(raw), [place for place, _ in leaves])
    assert [one for (one,) in found] == [one for _, one in leaves]
    labels = [(f"{place}/", one[0]) for place, one, _ in every if isinstance(one, tuple)]
    found = values_in(form, BytesPayload(raw), [place for place, _ in labels])
    assert found == [[one] if one else [] for _, one in labels]
    if leaves:
        place, _ = data.draw(st.sampled_from(leaves))
        ((node,),) = nodes_in(form, BytesPayload(raw), [place])
        out = whole(form, raw, Put(place, new))
        tail = len(raw) - node.end
        assert (out[: node.start], out[len(out) - tail :]) == (raw[: node.start], raw[node.end :])
        assert values_in(form, BytesPayload(out), [place]) == [[new]]
        if style != "indented" and '"' not in new and not (style == "plain" and "=" in new):
            same = [new if at == place else one for at, one in leaves]
            others = block_places(read_blocks(out.decode()))
            assert [one for _, one, _ in others if not isinstance(one, tuple)] == same
    if style != "indented":
        assert read_blocks(raw.decode()) == value
        for place, *_ in every:
            left = whole(form, raw, Remove(place)).decode()
            assert read_blocks(left) == without(value, place.split("/")[1:])


def test_blocks_that_are_passed_over_have_nothing_that_is_asked_for(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """What is found is the same as where every block is gone through."""
    raw = rb"""
        who Isa {
            gold = 1
            7 { gold = 70 }
        }
        who "W\ren" {
            name = "a\"7b"
            gold = 2
        }
        who 7 {
            gold = 3
            bag { gold = 4 }
        }
        who {
            name = "7" # 7 {
            gold = 5
        }
        who "Is\a" {
            gold = 6
        }
    """
    steps = ("#", "0", "1", "2", "4", "7", "*", "[=Isa]", "[=Wren]", "[=7]", "[name=7]", "[=]",
             '[name=a"7b]', "[gold=3]", "7")  # fmt: skip
    places = [
        f"/who/{one}{more}" for one in steps for more in ("", "/gold", "/7/gold", "/bag/gold")
    ]
    places += [
        "/who",
        "/who/2",
        "/*/bag/gold",
        "/who/gold",
        "/gold",
        "/nobody/#",
        "/who/1/[gold=4]/gold",
    ]
    form, source = Blocks(BlocksSpec()), BytesPayload(raw)
    one_by_one = [values_in(form, source, [place])[0] for place in places if place[-1] != "#"]
    together = values_in(form, source, places)
    names = [node.names for node in nodes_in(form, source, ["/who/2"])[0]]
    lines = BytesPayload(b"a = 1\nb = 2\na = 3\nc { a = 4 }\na = 5\n")
    assert values_in(form, lines, ["/a/#", "/c/a/#", "/b/#", "/a/1", "/a/2", "/a/3"]) == [
        [3], [1], [1], ["3"], ["5"], [],
    ]  # fmt: skip
    monkeypatch.setattr(Blocks, "may_have", lambda *_: True)
    monkeypatch.setattr(_Reading, "_passed", lambda *_: 0)
    assert [
        values_in(form, source, [place])[0] for place in places if place[-1] != "#"
    ] == one_by_one
    assert values_in(form, source, places) == together
    assert [node.names for node in nodes_in(form, source, ["/who/2"])[0]] == names
    assert names[0][-2:] == ("gold", "bag")
    some = ["/who/[=Isa]/gold", "/who/0/7/gold", "/who/#", '/who/[name=a"7b]/gold']
    assert values_in(form, source, some) == [["1", "6"], ["70"], [5], ["2"]]


def test_blocks_are_added_to_and_taken_from() -> None:
    raw = b'name = "Isle"\nplayer Isa {\n\tgold = 5\n}\nplayer Wren { gold = 7 }\n'
    out = whole(
        Blocks(BlocksSpec()), raw, Insert("/player/[=Isa]/day", "a b"), Insert("/seed", 9),
        Insert("/player/1/day", 3), Remove("/name"), Put("/player/*/gold", "x=y"),
    )  # fmt: skip
    assert out == (b'player Isa {\n\tgold = "x=y"\n\tday = "a b"\n}\n'
                   b'player Wren { gold = "x=y" \nday = 3\n}\nseed = 9\n')  # fmt: skip
    deep = Blocks(BlocksSpec(indented=True, assigns=()))
    raw = b"world Isle\n  day 31\n  who Isa\n    gold 5\nend\n"
    assert whole(deep, raw, Insert("/world/who/gem", 2), Insert("/world/seed", 9),
                 Remove("/world/day")) == (
        b"world Isle\n  who Isa\n    gold 5\n    gem 2\n  seed 9\nend\n"
    )  # fmt: skip
    for spec, text, change in (
        (BlocksSpec(), b"a { b 1", Put("/a/b", 2)), (BlocksSpec(), b"a 1 }", Put("/a", 2)),
        (BlocksSpec(), b'a "b', Put("/a", 2)), (BlocksSpec(), b"flag", Put("/flag", 2)),
        (BlocksSpec(quote=None), b"a b", Put("/a", "x y")), (BlocksSpec(), b"a b", Put("/a", "\n")),
        (BlocksSpec(), b"a b", Insert("/a/c", 1)), (BlocksSpec(), b"a {" * 300, Put("/a", 1)),
        (BlocksSpec(escape=None), b"a b", Put("/a", 'x"')), (BlocksSpec(), b"\xff", Put("/a", 1)),
    ):  # fmt: skip
        with pytest.raises((RefusedError, DamagedError)):
            whole(Blocks(spec), text, change)


TOWNS = """recipe = 1
[game]
id = "towns"
title = "Towns"
[forms.town]
kind = "blocks"
assigns = [":"]
comments = ["--"]
[pieces]
town = { needed = true, holds = "town" }
[facts]
name = { label = "Town", from = "town", at = "/town/" }
day = { label = "Day", from = "town", at = "/town/day", unit = "count", story = "grows" }
gold = { label = "Gold", from = "town", at = "/town/guild/[=Isa]/gold" }
[layers]
owned = [{ kind = "identity", holds = "town", at = ["/town/owner", "/by"], bound = "account" }]
[editions.mine]
title = "Mine"
berths = [{ on = "any", under = "given", path = "u{account}" }]
fields = { account = { type = "digits" }, slot = { type = "number" } }
files = [{ role = "town", path = "{slot}.town", layers = ["owned"] }]
"""
TOWN = b"""-- a save
by 11
town "New isle" {\r
  day : 31   -- today
  owner: "11"
  guild Oona { gold 4 }
  guild Isa { gold 7 }
}"""


def test_a_save_in_blocks_is_listed_checked_and_carried(den: Den, tmp_path: Path) -> None:
    den.recipe("towns", TOWNS)
    for account in ("11", "22"):
        (tmp_path / f"u{account}").mkdir()
    (tmp_path / "u11" / "3.town").write_bytes(TOWN)
    (save,) = den.cferry("slots", f"towns/mine/11@{tmp_path}", "--json").data[0]["saves"]
    assert save["facts"] == {"name": "New isle", "day": 31, "gold": "7"}
    told = den.cferry("check", f"towns/mine/11@{tmp_path}").out
    assert "read as text of blocks" in told
    route = (f"towns/mine/11@{tmp_path}:3", f"towns/mine/22@{tmp_path}:5")
    den.cferry("cross", *route, "--yes")
    carried = (tmp_path / "u22" / "5.town").read_bytes()
    assert carried == TOWN.replace(b"by 11", b"by 22").replace(b'"11"', b'"22"')
    (tmp_path / "u11" / "3.town").write_bytes(TOWN[:-1])
    assert "never ends" in den.cferry("check", f"towns/mine/11@{tmp_path}", code=5).out


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('holds = "town" }', 'holds = "twon" }', "pieces.town.holds: there is no form 'twon'"),
        ('identity", holds = "town"', 'identity", holds = "tow"', "layers.owned[1].holds"),
        ("[forms.town]", "[forms.json]", "known already"),
        ('comments = ["--"]', 'comments = [":"]', "two of the signs are the same"),
        ('assigns = [":"]', 'assigns = ["x"]', "a sign can be neither"),
        ("/town/guild/[=Isa]/gold", "/town/guild/[=Isa", "facts.gold.at"),
        ('"/town/owner", "/by"', '"town/owner", "/by"', "layers.owned[1].at[1]"),
        ("[pieces]", "[forms.more]\nkind = \"script\"\n[pieces]", "forms.more: nothing holds it"),
    ],
)  # fmt: skip
def test_a_recipe_of_forms_that_does_not_fit_is_told(
    den: Den, tmp_path: Path, old: str, new: str, said: str
) -> None:
    assert old in TOWNS
    file = tmp_path / "towns.toml"
    file.write_text(TOWNS.replace(old, new, 1), "utf-8")
    done = den.cferry("recipe", "check", file, code=5)
    assert said in done.out + done.err


@pytest.mark.parametrize(("form", "raw"), [
    ("json", b'{"a": 1}'), ("xml", b"<t><a>1</a></t>"), ("ini", b"[t]\na = 1\n"),
    ("properties", b"a=1\n"), ("toml", b"a = 1\n"), ("yaml", b"a: 1\n"),
])  # fmt: skip
def test_what_stands_there_already_is_not_added_once_more(form: str, raw: bytes) -> None:
    place = {"xml": "/t/a", "ini": "/t/a"}.get(form, "/a")
    if form == "xml":
        assert whole(form, raw, Insert(place, 2)) == b"<t><a>1</a><a>2</a></t>"
        assert whole(form, b"<t><a/>\n</t>", Insert("/t/b", 2)) == b"<t><a/><b>2</b>\n</t>"
        return
    with pytest.raises(RefusedError, match="already"):
        whole(form, raw, Insert(place, 2))
    for nothing in ("", f"{place[:-1]}#", f"{place[:-1]}*"):
        with pytest.raises(RefusedError, match="names nothing new"):
            whole(form, raw, Insert(nothing, 2))


WORD = st.text("abZ 09.'\"$`\\\\!;&|(){}<>*?~#%^=-é", max_size=6)


@given(st.lists(st.tuples(st.sampled_from(["--a", "-b", "+c"]), WORD), max_size=4), WORD,
       st.data())  # fmt: skip
def test_a_script_is_given_a_text_and_nothing_else(
    options: list[tuple[str, str]], new: str, data: st.DataObject
) -> None:
    words = [f"{name}={shlex.quote(one)}" if one[:1] in "-+" or not one else
             f"{name} {shlex.quote(one)}" for name, one in options]  # fmt: skip
    raw = ("# --a no\nWORLD='My isle'\nexec ./it " + " \\\n ".join(words) + " # -b no\n").encode()
    form, value = Script(ScriptSpec()), dict(options)
    found = values_in(form, BytesPayload(raw), [f"/{name}" for name in value])
    assert [one for (one,) in found] == list(value.values())
    name = data.draw(st.sampled_from(["WORLD", *value]))
    with contextlib.suppress(RefusedError):
        out = whole(form, raw, Put(f"/{name}", new))
        read = [one for one in shlex.split(out.decode(), comments=True) if one != "\n"]
        last = {**dict(options), name: new}
        assert f"WORLD={last.get('WORLD', 'My isle')}" in read
        joined = " ".join(read)
        for key, one in last.items() - {("WORLD", new)}:
            assert f"{key} {one}" in joined or f"{key}={one}" in joined


def test_scripts_as_they_are_written_by_hand() -> None:
    raw = (b'@echo off\r\nREM -name no\r\nset "NAME=My isle"\r\nset PORT=5 6\r\n'
           b'it.exe -name "My isle" ^\r\n  -port %PORT% -quiet\r\n')  # fmt: skip
    form = Script(ScriptSpec(shell="bat"))
    asked = ["/NAME", "/PORT", "/-name", "/-port", "/-quiet", "/-x"]
    assert values_in(form, BytesPayload(raw), asked) == [
        ["My isle"], ["5 6"], ["My isle"], ["%PORT%"], [""], [],
    ]  # fmt: skip
    out = whole(form, raw, Put("/NAME", "An isle"), Put("/PORT", 7), Put("/-name", "b c"),
                Put("/-port", 8), Insert("/-x", "y z"), Remove("/-quiet"))  # fmt: skip
    assert out == (b'@echo off\r\nREM -name no\r\nset "NAME=An isle"\r\nset PORT=7\r\n'
                   b'it.exe -name "b c" ^\r\n  -port 8 -x "y z"\r\n')  # fmt: skip
    for place, value in (("/NAME", 'a"b'), ("/PORT", "a&b"), ("/-name", "%PATH%"), ("/-quiet", 1)):
        with pytest.raises(RefusedError):
            whole(form, raw, Put(place, value))
    with pytest.raises(RefusedError, match="already"):
        whole(form, raw, Insert("/-port", 8))
    with pytest.raises(DamagedError):
        values_in(Script(ScriptSpec()), BytesPayload(b"it --a 'b"), [])


SAVE = b"""<save><p id="1" n="Isa"><gold>5</gold></p><p id="2" n="Wren"><gold>7</gold><gold>8</gold>
</p><none/><one>x<!-- y -->z</one><cut><![CDATA[a<b]]></cut></save>"""


def test_places_choose_count_and_name_signs() -> None:
    card = {"players": [{"n": "Isa", "gold": 5, "at": {"x": 1}}, {"n": "Wren", "gold": 7}],
            "*": 1, "#": 2, "a/b": 3, "~": 4, "[x": 5, "open": True, "no": None}  # fmt: skip
    raw = json.dumps(card).encode()
    asked = {
        "/players/[n=Wren]/gold": [7], "/players/[at~1x=1]/n": [], "/players/[at/x=1]/n": ["Isa"],
        "/players/#": [2], "/players/*/gold": [5, 7], "/players/1/n": ["Wren"], "/~*": [1],
        "/~#": [2], "/a~1b": [3], "/~0": [4], "/~[x": [5], "/players/2": [], "/open": [True],
        "/players/[gold=5]/n": ["Isa"], "/players/[n=X]/n": [], "/open/x": [], "/no": [None],
    }  # fmt: skip
    for form in ("json", "relaxed-json"):
        assert values_in(form, BytesPayload(raw), list(asked)) == list(asked.values())
        nodes = nodes_in(form, BytesPayload(raw), list(asked))
        assert [[node.value for node in one] for one in nodes] == list(asked.values())
    assert [values_at(card, place) for place in asked] == list(asked.values())
    assert value_at(card, "/players/[n=Isa]/gold") == 5
    for wrong in ("x", "/[a", "/[a]", "/x/[a=b"):
        with pytest.raises(PlaceError):
            steps_of(wrong)
    first, chosen, last = steps_of("/all/[at/x=a~]b~/c/d]/end")
    assert (first, last) == ("all", "end")
    assert (chosen.steps, chosen.value) == (("at", "x"), "a]b/c/d")  # type: ignore[union-attr]
    with pytest.raises(PlaceError, match="single"):
        value_at({"a": [{"n": 1}, {"n": 1}]}, "/a/[n=1]")


def test_like_elements_of_xml_are_chosen_and_counted() -> None:
    asked = {
        "/save/p/#": [2], "/save/p/0/gold": ["5"], "/save/p/[@n=Wren]/gold/1": ["8"],
        "/save/p/*/@id": ["1", "2"], "/save/[@id=2]/@n": ["Wren"], "/save/p/gold": ["5", "7", "8"],
        "/save/p/[gold=5]/@n": ["Isa"], "/save/p/[gold=7]/@n": [], "/save/none": [""],
        "/save/one": ["xz"], "/save/cut": ["a<b"], "/save/p/2": [], "/save/*/gold/#": [1, 2],
    }  # fmt: skip
    found = values_in("xml", BytesPayload(SAVE), list(asked))
    assert dict(zip(asked, found, strict=True)) == asked
    wide = b'<?xml version="1.0" encoding="UTF-16"?><a>\xc3\xa9</a>'.decode().encode("utf-16")
    assert values_in("xml", BytesPayload(wide), ["/a"]) == [["é"]]
    latin = b'<?xml version="1.0" encoding="ISO-8859-1"?><a b="\xe9"/>'
    assert values_in("xml", BytesPayload(latin), ["/a/@b"]) == [["é"]]
    assert b'b="&#233;x"' in whole("xml", latin, Put("/a/@b", "éx"))
    for raw, place in ((SAVE, "/save/one"), (SAVE, "/save/cut"), (wide, "/a")):
        with pytest.raises(RefusedError):
            whole("xml", raw, Put(place, "new"))


@pytest.mark.parametrize(
    ("form", "raw", "change"),
    [
        ("json", b'{"a": 1}', Put("/b", 1)), ("json", b'{"a": 1}', Put("", 1)),
        ("json", b'{"a": 1}', Put("/a", float("nan"))), ("json", b'{"a": 1}', Insert("/a", 1)),
        ("json", b'{"a": 1}', Insert("/a/b", 1)), ("json", b'{"a": 1}', Insert("/b/c", 1)),
        ("json", b'{"a": [1]}', Insert("/a/*", 1)), ("json", b"{}", Remove("/a")),
        ("json", b"{}", Remove("")), ("json", b"{", Put("/a", 1)), ("json", b"\xff", Put("/a", 1)),
        ("json", b'{"a": 1, "b": "x\ty"}', Put("/a", 2)),
        ("json", b'{"a\tb": 1, "a": 1}', Put("/a", 2)),
        ("relaxed-json", b'{"a" 1}', Put("/a", 1)), ("relaxed-json", b"{} x", Put("/a", 1)),
        ("relaxed-json", b"[1 2]", Put("/0", 1)), ("relaxed-json", b"{a: 1}", Put("/a", 1)),
        ("relaxed-json", b"[" * 600 + b"]" * 600, Put("/0", 1)),
        ("relaxed-json", b"[,]", Put("/0", 1)),
        ("xml", b"<a/>", Put("/a", "\x01")), ("xml", b"<a/>", Insert("/a/1", "x")),
        ("xml", b"<a/>", Put("/b", 1)), ("xml", b"<a> </b>", Put("/a", 1)),
        ("ini", b"[a]\nb = 1", Put("/a/b", "x\ny")), ("ini", b"[a]\nflag", Put("/a/flag", 1)),
        ("ini", b"[a]\nb = 1", Insert("/a/c=d", 1)), ("ini", b"= 1", Put("/a", 1)),
        ("ini", b"[a]\nx=1\n[b]\n[a]\ny=2", Remove("/a")), ("ini", b"[a]\n", Insert("/b/c", 1)),
    ],
)  # fmt: skip
def test_what_can_not_be_is_refused(form: str, raw: bytes, change: Any) -> None:
    with pytest.raises((RefusedError, DamagedError)):
        whole(form, raw, change)


@given(st.sampled_from(["json", "relaxed-json", "ini", "xml"]), st.binary(max_size=80))
def test_any_bytes_are_read_or_refused(form: str, raw: bytes) -> None:
    for data in (raw, b"<a>" + raw + b"</a>", b'{"a": ' + raw + b"}", b"[a]\nb=" + raw):
        try:
            whole(form, data, Put("/a", 1), Remove("/*"))
        except FerryError:
            continue
