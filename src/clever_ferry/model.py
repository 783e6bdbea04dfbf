"""Models: what a TOML file may say, checked against a description in types.

A model is a frozen `msgspec.Struct`. A key that it does not name is refused, and so is a
value of another type. Models that stand for each other are told apart by a tag (`kind` or
`type` in the file); one model can serve several tags.

Modules with models keep their annotations as they are, and not postponed: each that is
postponed would be compiled anew at every start of the program.
"""

from __future__ import annotations

from importlib import import_module
from types import UnionType
from typing import Annotated, Any, ClassVar, TypeVar, Union, dataclass_transform, get_args

from msgspec import Meta, Struct, StructMeta, ValidationError, convert, json

__all__ = [
    "HexBytes",
    "Meta",
    "Model",
    "ValidationError",
    "class_of",
    "convert",
    "hint",
    "one_of",
    "parse_toml",
    "schema_of",
    "spelled",
    "tagged",
]

_END = r"$(?!\n)"
"""The end of a pattern: `$` alone would let a line feed follow, which JSON Schema means by it."""

_T = TypeVar("_T", bound="Model")


_MOST_DOTS = 100
"""Dots on one line: reading a key of many parts takes the square of their number."""


def parse_toml(raw: bytes) -> dict[str, Any]:
    """Read a TOML file that may be a stranger's; raises ValueError or RecursionError.

    The bytes are bounded by whoever has read them.
    """
    import tomllib  # help and most starts need none

    if any(line.count(b".") > _MOST_DOTS for line in raw.splitlines()):
        raise ValueError(f"a line has over {_MOST_DOTS:,} dots")
    return tomllib.loads(raw.decode("utf-8"))


def spelled(pattern: str, words: str, most: int | None = None) -> Meta:
    """Return how a text must be spelled: by a pattern, which editors know, and in words."""
    return Meta(pattern=f"^({pattern}){_END}", max_length=most, extra={"words": words})


def hint(text: str) -> Meta:
    """Return what editors show of a key."""
    return Meta(description=text)


HexBytes = Annotated[
    str, spelled("([0-9a-fA-F]{2})+", "bytes as pairs of hexadecimal digits, such as 00ff")
]


class _ModelType(StructMeta):
    """Makes every model frozen, named by keyword and strict about keys, without saying so again."""

    def __new__(
        mcls, name: str, bases: tuple[type, ...], namespace: dict[str, Any], **config: Any
    ) -> Any:
        """Make a model's class."""
        strict = {"frozen": True, "kw_only": True, "forbid_unknown_fields": True}
        return super().__new__(mcls, name, bases, namespace, **strict | config)


@dataclass_transform(frozen_default=True, kw_only_default=True)
class Model(Struct, metaclass=_ModelType, frozen=True):
    """What all models share."""

    TAGS: ClassVar[tuple[str, ...]] = ()
    """Of a model that serves several tags, all of them."""

    @property
    def kind(self) -> str:
        """What the file says it is; empty where there is nothing to tell apart."""
        return str(self.__struct_config__.tag or "")


def tagged(model: type[_T], tag: str) -> type[_T]:
    """Return a model as it is for one of its tags.

    >>> class Number(Model, tag_field="type"):
    ...     TAGS = ("u8", "u16")
    ...     name: str
    >>> tagged(Number, "u16")(name="day").kind
    'u16'
    """
    return _made(model)[tag]


def one_of(models: UnionType) -> Any:
    """Return the type of what is one of several models, told apart by their tags."""
    kinds = [kind for model in get_args(models) for kind in _made(model).values()]
    return Union[tuple(kinds)]  # noqa: UP007


def class_of(package: str, made_by: str) -> Any:
    """Return a class by the room of a package that it is in, and its name; it is loaded with it."""
    room, _, name = made_by.partition(".")
    return getattr(import_module(f"{package}.{room}"), name)


def schema_of(model: type[Model]) -> dict[str, Any]:
    """Return a model's JSON Schema, for editors."""
    _, parts = json.schema_components([model], ref_template="#/$defs/{name}")
    return {**parts.pop(model.__name__), "$defs": parts}


_MADE: dict[type[Model], dict[str, Any]] = {}


def _made(model: type[_T]) -> dict[str, type[_T]]:
    """Return a model by its tags: itself, or one that is derived from it for each."""
    if model not in _MADE:
        own = model.__struct_config__.tag
        _MADE[model] = {
            tag: _ModelType(
                f"{model.__name__}_{tag}".replace("-", "_"), (model,),
                {"__module__": model.__module__, "__doc__": model.__doc__}, tag=tag,
            )
            for tag in model.TAGS
        } or {str(own): model}  # fmt: skip
    return _MADE[model]
