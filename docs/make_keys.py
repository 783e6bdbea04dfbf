"""Writes docs/keys.md: every key of recipes, as the program itself checks them.

    python docs/make_keys.py

A test holds that file against what this gives, so that it can't differ from the program.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from clever_ferry.model import Model, schema_of
from clever_ferry.recipes.bequest_models import BequestRecipe
from clever_ferry.recipes.models import BoxRecipe, GameRecipe, LibraryRecipe

__all__ = ["reference"]

_TOP = """\
# Every key of recipes

This page is made from the program's own models (`python docs/make_keys.py`), by which it reads
recipes; what it does not name is refused. [recipes.md](recipes.md) explains them by task, with
examples.

A key in **bold** must be there. `NAME` stands for a name of your own, `[]` for each of a list.
"""
_SIMPLE = {
    "string": "text",
    "integer": "whole number",
    "number": "number",
    "boolean": "true or false",
}
_TAGS = ("kind", "type")


class _Reference:
    """The sections of one kind of recipe, each model once: where it stands first."""

    def __init__(self, model: type[Model], seen: set[tuple[str, ...]]) -> None:
        """`seen` are the models of other kinds that have a section already."""
        self._schema, self._seen = schema_of(model), seen

    def sections(self, title: str) -> Iterator[str]:
        """Yield the sections, from the top of the file to what stands deep within."""
        yield f"## {title}\n\n" + "\n".join(self._table(self._schema))
        for own in self._schema["properties"]:
            waiting = [one for one in self._within(self._schema, "") if one[0].split(".")[0] == own]
            while waiting:
                place, names = waiting.pop(0)
                if names in self._seen:
                    continue
                self._seen.add(names)
                models = [self._schema["$defs"][name] for name in names]
                for same in _alike(models):
                    yield "\n".join(self._section(place, same))
                for one in models:
                    waiting += self._within(one, place)

    def _section(self, place: str, models: list[dict[str, Any]]) -> Iterator[str]:
        tags = [f'`{key} = "{tag}"`' for key, tag in map(_tag_of, models) if tag]
        yield f"### `{place}`" + (f": {', '.join(tags)}" if tags else "")
        yield ""
        yield models[0].get("description", "").split("\n\n")[0].replace("\n", " ")
        yield ""
        yield from self._table(models[0])

    def _table(self, model: dict[str, Any]) -> Iterator[str]:
        needed = model.get("required", ())
        rows = [(name, one) for name, one in model.get("properties", {}).items()
                if ("const" not in one and "enum" not in one) or name not in _TAGS]  # fmt: skip
        if not rows:
            return
        yield "| key | takes | without it | what it is |"
        yield "|---|---|---|---|"
        for name, one in rows:
            shown = f"**`{name}`**" if name in needed else f"`{name}`"
            usual = "" if name in needed else _usual(one.get("default"))
            cells = (shown, self._taken(one), usual, one.get("description", ""))
            yield "| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |"

    def _taken(self, one: dict[str, Any]) -> str:
        if "$ref" in one:
            return "keys of its own"
        if "enum" in one:
            return ", ".join(f"`{value}`" for value in one["enum"])
        if "anyOf" in one:
            ways = [self._taken(way) for way in one["anyOf"] if way.get("type") != "null"]
            return " or ".join(dict.fromkeys(ways))
        match one.get("type"):
            case "array":
                inner = one.get("items") or {}
                return f"list of {self._taken(inner)}" if inner else "list"
            case "object":
                inner = one.get("additionalProperties")
                return (
                    f"names, each with {self._taken(inner)}" if isinstance(inner, dict) else "keys"
                )
            case str(simple):
                least, most = one.get("minimum"), one.get("maximum")
                bounds = "" if least is None else f" from {least}"
                bounds += "" if most is None else f" to {most:,}"
                return _SIMPLE.get(simple, simple) + bounds
        return "any value"

    def _within(self, model: dict[str, Any], place: str) -> Iterator[tuple[str, tuple[str, ...]]]:
        """Yield where models stand in another, with their names."""
        for name, one in model.get("properties", {}).items():
            yield from self._refs(one, f"{place}.{name}" if place else name)

    def _refs(self, one: dict[str, Any], place: str) -> Iterator[tuple[str, tuple[str, ...]]]:
        if "$ref" in one:
            yield place, (one["$ref"].rpartition("/")[2],)
        ways = one.get("anyOf", ())
        names = tuple(way["$ref"].rpartition("/")[2] for way in ways if "$ref" in way)
        if names:
            yield place, names
        for way in ways:
            if "$ref" not in way:
                yield from self._refs(way, place)
        if isinstance(one.get("items"), dict):
            yield from self._refs(one["items"], f"{place}[]")
        if isinstance(one.get("additionalProperties"), dict):
            yield from self._refs(one["additionalProperties"], f"{place}.NAME")


def _alike(models: list[dict[str, Any]]) -> list[list[dict[str, Any]]]:
    """Return models in groups that differ by their tags alone."""
    found: list[list[dict[str, Any]]] = []
    for one in models:
        like = next((group for group in found if _untagged(group[0]) == _untagged(one)), None)
        if like is None:
            found.append([one])
        else:
            like.append(one)
    return found


def _untagged(model: dict[str, Any]) -> Any:
    properties = {
        name: one for name, one in model.get("properties", {}).items() if name not in _TAGS
    }
    return properties, model.get("description")


def _tag_of(model: dict[str, Any]) -> tuple[str, str]:
    for name in _TAGS:
        one = model.get("properties", {}).get(name, {})
        if "const" in one or len(one.get("enum", ())) == 1:
            return name, str(one.get("const", one.get("enum", [""])[0]))
    return "", ""


def _usual(value: Any) -> str:
    if value is None or value in ([], (), {}, ""):
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list | tuple):
        return ", ".join(_usual(one) for one in value)
    if isinstance(value, dict):
        return ""
    return f"`{value}`" if isinstance(value, str) else f"{value:,}"


def reference() -> str:
    """Return the whole page."""
    parts, seen = [_TOP], set[tuple[str, ...]]()
    for model, title in ((GameRecipe, "A game's recipe"), (BoxRecipe, "A box's recipe"),
                         (LibraryRecipe, "A library's recipe"),
                         (BequestRecipe, "A recipe for a pair of games")):  # fmt: skip
        parts += _Reference(model, seen).sections(title)
    return "\n\n".join(part.strip() for part in parts) + "\n"


if __name__ == "__main__":
    Path(__file__).with_name("keys.md").write_text(reference(), "utf-8")
