"""A document as a box: where its elements stand, by what they are called, and what is in them."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any, NamedTuple
from xml.etree.ElementTree import Element, ParseError, tostring

from clever_ferry.documents.places import escaped
from clever_ferry.drafting.boxed import Boxed, Folder
from clever_ferry.forms.recognising import document_of

__all__ = ["documents"]

_LARGEST, _MOST_FILES, _MOST_LISTS, _MOST_SAVED, _DEEPEST = 64 << 20, 8, 6, 400, 3
_LONG, _LONGEST_NAME = 40, 64
"""From how many letters on a text is bytes of a save; how many a name has at most."""
_PART = re.compile("[A-Za-z0-9_-]{1,40}")
_NAMES = ("slot", "id", "name", "key", "number", "no", "index", "title")
"""What tells elements apart is often called so, the likelier ones first."""


class _Value(NamedTuple):
    """What stands at one place of an element: a number, a text, or more that is inside."""

    kind: str
    value: Any


class _Listed(NamedTuple):
    """Elements of one kind, and where they stand."""

    entries: str
    elements: Sequence[Mapping[str, _Value]]
    own: Any
    """The first one, from which a new one is made."""
    keyed: bool = False
    """Whether each has a name of its own there."""


def documents(folder: Folder) -> Iterator[Boxed]:
    """Yield documents that hold all saves, each as one of their elements."""
    if any(kind.fields for kind in folder.kinds):
        return
    by_size = sorted(folder.infos, key=lambda path: (-folder.infos[path].size, path))
    for path in by_size[:_MOST_FILES]:
        if not 0 < folder.infos[path].size < _LARGEST:
            continue
        raw = folder.raw(path)
        form = document_of(raw[:4096])
        try:
            if form == "json":
                found = list(islice(_in_json("", json.loads(raw.decode("utf-8-sig"))), _MOST_LISTS))
            elif form == "xml":
                import defusedxml.ElementTree as Tree

                found = list(islice(_in_xml(Tree.fromstring(raw)), _MOST_LISTS))
            else:
                continue
        except (ValueError, ParseError, RecursionError):
            continue
        for listed in found:
            if (box := _boxed(path, form, listed)) is not None:
                yield box


def _in_json(place: str, value: Any) -> Iterator[_Listed]:
    """Yield lists and tables of two objects or more."""
    if place.count("/") > _DEEPEST:
        return
    inner: Sequence[Any] = ()
    if isinstance(value, dict):
        inner = list(value.values())
    elif isinstance(value, list):
        inner = value
    if 2 <= len(inner) <= _MOST_SAVED and all(isinstance(one, dict) and one for one in inner):
        elements = [{f"/{escaped(key)}": _json_value(one) for key, one in each.items()}
                    for each in inner]  # fmt: skip
        yield _Listed(f"{place}/*", elements, inner[0], isinstance(value, dict))
    if isinstance(value, dict):
        for key, one in value.items():
            yield from _in_json(f"{place}/{escaped(key)}", one)


def _json_value(value: Any) -> _Value:
    if isinstance(value, dict | list):
        return _Value("tree", value)
    if isinstance(value, int) and not isinstance(value, bool):
        return _Value("number", value)
    return _Value("text" if isinstance(value, str) else "other", value)


def _in_xml(root: Element) -> Iterator[_Listed]:
    """Yield elements of one tag that stand beside each other."""
    above = [(f"/{escaped(root.tag)}", root)]
    for place, holder in above:
        tags = Counter(one.tag for one in holder)
        for tag, count in tags.items():
            own = [one for one in holder if one.tag == tag]
            if 2 <= count <= _MOST_SAVED:
                elements = [{**{f"/@{escaped(key)}": _Value("text", text)
                                for key, text in each.attrib.items()},
                             **_children(each)} for each in own]  # fmt: skip
                yield _Listed(f"{place}/{escaped(tag)}", elements, own[0])
            elif count == 1 and place.count("/") < _DEEPEST:
                above.append((f"{place}/{escaped(tag)}", own[0]))


def _children(element: Element) -> dict[str, _Value]:
    tags = Counter(one.tag for one in element)
    return {
        f"/{escaped(one.tag)}": _Value("tree" if len(one) or one.attrib else "text", one.text or "")
        for one in element if tags[one.tag] == 1
    }  # fmt: skip


def _boxed(path: str, form: str, listed: _Listed) -> Boxed | None:
    """Return what a document is as a box; None where its elements hold nothing of a save."""
    common = [key for key in listed.elements[0] if all(key in one for one in listed.elements)]
    columns = {key: [one[key] for one in listed.elements] for key in common}
    name = "" if listed.keyed else _name(columns)
    if not name and not listed.keyed:
        return None
    parts: dict[str, dict[str, Any]] = {}
    for key, values in columns.items():
        own = key.removeprefix("/").removeprefix("@")
        kinds = {one.kind for one in values}
        if key == name or not _PART.fullmatch(own) or kinds - {"number", "text", "tree"}:
            continue
        if len(kinds) > 1 or (kinds == {"tree"} and form == "xml"):
            continue
        differ = len({str(one.value) for one in values}) > 1
        long = kinds == {"text"} and max(len(one.value) for one in values) >= _LONG
        if (kinds == {"tree"} or long or differ) and own not in parts:
            parts[own] = {"at": key, **({"text": True} if kinds == {"text"} else {})}
    first = [columns[one["at"]][0] for one in parts.values()]
    if not any(one.kind == "tree" or len(str(one.value)) >= _LONG for one in first):
        return None
    told = {"name": name} if name else {}
    held = {name, *(str(one["at"]) for one in parts.values())}
    found = Boxed({
        "kind": "nodes", "file": path, "holds": form, "entries": listed.entries, **told,
        "parts": parts, "template": _template(form, listed, held),
    })  # fmt: skip
    found.odd = float(sum(key not in held for key in common))
    return found


def _name(columns: Mapping[str, Sequence[_Value]]) -> str:
    """Return the place of what tells elements apart: short, in each, and nowhere the same."""
    fitting = [
        key for key, values in columns.items()
        if all(one.kind in ("number", "text") and 0 < len(str(one.value)) <= _LONGEST_NAME
               and "/" not in str(one.value) for one in values)
        and len({str(one.value) for one in values}) == len(values)
    ]  # fmt: skip

    def rank(key: str) -> tuple[int, int]:
        own = key.strip("/@").lower()
        told = next((at for at, one in enumerate(_NAMES) if own == one), len(_NAMES))
        return told, fitting.index(key)

    return min(fitting, key=rank, default="")


def _template(form: str, listed: _Listed, blank: Collection[str]) -> str:
    """Return a new element: as the first one is, with nothing where its own is to stand."""
    if form == "json":
        made = dict(listed.own)
        for key, value in listed.own.items():
            if f"/{escaped(key)}" in blank:
                made[key] = type(value)()
        return json.dumps(made, ensure_ascii=False)
    element = Element(listed.own.tag, dict(listed.own.attrib))
    for key in element.attrib:
        if f"/@{escaped(key)}" in blank:
            element.set(key, "")
    for one in listed.own:
        element.append(one)
        if f"/{escaped(one.tag)}" in blank:
            one.text = ""
        one.tail = None
    return tostring(element, encoding="unicode", short_empty_elements=False)
