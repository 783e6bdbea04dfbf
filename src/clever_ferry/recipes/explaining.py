"""What is wrong with a file by its model, in words: every key, its value, what would be right.

The check itself stops at the first fault; here the data is walked beside the model for all.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import inspect

from clever_ferry.model import Model, ValidationError, convert

__all__ = ["explain"]


def explain(model: type[Model], data: Any) -> tuple[str, ...]:
    """Return one line per fault; none where the data fits."""
    return tuple(dict.fromkeys(_faults(inspect.type_info(model), data, "")))


def _faults(wanted: inspect.Type, data: Any, key: str) -> Iterator[str]:
    match wanted:
        case inspect.Metadata():
            faults = list(_faults(wanted.type, data, key))
            if faults and isinstance(data, str) and (wanted.extra or {}).get("words"):
                yield f"{_shown(key)} = {data!r}: it must be {_listed(_names(wanted))}."
            else:
                yield from faults
        case inspect.StructType() if isinstance(data, dict):
            yield from _of_struct(wanted, data, key)
        case inspect.DictType() if isinstance(data, dict):
            yield from _of_length(wanted.min_length, None, data, key)
            for name, value in data.items():
                yield from _faults(wanted.key_type, name, _dotted(key, name))
                yield from _faults(wanted.value_type, value, _dotted(key, name))
        case inspect.VarTupleType() if isinstance(data, list):
            yield from _of_length(wanted.min_length, None, data, key)
            for index, value in enumerate(data):
                yield from _faults(wanted.item_type, value, f"{key}[{index + 1}]")
        case inspect.TupleType() if isinstance(data, list) and len(data) == len(wanted.item_types):
            for index, (kind, value) in enumerate(zip(wanted.item_types, data, strict=True)):
                yield from _faults(kind, value, f"{key}[{index + 1}]")
        case inspect.UnionType():
            yield from _of_union(wanted.types, data, key)
        case inspect.StrType() if isinstance(data, str):
            yield from _of_length(wanted.min_length, wanted.max_length, data, key)
            if wanted.pattern and not re.search(wanted.pattern, data):
                yield f"{_shown(key)} = {data!r}: it must look like {wanted.pattern}."
        case inspect.IntType() if type(data) is int:
            yield from _of_size(wanted, data, key)
        case inspect.FloatType() if type(data) in (int, float):
            yield from _of_size(wanted, data, key)
        case inspect.LiteralType() if type(data) in (str, int) and data in wanted.values:
            pass
        case inspect.BoolType() if isinstance(data, bool):
            pass
        case _:
            value = "" if isinstance(data, dict | list) else f" = {data!r}"
            yield f"{_shown(key)}{value}: it must be {_listed(_names(wanted))}."


def _of_size(wanted: inspect.IntType | inspect.FloatType, data: float, key: str) -> Iterator[str]:
    if wanted.ge is not None and not data >= wanted.ge:
        yield f"{_shown(key)} = {data}: it must be {wanted.ge} or more."
    if wanted.le is not None and not data <= wanted.le:
        yield f"{_shown(key)} = {data}: it must be {wanted.le} or less."


def _of_struct(wanted: inspect.StructType, data: dict[str, Any], key: str) -> Iterator[str]:
    fields = {field.encode_name: field for field in wanted.fields}
    right = True
    for name, value in data.items():
        if name == wanted.tag_field:
            continue
        if name not in fields:
            right = False
            yield _no_such_key(
                _dotted(key, name), name, [*fields, *filter(None, [wanted.tag_field])]
            )
            continue
        for fault in _faults(fields[name].type, value, _dotted(key, name)):
            right = False
            yield fault
    for name, field in fields.items():
        if field.required and name not in data:
            right = False
            yield f"{_dotted(key, name)}: this key is missing."
    if right:
        try:
            convert(data, wanted.cls)
        except ValidationError as error:  # what the model says of its keys together
            yield f"{_shown(key)}: {str(error).split(' - at `$', maxsplit=1)[0]}."


def _no_such_key(key: str, name: str, beside: Sequence[str]) -> str:
    from difflib import get_close_matches

    near = get_close_matches(name, beside, 1)
    if near:
        return f"{key}: there is no such key; did you mean `{near[0]}`?"
    return f"{key}: there is no such key here; there are {', '.join(sorted(beside))}."


def _of_length(fewest: int | None, most: int | None, data: Any, key: str) -> Iterator[str]:
    what, value = ("characters", f" = {data!r}") if isinstance(data, str) else ("entries", "")
    if fewest is not None and len(data) < fewest:
        yield f"{_shown(key)}{value}: there must be {fewest} or more {what}."
    if most is not None and len(data) > most:
        yield f"{_shown(key)}{value}: there must be {most} or fewer {what}."


def _of_union(types: Sequence[inspect.Type], data: Any, key: str) -> Iterator[str]:
    """Tell what is wrong by the alternative that the data is meant for, if that can be told."""
    types = [one for one in types if not isinstance(one, inspect.NoneType)]  # TOML has none
    tags = {one.tag: one for one in types if isinstance(one, inspect.StructType) and one.tag}
    if tags and isinstance(data, dict):
        field = str(next(iter(tags.values())).tag_field)
        tag = data.get(field)
        if field not in data:
            yield f"{_shown(key)}: the key `{field}` is missing."
        elif not isinstance(tag, str) or tag not in tags:
            known = ", ".join(f"`{one}`" for one in tags)
            yield f"{_dotted(key, field)} = {tag!r}: there are {known}."
        else:
            yield from _faults(tags[tag], data, key)
        return
    found = [(one, list(_faults(one, data, key))) for one in types]
    if all(faults for _, faults in found):
        meant = [faults for one, faults in found if isinstance(_bare(one), _shape(data))]
        if len(meant) == 1:
            yield from meant[0]
        else:
            value = "" if isinstance(data, dict | list) else f" = {data!r}"
            yield f"{_shown(key)}{value}: it must be {_listed(_names(*types))}."


def _shape(data: Any) -> type[inspect.Type]:
    """Return which kind of alternative a value is meant for."""
    shapes: dict[type, type[inspect.Type]] = {
        dict: inspect.StructType, list: inspect.VarTupleType, int: inspect.IntType,
        str: inspect.StrType, float: inspect.FloatType,
    }  # fmt: skip
    return shapes.get(type(data), inspect.AnyType)


def _bare(one: inspect.Type) -> inspect.Type:
    return _bare(one.type) if isinstance(one, inspect.Metadata) else one


def _names(*types: inspect.Type) -> list[str]:
    """Return what would be right, in words."""
    names: list[str] = []
    for one in types:
        match one:
            case inspect.Metadata():
                words = (one.extra or {}).get("words")
                names += [words] if words else _names(one.type)
            case inspect.UnionType():
                names += _names(*one.types)
            case inspect.LiteralType():
                names += [repr(value) for value in one.values]
            case inspect.IntType():
                names.append("a whole number")
            case inspect.FloatType():
                names.append("a number")
            case inspect.StrType():
                names.append("a text")
            case inspect.BoolType():
                names.append("true or false")
            case inspect.VarTupleType():
                names.append("a list")
            case inspect.TupleType():
                names.append(f"a list of {len(one.item_types)}")
            case inspect.StructType() | inspect.DictType():
                names.append("a table")
    return list(dict.fromkeys(names))


def _listed(names: Sequence[str]) -> str:
    return " or ".join(filter(None, [", ".join(names[:-1]), names[-1]]))


def _dotted(key: str, name: str) -> str:
    return f"{key}.{name}" if key else name


def _shown(key: str) -> str:
    return key or "the recipe"
