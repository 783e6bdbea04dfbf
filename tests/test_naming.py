"""Name patterns: what is written is read back; nothing is guessed; hostile input costs nothing."""

from __future__ import annotations

import re
import string
from typing import Any

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from clever_ferry.naming import (
    Ambiguous,
    ChoiceField,
    DigitsField,
    FieldSpec,
    HexField,
    IdentifierField,
    JoinedField,
    Names,
    NamingError,
    NumberField,
    StampField,
    TextField,
    WordField,
    compile_pattern,
)

FIELDS: dict[str, FieldSpec] = {
    "slot": NumberField(first=0, width=2),
    "free": NumberField(),
    "account": DigitsField(length=9),
    "world": HexField(length=16),
    "player": WordField(),
    "name": TextField(),
    "hexslot": NumberField(first=0, width=2, base=16),
    "odd": NumberField(only=(0, 2, 10)),
    "row": NumberField(only=("A", "Bb", "c")),
    "seen": NumberField(first=0, last=9),
    "spot": JoinedField(
        of={
            "page": NumberField(first=0),
            "line": NumberField(only=("a", "b", "c")),
            "place": NumberField(most=4),
        }
    ),
    "ident": IdentifierField(),
    "braced": IdentifierField(braces=True, case="upper"),
    "bare": IdentifierField(dashes=False),
    "when": StampField(),
    "epoch": StampField(form="seconds"),
    "day": StampField(form="DD.MM.YYYY"),
    "act": ChoiceField(of={"first": "act1", "second": "act2", "last": "finale"}),
}


@pytest.mark.parametrize(
    ("pattern", "name", "values"),
    [
        ("voyage-{slot}.sav", "voyage-04.sav", {"slot": 5}),
        ("voyage-{slot}-{world}/w.sgw", "voyage-00-00112233AABBCCDD/w.sgw",
         {"slot": 1, "world": "00112233aabbccdd"}),
        ("{name}.sav", "a.sav.sav", {"name": "a.sav"}),
        ("isle{free}.folk.{player}", "isle12.folk.Wren", {"free": 12, "player": "Wren"}),
        ("{act}_{free}", "finale_3", {"act": "last", "free": 3}),
        ("{slot}/x{slot}", "03/x03", {"slot": 4}),
        ("s{hexslot}", "s1F", {"hexslot": 32}),
        ("s{odd}", "s10", {"odd": 3}),
        ("s{odd}", "s1", None),
        ("{row}_{free}", "Bb_3", {"row": 2, "free": 3}),
        ("{row}", "bB", None),
        ("{row}", "B", None),
        ("{row}", "Ab", None),
        ("{seen}", "9", {"seen": 10}),
        ("p{page}/{line}{place}.sav", "p0/a1.sav", {"spot": 1}),
        ("p{page}/{line}{place}.sav", "p0/c4.sav", {"spot": 12}),
        ("p{page}/{line}{place}.sav", "p12/b2.sav", {"spot": 150}),
        ("p{page}/{line}{place}.sav", "p0/a5.sav", None),
        ("p{page}/{line}{place}.sav", "p0/d1.sav", None),
        ("p{page}/{line}{place}.sav", "p0/a0.sav", None),
        ("{line}{place}-{page}<.{player}>", "b3-1", {"spot": 19}),
        ("{line}{place}-{page}<.{player}>", "b3-1.Wren", {"spot": 19, "player": "Wren"}),
        ("{free}<-{line}{place}-{page}>", "7", {"free": 7}),
        ("{player}<-{free}>/{player}.x", "a-3/a.x", {"player": "a", "free": 3}),
        ("{player}<-{free}>/{player}.x", "a-3/a-3.x", {"player": "a-3"}),
        ("{player}<-{free}>/{player}.x", "a-3/b.x", None),
        ("{free}<-{line}{place}-{page}>", "7-b3-1", {"free": 7, "spot": 19}),
        ("{ident}", "00112233-4455-6677-8899-aabbccddeeff",
         {"ident": "00112233-4455-6677-8899-aabbccddeeff"}),
        ("{braced}", "{00112233-4455-6677-8899-AABBCCDDEEFF}",
         {"braced": "00112233-4455-6677-8899-aabbccddeeff"}),
        ("{bare}.x", "00112233445566778899aabbccddeeff.x",
         {"bare": "00112233-4455-6677-8899-aabbccddeeff"}),
        ("{ident}", "0011223-34455-6677-8899-aabbccddeeff", None),
        ("a-{when}", "a-20261123-061400", {"when": 1795414440}),
        ("a-{when}", "a-20260230-061400", None),
        ("a-{when}", "a-20261123-235959", {"when": 1795478399}),
        *[("a-{when}", f"a-20261123-{one}", None) for one in ("240000", "236000", "235960")],
        ("{epoch}", "1795414440", {"epoch": 1795414440}),
        ("{epoch}", "0", {"epoch": 0}),
        ("{epoch}", "01795414440", None),
        ("{day}", "29.02.2000", {"day": 951782400}),
        ("{day}", "01.03.2000", {"day": 951868800}),
        ("{day}", "29.02.2100", None),
        ("{day}", "01.03.2100", {"day": 4107542400}),
        ("{day}", "29.02.2401", None),
        ("{day}", "31.12.2401", {"day": 13632537600}),
        ("{day}", "29.02.2028", {"day": 1835395200}),
        ("s{slot}<-{player}>.sav", "s03.sav", {"slot": 4}),
        ("s{slot}<-{player}>.sav", "s03-Wren.sav", {"slot": 4, "player": "Wren"}),
        ("s{slot}<.old>/x", "s03.old/x", {"slot": 4}),
        ("voyage-{slot}.sav", "voyage-4.sav", None),
        ("voyage-{slot}.sav", "voyage-100.sav", None),
        ("{slot}/x{slot}", "03/x04", None),
        ("isle{free}", "isle07", None),
        ("isle{free}", "isle0", None),
        ("{name}.sav", "a/b.sav", None),
        ("{world}", "xyz", None),
    ],
)  # fmt: skip
def test_reading(pattern: str, name: str, values: dict[str, Any] | None) -> None:
    compiled = compile_pattern(pattern, FIELDS)
    assert compiled.match(name) == values
    assert Names([(compiled, 1)]).read(name) == ([] if values is None else [(1, values)])


def test_case_is_folded_only_where_asked() -> None:
    pattern = compile_pattern("Voyage-{slot}.SAV", FIELDS)
    assert pattern.match("voyage-04.sav") is None
    assert pattern.match("voyage-04.sav", fold=True) == {"slot": 5}
    assert compile_pattern("{row}{page}{line}{place}", FIELDS).match("bB3A1", fold=True) == {
        "row": 2, "spot": 37,
    }  # fmt: skip


def test_a_name_with_two_readings_is_reported() -> None:
    pattern = compile_pattern("{player}-{name}", FIELDS)
    assert pattern.match("a-b") == {"player": "a", "name": "b"}
    assert isinstance(pattern.match("a-b-c"), Ambiguous)
    with pytest.raises(NamingError, match="another way"):
        pattern.write({"player": "a-b", "name": "c"})


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("{slto}.sav", "no field 'slto'"),
        ("{slot.sav", "not closed"),
        ("slot}.sav", "without its"),
        ("../{slot}", "stay in its folder"),
        ("/etc/{slot}", "stay in its folder"),
        ("C:/{slot}", "folders are separated"),
        ("a\\{slot}", "folders are separated"),
        ("", "empty"),
        ("{slot}" * 200, "too long"),
        ("{slot}<x", "must be closed"),
        ("{slot}>x", "without its '<'"),
        ("{slot}<a<b>>", "hold no other"),
        ("<a><b><c><d><e>", "more than 4"),
        ("{spot}", "no field 'spot'"),
        ("p{page}/{line}", r"{place} is missing, without which there is no spot"),
        ("{page}{place}<{line}>", r"{line} is missing"),
    ],
)
def test_patterns_that_cant_work(text: str, said: str) -> None:
    with pytest.raises(NamingError, match=said):
        compile_pattern(text, FIELDS)


@pytest.mark.parametrize(
    "values", [{"slot": 0}, {"slot": 101}, {"slot": "x"}, {}, {"slot": -1}, {"slot": 10**30}]
)
def test_values_that_dont_fit(values: dict[str, Any]) -> None:
    with pytest.raises(NamingError):
        compile_pattern("voyage-{slot}.sav", FIELDS).write(values)
    spot = {"spot": values["slot"]} if "slot" in values and values["slot"] != 101 else {}
    with pytest.raises(NamingError):
        compile_pattern("{page}{line}{place}", FIELDS).write(spot)


@pytest.mark.parametrize(
    ("field", "said"),
    [
        ({"only": ("a", "A")}, "once"),
        ({"only": ("a", "")}, "once"),
        ({"only": (3, -1)}, "below 0"),
        ({"only": (1, "a")}, "not both"),
        ({"only": ("a/b",)}, "must not hold"),
        ({"only": ("a",), "width": 2}, "no first"),
        ({"first": 3, "last": 2}, "from `first` on"),
        ({"last": 2, "most": 2}, "say the same"),
        ({"last": 2, "only": (1, 2, 3)}, "from `first` on"),
    ],
)
def test_numbers_that_cant_be(field: dict[str, Any], said: str) -> None:
    with pytest.raises(ValueError, match=said):
        NumberField(**field)


def test_a_joined_number_has_an_end_on_each_part_but_the_first() -> None:
    free, two, three = NumberField(), NumberField(most=2), NumberField(first=0, last=2)
    with pytest.raises(ValueError, match="'b' needs an end"):
        JoinedField(of={"a": two, "b": free})
    with pytest.raises(ValueError, match="no `on_arrival`"):
        JoinedField(of={"a": two, "b": NumberField(most=2, on_arrival=("given",))})
    field = JoinedField(of={"a": two, "b": three})
    assert (field.highest, field.wants()) == (6, "a number from 1 to 6")
    assert JoinedField(of={"a": free, "b": three}).wants() == "a number from 1 up"
    assert [field.write(number) for number in (0, 1, 4, 6, 7)] == [None, "1 0", "2 0", "2 2", None]
    assert [field.joined(field.parts(number)) for number in range(1, 7)] == [*range(1, 7)]
    with pytest.raises(NamingError, match="that of two fields, or of a part"):
        compile_pattern("{a}{b}", {"slot": field, "b": two})


def test_names_never_lead_out_of_their_folder() -> None:
    pattern = compile_pattern("{name}.sav", FIELDS)
    for name in ("../x", "a/b", "a\\b", "C:x", "a\0b", "x\n"):
        with pytest.raises(NamingError):
            pattern.write({"name": name})


def test_hostile_names_and_patterns_are_done_at_once() -> None:
    """Would take ages with backtracking; a name too long to be one is not looked at."""
    pattern = compile_pattern("{name}-" * 30 + "x", FIELDS)
    assert pattern.match("-" * 4000 + "y") is None
    assert pattern.match("a-" * 100_000 + "x") is None
    assert isinstance(pattern.match("a-" * 60 + "x"), Ambiguous)


VALUES: dict[str, st.SearchStrategy[Any]] = {
    "slot": st.integers(1, 100),
    "free": st.integers(1, 10**6),
    "account": st.text(string.digits, min_size=9, max_size=9),
    "world": st.text("0123456789abcdef", min_size=16, max_size=16),
    "player": st.text(string.ascii_letters + string.digits + "-_", min_size=1, max_size=12),
    "name": st.text(min_size=1, max_size=20),
    "hexslot": st.integers(1, 256),
    "odd": st.integers(1, 3),
    "ident": st.uuids().map(str),
    "braced": st.uuids().map(str),
    "bare": st.uuids().map(str),
    "when": st.integers(0, 253_402_300_799),
    "epoch": st.integers(0, 10**10),
    "day": st.integers(0, 2_932_896).map(lambda days: days * 86_400),
    "act": st.sampled_from(["first", "second", "last"]),
    "row": st.integers(1, 3),
    "seen": st.integers(1, 10),
    "spot": st.integers(1, 10**6),
}
PARTS = {"spot": "{page}-{line}{place}"}
LITERALS = st.text(string.ascii_letters + " .-_", max_size=5)


@given(st.data())
def test_what_is_written_is_read_back_the_same(data: st.DataObject) -> None:
    names = data.draw(st.lists(st.sampled_from(sorted(FIELDS)), min_size=1, max_size=4))
    parts = [data.draw(LITERALS)]
    for name in names:
        field = PARTS.get(name, "{" + name + "}")
        if data.draw(st.booleans()):
            field = f"<{data.draw(LITERALS)}{field}>"
        parts += [field, data.draw(st.one_of(LITERALS, st.just("/d/")))]
    text = "".join(parts)
    assume(not any(part in ("", ".", "..") for part in text.split("/")))
    assume(parts[0] + "".join(part for part in parts[1:] if not part.startswith("<")))
    assume(all(part not in ("", ".", "..") for part in re.sub("<[^>]*>", "", text).split("/")))
    pattern = compile_pattern(text, FIELDS)
    optional = {
        name for name in pattern.fields if any(name not in p.fields for p in pattern.shorter)
    }
    values = {
        name: data.draw(VALUES[name])
        for name in pattern.fields
        if name not in optional or data.draw(st.booleans())
    }
    try:
        written = pattern.write(values)
    except NamingError:
        return  # said, and not guessed
    read = pattern.match(written)
    assert isinstance(read, dict)
    assert read.items() <= values.items()
    if not pattern.shorter:
        assert read == values


@given(st.data())
def test_the_quick_way_reads_what_the_slow_way_reads(data: st.DataObject) -> None:
    parts = data.draw(st.lists(st.sampled_from(["{a}", "{b}", "{c}", "-", "/", ".sav", "x", "A"]),
                               min_size=1, max_size=6))  # fmt: skip
    fields = {
        name: FIELDS[data.draw(st.sampled_from(sorted(FIELDS.keys() - PARTS)))] for name in "abc"
    }
    try:
        pattern = compile_pattern("".join(parts), fields)
        values = {name: data.draw(st.just(fields[name].sample())) for name in pattern.fields}
        written = pattern.write(values)
    except NamingError:
        assume(False)
        return
    changed = data.draw(st.one_of(st.just(written), st.text("aA1-x./é", max_size=12)))
    for name in (written, changed, written + changed[-2:], written.upper()):
        for fold in (False, True):
            if name and len(name) < 200 and pattern._ends_fit(name, fold):
                assert pattern._match_whole(name, fold) == pattern._match_slowly(name, fold)


@given(st.sampled_from(sorted(FIELDS)), st.text(max_size=40))
def test_what_is_read_is_written_back_the_same(field: str, name: str) -> None:
    pattern = compile_pattern(f"x{PARTS.get(field, '{' + field + '}')}.y", FIELDS)
    values = pattern.match(f"x{name}.y")
    if isinstance(values, dict):
        assert pattern.write(values).lower() == f"x{name}.y".lower()


_MANY = [
    "{world}-{slot}/{player}.x", "a{slot}<-{player}>/b{slot}.y", "{player}/{player}", "a1/B.x",
    "<old->{player}/s<{slot}>/{world}", "{player}", "straße", "{player}/B.x",
]  # fmt: skip


@given(
    st.lists(st.sampled_from(_MANY), min_size=1, unique=True),
    st.lists(st.text("aB01-.xyoldß", max_size=7), min_size=1, max_size=4) | st.sampled_from(
        [["A1", "b.X"], ["a1", "B.x"], ["STRASSE"], ["strasse"], ["StraßE"]]
    ),
    st.booleans(),
)  # fmt: skip
def test_many_patterns_read_a_path_as_each_alone(
    texts: list[str], parts: list[str], fold: bool
) -> None:
    fields: dict[str, FieldSpec] = {
        "world": HexField(length=2), "slot": NumberField(),
        "player": TextField(),
    }  # fmt: skip
    patterns = {
        text: compile_pattern(text, {k: v for k, v in fields.items() if f"{{{k}}}" in text})
        for text in texts
    }
    names = Names([(pattern, text) for text, pattern in patterns.items()], fold=fold)

    def each(path: str) -> list[object]:
        alone = [(text, pattern.match(path, fold=fold)) for text, pattern in patterns.items()]
        return [(text, values) for text, values in alone if values is not None]

    path = "/".join(parts)
    for _ in range(2):  # the second time from memory
        assert names.read(path) == each(path)
    for text, pattern in patterns.items():
        if "<old" in text:
            continue  # what that writes can be read in another way
        samples = {name: fields[name].sample() for name in pattern.fields}
        path = pattern.write(samples)
        found = names.read(path)
        assert found == each(path)
        assert (text, samples) in found
        assert all(names.leads(path[:at]) for at, char in enumerate(path) if char == "/")
