"""All single values of a text with a form, by their places as recipes write them."""

from __future__ import annotations

import configparser
import json
import tomllib
from collections import Counter
from collections.abc import Iterator
from typing import Any

from clever_ferry.documents.places import escaped
from clever_ferry.forms.recognising import document_of

__all__ = ["leaves_of", "text_form"]

_MOST = 200_000
_LARGEST = 16 << 20


def text_form(data: bytes) -> str:
    """Return of which form of documents a text is, as recipes call it; '' where of none."""
    if not data or len(data) > _LARGEST:
        return ""
    return document_of(data[:4096])


def leaves_of(form: str, data: bytes) -> list[tuple[str, str]]:
    """Return places and what stands there, as text; of a form that can't be gone through none."""
    found: list[tuple[str, str]] = []
    try:
        for leaf in _leaves(form, data):
            found.append(leaf)
            if len(found) >= _MOST:
                break
    except (ValueError, KeyError, configparser.Error, RecursionError, SyntaxError):
        return []
    return found


def _leaves(form: str, data: bytes) -> Iterator[tuple[str, str]]:
    text = data.decode("utf-8-sig", "replace")
    if form == "json":
        yield from _within("", json.loads(text))
    elif form == "toml":
        yield from _within("", tomllib.loads(text))
    elif form == "yaml":
        from ruamel.yaml import YAML

        yield from _within("", YAML(typ="safe", pure=True).load(text))
    elif form == "xml":
        import defusedxml.ElementTree as Tree

        root = Tree.fromstring(data)
        yield from _of_element(f"/{escaped(root.tag)}", root)
    elif form in ("ini", "properties"):
        yield from _of_lines(form, text)


def _within(place: str, value: Any) -> Iterator[tuple[str, str]]:
    if isinstance(value, dict):
        for name, one in value.items():
            yield from _within(f"{place}/{escaped(str(name))}", one)
    elif isinstance(value, list):
        for at, one in enumerate(value):
            yield from _within(f"{place}/{at}", one)
    elif value is not None:
        yield place, str(value).lower() if isinstance(value, bool) else str(value)


def _of_element(place: str, element: Any) -> Iterator[tuple[str, str]]:
    for name, value in element.attrib.items():
        yield f"{place}/@{escaped(name)}", value
    if element.text and element.text.strip():
        rest = "/text" if len(element) or element.attrib else ""
        yield place + rest, element.text.strip()
    tags = Counter(one.tag for one in element)
    seen: dict[str, int] = {}
    for one in element:
        own = f"{place}/{escaped(one.tag)}"
        if tags[one.tag] > 1:
            own += f"/{seen.setdefault(one.tag, 0)}"
            seen[one.tag] += 1
        yield from _of_element(own, one)


def _of_lines(form: str, text: str) -> Iterator[tuple[str, str]]:
    section = ""
    for line in text.splitlines():
        line = line.strip()
        if form == "ini" and line.startswith("[") and line.endswith("]"):
            section = f"/{escaped(line[1:-1])}"
            continue
        name, sign, value = line.partition("=")
        if sign and name.strip() and name[0] not in "#;!":
            yield f"{section}/{escaped(name.strip())}", value.strip()
