"""Name patterns: what is written is read back; nothing is guessed; hostile input costs nothing."""

from __future__ import annotations

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
    NamingError,
    NumberField,
    TextField,
    WordField,
    compile_pattern,
)

FIELDS: dict[str, FieldSpec] = {
    "slot": NumberField(type="number", first=0, width=2),
    "free": NumberField(type="number"),
    "account": DigitsField(type="digits", length=9),
    "world": HexField(type="hex", length=16),
    "player": WordField(type="word"),
    "name": TextField(type="text"),
    "act": ChoiceField(type="choice", of={"first": "act1", "second": "act2", "last": "finale"}),
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
    assert compile_pattern(pattern, FIELDS).match(name) == values


def test_case_is_folded_only_where_asked() -> None:
    pattern = compile_pattern("Voyage-{slot}.SAV", FIELDS)
    assert pattern.match("voyage-04.sav") is None
    assert pattern.match("voyage-04.sav", fold=True) == {"slot": 5}


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
    "act": st.sampled_from(["first", "second", "last"]),
}
LITERALS = st.text(string.ascii_letters + " .-_", max_size=5)


@given(st.data())
def test_what_is_written_is_read_back_the_same(data: st.DataObject) -> None:
    names = data.draw(st.lists(st.sampled_from(sorted(FIELDS)), min_size=1, max_size=4))
    parts = [data.draw(LITERALS)]
    for name in names:
        parts += ["{" + name + "}", data.draw(st.one_of(LITERALS, st.just("/d/")))]
    text = "".join(parts)
    assume(not any(part in ("", ".", "..") for part in text.split("/")))
    pattern = compile_pattern(text, FIELDS)
    values = {name: data.draw(VALUES[name]) for name in pattern.fields}
    try:
        written = pattern.write(values)
    except NamingError:
        return  # said, and not guessed
    assert pattern.match(written) == values


@given(st.sampled_from(sorted(FIELDS)), st.text(max_size=40))
def test_what_is_read_is_written_back_the_same(field: str, name: str) -> None:
    pattern = compile_pattern("x{" + field + "}.y", FIELDS)
    values = pattern.match(f"x{name}.y")
    if isinstance(values, dict):
        assert pattern.write(values).lower() == f"x{name}.y".lower()
