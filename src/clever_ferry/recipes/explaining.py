"""What is wrong with a recipe, in words: the key, the value, and what would be right."""

from __future__ import annotations

from difflib import get_close_matches
from typing import Any

from pydantic import BaseModel, ValidationError

__all__ = ["explain"]


def explain(error: ValidationError, model: type[BaseModel], data: Any) -> tuple[str, ...]:
    """Return one line per fault."""
    return tuple(dict.fromkeys(_line(fault, model, data) for fault in error.errors()))


def _line(fault: Any, model: type[BaseModel], data: Any) -> str:
    loc = _real_steps(fault["loc"], data)
    key = _dotted(loc)
    context = fault.get("ctx", {})
    value = fault.get("input")
    match fault["type"]:
        case "extra_forbidden":
            beside = _keys_beside(model, loc[:-1], data)
            near = get_close_matches(str(loc[-1]), beside, 1)
            if near:
                return f"{key}: there is no such key; did you mean `{near[0]}`?"
            return f"{key}: there is no such key here; there are {', '.join(sorted(beside))}."
        case "missing":
            return f"{key}: this key is missing."
        case "union_tag_invalid":
            tags = context.get("expected_tags", "").replace("'", "`")
            tag = context.get("discriminator", "type").strip("'")
            return f"{key}.{tag} = {context.get('tag')!r}: there are {tags}."
        case "union_tag_not_found":
            return f"{key}: the key {context.get('discriminator', '`type`')} is missing."
        case "literal_error":
            return f"{key} = {value!r}: it must be {context.get('expected')}."
        case "value_error":
            return f"{key}: {context.get('error')}."
        case "string_pattern_mismatch":
            return f"{key} = {value!r}: it must look like {context.get('pattern')}."
        case _:
            shown = "" if isinstance(value, dict | list) else f" = {value!r}"
            return f"{key}{shown}: {fault['msg'].lower()}."


def _real_steps(loc: tuple[Any, ...], data: Any) -> list[Any]:
    """Drop the steps that pydantic adds for the alternatives of a union."""
    steps: list[Any] = []
    for index, step in enumerate(loc):
        last = index == len(loc) - 1
        if isinstance(data, dict) and (step in data or (last and isinstance(step, str))):
            data = data.get(step)
        elif isinstance(data, list) and isinstance(step, int) and step < len(data):
            data = data[step]
        else:
            continue
        steps.append(step)
    return steps


def _dotted(loc: list[Any]) -> str:
    text = ""
    for step in loc:
        if isinstance(step, int):
            text += f"[{step + 1}]"
        elif step != "[key]":
            text += f".{step}" if text else str(step)
    return text or "the recipe"


def _keys_beside(model: type[BaseModel], loc: list[Any], data: Any) -> list[str]:
    """Return the keys that the model has at a place, as its JSON Schema says."""
    schema = model.model_json_schema()
    nodes = [schema]
    for step in loc:
        data = data[step]
        inner: list[Any] = []
        for node in nodes:
            for one in _alternatives(schema, node):
                if isinstance(step, int):
                    inner.append(one.get("items", {}))
                elif step in one.get("properties", {}):
                    inner.append(one["properties"][step])
                elif isinstance(one.get("additionalProperties"), dict):
                    inner.append(one["additionalProperties"])
                else:
                    inner.extend(one.get("patternProperties", {}).values())
        nodes = inner
    keys: list[str] = []
    for node in nodes:
        for one in _alternatives(schema, node):
            own = one.get("properties", {})
            if all(
                _fits(own[tag], data[tag]) for tag in ("type", "kind") if tag in own & data.keys()
            ):
                keys.extend(own)
    return list(dict.fromkeys(keys))


def _fits(node: dict[str, Any], value: Any) -> bool:
    return value == node["const"] if "const" in node else value in node.get("enum", [value])


def _alternatives(schema: dict[str, Any], node: dict[str, Any]) -> list[dict[str, Any]]:
    if "$ref" in node:
        return _alternatives(schema, schema["$defs"][node["$ref"].rsplit("/", 1)[1]])
    choices = node.get("oneOf") or node.get("anyOf")
    if choices:
        return [one for choice in choices for one in _alternatives(schema, choice)]
    return [node]
