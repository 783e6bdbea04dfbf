"""Documents: one way to a value inside a piece, whatever the form of its text.

>>> from clever_ferry.payload import BytesPayload, read_all
>>> card = BytesPayload(b'{"name": "Saltmarsh",\\n "day": 31}\\n')
>>> values_in("json", card, ["/day", "/nowhere"])
[[31], []]
>>> read_all(changed("json", card, [Put("/day", 32)]), limit=100, what="the example")
b'{"name": "Saltmarsh",\\n "day": 32}\\n'
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cache
from typing import Any, NamedTuple

from clever_ferry.documents.form import (
    Change,
    Form,
    Insert,
    Joining,
    Put,
    Remove,
    Rewriting,
    Splice,
    spliced,
)
from clever_ferry.documents.nodes import Node, Single
from clever_ferry.documents.places import NotOne, PlaceError, one_at_each, steps_of, values_at
from clever_ferry.documents.spec import FormSpec
from clever_ferry.errors import RefusedError
from clever_ferry.model import class_of
from clever_ferry.payload import BytesPayload, Payload, StreamPayload, read_all

__all__ = [
    "FORMS",
    "Insert",
    "Put",
    "Remove",
    "Was",
    "changed",
    "each_in",
    "form_of",
    "held",
    "nodes_in",
    "one_value_in_each",
    "spelled_in",
    "value_splices",
    "values_in",
    "with_splices",
    "with_values",
]

_MOST, _HELD = 256 << 20, 16 << 20
_HOLDERS = (dict, list)


_MADE_BY: dict[str, tuple[str, dict[str, Any]]] = {
    "json": ("json_text.Json", {}), "relaxed-json": ("json_text.Json", {"relaxed": True}),
    "ini": ("ini_text.Ini", {}), "properties": ("properties_text.Properties", {}),
    "toml": ("toml_text.Toml", {}), "yaml": ("yaml_text.Yaml", {}), "xml": ("xml_text.Xml", {}),
}  # fmt: skip
FORMS = tuple(_MADE_BY)
"""The forms that need no description, by the names that recipes have for them."""


def form_of(name: str, own: Mapping[str, FormSpec] | None = None) -> Form:
    """Return a form by its name, which may be a recipe's `own`; its room is loaded with it.

    Raises KeyError where there is none.
    """
    if own is not None and name in own:
        made_by, more = own[name].MADE_BY, dict[str, Any](spec=own[name])
    else:
        made_by, more = _MADE_BY[name]
    form: Form = class_of(__package__, made_by)(**more)
    return form


def held(source: Payload) -> Payload:
    """Return a document that is looked into several times: one that is small is read once."""
    if source.size is None or source.size > _HELD:
        return source
    return BytesPayload(read_all(source, limit=_HELD, what="It"))


def _form(form: Form | str) -> Form:
    return form_of(form) if isinstance(form, str) else form


def nodes_in(form: Form | str, source: Payload, places: Sequence[str]) -> list[list[Node]]:
    """Return for each place what stands there, in order.

    Raises DamagedError where the bytes are no such document; all of it is looked at.
    """
    return _form(form).find(source, [steps_of(place) for place in places])


def each_in(form: Form | str, source: Payload, places: Sequence[str]) -> list[Node]:
    """Return what stands at any of the places, each once, in the order of the bytes."""
    found = {
        (node.start, node.path): node for nodes in nodes_in(form, source, places) for node in nodes
    }
    return [found[at] for at in sorted(found)]


def values_in(form: Form | str, source: Payload, places: Sequence[str]) -> list[list[Any]]:
    """Return for each place the values that stand there; what holds others is None."""
    if form == "json" and not places:  # it is only read to its end
        from clever_ferry.documents.json_text import refuse_other

        refuse_other(json_bytes(source))
        return []
    if form == "json":
        whole = json_in(source)
        found = [values_at(whole, place) for place in places]
        return [[None if isinstance(one, _HOLDERS) else one for one in own] for own in found]
    return [[node.value for node in nodes] for nodes in nodes_in(form, source, places)]


def one_value_in_each(form: Form | str, source: Payload, places: tuple[str, ...]) -> list[Any]:
    """Return for each place the one value that stands there, or `NotOne`.

    What holds others is a dict, a list or None.
    """
    if form == "json":
        return one_at_each(json_in(source), places)
    return [
        nodes[0].value if len(nodes) == 1 else NotOne(len(nodes))
        for nodes in nodes_in(form, source, places)
    ]


@cache
def _json_reader() -> Callable[[bytes, str], Any]:
    from clever_ferry.documents.json_text import read_json

    return read_json


def json_bytes(source: Payload) -> bytes:
    """Return a JSON text's bytes; raises DamagedError where they are too many."""
    return read_all(source, limit=_MOST, what="It")


def json_in(source: Payload) -> Any:
    """Return what a JSON text holds, as Python has it; raises DamagedError where it is none."""
    return _json_reader()(json_bytes(source), "It")


def with_values(
    form: Form | str, source: Payload, values: Sequence[tuple[Node, Single | bytes]]
) -> Payload:
    """Return a document with other values at nodes of it; bytes are put as they are.

    Raises RefusedError where the form can't hold one.
    """
    kind = _form(form)
    if isinstance(kind, Rewriting):
        return kind.rewrite(source, [(node, _single(value)) for node, value in values])
    return with_splices(source, value_splices(kind, source, values))


def value_splices(
    form: Form, source: Payload, values: Sequence[tuple[Node, Single | bytes]]
) -> list[Splice]:
    """Return what puts other values at nodes of a document, as `with_values` does."""
    olds = _slices(source, [(node.start, node.end) for node, _ in values if node.start >= 0])
    return [
        Splice(node.start, node.end, value if isinstance(value, bytes) else
               form.put(source, node, olds.get((node.start, node.end), b""), value))
        for node, value in values
    ]  # fmt: skip


def _single(value: Single | bytes) -> Single:
    if isinstance(value, bytes):
        raise TypeError("a document that is made anew takes values, and no spelling of them")
    return value


class Was(NamedTuple):
    """What stood at a place, and how it was spelled."""

    node: Node
    spelled: bytes


def spelled_in(source: Payload, nodes: Sequence[Node]) -> list[Was]:
    """Return nodes of a document with how their values are spelled."""
    found = _slices(source, [(node.start, node.end) for node in nodes if node.start >= 0])
    return [Was(node, found.get((node.start, node.end), b"")) for node in nodes]


def changed(form: Form | str, source: Payload, changes: Sequence[Change]) -> Payload:
    """Return a document with some changes, in their order; every other byte is as it was.

    Raises PlaceError where nothing stands at one of the places, RefusedError where the form can't
    hold what should stand there, DamagedError where the bytes are no such document.
    """
    kind = _form(form)
    at = 0
    while at < len(changes):
        puts: list[Put] = []
        while at < len(changes) and isinstance(one := changes[at], Put):
            puts.append(one)
            at += 1
        if puts:
            source = with_values(form, source, _put_at(kind, source, puts))
            continue
        other = changes[at]
        at += 1
        if isinstance(other, Remove):
            source = with_splices(source, _removal(kind, source, other))
        elif isinstance(other, Insert):
            source = with_splices(source, [_insertion(kind, source, other)])
    return source


def with_splices(source: Payload, splices: Sequence[Splice]) -> Payload:
    """Return a document with some of its bytes replaced; all others are as they were."""
    size = source.size
    if size is not None:
        size += sum(len(one.new) - (one.end - one.start) for one in splices)
    return StreamPayload(lambda: spliced(source, splices), size)


def _put_at(form: Form, source: Payload, puts: Sequence[Put]) -> list[tuple[Node, Single]]:
    found = form.find(source, [steps_of(one.place) for one in puts])
    wanted: dict[tuple[int, int], tuple[Node, Single]] = {}
    for put, nodes in zip(puts, found, strict=True):
        if not nodes:
            raise PlaceError(f"Nothing stands at {put.place!r}.")
        for node in nodes:
            if node.inner is not None:
                raise RefusedError(f"What stands at {put.place!r} is no single value.")
            wanted[node.start, node.end] = node, put.value
    return list(wanted.values())


def _slices(source: Payload, places: Sequence[tuple[int, int]]) -> dict[tuple[int, int], bytes]:
    """Return the bytes at some places; they are read in one go, and only they are kept."""
    found = dict.fromkeys(places, b"")
    begin = 0
    waiting = sorted(places)
    for chunk in source.chunks():
        end = begin + len(chunk)
        for at in waiting:
            if at[0] >= end:
                break
            found[at] += chunk[max(0, at[0] - begin) : max(0, at[1] - begin)]
        waiting = [at for at in waiting if at[1] > end]
        begin = end
    return found


def _removal(form: Form, source: Payload, removal: Remove) -> list[Splice]:
    steps = steps_of(removal.place)
    if not steps:
        raise RefusedError("The whole document can't be taken away.")
    (nodes,) = form.find(source, [steps])
    if not nodes:
        raise PlaceError(f"Nothing stands at {removal.place!r}.")
    return form.remove(source, steps, nodes)


def _insertion(form: Form, source: Payload, insert: Insert) -> Splice:
    *above, name = steps_of(insert.place) or ("",)
    if not name or not isinstance(name, str):
        raise RefusedError(f"The place {insert.place!r} names nothing new.")
    there, found = form.find(source, [[*above, name], above])
    if there and not form.several:
        raise RefusedError(f"Something stands at {insert.place!r} already.")
    if len(found) != 1:
        told = "nothing stands" if not found else "more than one stands"
        raise PlaceError(f"Nothing can be added at {insert.place!r}: {told} above it.")
    if not isinstance(insert.value, bytes):
        return form.insert(source, [*above, name], found[0], insert.value)
    if not isinstance(form, Joining):
        raise RefusedError(f"Only single values can be added to {form.title}.")
    return form.join(source, found[0], [(name, insert.value)])
